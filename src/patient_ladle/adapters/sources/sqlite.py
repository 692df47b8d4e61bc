"""SQLite through the standard library: opened read-only, and an authorizer that lets nothing but reading through."""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from functools import partial
from itertools import takewhile
from pathlib import Path
from typing import Any, cast
from urllib.parse import quote

from patient_ladle.core.errors import (
    LadleError,
    RunCancelled,
    SourceNotReadable,
    SourceUnreachable,
    SourceWritable,
    StatementFailed,
    StatementRefused,
    StatementWrong,
)
from patient_ladle.core.ports import Statement
from patient_ladle.core.results.columns import BATCH_ROWS, Batch, Column
from patient_ladle.core.statements.catalogue import CatalogueBuilder, TableColumn
from patient_ladle.core.statements.languages.sqlite import SQLITE, bound
from patient_ladle.core.statements.parts import place
from patient_ladle.core.statements.plans import Plan, of_sqlite
from patient_ladle.core.values.parameters import Parameter, Value

from .allowed import not_allowed
from .base import (
    CONNECT_SECONDS,
    About,
    AddressField,
    Engine,
    ProbingSession,
    database_file,
    gated,
    missing_name,
    permitted_in,
    refuse_other_count,
    rendered,
    tables_by_alias,
)
from .sqlite_allowed import authorizer, known_to

_MODE = "ro"
_PRAGMAS = ("pragma query_only = on", "pragma trusted_schema = off")
"""A session writes nothing, and no view or index calls what has effects of its own."""
PIECES = 10
"""Fetches for one batch: rows of a small one are still near the processor when they are turned into columns."""
_MISSING = {r"no such table: (\S+)": "table", r"no such column: (\S+)": "column"}


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
        where: str = ""
        facts: dict[str, Any] = {}
        named = re.search(r'no such (?:column|table|function): (?:\w+\.)*(\w+)|near "([^"]+)"', said)
        word = (named.group(1) or named.group(2)) if named else None
        if word and text.count(word) == 1:
            line, column = place(text, text.index(word))
            where, facts = f" (line {line}, column {column})", {"line": line, "column": column}
        facts |= missing_name(said, _MISSING)
        return StatementWrong(
            f"the database rejected the statement: {said}{where}.",
            "Correct the statement and save it again.",
            **facts,
        )
    return StatementFailed(
        f"the database failed while running the statement: {said}.", "Correct the statement or the data it meets."
    )


def _connection(path: Path) -> sqlite3.Connection:
    uri = f"file:{quote(str(path))}?mode={_MODE}"
    made = sqlite3.connect(uri, uri=True, isolation_level=None, check_same_thread=False, timeout=5)
    for pragma in _PRAGMAS:
        made.execute(pragma)
    return made


def _kind_named(kind: str) -> str:
    """By the affinity rules of SQLite's documentation (datatype3, section 3.1), and the names people use beyond them."""
    word = kind.upper()
    for part, ours in (("INT", "integer"), ("CHAR", "text"), ("TEXT", "text"), ("DATETIME", "timestamp"),
                       ("TIMESTAMP", "timestamp"), ("DATE", "date"), ("BOOL", "boolean"), ("REAL", "float"), ("FLOA", "float"),
                       ("DOUB", "float"), ("BLOB", "binary"), ("NUMERIC", "decimal"), ("DECIMAL", "decimal")):  # fmt: skip
        if part in word:
            return ours
    return "any"


def _shape(connection: sqlite3.Connection) -> list[dict[str, Any]]:
    """The catalogue, on a read-only connection without the authorizer: the pragmas' functions do more than it lets through."""
    made = CatalogueBuilder()
    names = "select type, name from sqlite_master where type in ('table', 'view') and name not like 'sqlite~_%' escape '~'"
    for kind, name in connection.execute(names).fetchall():
        table = made.table("", name, kind=kind)
        try:
            columns = connection.execute(
                'select name, type, "notnull", dflt_value, pk from pragma_table_xinfo(?) where hidden <> 1', [name]
            ).fetchall()
        except sqlite3.Error:
            continue  # a view over something that is gone still has its name
        table.columns = [TableColumn(c, t, _kind_named(t), not n, d) for c, t, n, d, _ in columns]
        table.primary_key = [c for c, *_, pk in sorted(columns, key=lambda row: row[4]) if pk]
        keys: dict[int, list[tuple[Any, ...]]] = {}
        for row in connection.execute(
            'select id, "table", "from", "to" from pragma_foreign_key_list(?) order by id, seq', [name]
        ):
            keys.setdefault(row[0], []).append(row)
        for rows in keys.values():
            made.key("", name, "foreign", [row[2] for row in rows], ("", rows[0][1], [row[3] or "" for row in rows]))
        for index, unique, origin in connection.execute(
            'select name, "unique", origin from pragma_index_list(?)', [name]
        ).fetchall():
            over = [c for (c,) in connection.execute("select name from pragma_index_info(?) order by seqno", [index]) if c]
            if origin == "u":
                table.unique_keys.append(over)
            table.indexes.append(f"{'unique ' if unique else ''}{index} ({', '.join(over)})")
    if connection.execute("select 1 from sqlite_master where name = 'sqlite_stat1'").fetchone():
        for name, stat in connection.execute("select tbl, max(stat) from sqlite_stat1 group by tbl"):
            if ("", name) in made.tables and stat:
                made.table("", name).rows_about = int(str(stat).split()[0])
    return made.to_list()


