"""A stored file on its way: whole where it is what was proven, broken off before its last piece where it is not."""

from __future__ import annotations

import hashlib
import io

import pytest
from hypothesis import given
from hypothesis import strategies as st
from waitress.buffers import ReadOnlyFileBasedBuffer

from patient_ladle.core.files.sent import BrokenOff, Watched
from tests.profile import examples


def sent(content, proven, pieces):
    """What a server's own buffer gives out, whatever sizes it sends and however much of a piece it gets rid of; and what was
    told."""
    told = []
    buffer = ReadOnlyFileBasedBuffer(
        Watched(io.BytesIO(content), hashlib.sha256(proven).hexdigest(), len(proven), lambda: told.append(1))
    )
    buffer.prepare(len(content))
    out, turn = b"", 0
    try:
        while len(buffer):
            piece = buffer.get(pieces[turn % len(pieces)])
            went = max(1, len(piece) // (1 + turn % 3))
            out += piece[:went]
            buffer.skip(went, True)
            turn += 1
    except BrokenOff:
        return out, told, True
    return out, told, False


@examples(5)
@given(st.binary(min_size=1, max_size=300), st.integers(0, 10_000), st.lists(st.integers(1, 97), min_size=1, max_size=5))
def test_whatever_pieces_go_the_whole_goes_or_it_breaks_off_before_its_end(content, place, pieces):
    assert sent(content, content, pieces) == (content, [], False)
    other = bytearray(content)
    other[place % len(other)] ^= 1
    out, told, broken = sent(bytes(other), content, pieces)
    assert (told, broken) == ([1], True)
    assert len(out) < len(content)


def test_read_to_its_end_in_one_go_it_is_looked_at_as_well():
    with pytest.raises(BrokenOff):
        Watched(io.BytesIO(b"abd"), hashlib.sha256(b"abc").hexdigest(), 3, lambda: None).read()
    assert Watched(io.BytesIO(b"abc"), hashlib.sha256(b"abc").hexdigest(), 3, lambda: None).read() == b"abc"
