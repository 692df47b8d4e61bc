"""MariaDB and MySQL: one read-only snapshot, streamed as the server's own text.

Read-only rests on two things together: the session's transactions are read-only before one is begun (a statement that
commits by itself would undo a transaction's own setting), and the gate in ``core.statements.scanner``, for the server lets through
``INTO OUTFILE``, ``LOAD_FILE``, locks and executable comments. The database's own prepare step gives the columns without
running anything. Values stand
at the scanner's positions as digits or hex, and the server must count as many parameters as the scanner does.

The server's text of a 32-bit FLOAT is rounded to six digits: such a column carries a note that says so.
"""

from __future__ import annotations

import re
import socket
import ssl
import struct
import time
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime, timedelta, timezone
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pymysql
from pymysql.constants import CLIENT, ER, FIELD_TYPE, FLAG
from pymysql.converters import escape_string
from pymysql.protocol import FieldDescriptorPacket

from patient_ladle.core.errors import (
    LadleError,
    RunCancelled,
    SourceWritable,
    StatementRefused,
    ValueWrong,
)
from patient_ladle.core.ports import Statement
from patient_ladle.core.results.columns import Batch, Column, canonical, canonical_floats, canonical_shortest, data_of
from patient_ladle.core.statements.catalogue import CatalogueBuilder, TableColumn
from patient_ladle.core.statements.languages.mariadb import MARIADB, bound_literal
from patient_ladle.core.statements.parts import Rendered
from patient_ladle.core.statements.plans import Plan, of_mariadb
from patient_ladle.core.values.parameters import Parameter, Scalar, Value

from .base import (
    CONNECT_SECONDS,
    TLS_FILES,
    About,
    AddressField,
    Engine,
    ProbingSession,
    gated,
    permitted_in,
    refuse_other_count,
    rendered,
    tables_by_alias,
    with_names,
)
from .mariadb_allowed import OWN_DATABASES, Judge
from .mariadb_errors import connect_failed, translate
from .mariadb_rows import DRIVER_ERRORS, Rows
from .network import opened, way_in

_COM_STMT_PREPARE, _COM_STMT_CLOSE = 0x16, 0x19
_SQL_MODE = "TRADITIONAL"
"""Set so that the scanner knows how strings are written: backslashes escape, double quotes are strings."""
READ_ONLY = ("set session transaction read only", "start transaction with consistent snapshot, read only")
"""Both: a statement that commits by itself would undo the second alone."""
_BINARY_CHARSET = 63
_NO_SCALE = 31
"""Scale of a column whose numbers have as many decimals as they need."""
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
_ZONE_NOTE = (
    "a TIMESTAMP as the clocks of {0} show it, without a zone; take the zone out of the source's address for exact moments"
)
_CATALOGUE_KINDS = {
    "tinyint": "integer", "smallint": "integer", "mediumint": "integer", "int": "integer", "bigint": "integer", "year": "integer",
    "bit": "integer", "decimal": "decimal", "float": "float", "double": "float", "date": "date", "time": "time", "datetime": "timestamp",
    "timestamp": "zoned", "binary": "binary", "varbinary": "binary", "tinyblob": "binary", "blob": "binary", "mediumblob": "binary",
    "longblob": "binary",
}  # fmt: skip
_OWN_SCHEMAS = str(OWN_DATABASES)
_RIGHT = re.compile(r"[A-Z][A-Z ]*(?: \([^)]*\))?")
_READING = ("SELECT", "USAGE", "SHOW VIEW", "SHOW DATABASES")
"""Rights that let a login read, or see what there is, and nothing else."""


_AROUND = (0, -120, -90, -60, -30, -20, 20, 30, 60, 90, 120)
"""Minutes by which clocks are put back, both ways."""


def _seconds(utc: datetime) -> str:
    """Seconds of a moment from 1970-01-01, with every digit."""
    whole = utc.replace(microsecond=0, tzinfo=timezone.utc).timestamp()
    return f"{int(whole)}.{utc.microsecond:06d}"


