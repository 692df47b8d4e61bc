"""MariaDB and MySQL through PyMySQL: one read-only snapshot, streamed as the server's own text.

Read-only rests on two things together: the session's transactions are read-only before one is begun (a statement that
commits by itself would undo a transaction's own setting), and the gate in ``core.scanner``, for the server lets through
``INTO OUTFILE``, ``LOAD_FILE``, locks and executable comments. The database's own prepare step gives the columns without
running anything. Values are quoted by the driver on the live connection and stand at the scanner's positions.

The server's text of a 32-bit FLOAT is rounded to six digits: such a column carries a note that says so.
"""

from __future__ import annotations

import ssl
import struct
import time
from collections.abc import Iterator, Mapping, Sequence
from datetime import date, datetime, timezone
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pymysql
from pymysql.constants import CLIENT, FIELD_TYPE
from pymysql.converters import escape_string
from pymysql.cursors import SSCursor
from pymysql.protocol import FieldDescriptorPacket

from patient_ladle.core.catalogue import Gathering, TableColumn
from patient_ladle.core.columns import BATCH_ROWS, Batch, Column, canonical
from patient_ladle.core.dialects import MARIADB
from patient_ladle.core.errors import (
    ConnectionLost,
    LadleError,
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
from patient_ladle.core.parameters import Parameter, Value
from patient_ladle.core.ports import Statement
from patient_ladle.core.scanner import Rendered, one_reading_statement, place, replace_parameters

from .base import CONNECT_SECONDS, About, AddressField, Engine, ProbingSession
from .network import no_answer, nothing_listens, resolve

_COM_STMT_PREPARE = 0x16
_SQL_MODE = "TRADITIONAL"
"""Set so that the scanner knows how strings are written: backslashes escape, double quotes are strings."""
_BINARY_CHARSET = 63
_INTEGERS = (FIELD_TYPE.TINY, FIELD_TYPE.SHORT, FIELD_TYPE.LONG, FIELD_TYPE.LONGLONG, FIELD_TYPE.INT24, FIELD_TYPE.YEAR)
_KINDS = {
    **dict.fromkeys(_INTEGERS, "integer"),
    FIELD_TYPE.BIT: "integer",
    FIELD_TYPE.DECIMAL: "decimal",
    FIELD_TYPE.NEWDECIMAL: "decimal",
    FIELD_TYPE.FLOAT: "float",
    FIELD_TYPE.DOUBLE: "float",
    FIELD_TYPE.DATE: "date",
    FIELD_TYPE.NEWDATE: "date",
    FIELD_TYPE.TIME: "time",
    FIELD_TYPE.DATETIME: "timestamp",
    FIELD_TYPE.TIMESTAMP: "zoned",
    FIELD_TYPE.GEOMETRY: "binary",
}
_TYPE_NAMES = {code: name.lower() for name, code in vars(FIELD_TYPE).items() if name.isupper()}
_STRINGS = (FIELD_TYPE.VARCHAR, FIELD_TYPE.VAR_STRING, FIELD_TYPE.STRING, FIELD_TYPE.BLOB,
            FIELD_TYPE.TINY_BLOB, FIELD_TYPE.MEDIUM_BLOB, FIELD_TYPE.LONG_BLOB)  # fmt: skip
_FLOAT_NOTE = "a 32-bit float, which MariaDB sends rounded to six digits; select cast(… as double) for all of them"
_CATALOGUE_KINDS = {
    "tinyint": "integer", "smallint": "integer", "mediumint": "integer", "int": "integer", "bigint": "integer", "year": "integer",
    "bit": "integer", "decimal": "decimal", "float": "float", "double": "float", "date": "date", "time": "time", "datetime": "timestamp",
    "timestamp": "zoned", "binary": "binary", "varbinary": "binary", "tinyblob": "binary", "blob": "binary", "mediumblob": "binary",
    "longblob": "binary",
}  # fmt: skip
_OWN_SCHEMAS = "('information_schema', 'mysql', 'performance_schema', 'sys')"
_HARMFUL = (
    "ALL PRIVILEGES",
    "FILE",
    "SUPER",
    "INSERT",
    "UPDATE",
    "DELETE",
    "DROP",
    "CREATE",
    "ALTER",
    "EXECUTE",
    "PROCESS",
    "SHUTDOWN",
)


def _translate(error: Exception, text: str = "", rendered: Rendered | None = None) -> LadleError:
    """The one map from the driver's errors to ours, by the server's error number."""
    number = error.args[0] if error.args and isinstance(error.args[0], int) else 0
    said = str(error.args[1] if len(error.args) > 1 else error).rstrip(".")
    if number in (1317, 3024):
        return RunCancelled("the statement was stopped in the source.", "Start it again when it is wanted.")
    if number in (0, 2003, 2006, 2013, 1053, 1927, 4031, 1080) or isinstance(error, (pymysql.InterfaceError, OSError)):
        return ConnectionLost(
            f"the connection to the source broke: {said or 'it is closed'}.", "Start the run again; it may pass."
        )
    if number in (1040, 1203):
        return SourceUnreachable(f"the source has no room for the session: {said}.", "Try again later.")
    if number in (1792, 1290):
        return StatementRefused(f"the statement would write: {said}.", "An extract only reads; take that part out.")
    if number in (1142, 1143, 1044, 1227, 1370):
        return SourceNotReadable(f"the login may not read this: {said}.", "Ask for the right to select from it.")
    if number in (1205, 1213):
        return StatementFailed(f"the database failed while running the statement: {said}.", "Start the run again.")
    if number in (1146, 1054, 1064, 1052, 1305, 1049, 1109, 1630, 1582, 1055, 1056, 1066, 1060, 1222, 1235, 1295, 1241, 1248):
        where, facts = _placed(said, text, rendered)
        return StatementWrong(
            f"the database does not understand the statement: {said}{where}.",
            "Correct the statement and save it again.",
            **facts,
        )
    return StatementFailed(
        f"the database failed while running the statement: {said}.", "Correct the statement or the data it meets."
    )


def _placed(said: str, text: str, rendered: Rendered | None) -> tuple[str, dict[str, int]]:
    """The server gives a line for syntax at most: the name or the rest it quotes is looked for in the author's text."""
    quoted = said.split("'")[1] if said.count("'") > 1 else ""
    if "near '" in said:
        quoted = said.split("near '", 1)[1].rsplit("'", 1)[0]
        at = rendered.text.find(quoted) if rendered is not None and quoted else -1
        if at < 0 or rendered is None or rendered.text.count(quoted) != 1:
            return "", {}
        line, column = place(text, rendered.original(at))
    else:
        word = quoted if text.count(quoted) == 1 else quoted.rpartition(".")[2]
        if not word or text.count(word) != 1:
            return "", {}
        line, column = place(text, text.index(word))
    return f" (line {line}, column {column})", {"line": line, "column": column}


def _connect_failed(error: Exception, address: Mapping[str, Any], seconds: float) -> LadleError:
    number = error.args[0] if error.args and isinstance(error.args[0], int) else 0
    said = str(error.args[1] if len(error.args) > 1 else error)
    host, port = address["host"], address["port"]
    if number == 1049:
        return SourceDatabaseMissing(
            f"there is no database '{address['database']}' at {host}:{port}.", "Correct the database of the source."
        )
    if number == 1044:
        return SourceDatabaseMissing(
            f"the login '{address['user']}' may not use a database '{address['database']}' at {host}:{port}, if there is one.",
            "Correct the database of the source, or ask for the right to select from it.",
        )
    if "SSL" in said or "certificate" in said or "TLS" in said or number in (2026, 3159):
        return SourceTlsRefused(
            f"no encrypted connection to {host}:{port}: {said}.", "Correct the source's ssl_mode or its certificates."
        )
    if number in (1045, 1698, 1130, 1251, 1862, 1820):
        return SourceSignInRefused(
            f"the server at {host}:{port} refused the login '{address['user']}'.",
            "Correct the user or the password of the source.",
        )
    if "timed out" in said or "timeout" in said.lower():
        return no_answer(host, port, seconds)
    if "refused" in said:
        return nothing_listens(host, port)
    return SourceUnreachable(f"no connection to {host}:{port}: {said}.", "Check that the database runs and accepts logins.")


class MariadbSession(ProbingSession):
    """See SourceSession."""

    def __init__(
        self, connection: pymysql.Connection[Any], engine: MariadbEngine, address: Mapping[str, Any], secret: str
    ) -> None:
        super().__init__()
        self.connection, self.engine, self.address, self.secret = connection, engine, dict(address), secret
        self.thread = connection.thread_id()
        self.columns: list[Column] = []
        self.query = ""
        self.text = ""
        self.rendered: Rendered | None = None
        self.cursor: Any = None
        self.raw: list[int] = []

    def identity(self) -> dict[str, str]:
        who = self.address
        return {"server": f"{who['host']}:{who['port']}", "database": who["database"], "login": who["user"]}

    def _asked(self, query: str) -> tuple[tuple[Any, ...], ...]:
        try:
            with self.connection.cursor() as cursor:
                cursor.execute(query)
                return cursor.fetchall()
        except (pymysql.Error, OSError) as error:
            raise _translate(error) from error

    def probe(self) -> str:
        [(count,)] = self._asked(f"select count(*) from information_schema.tables where table_schema not in {_OWN_SCHEMAS}")
        return f"{count} tables and views can be seen"

    def prove_read_only(self) -> str:
        try:
            with self.connection.cursor() as cursor:
                cursor.execute("create temporary table ladle_proof (a int)")
        except pymysql.Error as error:
            if error.args[0] == 1792:
                return f"a write was refused: {error.args[1]}"
            if error.args[0] in (1044, 1142, 1227):
                return f"the login's rights refused a write: {error.args[1]}"
            raise _translate(error) from error
        raise SourceWritable("the session let a write through.", "Do not use this source; report it with the server's version.")

    def harmful_rights(self) -> list[str]:
        found = []
        for (grant,) in self._asked("show grants"):
            rights, _, rest = str(grant).removeprefix("GRANT ").partition(" ON ")
            held = [name for name in _HARMFUL if name in [word.strip() for word in rights.split(",")]]
            if held:
                found.append(f"the login has {', '.join(held)} on {rest.split(' TO ')[0]}")
        return found

    def about(self) -> About:
        [(version, zone, system, encoding, now)] = self._asked(
            "select version(), @@session.time_zone, @@system_time_zone, @@character_set_database, unix_timestamp(now(6))"
        )
        name = f"MariaDB {str(version).split('-MariaDB')[0]}" if "MariaDB" in str(version) else f"MySQL {version}"
        return About(name, str(system if zone == "SYSTEM" else zone), str(encoding), float(now) - time.time())

    def catalogue(self) -> list[dict[str, Any]]:
        made = Gathering()
        outside = f"table_schema not in {_OWN_SCHEMAS}"
        for schema, name, kind, comment, rows in self._asked(
            f"select table_schema, table_name, table_type, table_comment, table_rows from information_schema.tables where {outside}"
        ):
            is_view = kind == "VIEW"
            facts = {
                "kind": "view" if is_view else "table",
                "comment": "" if is_view else comment,
                "rows_about": None if rows is None else int(rows),
            }
            made.table(schema, name, **facts)
        for schema, name, column, kind, base, nullable, default, comment in self._asked(
            "select table_schema, table_name, column_name, column_type, data_type, is_nullable = 'YES', column_default, column_comment"
            f" from information_schema.columns where {outside} order by table_schema, table_name, ordinal_position"
        ):
            found = TableColumn(
                column,
                kind,
                _CATALOGUE_KINDS.get(base, "text"),
                nullable == "1",
                None if default == "NULL" else default,
                comment,
            )
            made.table(schema, name).columns.append(found)
        self._keys(made, outside)
        return made.to_list()

    def _keys(self, made: Gathering, outside: str) -> None:
        keys: dict[tuple[str, str, str], list[tuple[Any, ...]]] = {}
        for row in self._asked(
            "select table_schema, table_name, constraint_name, column_name, referenced_table_schema, referenced_table_name,"
            f" referenced_column_name from information_schema.key_column_usage where {outside}"
            " order by table_schema, table_name, constraint_name, ordinal_position"
        ):
            keys.setdefault(row[:3], []).append(row)
        for (schema, name, constraint), rows in keys.items():
            columns = [row[3] for row in rows]
            target = (rows[0][4], rows[0][5], [row[6] for row in rows]) if rows[0][5] else None
            kind = "foreign" if target else "primary" if constraint == "PRIMARY" else "unique"
            made.key(schema, name, kind, columns, target)
        for schema, name, index, unique, columns in self._asked(
            "select table_schema, table_name, index_name, non_unique = 0, group_concat(column_name order by seq_in_index separator ', ')"
            f" from information_schema.statistics where {outside} group by table_schema, table_name, index_name, non_unique"
        ):
            made.table(schema, name).indexes.append(f"{'unique ' if unique == '1' else ''}{index} ({columns})")

    def _literal(self, parameter: Parameter, value: Value) -> str:
        if isinstance(value, tuple):
            return f"({', '.join(self._literal(parameter, item) for item in value)})" if value else "(null)"
        if value is None:
            return "null"
        if isinstance(value, bool):
            return "true" if value else "false"
        if isinstance(value, (int, Decimal)):
            return format(value, "f") if isinstance(value, Decimal) else str(value)
        if isinstance(value, datetime):
            plain = value.astimezone(timezone.utc).replace(tzinfo=None) if value.tzinfo else value
            return f"timestamp'{plain.isoformat(sep=' ')}'"
        if isinstance(value, date):
            return f"date'{value.isoformat()}'"
        return str(self.connection.escape(value))

    def describe(self, statement: Statement) -> Sequence[Column]:
        self.text = one_reading_statement(statement.text, MARIADB)
        bound = statement.values

        def put(name: str) -> str:
            if name not in bound.parameters:
                raise StatementRefused(f"the statement uses ':{name}', which is not declared.", "Declare the parameter.")
            return self._literal(bound.parameters[name], bound.values[name])

        self.rendered = replace_parameters(self.text, MARIADB, put)
        self.query = self.rendered.text
        try:
            fields = self._prepared(self.query)
        except (pymysql.Error, OSError) as error:
            raise _translate(error, self.text, self.rendered) from error
        if not fields:
            raise StatementRefused("the statement returns no columns.", "Write a statement that selects something.")
        self.columns = [self._column(field) for field in fields]
        self.raw = [n for n, f in enumerate(fields) if f.type_code == FIELD_TYPE.BIT]
        return self.columns

    def _column(self, field: Any) -> Column:
        code = field.type_code
        kind = _KINDS.get(code, "text")
        if code in _STRINGS and field.charsetnr == _BINARY_CHARSET:
            kind = "binary"
        if kind == "zoned" and self.address.get("time_zone", "+00:00") != "+00:00":
            kind = "timestamp"
        return Column(field.name, kind, _TYPE_NAMES.get(code, ""), _FLOAT_NOTE if code == FIELD_TYPE.FLOAT else "")

    def _prepared(self, query: str) -> list[Any]:
        """Columns by the server's own prepare step (COM_STMT_PREPARE of the client/server protocol); runs nothing."""
        connection: Any = self.connection
        connection._execute_command(_COM_STMT_PREPARE, query)
        head = connection._read_packet()
        column_count, parameter_count = struct.unpack_from("<HH", head.get_all_data(), 5)
        for _ in range(parameter_count):
            connection._read_packet()
        if parameter_count:
            connection._read_packet()
        fields = [connection._read_packet(FieldDescriptorPacket) for _ in range(column_count)]
        if column_count:
            connection._read_packet()
        return fields

    def batches(self) -> Iterator[Batch]:
        assert self.query, "describe comes first"
        try:
            self.go_on()
            cursor = self.cursor = self.connection.cursor(SSCursor)
            cursor.execute(self.query)
            while rows := cursor.fetchmany(BATCH_ROWS):
                yield self._batch(rows)
                self.go_on()
        except (pymysql.Error, OSError) as error:
            if self.cancelled:
                raise RunCancelled("the statement was stopped in the source.", "Start it again when it is wanted.") from error
            raise _translate(error, self.text, self.rendered) from error

    def _batch(self, rows: Sequence[Sequence[Any]]) -> Batch:
        cells = []
        for number, (column, values) in enumerate(zip(self.columns, zip(*rows, strict=True), strict=True)):
            texts: Sequence[str | None]
            if number in self.raw:
                texts = [None if value is None else str(int.from_bytes(value, "big")) for value in values]
            elif column.kind == "binary":
                texts = [canonical(value.encode() if isinstance(value, str) else value) for value in values]
            elif column.kind == "zoned":
                texts = [None if value is None else value.replace(" ", "T", 1) + "Z" for value in map(_trimmed, values)]
            elif column.kind in ("timestamp", "time"):
                texts = [_trimmed(value) for value in values]
            else:
                texts = [value.decode() if isinstance(value, bytes) else value for value in values]
            cells.append(pa.array(texts, pa.string()))
        return Batch(tuple(cells), (None,) * len(cells), len(rows))

    def stop(self) -> None:
        try:
            with self.engine.connect(self.address, self.secret, 5.0, None) as other, other.cursor() as cursor:
                cursor.execute(f"kill query {int(self.thread)}")
        except (pymysql.Error, OSError) as error:
            if error.args[:1] != (1094,):  # the session is gone already
                self._drop()  # a server that takes no kill still loses its client

    def _drop(self) -> None:
        """Let go of the socket, and tell the streaming cursor that there is nothing left to drain."""
        cursor, force = self.cursor, self.connection
        if cursor is not None:
            result = getattr(cursor, "_result", None)
            if result is not None:
                result.unbuffered_active, result.connection = False, None
            cursor.connection = None
        force._force_close()

    def end(self) -> None:
        """Drops the socket: a polite end would first read the rest of a result that nobody wants any more."""
        self._drop()


def _trimmed(value: Any) -> str | None:
    text = value.decode() if isinstance(value, bytes) else value
    return text.rstrip("0").rstrip(".") if text is not None and "." in text else text


class MariadbEngine(Engine):
    """See Engine."""

    name = "mariadb"
    title = "MariaDB"
    dialect = MARIADB
    fields = {
        "host": AddressField(str, "name or address of the server", required=True, guarded=True),
        "port": AddressField(int, "usually 3306", required=True, guarded=True),
        "database": AddressField(str, "name of the database", required=True),
        "user": AddressField(str, "the login, one that may only read", required=True, guarded=True),
        "ssl_mode": AddressField(
            str, "encryption: prefer unless set", choices=("disable", "prefer", "require", "verify-full"), guarded=True
        ),
        "ssl_ca": AddressField(str, "file of the authority's certificate", guarded=True, is_path=True),
        "ssl_certificate": AddressField(str, "file of the client's certificate", guarded=True, is_path=True),
        "ssl_key": AddressField(str, "file of the client certificate's key", guarded=True, is_path=True),
        "role": AddressField(str, "role that the session takes on"),
        "time_zone": AddressField(str, "zone of the session, such as +01:00; UTC unless set"),
    }

    def connect(self, address: Mapping[str, Any], secret: str, seconds: float, database: str | None) -> pymysql.Connection[Any]:
        """A bare connection. Raises the driver's errors."""
        mode = address.get("ssl_mode", "prefer")
        context: ssl.SSLContext | None = None
        if mode not in ("disable", "prefer"):
            context = ssl.create_default_context(cafile=address.get("ssl_ca"))
            if mode == "require":
                context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
            if "ssl_certificate" in address:
                context.load_cert_chain(address["ssl_certificate"], address.get("ssl_key"))
        made = pymysql.connect(
            host=address["host"],
            port=address["port"],
            user=address["user"],
            password=secret,
            database=database,
            charset="utf8mb4",
            conv={},  # the server's own texts, no objects
            connect_timeout=max(1, round(seconds)),
            read_timeout=max(1, round(seconds)),  # covers a server that accepts and says nothing
            write_timeout=max(1, round(seconds)),
            autocommit=True,
            client_flag=CLIENT.FOUND_ROWS,
            ssl=context,  # without one the driver encrypts where the server offers it
            ssl_disabled=mode == "disable",
        )
        bare: Any = made
        bare._read_timeout = None  # from here the run's own deadline counts
        return made

    def open(self, address: Mapping[str, Any], secret: str, connect_seconds: float = CONNECT_SECONDS) -> ProbingSession:
        resolve(address["host"], connect_seconds)
        try:
            connection = self.connect(address, secret, connect_seconds, address["database"])
        except (pymysql.Error, OSError, ValueError) as error:
            raise _connect_failed(error, address, connect_seconds) from error
        try:
            with connection.cursor() as cursor:
                if "role" in address:
                    cursor.execute(f"set role {MARIADB.quoted(address['role'])}")
                zone = escape_string(str(address.get("time_zone", "+00:00")))
                cursor.execute(f"set session sql_mode = '{_SQL_MODE}', time_zone = '{zone}'")
                cursor.execute("set session lock_wait_timeout = 30, innodb_lock_wait_timeout = 30, net_write_timeout = 3600")
                cursor.execute("set session transaction read only")
                cursor.execute("start transaction with consistent snapshot, read only")
        except (pymysql.Error, OSError) as error:
            raise _translate(error) from error
        return MariadbSession(connection, self, address, secret)

    def default_schema(self, address: Mapping[str, Any]) -> str:
        return str(address["database"])

    def databases(self, address: Mapping[str, Any], secret: str, connect_seconds: float) -> Sequence[str]:
        try:
            with self.connect(address, secret, connect_seconds, None) as connection, connection.cursor() as cursor:
                cursor.execute("show databases")
                return [str(name) for (name,) in cursor.fetchall() if name not in _OWN_SCHEMAS]
        except (pymysql.Error, OSError):
            return []  # the server does not say
