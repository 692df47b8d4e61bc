"""Any name that a database takes for a table or a column is browsed, counted, profiled and put together."""

from __future__ import annotations

import sqlite3
from contextlib import closing, suppress
from datetime import date, datetime, timezone

import duckdb
import psycopg
import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.adapters.sources import get_engine
from patient_ladle.core.errors import SourceNotReadable, StatementWrong
from patient_ladle.core.ports import Reading, Statement
from patient_ladle.core.results.source_profile import Subject, source_profile
from patient_ladle.core.runs.preview import PreviewLimits, first_rows
from patient_ladle.core.statements.catalogue import names_of
from patient_ladle.core.statements.dialects import READ_OTHERWISE
from patient_ladle.core.statements.outlines.looks import of_look, whole_tables
from patient_ladle.core.statements.outlines.outline import Outline
from patient_ladle.core.statements.views import Filter
from patient_ladle.core.values.parameters import resolve
from tests.conftest import READER_PASSWORD
from tests.profile import examples

DAY, AT = date(2026, 11, 24), datetime(2026, 11, 24, 6, 5, tzinfo=timezone.utc)
NAMES = ("has blank", "a.b", 'Quo"te', "it's", "select", "Ünï", "x" * 60, "a`b", "[b]", "1st", ":p", "-- c", "a;b", "{x}", "$y$", "\U0001f600", "?", "%s",
         "back\\slash", "/* c */", "ﬁ", "a  b", "_", "t_", "null", "order", "has-dash", "x:y", "a::int", "(a)", "#1", "@v", "due_time", "struct", "interval", "current_date", "_latin1", "1e5")  # fmt: skip
ODD = st.text(
    st.one_of(
        st.sampled_from(" .\"'`[]:;-$?%\\/*(){}#@_aZ9é"), st.characters(exclude_categories=("Cc", "Cs", "Cn", "Co", "Zl", "Zp"))
    ),
    min_size=1,
    max_size=12,
)


def looked_at(engine, address, secret, table):
    """All that the console does with a table, from its name in the catalogue."""
    language = engine.language
    outlines = language.outlines()

    def rows(statement, parameters=(), values=()):
        bound = resolve(list(parameters), dict(values), DAY, AT)
        with closing(engine.open(address, secret)) as session:
            return first_rows(session, Statement(statement, bound, reading=Reading({})), PreviewLimits(rows=5))["rows"]

    views = language.views(table)
    names = [column["name"] for column in table["columns"]]
    view = views.rows([Filter(names[0], "is", "7")], sort=names[-1])
    assert rows(view.statement, view.parameters, view.values) == [["7", "fen"]]
    assert rows(views.count([]).statement) == [["2"]]
    outline, parameters = of_look(table, [Filter(names[0], "is", "7")], names[-1], columns=names, as_parameters=True)
    made = outlines.compiled(outline, [table], parameters)
    assert rows(made.statement, [*parameters, *made.parameters]) == [["7", "fen"]]
    [(_, whole)] = whole_tables([names_of(table)], [table])
    again = Outline.from_dict(whole.to_dict())
    assert len(rows(outlines.compiled(again, [table], []).statement)) == 2
    counting = outlines.counting(again, [table], [])
    assert rows(counting.statement)[0][0] == "2"
    subject = Subject(language, table, names[0], [])
    found = source_profile(subject, lambda made: rows(made.statement, made.parameters))
    assert found.profile.to_dict()["rows"] == 2


@examples(1.5)
@given(ODD, ODD | st.sampled_from(sorted(READ_OTHERWISE)), st.sampled_from(["duckdb", "sqlite"]))
def test_any_name_is_looked_at(home, table, column, kind):
    path = home / f"odd_names.{kind}"
    path.unlink(missing_ok=True)
    quoted = [name.replace('"', '""') for name in (table, column)]
    made = closing(duckdb.connect(str(path)) if kind == "duckdb" else sqlite3.connect(path))
    with made as connection, suppress(duckdb.Error, sqlite3.Error):  # a name that the database does not take
        connection.execute(f'create table "{quoted[0]}" ("{quoted[1]}" integer, "z z" varchar)')
        connection.execute(f"insert into \"{quoted[0]}\" values (7, 'fen'), (8, 'moor')")
        connection.commit()
    engine = get_engine(kind)
    with closing(engine.open({"path": str(path)}, "")) as session:
        catalogue = session.catalogue()
    for found in catalogue:
        looked_at(engine, {"path": str(path)}, "", found)


