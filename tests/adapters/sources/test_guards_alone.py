"""Each guard against hostile texts and values holds alone: with the others off nothing happens, with it off too the harm is done.

What is hostile reads too: a file of the host, a row that a login may not change, a setting that tells of the server.
"""

from __future__ import annotations

import re
import sqlite3
from contextlib import closing
from dataclasses import dataclass
from datetime import date, datetime, timezone
from functools import partial

import duckdb
import psycopg
import pytest

from patient_ladle.adapters.sources import (
    base,
    duckdb_allowed,
    duckdb_session,
    get_engine,
    mariadb,
    mariadb_allowed,
    postgresql,
    postgresql_copy,
    sqlite,
)
from patient_ladle.core.errors import LadleError, SourceWritable, StatementRefused
from patient_ladle.core.ports import Statement
from patient_ladle.core.statements.parts import Rendered
from patient_ladle.core.values.parameters import Parameter, as_text, resolve

HOST_FILE = "/etc/passwd"
MARKS = ("root:", "cm9vd")
"""What its text holds, as text or in base64."""


def naive(text, dialect, put):
    """A cutting that takes every ``:p`` for a parameter, wherever it stands."""
    return Rendered(re.sub(":p", lambda _: put("p"), text), ())


def quoted(value):
    return "'" + str(as_text(value)).replace("'", "''") + "'"


OFF = {
    "gate": [(base, "one_reading_statement", lambda text, _: text)],
    "cutting": [(base, "one_reading_statement", lambda text, _: text), (base, "replace_parameters", naive),
                (postgresql, "with_names", lambda *_: "")],
    "counting": [(module, "refuse_other_count", lambda *_: None) for module in (postgresql, mariadb, sqlite, duckdb_session)],
    "no code": [(postgresql, "bound_literal", quoted), (mariadb, "bound_literal", quoted)],
    "one command": [(postgresql_copy, "one_command", lambda query: [(b"Q", query + b"\0")])],
    "the database's word on calls": [(postgresql.PostgresqlSession, "_refuse_what_is_not_allowed", lambda *_: None)],
    "what is listed": [(module.Judge, "judge", lambda *_: []) for module in (mariadb_allowed, duckdb_allowed)],
    "a transaction that reads": [(postgresql, "_BEGIN", "begin isolation level repeatable read"), (mariadb, "READ_ONLY", ("begin",)),
                                 (postgresql, "_SETTINGS", postgresql._SETTINGS | {"default_transaction_read_only": "off"})],
    "authorizer": [(sqlite, "authorizer", lambda *_: lambda *_: sqlite3.SQLITE_OK)],
    "query_only": [(sqlite, "_PRAGMAS", ())],
    "mode": [(sqlite, "_MODE", "rw")],
    "no files": [(duckdb_session, "SAFE", duckdb_session.SAFE | {"enable_external_access": "true"})],
}  # fmt: skip


@dataclass(frozen=True)
class Attack:
    """``guards`` each stop it alone. ``text`` and ``value`` are sent; ``value`` for ``:p``."""

    engine: str
    guards: tuple[str, ...]
    text: str
    value: str = ""
    soon: bool = False


WRITES = "set default_transaction_read_only = off; commit; insert into districts values (9, $$x$$, null); commit"
INTO_COPY = f" as b) to stdout; commit; {WRITES}; copy (select 1 --"
CUT_APART = ("counting", "no code", "one command")
ATTACKS = [
    Attack("postgresql", ("cutting", *CUT_APART), "select 1 as a, E'x'\n'\\', :p --' as b", INTO_COPY),
    Attack("postgresql", ("gate", "the database's word on calls"), f"select pg_read_file('{HOST_FILE}')"),
    Attack("postgresql", ("gate", "the database's word on calls"), f"select pg_read_file('{HOST_FILE}')", soon=True),
    Attack("postgresql", ("gate", "the database's word on calls", "a transaction that reads"), "select setval('counter', 77)"),
    Attack("mariadb", ("cutting", "counting", "no code"), "select concat(':p') as a", f", load_file(0x{HOST_FILE.encode().hex()}), "),
    Attack("mariadb", ("gate", "what is listed"), f"select load_file('{HOST_FILE}')"),
    Attack("mariadb", ("gate", "what is listed", "a transaction that reads"), "select setval(counter, 77)"),
    Attack("sqlite", ("gate", "authorizer", "query_only", "mode"), "insert into districts values (9, 'root:', null) returning name"),
    Attack("duckdb", ("gate", "what is listed", "no files"), f"select * from read_text('{HOST_FILE}')"),
    Attack("files", ("gate", "what is listed", "no files"), f"select * from read_text('{HOST_FILE}')"),
]  # fmt: skip


@pytest.fixture
def sources(home, request, cluster, metering, maria, works):
    """For each engine: address and secret of a login that may do everything, and a look behind its back."""
    lite, duck = home / "guards.db", home / "guards.duckdb"
    for path, connect in ((lite, sqlite3.connect), (duck, lambda path: duckdb.connect(str(path)))):
        path.unlink(missing_ok=True)
        with closing(connect(path)) as connection:
            connection.execute("create table districts (district_id int, name text, zone text)")
            connection.execute("insert into districts values (1, 'Alder Moor', 'North')")
            connection.commit()
    folder = home / "guards-files"
    folder.mkdir(exist_ok=True)
    (folder / "districts.csv").write_text("district_id,name\n1,Alder Moor\n")

    def in_postgresql():
        with psycopg.connect(cluster.url("metering"), autocommit=True) as connection:
            found = connection.execute("select district_id from districts order by 1").fetchall()
            found += connection.execute("select last_value from counter").fetchall()
            connection.execute("delete from districts where district_id = 9")
            connection.execute("select setval('counter', 1)")
            return found

    def in_mariadb():
        with maria.connect("works") as connection, connection.cursor() as cursor:
            cursor.execute("select next_not_cached_value from counter")
            return cursor.fetchall()

    def in_file(connect, path):
        with closing(connect(path)) as connection:
            return connection.execute("select district_id from districts").fetchall()

    in_postgresql()
    return {
        "postgresql": (metering | {"user": "ladle"}, cluster.password, in_postgresql),
        "mariadb": (works | {"user": "root"}, maria.password, in_mariadb),
        "sqlite": ({"path": str(lite)}, "", partial(in_file, sqlite3.connect, lite)),
        "duckdb": ({"path": str(duck)}, "", partial(in_file, lambda path: duckdb.connect(str(path)), duck)),
        "files": ({"folder": str(folder)}, "", list),
    }