class MariadbSession(ProbingSession):
    """See SourceSession."""

    driver_errors = (pymysql.Error, OSError)

    def __init__(
        self, connection: pymysql.Connection[Any], engine: MariadbEngine, address: Mapping[str, Any], secret: str
    ) -> None:
        super().__init__()
        self.connection, self.engine, self.address, self.secret = connection, engine, dict(address), secret
        self.rows = Rows(connection)
        self.columns: list[Column] = []
        self.query = ""
        self.text = ""
        self.rendered: Rendered | None = None
        self.raw: list[int] = []
        self.filled: list[int] = []
        self.digits: list[int] = []
        self.shortest: list[int] = []

    def translated(self, error: Exception) -> LadleError:
        return translate(error)

    def identity(self) -> dict[str, str]:
        who = self.address
        told = {"server": f"{who['host']}:{who['port']}", "database": who["database"], "login": who["user"]}
        number: int = self.connection.thread_id()  # type: ignore[no-untyped-call]
        return told | {"session": str(number)}

    def _asked(self, query: str) -> tuple[tuple[Any, ...], ...]:
        try:
            with self.connection.cursor() as cursor:
                cursor.execute(query)
                rows: tuple[tuple[Any, ...], ...] = cursor.fetchall()
                return rows
        except (pymysql.Error, OSError) as error:
            raise translate(error) from error

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
            raise  # it failed, which proves nothing
        raise SourceWritable("the session let a write through.", "Do not use this source; report it with the server's version.")

    def harmful_rights(self) -> list[str]:
        grants = [grant for (grant,) in self._asked("show grants")]
        for (role,) in self._asked("select distinct role_name from information_schema.applicable_roles"):
            grants += [grant for (grant,) in self._asked(f"show grants for {MARIADB.quoted(str(role))}")]
        found: dict[str, None] = {}
        for grant in grants:
            rights, on, rest = str(grant).removeprefix("GRANT ").partition(" ON ")
            if not on:
                continue  # a role, whose own grants are looked at
            held = [right for right in _RIGHT.findall(rights) if right.partition(" (")[0].strip() not in _READING]
            held += ["GRANT OPTION"] if "WITH GRANT OPTION" in rest else []
            if held:
                found[f"the login has {', '.join(held)} on {rest.split(' TO ')[0]}"] = None
        return list(found)

    def about(self) -> About:
        [(version, zone, system, encoding, now)] = self._asked(
            "select version(), @@session.time_zone, @@system_time_zone, @@character_set_database, unix_timestamp(now(6))"
        )
        name = f"MariaDB {str(version).split('-MariaDB')[0]}" if "MariaDB" in str(version) else f"MySQL {version}"
        return About(name, str(system if zone == "SYSTEM" else zone), str(encoding), float(now) - time.time())

    def catalogue(self) -> list[dict[str, Any]]:
        made = CatalogueBuilder()
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

    def _keys(self, made: CatalogueBuilder, outside: str) -> None:
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

    def describe(self, statement: Statement) -> Sequence[Column]:
        self.text = gated(statement, MARIADB)
        asking = with_names(statement, self.text, MARIADB)
        self.remarks = Judge(self._asked, asking, str(self.address["database"]), permitted_in(self.address)).judge()
        marks: list[str] = []

        def mark(parameter: Parameter, _: Value) -> str:
            marks.append(parameter.name)
            return "(?)" if parameter.is_list else "?"

        marked = rendered(statement, self.text, MARIADB, mark)
        self.rendered = rendered(
            statement, self.text, MARIADB, lambda parameter, value: bound_literal(self._local(parameter, value))
        )
        self.query = self.rendered.text
        try:
            fields, found = self._prepared(self.query)
            refuse_other_count(found, 0)
            named, found = self._prepared(marked.text) if marks else (fields, 0)
            refuse_other_count(found, len(marks))
        except (pymysql.Error, OSError) as error:
            raise translate(error, self.text, self.rendered) from error
        if not fields:
            raise StatementRefused("the statement returns no columns.", "Write a statement that selects something.")
        # Names are those of the text with marks: a column that is a value alone would be called by its text.
        self.columns = [self._column(field, other.name) for field, other in zip(fields, named, strict=True)]
        self.raw = [n for n, f in enumerate(fields) if f.type_code == FIELD_TYPE.BIT]
        self.filled = [n for n, f in enumerate(fields) if f.flags & FLAG.ZEROFILL]
        self.digits = [6 if f.type_code == FIELD_TYPE.FLOAT else 15 for f in fields]
        self.shortest = [
            n for n, f in enumerate(fields)
            if f.type_code == FIELD_TYPE.DOUBLE and f.scale == _NO_SCALE and n not in self.filled
        ]  # fmt: skip
        return self.columns

    def _local(self, parameter: Parameter, value: Value) -> Value:
        """Moments with a zone as the clocks of the session's zone show them, which is how the server compares them.

        Raises ValueWrong for one in an hour that comes twice there: the server could not tell which is meant.
        """
        if isinstance(value, tuple):
            return tuple(self._clock(parameter, item) for item in value)
        return None if value is None else self._clock(parameter, value)

    def _clock(self, parameter: Parameter, value: Scalar) -> Scalar:
        if not isinstance(value, datetime) or value.tzinfo is None:
            return value
        utc = value.astimezone(timezone.utc).replace(tzinfo=None)
        zone = str(self.address.get("time_zone") or "+00:00")
        found = re.fullmatch(r"([+-])(\d{1,2}):(\d\d)", zone)
        if found:
            sign, hours, minutes = found.groups()
            return utc + int(f"{sign}1") * timedelta(hours=int(hours), minutes=int(minutes))
        around = [utc + timedelta(minutes=minutes) for minutes in _AROUND]
        [shown] = self._asked("select " + ", ".join(f"from_unixtime({_seconds(each)})" for each in around))
        if shown.count(shown[0]) > 1:
            raise ValueWrong(
                f"parameter '{parameter.name}' is in an hour that comes twice in {zone}, the zone of this source's sessions,"
                " where MariaDB cannot tell which is meant.",
                "Take the time zone out of the source's address, so that its sessions are in UTC.",
                parameter=parameter.name,
            )
        return shown[0] if isinstance(shown[0], datetime) else datetime.fromisoformat(str(shown[0]))

    def _column(self, field: Any, name: str) -> Column:
        code = field.type_code
        kind, note = _KINDS.get(code, "text"), _FLOAT_NOTE if code == FIELD_TYPE.FLOAT else ""
        if code in _STRINGS and field.charsetnr == _BINARY_CHARSET:
            kind = "binary"
        if kind == "zoned" and self.address.get("time_zone", "+00:00") != "+00:00":
            kind, note = "timestamp", _ZONE_NOTE.format(self.address["time_zone"])
        return Column(name, kind, _TYPE_NAMES.get(code, ""), note)

    def _prepared(self, query: str) -> tuple[list[Any], int]:
        """Columns and number of parameters by the server's own prepare step, which takes one statement and runs nothing
        (COM_STMT_PREPARE of the client/server protocol)."""
        connection: Any = self.connection
        connection._execute_command(_COM_STMT_PREPARE, query)
        number, column_count, parameter_count = struct.unpack_from("<IHH", connection._read_packet().get_all_data(), 1)
        for _ in range(parameter_count):
            connection._read_packet()
        if parameter_count:
            connection._read_packet()
        fields = [connection._read_packet(FieldDescriptorPacket) for _ in range(column_count)]
        if column_count:
            connection._read_packet()
        connection._execute_command(_COM_STMT_CLOSE, struct.pack("<I", number))  # which the server does not answer
        return fields, parameter_count

    def batches(self, soon: bool = False) -> Iterator[Batch]:
        assert self.query, "describe comes first"
        try:
            self.go_on()
            self.rows.execute(self.query)
            for columns in self.rows.batches():
                yield self._batch(columns)
                self.go_on()
        except DRIVER_ERRORS as error:
            if self.cancelled:
                raise RunCancelled("the statement was stopped in the source.", "Start it again when it is wanted.") from error
            raise translate(error, self.text, self.rendered) from error

    def _batch(self, columns: Sequence[pa.Array[Any]]) -> Batch:
        cells = []
        for number, (column, values) in enumerate(zip(self.columns, columns, strict=True)):
            array = _cells(column, values, number in self.raw)
            if number in self.shortest:
                array = canonical_shortest(array)
            elif column.kind == "float":
                array = canonical_floats(array, self.digits[number])
            elif number in self.filled:
                array = pc.replace_substring_regex(array, r"^0+([0-9])", r"\1")
            cells.append(array)
        return Batch(tuple(cells), (None,) * len(cells), len(columns[0]))

    def plan(self, statement: Statement) -> Plan:
        assert self.query, "understand comes first"
        try:
            with self.connection.cursor() as cursor:
                cursor.execute(f"explain {self.query}")
                names = [str(entry[0]).lower() for entry in cursor.description or ()]
                rows = [dict(zip(names, row, strict=True)) for row in cursor.fetchall()]
        except (pymysql.Error, OSError) as error:
            raise translate(error, self.text, self.rendered) from error
        [(_, cost)] = self._asked("show session status like 'Last_query_cost'")
        return of_mariadb(rows, tables_by_alias(self.text, MARIADB), float(cost) or None)

    def release_snapshot(self) -> None:
        with self.connection.cursor() as cursor:
            cursor.execute("rollback")

    def stop(self) -> None:
        try:
            with self.engine.connect(self.address, self.secret, 5.0, None) as other, other.cursor() as cursor:
                cursor.execute(f"kill query {int(self.rows.thread)}")
        except (pymysql.Error, OSError, LadleError) as error:
            if error.args[:1] != (1094,):  # the session is gone already
                self.end()  # a server that takes no kill still loses its client

    def end(self) -> None:
        """Drops the sockets: a polite end would first read the rest of a result that nobody wants any more."""
        self.rows.drop()
        bare: Any = self.connection
        bare._force_close()


