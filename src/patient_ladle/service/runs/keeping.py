"""How long results are kept in the store. What is removed is recorded; delivered files are their readers' own.

The newest delivered result of an extract in each environment is always kept, and so is whatever an author has still to
decide about.
"""

from __future__ import annotations

from datetime import datetime, timedelta

from django.conf import settings
from django.db import transaction
from django.db.models import DateTimeField, DurationField, Exists, ExpressionWrapper, F, OuterRef, Q, Value
from django.db.models.functions import Coalesce

from patient_ladle.service.extracts.models import Extract

from .models import FINISHED, HELD, NOT_DELIVERED, REJECTED, Run
from .stores import store
from .telling import add_log

BATCH = 100
"""Runs whose files are removed at one look."""


_NEWER = Run.objects.filter(
    extract=OuterRef("extract"), environment=OuterRef("environment"), pk__gt=OuterRef("pk"), state=FINISHED
).exclude(held__in=NOT_DELIVERED)
"""Delivered results that came after a run's: while there is none, the run's own is the newest."""


def _beyond_number(extract: Extract) -> list[int]:
    """Runs with files of an extract beyond those that it keeps, in each environment."""
    found: list[int] = []
    runs = Run.objects.filter(extract=extract, state=FINISHED, files__removed_at=None, files__isnull=False)
    for environment in runs.values_list("environment", flat=True).distinct():
        newest = runs.filter(environment=environment).order_by("-pk").values_list("pk", flat=True).distinct()
        found += list(newest[extract.keep_runs :])
    return found


def remove_old(now: datetime) -> int:
    """Remove files whose time is over from the store; returns of how many runs."""
    day = ExpressionWrapper(Value(timedelta(days=1)) * Coalesce("extract__keep_days", settings.KEEP_DAYS), DurationField())
    until = ExpressionWrapper(F("ended_at") + day, DateTimeField())
    too_many = [pk for extract in Extract.objects.exclude(keep_runs=None) for pk in _beyond_number(extract)]
    runs = Run.objects.filter(state=FINISHED, files__isnull=False, files__removed_at=None).exclude(held=HELD)
    over = runs.annotate(until=until).filter(Q(until__lt=now) | Q(pk__in=too_many)).filter(Q(held=REJECTED) | Exists(_NEWER))
    numbers = list(over.order_by("pk").values_list("pk", flat=True).distinct()[:BATCH])
    for number in numbers:
        with transaction.atomic():
            run = Run.objects.select_for_update(of=("self",)).select_related("extract").get(pk=number)
            store().discard(str(run.pk), run.attempt)
            count = run.files.filter(removed_at=None).update(removed_at=now)
            why = f"only the last {run.extract.keep_runs} are kept" if number in too_many else "their time to be kept is over"
            add_log(run, "info", f"{count} file(s) removed from the result store: {why}")
    return len(numbers)
