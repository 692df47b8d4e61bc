"""PostgreSQL through psycopg: one snapshot, read-only, fetched through a server-side cursor as the server's own text.

Read-only rests on three things together (each alone can be undone by a query): session options that start read-only,
``REPEATABLE READ READ ONLY`` with the snapshot already taken, and a cursor, for ``DECLARE`` takes one row-returning
statement only. The server's text of every value is faithful where driver objects fail (infinity, BC, 24:00).
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from typing import Any, NoReturn

import psycopg
import pyarrow as pa
import pyarrow.compute as pc
from psycopg import RawServerCursor, pq
from psycopg.types.string import TextLoader

from patient_ladle.core.columns import BATCH_ROWS, Batch, Column
from patient_ladle.core.dialects import POSTGRESQL
from patient_ladle.core.errors import (
    ConnectionLost,
    LadleError,
    RunCancelled,
    SourceDatabaseMissing,
    SourceNotReadable,
    SourceSignInRefused,
    SourceUnreachable,
    StatementFailed,
    StatementRefused,
    StatementWrong,
)
from patient_ladle.core.parameters import Parameter, Value, as_text
from patient_ladle.core.ports import Statement
from patient_ladle.core.scanner import Rendered, one_reading_statement, place, replace_parameters

from .base import CONNECT_SECONDS, Engine, ProbingSession

_SETTINGS = {
    "default_transaction_read_only": "on",
    "lock_timeout": "30s",
    "idle_in_transaction_session_timeout": "1h",
    "DateStyle": "ISO",
    "IntervalStyle": "iso_8601",
    "bytea_output": "hex",
    "extra_float_digits": "1",
    "standard_conforming_strings": "on",
    "client_encoding": "UTF8",
    "application_name": "patient-ladle",
}
_OPTIONS = " ".join(f"-c {key}={value}" for key, value in _SETTINGS.items())
_KINDS = {
    16: "boolean", 17: "binary", 20: "integer", 21: "integer", 23: "integer", 26: "integer", 114: "json",
    700: "float", 701: "float", 1082: "date", 1083: "time", 1114: "timestamp", 1184: "zoned", 1700: "decimal",
    3802: "json",
}  # fmt: skip
"""Type OIDs of pg_type.dat to kinds; every other type travels as the server's text."""
_CASTS = {"text": "text", "integer": "bigint", "decimal": "numeric", "boolean": "boolean", "date": "date"}
_FINITE_MOMENT = r"^(\d+-\d\d-\d\d) (\d\d:\d\d:\d\d(?:\.\d+)?)( BC)?$"


def _cast(parameter: Parameter, value: Value) -> str:
    sample = value[0] if isinstance(value, tuple) and value else value
    zoned = isinstance(sample, datetime) and sample.tzinfo is not None
    name = _CASTS.get(parameter.type) or ("timestamptz" if zoned else "timestamp")
    return f"{name}[]" if parameter.many else name


class _Binding:
    """The author's text with ``$n::type`` in place of ``:name``, and the texts bound to them."""

    def __init__(self, statement: Statement, text: str) -> None:
        self.names: list[str] = []
        self.bound = statement.values
        self.rendered: Rendered = replace_parameters(text, POSTGRESQL, self._put)
        self.texts = [as_text(self.bound.values[name]) for name in self.names]

    def _put(self, name: str) -> str:
        if name not in self.bound.parameters:
            raise StatementRefused(f"the statement uses ':{name}', which is not declared.", "Declare the parameter.")
        if name not in self.names:
            self.names.append(name)
        return f"${self.names.index(name) + 1}::{_cast(self.bound.parameters[name], self.bound.values[name])}"


