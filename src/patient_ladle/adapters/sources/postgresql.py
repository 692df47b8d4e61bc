"""PostgreSQL through psycopg: one snapshot, read-only, fetched through a server-side cursor as the server's own text.

Read-only rests on three things together (each alone can be undone by a query): session options that start read-only,
``REPEATABLE READ READ ONLY`` with the snapshot already taken, and a cursor, for ``DECLARE`` takes one row-returning
statement only. The server's text of every value is faithful where driver objects fail (infinity, BC, 24:00).
"""

from __future__ import annotations

import contextlib
import json
import os
import socket
import time
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NoReturn, cast

import psycopg
import pyarrow as pa
from psycopg import RawServerCursor, pq
from psycopg.types.string import TextLoader

from patient_ladle.core.errors import (
    ConnectionLost,
    LadleError,
    ProofFailed,
    RunCancelled,
    SourceDatabaseMissing,
    SourceNotReadable,
    SourceSignInRefused,
    SourceTlsRefused,
    SourceUnreachable,
    SourceWritable,
    StatementFailed,
    StatementRefused,
    StatementWrong,
)
from patient_ladle.core.ports import Statement
from patient_ladle.core.results.columns import BATCH_ROWS, Batch, Column, CsvBatch
from patient_ladle.core.statements.catalogue import CatalogueBuilder, TableColumn
from patient_ladle.core.statements.languages.postgresql import POSTGRESQL, bound_literal, cast_of
from patient_ladle.core.statements.parts import Rendered, place
from patient_ladle.core.statements.plans import Plan, of_postgresql
from patient_ladle.core.statements.references import references
from patient_ladle.core.values.parameters import Parameter, Value, as_text

from .base import (
    CONNECT_SECONDS,
    TLS_FILES,
    About,
    AddressField,
    Engine,
    ProbingSession,
    gated,
    missing_name,
    permitted_in,
    refuse_other_count,
    rendered,
    with_names,
)
from .network import no_answer, nothing_listens, way_in
from .postgresql_allowed import Judge
from .postgresql_copy import copy_out, expected
from .postgresql_nested import RECORD_NOTE, RECORDS, TREE, Types

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
_END_LEFT = """
    select pg_terminate_backend(pid) from pg_catalog.pg_stat_activity
    where pid = %s and usename = session_user and application_name = %s
"""
_BEGIN = "begin isolation level repeatable read read only"
_FROM_ADDRESS = {"role": "role", "search_path": "search_path", "time_zone": "TimeZone"}
"""Fields of an address that are settings of the session, and the server's names for them."""
_SSL_MODES = ("disable", "prefer", "require", "verify-ca", "verify-full")
_KINDS = {
    16: "boolean", 17: "binary", 20: "integer", 21: "integer", 23: "integer", 26: "integer", 114: "json",
    700: "float", 701: "float", 1082: "date", 1083: "time", 1114: "timestamp", 1184: "zoned", 1700: "decimal",
    3802: "json",
}  # fmt: skip
"""Type OIDs of pg_type.dat to kinds; every other type travels as the server's text."""
_MISSING = {
    r'^relation "([^"]+)" does not exist': "table",
    r"^column (\S+) does not exist": "column",
}
_TABLES = """
select c.oid, n.nspname, c.relname, case c.relkind when 'v' then 'view' when 'm' then 'view' else 'table' end,
  coalesce(obj_description(c.oid, 'pg_class'), ''), case when c.reltuples >= 0 and c.relkind <> 'v' then c.reltuples::bigint end
from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
where c.relkind in ('r', 'p', 'v', 'm', 'f') and n.nspname not in ('pg_catalog', 'information_schema', 'pg_toast')
  and n.nspname !~ '^pg_(temp|toast)' and has_schema_privilege(n.oid, 'usage') and has_any_column_privilege(c.oid, 'select')"""
