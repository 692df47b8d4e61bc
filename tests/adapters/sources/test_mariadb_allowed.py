"""What may be called, asked and read in MariaDB, held against all that the server itself knows, as one who may do everything."""

from __future__ import annotations

from pathlib import Path

import pytest

from patient_ladle.adapters.sources import get_engine, mariadb, mariadb_allowed
from patient_ladle.adapters.sources.mariadb_allowed import CATALOGUE, FUNCTIONS, OWN_DATABASES, VARIABLES
from patient_ladle.core.errors import LadleError, StatementRefused
from patient_ladle.core.ports import Statement
from tests.adapters.sources.cases.reads import TOLD

HONEST = [line for line in (Path(__file__).parent / "cases" / "honest_mariadb.txt").read_text().splitlines() if line]
OWN = (
    "create function works.f_plain(a int) returns int deterministic sql security invoker return a + 1",
    "create function works.f_reads(a int) returns int reads sql data sql security invoker return (select count(*) from works.districts)",
    "create function works.f_definer(a int) returns int modifies sql data return a",
)
THEIR_OWN = ("mysql_native_password",)
"""Stands in the text of a view of the server's own."""
REFUSED = {
    "benchmark",
    "binlog_gtid_pos",
    "des_decrypt",
    "des_encrypt",
    "get_lock",
    "is_free_lock",
    "is_used_lock",
    "load_file",
    "master_gtid_wait",
    "master_pos_wait",
    "release_all_locks",
    "release_lock",
    "wsrep_last_seen_gtid",
    "wsrep_last_written_gtid",
    "wsrep_sync_wait_upto_gtid",
}


@pytest.fixture(scope="module")
def root(maria, works):
    with maria.connect("works") as connection, connection.cursor() as cursor:
        for each in OWN:
            cursor.execute(each)
        yield cursor
        for name in ("f_plain", "f_reads", "f_definer"):
            cursor.execute(f"drop function works.{name}")


@pytest.fixture
def session(maria, works, root, request):
    permitted = getattr(request, "param", [])
    made = get_engine("mariadb").open(works | {"user": "root", "permitted": permitted}, maria.password)
    yield made
    made.close()


def fetched(session, text):
    session.describe(Statement(text))
    return [cell for batch in session.batches() for cells in batch.cells for cell in cells.to_pylist()]


def refused(session, text):
    with pytest.raises(StatementRefused, match="does more than read") as told:
        fetched(session, text)
    return told.value


def names(cursor, query):
    cursor.execute(query)
    return {str(name).lower() for (name,) in cursor.fetchall()}


def test_every_function_that_the_server_knows_is_listed_or_refused(root, session, found):
    known = names(root, "select function from information_schema.sql_functions")
    assert known - FUNCTIONS.keys() == REFUSED
    for name in sorted(known - FUNCTIONS.keys()):
        refused(session, f"select {name}('/etc/passwd', 1)")
        refused(session, f"select `{name}` ('/etc/passwd', 1)")
    found(f"functions of MariaDB: {len(known & FUNCTIONS.keys())} of {len(known)} listed, the rest refused")


@pytest.mark.parametrize("name", sorted(FUNCTIONS))
def test_what_is_listed_tells_nothing_of_host_and_accounts(session, name):
    for given in ("'/etc/passwd'", "'/etc/passwd', '/etc/passwd'", "'select 1', 1, 1", "'mysql.user', 'mysql', 'user', 1"):
        try:
            answer = fetched(session, f"select {name}({given})")
        except LadleError as error:
            answer = [error.message]
        assert not any(word in str(cell) for word in TOLD for cell in answer), (name, answer)


def test_every_variable_and_every_table_of_the_servers_own_is_closed_unless_it_is_listed(root, session, found):
    variables = names(root, "select variable_name from information_schema.system_variables")
    assert len(variables) > 600
    for name in sorted(variables - VARIABLES):
        refused(session, f"select @@{name}")
    for form in ("@@global.{}", "@@`{}`", "@@session . {}"):
        refused(session, f"select {form.format('datadir')}")
    own = 0
    for schema in OWN_DATABASES:
        for name in sorted(names(root, f"show tables from {schema}")):
            if schema == "information_schema" and name in CATALOGUE:
                told = [str(cell) for cell in fetched(session, f"select * from {schema}.{name}")]
                assert not any(word in cell for word in TOLD if word not in THEIR_OWN for cell in told), name
            else:
                refused(session, f"select * from `{schema}`.`{name}`")
            own += 1
    found(
        f"of MariaDB {len(variables & VARIABLES)} of {len(variables)} variables and {len(CATALOGUE)} of {own} own tables are open"
    )


@pytest.mark.parametrize(
    "text",
    [
        "select sys.version_major()",
        "select sys_exec('touch /tmp/x')",
        "select works.sys_exec('touch /tmp/x')",
        "with load_file (a) as (select 1) select load_file('/etc/passwd')",
        "select 1, sys_eval('id') as (a)",
        "select @@hostname, @@plugin_dir, @@pid_file, @@socket, @@port",
        "select * from information_schema.session_status",
        "select trx_query from information_schema.innodb_trx",
        "select * from information_schema.user_variables",
        "select lastval(works.counter)",
    ],
)
def test_what_looks_further_than_the_data_is_refused(session, text):
    assert refused(session, text).facts["line"] == 1


@pytest.mark.parametrize("text", HONEST)
def test_honest_statements_pass(session, text):
    session.describe(Statement(text))


def test_functions_of_peoples_own_are_called_with_a_remark(session):
    assert fetched(session, "select f_plain(1), f_definer(2)") == ["2", "2"]
    assert session.remarks == [
        "function works.f_definer has its owner's rights, which may be more than the login's",
        "function works.f_definer says that it writes, which the session refuses",
    ]


@pytest.mark.parametrize("session", [["@@datadir", "information_schema.session_status", "benchmark"]], indirect=True)
def test_what_an_administrator_permits_is_asked(session):
    fetched(session, "select @@datadir")
    fetched(session, "select * from information_schema.session_status")
    refused(session, "select @@hostname")


def test_a_source_whose_database_is_the_servers_own_reads_nothing(maria, works):
    session = get_engine("mariadb").open(works | {"user": "root", "database": "mysql"}, maria.password)
    try:
        refused(session, "select host from user")
    finally:
        session.close()


def test_a_judge_that_is_switched_off_lets_it_through(session, monkeypatch):
    monkeypatch.setattr(mariadb_allowed.Judge, "judge", lambda *_: [])
    monkeypatch.setattr(mariadb, "gated", lambda statement, _: statement.text)
    assert any(cell.startswith("cm9vd") for cell in fetched(session, "select load_file('/etc/passwd')"))
    assert fetched(session, "select @@datadir")
