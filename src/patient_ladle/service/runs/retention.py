"""How long results are kept in the store, and words in the service database.

What is removed is recorded; delivered files are their readers' own. Runs, due times and what is known of their files stay
for ever; the lines of their logs and alerts go after ``LADLE_LOG_DAYS``.

Inputs of a combination are kept as long as its own result is.

The newest published result of an extract in each environment is always kept, and the newest of all, and so is whatever waits
to be delivered, or for somebody to decide about it.
"""

from __future__ import annotations

import logging
from collections.abc import Iterator
from datetime import datetime, timedelta
from functools import cache
from itertools import islice

from django.conf import settings
from django.db import transaction
from django.db.models import DateTimeField, DurationField, ExpressionWrapper, F, Q, QuerySet, Value
from django.db.models.functions import Coalesce

from patient_ladle.core.errors import StoreUnwritable
from patient_ladle.service.alerts.models import Alert, OpenProblem
from patient_ladle.service.extracts.models import Extract
from patient_ladle.service.ledger.models import NEWEST_FIRST, NO_MEMBER, LogLine, Run
from patient_ladle.service.ledger.run_log import add_log
from patient_ladle.service.ledger.states import DELIVERY_OPEN, FINISHED, HELD, NOT_DELIVERED, REJECTED
from patient_ladle.service.ledger.stores import store
from patient_ladle.words import amount

from .published import published_runs

log = logging.getLogger("ladle.upkeep")

PAGE = 500
"""Runs looked at together."""
BATCH = 100
"""Runs whose files are removed at one look."""
LINES = 20_000
"""Log lines and alerts that go at one look: what a service writes in a minute is far less."""


def _but_the_newest(runs: QuerySet[Run]) -> Iterator[int]:
    """Their numbers, oldest first, without the newest result, and the newest published one, of each extract in each
    environment; in pages, and each found by its index: a look at every later run of every candidate would take minutes."""

    @cache
    def newest(extract: int, environment: int) -> set[int]:
        published = published_runs(extract, environment).values_list("pk", flat=True).first()
        there = Run.objects.filter(NO_MEMBER, extract=extract, environment=environment, state=FINISHED).exclude(
            held__in=NOT_DELIVERED
        )
        newest = there.order_by(*NEWEST_FIRST).values_list("pk", flat=True).first()
        return {number for number in (published, newest) if number}

    last = 0
    annotated = runs.annotate(of=Coalesce("member_of", "pk"), whose=Coalesce("member_of__extract", "extract"))
    pages = annotated.order_by("pk").values_list("pk", "of", "whose", "environment", "held").distinct()
    while page := list(pages.filter(pk__gt=last)[:PAGE]):
        for number, of, extract, environment, held in page:
            if held == REJECTED or of not in newest(extract, environment):
                yield number
        last = page[-1][0]


def _beyond_number(extract: Extract) -> list[int]:
    """Runs with files of an extract beyond those that it keeps, in each environment."""
    found: list[int] = []
    runs = Run.objects.filter(NO_MEMBER, extract=extract, state=FINISHED, files__removed_at=None, files__isnull=False)
    for environment in runs.values_list("environment", flat=True).distinct():
        newest = runs.filter(environment=environment).order_by(*NEWEST_FIRST).values_list("pk", flat=True)
        found += list(dict.fromkeys(newest))[extract.retention_runs :]
    return found


def remove_old(now: datetime) -> int:
    """Remove files whose time is over from the store; returns of how many runs."""
    days = Coalesce("member_of__extract__retention_days", "extract__retention_days", settings.RETENTION_DAYS)
    day = ExpressionWrapper(Value(timedelta(days=1)) * days, DurationField())
    until = ExpressionWrapper(F("ended_at") + day, DateTimeField())
    too_many = [pk for extract in Extract.objects.exclude(retention_runs=None) for pk in _beyond_number(extract)]
    too_many += Run.objects.filter(member_of__in=too_many).values_list("pk", flat=True)
    runs = (
        Run.objects.filter(state=FINISHED, files__isnull=False, files__removed_at=None)
        .exclude(held=HELD)
        .exclude(delivery__in=DELIVERY_OPEN)
    )
    over = runs.annotate(until=until).filter(Q(until__lt=now) | Q(pk__in=too_many))
    numbers = list(islice(_but_the_newest(over), BATCH))
    removed = 0
    for number in numbers:
        run = Run.objects.select_related("extract").get(pk=number)
        try:
            store().discard(str(run.pk), run.attempt, surely=True)
        except StoreUnwritable as error:
            log.warning("files of run %s stay for now: %s", number, error.message)
            break  # the store is away: what was not removed is not recorded as removed
        with transaction.atomic():
            count = run.files.filter(removed_at=None).update(removed_at=now)
            why = (
                f"only the last {run.extract.retention_runs} are kept" if number in too_many else "their retention time is over"
            )
            add_log(run, "info", f"{amount(count, 'file')} removed from the result store: {why}")
        removed += 1
    return removed


def sweep_store(now: datetime) -> int:
    """Let go of uploads that an outage left open; returns how many."""
    return store().sweep(now - timedelta(days=1))


def forget_old(now: datetime) -> int:
    """Delete log lines and alerts that are older than they need be; returns how many."""
    before = now - timedelta(days=settings.LOG_DAYS)
    return _forget_lines(before) + _forget_alerts(before)


def _forget_lines(before: datetime) -> int:
    """By their numbers, which grow with time: a look at the first one says whether there is anything to do."""
    lines = LogLine.objects.order_by("id")
    first = lines.values_list("id", "at").first()
    if first is None or first[1] >= before:
        return 0
    count, _ = LogLine.objects.filter(id__lt=first[0] + LINES, at__lt=before).delete()
    return count


def _forget_alerts(before: datetime) -> int:
    over = Alert.objects.filter(at__lt=before).exclude(problem__in=OpenProblem.objects.filter(ended_at=None))
    numbers = list(over.order_by("at").values_list("pk", flat=True)[:LINES])
    Alert.objects.filter(pk__in=numbers).delete()
    return len(numbers)