_COLUMNS = """
select a.attrelid, a.attname, format_type(a.atttypid, a.atttypmod), coalesce(nullif(t.typbasetype, 0), t.oid)::int, not a.attnotnull,
  pg_get_expr(d.adbin, d.adrelid), coalesce(col_description(a.attrelid, a.attnum), ''),
  coalesce(t.typcategory = 'A' and t.typelem <> 0, false)
from pg_catalog.pg_attribute a join pg_catalog.pg_type t on t.oid = a.atttypid
left join pg_catalog.pg_attrdef d on (d.adrelid, d.adnum) = (a.attrelid, a.attnum)
where a.attrelid = any(%s::oid[]) and a.attnum > 0 and not a.attisdropped and has_column_privilege(a.attrelid, a.attnum, 'select')
order by a.attrelid, a.attnum"""
_KEYS = """
select k.conrelid, k.contype::text, k.confrelid,
  array(select a.attname::text from unnest(k.conkey) with ordinality u(n, o)
    join pg_catalog.pg_attribute a on (a.attrelid, a.attnum) = (k.conrelid, u.n) order by o),
  array(select a.attname::text from unnest(k.confkey) with ordinality u(n, o)
    join pg_catalog.pg_attribute a on (a.attrelid, a.attnum) = (k.confrelid, u.n) order by o)
from pg_catalog.pg_constraint k where k.conrelid = any(%s::oid[]) and k.contype in ('p', 'u', 'f') order by k.conname"""
_INDEXES = """
select i.indrelid, pg_get_indexdef(i.indexrelid) from pg_catalog.pg_index i where i.indrelid = any(%s::oid[]) order by 1, 2"""
_HARMFUL_ROLES = (
    "pg_read_server_files",
    "pg_write_server_files",
    "pg_execute_server_program",
    "pg_signal_backend",
    "pg_write_all_data",
)
_RIGHTS_BEYOND_READING = """
with tables as (
  select c.oid, c.relkind, c.relowner, format('%%I.%%I', n.nspname, c.relname) as name
  from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
  where c.relkind in ('r', 'p', 'v', 'm', 'f', 'S') and n.nspname !~ '^pg_' and n.nspname <> 'information_schema'
), held as (
  select 'owns' as held, name from tables where pg_has_role(session_user, relowner, 'member')
  union all select 'has ' || w || ' on', name from tables, unnest(array['INSERT', 'UPDATE', 'DELETE', 'TRUNCATE']) w
    where relkind <> 'S' and not pg_has_role(session_user, relowner, 'member')
      and (has_table_privilege(session_user, oid, w) or w in ('INSERT', 'UPDATE') and has_any_column_privilege(session_user, oid, w))
  union all select 'may advance the sequence', name from tables where relkind = 'S' and not pg_has_role(session_user, relowner, 'member')
    and (has_sequence_privilege(session_user, oid, 'usage') or has_sequence_privilege(session_user, oid, 'update'))
  union all select 'may create objects in the schema', quote_ident(nspname) from pg_catalog.pg_namespace
    where nspname !~ '^pg_' and nspname <> 'information_schema' and has_schema_privilege(session_user, oid, 'create')
  union all select 'may create schemas in the database', quote_ident(current_database()::text)
    where has_database_privilege(session_user, current_database(), 'create')
  union all select 'may call, with the rights of its owner,', p.oid::regprocedure::text from pg_catalog.pg_proc p
    join pg_catalog.pg_namespace n on n.oid = p.pronamespace
    where p.prosecdef and n.nspname !~ '^pg_' and has_function_privilege(session_user, p.oid, 'execute')
)
select held, count(*), min(name) from held group by held order by held"""
_CANONICAL = {
    "boolean": "{0}::text",
    "zoned": "case when {0} >= '0001-01-01 00:00:00+00' and {0} < 'infinity' then"
    " replace(({0} at time zone 'UTC')::text, ' ', 'T') || 'Z' when isfinite({0}) then"
    " regexp_replace(({0} at time zone 'UTC')::text, '^([^ ]+) ([^ ]+)', '\\1T\\2Z') else {0}::text end",
    "binary": "translate(encode({0}, 'base64'), E'\\n', '')",
}
"""Expressions whose server text is the canonical one, by kind; every other kind's text is that already."""
_PLAIN = {25, 1042, 1043, 18, 19, 2950, 1186, 114, 3802, 869, 650}
"""Texts, names, UUIDs, intervals, JSON, network addresses: nothing is inside them."""
_MEMBERS = {
    "zoned": _CANONICAL["zoned"],
    "binary": _CANONICAL["binary"],
    "timestamp": "({0})::text",
}
"""As ``_CANONICAL``, for members of JSON, where truth is truth and only these differ from the server's own."""
_STEERING = {
    "DateStyle": "ISO",
    "IntervalStyle": "iso_8601",
    "bytea_output": "hex",
    "extra_float_digits": "1",
    "client_encoding": "UTF8",
}
"""Settings that decide how the server writes values."""


