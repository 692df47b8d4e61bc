"""Guards at the end of a run, and what an author decides about a delivery that they hold back."""

from __future__ import annotations

from datetime import date
from typing import Any

from django.db import transaction
from django.db.models import Q

from patient_ladle.core.errors import Conflict
from patient_ladle.core.results.columns import NO_TYPE
from patient_ladle.core.results.guards import Earlier, Finding, Guard, checked_guards, judged
from patient_ladle.service.people.models import Person
from patient_ladle.words import spaced

from .alarms import decided
from .delivering import to_deliver
from .models import Run
from .run_log import add_log
from .states import FINISHED, HELD, HOLD, NOT_DELIVERED
from .waiting import tell_followers


def findings_of(run: Run, outcome: dict[str, Any]) -> list[dict[str, str]]:
    """What the guards of the run's revision found."""
    guards = checked_guards(run.revision.guards)
    if not guards:
        return []
    rows = sum(each["rows"] for each in outcome["statements"])
    columns = [column["name"] for column in outcome["statements"][0]["columns"]]
    steps = [step for each in outcome["statements"] for step in each.get("steps", ())]
    found: list[Finding | None] = [judged(guard, rows, columns, _earlier(run, guard), steps) for guard in guards]
    return [*outcome.get("broken", []), *(each.to_dict() for each in found if each)]


def changes_since(run: Run, outcome: dict[str, Any]) -> list[str]:
    """What is not as it was in the last result of the same revision, where no guard asks: columns, their types, no rows at all
    where there were some."""
    before = Run.objects.filter(revision=run.revision, environment=run.environment, state=FINISHED).exclude(
        held__in=NOT_DELIVERED
    )
    last = before.exclude(pk=run.pk).order_by("-id").first()
    if last is None:
        return []
    found = []
    for number, (then, now) in enumerate(zip(last.statements, outcome["statements"], strict=False)):
        which = f" of statement {number + 1}" if len(outcome["statements"]) > 1 else ""
        types = [{c["name"]: c["source_type"] or c["kind"] for c in each["columns"]} for each in (then, now)]
        gone, new = [n for n in types[0] if n not in types[1]], [n for n in types[1] if n not in types[0]]
        parts = [f"gone: {', '.join(gone)}"] if gone else []
        parts += [f"new: {', '.join(new)}"] if new else []
        if then["rows"] and now["rows"]:  # where a source has no types, they are those of the rows
            both = {n: (was, types[1].get(n, was)) for n, was in types[0].items()}
            parts += [f"{n} is {now_} and was {was}" for n, (was, now_) in both.items() if now_ != was and _tells(was, now_)]
        if parts:
            found.append(f"columns{which} are not as in run {last.pk}: {'; '.join(parts)}")
        if then["rows"] and not now["rows"] and last.values == run.values:
            found.append(f"no rows{which}, where run {last.pk} had {then['rows']:,}")
    return found


def _tells(*types: str) -> bool:
    """Whether these are types of a column, not of the values that documents happened to have in one night."""
    return not any(each == NO_TYPE or " or " in each for each in types)


def _earlier(run: Run, guard: Guard) -> Earlier:
    if guard.kind not in ("change", "columns"):
        return Earlier()
    runs = Run.objects.filter(extract=run.extract, environment=run.environment, state=FINISHED)
    runs = runs.exclude(held__in=NOT_DELIVERED).exclude(pk__in=[run.pk, run.again_of_id or run.pk]).order_by("-id")
    if guard.kind == "columns":
        last = runs.values_list("columns", flat=True).first()
        return Earlier(columns=None if last is None else [column["name"] for column in last])
    same = _same_days(guard.given["same"], run.data_date)
    rows = runs.filter(same, rows__isnull=False).values_list("rows", flat=True)[: guard.given["of_last"]]
    return Earlier([count for count in rows if count is not None])


def _same_days(same: str, day: date) -> Q:
    match same:
        case "weekday":
            return Q(data_date__iso_week_day=day.isoweekday())
        case "month_day":
            return Q(data_date__day=day.day)
    return Q()


def _held(number: int) -> Run:
    run = Run.numbered(number, locked=True)
    if run.held != HELD:
        said = run.held or f"{spaced(run.state)} and not held"
        raise Conflict(f"run {number} is {said}.", "Only the delivery of a held run can be released or rejected.")
    return run


@transaction.atomic
def release(person: Person, number: int, note: str) -> Run:
    """Have what was held delivered, under its names. Raises Conflict."""
    run = _held(number)
    HOLD.move(run, "release", held_by=person.name, held_note=note[:400])
    if run.delivery_plan:
        to_deliver(run, run.delivery_plan)
    run.save()
    add_log(run, "info", f"released by {person.name}: {note}" if note else f"released by {person.name}")
    decided(run)
    tell_followers(run)
    return run


@transaction.atomic
def reject(person: Person, number: int, note: str) -> Run:
    """The files stay in the store and are never delivered; those that wait for the run are not run."""
    run = _held(number)
    HOLD.move(run, "reject", held_by=person.name, held_note=note[:400])
    run.save()
    add_log(run, "warning", f"rejected by {person.name}: {note}" if note else f"rejected by {person.name}")
    decided(run)
    tell_followers(run)
    return run
