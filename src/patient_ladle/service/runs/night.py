"""How the last night went: counts, what needs attention first, what is next.

Rules and theory
----------------
* A night begins at six in the evening by the service's clocks; until midnight it is still the one before that counts.
* A failure that was put right since, by a later run of the same extract, environment and data date, needs nobody.
* What a guard holds, and a delivery that failed, need a decision however old they are.
* Runs that failed for one cause are one line: a source that is away, a store, a folder, an extract that fails alike.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import date, datetime, time, timedelta
from typing import Any

from django.conf import settings
from django.db.models import Case, Count, Exists, OuterRef, Q, QuerySet, When

from patient_ladle.core.values.calendars.clock import check_zone
from patient_ladle.service.alerts.services import without_numbers
from patient_ladle.service.ledger.models import NO_MEMBER, SOURCE_CODES, STORE_CODES, Run
from patient_ladle.service.ledger.states import DELIVERY_FAILED, DELIVERY_OPEN, FAILED, FINISHED, HELD, LIVE, NOT_RUN
from patient_ladle.service.schedules.models import DueTime, Schedule

EVENING = 18
"""The hour at which a night begins."""
LEAST_HOURS = 6
"""So long a night has to be before it is the last one."""
SHOWN = 50
"""Lines of what needs attention, as shown."""
LOOKED_AT = 2_000
"""Runs that need attention, as they are put together to lines."""
BARS = 2_000
"""Runs on the strip."""
COMING = 6
"""Schedules that come next, as shown."""


@dataclass(frozen=True, slots=True)
class Need:
    """A run that a person should look at: what kind of trouble, its cause, and what to do next. ``others``: runs before it
    that the same cause has kept; ``code``: that of the error where it is one, whose words are for authors."""

    kind: str
    run: Run
    cause: str
    hint: str
    code: str = ""
    others: list[int] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Night:
    """From its beginning to now, or to its end where it is over."""

    since: datetime
    until: datetime
    ended: datetime | None
    states: Counter[str]
    decisions: Counter[str]
    needs: list[Need]
    needing: int
    late: int
    undelivered: int
    held: int

    @property
    def date(self) -> date:
        """Of its morning, by the service's clocks."""
        return (self.since.astimezone(check_zone(settings.TIME_ZONE)) + timedelta(days=1)).date()

    @property
    def is_over(self) -> bool:
        """It is a past one, and nothing is added to it."""
        return self.ended is not None

    @property
    def sentence(self) -> str:
        """Counts in words."""
        counts = [f"{count:,} {state}" for state, count in sorted(self.states.items())]
        counts += [f"{self.held:,} held"] if self.held else []
        counts += [f"{self.undelivered:,} not delivered yet"] if self.undelivered else []
        counts += [f"{self.late:,} late"] if self.late else []
        counts += [f"{count:,} due times {decision}" for decision, count in sorted(self.decisions.items())]
        return f"{', '.join(counts)}." if counts else "no runs."


def last_evening(now: datetime) -> datetime:
    """When the night began that is the last one at this moment."""
    local = now.astimezone(check_zone(settings.TIME_ZONE)) - timedelta(hours=LEAST_HOURS)
    evening = local.replace(hour=EVENING, minute=0, second=0, microsecond=0)
    return evening if evening <= local else evening - timedelta(days=1)


def bounds_of(morning: date) -> tuple[datetime, datetime]:
    """The evening at which the night before that morning begins, and the next one, at which it is over."""
    zone = check_zone(settings.TIME_ZONE)
    begins = datetime.combine(morning - timedelta(days=1), time(EVENING), zone)
    return begins, datetime.combine(morning, time(EVENING), zone)


def runs_of(since: datetime, ended: datetime | None = None) -> QuerySet[Run]:
    """Runs that were wanted then or later, and all that go on; of a night that has ended, those wanted in it."""
    wanted = Q(queued_at__gte=since)
    return Run.objects.filter(NO_MEMBER, wanted & Q(queued_at__lt=ended) if ended else wanted | Q(state__in=LIVE))