class _Binding:
    """The author's text with ``($n::type)`` in place of each occurrence of ``:name``, and the texts bound to them."""

    def __init__(self, statement: Statement, text: str) -> None:
        self.statement = statement
        self.texts: list[Any] = []
        self.rendered: Rendered = rendered(statement, text, POSTGRESQL, self._put)

    def in_place(self, text: str) -> str:
        """The text with values in place, each in parentheses with its cast, for COPY binds nothing."""
        return rendered(
            self.statement, text, POSTGRESQL, lambda parameter, value: f"({bound_literal(value)}::{cast_of(parameter, value)})"
        ).text

    def _put(self, parameter: Parameter, value: Value) -> str:
        self.texts.append(as_text(value))
        return f"(${len(self.texts)}::{cast_of(parameter, value)})"


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
        where = ""
        facts: dict[str, Any] = {}
        if error.diag.statement_position and rendered is not None:
            line, column = place(text, rendered.original(int(error.diag.statement_position) - 1))
            where, facts = f" (line {line}, column {column})", {"line": line, "column": column}
        facts |= missing_name(said, _MISSING)
        hint = error.diag.message_hint or "Correct the statement and save it again."
        return StatementWrong(f"the database rejected the statement: {said}{where}.", hint, **facts)
    return StatementFailed(
        f"the database failed while running the statement: {said}.", "Correct the statement or the data it meets."
    )


def _connect_failed(error: psycopg.Error, address: Mapping[str, Any], seconds: float) -> LadleError:
    """Connection failures mostly carry no SQLSTATE: they are told apart by the client library's words."""
    said = str(error)
    host, port = address["host"], address["port"]
    at = f"{host}:{port}"
    if "SSL" in said or "certificate" in said or "no encryption" in said:
        return SourceTlsRefused(
            f"no encrypted connection to {at}: {_last_word(said)}.", "Correct the source's ssl_mode or its certificates."
        )
    if "database " in said and "does not exist" in said:
        return SourceDatabaseMissing(
            f"there is no database '{address['database']}' at {at}.", "Correct the database of the source."
        )
    if "password" in said or "authentication" in said or "role " in said or "pg_hba" in said:
        return SourceSignInRefused(
            f"the server at {at} refused the login '{address['user']}'.", "Correct the user or the password of the source."
        )
    if "resolve" in said or "translate host" in said or "Name or service" in said:
        return SourceUnreachable(f"the host '{host}' is not known.", "Correct the host of the source.")
    if "refused" in said:
        return nothing_listens(host, port)
    if "timeout" in said or "timed out" in said:
        return no_answer(host, port, seconds)
    return SourceUnreachable(f"no connection to {at}: {_last_word(said)}.", "Check that the database runs and accepts logins.")


def _last_word(said: str) -> str:
    told = [line.strip() for line in said.splitlines() if "failed" in line or "FATAL" in line] or [said.strip()]
    return told[-1]


