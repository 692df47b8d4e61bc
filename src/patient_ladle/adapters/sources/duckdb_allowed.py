"""What a statement may call and read in DuckDB: by rules over what the engine says of its functions, or by name."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable, Collection, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass
from functools import cache

import duckdb

from patient_ladle.core.statements.languages.duckdb import DUCKDB
from patient_ladle.core.statements.languages.sql import words
from patient_ladle.core.statements.references import Name, references
from patient_ladle.core.statements.words import words_of

from .allowed import not_allowed


@dataclass(frozen=True, slots=True)
class Function:
    """One function, as the engine describes it. ``kind``: scalar, aggregate, window, macro, table, table_macro or pragma."""

    name: str
    schema: str
    kind: str
    stability: str | None
    is_own: bool


_RUNS_OR_TELLS = words("json_serialize_plan parse_duckdb_log_message")
_OF_THE_SERVER = re.compile(r"(pg|inet|has|duckdb|pragma)_")
FUNCTIONS: Mapping[str, str] = {
    **dict.fromkeys(
        words(
            """age century date_diff date_part date_sub date_trunc datediff datepart datesub datetrunc day dayname dayofmonth
            dayofweek dayofyear decade era hour isodow isoyear julian last_day make_timestamptz microsecond millennium millisecond
            minute month monthname quarter second strftime time_bucket timezone timezone_hour timezone_minute week weekday
            weekofyear year yearweek"""
        ),
        "it reckons with dates by the session's zone, which is ours",
    ),
    **dict.fromkeys(
        words(
            """current_date current_localtime current_localtimestamp get_current_time get_current_timestamp now today
            transaction_timestamp random setseed gen_random_uuid uuid uuidv4 uuidv7"""
        ),
        "a clock or a number by chance",
    ),
    **dict.fromkeys(
        words("current_database current_schema current_schemas current_query in_search_path error vector_type stats"),
        "it tells of this session, or of a value, alone",
    ),
    **dict.fromkeys(
        words(
            "range generate_series unnest json_each json_tree repeat repeat_row summary pg_timezone_names icu_calendar_names"
        ),
        "rows made of the values that it is given",
    ),
    **dict.fromkeys(
        words(
            """duckdb_tables duckdb_columns duckdb_views duckdb_constraints duckdb_indexes duckdb_schemas duckdb_sequences
            duckdb_types duckdb_functions duckdb_keywords pragma_table_info pragma_show col_description obj_description
            format_type pg_typeof pg_size_pretty pg_get_expr pg_get_viewdef pg_get_constraintdef pg_table_is_visible
            pg_type_is_visible"""
        ),
        "it tells of tables, columns and functions",
    ),
}
"""Under no rule."""
CATALOGUE = words(
    """duckdb_tables duckdb_columns duckdb_views duckdb_constraints duckdb_indexes duckdb_schemas duckdb_types sqlite_master
    sqlite_schema sqlite_temp_master sqlite_temp_schema pg_am pg_attrdef pg_attribute pg_class pg_collation pg_constraint pg_depend
    pg_description pg_enum pg_index pg_indexes pg_namespace pg_sequence pg_sequences pg_tables pg_type pg_views character_sets
    check_constraints columns constraint_column_usage constraint_table_usage key_column_usage referential_constraints schemata
    tables table_constraints views"""
)
"""Views of the engine's own that a statement may read: of tables, columns and types."""
RULES: Mapping[str, Callable[[Function], bool]] = {
    "computes": lambda one: one.kind == "scalar" and one.stability == "CONSISTENT" and one.name not in _RUNS_OR_TELLS,
    "brings together": lambda one: one.kind in ("aggregate", "window"),
    "short for others": lambda one: one.kind == "macro" and one.schema == "main" and not _OF_THE_SERVER.match(one.name),
}
"""A macro is a text of SQL, in which the session is as closed as outside; so is one of people's own."""
_BEFORE_PARENTHESES = DUCKDB.reserved | words(
    """over filter within partition values interval exists columns row rows range try_cast cast coalesce extract position overlay
    substring trim struct map decimal numeric varchar char bit by rollup cube sets grouping_id exclude replace rename key
    materialized recursive union enum list array if nullif grouping"""
)
"""Words of the grammar that may stand there and call nothing."""
_EXPRESSIONS = ("scalar", "aggregate", "window", "macro")
_TABLES, _NO_TABLES = ("from", "join", "lateral"), ("select", "where", "group", "having", "qualify", "window", "order", "limit")
"""Words that the engine reserves, and that begin what tables stand in, or what none does. *on* and *using* end nothing: after a
comma tables go on."""
_FUNCTIONS = "select distinct lower(function_name), schema_name, function_type, stability, internal from duckdb_functions()"


