"""Guards at the end of a run, and what an author decides about a delivery that they hold back."""

from __future__ import annotations

import json
from datetime import date
from typing import Any

from django.db import connection, transaction
from django.db.models import Q

from patient_ladle.core.engine import DESCRIPTOR
from patient_ladle.core.errors import Conflict
from patient_ladle.core.guards import Earlier, Finding, Guard, checked_guards, judged
from patient_ladle.core.output import OutputSettings
from patient_ladle.service.people.models import Person

from .alarms import decided
from .models import FINISHED, HELD, NOT_DELIVERED, REJECTED, RELEASED, Run
from .services import run_numbered
from .stores import store
from .telling import add_log, delivered_words
from .waiting import tell_followers


def findings_of(run: Run, outcome: dict[str, Any]) -> list[dict[str, str]]:
    """What the guards of the run's revision found."""
    guards = checked_guards(run.revision.guards)
    if not guards:
        return []
    rows = sum(each["rows"] for each in outcome["statements"])
    columns = [column["name"] for column in outcome["statements"][0]["columns"]]
    found: list[Finding | None] = [judged(guard, rows, columns, _earlier(run, guard)) for guard in guards]
    return [*outcome.get("broken", []), *(each.to_dict() for each in found if each)]


def _earlier(run: Run, guard: Guard) -> Earlier:
    if guard.kind not in ("change", "columns"):
        return Earlier()
    runs = Run.objects.filter(extract=run.extract, environment=run.environment, state=FINISHED)
    runs = runs.exclude(held__in=NOT_DELIVERED).exclude(pk=run.pk).exclude(pk=run.again_of_id).order_by("-id")
    if guard.kind == "columns":
        last = runs.values_list("columns", flat=True).first()
        return Earlier(columns=None if last is None else [column["name"] for column in last])
    same = _same_days(guard.given["same"], run.data_date)
    return Earlier(list(runs.filter(same, rows__isnull=False).values_list("rows", flat=True)[: guard.given["of_last"]]))


def _same_days(same: str, day: date) -> Q:
    match same:
        case "weekday":
            return Q(data_date__iso_week_day=day.isoweekday())
        case "month_day":
            return Q(data_date__day=day.day)
    return Q()


def _held(number: int) -> Run:
    run = run_numbered(number, locked=True)
    if run.held != HELD:
        said = run.held or f"{run.state} and not held"
        raise Conflict(f"run {number} is {said}.", "Only the delivery of a held run can be released or rejected.")
    return run


@transaction.atomic
def release(person: Person, number: int, note: str) -> Run:
    """Deliver what was held, under its names. Raises Conflict, StoreUnwritable, DiskFull, NameTaken."""
    with connection.cursor() as cursor:
        cursor.execute("set local idle_in_transaction_session_timeout = 0")  # copying may take long
    run = _held(number)
    run.held, run.held_by, run.held_note = RELEASED, person.name, note[:400]
    if run.held_plan:
        _deliver(run, run.held_plan)
    run.held_plan = None
    run.save()
    add_log(run, "info", f"released by {person.name}: {note}" if note else f"released by {person.name}")
    decided(run)
    tell_followers(run)
    return run


def _deliver(run: Run, held: dict[str, Any]) -> None:
    folder = store().result(str(run.pk), run.attempt)
    with folder.open(DESCRIPTOR) as file:
        described = json.load(file)

    def renamed(names: Any) -> dict[str, Any]:
        resources = [{**each, "path": names.get(each["path"], each["path"])} for each in described["resources"]]
        return {**described, "resources": resources, "ladle": {**described["ladle"], "released": run.held_note or run.held_by}}

    wished = [(stored, name) for stored, name in held["wished"]]
    plan = folder.prepare_delivery(held["folders"], wished, OutputSettings.from_dict(run.revision.output).files, renamed)
    folder.deliver(plan)
    for file, (first, *others) in zip(run.files.all(), plan.delivered(), strict=True):
        file.delivered_path, file.delivered_also = first, others
        file.save(update_fields=["delivered_path", "delivered_also"])
    add_log(run, "info", delivered_words(plan))


@transaction.atomic
def reject(person: Person, number: int, note: str) -> Run:
    """The files stay in the store and are never delivered; those that wait for the run are not run."""
    run = _held(number)
    run.held, run.held_by, run.held_note, run.held_plan = REJECTED, person.name, note[:400], None
    run.save()
    add_log(run, "warning", f"rejected by {person.name}: {note}" if note else f"rejected by {person.name}")
    decided(run)
    tell_followers(run)
    return run
