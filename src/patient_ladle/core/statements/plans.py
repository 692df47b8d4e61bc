"""How a database means to carry out a statement, in words. Each reader takes what its engine's own ``EXPLAIN`` says.

Facts of the forms: PostgreSQL documentation 14.1 and ``EXPLAIN (FORMAT JSON)``; MariaDB ``EXPLAIN`` (type and Extra columns);
SQLite *The EXPLAIN QUERY PLAN command*; DuckDB ``EXPLAIN (FORMAT JSON)``; document stores' ``explain`` with ``queryPlanner``.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from ..errors import BadInput
from .catalogue import find_table, names_of
from .diagnostics import Table

_INDEX = re.compile(r"^CREATE (?:UNIQUE )?INDEX (\S+) ON .*?(\(.*\)).*$")
"""A definition, of which its name and its columns are told."""
LARGE = 100_000
"""Rows from which reading all of a table is worth a warning."""


@dataclass(frozen=True, slots=True)
class PlanStep:
    """``said``: in words; ``rows``: about how many the database expects after it; ``own``: its own word; ``table``: which it
    reads; ``whole``: all of that."""

    depth: int
    said: str
    rows: int | None = None
    own: str = ""
    table: str = ""
    whole: bool = False

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON."""
        return {name: getattr(self, name) for name in self.__slots__}


@dataclass(frozen=True, slots=True)
class Plan:
    """``steps``: each after those that it needs, which are deeper. ``cost``: in units of the database's own; None where it says
    none. ``text``: as the database tells it."""

    steps: tuple[PlanStep, ...]
    cost: float | None = None
    text: str = ""

    def warnings(self, catalogue: Sequence[Table] | None) -> list[str]:
        """Large tables that are read whole, each once."""
        found: dict[str, str] = {}
        for step in self.steps:
            if not step.whole or not step.table or step.table in found:
                continue
            table = _known(step.table, catalogue)
            sizes = [size for size in ((table or {}).get("rows_about"), step.rows) if size is not None]
            if sizes and max(sizes) >= LARGE:
                indexes = "; ".join(_INDEX.sub(r"\1 \2", each) for each in (table or {}).get("indexes") or [])
                hint = f"A condition on a column that an index begins with reads less: {indexes}."
                hint = hint if indexes else "It has no index."
                name = names_of(table) if table else step.table
                found[step.table] = f"All of {name} is read, about {max(sizes):,} rows. {hint if table else ''}".strip()
        return list(found.values())

    def to_dict(self, catalogue: Sequence[Table] | None = None) -> dict[str, Any]:
        """Plain JSON."""
        return {
            "steps": [step.to_dict() for step in self.steps],
            "cost": self.cost,
            "warnings": self.warnings(catalogue),
            "text": self.text,
        }


def _known(name: str, catalogue: Sequence[Table] | None) -> Table | None:
    try:
        return find_table(catalogue or [], name)
    except BadInput:
        return None


# PostgreSQL


def _pg_scan(node: Mapping[str, Any]) -> tuple[str, bool]:
    table, index = node.get("Relation Name", ""), node.get("Index Name", "")
    if node["Node Type"] == "Seq Scan":
        return f"reads all of {table}", True
    if node["Node Type"] == "Bitmap Heap Scan":
        return f"reads the rows of {table} that were found", False
    if "Index Cond" in node or "Order By" in node:
        return f"finds rows of {table} by its index {index}", False
    return f"reads all of {table} in the order of its index {index}", True


_PG: Mapping[str, str] = {
    "Bitmap Index Scan": "finds them by the index {index}",
    "BitmapAnd": "keeps what all of these found", "BitmapOr": "keeps what one of these found",
    "Tid Scan": "finds rows of {table} by their place", "Tid Range Scan": "finds rows of {table} by their place",
    "Sample Scan": "reads a sample of {table}", "Foreign Scan": "asks another server for {table}",
    "Nested Loop": "joins: for each row of the first, looks for those of the second{kept}",
    "Hash Join": "joins by the same keys{kept}", "Merge Join": "joins two sorted lists{kept}",
    "Hash": "keeps these in memory by key", "Materialize": "keeps these to read them again",
    "Memoize": "keeps what was found for a key", "Sort": "sorts by {sort}",
    "Incremental Sort": "sorts by {sort}, group by group", "Limit": "stops after the first rows",
    "Unique": "leaves rows out that are the same", "SetOp": "compares two lists of rows",
    "WindowAgg": "reckons over windows of rows", "Append": "puts lists one after the other",
    "Merge Append": "merges sorted lists", "Recursive Union": "repeats until nothing new is found",
    "WorkTable Scan": "reads what the round before found", "CTE Scan": "reads {cte}",
    "Subquery Scan": "reads the inner statement",
    "Function Scan": "reads what {function} gives", "Table Function Scan": "reads what a table function gives",
    "Values Scan": "reads the values written out", "Result": "makes a row without a table",
    "ProjectSet": "makes several rows of one", "LockRows": "locks rows", "Gather": "collects from workers side by side",
    "Gather Merge": "collects sorted lists from workers side by side",
}  # fmt: skip
_PG_READS = ("Seq Scan", "Index Scan", "Index Only Scan", "Bitmap Heap Scan")


