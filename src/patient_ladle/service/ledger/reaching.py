"""What the worker of this host can reach: drivers, folders of file sources and of deliveries, secrets that are kept on a host.

Rules and theory
----------------
* A worker takes only what it can reach. What it cannot, it says, run by run, and leaves to the others.
* A file that is not there may be on another host: while others may have it they are asked first. When nobody has it the run
  is taken all the same, and fails by the source's own words.
* Once all that are there have said so, nothing can run it: people are told, whoever started it by hand at once. What was due
  waits, and is looked at again each minute, until its time is over.
* Looks at files are bounded, for a mount that hangs must not hold up the queue; what was seen counts for some seconds.
"""

from __future__ import annotations

import os
import time
from concurrent.futures import TimeoutError as TookTooLong
from dataclasses import dataclass
from datetime import timedelta

from django.db.models import Q, QuerySet
from django.db.models.functions import Now
from django.utils import timezone

from patient_ladle.adapters.sources import get_engine
from patient_ladle.core.aside import aside
from patient_ladle.core.errors import LadleError, SecretUnreadable
from patient_ladle.service.common.targets import targets_of
from patient_ladle.service.sources.models import Address
from patient_ladle.service.sources.queries import address_in, refuse_other_paths, secret_of

from .models import Refusal, Run, Worker
from .states import WAITING

SEEN_SECONDS = 5.0
"""How long what was seen of an address counts."""
LOOK_SECONDS = 0.5
REFUSED_FOR = timedelta(seconds=60)
"""How long a worker's word counts: folders are mounted, and variables set, while workers run."""
BEATEN_WITHIN = timedelta(seconds=30)
"""A worker that has not beaten for so long is asked no more."""


@dataclass(frozen=True, slots=True)
class Lack:
    """Why this host cannot. ``elsewhere``: only that it is not here; asked first are those who may have it."""

    why: str
    elsewhere: bool = False
    of_targets: bool = False


class Reach:
    """Of one worker, which remembers for some seconds what it has seen."""

    def __init__(self) -> None:
        self.seen: dict[int, tuple[float, Lack | None]] = {}

    def lack_of(self, run: Run) -> Lack | None:
        """What keeps this host from carrying the run out; None where nothing does."""
        try:
            targets_of(run.delivers_into)
        except LadleError as error:
            return Lack(error.message, of_targets=True)
        if run.source is None:
            return None
        try:
            address = address_in(run.source, run.environment)
        except LadleError:
            return None  # nobody's lack: the run says it
        at, found = self.seen.get(address.pk, (0.0, None))
        if not at or time.monotonic() - at > SEEN_SECONDS:
            found = _lack_at(address)
            self.seen[address.pk] = (time.monotonic(), found)
        return found


def lack_of_delivery(run: Run) -> Lack | None:
    """What keeps this host from delivering the stored result."""
    try:
        for target in run.plan["targets"]:
            targets_of(target)
    except LadleError as error:
        return Lack(error.message, of_targets=True)
    return None


def _lack_at(address: Address) -> Lack | None:
    try:
        engine = get_engine(address.source.engine)
        refuse_other_paths(engine, address.fields)
        secret_of(address)
    except SecretUnreadable:
        return None  # the same on every host
    except LadleError as error:
        return Lack(error.message)
    paths = [str(address.fields[name]) for name, field in engine.fields.items() if field.is_path and address.fields.get(name)]
    for path in paths:
        try:
            if not aside(lambda path=path: os.path.exists(path)).result(LOOK_SECONDS):  # type: ignore[misc]
                return Lack(f"there is no '{path}'.", elsewhere=True)
        except TookTooLong:
            return Lack(f"'{path}' does not answer.", elsewhere=True)
    return None


def _live() -> QuerySet[Worker]:
    return Worker.objects.filter(gone_at=None, draining=False, beat_at__gt=Now() - BEATEN_WITHIN)


def refused_by(worker: Worker) -> QuerySet[Refusal]:
    """What it has said lately that it cannot."""
    return Refusal.objects.filter(worker=worker.pk, at__gt=timezone.now() - REFUSED_FOR)


def refuse(run: Run, worker: Worker, lack: Lack) -> str:
    """The worker says it of the run, locked; returns why nobody can, once all that are there have said so; else nothing."""
    said = {"why": lack.why, "at": timezone.now(), "host": worker.host}
    Refusal.objects.update_or_create(run=run, worker=worker.pk, defaults=said)
    return "" if anybody_else(run, worker) else why_nobody(run)


def why_nobody(run: Run) -> str:
    """What those who were asked last have said."""
    words = dict.fromkeys(f"{each.host}: {each.why.rstrip('.')}" for each in _lately(run).order_by("host", "worker"))
    return "; ".join(words)


def _lately(run: Run) -> QuerySet[Refusal]:
    return Refusal.objects.filter(run=run, at__gt=timezone.now() - 3 * REFUSED_FOR)


def anybody_else(run: Run, worker: Worker) -> bool:
    """Another worker is there that has not said that it cannot."""
    return _live().exclude(Q(pk=worker.pk) | Q(pk__in=_lately(run).values("worker"))).exists()


def ask_anew() -> None:
    """A worker has come: it may be able to run what nobody could."""
    Run.objects.filter(state=WAITING, pk__in=Refusal.objects.values("run")).update(wait_until=timezone.now())