class PostgresqlSession(ProbingSession):
    """See SourceSession."""

    driver_errors = (psycopg.Error,)

    def __init__(self, connection: psycopg.Connection[Any], permitted: Sequence[str] = ()) -> None:
        super().__init__()
        self.connection, self.permitted = connection, permitted
        self.statement: tuple[str, _Binding] | None = None
        self.columns: list[Column] = []
        self.oids: set[int] = set()
        self.forms: list[str] = []

    def translated(self, error: Exception) -> LadleError:
        return _translate(cast(psycopg.Error, error))

    def identity(self) -> dict[str, str]:
        info = self.connection.info
        told = {"server": f"{info.host}:{info.port}", "database": info.dbname, "login": info.user}
        return told | {"session": str(info.backend_pid)}

    def probe(self) -> str:
        [(count,)] = self._asked(f"select count(*) from ({_TABLES}) as seen")
        return f"{count} tables and views can be seen"

    def _asked(self, query: str, values: Sequence[Any] | None = None) -> list[tuple[Any, ...]]:
        try:
            return self.connection.execute(query.encode(), values).fetchall()
        except psycopg.Error as error:
            raise _translate(error) from error

    def prove_read_only(self) -> str:
        try:
            self.connection.execute("savepoint proof")
            self.connection.execute("create temporary table ladle_proof (a int)")
        except psycopg.errors.ReadOnlySqlTransaction as error:
            self.connection.execute("rollback to savepoint proof")
            return f"a write was refused: {error.diag.message_primary}"
        raise SourceWritable("the session let a write through.", "Do not use this source; report it with the server's version.")

    def harmful_rights(self) -> list[str]:
        [(superuser, creates, copies)] = self._asked(
            "select bool_or(rolsuper), bool_or(rolcreatedb or rolcreaterole), bool_or(rolreplication) from pg_catalog.pg_roles"
            " where rolname in (current_user, session_user)"
        )
        if superuser:
            return ["the login is a superuser: it can undo what the session forbids"]
        found = ["the login may create databases or roles"] if creates else []
        found += ["the login may start a replication"] if copies else []
        held = self._asked(
            "select r.rolname from pg_catalog.pg_roles r where r.rolname = any(%s) and pg_has_role(session_user, r.oid, 'member')",
            [list(_HARMFUL_ROLES)],
        )
        found += [f"the login is a member of {name}" for (name,) in held]
        for right, count, example in self._asked(_RIGHTS_BEYOND_READING, []):
            found.append(f"the login {right} {example}" + (f" and {count - 1} more" if count > 1 else ""))
        return found

    def about(self) -> About:
        [(version, zone, encoding, clock)] = self._asked(
            "select split_part(version(), ' on ', 1), current_setting('TimeZone'), pg_encoding_to_char(encoding),"
            " extract(epoch from clock_timestamp())::float8 from pg_catalog.pg_database where datname = current_database()"
        )
        return About(str(version), str(zone), str(encoding), float(clock) - time.time())

    def catalogue(self) -> list[dict[str, Any]]:
        made, places = CatalogueBuilder(), {}
        for oid, schema, name, kind, comment, rows in self._asked(_TABLES):
            made.table(schema, name, kind=kind, comment=comment, rows_about=rows)
            places[oid] = (schema, name)
        oids = list(places)
        for oid, name, kind, base, nullable, default, comment, is_array in self._asked(_COLUMNS, [oids]):
            column = TableColumn(name, kind, "json" if is_array else _KINDS.get(base, "text"), nullable, default, comment)
            made.table(*places[oid]).columns.append(column)
        for oid, kind, target, columns, to_columns in self._asked(_KEYS, [oids]):
            where = (*places[target], to_columns) if target in places else None
            made.key(*places[oid], {"p": "primary", "u": "unique", "f": "foreign"}[kind], columns, where)
        for oid, definition in self._asked(_INDEXES, [oids]):
            made.table(*places[oid]).indexes.append(definition)
        return made.to_list()

    def _raise(self, error: psycopg.Error) -> NoReturn:
        text, binding = self.statement or ("", None)
        raise _translate(error, text, binding.rendered if binding else None) from error

    def describe(self, statement: Statement) -> Sequence[Column]:
        text = gated(statement, POSTGRESQL)
        binding = _Binding(statement, text)
        self.statement = (text, binding)
        conn = self.connection.pgconn
        self.go_on()
        self._refuse_what_is_not_allowed(with_names(statement, text, POSTGRESQL))  # first: constants are read by their types
        try:
            expected(conn.prepare(b"", binding.rendered.text.encode()), pq.ExecStatus.COMMAND_OK)
            found = expected(conn.describe_prepared(b""), pq.ExecStatus.COMMAND_OK)
        except psycopg.Error as error:
            self._raise(error)
        refuse_other_count(found.nparams, len(binding.texts))
        if not found.nfields:
            raise StatementRefused("the statement returns no columns.", "Write a statement that selects something.")
        types = self._types([(found.ftype(i), found.fmod(i)) for i in range(found.nfields)])
        nested = self._nested([found.ftype(i) for i in range(found.nfields)])
        self.columns = []
        for i in range(found.nfields):
            oid, source_type = found.ftype(i), types[i]
            kind = "json" if nested.is_nested(oid) else _KINDS.get(oid, "text")
            note = RECORD_NOTE if oid in RECORDS else ""
            self.columns.append(Column((found.fname(i) or b"").decode(), kind, source_type, note))
        self.oids = {25, 1114, *(found.ftype(i) for i in range(found.nfields))}
        self.forms = self._forms(nested, [found.ftype(i) for i in range(found.nfields)])
        return self.columns

    def _nested(self, oids: Sequence[int]) -> Types:
        """What those of the types are made of that are not plain."""
        unknown = sorted({*oids} - _KINDS.keys() - _PLAIN)
        rows = self._asked(TREE, [unknown]) if unknown else []
        return Types(rows, lambda oid, value: _MEMBERS.get(_KINDS.get(oid, ""), "{0}").format(value), POSTGRESQL.quoted)

    def _types(self, wanted: Sequence[tuple[int, int]]) -> list[str]:
        """The name of each type, in order."""
        oids, mods = [oid for oid, _ in wanted], [mod for _, mod in wanted]
        rows = self._asked(
            "select format_type(w.oid, w.mod) from unnest(%s::oid[], %s::int[]) with ordinality as w(oid, mod, n) order by w.n",
            [oids, mods],
        )
        return [str(name) for (name,) in rows]

    def _refuse_what_is_not_allowed(self, text: str) -> None:
        """Of what the statement calls and reads, by what the database says of it (``postgresql_allowed``)."""
        self.remarks = Judge(self._asked, text, self.permitted).judge(references(text, POSTGRESQL))

    def _forms(self, nested: Types, oids: Sequence[int]) -> list[str]:
        """For each column the expression whose server text is the canonical one."""
        made = []
        for number, (column, oid) in enumerate(zip(self.columns, oids, strict=True), 1):
            name = f"c{number}"
            if nested.is_nested(oid):
                made.append(nested.as_json(oid, name))
            else:
                made.append(nested.as_text(oid, name) or _CANONICAL.get(column.kind, "{0}").format(name))
        return made

    def _wrapped(self, text: str) -> str:
        """The statement with columns in canonical form; the alias list lets names repeat, the line break ends a comment."""
        names = [f"c{number}" for number in range(1, len(self.forms) + 1)]
        if self.forms == names:
            return text
        return f"select {', '.join(self.forms)} from (\n{text}\n) as ladle({', '.join(names)})"

    def batches(self, soon: bool = False) -> Iterator[Batch]:
        assert self.statement is not None, "describe comes first"
        try:
            yield from self._by_cursor() if soon else self._by_copy()
            self._settings_held()
        except psycopg.Error as error:
            self._raise(error)

    def _by_copy(self) -> Iterator[Batch]:
        """The server's own comma-separated text; its closing word says how many rows it sent."""
        assert self.statement is not None
        said, binding = self.statement
        query = f"copy (\n{self._wrapped(binding.in_place(said))}\n) to stdout (format csv)"
        self.go_on()
        copy, arrived = copy_out(self.connection, query), 0
        for text, rows in copy.pieces():
            arrived += rows
            yield CsvBatch(text, len(self.columns), rows)
            self.go_on()
        if copy.sent != arrived:
            raise ProofFailed(
                f"the server says that it sent {copy.sent:,} rows, and {arrived:,} arrived.", "Start the run again."
            )

    def _settings_held(self) -> None:
        """The settings that decide how values are written are what they were: a query may change them under its own rows."""
        found = dict(self._asked("select name, setting from pg_catalog.pg_settings where name = any(%s)", [list(_STEERING)]))
        for name, wanted in _STEERING.items():
            if found.get(name, "").split(",")[0].strip() != wanted:
                raise StatementRefused(
                    f"the statement changed {name} to '{found.get(name)}' while its rows were read.",
                    "Take the call of set_config out of the statement; the rows may be written wrongly.",
                )

    def _by_cursor(self) -> Iterator[Batch]:
        """Rows through a cursor: the server plans for the first ones, and nothing is sent that nobody reads."""
        assert self.statement is not None
        binding = self.statement[1]
        cursor = RawServerCursor(self.connection, "ladle_rows")
        for oid in self.oids:
            cursor.adapters.register_loader(oid, TextLoader)
        try:
            self.go_on()
            cursor.execute(self._wrapped(binding.rendered.text), binding.texts)
            self.go_on()
            while rows := cursor.fetchmany(BATCH_ROWS):
                columns = [pa.array(values, pa.string()) for values in zip(*rows, strict=True)]
                yield Batch(columns, [None] * len(columns), len(rows))
                self.go_on()
        finally:
            self._close_quietly(cursor)

    def _close_quietly(self, cursor: RawServerCursor[Any]) -> None:
        try:
            cursor.close()
        except psycopg.Error:
            cursor.close()  # a cancel met the closing itself: with the transaction broken, this only marks it closed

    def plan(self, statement: Statement) -> Plan:
        assert self.statement is not None, "understand comes first"
        binding, told = self.statement[1], []
        text, values = binding.rendered.text, [None if value is None else str(value).encode() for value in binding.texts]
        for form in ("json", "text"):
            found = self.connection.pgconn.exec_params(f"explain (format {form})\n{text}".encode(), values)
            if found.status != pq.ExecStatus.TUPLES_OK:
                self._raise(psycopg.errors.error_from_result(found))
            told.append("\n".join((found.get_value(row, 0) or b"").decode() for row in range(found.ntuples)))
        return of_postgresql(json.loads(told[0]), told[1])

    def release_snapshot(self) -> None:
        self.connection.execute("rollback")

    def stop(self) -> None:
        try:
            self.connection.cancel_safe(timeout=5)
        except psycopg.Error:
            self.connection.close()  # a server that takes no cancel still loses its client

    def let_go(self) -> None:
        with contextlib.suppress(OSError, psycopg.Error), socket.socket(fileno=os.dup(self.connection.fileno())) as wire:
            wire.shutdown(socket.SHUT_RDWR)

    def end(self) -> None:
        self.connection.close()


