"""A document store for the demo and the tests, where no real one can be installed: small, in memory, on loopback.

It speaks the wire protocol of MongoDB servers (OP_MSG), signs people in by SCRAM-SHA-256 (RFC 5802, RFC 7677), and knows the
commands that read, cursors, time limits, operations that are ended by others, roles, and a few that write, so that a test can
see that nothing was written. What a query means is told by a general library. It proves protocol and adapter; it proves
nothing of the vendor's locking, plans or rights.
"""

from __future__ import annotations

import base64
import contextlib
import hashlib
import hmac
import itertools
import os
import socket
import socketserver
import struct
import threading
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timezone
from typing import Any

import bson
import mongomock
from bson.int64 import Int64

READS = frozenset({"find", "aggregate", "count", "distinct", "getMore", "killCursors", "listCollections", "listDatabases",
                   "listIndexes", "collStats", "dbStats"})  # fmt: skip
WRITES = frozenset({"insert", "update", "delete", "drop", "dropDatabase", "createIndexes"})
MAX_BYTES = 16_777_216
_ROUNDS = 4096
_LOOKS = ["changeStream", "collStats", "dbHash", "dbStats", "find", "killCursors", "listCollections", "listIndexes"]
_CHANGES = ["createCollection", "createIndex", "dropCollection", "insert", "remove", "update"]
_HEAD = struct.Struct("<iiii")
_MESSAGE, _QUERY = 2013, 2004
"""The one operation of today, and that with which old clients say hello."""


class Refusal(Exception):
    """An answer that says no: code and name as the protocol's clients know them."""

    def __init__(self, code: int, name: str, words: str) -> None:
        super().__init__(words)
        self.answer = {"ok": 0.0, "errmsg": words, "code": code, "codeName": name}


@dataclass(frozen=True)
class Login:
    """A password, and by database what its bearer may: ``read`` or ``readWrite``; and which collections it may not."""

    password: str
    roles: Mapping[str, str]
    hidden: Sequence[str] = ()


@dataclass
class Operation:
    """Something that somebody has asked for and that is not over."""

    number: int
    command: str
    ends_at: float | None
    session: bytes = b""
    killed: bool = False

    def go_on(self) -> None:
        """Raises Refusal once it was ended, or its time is over."""
        if self.killed:
            raise Refusal(11601, "Interrupted", "operation was interrupted")
        if self.ends_at is not None and time.monotonic() > self.ends_at:
            raise Refusal(50, "MaxTimeMSExpired", "operation exceeded time limit")


@dataclass
class Cursor:
    """Documents that are yet to be asked for. ``left``: seconds of work that it may still take; None: as many as it likes."""

    found: Iterator[Any]
    pause: float
    left: float | None
    session: bytes = b""

    def take(self, count: int, operation: Operation) -> tuple[list[Any], bool]:
        """So many of them, or as many as one answer holds, and whether there are no more. Raises Refusal."""
        began = time.monotonic()
        if self.left is not None:
            operation.ends_at = began + self.left
        taken: list[Any] = []
        size, over = 0, False
        while len(taken) < count and size < MAX_BYTES and not over:
            self._wait(operation)
            each = next(self.found, None)
            over = each is None
            if each is not None:
                taken.append(each)
                size += len(bson.encode(each))
        if self.left is not None:
            self.left -= time.monotonic() - began
        return taken, over

    def _wait(self, operation: Operation) -> None:
        until = time.monotonic() + self.pause
        operation.go_on()
        while time.monotonic() < until:
            time.sleep(min(0.02, self.pause))
            operation.go_on()