def _translate(error: psycopg.Error, text: str = "", rendered: Rendered | None = None) -> LadleError:
    """The one map from the driver's errors to ours, by SQLSTATE (PostgreSQL documentation, appendix A)."""
    state = error.sqlstate or ""
    said = (error.diag.message_primary or str(error)).strip().split("\n")[0]
    if state == "57014":
        return RunCancelled("the statement was stopped in the source.", "Start it again when it is wanted.")
    if not state or state.startswith("08") or state in ("57P01", "57P02", "57P03"):
        return ConnectionLost(f"the connection to the source broke: {said}.", "Start the run again; it may pass.")
    if state.startswith("53"):
        return SourceUnreachable(f"the source has no room for the session: {said}.", "Try again later.")
    if state == "25006" or "must not contain data-modifying" in said or "data-modifying statement" in said:
        return StatementRefused(f"the statement would write: {said}.", "An extract only reads; take that part out.")
    if state == "42501":
        return SourceNotReadable(f"the login may not read this: {said}.", "Ask for the right to select from it.")
    if state.startswith(("42", "0A")):
        where, facts = "", {}
        if error.diag.statement_position and rendered is not None:
            line, column = place(text, rendered.original(int(error.diag.statement_position) - 1))
            where, facts = f" (line {line}, column {column})", {"line": line, "column": column}
        hint = error.diag.message_hint or "Correct the statement and save it again."
        return StatementWrong(f"the database does not understand the statement: {said}{where}.", hint, **facts)
    return StatementFailed(
        f"the database failed while running the statement: {said}.", "Correct the statement or the data it meets."
    )


def _connect_failed(error: psycopg.Error, address: Mapping[str, Any]) -> LadleError:
    """Connection failures mostly carry no SQLSTATE: they are told apart by the client library's words."""
    said = str(error)
    at = f"{address['host']}:{address['port']}"
    if "password" in said or "authentication" in said or "role " in said or "pg_hba" in said:
        return SourceSignInRefused(
            f"the server at {at} refused the login '{address['user']}'.", "Correct the user or the password of the source."
        )
    if "database " in said and "does not exist" in said:
        return SourceDatabaseMissing(
            f"there is no database '{address['database']}' at {at}.", "Correct the database of the source."
        )
    if "resolve" in said or "translate host" in said or "Name or service" in said:
        return SourceUnreachable(f"the host '{address['host']}' is not known.", "Correct the host of the source.")
    if "refused" in said:
        return SourceUnreachable(f"nothing listens at {at}.", "Start the database, or correct host and port of the source.")
    if "timeout" in said:
        return SourceUnreachable(f"{at} did not answer within {CONNECT_SECONDS} s.", "Check host, port and firewall.")
    told = [line.strip() for line in said.splitlines() if "failed" in line or "FATAL" in line] or [said.strip()]
    return SourceUnreachable(f"no connection to {at}: {told[-1]}.", "Check that the database runs and accepts logins.")


