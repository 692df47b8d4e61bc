"""What a combining statement may name, judged on the engine's own parse tree: its inputs, and nothing of the host or the clock.

Tables and functions that give tables are taken by an allow-list. Of the other functions those are refused that would give
something else tomorrow, or that tell of the engine, its settings and whoever runs it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from ..errors import BadInput, unknown_name
from ..statements.languages.sql import words
from ..steps.expressions import CLOCK

TABLE_FUNCTIONS = words("range generate_series unnest json_each json_tree")
REFUSED = words(
    """now today ago get_current_time get_current_timestamp current_date current_time current_timestamp localtime localtimestamp
    current_localtime current_localtimestamp transaction_timestamp random setseed uuid uuidv4 uuidv7 gen_random_uuid nextval
    currval setval reservoir_quantile txid_current version getvariable getenv write_log sleep_ms pg_sleep error stats
    vector_type user session_user
    in_search_path col_description obj_description shobj_description format_type format_pg_type map_to_pg_oid
    map_type_id_to_pg_oid get_block_size parse_duckdb_log_message which_secret query query_table json_execute_serialized_sql
    json_serialize_plan current_transaction_id current_connection_id current_query current_query_id"""
)
_REFUSED_FORMS = re.compile(r"(current|pg|duckdb|pragma|read|inet|has|parquet|test|enable|disable)_\w+")
_ALLOWED_FORMS = words("pg_typeof pg_size_pretty")
_OF_THE_ENGINE = re.compile(r"(duckdb|pragma|pg|sqlite)_")
_NAMELESS = ("STAR", "POSITIONAL_REFERENCE")
"""Classes of what stands for columns without their names."""
MOST_PARTS, MOST_DEEP = 200_000, 400


def judge(tree: Mapping[str, Any], inputs: Sequence[str]) -> list[str]:
    """The inputs that a statement reads, in their order. ``tree``: the engine's parse of it.

    Raises BadInput, with the fact ``at``: where in the text that was parsed, if the engine says so.
    """
    if tree.get("error"):
        said = str(tree.get("error_message") or "it cannot be read").splitlines()[0]
        if "Only SELECT" in said:
            raise BadInput("a combining statement selects, and does nothing else.", "Begin it with select, with or from.")
        raise BadInput(f"the statement cannot be read: {said.removeprefix('syntax error ')}.", "Correct it.")
    known = {name.lower(): name for name in inputs}
    found: list[str] = []
    for node, made in _scoped(tree):
        for own in filter(_OF_THE_ENGINE.match, (name for name, _ in _queries(node))):
            raise BadInput(f"'{own}' is a name of the engine's own.", "Give the query in 'with' another name.")
        try:
            if node.get("sample"):
                raise BadInput(
                    "a sample is of chance: the same inputs would not give the same result.", "Take rows by a condition."
                )
            found += _judge_node(node, known, made)
        except BadInput as error:
            if isinstance(node.get("query_location"), int):
                error.facts.setdefault("at", node["query_location"])
            raise
    return list(dict.fromkeys(found))


def _judge_node(node: Mapping[str, Any], known: Mapping[str, str], made: frozenset[str]) -> list[str]:
    """The inputs that one node names; at most one."""
    kind = node.get("type")
    if kind == "BASE_TABLE":
        return _table(node, known, made)
    if kind == "TABLE_FUNCTION":
        _refuse_unless(_name_of(node["function"]), TABLE_FUNCTIONS, node["function"])
    elif kind == "SHOW_REF":
        raise BadInput("a combining statement selects, and does nothing else.", "Begin it with select, with or from.")
    elif node.get("class") == "FUNCTION":
        _call(node)
    elif node.get("class") == "COLUMN_REF" and len(node["column_names"]) == 1:
        _column(str(node["column_names"][0]))
    return []


def read_by_name(tree: Mapping[str, Any]) -> frozenset[str] | None:
    """All words of a judged statement, in small letters: a column that it reads is among them. None where it may read one
    without saying its name, as by ``*``, by a place, in a natural join, or in the row of a whole table."""
    tables: set[str] = set()
    columns: set[str] = set()
    said: set[str] = set()
    for node in _nodes(tree):
        if node.get("class") in _NAMELESS or node.get("type") == "PIVOT" or node.get("ref_type") == "NATURAL":
            return None
        if node.get("type") == "BASE_TABLE":
            if node.get("column_name_alias"):
                return None
            tables |= {str(node["table_name"]).lower(), str(node.get("alias") or "").lower()}
        if node.get("class") == "COLUMN_REF":
            columns.add(str(node["column_names"][-1]).lower())
        said |= set(_texts(node))
    return None if tables & columns else frozenset(said)


def _texts(node: Mapping[str, Any]) -> Iterator[str]:
    """What stands in one node itself, in small letters."""
    for value in node.values():
        for each in value if isinstance(value, list) else [value]:
            if isinstance(each, str):
                yield each.lower()


def compared(tree: Mapping[str, Any]) -> Iterator[tuple[tuple[str, str], tuple[str, str]]]:
    """Pairs of columns that are compared, each with the table that its alias stands for; empty where it has none.

    An alias that stands for two tables in one statement is left out.
    """
    tables: dict[str, str] = {}
    for node in _nodes(tree):
        if node.get("type") == "BASE_TABLE":
            alias, name = str(node.get("alias") or node["table_name"]).lower(), str(node["table_name"])
            tables[alias] = "" if tables.get(alias, name) != name else name

    def column(names: Sequence[Any]) -> tuple[str, str]:
        return (tables.get(str(names[-2]).lower(), ""), str(names[-1])) if len(names) > 1 else ("", str(names[-1]))

    for node in _nodes(tree):
        if node.get("class") == "COMPARISON":
            sides = [node["left"], node["right"]]
            if all(side.get("class") == "COLUMN_REF" for side in sides):
                left, right = (column(side["column_names"]) for side in sides)
                yield left, right
        if node.get("type") == "JOIN":
            ends = [str(node[side].get("table_name") or "") for side in ("left", "right")]
            for name in node.get("using_columns") or ():
                yield (ends[0], str(name)), (ends[1], str(name))


def _nodes(tree: Any) -> Iterator[Mapping[str, Any]]:
    """Every object of the tree. Raises BadInput for one beyond all measure."""
    return (node for node, _ in _scoped(tree))


def _scoped(tree: Any) -> Iterator[tuple[Mapping[str, Any], frozenset[str]]]:
    """The same, each with the names that queries have there by *with*: those of what is around it, and of queries before it."""
    left: list[tuple[Any, int, frozenset[str]]] = [(tree, 0, frozenset())]
    count = 0
    while left:
        here, depth, made = left.pop()
        count += 1
        if count > MOST_PARTS or depth > MOST_DEEP:
            raise BadInput("the statement is too long.", "Part it into several extracts, each an input of the next.")
        if isinstance(here, Mapping):
            named, before = _queries(here), made
            made |= {name for name, _ in named}
            yield here, made
            rest = [(key, value, made) for key, value in here.items() if not (named and key == "cte_map")]
            if here.get("type") == "RECURSIVE_CTE_NODE":  # its right side repeats with what it has so far
                own = made | {str(here["cte_name"]).lower()}
                rest = [(key, value, own if key == "right" else around) for key, value, around in rest]
            left += [(value, depth + 1, around) for _, value, around in reversed(rest) if isinstance(value, (Mapping, list))]
            for name, query in named:
                left.append((query, depth + 3, before))
                before |= {name}
        else:
            left += [(value, depth, made) for value in reversed(here) if isinstance(value, (Mapping, list))]


def _queries(node: Mapping[str, Any]) -> list[tuple[str, Any]]:
    """The queries that a node names, in their order: each may name those before it."""
    ctes = node.get("cte_map")
    return [(str(each["key"]).lower(), each["value"]) for each in (ctes.get("map") or ())] if isinstance(ctes, Mapping) else []


def _table(node: Mapping[str, Any], known: Mapping[str, str], made: frozenset[str]) -> list[str]:
    name = str(node["table_name"])
    if node.get("schema_name") or node.get("catalog_name"):
        path = ".".join(filter(None, [node.get("catalog_name"), node.get("schema_name"), name]))
        raise BadInput(f"'{path}' is no input: inputs stand in no schema.", f"Name one of {', '.join(known.values())}.")
    if name.lower() in known:
        return [known[name.lower()]]
    if name.lower() not in made:
        raise unknown_name("input", name, known.values(), "Declare the inputs of the combination first.")
    return []


def _name_of(node: Mapping[str, Any]) -> str:
    return str(node["function_name"]).lower()


def _refuse_unless(name: str, allowed: frozenset[str] | set[str], node: Mapping[str, Any]) -> None:
    if name not in allowed or node.get("schema") or node.get("catalog"):
        raise BadInput(
            f"'{name}' gives no table here: a combining statement reads its inputs.",
            f"Besides them {', '.join(sorted(allowed))} give rows.",
        )


def _call(node: Mapping[str, Any]) -> None:
    name = _name_of(node)
    if node.get("schema") or node.get("catalog"):
        raise BadInput(f"'{name}' is called by a path.", "Name the function alone.")
    alone = name == "age" and len(node.get("arguments") or node.get("children") or ()) == 1
    if alone or name in REFUSED or (_REFUSED_FORMS.fullmatch(name) and name not in _ALLOWED_FORMS):
        raise _tells(name)


def _column(name: str) -> None:
    if name.lower() in CLOCK:
        raise _tells(name)


def _tells(name: str) -> BadInput:
    return BadInput(
        f"'{name}' tells of the clock, of chance or of the engine: the same inputs would not give the same result.",
        "Use :data_date or :due_time; a column of that name is told by its table: t.name.",
    )
