"""Plans in words, from what engines say of statements that the test databases are too small for."""

from __future__ import annotations

import pytest

from patient_ladle.core.statements.plans import of_documents, of_duckdb, of_mariadb, of_postgresql, of_sqlite

SCAN = {"Node Type": "Seq Scan", "Relation Name": "readings", "Plan Rows": 12, "Total Cost": 9.5, "Filter": "(litres > 9)"}
CATALOGUE = [
    {
        "schema": "",
        "name": "readings",
        "rows_about": 500_000,
        "indexes": ["CREATE UNIQUE INDEX readings_pkey ON public.readings USING btree (reading_id)"],
    }
]


def pg(kind, *inner, **more):
    return {
        "Node Type": kind,
        "Plan Rows": 3,
        "Total Cost": 20.0,
        "Plans": list(inner),
        **{k.replace("_", " "): v for k, v in more.items()},
    }


POSTGRESQL = [
    (pg("Aggregate", SCAN, Group_Key=["r.meter_id"]), ["reads all of readings, keeping where (litres > 9)", "brings rows together by r.meter_id"]),
    (pg("Aggregate", SCAN), ["reads all of readings, keeping where (litres > 9)", "reckons one row of all"]),
    (pg("Index Scan", Index_Name="i", Relation_Name="readings", Index_Cond="(a = 1)"), ["finds rows of readings by its index i"]),
    (pg("Index Only Scan", Index_Name="i", Relation_Name="readings"), ["reads all of readings in the order of its index i"]),
    (
        pg("Bitmap Heap Scan", pg("Bitmap Index Scan", Index_Name="i"), Relation_Name="readings"),
        ["finds them by the index i", "reads the rows of readings that were found"],
    ),
    (pg("Hash Join", Join_Type="Left"), ["joins by the same keys, keeping what meets none (left)"]),
    (pg("Nested Loop", Join_Type="Anti"), ["joins: for each row of the first, looks for those of the second, keeping what meets none"]),
    (pg("Sort", Sort_Key=["a", "b DESC"]), ["sorts by a, b DESC"]),
    (pg("Brand New Scan"), ["brand new scan"]),
]  # fmt: skip


@pytest.mark.parametrize(("node", "said"), POSTGRESQL)
def test_postgresql(node, said):
    found = of_postgresql([{"Plan": node}])
    assert [step.said for step in found.steps] == said
    assert found.cost == 20.0


def test_a_large_table_is_warned_of_by_its_size_and_not_by_what_is_kept_of_it():
    found = of_postgresql([{"Plan": pg("Append", SCAN, SCAN)}])
    assert found.warnings(CATALOGUE) == [
        "All of readings is read, about 500,000 rows. A condition on a column that an index begins with reads less:"
        " readings_pkey (reading_id)."
    ]
    assert found.warnings(None) == []
    assert of_postgresql([{"Plan": SCAN | {"Plan Rows": 200_000}}]).warnings(None) == [
        "All of readings is read, about 200,000 rows."
    ]
    small = [CATALOGUE[0] | {"rows_about": 99_999}]
    assert found.warnings(small) == []
    assert "It has no index." in found.warnings([CATALOGUE[0] | {"indexes": []}])[0]


def maria(table, kind, extra="", key=None, id_="1", select="SIMPLE"):
    return {"id": id_, "select_type": select, "table": table, "type": kind, "key": key, "rows": "41", "extra": extra}


def test_mariadb():
    rows = [
        maria("<derived2>", "ALL", "Using temporary; Using filesort"), maria("w", "ref", "Using where", "district"),
        maria("l", "ALL", id_="2", select="DERIVED"), maria(None, None, "Impossible WHERE", id_="1"), maria("x", "novel"),
    ]  # fmt: skip
    found = of_mariadb(rows, {"w": "work_orders", "l": "leaks"}, 3.5)
    assert [step.said for step in found.steps] == [
        "reads all of leaks", "reads all of the result of part 2", "sorts what was found",
        "keeps what was found in a temporary table", "finds rows of work_orders by its index district, keeping where conditions hold",
        "reads no table: impossible where", "reads x (novel)",
    ]  # fmt: skip
    assert [step.table for step in found.steps if step.whole] == ["leaks"]


def test_sqlite():
    rows = [
        (2, 0, 0, "CO-ROUTINE late"), (3, 2, 0, "SCAN r USING COVERING INDEX readings_at"), (9, 0, 0, "SCAN late"),
        (11, 0, 0, "SEARCH m USING AUTOMATIC COVERING INDEX (meter_id=?)"), (12, 0, 0, "USE TEMP B-TREE FOR ORDER BY"),
        (13, 0, 0, "SOMETHING NEW"),
    ]  # fmt: skip
    found = of_sqlite(rows, {"r": "readings", "m": "meters"})
    assert [(step.depth, step.said, step.table) for step in found.steps] == [
        (0, "works out late", ""), (1, "reads all of readings in the order of its index readings_at", "readings"),
        (0, "reads all of late", ""), (0, "makes an index of meters for this alone (meter_id=?)", "meters"),
        (0, "sorts what was found, for order by", ""), (0, "something new", ""),
    ]  # fmt: skip


def test_duckdb():
    scan = {
        "name": "SEQ_SCAN ",
        "children": [],
        "extra_info": {"Table": "works.main.readings", "Filters": ["a>1", "b<2"], "Estimated Cardinality": "~77"},
    }
    found = of_duckdb(
        [{"name": "PROJECTION", "children": [{"name": "HASH_GROUP_BY", "children": [scan], "extra_info": {"Groups": "#0"}}]}],
        {},
    )
    assert [(s.depth, s.said, s.rows) for s in found.steps] == [
        (1, "reads all of readings, keeping where a>1 and b<2", 77), (0, "brings rows together by keys", None),
    ]  # fmt: skip
    of_file = {"name": "READ_CSV", "children": [], "extra_info": {"Function": "READ_CSV"}}
    assert of_duckdb([of_file], {"f": "flow"}).steps[0].said == "reads all of flow"
    assert of_duckdb([of_file], {"f": "flow", "p": "pressure"}).steps[0].said == "reads all of a file"


@pytest.mark.parametrize(
    ("told", "said"),
    [
        (
            {"queryPlanner": {"winningPlan": {"stage": "FETCH", "inputStage": {"stage": "IXSCAN", "indexName": "at_1"}}}},
            ["finds documents by the index at_1", "reads the documents that were found"],
        ),
        (
            {"queryPlanner": {"winningPlan": {"queryPlan": {"stage": "COLLSCAN", "filter": {"a": 1}}, "slotBasedPlan": {}}}},
            ["reads all of contacts, keeping where the filter holds"],
        ),
        (
            {"stages": [{"$cursor": {"queryPlanner": {"winningPlan": {"stage": "PROJECTION_SIMPLE", "inputStage": {"stage": "COLLSCAN"}}}}}]},
            ["reads all of contacts"],
        ),
        ({"ok": 1}, []),
    ],
)  # fmt: skip
def test_documents(told, said):
    assert [step.said for step in of_documents(told, "contacts").steps] == said