def of_postgresql(told: Sequence[Mapping[str, Any]], text: str = "") -> Plan:
    """From the JSON form, and the text form to show."""
    root = told[0]["Plan"]
    return Plan(tuple(_pg(root, 0)), float(root["Total Cost"]), text)


def _pg(node: Mapping[str, Any], depth: int) -> Iterator[PlanStep]:
    for inner in node.get("Plans", []):
        yield from _pg(inner, depth + 1)
    kind, rows, whole = node["Node Type"], int(node["Plan Rows"]), False
    if kind in _PG_READS:
        said, whole = _pg_scan(node)
    elif kind == "Aggregate":
        by = ", ".join(node.get("Group Key", []))
        said = f"brings rows together by {by}" if by else "reckons one row of all"
    else:
        kept = node.get("Join Type", "Inner")
        said = _PG.get(kind, kind.lower()).format(
            index=node.get("Index Name", ""), table=node.get("Relation Name", ""), sort=", ".join(node.get("Sort Key", [])),
            cte=node.get("CTE Name", ""), function=node.get("Function Name", "a function"),
            kept={"Inner": "", "Anti": ", keeping what meets none", "Semi": ", keeping what meets one"}.get(
                kept, f", keeping what meets none ({kept.lower()})"
            ),
        )  # fmt: skip
    if "Filter" in node and kind in _PG_READS:
        said += f", keeping where {node['Filter']}"
    yield PlanStep(depth, said, rows, kind, str(node.get("Relation Name", "")) if kind in _PG_READS else "", whole)


# MariaDB

_MARIADB = {
    "ALL": ("reads all of {table}", True), "index": ("reads all of {table} in the order of its index {key}", True),
    "range": ("reads a range of {table} by its index {key}", False),
    "ref": ("finds rows of {table} by its index {key}", False),
    "eq_ref": ("finds one row of {table} by its index {key}", False),
    "ref_or_null": ("finds rows of {table} by its index {key}, also those without a value", False),
    "const": ("finds one row of {table} by its index {key}", False), "system": ("reads {table}, which has one row", False),
    "index_merge": ("finds rows of {table} by several indexes, {key}", False),
    "fulltext": ("finds rows of {table} by words, by its index {key}", False),
    "unique_subquery": ("finds one row of {table} by its index {key}", False),
    "index_subquery": ("finds rows of {table} by its index {key}", False),
    "hash_ALL": ("reads all of {table}, and joins by the same keys", True),
    "hash_index": ("reads all of {table} by its index {key}, and joins by the same keys", True),
    "hash_range": ("reads a range of {table} by its index {key}, and joins by the same keys", False),
}  # fmt: skip
_EXTRAS = {
    "Using filesort": "sorts what was found", "Using temporary": "keeps what was found in a temporary table",
    "Distinct": "leaves rows out that are the same",
}  # fmt: skip


