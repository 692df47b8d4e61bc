"""What may be called and read in DuckDB, held against all that the engine itself has."""

from __future__ import annotations

from contextlib import closing
from pathlib import Path

import duckdb
import pytest

from patient_ladle.adapters.sources import duckdb_allowed, get_engine
from patient_ladle.adapters.sources.duckdb_allowed import CATALOGUE, FUNCTIONS, RULES, Function, rule_of
from patient_ladle.core.errors import LadleError, StatementRefused
from patient_ladle.core.ports import Statement
from tests.adapters.sources.cases.reads import TOLD
from tests.profile import LONG

HONEST = [line for line in (Path(__file__).parent / "cases" / "honest_duckdb.txt").read_text().splitlines() if line]


@pytest.fixture(scope="module")
def path(home):
    made = home / "allowed.duckdb"
    with closing(duckdb.connect(str(made))) as connection:
        connection.execute("create table districts (district_id int, name text, zone text)")
        connection.execute("insert into districts values (1, 'Alder Moor', 'North')")
        connection.execute("create macro own_double(a) as a * 2")
        connection.execute("create macro own_rows(a) as table select * from range(a)")
    return made


@pytest.fixture(scope="module")
def folder(home):
    made = home / "allowed-files"
    made.mkdir()
    (made / "districts.csv").write_text("district_id,name,zone\n1,Alder Moor,North\n")
    return made


def fetched(engine, address, text):
    session = get_engine(engine).open(address, "")
    try:
        session.describe(Statement(text))
        return [cell for batch in session.batches() for cells in batch.cells for cell in cells.to_pylist()]
    finally:
        session.close()


def every_function():
    with closing(duckdb.connect()) as connection:
        query = "select distinct lower(function_name), schema_name, function_type, stability, internal from duckdb_functions()"
        return [Function(*row) for row in connection.execute(query).fetchall()]


def test_few_rules_and_a_short_list_cover_what_may_be_called(found):
    every = every_function()
    assert len(RULES) <= 15
    assert {*FUNCTIONS} <= {one.name for one in every} | {"pragma_show"}
    tables = {one.name for one in every if one.kind in ("table", "table_macro", "pragma") and rule_of(one)}
    assert tables <= {*FUNCTIONS}, "what gives rows, or does something, is allowed by name alone"
    found(f"functions of DuckDB: {sum(bool(rule_of(one)) for one in every)} of {len(every)} allowed")


def test_what_is_under_no_rule_is_refused_in_every_form(path, folder):
    refused = {one.name for one in every_function()} - {one.name for one in every_function() if rule_of(one)}
    assert len(refused) > 90
    for engine, address in (("duckdb", {"path": str(path)}), ("files", {"folder": str(folder)})):
        with closing(get_engine(engine).open(address, "")) as session:
            for name in sorted(refused):
                refuses(session, name)


def refuses(session, name):
    for text in (
        f"select {name}('/etc/passwd')",
        f"select * from \"{name}\" ('/etc/passwd')",
        f"select ('/etc/passwd').{name}()",
    ):
        with pytest.raises(LadleError, match=r"does more than read|syntax error at or near .show|name show does not exist"):
            session.describe(Statement(text))


def test_what_is_allowed_tells_nothing_of_the_host(path):
    names = sorted({one.name for one in every_function() if rule_of(one) and (one.name[0].isalpha() or one.name[0] == "_")})
    assert len(names) > 700
    with closing(get_engine("duckdb").open({"path": str(path)}, "")) as session:
        for number, name in enumerate(name for name in names if not name.startswith("icu_collate")):
            tells_nothing(session, name, HOSTILE if LONG else [HOSTILE[number % len(HOSTILE)]])


HOSTILE = ("'/etc/passwd'", "'/etc/passwd', '/etc/passwd'", "['/etc/passwd']", "'select * from read_text(''/etc/passwd'')'")


def tells_nothing(session, name, texts):
    for text in (form.format(name, given) for given in texts for form in ("select {}({})", "select * from {}({})")):
        try:
            session.describe(Statement(text))
            answer = [str(cell) for batch in session.batches() for cells in batch.cells for cell in cells.to_pylist()]
        except LadleError as error:
            answer = [error.message]
        assert not any(word in cell for word in TOLD for cell in answer), (text, answer)


@pytest.mark.parametrize(
    "text",
    [
        "select * from histogram('duckdb_settings', name)",
        "select * from districts, histogram('duckdb_settings', name)",
        "from districts d join histogram('duckdb_settings', name) h on true",
        "select * from districts d join districts e on true, histogram('duckdb_settings', name)",
        "select * from districts d join (select 1 as \"order\") q on q.order = 1, histogram('duckdb_settings', name)",
        "select * from districts values, histogram('duckdb_settings', name)",
        "select (select bin from histogram('duckdb_settings', name) limit 1)",
        "select * from (from histogram('duckdb_settings', name))",
    ],
)
def test_a_name_that_is_an_aggregate_and_a_table_is_refused_where_tables_stand(path, text):
    with pytest.raises(StatementRefused, match="'histogram'"):
        fetched("duckdb", {"path": str(path)}, text)


def test_every_view_of_the_engines_own_is_closed_unless_it_is_listed(path):
    with closing(duckdb.connect()) as connection:
        own = connection.execute("select schema_name, view_name from duckdb_views() where internal").fetchall()
    assert len(own) > 40
    for schema, name in own:
        if name in CATALOGUE:
            fetched("duckdb", {"path": str(path)}, f'select * from {schema}."{name}"')
        else:
            with pytest.raises(StatementRefused, match="does more than read"):
                fetched("duckdb", {"path": str(path)}, f'select * from {schema}."{name}"')


@pytest.mark.parametrize("text", HONEST)
def test_honest_statements_pass(path, folder, text):
    fetched("duckdb", {"path": str(path)}, text)
    if "own_" not in text and "sqlite_master" not in text:
        fetched("files", {"folder": str(folder)}, text)


def test_what_an_administrator_permits_is_called(path):
    text = "select library_version from pragma_version()"
    with pytest.raises(StatementRefused, match=r"'pragma_version'.*\(line 1, column 29\)"):
        fetched("duckdb", {"path": str(path)}, text)
    assert fetched("duckdb", {"path": str(path), "permitted": ["pragma_version"]}, text)


def test_a_judge_that_is_switched_off_lets_it_through(path, monkeypatch):
    monkeypatch.setattr(duckdb_allowed.Judge, "judge", lambda *_: None)
    assert fetched("duckdb", {"path": str(path)}, "select library_version from pragma_version()")
