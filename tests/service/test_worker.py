"""The worker in this process: what it does when its children, or what it waits for, do not do as they should."""

from __future__ import annotations

import threading
from contextlib import contextmanager
from pathlib import Path

import pytest

from patient_ladle.core.errors import Fenced
from tests.command import PATIENCE
from tests.conftest import until

from .hands import claimed_by, frozen_in, queue


@pytest.fixture
def worker(repository):
    """A worker that is known to the ledger and does only what a test has it do."""
    from patient_ladle.service.processes.worker import WorkerProcess

    made = WorkerProcess(2)
    made.row.save()
    yield made
    made.leaving.set()
    made.pool.close()


@contextmanager
def in_thread(work):
    thread = threading.Thread(target=work, daemon=True)
    thread.start()
    yield
    thread.join(PATIENCE)
    assert not thread.is_alive()


def test_a_child_that_is_silent_past_its_sources_deadline_is_ended_and_its_place_is_free(worker, repository, monkeypatch):
    """Its own deadline is frozen with it."""
    from patient_ladle.service.processes import worker as module

    monkeypatch.setattr(module, "GRACE_SECONDS", 0.5)

    frozen_in("connect", monkeypatch, worker)
    run = claimed_by(worker, repository)
    run.source.connect_timeout_seconds = 1
    with in_thread(worker.watch_over):
        worker.carry_out(run)
        worker.leaving.set()
    run.refresh_from_db()
    assert (run.state, run.error["code"]) == ("failed", "deadline_exceeded")
    assert run.error["message"] == "the source did not answer within its 1 s, nor when it was told to stop."
    assert (worker.minded, worker.free.acquire(blocking=False)) == ({}, True)


def test_an_attempt_that_was_lost_ends_nothing_of_the_next_one_in_the_same_worker(worker, repository, monkeypatch):
    from patient_ladle.service.children.launch import Child
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.processes.worker import _Minded

    queue(repository, "from_wide")
    worker.free.acquire(), worker.free.acquire()
    first = ledger.claim(worker.row)
    ledger.take_over(worker.id)
    type(worker.row).objects.filter(pk=worker.id).update(gone_at=None)
    second = ledger.claim(worker.row)
    assert (first.pk, first.attempt, second.attempt) == (second.pk, 1, 2)
    for run in (first, second):
        worker.minded[run.pk, run.attempt] = _Minded(run, Child())

    def thawed(run):
        raise Fenced("another worker owns the run now.")

    monkeypatch.setattr(worker, "_mind", thawed)
    own = worker.minded[second.pk, 2].child
    worker.carry_out(first)
    assert list(worker.minded) == [(second.pk, 2)]
    assert own.process.poll() is None
    ledger.record(second, [{"kind": "log", "level": "info", "text": "still there", "at": "2026-11-24T06:05:00Z"}])
    own.kill()
    own.wait()


@pytest.mark.parametrize("work", ["beat", "look_after_others", "watch_over", "deliver"])
def test_no_fault_ends_a_thread_of_a_worker(worker, monkeypatch, work):
    """Whatever it calls raises what nobody thought of; it is logged, and the next look comes."""
    from patient_ladle.service.processes import worker as module

    looks = threading.Semaphore(0)

    def faulty(*_, **__):
        looks.release()
        raise RuntimeError("nobody thought of this")

    for name in ("BEAT_SECONDS", "CANCEL_SECONDS", "DELIVERY_SECONDS"):
        monkeypatch.setattr(module, name, 0.01)
    monkeypatch.setattr(module.Worker.objects, "filter", faulty) if work == "beat" else None
    monkeypatch.setattr(worker, "_look_after_others", faulty)
    monkeypatch.setattr(worker, "_mind_memory_and_sources", faulty)
    monkeypatch.setattr(module, "claim_delivery", faulty)
    worker.minded[1, 1] = None if work == "watch_over" else worker.minded.get((1, 1))
    with in_thread(getattr(worker, work)):
        for _ in range(3):
            assert looks.acquire(timeout=PATIENCE)
        worker.leaving.set()
        worker.stop.set()


def test_a_worker_whose_thread_has_ended_all_the_same_ends_itself(worker, monkeypatch):
    """Its runs are taken over by the one that is started in its place."""
    from patient_ladle.service.processes import worker as module

    ended = []

    def watch_over():
        """Ends at once."""

    class Ended(BaseException):
        pass

    def end(status):
        ended.append(status)
        raise Ended

    monkeypatch.setattr(module.os, "_exit", end)
    monkeypatch.setattr(module.signal, "signal", lambda *_: None)
    monkeypatch.setattr(worker, "watch_over", watch_over)
    monkeypatch.setattr(worker, "_wait_for_queue", lambda: until(lambda: not any(
        thread.name == "watch_over" and thread.is_alive() for thread in threading.enumerate())))  # fmt: skip
    with pytest.raises(Ended):
        worker.main()
    assert ended == [4]
    worker.leaving.set()
    worker.stop.set()


def test_a_child_leaves_nothing_behind_however_it_ends(worker):
    from patient_ladle.service.children.launch import Child

    child = Child()
    folder = Path(child.own)
    assert folder.is_dir()
    child.kill()
    child.wait()
    assert not folder.exists()