def of_mariadb(rows: Sequence[Mapping[str, Any]], tables: Mapping[str, str], cost: float | None = None) -> Plan:
    """From the rows of the tabular form, names in small letters. ``tables``: names by alias."""
    steps: list[PlanStep] = []
    for row in rows:
        extra = str(row.get("extra") or "")
        alias = str(row.get("table") or "")
        inner = re.fullmatch(r"<(\w+?)([\d,]+)>", alias)
        name = tables.get(alias.lower()) or alias
        depth = 0 if row["id"] in (None, "1", 1) else 1
        count = None if row.get("rows") is None else int(row["rows"])
        if not alias:
            steps.append(
                PlanStep(depth, "reads no table" + (f": {extra.lower()}" if extra else ""), count, str(row["select_type"]))
            )
            continue
        said, whole = _MARIADB.get(str(row["type"]), (f"reads {{table}} ({row['type']})", False))
        if inner:
            name, whole = f"the result of part {inner[2]}", False
        said = said.format(table=name, key=row.get("key") or "")
        said += ", keeping where conditions hold" if "Using where" in extra else ""
        steps.append(PlanStep(depth, said, count, str(row["type"]), "" if inner else name, whole))
        steps += [PlanStep(depth, words, None, mark) for mark, words in _EXTRAS.items() if mark in extra]
    heads = [str(key) for key in rows[0]] if rows else []
    lines = ["\t".join(heads), *("\t".join("" if row[key] is None else str(row[key]) for key in heads) for row in rows)]
    return Plan(tuple(sorted(steps, key=lambda step: -step.depth)), cost, "\n".join(lines))


# SQLite

_SQLITE: Sequence[tuple[str, str, bool]] = (
    (r"SCAN CONSTANT ROW", "makes a row without a table", False),
    (r"SCAN (?P<table>\S+) USING (?:COVERING )?INDEX (?P<index>\S+)",
     "reads all of {table} in the order of its index {index}", True),
    (r"SCAN \(?(?P<table>subquery-\d+)\)?", "reads the inner statement", False),
    (r"SCAN (?P<table>\S+) VIRTUAL TABLE.*", "reads what {table} gives", False),
    (r"SCAN (?P<table>\S+)(?P<index>)", "reads all of {table}", True),
    (r"SEARCH (?P<table>\S+) USING AUTOMATIC .*INDEX \((?P<index>.*)\)",
     "makes an index of {table} for this alone ({index})", True),
    (r"SEARCH (?P<table>\S+) USING INTEGER PRIMARY KEY(?P<index>.*)", "finds rows of {table} by its key", False),
    (r"SEARCH (?P<table>\S+) USING (?:COVERING )?INDEX (?P<index>\S+).*", "finds rows of {table} by its index {index}", False),
    (r"USE TEMP B-TREE FOR (?P<table>.*)(?P<index>)", "sorts what was found, for {table}", False),
    (r"(?:CO-ROUTINE|MATERIALIZE) (?P<table>\S+)(?P<index>)", "works out {table}", False),
)  # fmt: skip


def of_sqlite(rows: Sequence[tuple[int, int, int, str]], tables: Mapping[str, str]) -> Plan:
    """From the rows of ``explain query plan``: number, number of the step around, unused, words. ``tables``: names by alias."""
    depths = {0: -1}
    steps = []
    for number, around, _, detail in rows:
        depth = depths[number] = depths.get(around, -1) + 1
        said, table, whole = detail.lower(), "", False
        for pattern, words, all_of_it in _SQLITE:
            found = re.fullmatch(pattern, detail)
            if found:
                given = found.groupdict()
                name = given.get("table") or ""
                known = tables.get(name.lower())
                sorts = words.startswith("sorts")
                said = words.format(table=name.lower() if sorts else known or name, index=given.get("index") or "")
                table, whole = (known or "", all_of_it and bool(known))
                break
        steps.append(PlanStep(depth, said, None, detail, table, whole))
    return Plan(tuple(steps), None, "\n".join(f"{'  ' * step.depth}{step.own}" for step in steps))


# DuckDB

_DUCKDB = {
    "HASH_JOIN": "joins by the same keys", "NESTED_LOOP_JOIN": "joins: compares each row with each",
    "PIECEWISE_MERGE_JOIN": "joins two sorted lists", "IE_JOIN": "joins by ranges", "CROSS_PRODUCT": "joins each row with each",
    "BLOCKWISE_NL_JOIN": "joins: compares each row with each", "HASH_GROUP_BY": "brings rows together by {groups}",
    "PERFECT_HASH_GROUP_BY": "brings rows together by {groups}", "UNGROUPED_AGGREGATE": "reckons one row of all",
    "ORDER_BY": "sorts", "TOP_N": "sorts, and keeps the first rows", "LIMIT": "stops after the first rows",
    "STREAMING_LIMIT": "stops after the first rows", "FILTER": "keeps where {expression}",
    "WINDOW": "reckons over windows of rows",
    "STREAMING_WINDOW": "reckons over windows of rows", "UNION": "puts lists one after the other",
    "CTE_SCAN": "reads a named part",
    "COLUMN_DATA_SCAN": "reads the values written out", "DUMMY_SCAN": "makes a row without a table",
    "CTE": "works out a named part",
}  # fmt: skip
_UNSAID = ("PROJECTION", "EMPTY_RESULT", "RESULT_COLLECTOR", "DELIM_SCAN")


