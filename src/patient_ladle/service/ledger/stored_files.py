"""Stored files as they are now: looked at while they are sent and read, and read through in turn.

Rules and theory
----------------
* A file is damaged when the store has it and its bytes are not those that were proven, or when the store, the same that
  the ledger knows by its mark, has it no more. A store that is away, or another one, says nothing of any file.
* A damaged file is given to nobody and read by nothing: a combination makes its input anew. People are told of the first, of
  each of the next few, and then whenever there are ten times as many.
* Every file is read through within seven days, the longest unseen first, at no more than a twentieth of a core. A damaged one
  is looked at each hour: one that was restored is as before.
"""

from __future__ import annotations

import hashlib
import logging
import os
import threading
import time
from collections.abc import Callable
from datetime import datetime, timedelta

from django.db import close_old_connections
from django.db.models import Q
from django.utils import timezone

from patient_ladle.core.aside import aside
from patient_ladle.core.errors import NotFound, ResultDamaged, StoreUnreadable, StoreUnwritable
from patient_ladle.service.alerts.services import open_problem, resolve_problem
from patient_ladle.service.common.alone import guarded
from patient_ladle.words import amount

from .models import Identity, ResultFile
from .run_log import add_log
from .stores import store

log = logging.getLogger("ladle.results")

WITHIN = timedelta(days=7)
"""In which every file is read through."""
AGAIN_AFTER = WITHIN / 2
"""So long a file is left alone, so that one that has to wait is still in time."""
DAMAGED_AGAIN = timedelta(hours=1)
SOON_BYTES = 64 << 20
"""A damaged file of no more is looked at again whenever somebody asks for it: it may have been restored."""
SHARE = 0.05
"""Of a core."""
PIECE = 1 << 20
IDLE_SECONDS = 60.0
NAMED = 5
"""Damaged files that an alert names."""
KEY = "damaged"


def refuse_damaged(file: ResultFile) -> None:
    """Raises ResultDamaged."""
    if file.damaged_at is not None and not (file.bytes <= SOON_BYTES and look_through(file)):
        raise ResultDamaged(
            f"the stored file '{file.name}' of run {file.run_id} is damaged: {file.damage}.",
            f"Restore it in the result store, or run it again: ladle run again {file.run_id}",
        )


def found_damaged(file: ResultFile, why: str) -> bool:
    """It is on record from now on; whether that is new."""
    new = ResultFile.objects.filter(pk=file.pk, damaged_at=None, removed_at=None).update(
        damaged_at=timezone.now(), looked_at=timezone.now(), damage=why
    )
    if new:
        log.error("the stored file '%s' of run %s is damaged: %s", file.name, file.run_id, why)
        add_log(file.run, "error", f"'{file.name}' in the result store is damaged: {why}")
        _tell()
    return bool(new)


def found_damaged_aside(file: ResultFile, why: str) -> None:
    """The same for whoever must not wait for the service database."""

    def carry_out() -> None:
        with guarded("a damaged file", log):
            found_damaged(file, why)
        close_old_connections()

    aside(carry_out)


def _tell() -> None:
    found = (
        ResultFile.objects.exclude(damaged_at=None)
        .filter(removed_at=None)
        .select_related("run__extract")
        .order_by("-damaged_at")
    )
    total = found.count()
    if not total:
        resolve_problem(KEY, "stored results are as they were proven", "All damaged files are restored or gone.", "/results")
        return
    named = "; ".join(f"run {each.run_id} of {each.run.extract.name}, '{each.name}': {each.damage}" for each in found[:NAMED])
    more = f"; and {total - NAMED:,} more" if total > NAMED else ""
    title = f"{amount(total, 'stored file')} of results {'is' if total == 1 else 'are'} damaged"
    next_step = (
        "Look at the result store's disk. Restore the files from a backup of the store, or run them again: ladle run again N."
    )
    seen_by = "one more " * min(total, NAMED) + "ten times as many " * len(str(total))
    open_problem(KEY, "damaged", title, f"{named}{more}.", next_step, f"/runs/{found[0].run_id}", mark=seen_by)


def _found_whole(file: ResultFile) -> None:
    was_damaged = file.damaged_at is not None
    ResultFile.objects.filter(pk=file.pk).update(looked_at=timezone.now(), damaged_at=None, damage="")
    if was_damaged:
        add_log(file.run, "info", f"'{file.name}' in the result store is as it was proven again")
        _tell()


def look_through(file: ResultFile, pace: Callable[[float], None] = lambda _: None) -> bool | None:
    """Read the file and record what was found: whole or damaged; None where the store says nothing now.

    ``pace`` is given the processor seconds that a piece took, and waits.
    """
    try:
        why = _difference(file, pace)
    except NotFound:
        if not is_our_store():
            return None
        why = "it is not there"
    except (StoreUnreadable, StoreUnwritable):
        return None
    if why:
        found_damaged(file, why)
        ResultFile.objects.filter(pk=file.pk).update(looked_at=timezone.now())
        return False
    _found_whole(file)
    return True


def _difference(file: ResultFile, pace: Callable[[float], None]) -> str:
    digest = hashlib.sha256()
    try:
        with store().open(str(file.run_id), file.attempt, file.name) as opened:
            size = opened.seek(0, os.SEEK_END)
            if size != file.bytes:
                return wrong_length(size, file.bytes)
            opened.seek(0)
            began = time.thread_time()
            while piece := opened.read(PIECE):
                digest.update(piece)
                pace(time.thread_time() - began)
                began = time.thread_time()
    except OSError as error:
        raise StoreUnreadable(f"'{file.name}' cannot be read: {error}.", "Look at the result store.") from error
    return "" if digest.hexdigest() == file.sha256 else OTHER_BYTES


OTHER_BYTES = "its bytes are not those that were proven"


def wrong_length(size: int, proven: int) -> str:
    """What is wrong with a file that has another length."""
    return f"it has {size:,} bytes; {proven:,} were proven"


def is_our_store() -> bool:
    """The store that is set up, and there, is the one that the ledger knows: else nothing it lacks is lost."""
    known = Identity.objects.values_list("store_mark", flat=True).first() or ""
    try:
        return bool(known) and store().mark(make=False) == known
    except StoreUnwritable:
        return False


def next_to_look_through(now: datetime) -> ResultFile | None:
    """The longest unseen one of those whose time has come."""
    kept = ResultFile.objects.filter(removed_at=None).select_related("run")
    due = Q(looked_at__lt=now - AGAIN_AFTER) | (~Q(damaged_at=None) & Q(looked_at__lt=now - DAMAGED_AGAIN))
    return kept.filter(due).order_by("looked_at").first()


def read_in_turn(stop: threading.Event) -> None:
    """Runs in a thread of its own, in the scheduler."""
    while not stop.is_set():
        found = None
        with guarded("reading stored files through", log):
            found = next_to_look_through(timezone.now())
            if found is not None and look_through(found, lambda spent: _rest(spent, stop)) is None:
                found = None  # the store is away: it is asked again later
        if found is None:
            close_old_connections()
            stop.wait(IDLE_SECONDS)


def _rest(spent: float, stop: threading.Event) -> None:
    stop.wait(spent * (1 - SHARE) / SHARE)
