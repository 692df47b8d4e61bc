"""What workers do to the ledger: claim, tell, publish, end, take over. Every write is fenced by worker and attempt.

Rules and theory
----------------
* A run belongs to the worker and attempt that stand in its row while its state is *running*. A write that does not
  find them is refused with Fenced, and its result is dropped.
* Publishing is a journal. First the intent (names and checksums) is recorded under the row lock; then, under the lock
  again, the files are renamed and the run is marked finished. A crash in between is rolled forward by ``take_over``,
  for the prepared files are there and the intent says what they are. From the intent on the result is whole, and the
  run finishes also when its delivery fails, which has an account of its own (``delivering``).
* Three counts are kept apart: attempts that ended by a fault, which a schedule limits; attempts lost with their workers;
  and attempts handed back by workers that were stopped, which count for nothing.
* ``take_over`` never trusts a clock of another host: whoever calls it has watched a beat that did not move.
"""

from __future__ import annotations

import logging
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from datetime import datetime
from typing import Any

from django.conf import settings
from django.db import connection, transaction
from django.db.models import Q
from django.utils import timezone

from patient_ladle.adapters.deliveries import kind_named
from patient_ladle.core.errors import (
    Fenced,
    InputDamaged,
    LadleError,
    ProofFailed,
    RunCancelled,
    ServiceFault,
    WorkerLost,
    from_dict,
)
from patient_ladle.core.runs.retrying import RetryPolicy
from patient_ladle.service.common.alone import AWAY
from patient_ladle.service.common.targets import targets_of
from patient_ladle.service.sources.left import end_left
from patient_ladle.service.sources.queries import CLAIM_LOCK, sources_with_a_free_place
from patient_ladle.words import amount, spaced

from .alarms import run_ended
from .clearing import clear_after
from .delivering import deliver_prepared, not_delivered, of_worker, plan_of, take_over_delivery
from .holding import changes_since, findings_of
from .models import MAX_LOST, AttemptToClear, LogLine, ResultFile, Run, Worker
from .reaching import Reach, anybody_else, refuse, refused_by
from .run_log import add_log, wake_workers
from .states import DELIVERY, FAILED, FINISHED, HOLD, QUEUED, RUN, RUNNING, WAITING
from .stored_files import found_damaged, is_our_store
from .stores import store
from .waiting import nobody_can, quiet_sources, tell_followers

log = logging.getLogger("ladle.ledger")

PREPARING = ("store", "deliver")
"""From the first of these stages on an attempt may have something at the targets of its delivery."""


@transaction.atomic
def claim(worker: Worker, reach: Reach | None = None) -> Run | None:
    """The next queued run whose source has a free place and that this worker can reach, made this worker's; None when there is
    none. ``reach``: what the worker has seen of its host lately."""
    reach = reach or Reach()
    with connection.cursor() as cursor:
        cursor.execute("select pg_advisory_xact_lock(%s)", [CLAIM_LOCK])
    free = {*sources_with_a_free_place()} - {*quiet_sources(timezone.now())}
    queued = Run.objects.select_for_update(skip_locked=True, of=("self",)).filter(
        Q(source=None) | Q(source__in=free), state=QUEUED
    )
    for _ in range(REFUSALS):
        run = queued.exclude(pk__in=refused_by(worker).values("run")).order_by("queue_order", "id").first()
        if run is None:
            return None
        lack = reach.lack_of(run)
        if lack is None or (lack.elsewhere and not anybody_else(run, worker)):
            return _claimed(run, worker)
        if words := refuse(run, worker, lack):
            nobody_can(run, words, lack.of_targets)
    return None


REFUSALS = 50
"""Runs that a worker looks at in one go and cannot carry out."""


def _claimed(run: Run, worker: Worker) -> Run:
    run.refusals.all().delete()
    RUN.move(run, "claim", worker=worker, attempt=run.attempt + 1, started_at=timezone.now())
    run.save()
    add_log(run, "info", f"attempt {run.attempt} on {worker.host} (worker {worker.pid})")
    return run


