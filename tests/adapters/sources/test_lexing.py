"""Our cutting of a text is the database's own: generated texts, each held against its judge, or refused by us."""

from __future__ import annotations

import sqlite3
import struct

import apsw
import apsw.ext
import duckdb
import pglast
import psycopg
import pymysql
import pytest
from pglast.parser import ParseError
from pglast.parser import scan as postgresql_scan

from patient_ladle.core.errors import StatementRefused
from patient_ladle.core.statements.languages import LANGUAGES
from patient_ladle.core.statements.languages.duckdb import DUCKDB
from patient_ladle.core.statements.languages.mariadb import MARIADB
from patient_ladle.core.statements.languages.postgresql import POSTGRESQL
from patient_ladle.core.statements.languages.sqlite import SQLITE
from patient_ladle.core.statements.lexing import scan
from patient_ladle.core.statements.parts import place
from patient_ladle.core.statements.scanner import replace_parameters
from tests.profile import SEED, TEXTS

from .generated import texts

COLUMNS = ("a", "b", "e", "n", "m", "x", "u", "_a", "a1", "é")


class Disagree(AssertionError):
    """The database reads the text in another way."""


def judged(dialect, judge, count=TEXTS):
    """Holds so many texts that we take against the judge, who returns whether it could read the text at all; says what came of it."""
    taken = agreed = refused = 0
    for text in texts(dialect.name, SEED):
        try:
            tokens = scan(text, dialect)
        except StatementRefused as error:
            assert error.hint
            refused += 1
            continue
        taken += 1
        agreed += judge(text, tokens)
        if taken == count:
            break
    assert agreed > count / 8, "too few of the texts are ones that the database reads: they prove nothing"
    return f"Texts cut as {dialect.name} cuts them: {agreed:,} agreed, {taken - agreed:,} that it does not read, {refused:,} refused."


KINDS = {"SCONST": "string", "USCONST": "string", "BCONST": "string", "XCONST": "string", "C_COMMENT": "comment", "SQL_COMMENT": "comment",
         "ASCII_59": "end", "PARAM": "numbered", "UIDENT": "name"}  # fmt: skip


def by_postgresql_scanner(text, tokens):
    """Place by place: what is string, quoted name, comment and end for the server's own scanner."""
    try:
        theirs = postgresql_scan(text)
    except ParseError:
        return False
    kinds = [""] * len(text)
    for token in theirs:
        kind = KINDS.get(token.name) or ("name" if text[token.start] == '"' else "")
        kinds[token.start : token.end + 1] = [kind] * (token.end + 1 - token.start)
    for token in tokens:
        for at in range(token.start, token.end):
            ours = token.kind if token.kind in ("string", "name", "comment", "end") else ""
            same = kinds[at] == ours or text[at].isspace()
            prefix = ours == "" and kinds[at] in ("string", "name") and text[at] in "bBnNxXuU&"
            # Between the parts of a string that goes on, blanks and comments are the string's to the server.
            within = kinds[at] == "string" and ours == "comment"
            if not (same or prefix or within):
                raise Disagree(f"{text!r} at {at}: {kinds[at]!r} to the server, {ours!r} to us")
    return True


def test_postgresql_is_cut_as_its_own_scanner_does(found):
    assert pglast.get_postgresql_version()[0] >= 15
    found(judged(POSTGRESQL, by_postgresql_scanner))


@pytest.fixture
def by_postgresql(cluster):
    with psycopg.connect(cluster.url("metering"), autocommit=True) as connection:
        columns = ", ".join(f"{name} int[]" if name == "a" else f"{name} int" for name in COLUMNS)
        connection.execute(f"create temporary table t ({columns})")

        def judge(text, tokens):
            numbers = iter(range(1, 99))
            sent = replace_parameters(text, POSTGRESQL, lambda _: f"(${next(numbers)}::int)").text
            prepared = connection.pgconn.prepare(b"", sent.encode())
            if prepared.status != psycopg.pq.ExecStatus.COMMAND_OK:
                return False
            found = connection.pgconn.describe_prepared(b"").nparams
            if found != sum(token.kind == "parameter" for token in tokens):
                raise Disagree(f"{text!r}: {found} parameters to the server")
            return True

        yield judge


