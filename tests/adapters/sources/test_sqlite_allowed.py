"""What may be called and read in SQLite, held against all functions and tables that the engine itself has."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from patient_ladle.adapters.sources import get_engine, sqlite
from patient_ladle.adapters.sources.sqlite_allowed import FUNCTIONS, TABLES
from patient_ladle.core.errors import LadleError, StatementRefused
from patient_ladle.core.ports import Statement

HONEST = [line for line in (Path(__file__).parent / "cases" / "honest_sqlite.txt").read_text().splitlines() if line]
REFUSED = {
    "fts3_tokenizer",
    "fts5_source_id",
    "load_extension",
    "optimize",
    "rtreecheck",
    "sqlite_compileoption_get",
    "sqlite_compileoption_used",
    "sqlite_log",
    "sqlite_source_id",
}


TAKES = {"rtreecheck": 2, "fts5_source_id": 0, "sqlite_source_id": 0, "sqlite_log": 2}


@pytest.fixture(scope="module")
def path(home):
    made = home / "allowed.db"
    with closing(sqlite3.connect(made)) as connection:
        connection.executescript(
            "create table districts (district_id integer primary key, name text, zone text);"
            "insert into districts values (1, 'Alder Moor', 'North');"
            "create view own_view as select upper(name) as name from districts;"
            "create virtual table notes using fts5(body); insert into notes values ('a leak in the main');"
        )
    return made


def opened(path, *permitted):
    return get_engine("sqlite").open({"path": str(path), "permitted": list(permitted)}, "")


def fetched(path, text, *permitted):
    session = opened(path, *permitted)
    try:
        session.describe(Statement(text))
        return [cell for batch in session.batches() for cells in batch.cells for cell in cells.to_pylist()]
    finally:
        session.close()


def test_every_function_of_the_engine_is_listed_or_refused(path, found):
    with closing(sqlite3.connect(":memory:")) as connection:
        known = {name for (name,) in connection.execute("select lower(name) from pragma_function_list")}
        counts = dict.fromkeys(known, range(5))
    assert known - FUNCTIONS == REFUSED
    for name in sorted(REFUSED):
        with pytest.raises(StatementRefused, match="does more than read"):
            fetched(path, f"select {name}({', '.join('1' for _ in range(TAKES.get(name, 1)))})")
    for name in sorted(known & FUNCTIONS - {"->", "->>"}):
        for count in counts[name]:
            for given in ("'/etc/passwd'", "'x'; delete from districts"):
                try:
                    answer = fetched(path, f"select {name}({', '.join([given] * count)})")
                except LadleError as error:
                    answer = [error.message]
                assert not any("root:" in str(cell) for cell in answer), name
    found(f"functions of SQLite: {len(known & FUNCTIONS)} of {len(known)} listed, the rest refused")


def test_every_table_of_the_engines_own_is_closed_unless_it_is_listed(path):
    with closing(sqlite3.connect(":memory:")) as connection:
        modules = {name for (name,) in connection.execute("select name from pragma_module_list")}
        pragmas = {f"pragma_{name}" for (name,) in connection.execute("select name from pragma_pragma_list")}
    assert len(modules | pragmas) > 60
    for name in sorted((modules | pragmas) - TABLES):
        for text in (f"select * from {name}", f"select * from {name}('main')"):
            with pytest.raises(LadleError):
                fetched(path, text)


@pytest.mark.parametrize("text", HONEST)
def test_honest_statements_pass(path, text):
    fetched(path, text)


def test_what_an_administrator_permits_is_called(path):
    with pytest.raises(StatementRefused, match=r"'sqlite_source_id' \(line 2, column 8\)") as told:
        fetched(path, "select 1,\n       sqlite_source_id()")
    assert told.value.hint.endswith("--permit sqlite_source_id.")
    assert fetched(path, "select sqlite_source_id()", "sqlite_source_id")


def test_a_judge_that_is_switched_off_lets_it_through(path, monkeypatch):
    monkeypatch.setattr(sqlite, "authorizer", lambda *_: lambda *_: sqlite3.SQLITE_OK)
    assert fetched(path, "select sqlite_source_id()")