@pytest.fixture(scope="module")
def servers(cluster, metering, maria, works):
    """PostgreSQL and MariaDB with a table of each name, and a column of the same."""
    cluster.make_database("odd_names")
    taken = {}
    with psycopg.connect(cluster.url("odd_names"), autocommit=True) as connection:
        for name in NAMES:
            quoted = name.replace('"', '""')
            connection.execute(f'create table "{quoted}" ("{quoted}" integer, "z z" text)')
            connection.execute(f"insert into \"{quoted}\" values (7, 'fen'), (8, 'moor')")
        connection.execute("grant select on all tables in schema public to reader")
    taken["postgresql"] = (metering | {"database": "odd_names"}, len(NAMES))
    maria.carry_out(
        ["create database odd_names", "create user namer identified by 'reading-only'", "grant select on odd_names.* to namer"]
    )
    made = [name for name in NAMES if max(name) < "\U00010000"]
    for name in made:
        quoted = name.replace("`", "``")
        maria.carry_out(
            [
                f"create table `{quoted}` (`{quoted}` integer, `z z` text)",
                f"insert into `{quoted}` values (7, 'fen'), (8, 'moor')",
            ],
            "odd_names",
        )
    taken["mariadb"] = (works | {"database": "odd_names", "user": "namer"}, len(made))
    return taken


@pytest.mark.parametrize("name", ["postgresql", "mariadb"])
def test_every_name_of_a_server_is_looked_at(servers, name):
    engine, (address, count) = get_engine(name), servers[name]
    with closing(engine.open(address, READER_PASSWORD)) as session:
        catalogue = session.catalogue()
    assert len(catalogue) == count
    for found in catalogue:
        looked_at(engine, address, READER_PASSWORD, found)


def test_one_bad_file_closes_none_of_the_others(tmp_path):
    (tmp_path / "good.csv").write_text("a,b\n1,2\n")
    (tmp_path / "wide.csv").write_bytes("a,b\n1,2\n".encode("utf-16"))
    (tmp_path / "goo.parquet").write_bytes(b"junk")  # its name begins as a good one's does
    engine, address = get_engine("files"), {"folder": str(tmp_path)}
    with closing(engine.open(address, "")) as session:
        found = {table["name"]: table for table in session.catalogue()}
    assert [[column["name"] for column in found[name]["columns"]] for name in ("good", "wide", "goo")] == [["a", "b"], [], []]
    for name, file in (("wide", "wide.csv"), ("goo", "goo.parquet")):
        assert f"'{file}' cannot be read" in found[name]["comment"]
        with closing(engine.open(address, "")) as session, pytest.raises(SourceNotReadable, match=file):
            session.describe(Statement(f"select g.a from good g, {name}", resolve([], {}, DAY, AT)))
    with closing(engine.open(address, "")) as session:
        assert first_rows(session, Statement("select a from good", resolve([], {}, DAY, AT)), PreviewLimits(rows=5))[
            "rows"
        ] == [["1"]]
        assert "3 tables can be seen; 2 cannot be read" in session.probe()
    (tmp_path / "good.csv").unlink()
    with closing(engine.open(address, "")) as session, pytest.raises(SourceNotReadable, match="none of the tables can be read"):
        session.probe()


def test_a_bad_file_is_told_of_where_it_is_meant_whatever_its_name(tmp_path):
    (tmp_path / "good.csv").write_text("a,b\n1,2\n")
    for name in ("bad one", "column"):
        (tmp_path / f"{name}.parquet").write_bytes(b"junk")
    engine, address = get_engine("files"), {"folder": str(tmp_path)}
    for text, wanted in (
        ('select * from "bad one"', "bad one.parquet"), ("select zz as column_zz from good", "zz"), ("select * from nowhere", "nowhere"),
    ):  # fmt: skip
        with closing(engine.open(address, "")) as session, pytest.raises((SourceNotReadable, StatementWrong), match=wanted):
            session.describe(Statement(text, resolve([], {}, DAY, AT)))
