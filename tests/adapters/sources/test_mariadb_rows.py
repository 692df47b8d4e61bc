"""Rows off MariaDB's wire, from packets made by hand, in pieces of any size."""

import pymysql
import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.adapters.sources.mariadb_rows import Rows
from tests.profile import examples

END = b"\xfe\x00\x00\x02\x00"
FULL = 0xFFFFFF


def packets(payload, number):
    """The payload as packets, and the number of the next one."""
    made = b""
    while True:
        piece, payload = payload[:FULL], payload[FULL:]
        made += (len(piece) | (number % 256) << 24).to_bytes(4, "little") + piece
        number += 1
        if len(piece) < FULL:
            return made, number


def value(text):
    """A value after its length."""
    if text is None:
        return b"\xfb"
    size = len(text)
    if size < 251:
        return bytes([size]) + text
    mark, count = next((mark, count) for mark, count in ((0xFC, 2), (0xFD, 3), (0xFE, 8)) if size < 256**count)
    return bytes([mark]) + size.to_bytes(count, "little") + text


def wire(rows, end=END, first=7):
    made, number = b"", first
    for payload in [*(b"".join(map(value, row)) for row in rows), end]:
        packet, number = packets(payload, number)
        made += packet
    return made


class Pieces:
    """Gives the bytes in pieces of the sizes asked for, round and round."""

    def __init__(self, data, sizes):
        self.data, self.sizes, self.at = data, sizes, 0

    def readinto(self, into):
        size = min(self.sizes[self.at % len(self.sizes)], len(into), len(self.data))
        into[:size], self.data, self.at = self.data[:size], self.data[size:], self.at + 1
        return size


def rows_of(data, width, sizes=(1 << 16,), first=7):
    class Bare(Rows):
        def __init__(self):
            self.connection = type("Connection", (), {"_rfile": type("File", (), {"raw": Pieces(data, list(sizes))})})
            self.buffer, self.begin, self.end, self.over = bytearray(64), 0, 0, False
            self.width, self.sequence, self.dropped = width, first, False

        def drop(self):
            self.over = self.dropped = True

    rows = Bare()
    found = []
    try:
        for columns in rows.batches():
            found += zip(*(column.to_pylist() for column in columns), strict=True)
    finally:
        rows_of.dropped = rows.dropped
    return found


texts = st.none() | st.binary(max_size=12) | st.integers(240, 300).map(lambda n: b"v" * n)


@examples(1.5)
@given(st.data(), st.integers(1, 4), st.lists(st.integers(1, 700), min_size=1, max_size=4), st.integers(0, 255))
def test_every_value_arrives_however_the_wire_cuts_it(data, width, sizes, first):
    rows = data.draw(st.lists(st.tuples(*[texts] * width), max_size=12))
    assert rows_of(wire(rows, first=first), width, sizes, first) == rows


def test_lengths_of_every_width_and_more_rows_than_a_batch():
    rows = [(b"a" * 250, None), (b"b" * 251, b""), (b"c" * 65535, b"1"), (b"d" * 65536, b"2"), (None, b"e" * 200_000)]
    many = [(str(n).encode(), None) for n in range(12_345)]
    assert rows_of(wire(rows + many + rows), 2) == rows + many + rows


@pytest.mark.parametrize("length", [FULL - 7, FULL - 6, FULL - 5, 2 * FULL - 11])
def test_a_row_of_several_packets_is_put_together(length):
    rows = [(b"before", None), (b"x" * length, b"y"), (None, b"after")]
    assert rows_of(wire(rows), 2) == rows


@pytest.mark.parametrize(
    ("spoilt", "words"),
    [
        (lambda data: data[:-9], "Lost connection"),
        (lambda data: data[: len(data) // 2], "Lost connection"),
        (lambda data: data[10:], "out of order"),
        (lambda data: data[:4] + b"\x09" + data[5:], "does not fill"),
    ],
)
def test_a_wire_that_is_cut_or_loses_a_packet_gives_no_rows_for_whole(spoilt, words):
    data = wire([(b"12345",)] * 8)
    with pytest.raises(pymysql.OperationalError, match=words):
        rows_of(spoilt(data), 1)
    assert rows_of.dropped


def test_an_error_after_some_rows_is_raised():
    with pytest.raises(pymysql.OperationalError, match="interrupted"):
        rows_of(wire([(b"1",)], b"\xff\x25\x05#70100Query execution was interrupted"), 1)