class SqliteSession(ProbingSession):
    """See SourceSession. The column kinds are ``any``: SQLite types each value, not the column."""

    driver_errors = (sqlite3.Error,)

    def __init__(self, connection: sqlite3.Connection, path: Path, encoding: str, refused: Sequence[str] = ()) -> None:
        super().__init__()
        self.connection, self.path, self.encoding, self.refused = connection, path, encoding, refused
        self.cursor: sqlite3.Cursor | None = None
        self.width = 0
        self.text = ""

    def translated(self, error: Exception) -> LadleError:
        return _translate(cast(sqlite3.Error, error))

    def identity(self) -> dict[str, str]:
        return {"file": str(self.path)}

    def probe(self) -> str:
        [count] = self.connection.execute("select count(*) from sqlite_master where type in ('table', 'view')").fetchone()
        return f"{count} tables and views can be seen"

    def prove_read_only(self) -> str:
        try:
            self.connection.execute("create temporary table ladle_proof (a)")
        except sqlite3.Error as error:
            if getattr(error, "sqlite_errorcode", None) not in (sqlite3.SQLITE_AUTH, sqlite3.SQLITE_READONLY):
                raise  # it failed, which proves nothing
            return f"a write was refused: {error}"
        raise SourceWritable("the session let a write through.", "Do not use this source; report it with the engine's version.")

    def about(self) -> About:
        return About(f"SQLite {sqlite3.sqlite_version}", encoding=self.encoding)

    def catalogue(self) -> list[dict[str, Any]]:
        own = _connection(self.path)
        try:
            return _shape(own)
        finally:
            own.close()

    def understand(self, statement: Statement) -> Sequence[Column]:
        self._prepared(statement, "explain ")
        return []  # the columns show themselves only when it runs

    def describe(self, statement: Statement) -> Sequence[Column]:
        return self._prepared(statement)

    def _prepared(self, statement: Statement, before: str = "") -> Sequence[Column]:
        """Its columns; with ``explain`` before it, only whether it can be understood."""
        self.text = gated(statement, SQLITE)
        values: list[Any] = []

        def put(parameter: Parameter, value: Value) -> str:
            values.append(bound(parameter, value))
            return "(select value from json_each(?))" if parameter.is_list else "?"

        query = before + rendered(statement, self.text, SQLITE, put).text
        self.go_on()
        try:
            self.cursor = self.connection.execute(query, values)
        except (sqlite3.Error, sqlite3.Warning) as error:
            counts = re.search(r"uses (\d+), and there are (\d+)", str(error))
            if counts:
                refuse_other_count(int(counts.group(1)), int(counts.group(2)))
            if self.refused and re.search("not authorized|prohibited", str(error)):
                raise self._not_allowed(self.refused[-1]) from error
            raise _translate(error if isinstance(error, sqlite3.Error) else sqlite3.Error(str(error)), self.text) from error
        if self.cursor.description is None:
            raise StatementRefused("the statement returns no columns.", "Write a statement that selects something.")
        self.width = len(self.cursor.description)
        return [Column(str(entry[0]), "any") for entry in self.cursor.description]

    def _not_allowed(self, what: str) -> StatementRefused:
        name = what.partition("'")[2].partition("'")[0]
        found = re.search(rf"(?<!\w){re.escape(name)}(?!\w)", self.text, re.IGNORECASE)
        return not_allowed(self.text, found.start() if found else 0, what, name)

    def plan(self, statement: Statement) -> Plan:
        self._prepared(statement, "explain query plan ")
        assert self.cursor is not None
        return of_sqlite(self.cursor.fetchall(), tables_by_alias(self.text, SQLITE))

    def batches(self, soon: bool = False) -> Iterator[Batch]:
        assert self.cursor is not None, "describe comes first"
        try:
            fetch = partial(self.cursor.fetchmany, BATCH_ROWS // PIECES)
            while (batch := Batch.of_values(takewhile(len, (fetch() for _ in range(PIECES))), self.width)).rows:
                self.go_on()
                yield batch
        except sqlite3.Error as error:
            raise _translate(error, self.text) from error

    def stop(self) -> None:
        try:
            self.connection.interrupt()
        except sqlite3.Error:
            return  # it is closed

    def end(self) -> None:
        self.connection.close()


class SqliteEngine(Engine):
    """See Engine."""

    name = "sqlite"
    title = "SQLite"
    language = SQLITE
    url_schemes = ("sqlite",)
    fields = {
        "path": AddressField(
            str, "absolute path of the database file, on the service's host", required=True, guarded=True, is_path=True
        )
    }
    takes_secret = False
    networked = False

    def open(self, address: Mapping[str, Any], secret: str, connect_timeout_seconds: float = CONNECT_SECONDS) -> ProbingSession:
        path = database_file(address["path"])
        try:
            connection = _connection(path)
            known = known_to(connection)
            connection.execute("begin")
            connection.execute("select count(*) from sqlite_master").fetchone()  # takes the snapshot
            encoding = connection.execute("pragma encoding").fetchone()[0]
            refused: list[str] = []
            connection.set_authorizer(authorizer(known, permitted_in(address), refused))
        except sqlite3.Error as error:
            raise _translate(error) from error
        return SqliteSession(connection, path, str(encoding), refused)
