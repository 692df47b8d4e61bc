"""What tries of a delivery leave unseen at targets is removed, also where the target is away just then."""

from __future__ import annotations

import logging
from collections.abc import Sequence
from datetime import datetime, timedelta

from django.conf import settings

from patient_ladle.adapters.deliveries import IsOver, kind_of
from patient_ladle.core.errors import StoreUnwritable

from .models import AttemptToClear, Run, TargetToClear
from .states import FINISHED, RUNNING, TO_DELIVER, UNDER_WAY
from .stores import store

log = logging.getLogger("ladle.deliveries")

ONCE_MORE = timedelta(seconds=10)
"""After so long a child without its worker has ended, and what it had wrote after all can be removed."""


def _is_over(run: Run) -> IsOver:
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


def clear_after(run: Run, targets: Sequence[str], now: bool = True) -> None:
    """Remove what tries of the run that are over left at these targets; one that is away is cleared later, and so are all where
    it is not to be done ``now``, for one of them hangs."""
    for target in targets:
        if not (now and kind_of(target).clear(target, _is_over(run))):
            TargetToClear.objects.get_or_create(run=run, target=target)


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


def clear_targets(now: datetime) -> int:
    """Those that were away and are back; returns how many. One that never comes back is forgotten in the end."""
    count = 0
    for each in TargetToClear.objects.select_related("run"):
        if kind_of(each.target).clear(each.target, _is_over(each.run)):
            each.delete()
            count += 1
    TargetToClear.objects.filter(since__lt=now - timedelta(days=settings.LOG_DAYS)).delete()
    return count
