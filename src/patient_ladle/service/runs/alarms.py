"""What of runs and due times people are told.

Rules and theory
----------------
* A trouble belongs to the thing that is wrong: a source that cannot be reached is one trouble, however many extracts
  fail by it; an extract that fails night after night is one, too, until its cause changes.
* Whoever starts a run by hand watches it: only runs of schedules tell of failures. A held delivery is always told.
* A run that is *not run* because of another's failure tells nothing: that failure is told already.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from datetime import date, datetime, time, timedelta

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from patient_ladle.core.calendars.clock import check_zone
from patient_ladle.service.notices.models import Notice, Summary
from patient_ladle.service.notices.services import over, tell, trouble
from patient_ladle.service.schedules.models import DueTime, Schedule

from .models import CANCELLED, FAILED, FINISHED, HELD, NOT_RUN, Run
from .stores import store

SOURCE_CODES = (
    "source_unreachable",
    "source_sign_in_refused",
    "source_tls_refused",
    "source_database_missing",
    "connection_lost",
)
"""Faults of a source, whatever extract met them."""
SCARCE_BYTES = 5 << 30
"""Free space in the result store below which people are told: days, not minutes, before the end."""
SHOWN = 20
"""Lines of each kind in a summary."""


def _extract_key(run: Run) -> str:
    return f"extract:{run.extract_id}:{run.environment_id}"


def _source_key(run: Run) -> str:
    return f"source:{run.source_id}:{run.environment_id}"


def _where(run: Run) -> str:
    return f"{run.extract.name} in {run.environment.name}"


def run_ended(run: Run, told_already: bool = False) -> None:
    """The run has come to its last state; in the transaction that says so."""
    where, path = _where(run), f"/runs/{run.pk}"
    source = f"source {run.source.name} in {run.environment.name}"
    if run.state == FINISHED:
        if run.held == HELD:
            cause = "; ".join(finding["text"] for finding in run.findings if finding["then"] == "hold")
            next_step = "Look at its files, then release or reject them."
            trouble(f"held:{run.pk}", "held", f"{where}: run {run.pk} is held", cause, next_step, path)
            return
        over(_source_key(run), f"{source} is back", f"Run {run.pk} has finished.", path)
        over(_extract_key(run), f"{where} runs again", f"Run {run.pk} has finished with {run.rows:,} rows.", path)
        if run.finish_by and not run.late and run.due_time:
            schedule = run.due_time.schedule
            over(f"late:{schedule.pk}", f"{schedule.name} is in time again", f"Run {run.pk} has finished in time.", path)
        return
    if run.due_time is None or run.backfill or told_already or run.state not in (FAILED, NOT_RUN):
        return
    error = run.error or {}
    cause, hint, code = error.get("message", ""), error.get("hint", ""), error.get("code", "")
    if code in SOURCE_CODES:
        trouble(_source_key(run), "source unreachable", f"{source} cannot be read", cause, hint, path, mark=code)
    else:
        kind = "failed" if run.state == FAILED else "not run"
        trouble(_extract_key(run), kind, f"{where}: {kind}", cause, hint, path, mark=f"{code} {cause}")


def decided(run: Run) -> None:
    """A held delivery was released or rejected."""
    words = f"{run.held} by {run.held_by}" + (f": {run.held_note}" if run.held_note else "")
    over(f"held:{run.pk}", f"{_where(run)}: run {run.pk} is {run.held}", f"{words}.", f"/runs/{run.pk}")


def run_is_late(run: Run) -> None:
    """The run has passed the moment that it was to be finished by."""
    if run.due_time is None:
        return
    schedule = run.due_time.schedule
    by = run.finish_by.astimezone(check_zone(schedule.zone)) if run.finish_by else timezone.now()
    cause = f"Run {run.pk} of {run.extract.name} is {run.state} and was to be finished by {by:%H:%M}."
    next_step = "Look at its stage and at its source; give the schedule an earlier time if that is usual."
    trouble(f"late:{schedule.pk}", "late", f"{schedule.name} is late", cause, next_step, f"/runs/{run.pk}", mark="late")


def missed(counts: Mapping[str, int], since: datetime) -> Notice:
    """Due times of these schedules passed while no scheduler was there; one notice for all of them."""
    total = sum(counts.values())
    names = ", ".join(f"{name} ({count})" for name, count in sorted(counts.items())[:SHOWN])
    return tell(
        "missed",
        f"{total:,} due times of {len(counts):,} schedules were missed",
        f"The service was not running at them, since {since:%Y-%m-%d %H:%M} UTC: {names}.",
        "Those that a schedule wants after all run now; backfill others: ladle schedule backfill.",
        "/schedules",
    )


def mind_space() -> None:
    """Say so long before the result store is full, and when there is room again."""
    try:
        free = store().free_bytes()
    except OSError as error:
        trouble(
            "space", "space", "the result store cannot be looked at", f"{error}.", "Look at the store's folder.", mark="away"
        )
        return
    if free < SCARCE_BYTES:
        cause, hint = f"{free / 1e9:.0f} GB are left.", "Free some, or keep results for less long."
        trouble("space", "space", "space is scarce in the result store", cause, hint, mark="scarce")
    else:
        over("space", "there is room in the result store", f"{free / 1e9:.0f} GB are free.")


def sum_up(now: datetime) -> Notice | None:
    """The night in one notice, once a morning from the hour that is set; None when it is not the time."""
    local = now.astimezone(check_zone(settings.TIME_ZONE))
    if not settings.SUMMARY_AT or local.time() < time.fromisoformat(settings.SUMMARY_AT):
        return None
    if Summary.objects.filter(date=local.date()).exists():
        return None
    with transaction.atomic():
        title, text = summary_of(local.date(), now)
        notice = tell("summary", title, text, "", "/")
        _, new = Summary.objects.get_or_create(date=local.date(), defaults={"notice": notice})
        if not new:
            transaction.set_rollback(True)  # another scheduler was first
            return None
    return notice


def summary_of(day: date, now: datetime) -> tuple[str, str]:
    """Title and text: counts of the last day, and by name whatever did not go as it should."""
    since = now - timedelta(days=1)
    runs = Run.objects.filter(queued_at__gte=since).select_related("extract", "environment")
    states = Counter(runs.values_list("state", flat=True))
    skipped = DueTime.objects.filter(decided_at__gte=since).exclude(decision="run").values_list("decision", flat=True)
    decisions = Counter(skipped)
    held = runs.filter(held=HELD)
    counts = [f"{count:,} {state}" for state, count in sorted(states.items())]
    counts += [f"{count:,} due times {decision}" for decision, count in sorted(decisions.items())]
    lines = [f"Runs of the last day: {', '.join(counts) or 'none'}."]
    kinds = {
        "Not finished": runs.filter(state__in=(FAILED, NOT_RUN, CANCELLED)),
        "Held": held,
        "Late": runs.filter(late=True),
    }
    for title, some in kinds.items():
        shown = [f"run {run.pk} {_where(run)}" for run in some[:SHOWN]]
        if shown:
            lines.append(f"{title}: {'; '.join(shown)}.")
    due = Schedule.objects.filter(removed_at=None, paused_at=None, next_due_at__isnull=False).order_by("next_due_at").first()
    if due is not None and due.next_due_at is not None:
        lines.append(f"Next: {due.name} at {due.next_due_at:%Y-%m-%d %H:%M} UTC.")
    bad = states[FAILED] + states[NOT_RUN]
    word = (
        "all is well"
        if not bad and not held
        else ", ".join(filter(None, (f"{bad} not finished" if bad else "", f"{held.count()} held" if held else "")))
    )
    return f"The night to {day.isoformat()}: {word}", "\n".join(lines)
