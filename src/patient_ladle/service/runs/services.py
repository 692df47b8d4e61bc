"""Starting, cancelling and repeating runs."""

from __future__ import annotations

import hashlib
import json
from datetime import date, datetime, timedelta
from typing import Any

from django.db import IntegrityError, connection, transaction
from django.utils import timezone

from patient_ladle.core.errors import BadInput, Conflict, NotFound
from patient_ladle.core.formats import get_format
from patient_ladle.core.parameters import resolve
from patient_ladle.service.common.clock import today
from patient_ladle.service.common.problems import IdempotencyMismatch
from patient_ladle.service.extracts.models import Extract, Revision
from patient_ladle.service.extracts.services import extract_named
from patient_ladle.service.extracts.shared_values import declared_by, with_shared
from patient_ladle.service.people.models import Person
from patient_ladle.service.schedules.models import DueTime
from patient_ladle.service.sources.models import Environment
from patient_ladle.service.sources.queries import address_in, environment_named

from .models import CANCELLED, ENDED, QUEUED, IdempotentCall, LogLine, Run

QUEUED_CHANNEL = "ladle_run_queued"
KEY_KEPT = timedelta(hours=24)


def run_numbered(number: int, locked: bool = False) -> Run:
    """Raises NotFound."""
    query = Run.objects.select_for_update(of=("self",)) if locked else Run.objects.all()
    found: Run | None = query.filter(pk=number).first()
    if found is None:
        raise NotFound(f"there is no run {number}.", "List them: ladle run list.")
    return found


def wake_workers() -> None:
    """Tell idle workers, once this transaction commits; without it they look every two seconds."""
    with connection.cursor() as cursor:
        cursor.execute("select pg_notify(%s, '')", [QUEUED_CHANNEL])


def add_log(run: Run, level: str, text: str, stage: str = "") -> None:
    """One line of the run log, at the present moment."""
    LogLine.objects.create(run=run, attempt=run.attempt, at=timezone.now(), stage=stage or run.stage, level=level, text=text)


def queue_run(
    extract: Extract,
    revision: Revision,
    environment: Environment,
    values: dict[str, Any],
    formats: list[str],
    data_date: date,
    due_at: datetime,
    **origin: Any,
) -> Run:
    """Check everything that can be checked now and put the run into the queue. Raises BadInput and its family."""
    address_in(revision.source, environment)
    for name in formats:
        get_format(name)
    declared = declared_by(revision)
    values = with_shared(declared, values, environment)
    in_effect = resolve(declared, values, data_date, due_at)
    run = Run.objects.create(
        extract=extract,
        revision=revision,
        source=revision.source,
        environment=environment,
        values=values,
        values_in_effect=in_effect.as_text(),
        formats=formats or revision.formats,
        data_date=data_date,
        due_at=due_at,
        **origin,
    )
    wake_workers()
    return run


def runnable(body: dict[str, Any]) -> tuple[Extract, Revision]:
    """The extract and revision that a body names. Raises UnknownName, Conflict, NotFound."""
    extract = extract_named(body["extract"])
    if extract.archived_at:
        raise Conflict(f"extract '{extract.name}' is archived.", f"Restore it first: ladle extract restore {extract.name}")
    number = body.get("revision") or extract.number
    revision = extract.revisions.select_related("source").filter(number=number).first()
    if revision is None:
        raise NotFound(f"'{extract.name}' has no revision {number}.", f"Its revisions are 1 to {extract.number}.")
    return extract, revision


def default_environment() -> str:
    """The first one; empty while there is none."""
    return Environment.objects.values_list("name", flat=True).first() or ""


@transaction.atomic
def start_run(person: Person, body: dict[str, Any]) -> Run:
    """A run by hand, of the newest revision or the one given."""
    extract, revision = runnable(body)
    wanted = body.get("environment") or default_environment()
    return queue_run(
        extract,
        revision,
        environment_named(wanted),
        body.get("values") or {},
        list(dict.fromkeys(body.get("formats") or [])),
        body.get("data_date") or today(),
        timezone.now().replace(microsecond=0),
        started_by=person,
    )


def start_run_once(person: Person, body: dict[str, Any], key: str) -> tuple[Run, bool]:
    """``start_run``, but the same key answers with the same run; also says whether it is new.

    Raises IdempotencyMismatch when the key came with another body.
    """
    if not key:
        return start_run(person, body), True
    if len(key) > 128:
        raise BadInput("the Idempotency-Key is longer than 128 characters.", "Send a UUID.")
    digest = hashlib.sha256(json.dumps(body, sort_keys=True, default=str).encode()).hexdigest()
    IdempotentCall.objects.filter(called_at__lt=timezone.now() - KEY_KEPT).delete()
    try:
        with transaction.atomic():
            run = start_run(person, body)
            IdempotentCall.objects.create(person=person, key=key, body_hash=digest, run=run)
        return run, True
    except IntegrityError:
        call = IdempotentCall.objects.select_related("run").filter(person=person, key=key).first()
        if call is None:
            raise
    if call.body_hash != digest:
        raise IdempotencyMismatch(
            "this Idempotency-Key was used with another body.", "Send a fresh key with a new call.", run=call.run.pk
        )
    return call.run, False


@transaction.atomic
def run_again(person: Person, number: int) -> Run:
    """The same revision, values, formats, environment and data date once more."""
    old = run_numbered(number)
    if old.state not in ENDED:
        raise Conflict(f"run {number} has not ended yet.", "Wait for its end, or cancel it first.")
    return queue_run(
        old.extract,
        old.revision,
        old.environment,
        old.values,
        old.formats,
        old.data_date,
        old.due_at,
        started_by=person,
        again_of=old,
    )


@transaction.atomic
def cancel_run(person: Person, number: int) -> Run:
    """A queued run ends at once; a running one is asked to, and its statement is stopped in the source."""
    run = run_numbered(number, locked=True)
    if run.state in ENDED:
        raise Conflict(f"run {number} has {run.state} already.", "There is nothing left to cancel.")
    run.cancel_asked_by = run.cancel_asked_by or person.name
    if run.state == QUEUED:
        run.state, run.ended_at = CANCELLED, timezone.now()
    run.save()
    add_log(run, "warning", f"{person.name} asked for the run to stop")
    return run


def queue_due_run(due_time: DueTime, late: bool) -> Run:
    """The run of a due time, made in the transaction that records it. Raises BadInput and its family."""
    schedule = due_time.schedule
    head = schedule.extract.head
    return queue_run(
        schedule.extract,
        head,
        schedule.environment,
        schedule.values,
        schedule.formats,
        due_time.data_date,
        due_time.due_at,
        due_time=due_time,
        late=late,
    )
