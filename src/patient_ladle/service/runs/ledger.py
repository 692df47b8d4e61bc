"""What workers do to the ledger: claim, tell, publish, end, take over. Every write is fenced by worker and attempt.

Rules and theory
----------------
* A run belongs to the worker and attempt that stand in its row while its state is *running*. A write that does not
  find them is refused with Fenced, and its result is dropped.
* Publishing is a journal. First the intent (names and checksums) is recorded under the row lock; then, under the lock
  again, the files are renamed and the run is marked finished. A crash in between is rolled forward by ``take_over``,
  for the prepared files are there and the intent says what they are.
* ``take_over`` never trusts a clock of another host: whoever calls it has watched a beat that did not move.
"""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import connection, transaction
from django.utils import timezone

from patient_ladle.adapters.deliveries.folder import deliver, folders_named, sweep
from patient_ladle.adapters.disk import PART
from patient_ladle.core.errors import DiskFull, Fenced, LadleError, ProofFailed, RunCancelled, StoreUnwritable, WorkerLost
from patient_ladle.core.ports import DeliveryPlan
from patient_ladle.core.retrying import Patience
from patient_ladle.service.sources.queries import CLAIM_LOCK, sources_with_a_free_place
from patient_ladle.words import amount

from .alarms import run_ended
from .holding import findings_of
from .models import CANCELLED, FAILED, FINISHED, HELD, MAX_ATTEMPTS, QUEUED, RUNNING, WAITING, LogLine, ResultFile, Run, Worker
from .stores import store
from .telling import add_log, delivered_words, wake_workers
from .waiting import quiet_sources, tell_followers

DELIVERY_TRIES = 5
"""Tries of the renames, a second apart, before a recorded intent is given up."""


@transaction.atomic
def claim(worker: Worker) -> Run | None:
    """The next queued run whose source has a free place, made this worker's; None when there is none."""
    with connection.cursor() as cursor:
        cursor.execute("select pg_advisory_xact_lock(%s)", [CLAIM_LOCK])
    run: Run | None = (
        Run.objects.select_for_update(skip_locked=True, of=("self",))
        .filter(state=QUEUED, source__in=sources_with_a_free_place())
        .exclude(source__in=quiet_sources(timezone.now()))
        .order_by("queue_order", "id")
        .first()
    )
    if run is None:
        return None
    run.state, run.worker, run.attempt = RUNNING, worker, run.attempt + 1
    run.started_at, run.stage, run.stages, run.rows, run.bytes_read = timezone.now(), "", [], None, None
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


def _plan_of(data: dict[str, Any] | None) -> DeliveryPlan | None:
    return DeliveryPlan.from_dict(data) if data else None


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
    """Both steps of the journal. Raises Fenced, RunCancelled, StoreUnwritable, DiskFull."""
    plan, statements = _plan_of(outcome["delivery"]), outcome["statements"]
    _recount(outcome["files"], statements)
    with _owned(run) as row:
        if row.cancel_asked_by:
            raise RunCancelled("the run was cancelled before its files were delivered.", "Start it again when it is wanted.")
        row.files.all().delete()
        files = outcome["files"]
        delivered = plan.delivered() if plan else [[""]] * len(files)
        ResultFile.objects.bulk_create(
            ResultFile(run=row, attempt=row.attempt, delivered_path=first, delivered_also=others, **file)
            for file, (first, *others) in zip(files, delivered, strict=True)
        )
        row.rows, row.warnings = sum(each["rows"] for each in statements), outcome["warnings"]
        row.statements, row.columns = statements, statements[0]["columns"]
        row.findings = findings_of(row, outcome)
        row.warned, row.empty = bool(outcome["warnings"] or row.findings), row.rows == 0
        if any(each["then"] == "hold" for each in row.findings):
            row.held, row.held_plan = HELD, outcome["delivery"]
            row.files.update(delivered_path="", delivered_also=[])
            sweep(plan.moves if plan else ())
            plan = None
        row.publishing = {"delivery": plan.to_dict() if plan else None}
        row.save()
    for left in range(DELIVERY_TRIES, 0, -1):
        try:
            with _owned(run) as row:
                _finish(row, plan)
            return
        except (DiskFull, StoreUnwritable):
            if left == 1:
                raise
            time.sleep(1.0)  # some names may be delivered already: the rest should follow