@cache
def _own() -> tuple[Mapping[str, tuple[Function, ...]], frozenset[tuple[str, str]]]:
    made: dict[str, list[Function]] = defaultdict(list)
    with closing(duckdb.connect(":memory:", config={"threads": "1"})) as bare:
        for row in bare.execute(_FUNCTIONS).fetchall():
            made[row[0]].append(Function(*row))
        views = bare.execute("select schema_name, lower(view_name) from duckdb_views() where internal").fetchall()
    return {name: tuple(ways) for name, ways in made.items()}, frozenset((str(schema), str(name)) for schema, name in views)


def own_functions() -> Mapping[str, tuple[Function, ...]]:
    """The engine's own, by name: they are the same in every database."""
    return _own()[0]


def own_views() -> frozenset[tuple[str, str]]:
    """The engine's own: schema and name."""
    return _own()[1]


def rule_of(one: Function) -> str:
    """The rule, or ``by name``, under which it may be called; empty where it may not."""
    if one.name in FUNCTIONS:
        return "by name"
    return next((name for name, holds in RULES.items() if holds(one)), "")


def _where_tables_stand(text: str) -> frozenset[int]:
    """Places of the words in a clause of tables, each in its own parentheses; a word after a dot begins no clause."""
    inside, found, before = [False], set[int](), ""
    for word in words_of(text, DUCKDB):
        if word.kind == "mark" and word.text in ("(", "[", "{"):
            inside.append(False)
        elif word.kind == "mark" and word.text in (")", "]", "}"):
            inside = inside[:-1] or [False]
        elif before != "." and word.is_word(*_TABLES, *_NO_TABLES):
            inside[-1] = word.is_word(*_TABLES)
        elif inside[-1]:
            found.add(word.start)
        before = word.text
    return frozenset(found)


class Judge:
    """Of one statement. ``permitted``: names. A macro that somebody made in a file is none of the engine's functions."""

    def __init__(self, text: str, permitted: Collection[str]) -> None:
        self.text, self.permitted = text, {name.lower() for name in permitted}

    def judge(self) -> None:
        """Raises StatementRefused, with line and column, for what may not be called or read."""
        found = references(self.text, DUCKDB)
        self._relations(found.names)
        tables: frozenset[int] | None = None
        for call in found.calls:
            name = call.last.lower()
            if self._calls_nothing(call) or name in self.permitted:
                continue
            ways = own_functions().get(name, ())
            refused = [one for one in ways if not rule_of(one)]
            if refused and refused != [*ways] and not any(one.kind in _EXPRESSIONS for one in refused):
                tables = _where_tables_stand(self.text) if tables is None else tables
                refused = refused if call.start in tables else []
            if refused:
                raise not_allowed(self.text, call.start, f"a call of '{name}', which is none of those that only read", name)

    def _calls_nothing(self, call: Name) -> bool:
        return len(call.path) == 1 and not call.quoted[0] and call.last.lower() in _BEFORE_PARENTHESES

    def _relations(self, names: Sequence[Name]) -> None:
        for each in names:
            name, schema = each.last.lower(), each.path[-2].lower() if len(each.path) > 1 else ""
            hit = any(name == theirs and schema in ("", of) for of, theirs in own_views())
            if hit and name not in CATALOGUE and name not in self.permitted:
                raise not_allowed(self.text, each.start, f"'{name}', which tells of the engine", name)