class PostgresqlEngine(Engine):
    """See Engine."""

    name = "postgresql"
    title = "PostgreSQL"
    language = POSTGRESQL
    url_schemes = ("postgresql", "postgres")
    default_port = 5432
    fields = {
        "host": AddressField(str, "name or address of the server", required=True, guarded=True),
        "port": AddressField(int, "usually 5432", required=True, guarded=True),
        "database": AddressField(str, "name of the database", required=True),
        "user": AddressField(str, "the login, one that may only read", required=True, guarded=True),
        "ssl_mode": AddressField(str, "encryption: default prefer", choices=_SSL_MODES, guarded=True),
        **TLS_FILES,
        "role": AddressField(str, "role that the session takes on"),
        "search_path": AddressField(str, "schemas that need no prefix, such as reporting, public"),
        "time_zone": AddressField(str, "zone of the session, such as Europe/London"),
    }

    def open(self, address: Mapping[str, Any], secret: str, connect_timeout_seconds: float = CONNECT_SECONDS) -> ProbingSession:
        try:
            connection = self._connection(address, secret, connect_timeout_seconds, address["database"])
        except psycopg.Error as error:
            raise _connect_failed(error, address, connect_timeout_seconds) from error
        try:
            connection.autocommit = True
            connection.execute(_BEGIN)
            connection.execute("select 1")  # takes the snapshot: from here READ WRITE is refused
        except psycopg.Error as error:
            connection.close()
            raise _translate(error) from error
        return PostgresqlSession(connection, permitted_in(address))

    def _connection(self, address: Mapping[str, Any], secret: str, seconds: float, database: str) -> psycopg.Connection[Any]:
        settings = _SETTINGS | {name: str(address[field]) for field, name in _FROM_ADDRESS.items() if field in address}
        escaped = {name: value.replace("\\", "\\\\").replace(" ", "\\ ") for name, value in settings.items()}
        files = {"ssl_ca": "sslrootcert", "ssl_certificate": "sslcert", "ssl_key": "sslkey"}
        way = way_in(address["host"], int(address["port"]), seconds)  # the library connects to what was judged
        return psycopg.connect(
            host=",".join([address["host"]] * len(way.addresses)),
            hostaddr=",".join(way.addresses),
            port=address["port"],
            dbname=database,
            user=address["user"],
            password=secret,
            connect_timeout=max(2, round(seconds)),
            options=" ".join(f"-c {name}={value}" for name, value in escaped.items()),
            keepalives_idle=30,
            sslmode=address.get("ssl_mode", "prefer"),
            **{name: address[field] for field, name in files.items() if field in address},
        )

    def end_left(self, address: Mapping[str, Any], secret: str, session: str, connect_timeout_seconds: float) -> None:
        own = {name: value for name, value in address.items() if name != "role"}  # a role may not end what its login has begun
        with self._connection(own, secret, connect_timeout_seconds, address["database"]) as connection:
            connection.execute(_END_LEFT, [int(session), _SETTINGS["application_name"]])

    def default_schema(self, address: Mapping[str, Any]) -> str:
        return str(address.get("search_path") or "public").split(",")[0].strip().strip('"')

    def databases(self, address: Mapping[str, Any], secret: str, connect_timeout_seconds: float) -> Sequence[str]:
        try:
            with self._connection(address, secret, connect_timeout_seconds, "postgres") as connection:
                rows = connection.execute(
                    "select datname from pg_catalog.pg_database"
                    " where not datistemplate and has_database_privilege(oid, 'connect') order by 1"
                ).fetchall()
        except (psycopg.Error, LadleError):
            return []  # the server does not say
        return [str(name) for (name,) in rows]