@dataclass
class DocumentServer:
    """``databases``: by name, by collection, its documents. ``seconds_a_document``: how slow a collection is.

    ``snapshots``: whether it gives reads of one moment, as members of a replica set do.
    """

    logins: Mapping[str, Login]
    databases: Mapping[str, Mapping[str, Sequence[Mapping[str, Any]]]]
    seconds_a_document: Mapping[str, float] = field(default_factory=dict)
    snapshots: bool = False
    members: Sequence[str] = ()
    """Of its replica set, beside itself; there is none of them."""
    port: int = 0

    def __post_init__(self) -> None:
        self.store: Any = mongomock.MongoClient()
        for database, collections in self.databases.items():
            for name, documents in collections.items():
                self.store[database].create_collection(name)
                if documents:
                    self.store[database][name].insert_many([dict(each) for each in documents])
        self.turn = threading.RLock()
        self.cursors: dict[int, Cursor] = {}
        self.operations: dict[int, Operation] = {}
        self.numbers = itertools.count(1)
        self.cursor_numbers = itertools.count(7001)
        self.listener: socketserver.ThreadingTCPServer | None = None
        self.connections: set[Any] = set()

    def start(self) -> None:
        """Listen on loopback; ``port`` is known from then on."""
        server = self

        class Served(self.speaks()):  # type: ignore[misc]  # whichever it is
            served = server

        class Listener(socketserver.ThreadingTCPServer):
            allow_reuse_address, daemon_threads = True, True

        self.listener = Listener(("127.0.0.1", self.port), Served)
        self.port = self.listener.server_address[1]
        threading.Thread(target=self.listener.serve_forever, daemon=True).start()

    def speaks(self) -> type[Connection]:
        """What answers."""
        return Connection

    def stop(self) -> None:
        """Listen no more, and end what is open."""
        if self.listener is not None:
            self.listener.shutdown()
            self.listener.server_close()
            self.listener = None
        self.break_off()

    def break_off(self) -> None:
        """End every connection, as a server does that dies."""
        for each in list(self.connections):
            with contextlib.suppress(OSError):
                each.shutdown(socket.SHUT_RDWR)

    def counts(self) -> dict[str, int]:
        """Documents by ``database.collection``: what a test compares."""
        return {
            f"{database}.{name}": self.store[database][name].count_documents({})
            for database in sorted(self.store.list_database_names())
            for name in sorted(self.store[database].list_collection_names())
        }


