"""Outlines that nobody has to write: of a look at a table's rows, and of whole tables with labels beside their numbers."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

import msgspec

from ...errors import BadInput, unknown_name
from ...values.parameters import BUILT_IN, Parameter
from ..catalogue import find_table, names_of
from ..views import Filter
from .joins import short_name
from .outline import MOST_TABLES, Condition, Given, Join, Outline, Pair, Place, Shown, Sorted
from .values import TYPES

Table = Mapping[str, Any]
_LABELS = ("name", "title", "label", "description", "designation", "code", "number", "reference")
"""Names of columns that tell a reader which row is meant, the best first."""


def of_look(
    table: Table,
    filters: Sequence[Filter],
    sort: str = "",
    descending: bool = False,
    columns: Sequence[str] = (),
    as_parameters: bool = False,
) -> tuple[Outline, list[Parameter]]:
    """What was filtered, sorted and chosen by clicking; its values as parameters with these defaults where wished.

    Raises BadInput and its family.
    """
    known = {column["name"]: column for column in table["columns"]}
    for name in (*columns, *(each.column for each in filters), *([sort] if sort else [])):
        if name not in known:
            raise unknown_name("column", name, known)
    parameters: list[Parameter] = []
    conditions: list[Condition] = []
    for each in filters:
        test: Any = each.test
        value: Any = None if each.test in ("is_null", "is_not_null") else each.value
        if value is not None and as_parameters:
            type_ = "text" if each.test == "contains" else TYPES.get(known[each.column]["kind"], "text")
            parameters.append(_parameter(each, type_, [p.name for p in parameters]))
            value = Given(parameter=parameters[-1].name)
        conditions.append(Condition(column=each.column, test=test, value=value))
    made = Outline(
        from_=Place(table=names_of(table)),
        show=tuple(Shown(column=name) for name in columns or known),
        where=Condition(all_=tuple(conditions)) if conditions else None,
        sorted=(Sorted(by=sort, descending=descending),) if sort else (),
    )
    return Outline.from_dict(made.to_dict()), parameters


def _parameter(each: Filter, type_: str, taken: Sequence[str]) -> Parameter:
    stem = re.sub(r"[^a-z0-9_]+", "_", each.column.lower()).strip("_")[:50] or "value"
    stem = stem if stem[0].isalpha() else f"p_{stem}"
    name, number = stem, 2
    while name in taken or name in BUILT_IN:
        name, number = f"{stem}_{number}", number + 1
    return Parameter.from_dict({"name": name, "type": type_, "default": each.value})


def whole_tables(names: Sequence[str], catalogue: Sequence[Table], labels: bool = False) -> list[tuple[str, Outline]]:
    """An outline of each table with all its columns. ``labels``: beside each key of another table, what that one calls the row.

    Raises BadInput for none or too many, UnknownName.
    """
    if not names:
        raise BadInput("no table is named.", "Name some.")
    if len(names) > MOST_TABLES:
        raise BadInput(f"there are {len(names)} tables; at most {MOST_TABLES} are taken.", "Make two extracts of them.")
    tables = list({names_of(found): found for name in names for found in [find_table(catalogue, name)]}.values())
    return [(names_of(table), _labelled(table, catalogue) if labels else _whole(table)) for table in tables]


def _whole(table: Table) -> Outline:
    return Outline(from_=Place(table=names_of(table)), show=tuple(Shown(column=each["name"]) for each in table["columns"]))


def label_of(table: Table) -> str | None:
    """The column by which a reader knows a row: by its name, else the first text that is always there."""
    texts = {column["name"].lower(): column for column in table["columns"] if column["kind"] == "text"}
    for wanted in _LABELS:
        found = [name for name in texts if name == wanted] or [name for name in texts if name.endswith(f"_{wanted}")]
        if found:
            return str(texts[found[0]]["name"])
    always = [column["name"] for column in texts.values() if not column["nullable"]]
    return str(always[0]) if always else None


def _labelled(table: Table, catalogue: Sequence[Table]) -> Outline:
    by_name = {(each["schema"], each["name"]): each for each in catalogue}
    outline = _whole(table)
    taken = {outline.from_.alias.lower()}
    names = {column["name"].lower() for column in table["columns"]}
    joins: list[Join] = []
    after: dict[str, list[Shown]] = {}
    for key in table["foreign_keys"]:
        other = by_name.get((key["schema"], key["table"]))
        label = label_of(other) if other is not None else None
        if other is None or label is None:
            continue
        alias = short_name(other["name"], taken)
        taken.add(alias.lower())
        stem = re.sub(r"_(id|no|key|nr|code)$", "", key["columns"][-1], flags=re.I)
        name = f"{stem}_{label}" if f"{stem}_{label}".lower() not in names else f"{alias}_{label}"
        names.add(name.lower())
        pairs = tuple(
            Pair(left=f"{outline.from_.alias}.{here}", right=f"{alias}.{there}")
            for here, there in zip(key["columns"], key["to_columns"], strict=True)
        )
        joins.append(Join(table=names_of(other), as_=alias, join="left", on=pairs))
        after.setdefault(key["columns"][-1], []).append(Shown(column=f"{alias}.{label}", name=name))
    show = [
        part
        for column in table["columns"]
        for part in (Shown(column=f"{outline.from_.alias}.{column['name']}"), *after.get(column["name"], ()))
    ]
    return msgspec.structs.replace(outline, with_=tuple(joins), show=tuple(show))
