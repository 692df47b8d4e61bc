"""A start: what it has to migrate, and what it need not."""

from __future__ import annotations

import psycopg
import pytest

from patient_ladle.service.processes.supervisor import _up_to_date


@pytest.fixture
def ledger(cluster):
    """A connection to a migrated ledger in which somebody may sign in; what a test does there is taken back."""
    with psycopg.connect(cluster.url("ladle")) as connection:
        yield connection
        connection.rollback()


def test_a_second_start_sees_that_nothing_is_to_be_migrated(ledger, repository):
    assert _up_to_date(ledger)


@pytest.mark.parametrize("missing", [("runs", "0001_initial"), ("notices", "0001_initial"), ("sessions", "0001_initial")])
def test_a_migration_that_is_missing_is_seen(ledger, repository, missing):
    """Under the name that it is on record by, which need not be its folder's."""
    gone = ledger.execute("delete from django_migrations where (app, name) = (%s, %s) returning 1", missing).fetchall()
    assert gone
    assert not _up_to_date(ledger)


def test_a_ledger_without_anybody_is_not_up_to_date(ledger, repository):
    ledger.execute("set local session_replication_role = replica")
    ledger.execute("delete from people_person")
    assert not _up_to_date(ledger)
