"""What there is to know of each extract of a list: its last run, what is wrong with it, and what comes next.

A few queries however many extracts and runs there are: the newest run of each is found by its index.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from django.db.models import OuterRef, Subquery

from patient_ladle.core.errors import BadInput, general_words, nearest
from patient_ladle.service.extracts.models import Extract, Mark
from patient_ladle.service.extracts.searching import Listed
from patient_ladle.service.ledger.models import NO_MEMBER, Run
from patient_ladle.service.ledger.states import DELIVERY_FAILED, FAILED, HELD, NOT_RUN, STATES
from patient_ladle.service.schedules.models import Schedule, SequenceStep

from .night import Need, need_of

SEARCHED = (*STATES, "held", "not_delivered", "late", "warned", "empty", "never", "paused", "unscheduled")
"""What ``state:`` may be searched for: of the last run, or of the extract's schedules."""


def trouble_of(run: Run | None) -> Need | None:
    """What of a run a person should look at; None where nothing is wrong with it, or there is none."""
    if run is None:
        return None
    wrong = run.state in (FAILED, NOT_RUN) or run.delivery == DELIVERY_FAILED or run.held == HELD or run.late
    return need_of(run) if wrong else None


def trouble_in_words(run: Run | None, whole: bool) -> str:
    """Its cause, in general words for those who may not see the ``whole``; empty: nothing is wrong."""
    need = trouble_of(run)
    if need is None:
        return ""
    if need.code and not whole:
        return str(general_words(need.code, {"message": need.cause, "hint": need.hint})["message"])
    return need.cause


OF_A_GLANCE = (
    "extract", "environment", "state", "held", "delivery", "late", "warned", "empty", "rows", "queued_at", "ended_at", "due_at",
    "finish_by", "error", "delivery_error", "findings",
)  # fmt: skip
"""What of a run a glance and its trouble need: other columns are wide."""


@dataclass(frozen=True, slots=True)
class Glance:
    """One extract of a list. ``next_due_at``: of those of its schedules that are not paused."""

    extract: Listed
    last_run: Run | None
    mark: Mark | None
    next_due_at: datetime | None
    schedules: int
    paused: int

    @property
    def need(self) -> Need | None:
        """What a person should look at; None where nothing is wrong with the last run."""
        return trouble_of(self.last_run)

    def is_in(self, state: str) -> bool:
        """Whether that holds of it; ``state`` is one of SEARCHED."""
        run = self.last_run
        match state:
            case "never":
                return run is None
            case "unscheduled":
                return not self.schedules
            case "paused":
                return self.schedules > 0 and self.paused == self.schedules
        if run is None:
            return False
        match state:
            case "held":
                return bool(run.held == HELD)
            case "not_delivered":
                return bool(run.delivery == DELIVERY_FAILED)
            case "late" | "warned" | "empty":
                return bool(getattr(run, state))
        return bool(run.state == state)


def glances(extracts: Sequence[Listed], marks: Mapping[int, Mark]) -> list[Glance]:
    """In the same order."""
    keys = [each.pk for each in extracts]
    runs, schedules = _last_runs(keys), _schedules(keys)
    found = []
    for extract in extracts:
        mine = schedules.get(extract.pk, [])
        due = [at for at, paused in mine if at and not paused]
        paused = sum(paused for _, paused in mine)
        found.append(
            Glance(extract, runs.get(extract.pk), marks.get(extract.pk), min(due, default=None), len(mine), paused)
        )  # fmt: skip
    return found


def in_states(found: Sequence[Glance], states: Collection[str]) -> list[Glance]:
    """Those of which all of these hold. Raises BadInput."""
    for state in states:
        if state not in SEARCHED:
            close = nearest(state, SEARCHED)
            hint = f"Did you mean 'state:{close}'?" if close else f"It takes one of: {', '.join(SEARCHED)}."
            raise BadInput(f"'state:{state}' was given; there is no such state.", hint)
    return [glance for glance in found if all(glance.is_in(state) for state in states)]


def _last_runs(keys: Collection[int]) -> dict[int, Run]:
    """By extract."""
    newest = Run.objects.filter(NO_MEMBER, extract=OuterRef("pk")).order_by("-pk").values("pk")[:1]
    ids = Extract.objects.filter(pk__any=list(keys)).annotate(newest=Subquery(newest)).values_list("newest", flat=True)
    found = Run.objects.filter(pk__any=[each for each in ids if each]).prefetch_related("environment").only(*OF_A_GLANCE)
    return {run.extract_id: run for run in found}


def _schedules(keys: Collection[int]) -> dict[int, list[tuple[datetime | None, bool]]]:
    """By extract, of each schedule that runs it: when it is due next, and whether it is paused."""
    there = Schedule.objects.filter(removed_at=None)
    first = there.filter(extract__any=list(keys)).values_list("extract_id", "pk", "next_due_at", "paused_at")
    steps = SequenceStep.objects.filter(schedule__removed_at=None, extract__any=list(keys))
    later = steps.values_list("extract_id", "schedule_id", "schedule__next_due_at", "schedule__paused_at")
    found: dict[int, dict[int, tuple[datetime | None, bool]]] = defaultdict(dict)
    for extract, schedule, due, paused in (*first, *later):
        found[extract][schedule] = due, paused is not None
    return {extract: list(each.values()) for extract, each in found.items()}
