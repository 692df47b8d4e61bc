"""What an expression of a step may say, judged on the engine's own parse tree by an allow-list.

The text is parsed exactly as it will stand in the statement, in brackets on lines of its own, so that what was judged is
what is run. Whatever is not listed is refused: functions that read files, settings or the clock, subqueries, windows, and
every kind of node that a later release may bring.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from ..errors import BadInput, unknown_name
from ..statements.languages.sql import words

FUNCTIONS = words(
    """abs ceil ceiling floor round trunc sign mod power pow sqrt exp ln log log10 greatest least nullif ifnull if
    lower upper trim ltrim rtrim length substring left right replace regexp_replace regexp_extract regexp_matches
    regexp_full_match starts_with prefix ends_with suffix contains strpos position instr concat concat_ws lpad rpad reverse
    split_part strip_accents
    date_trunc date_part datepart year quarter month day week weekday isodow isoyear dayofweek dayofyear hour minute second
    monthname dayname date_diff datediff last_day make_date strftime list_contains
    to_years to_quarters to_months to_weeks to_days to_hours to_minutes to_seconds"""
)
"""What an expression may call, besides operators."""
AGGREGATES = words("sum count count_star avg min max median stddev_samp stddev_pop bool_and bool_or string_agg")
"""What an expression over a group may call besides."""
OPERATORS = words("+ - * / // % ^ ** || ~~ !~~ ~~* !~~* ~ !~")
_CLASSES = words("COLUMN_REF CONSTANT COMPARISON CONJUNCTION OPERATOR CASE CAST BETWEEN FUNCTION PARAMETER TYPE")
_OPERATOR_TYPES = words("OPERATOR_IS_NULL OPERATOR_IS_NOT_NULL OPERATOR_NOT COMPARE_IN COMPARE_NOT_IN OPERATOR_COALESCE")
_TYPES = words(
    """bigint integer int smallint double float decimal numeric varchar text boolean bool date time timestamp timestamptz
    interval hugeint"""
)
CLOCK = words(
    """current_date current_time current_timestamp localtime localtimestamp current_user current_role session_user user
    current_catalog current_schema current_database rowid"""
)
"""Names that the engine takes for values where no column has them."""
MOST_NODES = 500
MOST_DEEP = 60


def in_brackets(text: str) -> str:
    """An expression as it is parsed, and as it is run: what its last line says of comments ends with the line."""
    return f"(\n{text}\n)"


def judge(tree: Mapping[str, Any], where: str, aggregates: bool = False) -> list[str]:
    """Names of the columns that an expression uses, in their order. ``tree``: the engine's parse of ``select (expression)``.

    Raises BadInput, whose fact ``where`` is the field's path.
    """
    expression = _only_expression(tree, where)
    found: list[str] = []
    for count, (node, depth) in enumerate(_nodes(expression)):
        if count > MOST_NODES or depth > MOST_DEEP:
            raise _refused(where, "the expression is too long", "Part it: compute columns one after the other.")
        _judge_node(node, where, aggregates)
        if node["class"] == "COLUMN_REF":
            found.append(str(node["column_names"][0]))
    return list(dict.fromkeys(found))


def constants_met(tree: Mapping[str, Any]) -> Iterator[tuple[str, str]]:
    """(column, text) where a column is compared with a text that stands in the expression itself."""
    for node, _ in _nodes(tree["statements"][0]["node"]["select_list"][0]):
        parts: list[Any] = []
        if node["class"] == "COMPARISON":
            parts = [node["left"], node["right"]]
        elif node["class"] == "BETWEEN":
            parts = [node["input"], node["lower"], node["upper"]]
        elif node["type"] in ("COMPARE_IN", "COMPARE_NOT_IN"):
            parts = node["children"]
        columns = [str(each["column_names"][0]) for each in parts if each["class"] == "COLUMN_REF"]
        texts = [each["literal"] for each in parts if each["class"] == "CONSTANT"]
        for column in columns:
            yield from ((column, str(each["text"])) for each in texts if each.get("kind") == "STRING")


def columns_compared(tree: Mapping[str, Any]) -> Iterator[tuple[str, str]]:
    """Pairs of columns that an expression compares with each other."""
    for node, _ in _nodes(tree["statements"][0]["node"]["select_list"][0]):
        if node["class"] == "COMPARISON" and {node["left"]["class"], node["right"]["class"]} == {"COLUMN_REF"}:
            yield str(node["left"]["column_names"][0]), str(node["right"]["column_names"][0])


def _only_expression(tree: Mapping[str, Any], where: str) -> Mapping[str, Any]:
    """Nothing but one expression was said: no table, no condition, no second column, no name."""
    if tree.get("error"):
        said = str(tree.get("error_message") or "it is not an expression").splitlines()[0].removeprefix("syntax error ")
        hint = "Correct it; the name of a column that is a word of SQL, or has blanks, goes in double quotes."
        raise _refused(where, f"the expression cannot be read: {said}", hint)
    statements = tree.get("statements") or []
    node = statements[0]["node"] if len(statements) == 1 else {}
    plain = node.get("type") == "SELECT_NODE" and node["from_table"]["type"] == "EMPTY" and len(node["select_list"]) == 1
    others = ("modifiers", "where_clause", "group_expressions", "group_sets", "having", "sample", "qualify")
    if not plain or any(node[each] for each in others) or node["cte_map"]["map"] or node["select_list"][0]["alias"]:
        raise _refused(where, "this is more than an expression", "Write one value or condition: litres / 1000.")
    expression: Mapping[str, Any] = node["select_list"][0]
    return expression


def _nodes(node: Mapping[str, Any]) -> Iterator[tuple[Mapping[str, Any], int]]:
    """Every node of an expression with its depth; whatever has a class is one, wherever it hangs."""
    left: list[tuple[Any, int]] = [(node, 0)]
    while left:
        here, depth = left.pop()
        if isinstance(here, Mapping):
            if "class" in here:
                yield here, depth
            left += [(value, depth + 1) for value in reversed([*here.values()]) if isinstance(value, (Mapping, list))]
        else:
            left += [(value, depth) for value in reversed(here) if isinstance(value, (Mapping, list))]


def _judge_node(node: Mapping[str, Any], where: str, aggregates: bool) -> None:
    kind = node["class"]
    if kind not in _CLASSES:
        words_ = {"SUBQUERY": "a query", "WINDOW": "a window", "LAMBDA": "a function of its own", "STAR": "a star"}
        raise _refused(where, f"{words_.get(kind, kind.lower())} cannot stand in an expression", _ALLOWED_HINT)
    if node.get("alias") or (node.get("distinct") and not aggregates):
        raise _refused(where, "this is more than an expression", "Leave the name out: the step names its column.")
    if kind == "OPERATOR" and node["type"] not in _OPERATOR_TYPES:
        raise _refused(where, f"{node['type'].rpartition('OPERATOR_')[2].lower()} cannot stand here", _ALLOWED_HINT)
    if kind == "COLUMN_REF" and len(node["column_names"]) != 1:
        named = ".".join(map(str, node["column_names"]))
        raise _refused(where, f"'{named}' names more than a column", "Name the column alone, in double quotes if need be.")
    if kind == "TYPE" and (str(node["type_name"]).lower() not in _TYPES or len(node["qualified_name"]["path"]) != 1):
        raise _refused(
            where, f"'{node['type_name']}' is not a type that can stand here", f"Types are {', '.join(sorted(_TYPES))}."
        )
    if kind == "FUNCTION":
        _judge_call(node, where, aggregates)


_ALLOWED_HINT = "Columns, constants, parameters, case, cast, operators and the listed functions can."


def _judge_call(node: Mapping[str, Any], where: str, aggregates: bool) -> None:
    name = str(node["function_name"]).lower()
    path = [str(each).lower() for each in node["qualified_name"]["path"]]
    if node["schema"] or node["catalog"] or path != [name]:
        raise _refused(where, f"'{'.'.join(path)}' is called by a path", "Name the function alone.")
    if name in OPERATORS and node["is_operator"]:
        return
    known = FUNCTIONS | AGGREGATES if aggregates else FUNCTIONS
    if name not in known:
        if name in AGGREGATES:
            raise _refused(where, f"'{name}' is over many rows", "Use it in a group, or a share, a running total or a rank.")
        found = unknown_name("function for expressions", name, known)
        raise BadInput(f"{found.message}", f"{found.hint} The docs list them.", where=where)
    ordered = node["order_bys"]["orders"]
    if name == "string_agg" and not ordered:
        raise _refused(where, "string_agg says no order", "Write string_agg(code, ', ' order by code).")
    if name == "median" and node["arguments"][0]["expression"]["class"] != "CAST":
        raise _refused(where, "the median of decimals would be rounded", "Write median(cast(litres as double)).")


def check_columns(used: Sequence[str], known: Sequence[str], where: str, open_set: bool = False) -> None:
    """Every column is there. ``open_set``: more may come that nobody knows yet. Raises BadInput with the nearest name."""
    lower = {name.lower() for name in known}
    for name in used:
        if name.lower() in lower:
            continue
        if name.lower() in CLOCK:
            raise _refused(where, f"'{name}' tells of the clock or of the engine", "Use :data_date or :due_time.")
        if not open_set:
            found = unknown_name("column", name, known)
            raise BadInput(found.message, found.hint, where=where)


def _refused(where: str, what: str, hint: str) -> BadInput:
    return BadInput(f"{what}.", hint, where=where)