@contextmanager
def _owned(run: Run) -> Iterator[Run]:
    """The run's row, locked, if it still belongs to this worker and attempt. Raises Fenced."""
    with transaction.atomic():
        row = (
            Run.objects.select_for_update(of=("self",))
            .filter(pk=run.pk, worker=run.worker_id, attempt=run.attempt, state=RUNNING)
            .first()
        )
        if row is None:
            raise Fenced(
                f"run {run.pk} is no longer attempt {run.attempt} of this worker; its result is dropped.",
                "Look at the run's later attempt.",
            )
        yield row


def record(run: Run, told: Sequence[Mapping[str, Any]]) -> None:
    """What the run's child told, in one transaction: stages, where it really reads, progress, lines of the log."""
    lines = []
    with _owned(run) as row:
        for said in told:
            at = datetime.fromisoformat(said["at"])
            match said["kind"]:
                case "stage":
                    row.stage = said["name"]
                    row.stages = [*row.stages, {"stage": row.stage, "at": at.isoformat()}]
                case "connected":
                    row.identity = said["identity"]
                case "progress":
                    row.rows, row.bytes_read = said["rows"], said["bytes"]
                case "log":
                    level, text = said["level"], said["text"]
                    lines.append(LogLine(run=row, attempt=row.attempt, at=at, stage=row.stage, level=level, text=text))
        row.save(update_fields=["stage", "stages", "identity", "rows", "bytes_read"])
        LogLine.objects.bulk_create(lines)
        run.stage = row.stage


def _recount(files: list[dict[str, Any]], statements: list[dict[str, Any]]) -> None:
    """Rows proven in all files of a format are those fetched, statement by statement. Raises ProofFailed."""
    proven: dict[tuple[str, int], int] = {}
    for file in files:
        contents = file.get("contents") or [[file["statement"], file["rows"]]]
        if sum(rows for _, rows in contents) != file["rows"]:
            raise ProofFailed(f"{file['name']}: {file['rows']} rows proven, {contents} written.")
        for statement, rows in contents:
            proven[file["format"], statement] = proven.get((file["format"], statement), 0) + rows
    for (form, statement), rows in proven.items():
        if rows != statements[statement]["rows"]:
            raise ProofFailed(f"{form}: {rows} rows proven, {statements[statement]['rows']} fetched.")


def publish(run: Run, outcome: dict[str, Any]) -> None:
    """Both steps of the journal; what cannot be delivered now is delivered later. Raises Fenced, RunCancelled, ProofFailed."""
    plan, statements = plan_of(outcome["delivery"]), outcome["statements"]
    _recount(outcome["files"], statements)
    with _owned(run) as row:
        resumed = row.publishing is not None
        if row.cancel_asked_by and not resumed:
            raise RunCancelled("the run was cancelled before its files were delivered.", "Start it again when it is wanted.")
        row.files.all().delete()
        ResultFile.objects.bulk_create(ResultFile(run=row, attempt=row.attempt, **file) for file in outcome["files"])
        row.rows = sum(each["rows"] for each in statements)
        row.warnings = [*outcome["warnings"], *changes_since(row, outcome)]
        row.statements, row.columns = statements, statements[0]["columns"]
        row.findings = findings_of(row, outcome)
        row.warned, row.empty = bool(row.warnings or row.findings), row.rows == 0
        if any(each["then"] == "hold" for each in row.findings):
            HOLD.move(row, "hold", delivery_plan=plan.wishes().to_dict() if plan else None)
            if plan:
                kind_named(plan.kind).sweep(plan)
            plan = None
        row.publishing = {"delivery": plan.to_dict() if plan else None, "undelivered": outcome.get("undelivered")}
        row.save()
    with _owned(run) as row:
        _finish(row, resumed)


def _finish(row: Run, resumed: bool) -> None:
    """The result is stored and proven, and its intent recorded: the run has finished, whatever becomes of its delivery."""
    intent = row.publishing or {}
    plan = plan_of(intent.get("delivery"))
    now = timezone.now()
    RUN.move(row, "finish", ended_at=now)
    row.late = row.late or bool(row.finish_by and now > row.finish_by)
    if row.held and row.delivery_plan:
        clear_after(row, row.plan["targets"])
    row.compared = compared_with_earlier(row)
    if plan is not None:
        row.delivery_attempts += 1
        if intent.get("undelivered"):
            not_delivered(row, plan, from_dict(intent["undelivered"]))
        else:
            deliver_prepared(row, plan, resumed)
    row.save()
    for warning in [*row.warnings, *(f"guard: {each['text']}" for each in row.findings)]:
        add_log(row, "warning", warning)
    if row.held:
        add_log(row, "warning", "held: its files are stored and proven, and not delivered until an author releases them")
    add_log(row, "info", f"finished: {amount(row.rows or 0, 'row')}")
    if row.compared:
        add_log(row, "info" if row.compared["same"] else "warning", row.compared["text"])
    run_ended(row)
    tell_followers(row)