def _finish(row: Run, plan: DeliveryPlan | None) -> None:
    if plan is not None:
        deliver(plan)
        add_log(row, "info", delivered_words(plan))
    row.state, row.ended_at, row.publishing, row.error = FINISHED, timezone.now(), None, None
    row.late = row.late or bool(row.finish_by and row.ended_at > row.finish_by)
    row.compared = compared_with_earlier(row)
    row.save()
    for warning in [*row.warnings, *(f"guard: {each['text']}" for each in row.findings)]:
        add_log(row, "warning", warning)
    if row.held:
        add_log(row, "warning", "held: its files are stored and proven, and not delivered until an author releases them")
    add_log(row, "info", f"finished: {amount(row.rows, 'row')}")
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
    rows = f"{amount(earlier.rows, 'row')} then, {row.rows:,} now"
    names = ", ".join(dict.fromkeys(str(key[0]) for key in other))
    text = f"not the same as run {earlier.pk}: {names} differs ({rows})"
    return {"run": earlier.pk, "same": False, "text": text}


def fail(run: Run, error: LadleError) -> None:
    """The last word of an attempt that did not make it; what can pass is tried again later.

    A plan that was recorded is swept and forgotten.
    """
    with _owned(run) as row:
        now = timezone.now()
        again, why_not = _patience(row).again_at(error, row.attempt, now)
        if row.cancel_asked_by or isinstance(error, RunCancelled):
            row.state, again = CANCELLED, None
        else:
            row.state = WAITING if again else FAILED
        row.error = error.to_dict()
        if row.publishing:
            plan = _plan_of(row.publishing["delivery"])
            sweep(plan.moves if plan else ())
            row.files.all().delete()
            row.publishing = None
        add_log(row, "error" if row.state == FAILED else "warning", error.in_words())
        if again:
            row.worker, row.stage, row.not_before, row.wait_until = None, "", again, again
            row.waits_for = f"attempt {row.attempt + 1} of {row.attempts_most}"
            add_log(row, "warning", f"attempt {row.attempt} failed; the next one is at {again:%Y-%m-%d %H:%M:%S} UTC")
        else:
            row.ended_at = now
            row.late = row.late or bool(row.finish_by and now > row.finish_by)
            if row.state == FAILED:
                add_log(row, "error", f"failed: {why_not}")
        row.save()
        if row.state != WAITING:
            run_ended(row)
            tell_followers(row)
    _discard_attempt(run)


def _patience(row: Run) -> Patience:
    return Patience(row.attempts_most, row.give_up_at, settings.RETRY_SECONDS)


def clean_up_after(run: Run) -> None:
    """What an attempt wrote after it was lost to another one. A published result, also one rolled forward, stays."""
    if not Run.objects.filter(pk=run.pk, attempt=run.attempt).exists():
        _discard_attempt(run)


@transaction.atomic
def take_over(worker_id: str) -> list[Run]:
    """The runs of a lost worker: rolled forward if their intent was recorded, else queued again or ended."""
    Worker.objects.filter(pk=worker_id).update(gone_at=timezone.now())
    lost = list(Run.objects.select_for_update(skip_locked=True, of=("self",)).filter(worker=worker_id, state=RUNNING))
    for run in lost:
        if run.publishing is not None:
            add_log(run, "warning", "its worker was lost while publishing: rolled forward from the recorded intent")
            _finish(run, _plan_of(run.publishing["delivery"]))
            continue
        _discard_attempt(run)
        error = WorkerLost(f"the worker of attempt {run.attempt} was lost.", "Start the run again.")
        run.worker, run.stage = None, ""
        if run.cancel_asked_by:
            run.state = CANCELLED
        elif run.attempt >= MAX_ATTEMPTS:
            run.state, run.error = FAILED, error.to_dict()
        else:
            run.state = QUEUED
        run.ended_at = timezone.now() if run.state != QUEUED else None
        run.save()
        if run.state != QUEUED:
            run_ended(run)
            tell_followers(run)
        add_log(run, "error" if run.state == FAILED else "warning", f"{error.message} The run is {run.state}.")
    if lost:
        wake_workers()
    return lost


def _discard_attempt(run: Run) -> None:
    """What an attempt left in the store and, under temporary names, in its delivery folder."""
    store().discard(str(run.pk), run.attempt)
    for wanted in folders_named(run.delivers_into):
        for root in settings.DELIVERY_ROOTS:
            sweep([(str(part), "", "") for part in (Path(root) / wanted).glob(f".*.{run.pk}.{run.attempt}{PART}")])
