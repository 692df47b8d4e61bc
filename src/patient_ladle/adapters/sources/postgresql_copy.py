"""Rows of COPY, many at a time: off the wire where it is plain, through the client library where it is encrypted.

The library signs in, prepares and cancels; but it hands over one row a call, and the interpreter with it. Where nothing lies
between us and the server, COPY is sent and its answer read here. Messages are those of the PostgreSQL documentation's
chapter on the frontend/backend protocol: a byte of kind, four of length that count themselves, then the content; a row is a
message. When the server is ready again, so is the library: it was at rest before, and is at rest now.
"""

from __future__ import annotations

import contextlib
import os
import queue
import select
import socket
import struct
import threading
import time
from collections.abc import Iterator
from typing import Any, NoReturn, Protocol

import numpy as np
import psycopg
from psycopg import pq
from psycopg.pq import DiagnosticField

PIECE_BYTES = 512 << 10
"""Rows gathered before they go on: large enough that work by piece vanishes, small enough that memory stays flat."""
PIECES_AHEAD = 3
READ_BYTES = 256 << 10
"""Bytes asked of the wire at a time."""
_HEAD = struct.Struct(">BI")
_ROW, _ERROR, _COMPLETE, _READY = b"dECZ"
_LAST_WORD = b"Z\0\0\0\5"
_LAST_BYTES = 6
"""The message that the server is ready, but for its last byte; and its length. No text holds a zero byte."""
PAUSE_MS = 50
"""A server that says nothing for so long pauses: what lies there is not kept waiting."""
GATHER_SECONDS = 0.0005
"""From the first byte that comes to looking: to wake for each small packet costs server and reader more than it brings."""
_BESIDE = b"12HcNAS"
"""Kinds that say nothing of rows: the command was read, and bound; the copy begins, it is done; notices, notifications,
settings that changed."""


def one_command(query: bytes) -> list[tuple[bytes, bytes]]:
    """Kind and content of the messages of the extended protocol, which takes one command and refuses a second:
    Parse, Bind, Execute, Sync (PostgreSQL documentation, 55.2.3)."""
    no_counts = b"\0\0"
    return [
        (b"P", b"\0" + query + b"\0" + no_counts),
        (b"B", b"\0\0" + 3 * no_counts),
        (b"E", b"\0\0\0\0\0"),
        (b"S", b""),
    ]


def _message(kind: bytes, content: bytes) -> bytes:
    return kind + (len(content) + 4).to_bytes(4, "big") + content


class Copy(Protocol):
    """One COPY … TO STDOUT under way. ``sent``: the rows that the server says it sent; known when they are over."""

    sent: int

    def pieces(self) -> Iterator[tuple[bytes, int]]:
        """The text of some rows, a piece at a time, and how many they are. Raises psycopg.Error."""
        ...


def copy_out(connection: psycopg.Connection[Any], query: str) -> Copy:
    """Start it. Raises psycopg.Error."""
    copy = CopyByWire if _is_plain(connection) else CopyByLibrary
    return copy(connection, query.encode())


def _is_plain(connection: psycopg.Connection[Any]) -> bool:
    if connection.pgconn.ssl_in_use or connection.info.server_version < 120_000:
        return False
    asked = connection.execute("select encrypted from pg_catalog.pg_stat_gssapi where pid = pg_catalog.pg_backend_pid()")
    return asked.fetchone() == (False,)


def expected(result: Any, status: pq.ExecStatus) -> Any:
    """The result, if it is one of that status. Raises psycopg.Error."""
    if result is None or result.status != status:
        raise psycopg.errors.error_from_result(result, encoding="utf-8")
    return result


class CopyByLibrary:
    """See Copy."""

    def __init__(self, connection: psycopg.Connection[Any], query: bytes) -> None:
        self.conn = connection.pgconn
        self.sent = -1
        expected(self.conn.exec_params(query, None), pq.ExecStatus.COPY_OUT)

    def pieces(self) -> Iterator[tuple[bytes, int]]:
        get, rows, size = self.conn.get_copy_data, [], 0
        while True:
            length, row = get(0)
            if length <= 0:
                break
            rows.append(row)
            size += length
            if size >= PIECE_BYTES:
                yield b"".join(rows), len(rows)
                rows, size = [], 0
        if rows:
            yield b"".join(rows), len(rows)
        result = self.conn.get_result()
        while self.conn.get_result() is not None:
            continue
        if length == -2:
            raise psycopg.OperationalError(self.conn.get_error_message())
        self.sent = expected(result, pq.ExecStatus.COMMAND_OK).command_tuples