def compared_with_earlier(row: Run) -> dict[str, Any] | None:
    """Whether a run that repeats another one gave the same; None where there is nothing to compare."""
    earlier = row.again_of
    if earlier is None or earlier.state != FINISHED:
        return None

    def marks(run: Run) -> dict[tuple[Any, ...], str]:
        return {(f.format, f.statement, f.part): f.content or f.sha256 for f in run.files.all()}

    ours, theirs = marks(row), marks(earlier)
    other = sorted(key for key in {*ours, *theirs} if ours.get(key) != theirs.get(key))
    if not other:
        return {"run": earlier.pk, "same": True, "text": f"the same result as run {earlier.pk}"}
    rows = f"{amount(earlier.rows or 0, 'row')} then, {row.rows:,} now"
    names = ", ".join(dict.fromkeys(str(key[0]) for key in other))
    text = f"not the same as run {earlier.pk}: {names} differs ({rows})"
    return {"run": earlier.pk, "same": False, "text": text}


def fail(run: Run, error: LadleError) -> None:
    """The last word of an attempt that did not make it; what can pass is tried again later.

    An attempt whose intent was recorded has its result stored and proven, and is rolled forward instead.
    """
    with _owned(run) as row:
        if row.publishing is not None:
            add_log(row, "warning", f"rolled forward from the recorded intent, after: {error.in_words()}")
            _finish(row, resumed=True)
            return
        now = timezone.now()
        if isinstance(error, InputDamaged) and not row.cancel_asked_by and _has_it_made_anew(row, error):
            return
        row.failures += 1
        again, why_not = _patience(row).again_at(error, row.failures, now)
        if row.cancel_asked_by or isinstance(error, RunCancelled):
            again = None
            RUN.move(row, "cancel", ended_at=now, error=error.to_dict())
        elif again:
            which = f"attempt {row.failures + 1} of {row.max_attempts}"
            RUN.move(row, "try again", error=error.to_dict(), not_before=again, wait_until=again, waits_for=which)
        else:
            RUN.move(row, "fail", error=error.to_dict(), ended_at=now)
        add_log(row, "error" if row.state == FAILED else "warning", error.in_words())
        if again:
            add_log(row, "warning", f"attempt {row.attempt} failed; the next one is at {again:%Y-%m-%d %H:%M:%S} UTC")
        else:
            row.late = row.late or bool(row.finish_by and now > row.finish_by)
            if row.state == FAILED:
                add_log(row, "error", f"failed: {why_not}")
        row.save()
        AttemptToClear.objects.create(run=row, attempt=row.attempt)
        if row.state != WAITING:
            run_ended(row)
            tell_followers(row)
    _discard_attempt(run)


def _has_it_made_anew(row: Run, error: InputDamaged) -> bool:
    """A stored result that the attempt was to read is damaged: that is on record now, and the run looks at its inputs anew. It
    counts for no attempt; each time one file fewer may be taken."""
    file = ResultFile.objects.filter(run=error.facts["run"], name=error.facts["file"]).select_related("run").first()
    if file is None or not is_our_store():
        return False
    found_damaged(file, str(error.facts["why"]))
    now = timezone.now()
    waits = {"not_before": now, "wait_until": now, "waits_for": "its damaged input to be made anew"}
    RUN.move(row, "try again", error=error.to_dict(), **waits)
    row.save()
    add_log(row, "warning", error.in_words())
    AttemptToClear.objects.create(run=row, attempt=row.attempt)
    transaction.on_commit(lambda: _discard_attempt(row))
    return True


def _patience(row: Run) -> RetryPolicy:
    return RetryPolicy(row.max_attempts, row.give_up_at, settings.RETRY_SECONDS)


