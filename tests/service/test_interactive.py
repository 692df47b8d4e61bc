"""Looks that are ended by force: their record says why."""

from __future__ import annotations

import os
import signal
import uuid
from datetime import timedelta
from pathlib import Path

import pytest

from patient_ladle.core.errors import DeadlineExceeded, RunCancelled, StatementFailed


@pytest.fixture
def looking(repository):
    """A query that runs by its record; ``looking(seconds)`` gives it a deadline that is so far away."""
    from django.utils import timezone

    from patient_ladle.service.sources.models import Address, InteractiveQuery

    def made(seconds):
        address = Address.objects.get(source__name="wide")
        return InteractiveQuery.objects.create(
            id=uuid.uuid4().hex, source=address.source, address=address, person=repository, kind="check", state="running",
            deadline_at=timezone.now() + timedelta(seconds=seconds),
        )  # fmt: skip

    return made


def frozen(folders):
    """A pool whose children hear nothing any more; their folders are told."""
    from patient_ladle.service.children.pool import ChildPool

    class Frozen(ChildPool):
        def take(self, job):
            child = super().take(job)
            os.kill(child.process.pid, signal.SIGSTOP)
            folders.append(Path(child.own))
            return child

    return Frozen(0)


@pytest.mark.parametrize(
    ("bound", "value", "error"),
    [("DEADLINE_SECONDS", 0.5, DeadlineExceeded), ("MEMORY_BYTES", 0, StatementFailed), (None, None, RunCancelled)],
    ids=["deadline", "memory", "cancelled"],
)
def test_one_that_does_not_stop_when_it_is_told_is_ended_and_says_its_reason(looking, monkeypatch, bound, value, error):
    from patient_ladle.service.sources import interactive

    folders = []

    monkeypatch.setattr(interactive, "CHILDREN", frozen(folders))
    asked = looking(3600)
    if bound:
        monkeypatch.setattr(interactive, bound, value)
    else:
        type(asked).objects.filter(pk=asked.pk).update(cancel_asked=True)
    with pytest.raises(error):
        interactive._carried_out(asked.pk, {"do": "check"})
    [folder] = folders
    assert not folder.exists()


def test_its_deadline_counts_while_the_service_database_is_away(looking, monkeypatch):
    from django.db import OperationalError

    from patient_ladle.service.sources import interactive

    class Away:
        def __getattr__(self, name):
            raise OperationalError("the server closed the connection")

    monkeypatch.setattr(interactive, "CHILDREN", frozen([]))
    asked = looking(3600)
    monkeypatch.setattr(interactive, "DEADLINE_SECONDS", 1.5)
    monkeypatch.setattr(interactive.InteractiveQuery, "objects", Away())
    with pytest.raises(DeadlineExceeded):
        interactive._carried_out(asked.pk, {"do": "check"})


@pytest.mark.parametrize(("past", "state"), [(10, "running"), (3600, "failed")])
def test_one_past_its_deadline_is_told_as_lost_only_when_nobody_can_be_ending_it(looking, repository, past, state):
    from patient_ladle.service.sources import interactive

    asked = looking(-past)
    found = interactive.query_numbered(repository, "author", asked.pk)
    assert found.state == state
    assert state == "running" or "was lost" in found.error["message"]


def test_its_child_is_kept_for_the_next_one_and_not_after_a_fault(looking, monkeypatch):
    from patient_ladle.core.errors import LadleError
    from patient_ladle.service.children.pool import ChildPool
    from patient_ladle.service.sources import interactive
    from patient_ladle.service.sources.queries import connection_spec

    pool, replaced = ChildPool(1), []
    monkeypatch.setattr(interactive, "CHILDREN", pool)
    monkeypatch.setattr(interactive, "keep_warm", replaced.append)
    asked = looking(3600)
    check = {"do": "check", "reader": connection_spec(asked.address)}
    for _ in range(2):
        assert interactive._carried_out(asked.pk, check)
    [child] = pool.idle
    assert (child.jobs, replaced) == (2, [])
    wrong = {"do": "rows", "rows": 1, "statement": "select 1", "parameters": [], "values": {}, "data_date": "2026-11-24"}
    with pytest.raises(LadleError):
        interactive._carried_out(asked.pk, check | wrong)
    assert (pool.idle, replaced) == ([], [0])
    pool.close()
