"""A ZIP archive (APPNOTE 6.3) written forward only, for entries whose size and checksum are known before they are written."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterable
from dataclasses import dataclass

from .base import Sink

MOST_BYTES = 0xFFFF_FFFF
"""Sizes and places beyond this need the format's 64-bit extension, which not every reader of workbooks knows."""
_DEFLATED, _1980 = 8, 33
_POLYNOMIAL = 0xEDB88320


def _times(a: int, b: int) -> int:
    """Product of two polynomials over GF(2), modulo the checksum's own, bits reflected."""
    product, mask = 0, 1 << 31
    while mask:
        if a & mask:
            product ^= b
        mask >>= 1
        b = (b >> 1) ^ _POLYNOMIAL if b & 1 else b >> 1
    return product


def crc_of_both(first: int, second: int, length: int) -> int:
    """CRC-32 of two texts put together, from the CRC of each and the length of the second in bytes."""
    shift, power, bits = 1 << 31, 1 << 23, length  # x to the power of 0, and of 8: a byte's worth
    while bits:
        if bits & 1:
            shift = _times(power, shift)
        power = _times(power, power)
        bits >>= 1
    return _times(shift, first) ^ second


@dataclass(frozen=True, slots=True)
class _Entry:
    name: bytes
    place: int
    crc: int
    packed: int
    size: int

    def head(self) -> bytes:
        """What both headers of an entry share."""
        return struct.pack("<HHHHHIIIHH", 20, 0, _DEFLATED, 0, _1980, self.crc, self.packed, self.size, len(self.name), 0)


class Archive:
    """Entries in the order in which they are added."""

    def __init__(self, file: Sink) -> None:
        self.file, self.at = file, 0
        self.entries: list[_Entry] = []

    def _write(self, data: bytes) -> None:
        self.file.write(data)
        self.at += len(data)

    def add(self, name: str, text: str) -> None:
        """A small entry."""
        data = text.encode()
        packer = zlib.compressobj(6, zlib.DEFLATED, -15)
        packed = packer.compress(data) + packer.flush()
        self.add_packed(name, zlib.crc32(data), len(data), len(packed), [packed])

    def add_packed(self, name: str, crc: int, size: int, packed: int, pieces: Iterable[bytes]) -> None:
        """An entry that is deflated already. Raises OverflowError beyond ``MOST_BYTES``."""
        if max(size, self.at + packed) > MOST_BYTES:
            raise OverflowError
        entry = _Entry(name.encode(), self.at, crc, packed, size)
        self._write(b"PK\x03\x04" + entry.head() + entry.name)
        for piece in pieces:
            self._write(piece)
        self.entries.append(entry)

    def close(self) -> None:
        """The directory of all entries."""
        start = self.at
        for entry in self.entries:
            tail = struct.pack("<HHHII", 0, 0, 0, 0, entry.place)
            self._write(b"PK\x01\x02" + struct.pack("<H", 20) + entry.head() + tail + entry.name)
        count = len(self.entries)
        self._write(b"PK\x05\x06" + struct.pack("<HHHHIIH", 0, 0, count, count, self.at - start, start, 0))