def of_duckdb(told: Sequence[Mapping[str, Any]], tables: Mapping[str, str], text: str = "") -> Plan:
    """From the JSON form, and the text form to show. ``tables``: names by alias, for scans of files do not say which it is."""
    counts = "ARROW_SCAN" not in str(told)  # whose number of rows nobody has told it
    return Plan(tuple(step for node in told for step in _duckdb(node, 0, tables, counts)), None, text)


def _duckdb(node: Mapping[str, Any], depth: int, tables: Mapping[str, str], counts: bool) -> Iterator[PlanStep]:
    kind, info = str(node["name"]).strip(), node.get("extra_info") or {}
    inner = depth if kind in _UNSAID else depth + 1
    for each in node.get("children", []):
        yield from _duckdb(each, inner, tables, counts)
    if kind in _UNSAID:
        return
    rows = re.search(r"\d+", str(info.get("Estimated Cardinality", "")))
    count = int(rows.group()) if rows and counts else None
    if ("SCAN" in kind and "Table" in info) or kind.startswith("READ_") or "Function" in info:
        name = str(info.get("Table") or "").rpartition(".")[2]
        only = {each for each in tables.values() if each}
        name = name or (only.pop() if len(only) == 1 else "")
        said = f"reads all of {name or 'a file'}"
        if info.get("Filters"):
            said += f", keeping where {_words(info['Filters'], ' and ')}"
        yield PlanStep(depth, said, count, kind, name, whole=True)
        return
    said = _DUCKDB.get(kind, kind.lower().replace("_", " ")).format(
        groups=_words(info.get("Groups", "")).partition("#")[0] or "keys",
        expression=_words(info.get("Expression", ""), " and "),
    )
    yield PlanStep(depth, said, count, kind)


def _words(given: Any, between: str = ", ") -> str:
    return between.join(map(str, given)) if isinstance(given, list) else str(given)


# Document stores

_DOCUMENTS = {
    "FETCH": "reads the documents that were found", "IXSCAN": "finds documents by the index {index}",
    "IDHACK": "finds one document by its _id", "SORT": "sorts", "PROJECTION_SIMPLE": "", "PROJECTION_COVERED": "",
    "PROJECTION_DEFAULT": "", "LIMIT": "stops after the first documents", "SKIP": "leaves the first documents out",
    "COUNT": "counts", "COUNT_SCAN": "counts by the index {index}",
    "DISTINCT_SCAN": "finds different values by the index {index}",
    "OR": "keeps what one of these found", "EOF": "finds nothing", "GROUP": "brings documents together",
    "RECORD_STORE_FAST_COUNT": "takes the number from the collection's own account",
    "EQ_LOOKUP": "looks up documents of another",
}  # fmt: skip


def of_documents(told: Mapping[str, Any], collection: str, text: str = "") -> Plan:
    """From the answer to ``explain`` with ``queryPlanner``."""
    return Plan(tuple(_documents(_winning(told), 0, collection)), None, text)


def _winning(told: Any) -> Mapping[str, Any]:
    if isinstance(told, list):
        found: Mapping[str, Any] = next((made for each in told if (made := _winning(each))), {})
        return found
    if not isinstance(told, Mapping):
        return {}
    if "winningPlan" in told:
        plan = told["winningPlan"]
        return dict(plan.get("queryPlan", plan))
    return next((made for key, each in told.items() if key != "rejectedPlans" and (made := _winning(each))), {})


def _documents(node: Mapping[str, Any], depth: int, collection: str) -> Iterator[PlanStep]:
    if not node:
        return
    inner = [node["inputStage"]] if "inputStage" in node else node.get("inputStages", [])
    stage = str(node.get("stage", ""))
    if stage == "COLLSCAN":
        kept = ", keeping where the filter holds" if node.get("filter") else ""
        yield PlanStep(depth, f"reads all of {collection}{kept}", None, stage, collection, whole=True)
        return
    said = _DOCUMENTS.get(stage, stage.lower().replace("_", " ")).format(index=node.get("indexName", ""))
    for each in inner:
        yield from _documents(each, depth + 1 if said else depth, collection)
    if said:
        yield PlanStep(depth, said, None, stage)