def _cells(column: Column, values: pa.Array[Any], is_bits: bool) -> pa.Array[Any]:
    """Canonical text of one column, from the server's texts."""
    if is_bits:
        numbers = [None if value is None else str(int.from_bytes(value, "big")) for value in values.to_pylist()]
        return pa.array(numbers, pa.string())
    if column.kind == "binary":
        return pa.array([canonical(value) for value in values.to_pylist()], pa.string())
    texts = values.cast(pa.string())
    if column.kind in ("timestamp", "time", "zoned") and b"." in bytes(data_of(texts)):
        trimmed = pc.utf8_rtrim(pc.utf8_rtrim(texts, "0"), ".")
        texts = pc.if_else(pc.match_substring(texts, "."), trimmed, texts)
    if column.kind == "zoned":
        texts = pc.binary_join_element_wise(pc.utf8_replace_slice(texts, 10, 11, "T"), "Z", "")
    return texts


class MariadbEngine(Engine):
    """See Engine."""

    name = "mariadb"
    title = "MariaDB"
    language = MARIADB
    url_schemes = ("mariadb", "mysql")
    default_port = 3306
    fields = {
        "host": AddressField(str, "name or address of the server", required=True, guarded=True),
        "port": AddressField(int, "usually 3306", required=True, guarded=True),
        "database": AddressField(str, "name of the database", required=True),
        "user": AddressField(str, "the login, one that may only read", required=True, guarded=True),
        "ssl_mode": AddressField(
            str, "encryption: default prefer", choices=("disable", "prefer", "require", "verify-full"), guarded=True
        ),
        **TLS_FILES,
        "role": AddressField(str, "role that the session takes on"),
        "time_zone": AddressField(str, "zone of the session, such as +01:00; default UTC"),
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
        way = way_in(address["host"], int(address["port"]), seconds)
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
            defer_connect=True,
        )
        wire = opened(way, int(address["port"]), seconds)  # to what was judged; the name is for the certificate
        wire.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        wire.setsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE, 1)
        wire.settimeout(None)
        made.connect(wire)
        bare: Any = made
        bare._read_timeout = None  # from here the run's own deadline counts
        return made

    def open(self, address: Mapping[str, Any], secret: str, connect_timeout_seconds: float = CONNECT_SECONDS) -> ProbingSession:
        try:
            connection = self.connect(address, secret, connect_timeout_seconds, address["database"])
        except (pymysql.Error, OSError, ValueError) as error:
            raise connect_failed(error, address, connect_timeout_seconds) from error
        try:
            with connection.cursor() as cursor:
                for statement in self.settling(address):
                    cursor.execute(statement)
        except (pymysql.Error, OSError) as error:
            raise translate(error) from error
        return MariadbSession(connection, self, address, secret)

    def settling(self, address: Mapping[str, Any]) -> list[str]:
        """The statements that make a connection a session of ours: settings, then the read-only snapshot."""
        role = [f"set role {MARIADB.quoted(address['role'])}"] if "role" in address else []
        zone = escape_string(str(address.get("time_zone", "+00:00")))
        return [
            *role,
            f"set session sql_mode = '{_SQL_MODE}', time_zone = '{zone}'",
            "set session lock_wait_timeout = 30, innodb_lock_wait_timeout = 30, net_write_timeout = 3600",
            *READ_ONLY,
        ]

    def end_left(self, address: Mapping[str, Any], secret: str, session: str, connect_timeout_seconds: float) -> None:
        try:
            with self.connect(address, secret, connect_timeout_seconds, None) as connection, connection.cursor() as cursor:
                cursor.execute(f"kill {int(session)}")
        except pymysql.OperationalError as error:
            if error.args[0] != ER.NO_SUCH_THREAD:
                raise

    def default_schema(self, address: Mapping[str, Any]) -> str:
        return str(address["database"])

    def databases(self, address: Mapping[str, Any], secret: str, connect_timeout_seconds: float) -> Sequence[str]:
        try:
            with self.connect(address, secret, connect_timeout_seconds, None) as connection, connection.cursor() as cursor:
                cursor.execute("show databases")
                return [str(name) for (name,) in cursor.fetchall() if name not in OWN_DATABASES]
        except (pymysql.Error, OSError, LadleError):
            return []  # the server does not say
