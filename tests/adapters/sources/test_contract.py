"""The contract of every source engine, against the real thing: faithful, bound, read-only, stoppable, clear.

An engine that is registered and has no case file fails.
"""

from __future__ import annotations

import sqlite3
import threading
import time
from datetime import date, datetime, timezone
from pathlib import Path

import psycopg
import pytest

from patient_ladle.adapters.sources import ENGINES, get_engine
from patient_ladle.core.errors import (
    LadleError,
    RunCancelled,
    SourceDatabaseMissing,
    SourceSignInRefused,
    SourceUnreachable,
    StatementRefused,
    StatementWrong,
)
from patient_ladle.core.parameters import Parameter, resolve
from patient_ladle.core.ports import Statement

from .cases import postgresql, sqlite

CASES = {"postgresql": postgresql, "sqlite": sqlite}
DISTRICTS = [(1, "Alder Moor", "North"), (2, "Birch Fen", "South"), (3, 'Heron "Holt", old', None)]
TRACES = [Path("/tmp/ladle-hostile"), Path("/tmp/ladle-hostile.db"), Path("/tmp/ladle-stolen.csv")]


def test_every_registered_engine_has_a_case_file():
    assert set(CASES) == set(ENGINES)


@pytest.fixture(params=sorted(CASES))
def case(request, home):
    """An engine with its address, secret, cases and a look behind its back."""
    name = request.param
    if name == "sqlite":
        path = home / "contract.db"
        path.unlink(missing_ok=True)
        connection = sqlite3.connect(path)
        connection.execute("create table districts (district_id integer primary key, name text, zone text)")
        connection.executemany("insert into districts values (?, ?, ?)", DISTRICTS)
        connection.commit()
        yield Case(name, {"path": str(path)}, "", lambda: connection.execute("select * from districts order by 1").fetchall())
        connection.close()
        return
    metering = request.getfixturevalue("metering")
    with psycopg.connect(request.getfixturevalue("cluster").url("metering"), autocommit=True) as connection:

        def rows():
            tables = connection.execute(
                "select count(*) from pg_class where relkind = 'r' and relnamespace = 'public'::regnamespace"
            )
            assert tables.fetchone() == (3,)
            assert connection.execute("select is_called from counter").fetchone() == (False,)
            return connection.execute("select * from districts order by 1").fetchall()

        yield Case(name, metering, "reading-only", rows)


class Case:
    """One engine under test."""

    def __init__(self, name, address, secret, rows):
        self.engine, self.words = get_engine(name), CASES[name]
        self.address, self.secret, self.rows = address, secret, rows

    def open(self):
        return self.engine.open(self.address, self.secret)

    def fetch(self, text, values=None, declared=()):
        bound = resolve(declared, values or {}, date(2026, 11, 24), datetime(2026, 11, 24, 6, 5, tzinfo=timezone.utc))
        session = self.open()
        try:
            columns = session.describe(Statement(text, bound))
            rows = [row for b in session.batches() for row in zip(*(cells.to_pylist() for cells in b.cells), strict=True)]
            return columns, rows
        finally:
            session.close()


def test_every_type_travels_in_its_canonical_text(case):
    expressions = [f"{expression} as c{n}" for n, (expression, _, _) in enumerate(case.words.TYPES)]
    columns, [row] = case.fetch("select " + ", ".join(expressions) + " -- the last line is a comment")
    for (expression, kind, text), column, found in zip(case.words.TYPES, columns, row, strict=True):
        assert (column.kind, found) == (kind, text), expression


def test_parameters_of_every_type_are_bound_not_pasted(case):
    declared = [
        Parameter("t"), Parameter("n", "integer"), Parameter("x", "decimal"), Parameter("b", "boolean"),
        Parameter("d", "date"), Parameter("w", "timestamp"),
    ]  # fmt: skip
    given = {"t": "it's :n", "n": 41, "x": "12.5", "b": True, "d": "2026-11-24", "w": "2026-11-24 06:05:00"}
    _, [row] = case.fetch(case.words.PARAMETERS, given, declared)
    assert list(row) == case.words.PARAMETER_TEXTS


@pytest.mark.parametrize(("ids", "count"), [([1, 3], 2), ([], 0), (list(range(2_000)), 3)])
def test_a_list_may_have_no_or_thousands_of_members(case, ids, count):
    _, rows = case.fetch(case.words.LIST, {"ids": ids}, [Parameter("ids", "integer", many=True)])
    assert len(rows) == count


