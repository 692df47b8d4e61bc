"""How MariaDB's rows arrive: through the C driver where it is installed (an extra), else through the pure-Python one.

Both give the server's own texts; the C driver does it with a tenth of the work. It cannot describe a statement without
running it, so a session describes on its pure connection and fetches on a second one, opened when rows are first wanted
and settled the same way.
"""

from __future__ import annotations

import socket
from abc import ABC, abstractmethod
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import pymysql
from pymysql.cursors import SSCursor

try:
    import MySQLdb
    from MySQLdb.cursors import SSCursor as CompiledCursor
except ImportError:  # the extra is not installed
    MySQLdb = None

DRIVER_ERRORS: tuple[type[Exception], ...] = (pymysql.Error, OSError, *((MySQLdb.Error,) if MySQLdb else ()))
"""What either driver raises."""


class Rows(ABC):
    """A connection that streams the rows of one statement at a time."""

    thread: int
    """The server's number for the connection, by which a statement is killed."""

    @abstractmethod
    def execute(self, query: str) -> None:
        """Start the statement."""

    @abstractmethod
    def fetch(self, count: int) -> Sequence[Sequence[Any]]:
        """Up to that many further rows; none at the end."""

    @abstractmethod
    def drop(self) -> None:
        """Let go of the socket without reading the rest; from any thread, more than once."""


class PureRows(Rows):
    """On the session's own connection."""

    def __init__(self, connection: pymysql.Connection[Any]) -> None:
        self.connection: Any = connection
        self.thread = connection.thread_id()
        self.cursor: Any = None

    def execute(self, query: str) -> None:
        self.cursor = self.connection.cursor(SSCursor)
        self.cursor.execute(query)

    def fetch(self, count: int) -> Sequence[Sequence[Any]]:
        return self.cursor.fetchmany(count)

    def drop(self) -> None:
        if self.cursor is not None:
            result = getattr(self.cursor, "_result", None)
            if result is not None:  # there is nothing left to drain
                result.unbuffered_active, result.connection = False, None
            self.cursor.connection = None
        self.connection._force_close()


class CompiledRows(Rows):
    """On a connection of its own, through the C driver."""

    def __init__(
        self, address: Mapping[str, Any], secret: str, seconds: float, encrypted: bool, settling: Iterable[str]
    ) -> None:
        """Raises the driver's errors. ``encrypted``: whether the session's own connection is."""
        tls: dict[str, Any] = {"ssl_mode": "DISABLED"}
        if encrypted:
            verified = address.get("ssl_mode") == "verify-full"
            files = {"ca": "ssl_ca", "cert": "ssl_certificate", "key": "ssl_key"}
            tls = {
                "ssl_mode": "VERIFY_IDENTITY" if verified else "REQUIRED",
                "ssl": {key: str(address[field]) for key, field in files.items() if field in address},
            }
        self.connection: Any = MySQLdb.connect(
            host=str(address["host"]),
            port=int(address["port"]),
            user=str(address["user"]),
            password=secret,
            database=str(address["database"]),
            charset="utf8mb4",
            conv={},
            connect_timeout=max(1, round(seconds)),
            autocommit=True,
            **tls,
        )
        self.wire = socket.socket(fileno=socket.dup(self.connection.fileno()))
        self.thread = self.connection.thread_id()
        self.cursor: Any = None
        with self.connection.cursor() as cursor:
            for statement in settling:
                cursor.execute(statement)

    def execute(self, query: str) -> None:
        self.cursor = self.connection.cursor(CompiledCursor)
        self.cursor.execute(query.encode())

    def fetch(self, count: int) -> Sequence[Sequence[Any]]:
        return self.cursor.fetchmany(count)

    def drop(self) -> None:
        try:
            self.wire.shutdown(socket.SHUT_RDWR)  # the driver would drain the rest first: now there is none
        except OSError:
            return  # dropped before
        finally:
            self.wire.close()


def compiled_is_there() -> bool:
    """Whether the C driver is installed."""
    return MySQLdb is not None
