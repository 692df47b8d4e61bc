"""MariaDB's rows straight off the wire, whole columns at a time.

The driver signs in, encrypts, sends the statement and reads what its columns are; from there the rows are read here, for a
driver makes an object of each value. Rows come as the text protocol of the MySQL and MariaDB client/server protocol has
them: a packet a row (three bytes of length, one of sequence), in it each value after its length. Where each value begins
and ends is worked out a column at a time; Arrow takes the values of a column out of the bytes as they lie there.
"""

from __future__ import annotations

import contextlib
import socket
import struct
from collections.abc import Iterator, Sequence
from typing import Any, cast

import numpy as np
import pyarrow as pa
import pymysql
from pymysql.constants import CR
from pymysql.err import raise_mysql_exception

from patient_ladle.core.results.columns import BATCH_ROWS

DRIVER_ERRORS: tuple[type[Exception], ...] = (pymysql.Error, OSError)
"""What the driver raises, and the wire."""
BUFFER_BYTES = 1 << 20
"""Bytes that lie ready at a time; a longer row makes room for itself."""
_HEAD = struct.Struct("<IB")
"""Length and sequence of a packet, and its first byte."""
_ABSENT, _TWO, _THREE, _EIGHT = 0xFB, 0xFC, 0xFD, 0xFE
"""First bytes of a length that is not a length itself: no value; the length in so many further bytes."""
_FURTHER = {_TWO: 2, _THREE: 3, _EIGHT: 8}
_END, _ERROR = 0xFE, 0xFF
"""First bytes of the packet after the last row."""
_LAST = 9
"""Bytes of the packet after the last row, at least: so many follow the begin of any row."""
_FULL = 0xFFFFFF
"""Length of a packet that the next one goes on with."""


