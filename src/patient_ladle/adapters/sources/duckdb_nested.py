"""Nested values of DuckDB, each leaf in its canonical text whatever stands beside it.

Dates, times and moments become texts by expressions in the statement, for their Arrow values cannot hold all of them (infinity,
24:00, years before Christ); numbers, booleans and bytes come as they are and are written by ``core.results.arrow_text``.
"""

from __future__ import annotations

from typing import Any

import duckdb

ZONED = (
    "case when isfinite({0}) then replace(make_timestamp(epoch_us({0}))::varchar, ' ', 'T') || 'Z'"
    " when {0} is not null then {0}::varchar end"
)
_TEXT = r"regexp_replace({0}::varchar, '^(\S+) \(BC\)(.*)$', '\1\2 BC')"
_LEAVES = {
    "timestamp with time zone": ZONED,
    **dict.fromkeys(("date", "timestamp", "timestamp_s", "timestamp_ms", "timestamp_ns"), _TEXT),
    **dict.fromkeys(("time", "time with time zone", "time_ns", "bit", "uhugeint"), "{0}::varchar"),
}


def form_of(kind: str, column: str) -> str:
    """The expression that gives a column of a nested type with its leaves as they should be; the column where all are already."""
    try:
        return _form(duckdb.sqltype(kind), column, 0)
    except duckdb.Error:  # a type by a name that this connection does not know
        return column


def _form(kind: Any, value: str, depth: int) -> str:
    parts = dict(kind.children) if kind.id in ("struct", "map", "list", "array") else {}
    name = f"v{depth}"
    match kind.id:
        case "struct":
            fields = {field: _form(of, f"struct_extract({value}, {_string(field)})", depth) for field, of in parts.items()}
            if all(made.startswith("struct_extract(") and made.endswith(f", {_string(f)})") for f, made in fields.items()):
                return value
            packed = ", ".join(f'"{_doubled(field)}" := {made}' for field, made in fields.items())
            return f"case when {value} is null then null else struct_pack({packed}) end"
        case "list" | "array":
            inner = _form(parts["child"], name, depth + 1)
            return value if inner == name else f"list_transform({value}, lambda {name}: {inner})"
        case "map":
            key, held = (_form(parts[part], f"{name}.{part}", depth + 1) for part in ("key", "value"))
            if (key, held) == (f"{name}.key", f"{name}.value"):
                return value
            entries = f"lambda {name}: struct_pack(key := {key}, value := {held})"
            return f"map_from_entries(list_transform(map_entries({value}), {entries}))"
    return _LEAVES.get(kind.id, "{0}").format(value)


def _doubled(name: str) -> str:
    return name.replace('"', '""')


def _string(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"
