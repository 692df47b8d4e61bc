"""Starting, cancelling and repeating runs."""

from __future__ import annotations

import hashlib
import json
import zlib
from collections.abc import Callable, Mapping
from datetime import timedelta
from typing import Any

from django.db import IntegrityError, transaction
from django.utils import timezone

from patient_ladle.core.errors import BadInput, Conflict, NotFound
from patient_ladle.core.files.output import OutputSettings
from patient_ladle.core.runs.due_decisions import finish_by
from patient_ladle.core.values.parameters import Parameter
from patient_ladle.service.common.clock import today
from patient_ladle.service.common.problems import IdempotencyMismatch
from patient_ladle.service.extracts.models import Extract, Revision
from patient_ladle.service.extracts.named import extract_named
from patient_ladle.service.extracts.searching import mark_opened
from patient_ladle.service.extracts.sensitive_values import opened
from patient_ladle.service.ledger.making import new_run
from patient_ladle.service.ledger.models import IdempotentCall, Run
from patient_ladle.service.ledger.states import ENDED
from patient_ladle.service.ledger.waiting import settle, stop
from patient_ladle.service.people.models import Person
from patient_ladle.service.schedules.models import PRIORITIES, DueTime
from patient_ladle.service.sources.models import Environment
from patient_ladle.service.sources.queries import environment_named

KEY_KEPT = timedelta(hours=24)

Start = Callable[[Person, dict[str, Any]], Run]


def _queued(run: Run) -> Run:
    """Put into the queue, or let wait."""
    run.save()
    settle(run, timezone.now())
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


def is_published(extract: Extract, revision: Revision, body: Mapping[str, Any]) -> bool:
    """Whether a run by hand is delivered and may become the latest result: as it was asked for, else if it runs as the extract
    stands."""
    asked = body.get("publish")
    return not is_altered(extract, revision, body) if asked is None else bool(asked)


def is_altered(extract: Extract, revision: Revision, body: Mapping[str, Any]) -> bool:
    """Whether a run by hand is not what the extract itself gives: other values than its own, other formats, an older revision,
    another output, or a day that is still to come. Such a run is a trial unless somebody says that it is to be published."""
    formats, day, values = body.get("formats") or [], body.get("data_date"), body.get("values") or {}
    if own_output(revision, body) is not None:
        return True
    if revision.number != extract.number or (formats and set(formats) != set(revision.formats)) or (day and day > today()):
        return True
    own = {parameter.name: parameter for parameter in revision.declared}
    for name, value in values.items():
        parameter = own.get(name)
        given_anyway = parameter is not None and parameter.required and parameter.default is None and not parameter.shared
        if value not in (None, "", []) and not given_anyway and (parameter is None or not _is_default(parameter, value)):
            return True
    return False


def own_output(revision: Revision, body: Mapping[str, Any]) -> dict[str, Any] | None:
    """Output settings of a run by hand where they are not its revision's. Raises BadInput."""
    own = OutputSettings.from_dict(revision.output)
    OutputSettings.from_dict(body.get("output") or {}).check_fields([each.name for each in revision.declared])
    made = own.with_changes(body.get("output") or {}).to_dict()
    return None if made == own.to_dict() else made


def _is_default(parameter: Parameter, value: Any) -> bool:
    try:
        return parameter.default is not None and parameter.read(value, today()) == parameter.read(parameter.default, today())
    except BadInput:
        return False


@transaction.atomic
def start_run(person: Person, body: dict[str, Any]) -> Run:
    """A run by hand, of the newest revision or the one given."""
    extract, revision = runnable(body)
    wanted = body.get("environment") or default_environment()
    published = is_published(extract, revision, body)
    mark_opened(person, extract)
    run = new_run(
        extract,
        revision,
        environment_named(wanted),
        body.get("values") or {},
        list(dict.fromkeys(body.get("formats") or [])),
        body.get("data_date") or today(),
        timezone.now().replace(microsecond=0),
        started_by=person,
        published=published,
        store_only=not published,
        output=own_output(revision, body),
    )
    return _queued(run)