class Rows:
    """Streams the rows of one statement at a time from a connection."""

    def __init__(self, connection: pymysql.Connection[Any]) -> None:
        self.connection = cast(Any, connection)
        self.thread: int = self.connection.thread_id()
        self.wire = socket.socket(fileno=socket.dup(self.connection._sock.fileno()))
        self.buffer = bytearray()
        self.begin = self.end = 0
        self.width = self.sequence = 0
        self.over = True

    def execute(self, query: str) -> None:
        """Start the statement. Raises the driver's errors."""
        self.connection.query(query, unbuffered=True)
        result = self.connection._result
        self.width, self.sequence = result.field_count, self.connection._next_seq_id
        result.unbuffered_active = False  # from here the rows are ours to read
        result.connection = self.connection._result = None
        self.buffer = self.buffer or bytearray(BUFFER_BYTES)
        first = self.connection._rfile.read1()  # what the driver had read ahead; from here its buffer stays empty
        self.buffer[: len(first)] = first
        self.begin, self.end = 0, len(first)
        self.over = False

    def batches(self) -> Iterator[list[pa.Array[Any]]]:
        """The columns of some rows each time, as binary texts. Raises the driver's errors; lets go of what is not asked for."""
        try:
            while not self.over:
                starts, is_long = self._rows_at_hand()
                if starts:
                    yield self._columns(starts)
                if is_long:
                    yield self._long_row()
        finally:
            if not self.over:
                self.drop()

    def _rows_at_hand(self) -> tuple[list[int], bool]:
        """Begins of the rows in the buffer, read on until they fill a batch or it; and does a row of several packets come
        next? ``begin`` is where the last of them ends."""
        self.buffer[: self.end - self.begin] = self.buffer[self.begin : self.end]
        self.begin, self.end = 0, self.end - self.begin
        starts: list[int] = []
        at, is_long = 0, False
        head, buffer, end, add = _HEAD.unpack_from, self.buffer, self.end, starts.append
        for _ in range(BATCH_ROWS):
            if at + _LAST > end:
                if not self._more(at, _LAST, bool(starts)):
                    break
                end = self.end
            word, first = head(buffer, at)
            after = at + 4 + (word & _FULL)
            if after > end:
                is_long = word & _FULL == _FULL  # which is more than the buffer ever holds
                if is_long or not self._more(at, after - at, bool(starts)):
                    break
                end = self.end
            if first >= _END and (first == _ERROR or after - at - 4 < _LAST):
                self._finish(bytes(buffer[at + 4 : after]))
                break
            add(at + 4)
            at = after
        self.begin = at
        return starts, is_long

    def _more(self, at: int, wanted: int, is_enough: bool) -> bool:
        """Read until so many bytes lie there from a position on; False where that needs room that waiting rows take up."""
        if at + wanted > len(self.buffer):
            if is_enough:
                return False
            self.buffer.extend(bytes(at + wanted - len(self.buffer)))
        while self.end < at + wanted:
            with memoryview(self.buffer) as view:
                self.end += self._read(view[self.end :])
        return True

    def _read(self, into: memoryview) -> int:
        count: int = self.connection._rfile.raw.readinto(into)
        if not count:
            raise pymysql.OperationalError(CR.CR_SERVER_LOST, "Lost connection to the server during query")
        return count

    def _finish(self, packet: bytes) -> None:
        self.over = True
        if packet[0] == _ERROR:
            raise_mysql_exception(packet)

    def _columns(self, starts: Sequence[int]) -> list[pa.Array[Any]]:
        """The values of these rows by column, copied out of the buffer."""
        data = np.frombuffer(self.buffer, np.uint8)
        at = np.array(starts, np.int32)
        ends = np.append(at[1:] - 4, self.begin)
        self._mind_sequence(data[at - 1])
        bounds = np.empty((len(starts), self.width, 2), np.int32)
        nulls = []
        for number in range(self.width):
            length = data[at].astype(np.int32)
            is_null = length == _ABSENT
            at = at + 1
            if length.max() >= _ABSENT:
                marks = length.copy()
                length[is_null] = 0
                for mark, count in _FURTHER.items():
                    if len(some := np.flatnonzero(marks == mark)):
                        length[some] = sum(data[at[some] + byte].astype(np.int32) << (8 * byte) for byte in range(count))
                        at[some] += count
            nulls.append(is_null if is_null.any() else None)
            bounds[:, number, 0] = at
            at = at + length
            bounds[:, number, 1] = at
        if not np.array_equal(at, ends):
            raise pymysql.OperationalError(CR.CR_MALFORMED_PACKET, "The server sent a row that does not fill its packet")
        flat = bounds.reshape(-1)
        texts = pa.Array.from_buffers(pa.binary(), len(flat) - 1, [None, pa.py_buffer(flat.data), pa.py_buffer(data.data)])
        every = np.arange(0, len(flat), 2 * self.width, dtype=np.int32)
        return [texts.take(pa.array(every + 2 * number, mask=mask)) for number, mask in enumerate(nulls)]

    def _mind_sequence(self, numbers: Any) -> None:
        """Packets are counted by the server: one that is missing shows."""
        if not np.array_equal(numbers, (self.sequence + np.arange(len(numbers))).astype(np.uint8)):
            raise pymysql.OperationalError(CR.CR_MALFORMED_PACKET, "The rows came out of order")
        self.sequence = (self.sequence + len(numbers)) % 256

    def _long_row(self) -> list[pa.Array[Any]]:
        """One row of 16 MiB or more, put together from its packets."""
        row = bytearray()
        size = _FULL
        while size == _FULL:
            word = int.from_bytes(self._exactly(4), "little")
            size = word & _FULL
            self._mind_sequence(np.array([word >> 24], np.uint8))
            row += self._exactly(size)
        values, at = [], 0
        while at < len(row):
            mark, at = row[at], at + 1
            further = _FURTHER.get(mark, 0)
            length = int.from_bytes(row[at : at + further], "little") if further else 0 if mark == _ABSENT else mark
            at += further
            values.append(None if mark == _ABSENT else bytes(row[at : at + length]))
            at += length
        return [pa.array([value], pa.binary()) for value in values]

    def _exactly(self, count: int) -> bytes:
        """The next bytes, from the buffer and then from the wire."""
        made = bytearray(count)
        have = min(count, self.end - self.begin)
        made[:have] = self.buffer[self.begin : self.begin + have]
        self.begin += have
        with memoryview(made) as view:
            while have < count:
                have += self._read(view[have:])
        return bytes(made)

    def drop(self) -> None:
        """Let go of the socket without reading the rest; from any thread, more than once."""
        self.over = True
        with contextlib.suppress(OSError):  # dropped before
            self.wire.shutdown(socket.SHUT_RDWR)
        self.wire.close()