def test_postgresql_counts_the_same_parameters(by_postgresql, found):
    found(judged(POSTGRESQL, by_postgresql, TEXTS // 2))


@pytest.fixture
def by_mariadb(maria):
    with maria.connect("works") as connection:
        with connection.cursor() as cursor:
            cursor.execute("set session sql_mode = 'TRADITIONAL'")
            cursor.execute(f"create temporary table t ({', '.join(f'`{name}` int' for name in COLUMNS)})")

        def judge(text, tokens):
            sent = replace_parameters(text, MARIADB, lambda _: "?").text
            try:
                connection._execute_command(0x16, sent)  # COM_STMT_PREPARE
                number, columns, found = struct.unpack_from("<IHH", connection._read_packet().get_all_data(), 1)
            except pymysql.Error:
                return False
            for _ in range((found + 1 if found else 0) + (columns + 1 if columns else 0)):
                connection._read_packet()
            connection._execute_command(0x19, struct.pack("<I", number))  # COM_STMT_CLOSE
            if found != sum(token.kind == "parameter" for token in tokens):
                raise Disagree(f"{text!r}: {found} parameters to the server")
            return True

        yield judge


def test_mariadb_counts_the_same_parameters(by_mariadb, found):
    found(judged(MARIADB, by_mariadb))


def _is_over(text, tokens):
    """Whether nothing but blanks and comments follows the first semicolon."""
    ends = [number for number, token in enumerate(tokens) if token.kind == "end"]
    return not ends or _is_empty(text, tokens[ends[0] + 1 :])


def _is_empty(text, tokens):
    return all(token.kind in ("comment", "end") or text[token.start : token.end].isspace() for token in tokens)


@pytest.fixture
def by_sqlite():
    connection = apsw.Connection(":memory:")
    connection.execute(f"create table t ({', '.join(COLUMNS)})")
    ours = sqlite3.connect(":memory:")  # the library that the service uses may be another version
    ours.execute(f"create table t ({', '.join(COLUMNS)})")

    def judge(text, tokens):
        sent = replace_parameters(text, SQLITE, lambda _: "?").text
        wanted = sum(token.kind == "parameter" for token in tokens)
        try:
            told = apsw.ext.query_info(connection, sent)
        except apsw.Error:
            return False
        if _is_over(text, tokens):
            remaining = told.query_remaining or ""
            if not _is_empty(remaining, scan(remaining, SQLITE)) or told.bindings_count != wanted:
                raise Disagree(f"{text!r}: {told.bindings_count} parameters to SQLite, then {told.query_remaining!r}")
            try:
                ours.execute(sent, [1] * wanted).close()
            except sqlite3.ProgrammingError as error:
                if "one statement at a time" in str(error) and ";" in text:
                    return True  # Python counts an empty one after a semicolon too; the service sends none
                raise Disagree(f"{text!r}: {error}") from error
            except sqlite3.Error:
                return False
        elif told.query_remaining is None:
            raise Disagree(f"{text!r}: one statement to SQLite")
        return True

    yield judge
    ours.close()
    connection.close()


def test_sqlite_counts_the_same_parameters(by_sqlite, found):
    found(judged(SQLITE, by_sqlite))


def by_duckdb(text, tokens):
    names = []

    def put(_):
        names.append(f"p{len(names)}")
        return f"(${names[-1]}::int)"

    try:
        found = duckdb.extract_statements(replace_parameters(text, DUCKDB, put).text)
    except (duckdb.Error, UnicodeDecodeError):  # it cuts a letter in two where it quotes the text in an error
        return False
    told = sorted(name for statement in found for name in statement.named_parameters)
    if told != sorted(names) or (len(found) > 1 and _is_over(text, tokens)):
        raise Disagree(f"{text!r}: {told} in {len(found)} statements to DuckDB")
    return True


def test_duckdb_counts_the_same_parameters(found):
    found(judged(DUCKDB, by_duckdb))


KNOWN = {
    "postgresql": ["select 1 as a, E'x'\n'\\', :p --' as b", "select 1 -- a\r, :p", "select €$$ :p $$", "select 1 \u00a0, :p", "select $1, :p", "select 1E'\\', :p --'",
                   "select E'x' -- c\n '\\', :p --'"],
    "mariadb": ["select 1 --\u00a0, :p", "select 1 --\x01, :p", "select 1.e', :p, '", "select /*! :p */ 1", "select ?, :p", "select \\N, :p", "select 1 /*+ set_var(sql_mode='') */"],
    "sqlite": ["select $a, :p", "select @a(:p)", "select ?, :p", "select 1 \x0b, :p", "select 1 /* :p", "select #1"],
    "duckdb": ["select E'x'\n'\\', :p --' as b", "select 1 \u00a0, :p", "select $q, :p", "select ?, :p", "select 1 -- a\r, :p", "select `a :p`"],
}  # fmt: skip


@pytest.mark.parametrize(("name", "text"), [(name, text) for name, known in KNOWN.items() for text in known])
def test_what_is_not_beyond_doubt_is_refused_with_its_place(name, text):
    with pytest.raises(StatementRefused) as refused:
        scan(text, LANGUAGES[name])
    line, column = refused.value.facts["line"], refused.value.facts["column"]
    assert f"line {line}, column {column}" in refused.value.message
    assert (line, column) > place(text, 5)
    assert refused.value.hint
