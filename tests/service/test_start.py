"""A start: what it has to migrate, what it need not, and what it refuses before anything begins."""

from __future__ import annotations

import os
import subprocess
import sys

import psycopg
import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle import variables
from patient_ladle.service.processes.ledger_database import is_ready, schema_of
from patient_ladle.service.processes.private_server import ServerFailed
from tests.profile import examples


@pytest.fixture
def ledger(cluster):
    """A connection to a migrated ledger in which somebody may sign in; what a test does there is taken back."""
    with psycopg.connect(cluster.url("ladle")) as connection:
        yield connection
        connection.rollback()


def test_a_second_start_sees_that_nothing_is_to_be_migrated(ledger, repository):
    schema = schema_of(ledger)
    schema.refuse_other()
    assert is_ready(ledger, schema)


@pytest.mark.parametrize("missing", [("runs", "0001_initial"), ("notices", "0001_initial"), ("sessions", "0001_initial")])
def test_a_migration_that_is_missing_is_seen(ledger, repository, missing):
    """Under the name that it is on record by, which need not be its folder's."""
    gone = ledger.execute("delete from django_migrations where (app, name) = (%s, %s) returning 1", missing).fetchall()
    assert gone
    schema = schema_of(ledger)
    assert schema.missing == {missing}
    schema.refuse_newer()
    with pytest.raises(ServerFailed, match="an older release"):
        schema.refuse_other()


def test_a_ledger_without_anybody_is_not_ready(ledger, repository):
    ledger.execute("set local session_replication_role = replica")
    ledger.execute("delete from people_person")
    assert not is_ready(ledger, schema_of(ledger))


def started(*words, **more):
    """What a part of the service says that cannot start, and its exit status; nothing of it waits for anything."""
    own = {key: value for key, value in os.environ.items() if not key.startswith("LADLE_")} | more
    done = subprocess.run(
        [sys.executable, "-m", "patient_ladle.service", *words], env=own, capture_output=True, text=True, timeout=100
    )
    assert "Traceback" not in done.stderr
    assert not done.stdout
    return done.returncode, done.stderr


@pytest.fixture(scope="module")
def newer(cluster, orm):
    """A ledger that a newer release has migrated."""
    cluster.make_database("newer")
    with psycopg.connect(cluster.url("newer"), autocommit=True) as connection:
        connection.execute("create table django_migrations (id serial, app text, name text, applied timestamptz)")
        with psycopg.connect(cluster.url("ladle")) as other:
            rows = other.execute("select app, name from django_migrations").fetchall()
        connection.cursor().executemany(
            "insert into django_migrations (app, name) values (%s, %s)", [*rows, ("runs", "0999_of_tomorrow")]
        )
    return cluster.url("newer")


@pytest.mark.parametrize("words", [("start",), ("worker", "--alone"), ("web",), ("scheduler",)])
def test_a_newer_ledger_is_refused_by_every_part(newer, tmp_path, words):
    status, said = started(*words, LADLE_DATABASE_URL=newer, LADLE_DATA=str(tmp_path))
    assert status == 1
    assert "of a newer release of Patient Ladle: this one does not know its migration 'runs.0999_of_tomorrow'" in said
    assert "Start that release, or restore the dump" in said


def wrong_urls(url):
    """What cannot be, and what it says of that."""
    login = url.partition("@")[0].rpartition(":")[0]
    at = url.partition("@")[2]
    return {
        f"{login}:wrong@{at}": "does not let us in",
        f"{url.partition('@')[0]}@127.0.0.1:9/ladle": "at 127.0.0.1, port 9 does not let us in",
        f"{url}_of_nobody": "does not let us in",
        f"{url}?sslmode=verify-full&sslrootcert=/nowhere/ca.pem": "does not let us in",
        f"{url.partition('@')[0]}@nowhere.fennmoor.invalid/ladle": "at nowhere.fennmoor.invalid, port 5432 does not let us in",
    }


def test_a_service_database_that_does_not_let_us_in_is_told_of_in_words_that_hide_its_password(cluster, tmp_path):
    for url, words in wrong_urls(cluster.url("ladle")).items():
        for part in (("start",), ("worker", "--alone")):
            status, said = started(*part, LADLE_DATABASE_URL=url, LADLE_DATA=str(tmp_path))
            assert status == 1
            assert words in said
            assert "LADLE_DATABASE_URL" in said
            assert cluster.url("ladle").split(":")[2].partition("@")[0] not in said