def night_to(now: datetime, since: datetime | None = None, ended: datetime | None = None) -> Night:
    """The night up to this moment; with ``ended`` a past one, with what of it needs attention to this day."""
    since = since or last_evening(now)
    runs = runs_of(since, ended)
    troubled = _troubled(since)
    if ended:
        troubled = troubled.filter(queued_at__gte=since, queued_at__lt=ended)
    by_state = runs.order_by().values("state").annotate(count=Count("pk"), late=Count("pk", filter=Q(late=True)))
    counts = {row["state"]: row for row in by_state}
    without_run = DueTime.objects.filter(decided_at__gte=since, **({"decided_at__lt": ended} if ended else {})).exclude(
        decision="run"
    )
    return Night(
        since,
        ended or now,
        ended,
        Counter({state: row["count"] for state, row in counts.items()}),
        Counter(without_run.order_by().values_list("decision", flat=True)),
        _by_cause(troubled.select_related("extract", "environment", "due_time__schedule")[:LOOKED_AT])[:SHOWN],
        troubled.count(),
        sum(row["late"] for row in counts.values()),
        runs.filter(delivery__in=DELIVERY_OPEN).count(),
        runs.filter(held=HELD).count(),
    )


def _troubled(since: datetime) -> QuerySet[Run]:
    """Failed and not run, not delivered, held, late, in that order."""
    later = Run.objects.filter(
        extract=OuterRef("extract"), environment=OuterRef("environment"), data_date=OuterRef("data_date"),
        pk__gt=OuterRef("pk"), state=FINISHED,
    )  # fmt: skip
    failed = Q(state__in=(FAILED, NOT_RUN)) & NO_MEMBER & Q(queued_at__gte=since) & ~Exists(later)
    undelivered = Q(delivery=DELIVERY_FAILED)
    late = Q(late=True) & Q(queued_at__gte=since) & ~Q(state=FAILED)
    rank = Case(When(state__in=(FAILED, NOT_RUN), then=0), When(undelivered, then=1), When(held=HELD, then=2), default=3)
    return Run.objects.filter(failed | undelivered | Q(held=HELD) | late).order_by(rank, "-pk")


def _by_cause(runs: Iterable[Run]) -> list[Need]:
    """One line for each cause, with the newest run that it has kept."""
    found: dict[tuple[Any, ...], Need] = {}
    for run in runs:
        need = need_of(run)
        if (first := found.setdefault(_cause(need), need)) is not need:
            first.others.append(run.pk)
    return list(found.values())


def _cause(need: Need) -> tuple[Any, ...]:
    """What runs share that one person mends for all of them."""
    run, own = need.run, (need.run.extract_id, need.run.environment_id)
    match need.kind:
        case "held":
            return need.kind, run.pk  # each is decided about by itself
        case "late":
            return need.kind, run.due_time.schedule_id if run.due_time else run.pk
        case "not_delivered":
            code = (run.delivery_error or {}).get("code")
            shared = (run.delivery_plan or {}).get("targets", []) if code in STORE_CODES else own
            return need.kind, code, *shared
    code = str((run.error or {}).get("code"))
    if code in STORE_CODES:
        return need.kind, "store"
    if code in SOURCE_CODES:
        return need.kind, "source", run.source_id, run.environment_id
    return need.kind, *own, code, without_numbers(need.cause)


def _code(error: Mapping[str, Any]) -> str:
    return str(error.get("code", ""))


def need_of(run: Run) -> Need:
    """What is wrong with a run that a person should look at, else that it is late."""
    if run.state == NOT_RUN or run.state == FAILED:
        error = run.error or {}
        return Need(run.state, run, str(error.get("message", "")), str(error.get("hint", "")), _code(error))
    if run.delivery == DELIVERY_FAILED:
        error = run.delivery_error or {}
        return Need(
            "not_delivered", run, str(error.get("message", "")), "Deliver it again, elsewhere, or leave it.", _code(error)
        )
    if run.held == HELD:
        texts = [each["text"] for each in run.findings if each["then"] == "hold"]
        return Need("held", run, "; ".join(texts), "Release its delivery, or reject it.")
    by = f"it was to be finished by {run.finish_by:%H:%M} UTC" if run.finish_by else f"it was due at {run.due_at:%H:%M} UTC"
    ended = "has not ended" if run.ended_at is None else f"ended at {run.ended_at:%H:%M} UTC"
    hint = "Look at its stages: which took long?" if run.finish_by else "The service was not there when it was due."
    return Need("late", run, f"{by} and {ended}.", hint)


def coming_next() -> list[Schedule]:
    """Schedules by their next due time."""
    going = Schedule.objects.filter(removed_at=None, paused_at=None, next_due_at__isnull=False)
    return list(going.select_related("extract", "environment").order_by("next_due_at")[:COMING])
