"""SQLite through the standard library: opened read-only, and an authorizer that lets nothing but reading through."""

from __future__ import annotations

import json
import re
import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from datetime import date, datetime, timezone
from decimal import Decimal
from pathlib import Path
from typing import Any
from urllib.parse import quote

from patient_ladle.core.columns import BATCH_ROWS, Batch, Column
from patient_ladle.core.dialects import SQLITE
from patient_ladle.core.errors import (
    LadleError,
    RunCancelled,
    SourceDatabaseMissing,
    SourceNotReadable,
    SourceUnreachable,
    StatementFailed,
    StatementRefused,
    StatementWrong,
)
from patient_ladle.core.parameters import Value
from patient_ladle.core.ports import Statement
from patient_ladle.core.scanner import one_reading_statement, place, replace_parameters

from .base import Engine, ProbingSession

_READING = (sqlite3.SQLITE_SELECT, sqlite3.SQLITE_READ, sqlite3.SQLITE_FUNCTION, sqlite3.SQLITE_RECURSIVE)


def _allow_reading(action: int, _first: str | None, second: str | None, *_rest: Any) -> int:
    """The authorizer: denies everything but reading, and the one function that loads code."""
    if action not in _READING or (action == sqlite3.SQLITE_FUNCTION and second == "load_extension"):
        return sqlite3.SQLITE_DENY
    return sqlite3.SQLITE_OK


def _bound(value: Value) -> Any:
    if isinstance(value, tuple):
        return json.dumps([_bound(item) for item in value])
    if isinstance(value, Decimal):
        return int(value) if value == value.to_integral_value() and abs(value) < 2**63 else float(value)
    if isinstance(value, datetime):
        plain = value.astimezone(timezone.utc).replace(tzinfo=None) if value.tzinfo else value
        return plain.isoformat(sep=" ")
    return value.isoformat() if isinstance(value, date) else value


def _translate(error: sqlite3.Error, text: str = "") -> LadleError:
    """The one map from the driver's errors to ours; SQLite tells them apart by words and gives no position."""
    said = str(error)
    if "interrupted" in said:
        return RunCancelled("the statement was stopped in the source.", "Start it again when it is wanted.")
    if "not authorized" in said or "prohibited" in said or "readonly" in said or "one statement" in said:
        return StatementRefused(f"the statement does more than read: {said}.", "An extract only reads; take that part out.")
    if "locked" in said or "busy" in said:
        return SourceUnreachable(f"the database is locked by another program: {said}.", "Try again later.")
    if "not a database" in said or "malformed" in said:
        return SourceNotReadable(f"the file cannot be read as a SQLite database: {said}.", "Correct the path of the source.")
    if any(
        words in said
        for words in ("no such", "syntax error", "ambiguous", "unrecognized", "incomplete", "misuse", "wrong number")
    ):
        where, facts = "", {}
        named = re.search(r'no such (?:column|table|function): (?:\w+\.)*(\w+)|near "([^"]+)"', said)
        word = (named.group(1) or named.group(2)) if named else None
        if word and text.count(word) == 1:
            line, column = place(text, text.index(word))
            where, facts = f" (line {line}, column {column})", {"line": line, "column": column}
        return StatementWrong(
            f"the database does not understand the statement: {said}{where}.",
            "Correct the statement and save it again.",
            **facts,
        )
    return StatementFailed(
        f"the database failed while running the statement: {said}.", "Correct the statement or the data it meets."
    )


class SqliteSession(ProbingSession):
    """See SourceSession. The column kinds are ``any``: SQLite types each value, not the column."""

    def __init__(self, connection: sqlite3.Connection, path: Path) -> None:
        self.connection, self.path = connection, path
        self.cursor: sqlite3.Cursor | None = None
        self.width = 0
        self.text = ""
        self.cancelled = False

    def identity(self) -> dict[str, str]:
        return {"file": str(self.path)}

    def probe(self) -> str:
        try:
            self.connection.execute("select count(*) from sqlite_master").fetchone()
        except sqlite3.Error as error:
            raise _translate(error) from error
        return f"SQLite {sqlite3.sqlite_version}"

    def describe(self, statement: Statement) -> Sequence[Column]:
        self.text = one_reading_statement(statement.text, SQLITE)
        bound, names = statement.values, []

        def put(name: str) -> str:
            if name not in bound.parameters:
                raise StatementRefused(f"the statement uses ':{name}', which is not declared.", "Declare the parameter.")
            if name not in names:
                names.append(name)
            mark = f"?{names.index(name) + 1}"
            return f"(select value from json_each({mark}))" if bound.parameters[name].many else mark

        query = replace_parameters(self.text, SQLITE, put).text
        try:
            self.cursor = self.connection.execute(query, [_bound(bound.values[name]) for name in names])
        except (sqlite3.Error, sqlite3.Warning, OverflowError) as error:
            raise _translate(error if isinstance(error, sqlite3.Error) else sqlite3.Error(str(error)), self.text) from error
        if self.cursor.description is None:
            raise StatementRefused("the statement returns no columns.", "Write a statement that selects something.")
        self.width = len(self.cursor.description)
        return [Column(str(entry[0]), "any") for entry in self.cursor.description]

    def batches(self) -> Iterator[Batch]:
        assert self.cursor is not None, "describe comes first"
        try:
            while rows := self.cursor.fetchmany(BATCH_ROWS):
                if self.cancelled:
                    raise sqlite3.OperationalError("interrupted")
                yield Batch.of_values(rows, self.width)
        except sqlite3.Error as error:
            raise _translate(error, self.text) from error

    def cancel(self) -> None:
        self.cancelled = True
        self.connection.interrupt()

    def close(self) -> None:
        self.connection.close()


class SqliteEngine(Engine):
    """See Engine."""

    name = "sqlite"
    title = "SQLite"
    dialect = SQLITE
    fields = {"path": (str, True, "absolute path of the database file, on the service's host")}
    takes_secret = False

    def open(self, address: Mapping[str, Any], secret: str) -> ProbingSession:
        path = Path(address["path"])
        if not path.parent.is_dir():
            raise SourceUnreachable(f"there is no folder '{path.parent}' on this host.", "Correct the path of the source.")
        if not path.is_file():
            raise SourceDatabaseMissing(f"there is no file '{path}' on this host.", "Correct the path of the source.")
        try:
            uri = f"file:{quote(str(path))}?mode=ro"
            connection = sqlite3.connect(uri, uri=True, isolation_level=None, check_same_thread=False, timeout=5)
            connection.execute("pragma query_only = on")
            connection.execute("select * from json_each('[]')").fetchall()  # makes the table function known
            connection.execute("begin")
            connection.execute("select count(*) from sqlite_master").fetchone()  # takes the snapshot
            connection.set_authorizer(_allow_reading)
        except sqlite3.Error as error:
            raise _translate(error) from error
        return SqliteSession(connection, path)
