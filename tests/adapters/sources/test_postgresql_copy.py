"""Rows of COPY off PostgreSQL's wire: from messages made by hand in pieces of any size, and beside the client library."""

import socket
import threading
from types import SimpleNamespace

import psycopg
import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.adapters.sources.postgresql_copy import CopyByLibrary, CopyByWire, copy_out
from tests.profile import examples

FENS = [b"Alder Moor", b"d", b"\nd", b"Z", b"", b"\xf0\x9f\x90\x9f", b"x" * 25_595, b"y" * 0x6400, b"z" * (0x640000 - 4)]
"""Among them rows whose lengths hold the two bytes that the begin of a row is guessed by."""
NOTICE = b"SNOTICE\0VNOTICE\0C00000\0Mthe fen is wet\0\0"
FAULT = b"SERROR\0VERROR\0C22012\0Mdivision by zero\0\0"


def message(kind, content=b""):
    return kind + (len(content) + 4).to_bytes(4, "big") + content


def answer(rows, said=(), end=None):
    """What a server sends; ``said``: after how many rows it says something beside them."""
    made = message(b"H", b"\0\0\1\0\0")
    for number, row in enumerate(rows):
        if number in said:
            made += message(b"N", NOTICE) + message(b"S", b"TimeZone\0UTC\0")
        made += message(b"d", row + b"\n")
    end = end if end is not None else message(b"c") + message(b"C", b"COPY %d\0" % len(rows))
    return made + end + message(b"Z", b"T")


def read(sent, sizes, then_closed=False):
    """The rows that come of it, when it is sent in pieces of those sizes, round and round."""
    here, there = socket.socketpair()
    here.setblocking(False)

    def send():
        at = turn = 0
        while at < len(sent):
            there.sendall(sent[at : at + sizes[turn % len(sizes)]])
            at, turn = at + sizes[turn % len(sizes)], turn + 1
        if then_closed:
            there.close()

    with here, there:
        copy = CopyByWire(SimpleNamespace(pgconn=SimpleNamespace(socket=here.fileno())), b"copy (select 1) to stdout")
        sender = threading.Thread(target=send)
        sender.start()
        try:
            pieces = list(copy.pieces())
        finally:
            sender.join()
    return b"".join(text for text, _ in pieces), sum(rows for _, rows in pieces), copy.sent


@given(st.lists(st.sampled_from(FENS[:-2]) | st.binary(max_size=40).map(lambda b: b.replace(b"\0", b"~")), max_size=60),
       st.sets(st.integers(0, 60)), st.lists(st.integers(1, 9_000), min_size=1, max_size=6))  # fmt: skip
@examples(1.5)
def test_rows_are_whole_however_they_are_cut(rows, said, sizes):
    sizes = [max(size, 40) for size in sizes] if sum(map(len, rows)) > 20_000 else sizes
    assert read(answer(rows, said), sizes) == (b"".join(row + b"\n" for row in rows), len(rows), len(rows))


@pytest.mark.parametrize(
    ("end", "kind", "said"),
    [
        (message(b"E", FAULT), psycopg.errors.DivisionByZero, "division by zero"),
        (message(b"E", FAULT.replace(b"22012", b"ZZ999")), psycopg.DatabaseError, "division by zero"),
        (message(b"T", b"\0\0"), psycopg.OperationalError, "of kind 'T' among the rows"),
    ],
)
def test_what_the_server_says_at_the_end_is_said(end, kind, said):
    with pytest.raises(kind, match=said) as raised:
        read(answer(FENS[:5], end=end), [7])
    assert raised.value.sqlstate in {None, "22012", "ZZ999"}


@pytest.mark.parametrize("cut", [1, 30, 5_000])
def test_a_wire_that_ends_early_is_lost_and_its_last_word_is_said(cut):
    whole = answer([b"x" * 90] * 100)
    with pytest.raises(psycopg.OperationalError, match="closed the connection unexpectedly"):
        read(whole[:cut], [4_000], then_closed=True)
    last = message(b"E", b"SFATAL\0VFATAL\0C57P01\0Mterminating connection\0\0")
    with pytest.raises(psycopg.errors.AdminShutdown, match="terminating connection"):
        read(message(b"d", b"1\n") + last, [9], then_closed=True)


STATEMENTS = [
    "select n, repeat('fen', n % 50), null, n / 7.0 from generate_series(1, 200000) n",
    "select repeat('x', 25590 + n) from generate_series(1, 20) n",
    "select E'a\nd' || chr(1) || repeat(E'\nd', n) from generate_series(1, 500) n",
    "select repeat('y', 20000000 + n) from generate_series(1, 2) n",
    "select n from generate_series(1, 5) n where false",
    "select 1 / (n - 90000) from generate_series(1, 100000) n",
    "select n, pg_sleep(case when n % 40 = 0 then 0.06 else 0 end)::text from generate_series(1, 120) n",
]


@pytest.mark.parametrize("statement", STATEMENTS)
def test_wire_and_library_give_the_same_and_leave_the_connection_at_rest(cluster, statement):
    def taken(kind, connection):
        try:
            copy = kind(connection, f"copy ({statement}) to stdout (format csv)".encode())
            text, rows = b"", 0
            for piece, count in copy.pieces():
                text, rows = text + piece, rows + count
        except psycopg.Error as error:
            return type(error), error.diag.message_primary, error.diag.severity_nonlocalized
        assert copy.sent == rows
        return text, rows

    with psycopg.connect(cluster.url("metering"), autocommit=True) as connection:
        connection.execute("set client_min_messages = warning")
        assert taken(CopyByWire, connection) == taken(CopyByLibrary, connection)
        assert taken(CopyByWire, connection) == taken(CopyByWire, connection)
        assert connection.execute("select 1").fetchone() == (1,)


def test_rows_that_nobody_reads_to_their_end_end_the_connection(cluster):
    with psycopg.connect(cluster.url("metering"), autocommit=True) as connection:
        copy = CopyByWire(connection, b"copy (select repeat('x', 300) from generate_series(1, 10000000)) to stdout")
        pieces = copy.pieces()
        assert next(pieces)[1] > 0
        pieces.close()
        assert not copy.thread.is_alive()
        with pytest.raises(psycopg.Error):
            connection.execute("select 1")


def test_a_plain_connection_is_read_off_the_wire_by_any_login(metering):
    with psycopg.connect(
        host="127.0.0.1", port=metering["port"], dbname="metering", user="reader", password="reading-only"
    ) as plain:
        copy = copy_out(plain, "copy (select 1) to stdout (format csv)")
        assert isinstance(copy, CopyByWire)
        assert list(copy.pieces()) == [(b"1\n", 1)]