def start_run_once(person: Person, body: dict[str, Any], key: str, start: Start = start_run) -> tuple[Run, bool]:
    """``start``, but the same key answers with the same run; also says whether it is new.

    Raises IdempotencyMismatch when the key came with another body.
    """
    if not key:
        return start(person, body), True
    if len(key) > 128:
        raise BadInput("the Idempotency-Key is longer than 128 characters.", "Send a UUID.")
    digest = hashlib.sha256(json.dumps(body, sort_keys=True, default=str).encode()).hexdigest()
    IdempotentCall.objects.filter(called_at__lt=timezone.now() - KEY_KEPT).delete()
    try:
        with transaction.atomic():
            run = start(person, body)
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
def run_again(person: Person, number: int, newest: bool = False) -> Run:
    """The same values, formats, environment and data date once more, of the same revision or of the newest one."""
    old = Run.numbered(number)
    if old.member_of_id is not None:
        raise Conflict(
            f"run {number} is an input of run {old.member_of_id}.", f"Start that one again: ladle run again {old.member_of_id}"
        )
    if old.state not in ENDED:
        raise Conflict(f"run {number} has not ended yet.", "Wait for its end, or cancel it first.")
    run = new_run(
        old.extract,
        old.extract.head if newest else old.revision,
        old.environment,
        opened(old.values),
        old.formats,
        old.data_date,
        old.due_at,
        started_by=person,
        again_of=old,
        deliver_into=old.deliver_into,
        store_only=old.store_only,
        published=old.published,
        output=old.output,
    )
    return _queued(run)


@transaction.atomic
def cancel_run(person: Person, number: int) -> Run:
    """A queued run ends at once; a running one is asked to, and its statement is stopped in the source."""
    run = Run.numbered(number, locked=True)
    if run.state in ENDED:
        raise Conflict(f"run {number} has {run.state} already.", "There is nothing left to cancel.")
    stop(run, person.name)
    return run


NO_RUNS: Mapping[int, Run] = {}


def queue_due_runs(due_time: DueTime, earlier: Mapping[int, Run] = NO_RUNS, **origin: Any) -> list[Run]:
    """``due_runs``, queued or waiting."""
    return [_queued(run) for run in due_runs(due_time, earlier, **origin)]


def due_runs(due_time: DueTime, earlier: Mapping[int, Run] = NO_RUNS, **origin: Any) -> list[Run]:
    """The runs of a due time, one for each extract of its sequence, not saved yet.

    ``earlier``: those of its steps that are done again; ``origin`` as in ``new_run``. Raises BadInput and its family; then
    none is made.
    """
    schedule = due_time.schedule
    steps = [(1, schedule.extract, opened(schedule.values), schedule.formats)]
    steps += [(s.place, s.extract, opened(s.values), s.formats) for s in schedule.sequence()]
    now = timezone.now()
    spread = timedelta(seconds=zlib.crc32(schedule.name.encode()) % schedule.spread_seconds if schedule.spread_seconds else 0)
    start = due_time.due_at + spread
    common: dict[str, Any] = {
        "due_time": due_time,
        "priority": PRIORITIES[schedule.priority],
        "max_attempts": schedule.attempts,
        "give_up_at": now + timedelta(minutes=schedule.timeout_minutes),
        "deliver_into": schedule.deliver_into,
        "finish_by": finish_by(due_time.due_at, schedule.zone, schedule.finish_by) if schedule.finish_by else None,
        "published": not origin.get("store_only", False),
        **origin,
    }
    made = []
    for step, extract, values, formats in steps:
        if extract.archived_at:
            raise BadInput(f"extract '{extract.name}' is archived.", "Restore it, or take it out of the schedule.")
        waits: dict[str, Any] = {}
        if start > now:
            waits = {"not_before": start, "waits_for": f"its start to be spread to {start:%H:%M:%S} UTC"}
        made.append(
            new_run(
                extract,
                extract.head,
                schedule.environment,
                values,
                formats,
                due_time.data_date,
                due_time.due_at,
                step=step,
                again_of=earlier.get(step),
                **common,
                **waits,
            )
        )
    return made
