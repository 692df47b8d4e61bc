"""What six engines say of how they would carry a statement out, put into words, and never by carrying it out."""

from __future__ import annotations

import copy
import json
from datetime import datetime, timezone

import pytest

from patient_ladle.adapters.sources.memory import MemoryEngine
from patient_ladle.core.errors import BadInput, StatementRefused, StatementWrong
from patient_ladle.core.ports import Statement
from patient_ladle.core.statements.plans import Plan
from patient_ladle.core.values.parameters import Parameter, resolve
from tests.adapters.sources.small_tables import DAY

COLUMNAR = ("duckdb", "files")


def planned(source, text, *parameters) -> Plan:
    bound = resolve(parameters, {}, DAY, datetime(2026, 11, 24, tzinfo=timezone.utc))
    session = source.engine.open(source.address, source.secret)
    try:
        statement = Statement(text, bound)
        session.understand(statement)
        return session.plan(statement)
    finally:
        session.close()


def grown(source, table):
    """The catalogue, as it would be were the table large."""
    made = copy.deepcopy(source.catalogue)
    for each in made:
        each["rows_about"] = 2_000_000 if each["name"] == table else each["rows_about"]
    return made


def asks(source, table, field, parameter):
    if source.name == "documents":
        return json.dumps({"find": table, "filter": {field: "?"}}).replace('"?"', f":{parameter}")
    quote = "`" if source.name == "mariadb" else '"'
    return f"select * from {table} as x where x.{quote}{field}{quote} = :{parameter} -- all of it"


def test_a_table_that_is_read_whole_is_warned_of_where_it_is_large(source):
    found = planned(source, asks(source, "meters", "order", "word"), Parameter("word", "text", default="plain"))
    [step] = [step for step in found.steps if step.table]
    assert (step.table, step.whole) == ("meters", True)
    assert "reads all of meters" in step.said
    assert found.warnings(source.catalogue) == []
    [warning] = found.warnings(grown(source, "meters"))
    assert warning.startswith("All of ")
    assert "meters is read, about 2,000,000 rows" in warning
    assert found.text


def test_rows_that_are_found_by_an_index_are_not_warned_of(source):
    field = "_id" if source.name == "documents" else "meter_id"
    found = planned(source, asks(source, "meters", field, "id"), Parameter("id", "integer", default=2))
    assert bool(found.warnings(grown(source, "meters"))) == (source.name in COLUMNAR)
    if source.name not in COLUMNAR:
        assert [step.whole for step in found.steps if step.table] in ([], [False])


@pytest.mark.parametrize("source", ["postgresql", "mariadb", "sqlite", "duckdb", "files"], indirect=True)
def test_a_statement_that_would_never_end_is_planned_and_not_run(source):
    endless = "with recursive r as (select 1 as n union all select n + 1 from r where n > 0) select count(*) as n from r"
    assert planned(source, endless).steps


@pytest.mark.parametrize("source", ["postgresql", "mariadb", "sqlite", "duckdb", "files"], indirect=True)
def test_what_the_gate_refuses_is_not_planned(source):
    for text in ("delete from meters", "select 1; select 2", "analyze select 1", "explain analyze select 1"):
        with pytest.raises((StatementRefused, StatementWrong)):
            planned(source, text)


def test_joins_groups_and_sorting_are_told_in_words(source):
    if source.name == "documents":
        return
    reads = "`reads`" if source.name == "mariadb" else "reads"
    text = (
        f"select m.zone_id, count(*) as n from {reads} r join meters m on m.meter_id = r.meter_id"
        f" where r.n in (select n from {reads}) group by m.zone_id order by n"
    )
    found = planned(source, text)
    said = " | ".join(step.said for step in found.steps)
    read = {step.table for step in found.steps if step.table}
    assert read == (set() if source.name == "files" else {"meters", "reads"})  # of several files it does not say which
    assert "sort" in said
    assert not any("{" in step.said for step in found.steps)
    assert (found.cost is not None) == (source.name in ("postgresql", "mariadb"))


@pytest.mark.parametrize("source", ["documents"], indirect=True)
def test_a_document_store_is_asked_for_its_plan_alone(source):
    found = planned(source, '{"aggregate": "reads", "pipeline": [{"$match": {"n": 3}}, {"$count": "n"}]}')
    assert [(step.own, step.whole) for step in found.steps] == [("COLLSCAN", True)]
    sent = planned(source, '{"count": "reads", "query": {}}')
    assert sent.steps[0].table == "reads"
    session = source.engine.open(source.address, source.secret)
    try:
        with pytest.raises(Exception, match="carries nothing out"):
            session.database.command({"explain": {"count": "reads"}, "verbosity": "executionStats"})
    finally:
        session.close()


def test_an_engine_that_does_not_say_says_so(small_sources):
    engine = MemoryEngine("memory", "Memory", small_sources("sqlite").engine.language, {}, lambda *_: ((), ()))
    with pytest.raises(BadInput, match="does not say how"):
        engine.open({}, "").plan(Statement("select 1", resolve([], {}, DAY, datetime(2026, 11, 24, tzinfo=timezone.utc))))
