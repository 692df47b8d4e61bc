"""Document stores of the MongoDB wire protocol: commands that read, their documents as rows.

Read-only rests on what is sent: ``core.statements.documents`` lets through four commands, and of pipelines the stages that read,
one by one. What the login could do besides is asked of the server and told. A run's statements read one moment where the
server gives snapshots (members of replica sets), else each what it finds; the run's record says which.

Documents come as the server sends them and are taken apart in whole batches (core.documents); all of them are looked through
before the columns are known, so that none is left out.
"""

from __future__ import annotations

import decimal
import json
import time
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime, timezone
from functools import cache
from typing import TYPE_CHECKING, Any

from patient_ladle.core.documents.fields import fields_of
from patient_ladle.core.documents.table import DocumentTable
from patient_ladle.core.errors import (
    BadInput,
    LadleError,
    RunCancelled,
    SourceDatabaseMissing,
    StatementRefused,
    StatementWrong,
    unknown_name,
)
from patient_ladle.core.ports import Statement
from patient_ladle.core.results.columns import BATCH_ROWS, Batch, Column
from patient_ladle.core.statements.catalogue import CatalogueBuilder, Table
from patient_ladle.core.statements.documents.operators import OF_THE_SERVER
from patient_ladle.core.statements.documents.projections import Wanted, wanted
from patient_ladle.core.statements.languages.documents import DOCUMENTS
from patient_ladle.core.statements.parts import place
from patient_ladle.core.statements.plans import Plan, of_documents
from patient_ladle.core.values.parameters import BoundValues
from patient_ladle.lazily import lazily

from .base import CONNECT_SECONDS, TLS_FILES, About, AddressField, Engine, ProbingSession
from .documents_errors import NOT_ALLOWED, connect_failed, translate
from .network import knock, way_in

if TYPE_CHECKING:
    import bson
    import pymongo
    from bson import codec_options, json_util
else:
    pymongo, bson, codec_options, json_util = map(lazily, ("pymongo", "bson", "bson.codec_options", "bson.json_util"))

SNAPSHOTS_FROM = 13
"""The protocol's version from which on members of replica sets give snapshots."""
SAMPLE = 200
"""Documents of a collection that its fields are told from."""
_SECONDS = 1000
STOP_SECONDS = 2.0
"""For which a server is waited for that is told to stop: one that is silent is let go of."""
LOOK_SECONDS = 5.0
"""Within which the server answers what is asked about one collection."""
CATALOGUE_SECONDS = 20.0
"""For which collections are looked into one after the other: a query ends after 30."""
_PREFERENCES = {
    "primary": "primary", "primary-preferred": "primaryPreferred", "secondary": "secondary",
    "secondary-preferred": "secondaryPreferred", "nearest": "nearest",
}  # fmt: skip
_LOOKING = """changeStream collStats connPoolStats cursorInfo dbHash dbStats find getCmdLineOpts getDatabaseVersion
getDefaultRWConcern getLog getShardMap getShardVersion hostInfo indexStats inprog killCursors listCachedAndActiveUsers
listCollections listDatabases listIndexes listSampledQueries listSearchIndexes listSessions listShards lockInfo netstat
planCacheRead queryStatsRead replSetGetConfig replSetGetStatus serverStatus shardingState top useUUID validate"""
READING = frozenset(_LOOKING.split())
"""Actions that let a login look, and nothing else."""


@cache
def _values() -> codec_options.CodecOptions[Any]:
    """How values come: moments as datetimes where those can hold them, with their zone."""
    return codec_options.CodecOptions(datetime_conversion=codec_options.DatetimeConversion.DATETIME_AUTO, tz_aware=True)