def clean_up_after(run: Run) -> None:
    """What an attempt wrote after it was lost to another one. A published result, also one rolled forward, stays."""
    if not Run.objects.filter(pk=run.pk, attempt=run.attempt).exists():
        _discard_attempt(run)


def take_over(worker_id: str, stopped: bool = False) -> list[Run]:
    """The runs and deliveries of a lost worker, each in a transaction of its own: rolled forward if their intent was recorded,
    else queued again or ended. One that meets a fault of our own is ended with it, and holds up no other.

    ``stopped``: the worker hands them back itself, on purpose; that counts against nothing.
    """
    Worker.objects.filter(pk=worker_id).update(gone_at=timezone.now())
    theirs = Q(worker=worker_id, state=RUNNING) | of_worker(worker_id)
    taken = []
    for number in list(Run.objects.filter(theirs).order_by("pk").values_list("pk", flat=True)):
        try:
            with transaction.atomic():
                # A worker that leaves waits for a row that a thread of its own is still writing; others are at it else.
                run = Run.objects.select_for_update(skip_locked=not stopped, of=("self",)).filter(theirs, pk=number).first()
                if run is None:
                    continue
                attempt_over = _taken_over(run, stopped)
            if attempt_over:
                _discard_attempt(run)
                end_left(run.source, run.environment, run.identity)
            taken.append(run)
        except AWAY:
            raise
        except Exception:
            log.exception("run %s could not be taken over from worker %s", number, worker_id)
            _end_as_fault(number, theirs)
    if taken:
        wake_workers()
    return taken


@transaction.atomic
def _end_as_fault(number: int, theirs: Q) -> None:
    """By the least that ends it: a run that meets a fault of our own each time it is looked at must not wait for ever."""
    run = Run.objects.select_for_update(skip_locked=True, of=("self",)).filter(theirs, pk=number).first()
    if run is None:
        return
    fault = ServiceFault("the service met a fault of its own while it took this over.", "Its log has the details.", run=number)
    intent = plan_of((run.publishing or {}).get("delivery"))
    run.deliverer = None
    if run.state == RUNNING and run.publishing is None:
        RUN.move(run, "fail", error=fault.to_dict(), ended_at=timezone.now())
    else:
        if run.state == RUNNING:
            RUN.move(run, "finish", ended_at=timezone.now())
        if run.delivery or intent is not None:
            wishes = run.delivery_plan or (intent.wishes().to_dict() if intent else None)
            DELIVERY.move(run, "fail", delivery_plan=wishes, delivery_error=fault.to_dict())
    run.save()
    add_log(run, "error", fault.in_words())


def _taken_over(run: Run, stopped: bool) -> bool:
    """One of them, locked; returns whether what its attempt wrote is to be removed."""
    if run.state != RUNNING:
        take_over_delivery(run)
        return False
    if run.publishing is not None:
        add_log(run, "warning", "its worker was lost while publishing: rolled forward from the recorded intent")
        _finish(run, resumed=True)
        return False
    run.lost += not stopped
    error = WorkerLost(f"the worker of attempt {run.attempt} was lost.", "Start the run again.")
    words = f"the worker of attempt {run.attempt} was stopped, and hands the run back." if stopped else error.message
    now, no_worker = timezone.now(), {"worker": None, "stage": ""}
    if run.cancel_asked_by:
        RUN.move(run, "cancel", ended_at=now, **no_worker)
    elif run.lost >= MAX_LOST:
        RUN.move(run, "fail", error=error.to_dict(), ended_at=now, **no_worker)
    else:
        RUN.move(run, "hand back")
    run.save()
    AttemptToClear.objects.create(run=run, attempt=run.attempt)
    if run.state != QUEUED:
        run_ended(run)
        tell_followers(run)
    add_log(run, "error" if run.state == FAILED else "warning", f"{words} The run is {spaced(run.state)}.")
    return True


def _discard_attempt(run: Run) -> None:
    """What an attempt left in the store and, unseen, at the targets of its delivery."""
    store().discard(str(run.pk), run.attempt)
    row = Run.objects.get(pk=run.pk)
    if row.delivers_into and any(each["stage"] in PREPARING for each in row.stages):
        with suppress(LadleError):  # the roots were changed since: what lies outside them is not ours any more
            clear_after(row, targets_of(row.delivers_into))