class Connection(socketserver.BaseRequestHandler):
    """One client, command after command: a method for each command, under its name in small letters."""

    served: DocumentServer

    def handle(self) -> None:
        self.login: str | None = None
        self.asked: tuple[str, bytes, str, str] | None = None
        self.operation = Operation(0, "", None)
        self.served.connections.add(self.request)
        with contextlib.suppress(EOFError, OSError):
            while True:
                length, number, _, kind = _HEAD.unpack(self._exactly(16))
                body = self._exactly(length - 16)
                if kind == _MESSAGE:
                    flags, command = _message(body)
                    answer = bson.encode(self._answer(command))
                    if not flags & 2:
                        self._send(number, _MESSAGE, b"\0\0\0\0\0" + answer)
                elif kind == _QUERY:
                    command = bson.decode(body[body.index(0, 4) + 9 :])
                    self._send(number, 1, struct.pack("<iqii", 8, 0, 0, 1) + bson.encode(self._answer(command)))
                else:
                    return

    def finish(self) -> None:
        self.served.connections.discard(self.request)

    def _exactly(self, count: int) -> bytes:
        found = bytearray()
        while len(found) < count:
            piece = self.request.recv(count - len(found))
            if not piece:
                raise EOFError
            found += piece
        return bytes(found)

    def _send(self, number: int, kind: int, body: bytes) -> None:
        self.request.sendall(_HEAD.pack(16 + len(body), number + 1, number, kind) + body)

    def _answer(self, command: dict[str, Any]) -> dict[str, Any]:
        name = next(iter(command))
        database = command.get("$db", "admin")
        work: Callable[[dict[str, Any], str], dict[str, Any]] | None = getattr(self, f"_{name.lower()}", None)
        seconds = command["maxTimeMS"] / 1000 if command.get("maxTimeMS") else None
        ends_at = None if seconds is None else time.monotonic() + seconds
        session = bytes(command.get("lsid", {}).get("id", b""))
        self.operation = Operation(next(self.served.numbers), name, ends_at, session)
        self.served.operations[self.operation.number] = self.operation
        try:
            if work is None:
                raise Refusal(59, "CommandNotFound", f"no such command: '{name}'")
            self._refuse_without_right(name, command, database)
            return {**work(command, database), "ok": 1.0}
        except Refusal as error:
            return error.answer
        except (NotImplementedError, mongomock.OperationFailure) as error:
            return Refusal(getattr(error, "code", None) or 9, "FailedToParse", str(error)).answer
        except (TypeError, ValueError, KeyError) as error:
            return Refusal(2, "BadValue", f"{type(error).__name__}: {error}").answer
        finally:
            self.served.operations.pop(self.operation.number, None)

    def _refuse_without_right(self, name: str, command: dict[str, Any], database: str) -> None:
        if name not in READS | WRITES:
            return
        if self.login is None:
            raise Refusal(13, "Unauthorized", f"command {name} requires authentication")
        right = self.served.logins[self.login].roles.get(database, "")
        free = name in ("listDatabases", "killCursors", "getMore")
        if command[name] in self.served.logins[self.login].hidden:
            raise Refusal(13, "Unauthorized", f"not authorized on {database} to execute command {name}")
        if (not right and not free) or (self._writes(name, command) and right != "readWrite"):
            raise Refusal(13, "Unauthorized", f"not authorized on {database} to execute command {name}")

    @staticmethod
    def _writes(name: str, command: dict[str, Any]) -> bool:
        return name in WRITES or (name == "aggregate" and _holds(command.get("pipeline"), {"$out", "$merge"}))

    # Who is there, and who it is.

    def _hello(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        made: dict[str, Any] = {
            "helloOk": True, "isWritablePrimary": True, "ismaster": True, "readOnly": False, "connectionId": 1,
            "maxBsonObjectSize": MAX_BYTES, "maxMessageSizeBytes": 48_000_000, "maxWriteBatchSize": 100_000,
            "localTime": datetime.now(timezone.utc), "minWireVersion": 0, "maxWireVersion": 21, "logicalSessionTimeoutMinutes": 30,
        }  # fmt: skip
        if self.served.snapshots:
            me = f"127.0.0.1:{self.served.port}"
            made |= {"setName": "fennmoor", "me": me, "hosts": [me, *self.served.members]}
        if command.get("saslSupportedMechs"):
            made["saslSupportedMechs"] = ["SCRAM-SHA-256"]
        return made

    _ismaster = _hello

    def _ping(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        return {}

    _endsessions = _ping

    def _buildinfo(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        return {"version": "7.0.0", "versionArray": [7, 0, 0, 0], "modules": ["made up for Fennmoor Water"]}

    def _connectionstatus(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        roles = self.served.logins[self.login].roles if self.login else {}
        told: dict[str, Any] = {
            "authenticatedUsers": [{"user": self.login, "db": "admin"}] if self.login else [],
            "authenticatedUserRoles": [{"role": role, "db": name} for name, role in roles.items()],
        }
        if command.get("showPrivileges"):
            told["authenticatedUserPrivileges"] = [
                {"resource": {"db": name, "collection": ""}, "actions": [*_LOOKS, *(_CHANGES if role == "readWrite" else [])]}
                for name, role in roles.items()
            ]
        return {"authInfo": told}

    def _saslstart(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        if command["mechanism"] != "SCRAM-SHA-256":
            raise Refusal(2, "BadValue", "only SCRAM-SHA-256 is known here")
        first = command["payload"].decode()[3:]
        fields = dict(piece.split("=", 1) for piece in first.split(","))
        salt = os.urandom(16)
        nonce = fields["r"] + base64.b64encode(os.urandom(18)).decode()
        told = f"r={nonce},s={base64.b64encode(salt).decode()},i={_ROUNDS}"
        self.asked = fields["n"].replace("=2C", ",").replace("=3D", "="), salt, first, told
        return {"conversationId": 1, "done": False, "payload": told.encode()}

    def _saslcontinue(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        if self.asked is None:
            return {"conversationId": 1, "done": True, "payload": b""}
        name, salt, first, told = self.asked
        self.asked = None
        given, _, proof = command["payload"].decode().rpartition(",p=")
        known = self.served.logins.get(name)
        salted = hashlib.pbkdf2_hmac("sha256", (known.password if known else "").encode(), salt, _ROUNDS)
        client = _keyed(salted, b"Client Key")
        told_all = f"{first},{told},{given}".encode()
        signature = _keyed(hashlib.sha256(client).digest(), told_all)
        shown = bytes(a ^ b for a, b in zip(base64.b64decode(proof), signature, strict=True))
        if known is None or not hmac.compare_digest(shown, client):
            raise Refusal(18, "AuthenticationFailed", "Authentication failed.")
        self.login = name
        server = base64.b64encode(_keyed(_keyed(salted, b"Server Key"), told_all))
        return {"conversationId": 1, "done": True, "payload": b"v=" + server}

    # What there is.

    def _listdatabases(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        mine = self.served.logins[self.login or ""].roles
        names = [name for name in sorted(self.served.store.list_database_names()) if name in mine]
        return {"databases": [{"name": name, "sizeOnDisk": Int64(1), "empty": False} for name in names]}

    def _listcollections(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        names = sorted(self.served.store[database].list_collection_names())
        found = [{"name": name, "type": "collection", "options": {}, "info": {"readOnly": False}} for name in names]
        return self._first(iter(found), f"{database}.$cmd.listCollections", 10_000)

    def _listindexes(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        with self.served.turn:
            known = self.served.store[database][command["listIndexes"]].index_information()
        found = [{"v": 2, "name": name, "key": dict(facts["key"])} for name, facts in known.items()]
        return self._first(iter(found), f"{database}.{command['listIndexes']}", 10_000)

    def _collstats(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        documents = self._documents(database, command["collStats"], {})
        return {
            "ns": f"{database}.{command['collStats']}",
            "count": len(documents),
            "size": sum(len(bson.encode(d)) for d in documents),
        }

    # Reading.

    def _documents(self, database: str, name: str, query: Mapping[str, Any]) -> list[dict[str, Any]]:
        with self.served.turn:
            return list(self.served.store[database][name].find(query))

    def _refuse_snapshot(self, command: dict[str, Any]) -> None:
        if command.get("readConcern", {}).get("level") == "snapshot" and not self.served.snapshots:
            raise Refusal(123, "NotAReplicaSet", "node needs to be a replica set member to use readConcern: snapshot")

    def _find(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        self._refuse_snapshot(command)
        name = command["find"]
        with self.served.turn:
            cursor = self.served.store[database][name].find(command.get("filter") or {}, command.get("projection") or None)
            if command.get("sort"):
                cursor = cursor.sort(list(command["sort"].items()))
            if command.get("skip"):
                cursor = cursor.skip(command["skip"])
            if command.get("limit"):
                cursor = cursor.limit(abs(command["limit"]))
            found = list(cursor)
        batch = command.get("batchSize", 101)
        return self._first(iter(found), f"{database}.{name}", batch, bool(command.get("singleBatch")))

    def _aggregate(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        self._refuse_snapshot(command)
        name = command["aggregate"]
        with self.served.turn:
            found = list(self.served.store[database][name].aggregate(command["pipeline"]))
        batch = command.get("cursor", {}).get("batchSize", 101)
        return self._first(iter(found), f"{database}.{name}", batch)

    def _count(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        found = self._documents(database, command["count"], command.get("query") or {})[command.get("skip", 0) :]
        return {"n": len(found[: command["limit"]] if command.get("limit") else found)}

    def _explain(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        """How it would be carried out: by the one index there is where only one _id is asked for, else by reading all."""
        inner = command["explain"]
        kind = next(iter(inner), "")
        if kind not in ("find", "aggregate", "count", "distinct"):
            raise Refusal(59, "CommandNotFound", f"Explain failed due to unknown command: {kind}")
        self._refuse_without_right(kind, inner, database)
        if command.get("verbosity") != "queryPlanner":
            raise Refusal(9, "FailedToParse", "only the verbosity queryPlanner is there, which carries nothing out")
        asked = inner.get("filter") or inner.get("query") or {}
        if kind == "aggregate":
            asked = next((stage["$match"] for stage in inner["pipeline"][:1] if "$match" in stage), {})
        one = list(asked) == ["_id"] and not isinstance(asked["_id"], Mapping)
        plan = (
            {"stage": "IDHACK", "indexName": "_id_"} if one else {"stage": "COLLSCAN", "filter": asked, "direction": "forward"}
        )
        if inner.get("sort"):
            plan = {"stage": "SORT", "sortPattern": inner["sort"], "inputStage": plan}
        return {"queryPlanner": {"namespace": f"{database}.{inner[kind]}", "winningPlan": plan, "rejectedPlans": []}}

    def _distinct(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        with self.served.turn:
            return {
                "values": self.served.store[database][command["distinct"]].distinct(command["key"], command.get("query") or {})
            }

    def _first(self, found: Iterator[Any], space: str, count: int, alone: bool = False) -> dict[str, Any]:
        pause = self.served.seconds_a_document.get(space.partition(".")[2], 0.0)
        left = None if self.operation.ends_at is None else self.operation.ends_at - time.monotonic()
        cursor = next(self.served.cursor_numbers)
        self.served.cursors[cursor] = Cursor(found, pause, left, self.operation.session)
        return self._batch(cursor, "firstBatch", space, count, alone)

    def _batch(self, cursor: int, key: str, space: str, count: int, alone: bool = False) -> dict[str, Any]:
        found, over = self.served.cursors[cursor].take(count, self.operation)
        if over or alone:
            self.served.cursors.pop(cursor, None)
        return {"cursor": {key: found, "id": Int64(0 if over or alone else cursor), "ns": space}}

    def _getmore(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        cursor = command["getMore"]
        if cursor not in self.served.cursors:
            raise Refusal(43, "CursorNotFound", f"cursor id {cursor} not found")
        space = f"{database}.{command['collection']}"
        return self._batch(cursor, "nextBatch", space, command.get("batchSize") or 10_000)

    def _killcursors(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        killed = [each for each in command["cursors"] if self.served.cursors.pop(each, None) is not None]
        lost = [each for each in command["cursors"] if each not in killed]
        return {"cursorsKilled": killed, "cursorsNotFound": lost, "cursorsAlive": [], "cursorsUnknown": []}

    # What others do.

    def _currentop(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        running = list(self.served.operations.values())
        return {"inprog": [{"opid": each.number, "op": each.command, "active": True} for each in running]}

    def _killop(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        found = self.served.operations.get(command["op"])
        if found is not None:
            found.killed = True
        return {"info": "attempting to kill op"}

    def _killsessions(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        those = {bytes(each["id"]) for each in command["killSessions"]}
        for operation in list(self.served.operations.values()):
            operation.killed = operation.killed or operation.session in those
        for number, cursor in list(self.served.cursors.items()):
            if cursor.session in those:
                self.served.cursors.pop(number, None)
        return {}

    # Writing, for those who may.

    def _insert(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        with self.served.turn:
            return {"n": len(self.served.store[database][command["insert"]].insert_many(command["documents"]).inserted_ids)}

    def _delete(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        with self.served.turn:
            kind = self.served.store[database][command["delete"]]
            return {"n": sum(kind.delete_many(each["q"]).deleted_count for each in command["deletes"])}

    def _drop(self, command: dict[str, Any], database: str) -> dict[str, Any]:
        with self.served.turn:
            self.served.store[database].drop_collection(command["drop"])
        return {}


def _holds(value: Any, names: set[str]) -> bool:
    """Whether one of the names stands anywhere in it."""
    if isinstance(value, dict):
        return bool(names & set(value)) or any(_holds(each, names) for each in value.values())
    return isinstance(value, list) and any(_holds(each, names) for each in value)


def _keyed(key: bytes, text: bytes) -> bytes:
    return hmac.new(key, text, "sha256").digest()


def _message(body: bytes) -> tuple[int, dict[str, Any]]:
    """Flags and command of an OP_MSG, its sequences of documents put into their fields."""
    flags = struct.unpack_from("<I", body)[0]
    at, end = 4, len(body) - (4 if flags & 1 else 0)
    command: dict[str, Any] = {}
    more: dict[str, Any] = {}
    while at < end:
        kind, length = body[at], struct.unpack_from("<i", body, at + 1)[0]
        piece = body[at + 1 : at + 1 + length]
        if kind == 0:
            command = bson.decode(piece)
        else:
            name = piece[4 : piece.index(0, 4)]
            more[name.decode()] = bson.decode_all(piece[4 + len(name) + 1 :])
        at += 1 + length
    return flags, command | more