class CopyByWire:
    """See Copy. Rows that are not read to their end leave the connection of no use.

    ``data`` lies there, read up to ``at``; ``texts`` of so many ``rows`` have not been given out yet.
    """

    def __init__(self, connection: psycopg.Connection[Any], query: bytes) -> None:
        self.wire = socket.socket(fileno=os.dup(connection.pgconn.socket))
        self.over = False
        self.sent = -1
        self.fault: dict[int, bytes | None] = {}
        self.data, self.at = b"", 0
        self.wanted = _HEAD.size
        self.texts: list[bytes] = []
        self.rows = 0
        self.ahead: queue.Queue[bytes | None] = queue.Queue(PIECES_AHEAD)
        self.stop = threading.Event()
        self.cause: OSError | None = None
        self.thread = threading.Thread(target=self._read_ahead, daemon=True)
        self._say(b"".join(_message(kind, content) for kind, content in one_command(query)))

    def _say(self, message: bytes) -> None:
        try:
            while message:
                try:
                    message = message[self.wire.send(message) :]
                except BlockingIOError:
                    self._wait(select.POLLOUT)
        except OSError as error:
            raise _lost(error) from error

    def _wait(self, event: int, milliseconds: int | None = None) -> bool:
        watched = select.poll()
        watched.register(self.wire, event)
        return bool(watched.poll(milliseconds))

    def pieces(self) -> Iterator[tuple[bytes, int]]:
        self.thread.start()
        try:
            while not self.over:
                self._more()
                self._take_rows()
                self._take_each()
                if self.rows:
                    yield b"".join(self.texts), self.rows
                    self.texts, self.rows = [], 0
            if self.fault:
                self._raise()
        finally:
            self._leave()

    def _take_rows(self) -> None:
        """All rows that follow one another from here, at once.

        Where their messages begin is guessed: text has no zero byte, so one after a 'd' is the begin of a length below
        16 MiB, but for a few lengths that look so within. The guess is right as far as each begins where the one before ends.
        """
        view = np.frombuffer(self.data, np.uint8, offset=self.at)
        begins = np.flatnonzero((view[:-1] == _ROW) & (view[1:] == 0))
        begins = begins[begins + _HEAD.size <= len(view)]
        if not len(begins) or begins[0]:
            return
        lengths = view[begins[:, None] + np.arange(1, _HEAD.size)].view(">u4").ravel()
        ends = begins + 1 + lengths
        wrong = np.flatnonzero(begins[1:] != ends[:-1])
        count = int(wrong[0]) + 1 if len(wrong) else len(begins)
        count -= int(ends[count - 1] > len(view))
        if count:
            end = int(ends[count - 1])
            kept = np.ones(end, bool)
            kept[begins[:count, None] + np.arange(_HEAD.size)] = False
            self.texts.append(view[:end][kept].tobytes())
            self.rows += count
            self.at += end

    def _take_each(self) -> None:
        """What else lies there whole, message by message; from then on it is known how many bytes the next one takes."""
        data, at, end, wanted = self.data, self.at, len(self.data), _HEAD.size
        while at + _HEAD.size <= end:
            kind, length = _HEAD.unpack_from(data, at)
            after = at + 1 + length
            if after > end:
                wanted = 1 + length
                break
            content = data[at + _HEAD.size : after]
            if kind == _ROW:
                self.texts.append(content)
                self.rows += 1
            else:
                self._mind(kind, content)
            at = after
        self.at, self.wanted = at, wanted

    def _more(self) -> None:
        """Of the bytes that were read ahead, at least what the next message takes."""
        parts = [self.data[self.at :]]
        have = len(parts[0])
        while have < self.wanted:
            got = self.ahead.get()
            if got is None:
                break
            parts.append(got)
            have += len(got)
        self.data, self.at = b"".join(parts), 0
        if have < self.wanted:
            self._take_each()  # a server that goes may have said why
            if self.fault:
                self._raise()
            raise _lost(self.cause) from self.cause

    def _read_ahead(self) -> None:
        """In a thread of its own: the server need not wait while rows are worked on. Ends at the server's last word."""
        tail, parts, is_last = b"", list[bytes](), False
        try:
            while not self.stop.is_set() and not is_last:
                have = 0
                while have < PIECE_BYTES and not is_last:
                    try:
                        got = self.wire.recv(READ_BYTES)
                    except BlockingIOError:
                        if not self._wait(select.POLLIN, PAUSE_MS) and (have or self.stop.is_set()):
                            break
                        time.sleep(GATHER_SECONDS)
                        continue
                    if not got:
                        return
                    parts.append(got)
                    have += len(got)
                    tail = (tail + got)[-_LAST_BYTES:]
                    is_last = len(tail) == _LAST_BYTES and tail.startswith(_LAST_WORD)
                self.ahead.put(b"".join(parts))
                parts.clear()
        except OSError as error:
            self.cause = error
        finally:
            if parts:
                self.ahead.put(b"".join(parts))
            self.ahead.put(None)

    def _leave(self) -> None:
        """The thread ends; where rows were left unread, so does the connection."""
        self.stop.set()
        if not self.over:
            with contextlib.suppress(OSError):  # it is gone already
                self.wire.shutdown(socket.SHUT_RDWR)
        while self.thread.is_alive():
            with contextlib.suppress(queue.Empty):
                self.ahead.get(timeout=0.01)
        self.wire.close()

    def _mind(self, kind: int, content: bytes) -> None:
        if kind == _ERROR:
            self.fault = {field.value: None for field in DiagnosticField}
            self.fault |= {field[0]: field[1:] for field in content.split(b"\0") if field}
        elif kind == _COMPLETE:
            self.sent = int(content.rstrip(b"\0").rpartition(b" ")[2])
        elif kind == _READY:
            self.over = True
        elif kind not in _BESIDE:
            raise psycopg.OperationalError(f"the server sent a message of kind '{chr(kind)}' among the rows")

    def _raise(self) -> NoReturn:
        state, said = (
            (self.fault[field] or b"").decode() for field in (DiagnosticField.SQLSTATE, DiagnosticField.MESSAGE_PRIMARY)
        )
        try:
            kind = psycopg.errors.lookup(state)
        except KeyError:
            kind = psycopg.DatabaseError
        raise kind(said, info=self.fault)


def _lost(error: OSError | None) -> psycopg.OperationalError:
    return psycopg.OperationalError(f"the server closed the connection unexpectedly{f': {error}' if error else ''}")
