"""A lookup: a small table of the repository, as steps and statements meet it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from ..errors import BadInput, LadleError, unknown_name
from ..results.columns import Column
from ..values.parameters import MAX_LIST_ITEMS, Parameter
from .at import Field

TYPES = {
    "text": "VARCHAR", "integer": "BIGINT", "decimal": "DECIMAL(38, {places})", "float": "DOUBLE", "boolean": "BOOLEAN",
    "date": "DATE", "timestamp": "TIMESTAMP",
}  # fmt: skip
"""Kinds of its columns, and what the combining engine keeps them in."""


@dataclass(frozen=True, slots=True)
class Lookup:
    """One revision of it. ``rows``: canonical texts (core.results.columns), in the order of the columns."""

    name: str
    revision: int
    columns: tuple[Column, ...]
    key: tuple[str, ...]
    rows: Sequence[Sequence[str | None]]

    @classmethod
    def from_dict(cls, data: Mapping[str, Any]) -> Lookup:
        """From plain JSON, as a job carries it."""
        columns = tuple(Column(each["name"], each["kind"]) for each in data["columns"])
        return cls(data["name"], data["revision"], columns, tuple(data["key"]), data["rows"])

    def to_dict(self) -> dict[str, Any]:
        """The inverse."""
        return {
            "name": self.name, "revision": self.revision, "key": list(self.key), "rows": [list(row) for row in self.rows],
            "columns": [{"name": column.name, "kind": column.kind} for column in self.columns],
        }  # fmt: skip

    @property
    def fields(self) -> list[Field]:
        """Its columns, as the combining engine keeps them."""
        return [Field(column.name, type_) for column, type_ in zip(self.columns, self.types(), strict=True)]

    def keys(self) -> list[list[str | None]]:
        """The key of each row."""
        places = self.places(self.key)
        return [[row[place] for place in places] for row in self.rows]

    def places(self, names: Sequence[str]) -> list[int]:
        """Where the columns of these names stand."""
        lower = [column.name.lower() for column in self.columns]
        return [lower.index(name.lower()) for name in names]

    def doubled(self, names: Sequence[str]) -> tuple[int, tuple[str | None, ...]] | None:
        """How many rows repeat the values that an earlier one has in these columns, and the first such values."""
        places = self.places(names)
        seen: set[tuple[str | None, ...]] = set()
        count, first = 0, None
        for row in self.rows:
            values = tuple(row[place] for place in places)
            if None not in values and values in seen:
                count, first = count + 1, first or values
            seen.add(values)
        return None if first is None else (count, first)

    def types(self) -> list[str]:
        """What the combining engine keeps each column in."""
        return [
            TYPES[column.kind].format(places=_places(row[number] for row in self.rows) if column.kind == "decimal" else 0)
            for number, column in enumerate(self.columns)
        ]


@dataclass(frozen=True, slots=True)
class InputTable:
    """An input of a combination, as a step looks up in it: its rows are met when the step is carried out."""

    name: str
    fields: Sequence[Field]

    def doubled(self, names: Sequence[str]) -> None:
        """Not known before."""


def tables_by_key(lookups: Iterable[Lookup], inputs: Iterable[InputTable] = ()) -> dict[str, Lookup | InputTable]:
    """What steps look up in, by what they say of it (``key_of``)."""
    return {each.name: each for each in lookups} | {key_of(None, each.name): each for each in inputs}


def key_of(lookup: str | None, name: str | None) -> str:
    """No lookup's name has a space, and no two inputs differ in small letters only."""
    return f"input {name}".lower() if name is not None else str(lookup)


def _places(texts: Any) -> int:
    return min(18, max((len(text.partition(".")[2]) for text in texts if text), default=0))


def allowing(parameter: Parameter, lookup: Lookup) -> Parameter:
    """The parameter with what its lookup holds now as its allowed values, and words for them.

    Raises BadInput where the lookup does not serve it.
    """
    named = parameter.lookup
    if not named.get("column") and len(lookup.key) != 1:
        raise _of(parameter, f"the key of the lookup '{lookup.name}' is {', '.join(lookup.key)}", "Name one column of it.")
    places = [_place(parameter, lookup, named[each]) if named.get(each) else None for each in ("column", "label")]
    place = lookup.places(lookup.key)[0] if places[0] is None else places[0]
    words = {value: row[place if places[1] is None else places[1]] for row in lookup.rows if (value := row[place]) is not None}
    if not words:
        raise _of(
            parameter, f"the lookup '{lookup.name}' has no values for it", f"Give it some: ladle lookup save {lookup.name}."
        )
    if len(words) > MAX_LIST_ITEMS:
        raise _of(
            parameter,
            f"the lookup '{lookup.name}' has {len(words):,} different values for it; at most {MAX_LIST_ITEMS:,} are taken",
            "Make a smaller lookup for it, or leave its values open.",
        )
    labels = {value: word for value, word in words.items() if word is not None and word != value}
    made = replace(parameter, lookup={}, allowed=tuple(words), labels=labels)
    try:
        made.check()
    except LadleError as error:
        raise type(error)(
            error.message.rstrip(".") + f" (values of the lookup '{lookup.name}').", error.hint, **error.facts
        ) from error
    return made


def _place(parameter: Parameter, lookup: Lookup, name: str) -> int:
    known = [column.name for column in lookup.columns]
    if name.lower() not in [each.lower() for each in known]:
        error = unknown_name("column", name, known)
        raise _of(parameter, f"the lookup '{lookup.name}' has no column '{name}'", error.hint)
    return lookup.places([name])[0]


def _of(parameter: Parameter, what: str, hint: str) -> BadInput:
    return BadInput(f"parameter '{parameter.name}': {what}.", hint, parameter=parameter.name)
