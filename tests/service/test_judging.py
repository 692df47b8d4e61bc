"""Processes that work on people's texts: what they hold is watched, what they reserve is nobody's business."""

import mmap
import os
import time

import duckdb
import pytest

from patient_ladle.core.errors import BadInput
from patient_ladle.service.children import judging, stepping

_kept: list[object] = []


@pytest.fixture(autouse=True)
def one_process(monkeypatch):
    """All work of a test goes to one process, and none of it to those of other tests."""
    monkeypatch.setattr(judging, "PROCESSES", 1)
    let_go()
    yield
    let_go()


def let_go():
    """Whoever asks next makes processes anew."""
    while not judging._idle.empty():
        judging._idle.get_nowait().end()
    judging._owner.clear()


def reserve(size):
    """Address space without memory, as an allocator keeps it for later."""
    _kept.append(mmap.mmap(-1, size, mmap.MAP_PRIVATE | mmap.MAP_ANONYMOUS, prot=0))
    return os.getpid()


def hold(size):
    _kept.append(b"x" * size)
    return os.getpid()


def hold_and_stay(size):
    hold(size)
    time.sleep(600)


def run_short_of_memory(kind):
    if kind == "engine":
        connection = duckdb.connect(":memory:", config={"memory_limit": "1MB", "threads": "1"})
        connection.execute("select list(range) from range(10_000_000)").fetchall()
    raise MemoryError


def test_address_space_that_is_only_reserved_is_no_memory():
    pid = judging.judged(reserve, 2 * judging.MEMORY_BYTES)
    assert judging.judged(stepping.understood, []).steps == []
    assert judging.judged(os.getpid) == pid


def test_a_process_that_takes_too_much_is_stopped_and_the_next_work_is_done(monkeypatch):
    before = judging.judged(os.getpid)
    monkeypatch.setattr(judging, "MEMORY_BYTES", 64 << 20)
    with pytest.raises(BadInput, match="too much"):
        judging.judged_within(60, hold_and_stay, 256 << 20)
    assert judging.judged(os.getpid) != before


def test_a_process_that_keeps_much_when_it_is_done_is_replaced(monkeypatch):
    monkeypatch.setattr(judging, "KEPT_BYTES", 128 << 20)
    small = judging.judged(hold, 1 << 20)
    assert judging.judged(hold, 256 << 20) == small
    assert judging.judged(os.getpid) != small


@pytest.mark.parametrize("whose", ["engine", "python"])
def test_a_shortage_of_memory_is_told_as_too_much_and_not_as_a_fault(whose):
    with pytest.raises(BadInput, match="too much"):
        judging.judged(run_short_of_memory, whose)
