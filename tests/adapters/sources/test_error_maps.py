"""The one map from each driver's errors to ours: what may pass, what a person must correct, and nothing left unmapped."""

from __future__ import annotations

import sqlite3

import duckdb
import psycopg
import pymysql
import pytest

from patient_ladle.adapters.sources import duckdb_session, mariadb_errors, postgresql, sqlite
from patient_ladle.core.errors import (
    ConnectionLost,
    LadleError,
    RunCancelled,
    SourceNotReadable,
    SourceUnreachable,
    StatementFailed,
    StatementRefused,
    StatementWrong,
)

STATES = {
    "57014": RunCancelled, "08006": ConnectionLost, "08P01": ConnectionLost, "57P01": ConnectionLost, "57P03": ConnectionLost,
    "53300": SourceUnreachable, "25006": StatementRefused, "42501": SourceNotReadable, "42P01": StatementWrong, "42703": StatementWrong,
    "42601": StatementWrong, "0A000": StatementWrong, "22012": StatementFailed, "22P02": StatementFailed, "40001": StatementFailed,
    "XX000": StatementFailed,
}  # fmt: skip
NUMBERS = {
    1317: RunCancelled, 2013: ConnectionLost, 2006: ConnectionLost, 1053: ConnectionLost, 1040: SourceUnreachable, 1792: StatementRefused,
    1142: SourceNotReadable, 1143: SourceNotReadable, 1146: StatementWrong, 1054: StatementWrong, 1064: StatementWrong,
    1365: StatementFailed, 1690: StatementFailed, 9999: StatementFailed,
}  # fmt: skip
WORDS = {
    "interrupted": RunCancelled, "not authorized": StatementRefused, "attempt to write a readonly database": StatementRefused,
    "database is locked": SourceUnreachable, "file is not a database": SourceNotReadable, "no such table: x": StatementWrong,
    'near "x": syntax error': StatementWrong, "string or blob too big": StatementFailed,
}  # fmt: skip
CLASSES = {
    duckdb.InterruptException: RunCancelled, duckdb.PermissionException: StatementRefused, duckdb.ParserException: StatementWrong,
    duckdb.BinderException: StatementWrong, duckdb.CatalogException: StatementWrong, duckdb.OutOfMemoryException: StatementFailed,
    duckdb.IOException: SourceNotReadable, duckdb.ConversionException: StatementFailed, duckdb.InternalException: StatementFailed,
}  # fmt: skip


def told(found, wanted):
    assert type(found) is wanted
    assert (found.message[-1], bool(found.hint)) == (".", True)
    assert found.transient == (wanted in (ConnectionLost, SourceUnreachable))
    assert isinstance(found, LadleError)


@pytest.mark.parametrize(("state", "wanted"), STATES.items())
def test_postgresql_by_sqlstate(state, wanted):
    error = type("Given", (psycopg.Error,), {"sqlstate": state})("what happened\nDETAIL: more")
    told(postgresql._translate(error), wanted)


def test_every_sqlstate_that_the_driver_knows_has_an_error_of_ours():
    for state in psycopg.errors._sqlcodes:
        found = postgresql._translate(psycopg.errors.lookup(state)("what happened"))
        assert found.hint, state


@pytest.mark.parametrize(("number", "wanted"), NUMBERS.items())
def test_mariadb_by_error_number(number, wanted):
    told(mariadb_errors.translate(pymysql.err.OperationalError(number, "what happened")), wanted)


@pytest.mark.parametrize(("words", "wanted"), WORDS.items())
def test_sqlite_by_words(words, wanted):
    told(sqlite._translate(sqlite3.OperationalError(words)), wanted)


@pytest.mark.parametrize(("kind", "wanted"), CLASSES.items(), ids=lambda value: value.__name__)
def test_duckdb_by_class(kind, wanted):
    told(duckdb_session.translate(kind("Some Error: what happened")), wanted)