def test_an_absent_value_is_null(case):
    _, rows = case.fetch(case.words.ABSENT, {}, [Parameter("t", required=False)])
    assert rows == [("3",)]


def test_nothing_hostile_changes_rows_or_files(case):
    before = case.rows()
    for text in case.words.HOSTILE:
        try:
            case.fetch(text)
        except LadleError as error:
            assert error.message, text
        assert case.rows() == before == DISTRICTS, text
        assert not [trace for trace in TRACES if trace.exists()], text


@pytest.mark.parametrize("which", ["UNKNOWN_TABLE", "UNKNOWN_COLUMN", "AFTER_PARAMETER"])
def test_a_name_the_database_does_not_know_is_placed_in_the_authors_text(case, which):
    text, where = getattr(case.words, which)
    with pytest.raises(StatementWrong) as wrong:
        case.fetch(text, {"p": "x"}, [Parameter("p")])
    assert where in wrong.value.message


def test_an_undeclared_parameter_is_refused(case):
    with pytest.raises(StatementRefused, match="uses ':nobody', which is not declared"):
        case.fetch("select :nobody as x")


@pytest.mark.parametrize("which", ["SLOW", "SLOW_ROWS"])
def test_a_cancel_from_another_thread_stops_the_statement(case, which):
    session = case.open()
    threading.Timer(0.3, session.cancel).start()
    began = time.monotonic()
    with pytest.raises(RunCancelled):
        session.describe(Statement(getattr(case.words, which)))
        for _ in session.batches():
            pass
    assert time.monotonic() - began < 5
    session.close()


def test_a_check_that_passes_has_three_steps(case):
    steps = case.engine.check(case.address, case.secret)
    assert [(s.step, s.passed) for s in steps] == [("reached", True), ("signed in", True), ("may read", True)]
    assert steps[-1].detail.startswith(case.engine.title)


def test_the_result_is_that_of_one_moment(metering, cluster):
    session = get_engine("postgresql").open(metering, "reading-only")
    session.describe(Statement("select count(*) from readings"))
    with psycopg.connect(cluster.url("metering"), autocommit=True) as writer:
        writer.execute("insert into readings select 0, 1, now(), 1, false")
        [batch] = session.batches()
        writer.execute("delete from readings where reading_id = 0")
    session.close()
    assert batch.cells[0].to_pylist() == ["20000"]


@pytest.mark.parametrize(
    ("change", "secret", "error", "step"),
    [
        ({"host": "no-such-host.invalid"}, None, SourceUnreachable, "reached"),
        ({"port": 1}, None, SourceUnreachable, "reached"),
        ({"database": "nowhere"}, None, SourceDatabaseMissing, "signed in"),
        ({}, "wrong", SourceSignInRefused, "signed in"),
        ({"user": "nobody"}, None, SourceSignInRefused, "signed in"),
    ],
)
def test_postgresql_tells_faults_of_an_address_apart(metering, change, secret, error, step):
    engine, address = get_engine("postgresql"), metering | change
    with pytest.raises(error) as refused:
        engine.open(address, secret or "reading-only")
    assert "reading-only" not in refused.value.in_words()
    assert refused.value.hint
    last = engine.check(address, secret or "reading-only")[-1]
    assert (last.step, last.passed, last.detail, last.hint) == (step, False, refused.value.message, refused.value.hint)


def test_sqlite_tells_faults_of_a_path_apart(home):
    engine = get_engine("sqlite")
    (home / "not.db").write_text("this is no database, only text of some length" * 40)
    for path, error in [
        (home / "no" / "x.db", SourceUnreachable),
        (home / "x.db", SourceDatabaseMissing),
        (home / "not.db", LadleError),
    ]:
        with pytest.raises(error) as refused:
            engine.open({"path": str(path)}, "")
        assert refused.value.hint
    assert not (home / "x.db").exists()


@pytest.mark.parametrize(
    ("address", "words"),
    [
        ({"hots": "a"}, "Did you mean 'host'?"),
        ({"host": "a", "port": "many"}, "'many' is not a port"),
        ({"host": "a", "port": "5432"}, "needs 'database'"),
    ],
)
def test_an_address_that_is_not_one_is_refused(address, words):
    with pytest.raises(LadleError) as refused:
        get_engine("postgresql").checked_address(address)
    assert words in refused.value.in_words()