class DocumentSession(ProbingSession):
    """See SourceSession."""

    def __init__(self, connection: pymongo.MongoClient[Any], address: Mapping[str, Any], snapshots: bool) -> None:
        super().__init__()
        self.driver_errors = (pymongo.errors.PyMongoError, bson.errors.BSONError, OSError)
        self.connection, self.address = connection, dict(address)
        self.snapshots = snapshots
        self.session = connection.start_session(snapshot=snapshots)
        self.number = self.session.session_id
        self.table: DocumentTable | None = None

    def translated(self, error: Exception) -> LadleError:
        if self.cancelled:
            return RunCancelled("the statement was stopped in the source.", "Start it again when it is wanted.")
        return translate(error, bool(self.table and self.table.rows))

    @property
    def database(self) -> Any:
        """The one of the address."""
        return self.connection.get_database(self.address["database"], codec_options=_values())

    def identity(self) -> dict[str, str]:
        who = self.address
        return {
            "server": f"{who['host']}:{who['port']}",
            "database": who["database"],
            "login": who.get("user", "nobody"),
            "session": bytes(self.number["id"]).hex(),
            "snapshot": "one for all statements" if self.snapshots else "none: each statement reads what it finds",
        }

    def probe(self) -> str:
        return f"{len(self._names())} collections can be seen"

    def _names(self) -> list[str]:
        return [str(each["name"]) for each in self._collections()]

    def _collections(self) -> list[dict[str, Any]]:
        with pymongo.timeout(LOOK_SECONDS):
            found = list(self.database.list_collections(nameOnly=True, authorizedCollections=True))
        return [each for each in found if not each["name"].startswith(OF_THE_SERVER)]

    def prove_read_only(self) -> str:
        return "only commands that read are sent: a statement with anything else in it is refused before; the login's rights follow"

    def harmful_rights(self) -> list[str]:
        told = self.connection.admin.command("connectionStatus", showPrivileges=True)["authInfo"]
        found: dict[str, None] = {}
        for each in told.get("authenticatedUserPrivileges", ()):
            beyond = sorted(set(each["actions"]) - READING)
            if beyond:
                where = each["resource"]
                on = ".".join(filter(None, (where.get("db"), where.get("collection")))) or "the whole server"
                shown = ", ".join(beyond[:5]) + (f" and {len(beyond) - 5} more" if len(beyond) > 5 else "")
                found[f"the login may {shown} on {on}"] = None
        return list(found)

    def about(self) -> About:
        told = self.connection.admin.command("hello")
        version = self.connection.admin.command("buildInfo")["version"]
        now = told["localTime"].replace(tzinfo=timezone.utc)
        group = f", replica set {told['setName']}" if "setName" in told else ""
        return About(f"document store {version}{group}", "UTC", "UTF-8", (now - datetime.now(timezone.utc)).total_seconds())

    def catalogue(self) -> list[dict[str, Any]]:
        made = CatalogueBuilder()
        schema = self.address["database"]
        ends = time.monotonic() + CATALOGUE_SECONDS
        for each in self._collections():
            is_view = each.get("type") == "view"
            self.go_on()
            table = made.table(schema, str(each["name"]), kind="view" if is_view else "table")
            if time.monotonic() > ends:
                table.comment = "not looked into: the time for all of them was over"
                continue
            try:
                with pymongo.timeout(LOOK_SECONDS):
                    self._describe_collection(table, is_view)
            except pymongo.errors.PyMongoError as error:
                if error.timeout:
                    table.comment = f"not looked into: no answer within {LOOK_SECONDS:g} s"
                elif not isinstance(error, pymongo.errors.OperationFailure) or error.code not in NOT_ALLOWED:
                    raise
        return made.to_list()

    def _describe_collection(self, table: Table, is_view: bool) -> None:
        """Its size and indexes, which a view has not, and its fields. Raises the driver's errors."""
        collection = self.database[table.name]
        if not is_view:
            told = self.database.command("collStats", table.name)
            table.rows_about, table.comment = int(told["count"]), f"{int(told['size']):,} bytes"
            for index in collection.list_indexes():
                fields = ", ".join(f"{key} descending" if way == -1 else str(key) for key, way in index["key"].items())
                table.indexes.append(f"{'unique ' if index.get('unique') else ''}{index['name']} ({fields})")
        sample = DocumentTable({"identifier": True}, Wanted())
        for raw in collection.find_raw_batches({}, limit=SAMPLE):
            sample.add(raw)
        table.columns = fields_of(sample)

    def describe(self, statement: Statement) -> Sequence[Column]:
        command = self._command(statement)
        reading = statement.reading
        self._forget()
        expected = wanted(command)
        columns = list(dict.fromkeys([*expected.columns, *reading.columns]))
        self.table = table = DocumentTable(reading.options, Wanted(columns, expected.identifier or "_id" in reading.columns))
        size = 0
        for raw in self._raw(command, statement.query_timeout_seconds, reading.first):
            self.go_on()
            table.add(raw)
            size += len(raw)
            reading.looked(table.rows, size)
            if reading.first and table.rows >= reading.first:
                break
        if not table.seen:
            self._look_without_filter(command, table)
        return table.columns()

    def understand(self, statement: Statement) -> Sequence[Column]:
        self._command(statement)
        return []

    def _command(self, statement: Statement) -> dict[str, Any]:
        """What is sent. Raises StatementRefused, StatementWrong: also for a collection that is not there."""
        plain = DOCUMENTS.command(statement.text, statement.values)
        try:
            command: dict[str, Any] = json_util.loads(json.dumps(plain), json_options=json_util.RELAXED_JSON_OPTIONS)
            bson.encode(command)
        except (ValueError, TypeError, KeyError, OverflowError, decimal.DecimalException, bson.errors.BSONError) as error:
            raise StatementWrong(
                f"a value of the statement is not what it says: {error}.",
                'Write such values as extended JSON has them: {"$date": "2026-11-24T06:05:00Z"}, {"$numberDecimal": "1.50"}.',
            ) from error
        self._refuse_unknown(statement.text, statement.values)
        return command

    def _refuse_unknown(self, text: str, values: BoundValues) -> None:
        """A store gives nothing for a collection that is not there: a night's file would be empty for a slip of the pen."""
        try:
            known = self._names()
        except pymongo.errors.OperationFailure as error:
            if error.code not in NOT_ALLOWED:
                raise
            return  # whoever may not look there knows the names
        for name, start in DOCUMENTS.collections(text, values):
            if name not in known:
                line, column = place(text, start)
                found = unknown_name("collection", name, known)
                raise StatementWrong(
                    f"{found.message[:-1]} (line {line}, column {column}).",
                    found.hint,
                    line=line, column=column, missing="table", name=name,
                )  # fmt: skip

    def _raw(self, command: dict[str, Any], seconds: float, first: int) -> Iterator[bytes]:
        """Documents as they come, batch by batch. What the driver itself does not take is the statement's fault."""
        try:
            yield from self._sent(command, seconds, first)
        except (AttributeError, TypeError, ValueError) as error:
            raise StatementWrong(
                f"the statement cannot be sent: {error}.", "Correct the kind of that value, or of the parameter there."
            ) from error

    def _sent(self, command: dict[str, Any], seconds: float, first: int) -> Iterator[bytes]:
        limit = max(1, round(seconds * _SECONDS))
        [(name, collection), *rest] = command.items()
        given = dict(rest)
        space = self.database[str(collection)]
        rows = min(first, BATCH_ROWS) if first else BATCH_ROWS
        renamed = {"allowDiskUse": "allow_disk_use"} if name == "find" else {}
        more = {renamed.get(key, key): given[key] for key in ("hint", "collation", "let", "allowDiskUse") if key in given}
        if name == "find":
            yield from space.find_raw_batches(
                given.get("filter") or {}, given.get("projection") or None, given.get("skip", 0), given.get("limit", 0),
                sort=list(given.get("sort", {}).items()) or None, batch_size=rows, max_time_ms=limit, session=self.session, **more,
            )  # fmt: skip
        elif name == "aggregate":
            yield from space.aggregate_raw_batches(
                given["pipeline"], batchSize=rows, maxTimeMS=limit, session=self.session, **more
            )
        elif name in ("count", "distinct"):
            yield from self._answered(name, command | {"maxTimeMS": limit})
        else:
            raise StatementRefused(f"'{name}' is no command that only reads.", "Write find, aggregate, count or distinct.")

    def _answered(self, name: str, command: dict[str, Any]) -> Iterator[bytes]:
        """Commands whose answer is one document: a number, or values."""
        if name == "count":  # the one that reads no snapshot: it takes a number from the collection's own account
            told = self.database.command(command, **({} if self.snapshots else {"session": self.session}))
            yield bson.encode({"count": told["n"]})
            return
        values = self.database.command(command, session=self.session, codec_options=_values())["values"]
        for start in range(0, len(values), BATCH_ROWS):
            yield b"".join(bson.encode({command["key"]: value}) for value in values[start : start + BATCH_ROWS])

    def _look_without_filter(self, command: dict[str, Any], table: DocumentTable) -> None:
        """Nothing was found: columns, and what is in objects, are as the collection's other documents have them."""
        if "find" in command:
            projection = command.get("projection") or None
            space = self.database[command["find"]]
            try:
                with pymongo.timeout(LOOK_SECONDS):
                    for raw in space.find_raw_batches({}, projection, limit=SAMPLE, session=self.session):
                        table.learn(raw)
            except pymongo.errors.ExecutionTimeout:
                return  # a help, not the result

    def batches(self, soon: bool = False) -> Iterator[Batch]:
        assert self.table is not None, "describe comes first"
        for batch in self.table.batches():
            self.go_on()
            yield batch

    def plan(self, statement: Statement) -> Plan:
        command = self._command(statement)
        if "aggregate" in command:
            command["cursor"] = {}
        told = self.database.command(
            {"explain": command, "verbosity": "queryPlanner"}, session=None if self.snapshots else self.session
        )
        text = json.dumps(
            {"queryPlanner": told.get("queryPlanner", told.get("stages"))}, indent=2, default=str, ensure_ascii=False
        )
        return of_documents(told, str(next(iter(command.values()))), text)

    def stop(self) -> None:
        with pymongo.timeout(STOP_SECONDS):
            self.connection.admin.command("killSessions", [self.number])

    def let_go(self) -> None:
        # The driver closes a connection that somebody waits at only once the wait is over; its own monitors break them so.
        topology: Any = self.connection._topology
        for server in list(topology._servers.values()):
            server.pool.reset(interrupt_connections=True)
        self.end()

    def _forget(self) -> None:
        if self.table is not None:
            self.table.close()
            self.table = None

    def end(self) -> None:
        self._forget()
        self.connection.close()