class PostgresqlSession(ProbingSession):
    """See SourceSession."""

    def __init__(self, connection: psycopg.Connection[Any]) -> None:
        self.connection = connection
        self.statement: tuple[str, _Binding] | None = None
        self.columns: list[Column] = []
        self.query = ""

    def identity(self) -> dict[str, str]:
        info = self.connection.info
        return {"server": f"{info.host}:{info.port}", "database": info.dbname, "login": info.user}

    def probe(self) -> str:
        try:
            row = self.connection.execute("select split_part(version(), ' on ', 1)").fetchone()
            self.connection.execute("select count(*) from pg_catalog.pg_class")
        except psycopg.Error as error:
            raise _translate(error) from error
        return str(row[0]) if row else ""

    def _raise(self, error: psycopg.Error) -> NoReturn:
        text, binding = self.statement or ("", None)
        raise _translate(error, text, binding.rendered if binding else None) from error

    def describe(self, statement: Statement) -> Sequence[Column]:
        text = one_reading_statement(statement.text, POSTGRESQL)
        binding = _Binding(statement, text)
        self.statement = (text, binding)
        conn = self.connection.pgconn
        try:
            self._expect(conn.prepare(b"ladle", binding.rendered.text.encode()))
            found = self._expect(conn.describe_prepared(b"ladle"))
        except psycopg.Error as error:
            self._raise(error)
        if not found.nfields:
            raise StatementRefused("the statement returns no columns.", "Write a statement that selects something.")
        types = self._types([(found.ftype(i), found.fmod(i)) for i in range(found.nfields)])
        self.columns = []
        for i in range(found.nfields):
            oid, (source_type, is_array) = found.ftype(i), types[i]
            kind = "json" if is_array else _KINDS.get(oid, "text")
            self.columns.append(Column((found.fname(i) or b"").decode(), kind, source_type))
            self.connection.adapters.register_loader(oid, TextLoader)
        for oid in (25, 1114):
            self.connection.adapters.register_loader(oid, TextLoader)
        self.query = self._in_canonical_form(binding.rendered.text, [is_array for _, is_array in types])
        return self.columns

    def _expect(self, result: Any) -> Any:
        if result.status not in (pq.ExecStatus.COMMAND_OK, pq.ExecStatus.TUPLES_OK):
            raise psycopg.errors.error_from_result(result, encoding="utf-8")
        return result

    def _types(self, wanted: Sequence[tuple[int, int]]) -> list[tuple[str, bool]]:
        """(name, is an array) of each type, in order."""
        oids, mods = [oid for oid, _ in wanted], [mod for _, mod in wanted]
        rows = self.connection.execute(
            "select format_type(w.oid, w.mod), coalesce(t.typcategory = 'A' and t.typelem <> 0, false)"
            " from unnest(%s::oid[], %s::int[]) with ordinality as w(oid, mod, n)"
            " left join pg_catalog.pg_type t on t.oid = w.oid order by w.n",
            [oids, mods],
        ).fetchall()
        return [(str(name), bool(is_array)) for name, is_array in rows]

    def _in_canonical_form(self, text: str, arrays: Sequence[bool]) -> str:
        """Columns whose server text is not the canonical one are wrapped; the alias list lets names repeat."""
        forms = []
        for number, (column, is_array) in enumerate(zip(self.columns, arrays, strict=True), 1):
            name = f"c{number}"
            if column.kind == "boolean":
                forms.append(f"{name}::text")
            elif column.kind == "zoned":
                forms.append(f"({name} at time zone 'UTC')")
            elif column.kind == "binary":
                forms.append(f"translate(encode({name}, 'base64'), E'\\n', '')")
            else:
                forms.append(f"to_json({name})::text" if is_array else name)
        if all(form.startswith("c") and "::" not in form for form in forms):
            return text
        names = ", ".join(f"c{number}" for number in range(1, len(forms) + 1))
        return f"select {', '.join(forms)} from (\n{text}\n) as ladle({names})"

    def batches(self) -> Iterator[Batch]:
        assert self.statement is not None, "describe comes first"
        binding = self.statement[1]
        cursor = RawServerCursor(self.connection, "ladle_rows")
        try:
            cursor.execute(self.query, binding.texts)
            while rows := cursor.fetchmany(BATCH_ROWS):
                yield self._batch(rows)
        except psycopg.Error as error:
            self._raise(error)
        finally:
            self._close_quietly(cursor)

    def _close_quietly(self, cursor: RawServerCursor[Any]) -> None:
        try:
            cursor.close()
        except psycopg.Error:
            return  # the connection is broken or the transaction is; both end with the session

    def _batch(self, rows: Sequence[Sequence[str | None]]) -> Batch:
        cells: list[pa.Array] = []
        for column, values in zip(self.columns, zip(*rows, strict=True), strict=True):
            array = pa.array(values, pa.string())
            if column.kind == "zoned":
                array = pc.replace_substring_regex(array, _FINITE_MOMENT, r"\1T\2Z\3")
            cells.append(array)
        return Batch(tuple(cells), (None,) * len(cells), len(rows))

    def cancel(self) -> None:
        try:
            self.connection.cancel_safe(timeout=5)
        except psycopg.Error:
            self.connection.close()  # a server that takes no cancel still loses its client

    def close(self) -> None:
        self.connection.close()


class PostgresqlEngine(Engine):
    """See Engine."""

    name = "postgresql"
    title = "PostgreSQL"
    dialect = POSTGRESQL
    fields = {
        "host": (str, True, "name or address of the server"),
        "port": (int, True, "usually 5432"),
        "database": (str, True, "name of the database"),
        "user": (str, True, "the login, one that may only read"),
    }

    def open(self, address: Mapping[str, Any], secret: str) -> ProbingSession:
        try:
            connection = psycopg.connect(
                host=address["host"],
                port=address["port"],
                dbname=address["database"],
                user=address["user"],
                password=secret,
                connect_timeout=CONNECT_SECONDS,
                options=_OPTIONS,
                keepalives_idle=30,
            )
        except psycopg.Error as error:
            raise _connect_failed(error, address) from error
        try:
            connection.autocommit = True
            connection.execute("begin isolation level repeatable read read only")
            connection.execute("select 1")  # takes the snapshot: from here READ WRITE is refused
        except psycopg.Error as error:
            connection.close()
            raise _translate(error) from error
        return PostgresqlSession(connection)