def carried_out(attack, address, secret):
    """What came back, as text."""
    bound = resolve(
        [Parameter("p")], {"p": attack.value or "x"}, date(2026, 11, 24), datetime(2026, 11, 24, tzinfo=timezone.utc)
    )
    session = get_engine(attack.engine).open(address, secret)
    try:
        session.describe(Statement(attack.text, bound))
        return str([cells.to_pylist() for batch in session.batches(attack.soon) for cells in batch.cells])
    except (LadleError, psycopg.Error, ValueError):
        return ""
    finally:
        session.close()


def harm(attack, sources, off):
    """Whether a row, a sequence or a file was reached with these guards off."""
    address, secret, look = sources[attack.engine]
    before = look()
    with pytest.MonkeyPatch.context() as patch:
        for guard in off:
            for target, name, instead in OFF[guard]:
                patch.setattr(target, name, instead)
        said = carried_out(attack, address, secret)
    return any(mark in said for mark in MARKS) or look() != before


@pytest.mark.parametrize("attack", ATTACKS, ids=lambda a: f"{a.engine}: {a.text[:50]!r}")
def test_each_guard_holds_alone_and_without_any_the_harm_is_done(attack, sources):
    for guard in attack.guards:
        others = [each for each in attack.guards if each != guard]
        assert not harm(attack, sources, others), f"{guard} alone let it through"
    assert harm(attack, sources, attack.guards), "with every guard off nothing happens: this proves nothing"


@pytest.mark.parametrize("engine", ["sqlite", "duckdb"])
def test_a_parameter_in_what_the_database_takes_for_a_string_is_refused(engine, sources, monkeypatch):
    address, secret, _ = sources[engine]
    for target, name, instead in OFF["cutting"]:
        monkeypatch.setattr(target, name, instead)
    bound = resolve([Parameter("p")], {"p": "x"}, date(2026, 11, 24), datetime(2026, 11, 24, tzinfo=timezone.utc))
    refused = pytest.raises(StatementRefused, match="finds 0 parameters in the statement where 1 are written")
    with closing(get_engine(engine).open(address, secret)) as session, refused:
        session.describe(Statement("select ':p' as a", bound))


@pytest.mark.parametrize("engine", ["duckdb", "files"])
def test_a_session_that_reads_files_of_the_host_fails_its_check(engine, sources, monkeypatch):
    address, secret, _ = sources[engine]
    assert all(step.passed for step in get_engine(engine).check(address, secret))
    for target, name, instead in OFF["no files"]:
        monkeypatch.setattr(target, name, instead)
    last = get_engine(engine).check(address, secret)[-1]
    assert (last.step, last.passed) == ("read-only", False)
    with closing(get_engine(engine).open(address, secret)) as session, pytest.raises(SourceWritable, match="let 'select"):
        session.prove_read_only()


def test_a_name_that_was_chosen_passes_the_gate_too(sources):
    address, secret, _ = sources["postgresql"]
    chosen = Parameter.from_dict({"name": "call", "type": "identifier", "allowed": ["pg_read_file", "upper"]})
    for name, passes in (("upper", True), ("pg_read_file", False)):
        bound = resolve([chosen], {"call": name}, date(2026, 11, 24), datetime(2026, 11, 24, tzinfo=timezone.utc))
        with closing(get_engine("postgresql").open(address, secret)) as session:
            try:
                session.describe(Statement(f"select :call('{HOST_FILE}')", bound))
                assert passes
            except StatementRefused as refused:
                assert not passes
                assert "a call of 'pg_read_file'" in refused.message


@pytest.mark.parametrize("text", ["select lo_get(1)", "select * from pg_authid", "select current_setting('data_directory')", "select current_setting(name) from pg_class",
                                  "select * from pg_settings", "with x as (delete from districts returning 1) select * from x", "select 1) as x, (select 2",
                                  "select setting from \"pg_settings\"", 'select "pg_read_file"(\'/etc/passwd\')'])  # fmt: skip
def test_the_gate_names_what_more_than_reads_or_tells_of_the_server(text):
    with pytest.raises(StatementRefused) as refused:
        base.gated(Statement(text), postgresql.POSTGRESQL)
    assert "line 1, column" in refused.value.message


def test_a_function_in_c_is_refused_whatever_its_name(sources, cluster):
    address, secret, _ = sources["postgresql"]
    with psycopg.connect(cluster.url("metering"), autocommit=True) as connection:
        connection.execute(
            "create or replace function friendly(text) returns text language internal volatile as 'pg_read_file_all'"
        )
    attack = Attack("postgresql", (), f"select friendly('{HOST_FILE}')")
    assert not any(mark in carried_out(attack, address, secret) for mark in MARKS)
    assert "Alder" in carried_out(Attack("postgresql", (), "select upper(name), name from districts"), address, secret)
