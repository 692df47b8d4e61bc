"""Rows that become columns, and columns that become rows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from patient_ladle.words import amount

from ..statements.languages.sql import string
from . import declared as d
from .at import ANY, ROW, At, Field, comparable, is_own, quoted, unlike


def rows_to_columns(step: d.RowsToColumns, at: At) -> str:
    """See the declaration. Values that are found are asked for once the rows are there; until then more columns may come."""
    names, values = at.column(step.names, "names"), at.column(step.values, "values")
    if names == values:
        raise at.refused("values", f"'{values.name}' gives the names already", "Name another column.")
    if step.aggregate in ("sum", "avg"):
        at.number_column(step.values, "values")
    keys = _keys(step, at, names, values)
    found = _known(step, at, names) if step.known else _found(step, at, names)
    at.chain.open = at.chain.open or found is None
    made = _named(step, at, keys, found or {})
    call = f"{step.aggregate}({quoted(values.name)})"
    columns = [
        f"{call} filter ({quoted(names.name)} is not distinct from {value}) as {quoted(name)}" for name, value in made.items()
    ]
    columns += [f"{call} as {quoted(step.column_total)}"] if step.column_total else []
    by = [quoted(each.name) for each in keys]
    grouped = f" group by {', '.join(by)}" if by else ""
    body = f"select {', '.join([*by, *columns, f'coalesce(min({ROW}), 0) as {ROW}'])} from {at.table}{grouped}"
    return body + (_row_total(step, at, keys, columns) if step.row_total else "")


def _keys(step: d.RowsToColumns, at: At, names: Field, values: Field) -> list[Field]:
    if step.rows:
        keys = at.columns(step.rows, "rows")
        for each in keys:
            if each in (names, values):
                raise at.refused("rows", f"'{each.name}' becomes columns", "Leave it out there.")
        return keys
    return [each for each in at.fields if each not in (names, values)]


def _known(step: d.RowsToColumns, at: At, names: Field) -> dict[str, str]:
    """Name of each column to its value as it stands in the statement."""
    return {
        _name_of(str(value).lower() if isinstance(value, bool) else str(value), step): at.constant(
            value, names, f"known[{place}]"
        )
        for place, value in enumerate(step.known)
    }


def _found(step: d.RowsToColumns, at: At, names: Field) -> dict[str, str] | None:
    column = quoted(names.name)
    asked = f"select distinct {column} from {at.table} order by {column} nulls last limit {d.MOST_FOUND + 1}"
    found = at.chain.judge.found(f"{at.chain.head()} {asked}")
    if found is None:
        return None
    if len(found) > step.most:
        many = f"more than {d.MOST_FOUND:,}" if len(found) > d.MOST_FOUND else f"{len(found):,}"
        raise at.refused(
            "names", f"'{names.name}' has {many} different values, and at most {amount(step.most, 'column')} may come of them",
            "Filter before, name the values in known, or raise most.",
        )  # fmt: skip
    made: dict[str, str] = {}
    for value in found:
        name = _name_of(value, step)
        if name in made:
            raise at.refused(
                "names", f"null or an empty text would be called '{name}', which is a value too",
                "Give null_name or empty_name another name.",
            )  # fmt: skip
        made[name] = "null" if value is None else f"cast({string(value)} as {names.type})"
    return made


def _name_of(value: str | None, step: d.RowsToColumns) -> str:
    return step.null_name if value is None else value or step.empty_name


def _named(step: d.RowsToColumns, at: At, keys: Sequence[Field], found: Mapping[str, str]) -> Mapping[str, str]:
    """Every new name is free. Raises BadInput."""
    taken = {each.name.lower(): each.name for each in keys}
    for name in [*found, *([step.column_total] if step.column_total else [])]:
        if name.lower() in taken:
            raise at.refused(
                "names", f"two columns would be named '{name}' and '{taken[name.lower()]}'",
                "Small and capital letters are the same here: change the values in a step before this one.",
            )  # fmt: skip
        if is_own(name):
            raise at.refused("names", f"'{name}' is a name of the service's own", "Replace that value before.")
        taken[name.lower()] = name
    return found


def _row_total(step: d.RowsToColumns, at: At, keys: Sequence[Field], columns: Sequence[str]) -> str:
    """The aggregate over all rows again, not over what stands above it: an average of averages would be another number."""
    if not keys:
        raise at.refused("row_total", "there is one row only", "Leave it out, or name columns in rows.")
    if keys[0].kind not in ("text", ANY):
        raise at.refused(
            "row_total", f"'{keys[0].name}' is {keys[0].kind}, and has no place for the word '{step.row_total}'",
            "Change its kind to text in a step before this one, or name a column of texts first in rows.",
        )  # fmt: skip
    blanks = [f"{string(step.row_total)}", *("null" for _ in keys[1:])]
    last = f"coalesce(max({ROW}), 0) + 1 as {ROW}"
    return f" union all select {', '.join([*blanks, *columns, last])} from {at.table} having count(*) > 0"


def columns_to_rows(step: d.ColumnsToRows, at: At) -> str:
    """See the declaration."""
    going = at.columns(step.columns, "columns")
    unlike_ = next((each for each in going if not comparable(each.kind, going[0].kind)), None)
    if unlike_ is not None:
        raise at.refused("columns", unlike(going[0], unlike_), "Change the kind of one in a step before this one.")
    names = [each.name for each in going]
    new = at.all_free([step.name_column, step.value_column], "name_column", names)
    values = ", ".join(f"({place}, {string(each)})" for place, each in enumerate(names))
    cases = " ".join(f"when {place} then {quoted(each)}" for place, each in enumerate(names))
    kept = [f"p.{each}" for each in at.listed(without=names)[:-1]]
    made = [*kept, f'n."ladle name" as {new[0]}', f'case n."ladle place" {cases} end as {new[1]}']
    nulls = "" if step.keep_nulls else f' where case n."ladle place" {cases} end is not null'
    return (
        f'select {", ".join(made)}, p.{ROW} * {len(names)} + n."ladle place" as {ROW}'
        f' from {at.table} p cross join (values {values}) as n("ladle place", "ladle name"){nulls}'
    )