_PRINTS = {
    "find": ["for document in database.cursor_command(command):", "    print(document)"],
    "aggregate": ['for document in database.cursor_command({**command, "cursor": {}}):', "    print(document)"],
    "count": ['print(database.command(command)["n"])'],
    "distinct": ['print(database.command(command)["values"])'],
}


class DocumentsEngine(Engine):
    """See Engine."""

    name = "documents"
    title = "document store"
    language = DOCUMENTS
    url_schemes = ("mongodb",)
    default_port = 27017
    fields = {
        "host": AddressField(str, "name or address of the server, or of one of the replica set", required=True, guarded=True),
        "port": AddressField(int, "usually 27017", required=True, guarded=True),
        "database": AddressField(str, "name of the database", required=True),
        "user": AddressField(str, "the login, one that may only read", guarded=True),
        "auth_database": AddressField(str, "database that the login is known in; default admin", guarded=True),
        "replica_set": AddressField(str, "name of the replica set, whose other members are found by themselves", guarded=True),
        "members": AddressField(str, "further members of the replica set: host:port, host:port", guarded=True),
        "read_preference": AddressField(str, "which members are read: default primary", choices=tuple(_PREFERENCES)),
        "ssl_mode": AddressField(
            str, "encryption: default disable", choices=("disable", "require", "verify-full"), guarded=True
        ),
        **TLS_FILES,
    }

    def checked_address(self, address: Mapping[str, Any]) -> dict[str, Any]:
        made = super().checked_address(address)
        _members(made)
        return made

    def connect(self, address: Mapping[str, Any], secret: str, seconds: float) -> pymongo.MongoClient[Any]:
        """A client that has signed in. Raises the driver's errors, and those of a way that is not to be gone."""
        members = [(address["host"], int(address["port"])), *_members(address)]
        for host, port in members:
            way_in(host, port, seconds)
        encrypted = address.get("ssl_mode", "disable") != "disable"
        tls: dict[str, Any] = {"tls": encrypted}
        if encrypted:
            tls |= {"tlsInsecure": True} if address["ssl_mode"] == "require" else {}
            tls |= {"tlsCAFile": address["ssl_ca"]} if "ssl_ca" in address else {}
            tls |= {"tlsCertificateKeyFile": address["ssl_certificate"]} if "ssl_certificate" in address else {}
        user = {"username": address["user"], "password": secret, "authSource": address.get("auth_database", "admin")}
        made: pymongo.MongoClient[Any] = pymongo.MongoClient(
            [f"[{host}]:{port}" if ":" in host else f"{host}:{port}" for host, port in members],
            directConnection="replica_set" not in address and len(members) == 1,
            replicaSet=address.get("replica_set"),
            readPreference=_PREFERENCES[address.get("read_preference", "primary")],
            serverSelectionTimeoutMS=max(1, round(seconds * _SECONDS)),
            connectTimeoutMS=max(1, round(seconds * _SECONDS)),
            retryReads=False,  # a result is of one reading, not of two halves
            retryWrites=False,
            appname="patient-ladle",
            **tls,
            **(user if "user" in address else {}),
        )
        try:
            made.admin.command("ping")
            for told in made.topology_description.server_descriptions():  # also those that the server told of
                way_in(told[0], told[1] or self.default_port, seconds)
        except BaseException:
            made.close()
            raise
        return made

    def open(self, address: Mapping[str, Any], secret: str, connect_timeout_seconds: float = CONNECT_SECONDS) -> ProbingSession:
        knock(address["host"], int(address["port"]), connect_timeout_seconds)
        try:
            client = self.connect(address, secret, connect_timeout_seconds)
        except (pymongo.errors.PyMongoError, OSError, ValueError) as error:
            raise connect_failed(error, address, connect_timeout_seconds) from error
        try:
            told = client.admin.command("hello")
            there = self._seen(client)
            if there and address["database"] not in there:
                raise SourceDatabaseMissing(
                    f"there is no database '{address['database']}' at {address['host']}:{address['port']}"
                    " that the login may read.",
                    "Correct the database of the source, or ask for the right to read it.",
                )
            of_group = "setName" in told or told.get("msg") == "isdbgrid"
            return DocumentSession(client, address, of_group and told["maxWireVersion"] >= SNAPSHOTS_FROM)
        except pymongo.errors.PyMongoError as error:
            client.close()
            raise translate(error, False) from error
        except LadleError:
            client.close()
            raise

    @staticmethod
    def _seen(client: pymongo.MongoClient[Any]) -> list[str]:
        """Databases that the login may see; none where the server does not say."""
        try:
            return [name for name in client.list_database_names() if name not in ("admin", "local", "config")]
        except pymongo.errors.OperationFailure as error:
            if error.code in NOT_ALLOWED:
                return []
            raise

    def end_left(self, address: Mapping[str, Any], secret: str, session: str, connect_timeout_seconds: float) -> None:
        with self.connect(address, secret, connect_timeout_seconds) as client:
            client.admin.command("killSessions", [{"id": bson.Binary(bytes.fromhex(session), bson.binary.UUID_SUBTYPE)}])

    def databases(self, address: Mapping[str, Any], secret: str, connect_timeout_seconds: float) -> Sequence[str]:
        try:
            with self.connect(address, secret, connect_timeout_seconds) as client:
                return self._seen(client)
        except (pymongo.errors.PyMongoError, OSError, LadleError):
            return []  # the server does not say

    def driver_code(self, address: Mapping[str, Any], statements: Sequence[str]) -> str:
        known = {"host": address["host"], "port": int(address["port"])}
        known |= {"username": address["user"], "authSource": address.get("auth_database", "admin")} if "user" in address else {}
        known |= {"replicaSet": address["replica_set"]} if "replica_set" in address else {"directConnection": True}
        known |= {"tls": True} if address.get("ssl_mode", "disable") != "disable" else {}
        given = [f"{name}={value!r}" for name, value in known.items()]
        given += ['password=os.environ["SOURCE_PASSWORD"]'] if "user" in address else []
        lines = ["import os", "", "import pymongo", "from bson import json_util", ""]
        lines += [f"client = pymongo.MongoClient({', '.join(given)})", f"database = client[{address['database']!r}]"]
        for statement in statements:
            command = DOCUMENTS.command(statement, BoundValues())
            text = json.dumps(command, ensure_ascii=False, indent=1)
            lines += [
                "",
                f"command = json_util.loads({text!r})" if "'''" in text else f"command = json_util.loads(r'''{text}''')",
            ]
            lines += _PRINTS[next(iter(command))]
        return "\n".join([*lines, ""])

    def default_schema(self, address: Mapping[str, Any]) -> str:
        return str(address["database"])

    def place(self, address: Mapping[str, Any]) -> str:
        return super().place({"user": "", **address})


def _members(address: Mapping[str, Any]) -> list[tuple[str, int]]:
    """The further ones. Raises BadInput for what is none."""
    found = []
    for each in filter(None, (piece.strip() for piece in str(address.get("members", "")).split(","))):
        host, _, port = each.rpartition(":") if ":" in each else (each, "", str(DocumentsEngine.default_port))
        if not host or not port.isdecimal() or not 0 < int(port) < 65536:
            raise BadInput(f"'{each}' is no member of a replica set.", "Write host:port, host:port.")
        found.append((host.strip("[]"), int(port)))
    return found
