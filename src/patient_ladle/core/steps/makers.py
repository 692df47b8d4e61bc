"""Each kind of step as a part of a statement over the one before."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from ..errors import BadInput, unknown_name
from ..statements.languages.sql import string
from . import declared as d
from .at import ANY, ROW, At, Field, Test, comparable, quoted, unlike
from .lookups import TYPES, InputTable, key_of
from .pivots import columns_to_rows, rows_to_columns


def _filter(step: d.Filter, at: At) -> str:
    condition = at.expression(step.where, "where")
    with_ = f"{at.chain.head()} select {condition} as c from {at.table}"
    found = at.chain.judge.described(with_)[0]
    if found.kind not in ("boolean", ANY):
        raise at.refused("where", f"this is {found.kind}, and no condition", "Compare it with something: litres > 0.")
    return at.select(at.listed(), f"where {condition}")


def _compute(step: d.Compute, at: At) -> str:
    name = at.free(step.column, "column")
    return at.select([*at.listed()[:-1], f"{at.expression(step.as_, 'as')} as {name}", ROW])


def _group(step: d.Group, at: At) -> str:
    by = [quoted(each.name) for each in at.columns(step.by, "by")]
    if not by and not step.columns:
        raise at.refused("", "it has neither columns to group by nor new ones", "Give it by, columns, or both.")
    names = at.all_free([each.name for each in step.columns], "columns", [each.name for each in at.fields])
    if clash := next((each.name for each in step.columns if each.name.lower() in {one.lower() for one in step.by}), None):
        raise at.refused("columns", f"two columns would be named '{clash}'", "Give one another name.")
    made = [
        f"{at.expression(each.as_, f'columns[{place}].as', aggregates=True)} as {names[place]}"
        for place, each in enumerate(step.columns)
    ]
    grouped = f"group by {', '.join(by)}" if by else ""
    return at.select([*by, *made, f"coalesce(min({ROW}), 0) as {ROW}"], grouped)


def _with_new(at: At, name: str, expression: str) -> str:
    return at.select([*at.listed()[:-1], f"{expression} as {at.free(name, 'column')}", ROW])


def _share(step: d.Share, at: At) -> str:
    of = quoted(at.number_column(step.of, "of").name)
    over = f"over ({at.partition(step.within)})"
    return _with_new(at, step.column, f"cast({of} as double) / nullif(cast(sum({of}) {over} as double), 0)")


def _running(step: d.RunningTotal, at: At) -> str:
    of = quoted(at.number_column(step.of, "of").name)
    over = at.over(step.within, step.order, "rows between unbounded preceding and current row")
    return _with_new(at, step.column, f"sum({of}) {over}")


def _difference(step: d.Difference, at: At) -> str:
    of = quoted(at.number_column(step.of, "of").name)
    return _with_new(at, step.column, f"{of} - lag({of}) {at.over(step.within, step.order)}")


def _rank(step: d.Rank, at: At) -> str:
    call = {"gaps": "rank", "dense": "dense_rank", "none": "row_number"}[step.ties]
    order = ", ".join([*at.ordered(step.order), *([ROW] if step.ties == "none" else [])])
    return _with_new(at, step.column, f"{call}() over ({at.partition(step.within)}order by {order})")


def _first(step: d.First, at: At) -> str:
    return at.select(at.listed(), f"qualify row_number() {at.over(step.within, step.order)} <= {step.rows}")


def _sort(step: d.Sort, at: At) -> str:
    return at.select([*at.listed()[:-1], f"row_number() over (order by {', '.join([*at.ordered(step.order), ROW])}) as {ROW}"])


def _drop_duplicates(step: d.DropDuplicates, at: At) -> str:
    by = step.by or tuple(each.name for each in at.fields)
    parts = ", ".join(quoted(each.name) for each in at.columns(by, "by"))
    backwards = step.keep == "last"
    order = ", ".join([*at.ordered(step.order, backwards), ROW + (" desc" if backwards else "")])
    return at.select(at.listed(), f"qualify row_number() over (partition by {parts} order by {order}) = 1")


def _fill_nulls(step: d.FillNulls, at: At) -> str:
    changed = {}
    for place, each in enumerate(at.columns(step.columns, "columns")):
        if step.value is not None:
            own = f"coalesce({quoted(each.name)}, {at.constant(step.value, each, f'columns[{place}]')})"
        else:
            over = at.over(step.within, step.order, "rows between unbounded preceding and current row")
            own = f"last_value({quoted(each.name)} ignore nulls) {over}"
        changed[each.name.lower()] = own
    return at.select(at.listed(changed))


def _look_up(step: d.LookUp, at: At) -> str:
    key, what = key_of(step.lookup, step.input), "lookup" if step.input is None else "input"
    lookup = at.chain.lookups.get(key)
    if lookup is None:
        known = [each.name for each in at.chain.lookups.values() if isinstance(each, InputTable) == (what == "input")]
        hint = "List them: ladle lookup list." if what == "lookup" else "Only a combination has inputs."
        found = unknown_name(what, str(step.lookup or step.input), known, hint)
        raise BadInput(found.message, found.hint, where=at.where(what))
    fields = {field.name.lower(): field for field in lookup.fields}

    def own(given: str, name: str) -> Field:
        if given.lower() not in fields:
            error = unknown_name(f"column of the {what} '{lookup.name}'", given, [each.name for each in lookup.fields])
            raise BadInput(error.message, error.hint, where=at.where(name))
        return fields[given.lower()]

    pairs = [
        (at.column(each.name, f"on[{place}].name"), own(each.as_, f"on[{place}].as")) for place, each in enumerate(step.on)
    ]
    for ours, theirs in pairs:
        if not comparable(ours.kind, theirs.kind):
            raise at.refused("on", unlike(ours, theirs), "Change the kind of one in a step before this one.")
    doubled = lookup.doubled([theirs.name for _, theirs in pairs])
    if doubled is not None:
        count, values = doubled
        shown = ", ".join(f"'{value}'" for value in values)
        raise at.refused(
            "on", f"{shown} stands twice in the lookup '{lookup.name}' (as do {count - 1} others)" if count > 1
            else f"{shown} stands twice in the lookup '{lookup.name}'",
            "Each row would become several: name more of its columns, or correct the lookup.",
        )  # fmt: skip
    names = at.all_free([each.name for each in step.columns], "columns")
    taken = [own(each.as_, f"columns[{place}].as") for place, each in enumerate(step.columns)]
    on = " and ".join(f"p.{quoted(a.name)} = l.{quoted(b.name)}" for a, b in pairs)
    kept = [f"p.{each}" for each in at.listed()[:-1]]
    made = [*kept, *(f"l.{quoted(each.name)} as {name}" for name, each in zip(names, taken, strict=True)), f"p.{ROW}"]
    joined = f"s{at.number + 1}_found"
    source = at.chain.tables[key]
    if isinstance(lookup, InputTable):
        at.chain.tests.append(_no_key_twice(lookup, [theirs for _, theirs in pairs], source, at))
    at.chain.parts.append((
        joined,
        f'select {", ".join(made)}, l."ladle found" from {at.table} p left join'
        f' (select *, true as "ladle found" from ({source})) l on {on}',
    ))  # fmt: skip
    missing = f'from {joined} where "ladle found" is null'
    at.measured["unmatched"] = f"select count(*) {missing}"
    if step.missing == "fail":
        example = " || ', ' || ".join(f"coalesce(cast({quoted(a.name)} as varchar), 'null')" for a, _ in pairs)
        at.chain.tests.append(
            Test(
                at.where("missing"), f"select count(*), min({example}) {missing}",
                f"{{count}} without a match in the {what} '{lookup.name}', such as {{example}}",
                f"Add it to the {what}, or let missing be null or drop.",
            )
        )  # fmt: skip
    columns = ", ".join([*(quoted(each.name) for each in at.fields), *names, ROW])
    return f"select {columns} from {joined}" + (' where "ladle found"' if step.missing == "drop" else "")


def _no_key_twice(table: InputTable, key: Sequence[Field], source: str, at: At) -> Test:
    names = ", ".join(quoted(each.name) for each in key)
    there = " and ".join(f"{quoted(each.name)} is not null" for each in key)
    example = " || ', ' || ".join(f"cast({quoted(each.name)} as varchar)" for each in key)
    twice = f"select {names} from ({source}) where {there} group by {names} having count(*) > 1"
    return Test(
        at.where("on"), f"select count(*), min({example}) from ({twice})",
        f"{{example}} stands twice in the input '{table.name}'",
        "Each row would become several: name more of its columns, or group that input by its key.",
    )  # fmt: skip


def _split(step: d.Split, at: At) -> str:
    column = at.column(step.column, "column")
    if column.kind not in ("text", ANY):
        raise at.refused(
            "column", f"'{column.name}' is {column.kind}, and no text", "Change its kind in a step before this one."
        )
    names = at.all_free(step.into, "into", () if step.keep else (column.name,))
    parts = f"string_split({quoted(column.name)}, {string(step.at)})"
    last = len(names)
    made = [f"{parts}[{place}] as {name}" for place, name in enumerate(names[:-1], 1)]
    rest = f"array_to_string({parts}[{last}:], {string(step.at)})"
    made.append(f"case when len({parts}) >= {last} then {rest} end as {names[-1]}")
    columns: list[str] = []
    for each in at.fields:
        if each != column or step.keep:
            columns.append(quoted(each.name))
        if each == column:
            columns += made
    return at.select([*columns, ROW])


def _replace(step: d.Replace, at: At) -> str:
    column = at.column(step.column, "column")
    name = quoted(column.name)
    pairs = [
        [at.constant(value, column, f"values[{place}].{side}") for side, value in (("from", pair.from_), ("to", pair.to))]
        for place, pair in enumerate(step.values)
    ]
    cases = " ".join(f"when {from_} then {to}" for from_, to in pairs)
    other = name if step.others == "keep" else "null"
    return at.select(at.listed({column.name.lower(): f"case {name} {cases} else {other} end"}))


_FITS = {
    "integer": r"^-?[0-9]+(\.0+)?$",
    "decimal": r"^-?[0-9]+(\.[0-9]{{0,{places}}}0*)?$",
    "float": r"^-?([0-9]+(\.[0-9]*)?([eE][+-]?[0-9]+)?|Infinity|inf)$|^(NaN|nan)$",
    "boolean": r"^(?i:true|false|yes|no|t|f|1|0)$",
    "date": r"^[0-9]{{4}}-[0-9]{{2}}-[0-9]{{2}}( 00:00:00(\.0+)?)?$",
    "timestamp": r"^[0-9]{{4}}-[0-9]{{2}}-[0-9]{{2}}([ T][0-9]{{2}}:[0-9]{{2}}(:[0-9]{{2}}(\.[0-9]{{1,6}})?)?)?$",
}
"""How the text of a value must look to be one of another kind without anything being rounded, cut or guessed."""


def _change_kind(step: d.ChangeKind, at: At) -> str:
    column = at.column(step.column, "column")
    name, target = quoted(column.name), TYPES[step.kind].format(places=step.places)
    text = f"cast({name} as varchar)"
    if step.kind == "text":
        own = f"regexp_replace({text}, '\\.0$', '')" if column.kind == "float" else text
        return at.select(at.listed({column.name.lower(): own}))
    if step.kind == "boolean":
        value = f"case when lower({text}) in ('true', 'yes', 't', '1') then true else false end"
    else:
        digits = f"regexp_replace({text}, '\\.0+$', '')" if step.kind == "integer" else text
        value = f"try_cast({digits} as {target})"
    pattern = string(_FITS[step.kind].replace("{places}", str(step.places)).replace("{{", "{").replace("}}", "}"))
    fits = f"regexp_matches({text}, {pattern}) and {value} is not null"
    place = at.where("column")
    words = string(f"{place}: ")
    unfit = "null" if step.unfit == "null" else f"error({words} || {text})"
    own = f"case when {name} is null then null when {fits} then {value} else {unfit} end"
    return at.select(at.listed({column.name.lower(): own}))


def _rename(step: d.Rename, at: At) -> str:
    old = at.columns([each.name for each in step.columns], "columns")
    at.all_free([each.as_ for each in step.columns], "columns", [each.name for each in old])
    new = {column.name: each.as_ for column, each in zip(old, step.columns, strict=True)}
    made = [f"{quoted(each.name)} as {quoted(new[each.name])}" if each.name in new else quoted(each.name) for each in at.fields]
    return at.select([*made, ROW])


def _reorder(step: d.Reorder, at: At) -> str:
    first = at.columns(step.columns, "columns")
    return at.select([*(quoted(each.name) for each in [*first, *(each for each in at.fields if each not in first)]), ROW])


def _drop(step: d.Drop, at: At) -> str:
    going = at.columns(step.columns, "columns")
    if len(going) == len(at.fields):
        raise at.refused("columns", "no column would be left", "Leave one.")
    return at.select(at.listed(without=[each.name for each in going]))


MAKERS: dict[type, Callable[[Any, At], str]] = {
    d.Filter: _filter, d.Compute: _compute, d.Group: _group, d.Share: _share, d.RunningTotal: _running,
    d.Difference: _difference, d.Rank: _rank, d.First: _first, d.Sort: _sort, d.DropDuplicates: _drop_duplicates,
    d.FillNulls: _fill_nulls, d.RowsToColumns: rows_to_columns, d.ColumnsToRows: columns_to_rows, d.LookUp: _look_up,
    d.Split: _split, d.Replace: _replace, d.ChangeKind: _change_kind, d.Rename: _rename, d.Reorder: _reorder, d.Drop: _drop,
}  # fmt: skip
"""What makes a part of the statement of each kind."""