WRONG = {
    "LADLE_PORT": "abc", "LADLE_TIME_ZONE": "Nowhere/Fen", "LADLE_RETENTION_DAYS": "-1", "LADLE_SUMMARY_AT": "seven",
    "LADLE_LOG_LEVEL": "LOUD", "LADLE_DELIVERY_ROOTS": "relative", "LADLE_DATABASE_URL": "mysql://hush@h/x", "LADLE_PUBLIC_URL": "ladle",
    "LADLE_STALE_SECONDS": "soon", "LADLE_WEBHOOK_PRIVATE": "perhaps", "LADLE_RUN_MEMORY_MB": "1e3", "LADLE_RESULT_STORE": "s3://",
    "LADLE_QUERY_SECONDS": "nan", "LADLE_SCRATCH_MB": "20GB", "LADLE_DEMO_DATE": "yesterday", "LADLE_BUCKET_SECONDS": "", "LADLE_PROT": "1",
}  # fmt: skip


@pytest.mark.parametrize("words", [("start",), ("database",), ("worker", "--alone"), ("web",), ("migrate",), ("settings",)])
def test_every_wrong_variable_is_told_by_name_at_once_before_anything_starts(tmp_path, words):
    status, said = started(*words, **WRONG, LADLE_DATA=str(tmp_path / "data"))
    assert status == 2
    told = {line.split()[1].rstrip(":") for line in said.splitlines()}
    assert told == set(WRONG) - {"LADLE_BUCKET_SECONDS", "LADLE_PROT"}
    assert "LADLE_PORT: it is 'abc'; wanted is a whole number from 1 to 65,535." in said
    assert "hush" not in said
    assert not (tmp_path / "data").exists()


@examples(4)
@given(
    st.sampled_from(sorted(variables.SETTING)),
    st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0"), max_size=12),
)
def test_whatever_a_variable_says_it_is_taken_or_told_by_its_name(name, text):
    try:
        variables.SETTING[name].value({name: text})
    except variables.WrongVariables as wrong:
        assert wrong.lines[0].startswith(name)
        assert "wanted is" in wrong.lines[0]


def test_defaults_are_right_and_what_is_nearly_a_name_is_said():
    variables.refuse_wrong({})
    assert variables.misspelled(
        {"LADLE_PROT": "1", "LADLE_SOURCE_BILLING": "x", "LADLE_SOURCE_ROOT": "/x", "LADLE_URL": "x", "PATH": ""}
    ) == [
        "LADLE_PROT is set and has no effect: is LADLE_PORT meant?",
        "LADLE_SOURCE_ROOT is set and has no effect: is LADLE_SOURCE_ROOTS meant?",
    ]


def test_nothing_of_the_service_asks_for_a_variable_of_its_own():
    """But for what is not one: secrets of sources, and what a start hands on to its parts."""
    asked = subprocess.run(
        ["git", "grep", "-nE", r"environ(\.get\(|\[)\"LADLE_", "--", "src/patient_ladle/service", "src/patient_ladle/adapters", "src/patient_ladle/core"],
        capture_output=True, text=True, check=False,
    ).stdout  # fmt: skip
    allowed = ("LADLE_DATABASE_URL", "LADLE_DATA", "LADLE_TOKEN")
    assert [line for line in asked.splitlines() if not any(f'"{name}"' in line for name in allowed)] == []


def test_all_options_of_the_databases_address_reach_every_connection(cluster, tmp_path):
    """The server itself says what it was told, by Django's pool and by the connection that listens."""
    url = f"{cluster.url('ladle')}?application_name=fennmoor&options=-c%20statement_timeout%3D4321"
    asked = (
        "import django; django.setup()\nfrom django.db import connection\nfrom django.conf import settings\nimport psycopg\n"
        "ask = \"select current_setting('application_name'), current_setting('statement_timeout'), current_setting('lock_timeout')\"\n"
        "with connection.cursor() as cursor: cursor.execute(ask); print(cursor.fetchone())\n"
        "with psycopg.connect(settings.DATABASE_URL) as other: print(other.execute(ask).fetchone())\n"
    )
    own = os.environ | {
        "LADLE_DATABASE_URL": url,
        "LADLE_DATA": str(tmp_path),
        "DJANGO_SETTINGS_MODULE": "patient_ladle.service.settings",
    }
    said = subprocess.run(
        [sys.executable, "-c", asked], env=own, capture_output=True, text=True, check=True
    ).stdout.splitlines()
    assert said == ["('fennmoor', '4321ms', '20s')", "('fennmoor', '4321ms', '0')"]
