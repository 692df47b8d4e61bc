"""What tries of a delivery leave in folders under temporary names is removed, also where the folder is away just then."""

from __future__ import annotations

import logging
from collections.abc import Callable, Sequence
from datetime import datetime, timedelta

from django.conf import settings

from patient_ladle.adapters.deliveries.folder import cleared
from patient_ladle.core.errors import StoreUnwritable

from .models import AttemptToClear, FolderToClear, Run
from .states import FINISHED, RUNNING, TO_DELIVER, UNDER_WAY
from .stores import store

log = logging.getLogger("ladle.deliveries")

ONCE_MORE = timedelta(seconds=10)
"""After so long a child without its worker has ended, and what it had wrote after all can be removed."""


def _is_over(run: Run) -> Callable[[int, int, int], bool]:
    """Whether a try of the run is over, as its row stands; one that the row does not know yet has begun since."""

    def of(number: int, attempt: int, a_try: int) -> bool:
        if number != run.pk or attempt > run.attempt:
            return False
        if attempt < run.attempt or run.state not in (RUNNING, FINISHED):
            return True
        if run.state == RUNNING:
            return False
        tries = run.delivery_attempts
        if run.delivery == UNDER_WAY:
            return a_try < tries
        return a_try <= (tries if run.delivery == TO_DELIVER else max(1, tries))  # one held back prepared before its first try

    return of


def clear_after(run: Run, folders: Sequence[str]) -> None:
    """Remove what tries of the run that are over left in these folders; a folder that is away is cleared later."""
    for folder in folders:
        if not cleared(folder, _is_over(run)):
            FolderToClear.objects.get_or_create(run=run, folder=folder)


def clear_attempts(now: datetime) -> int:
    """What attempts that are over have left in the store after all; returns how many were looked at. A store that is away is
    looked at later."""
    count = 0
    for each in AttemptToClear.objects.filter(since__lt=now - ONCE_MORE).order_by("pk"):
        try:
            store().discard(str(each.run_id), each.attempt, surely=True)
        except StoreUnwritable as error:
            log.warning("what attempt %s of run %s left stays for now: %s", each.attempt, each.run_id, error.message)
            break
        each.delete()
        count += 1
    return count


def clear_folders(now: datetime) -> int:
    """Those that were away and are back; returns how many. One that never comes back is forgotten in the end."""
    count = 0
    for each in FolderToClear.objects.select_related("run"):
        if cleared(each.folder, _is_over(each.run)):
            each.delete()
            count += 1
    FolderToClear.objects.filter(since__lt=now - timedelta(days=settings.LOG_DAYS)).delete()
    return count
