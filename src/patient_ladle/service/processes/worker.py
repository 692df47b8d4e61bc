"""The worker: claims runs, carries each out in a child, beats, and takes over from workers that no longer do."""

from __future__ import annotations

import logging
import os
import signal
import socket
import subprocess
import threading
import time
import uuid
from collections.abc import Callable, Sequence
from contextlib import suppress
from typing import Any

import psycopg
from django.conf import settings
from django.db import close_old_connections, connection
from django.db.models import F, Q
from django.db.models.functions import Now
from django.utils import timezone

from patient_ladle.adapters.readers import INPUTS
from patient_ladle.core.errors import DeadlineExceeded, Fenced, LadleError, OutOfMemory, RunCancelled, WorkerLost, from_dict
from patient_ladle.service.children.launch import Child
from patient_ladle.service.children.pool import ChildPool
from patient_ladle.service.common.alone import AWAY, guarded
from patient_ladle.service.common.targets import targets_of
from patient_ladle.service.extracts.sensitive_values import opened
from patient_ladle.service.extracts.steps import looks_up_inputs, lookups_of
from patient_ladle.service.ledger import work as ledger
from patient_ladle.service.ledger.delivering import (
    claim_delivery,
    deliver_stored,
    delivery_hangs,
    fail_delivery,
    known_of,
    of_worker,
    unminded_delivery,
)
from patient_ladle.service.ledger.members import drawn_jobs, input_jobs
from patient_ladle.service.ledger.models import Run, Worker
from patient_ladle.service.ledger.reaching import Reach, ask_anew
from patient_ladle.service.ledger.registration import join, mind_clock
from patient_ladle.service.ledger.run_log import QUEUED_CHANNEL
from patient_ladle.service.ledger.states import RUNNING
from patient_ladle.service.lookups.services import with_allowed
from patient_ladle.service.sources.left import end_left
from patient_ladle.service.sources.reading import Reading, limits_of

from .movement import Movement

log = logging.getLogger("ladle.worker")

BEAT_SECONDS = 2.0
LEASE_SECONDS = 10.0
"""A worker whose beat has not moved for so long, by the watcher's own monotonic clock, is lost."""
CANCEL_SECONDS = 0.5
GRACE_SECONDS = 15.0
"""A child that was asked to stop and does not is ended: its driver hangs. So long after a source's deadline, which the child
minds itself, its worker does."""
DELIVERIES = 4
"""Deliveries that one worker has under way at once, each into folders of its own."""
UNMINDED_SECONDS = 10.0
"""A run that is this worker's by the record and in none of its hands for so long has lost whoever minded it."""
POLL_SECONDS = 2.0
DELIVERY_SECONDS = 1.0
"""Between looks for deliveries that are due."""
_TURNS = ("publish", "done", "failed")
"""What a child tells that ends something; nothing else follows in one breath but the next of them."""
AWAY_SECONDS = 120.0
"""How long a write to the ledger is tried again while the service database is away."""


def retry_while_database_away(action: Callable[..., Any], *args: Any) -> Any:
    """Do it, again and again while the service database is away."""
    began, wait = time.monotonic(), 0.2
    while True:
        try:
            return action(*args)
        except AWAY as error:
            close_old_connections()
            connection.close()
            if time.monotonic() - began > AWAY_SECONDS:
                raise
            log.warning("the service database does not answer: %s", str(error).split("\n")[0])
            time.sleep(wait)
            wait = min(wait * 2, 5.0)


def job_of(run: Run, store_mark: str = "") -> dict[str, Any]:
    """All that the child needs; the secret travels through its pipe only. Raises errors of ``core.errors``."""
    revision, limits = run.revision, limits_of(run.source)
    targets = targets_of(run.delivers_into)
    lookups = lookups_of(revision.steps, revision.guards)
    drawn = drawn_jobs(run)
    reader, inputs = Reading(run.source, run.environment).reader(), list[dict[str, Any]]()
    if revision.inputs:
        jobs, inputs = input_jobs(run)
        reader = INPUTS.job(jobs, "" if looks_up_inputs(revision.steps) else revision.statement)
    return {
        "do": "run",
        "run": str(run.pk),
        "attempt": run.attempt,
        "name": run.extract.name,
        "file_name": revision.file_name,
        "output": run.output_settings,
        "guards": revision.guards,
        "reader": reader,
        "statement": revision.statement,
        "steps": revision.steps,
        "lookups": [each.to_dict() for each in lookups],
        "parameters": [parameter.to_dict() for parameter in with_allowed(revision.declared, {**drawn, **run.values})],
        "values": opened(run.values),
        "drawn": drawn,
        "data_date": run.data_date.isoformat(),
        "due_at": run.due_at.isoformat(),
        "formats": run.formats,
        "query_timeout_seconds": limits.query_timeout_seconds,
        "max_rows": limits.max_rows,
        "max_bytes": limits.max_bytes,
        "deliver_into": targets,
        "known": known_of(targets),
        "store": str(settings.RESULT_STORE),
        "store_mark": store_mark,
        "about": {
            "extract": run.extract.name,
            "folder": run.extract.folder,
            "revision": revision.number,
            "source": run.source_name,
            "environment": run.environment.name,
            "dataDate": run.data_date.isoformat(),
            "run": run.pk,
            "attempt": run.attempt,
            **({"inputs": inputs} if inputs else {}),
            **({"lookups": [{"name": each.name, "revision": each.revision} for each in lookups]} if lookups else {}),
        },
    }


def _why_stopped(run: Run) -> LadleError:
    if run.cancel_asked_by:
        return RunCancelled("the run was cancelled.", "Start it again when it is wanted.")
    return DeadlineExceeded(
        f"the run was given up at {run.give_up_at:%Y-%m-%d %H:%M} UTC, as its time was used up.",
        "Give its schedule more minutes for a run, or make the statement faster.",
    )


START_SECONDS = 120
"""From a job to the child's first word: a child that has not begun by then never will."""
Place = tuple[int, int]
"""Run and attempt: a worker that was thawed may have an attempt that was lost beside one of the same run that is its own."""


class _Minded:
    """What a worker knows of one of its children."""

    def __init__(self, run: Run, child: Child) -> None:
        self.run, self.child = run, child
        self.movement = Movement.of_process(child.process.pid)
        self.killed: float | None = None
        self.identity: dict[str, str] = {}
        self.asked: tuple[float, LadleError] | None = None
        limits = limits_of(run.source)
        self.limits = {
            "": START_SECONDS, "connect": limits.connect_timeout_seconds, "describe": limits.query_timeout_seconds,
            "fetch": limits.query_timeout_seconds,
        }  # fmt: skip
        self.stage, self.since = "", time.monotonic()

    def enters(self, stage: str) -> None:
        """Each statement has stages of its own, and one deadline for all of them counts from the first."""
        if not (self.stage in ("describe", "fetch") and stage in ("describe", "fetch")):
            self.since = time.monotonic()
        self.stage = stage

    def silence(self) -> LadleError | None:
        """The source, or the child itself before it says its first word, has had its time, or nothing has moved; None while
        all is well."""
        limit = self.limits.get(self.stage)
        if limit is None:
            return self._still()
        if time.monotonic() - self.since <= limit + GRACE_SECONDS:
            return None
        if not self.stage:
            return WorkerLost(f"the run's child has not begun within {limit:,} s.", "The host may be short of memory or time.")
        return DeadlineExceeded(
            f"the source did not answer within its {limit:,} s, nor when it was told to stop.",
            "See whether the server, or the network on the way to it, hangs.",
        )

    def _still(self) -> LadleError | None:
        if self.movement.still_seconds() <= settings.STILL_SECONDS:
            return None
        return DeadlineExceeded(
            f"nothing of the run has moved for {settings.STILL_SECONDS / 60:g} minutes, in its stage '{self.stage}'.",
            "See whether the disk or the mount of the result store, or of the folders that it delivers into, hangs.",
        )

    def stop(self, why: LadleError) -> None:
        """Ask it to stop, or end it when it was asked long ago."""
        if self.asked is None:
            self.asked = (time.monotonic(), why)
            self.child.say({"cancel": str(self.run.pk)})
        elif time.monotonic() - self.asked[0] > GRACE_SECONDS:
            if self.killed is None:
                log.warning("run %s: its child does not stop and is ended", self.run.pk)
                self.killed = time.monotonic()
            self.child.kill()

    def outlives(self) -> LadleError | None:
        """Why it was to end, where not even force ends it: what waits for a disk that hangs cannot be ended."""
        if self.asked is None or self.killed is None or time.monotonic() - self.killed <= GRACE_SECONDS:
            return None
        self.killed = float("inf")  # said once
        return self.asked[1]

    def end(self, why: LadleError) -> None:
        """At once."""
        if self.asked is None:
            self.asked = (time.monotonic(), why)
        self.killed = self.killed or time.monotonic()
        self.child.kill()


DELIVERY_PLACE = -1
"""In place of an attempt."""


class _Delivering:
    """A delivery that a thread has under way."""

    def __init__(self, run: Run) -> None:
        self.run, self.targets = run, tuple(run.plan["targets"])
        self.movement: Movement | None = None
        self.told = False

    def begins(self) -> None:
        """In the thread that does it."""
        self.movement = Movement.of_thread(threading.get_native_id())

    def hangs(self) -> bool:
        """Whether it has stood still for longer than anything may; said once."""
        if self.told or self.movement is None or self.movement.still_seconds() <= settings.STILL_SECONDS:
            return False
        self.told = True
        return True


class WorkerProcess:
    """One worker of so many runs at once, each in a place of its own: a thread that minds one child.

    ``after``: the process number of the one on this host that it takes the place of, seen dead by its parent.
    """

    def __init__(self, max_runs: int, after: int | None = None) -> None:
        self.after = after
        self.id = f"{socket.gethostname()}-{os.getpid()}-{uuid.uuid4().hex[:6]}"
        self.max_runs = max_runs
        self.stop, self.leaving = threading.Event(), threading.Event()
        self.draining = self.deaf = False
        self.reach = Reach()
        self.free = threading.Semaphore(max_runs)
        self.pool = ChildPool(max_runs)
        self.minded: dict[Place, _Minded] = {}
        self.in_hand: set[Place] = set()
        """Runs that a thread of this worker carries out."""
        self.unminded: dict[Place, float] = {}
        """Runs and deliveries that are this worker's and in none of its hands, and since when."""
        self.delivering: dict[int, _Delivering] = {}
        self.seen: dict[str, tuple[int, float]] = {}
        self.row = Worker(id=self.id, host=socket.gethostname(), pid=os.getpid(), max_runs=max_runs)

    def carry_out(self, run: Run) -> None:
        """Mind one run to its end; whatever happens, the run gets a last word or is left to be taken over."""
        fenced, place = False, (run.pk, run.attempt)
        self.in_hand.add(place)
        try:
            self._mind(run)
        except Fenced as error:
            fenced = True
            log.warning("run %s: %s", run.pk, error.message)
        except LadleError as error:
            self._last_word(run, error)
        except Exception:
            log.exception("run %s: a fault of the worker's own", run.pk)
            self._last_word(run, WorkerLost("the worker met a fault of its own.", "The service's log has the details."))
        finally:
            self.in_hand.discard(place)
            minded = self.minded.pop(place, None)
            if minded:
                minded.child.kill()
                if minded.child.wait() < 0:
                    self._end_left(minded)
            if fenced:
                retry_while_database_away(ledger.clean_up_after, run)
            close_old_connections()
            connection.close()
            self.free.release()

    def _last_word(self, run: Run, error: LadleError) -> None:
        if self.leaving.is_set():
            return  # its child was stopped with the worker: the run is handed back, not ended
        try:
            retry_while_database_away(ledger.fail, run, error)
        except Fenced as fenced:
            log.warning("run %s: %s", run.pk, fenced.message)
        except AWAY:  # for longer than any write is tried: it is in nobody's hands now, and ends as such
            log.warning("run %s: the service database was away for its last word", run.pk)
            connection.close()
        except Exception:  # whatever stands in the words: a run must end, with plainer ones
            log.exception("run %s: its last word could not be kept", run.pk)
            connection.close()
            plainer = WorkerLost(
                "the run failed, and what was said of it could not be kept.", "The service's log has the details."
            )
            with suppress(Fenced):
                retry_while_database_away(ledger.fail, run, plainer)

    def _mind(self, run: Run) -> None:
        child = self.pool.take(job_of(run, self.row.store_mark))
        minded = self.minded[run.pk, run.attempt] = _Minded(run, child)
        ended = False
        for told in child.told_together():
            minded.movement.said()
            self._record(minded, told)
            for said in told:
                match said["kind"]:
                    case "publish":
                        self._publish(run, child, said["outcome"])
                        ended = True
                    case "done":
                        del self.minded[run.pk, run.attempt]
                        self.pool.give_back(child)
                        return
                    case "failed":
                        raise self._cause(minded, from_dict(said["error"]))
        status = child.wait()
        if not ended:
            raise self._without_a_word(minded, status)

    @staticmethod
    def _record(minded: _Minded, told: Sequence[dict[str, Any]]) -> None:
        for said in told:
            if said["kind"] == "stage":
                minded.enters(said["name"])
            elif said["kind"] == "connected":
                minded.identity = said["identity"]
        if facts := [said for said in told if said["kind"] not in _TURNS]:
            retry_while_database_away(ledger.record, minded.run, facts)

    @staticmethod
    def _end_left(minded: _Minded) -> None:
        """What an ended child still had in its source; not where its work there was done."""
        if minded.identity and minded.stage in ("connect", "describe", "fetch"):
            end_left(minded.run.source, minded.run.environment, minded.identity)

    @staticmethod
    def _without_a_word(minded: _Minded, status: int) -> LadleError:
        """Why a child has gone that said neither *done* nor *failed*."""
        if minded.asked:
            return minded.asked[1]
        how = f"was ended by signal {-status}" if status < 0 else f"ended with status {status}"
        hint = "It may have run out of memory: narrow the statement." if status == -9 else "The service's log has more."
        return WorkerLost(f"the run's child {how} without a last word.", hint)

    @staticmethod
    def _cause(minded: _Minded, error: LadleError) -> LadleError:
        """A run that was stopped at its deadline was not cancelled by anybody."""
        return minded.asked[1] if minded.asked and isinstance(error, RunCancelled) else error

    def _publish(self, run: Run, child: Child, outcome: dict[str, Any]) -> None:
        try:
            retry_while_database_away(ledger.publish, run, outcome)
        except Fenced as error:
            child.say({"fenced": error.message})
            raise
        child.say({"published": True})

    def beat(self) -> None:
        """Runs in its own thread, and does nothing else: whatever is slow or away, a worker that lives is seen to live."""
        while not self.leaving.is_set():
            with guarded("beat", log):
                Worker.objects.filter(pk=self.id).update(beat=F("beat") + 1, beat_at=Now(), gone_at=None)
                self.draining = Worker.objects.values_list("draining", flat=True).get(pk=self.id)
            self.leaving.wait(BEAT_SECONDS)

    def look_after_others(self) -> None:
        """Runs in its own thread: takes over from workers that are lost."""
        while not self.leaving.wait(BEAT_SECONDS):
            with guarded("looking after others", log, self.seen.clear):  # nobody is lost for one lease after an outage
                self._look_after_others()
            with guarded("looking after its own", log, self.unminded.clear):
                self._end_unminded()
            with guarded("minding the clock", log):
                mind_clock(self.row)

    def _look_after_others(self) -> None:
        now = time.monotonic()
        holders = Run.objects.filter(state=RUNNING).exclude(worker=self.id).values_list("worker", flat=True).distinct()
        others = Worker.objects.exclude(pk=self.id)
        for other in others.filter(pk__in=list(holders)) | others.filter(gone_at=None):
            beat, since = self.seen.get(other.pk, (-1, now))
            if other.beat != beat:
                self.seen[other.pk] = (other.beat, now)
            elif now - since > LEASE_SECONDS:
                self._take_over(other)
                self.seen.pop(other.pk, None)

    def _end_unminded(self) -> None:
        """What is this worker's by the record, and no thread of it has in hand any more: it met a fault, or its last word
        found the service database away for too long."""
        runs = Run.objects.filter(state=RUNNING, worker=self.id).values_list("pk", "attempt")
        deliveries = Run.objects.filter(of_worker(self.id)).values_list("pk", flat=True)
        lost = {*runs} - self.in_hand
        left = {(number, DELIVERY_PLACE) for number in deliveries if number not in self.delivering}
        now = time.monotonic()
        self.unminded = {place: self.unminded.get(place, now) for place in lost | left}
        for number, attempt in [place for place, since in self.unminded.items() if now - since > UNMINDED_SECONDS]:
            log.warning("run %s: nobody minds it any more", number)
            run = Run.objects.get(pk=number)
            if attempt == DELIVERY_PLACE:
                with suppress(Fenced):
                    unminded_delivery(run)
            elif run.attempt == attempt:
                words = "whoever minded the run in its worker was lost."
                self._last_word(run, WorkerLost(words, "The service's log has the details."))

    def _take_over(self, other: Worker) -> None:
        taken = ledger.take_over(other.pk)
        log.warning("worker %s is lost; its runs: %s", other.pk, [(r.pk, r.state) for r in taken])

    def _come(self) -> None:
        """From now on others count on it, for what they cannot reach."""
        Worker.objects.filter(pk=self.id).update(beat_at=Now())
        ask_anew()

    def _take_place(self) -> None:
        """Of the one before, without waiting for a lease: it was seen dead."""
        for other in Worker.objects.filter(host=self.row.host, pid=self.after or 0, gone_at=None).exclude(pk=self.id):
            self._take_over(other)

    def watch_over(self) -> None:
        """Runs in its own thread: stops the children of runs that were cancelled or have used up their time."""
        while not self.leaving.wait(CANCEL_SECONDS):
            if not self.minded:
                continue
            with guarded("watching over children", log):
                self._mind_memory_and_sources()
            with guarded("watching over runs", log):
                self._stop_asked()

    def _mind_memory_and_sources(self) -> None:
        """A run that takes too much ends before the machine does, and none waits for a source that is silent for ever."""
        for minded in list(self.minded.values()):
            if minded.child.resident_bytes() > settings.RUN_MEMORY_BYTES:
                most = settings.RUN_MEMORY_BYTES >> 20
                words = f"the run needed more than the {most:,} MB of memory that one may take, and was stopped."
                minded.end(OutOfMemory(words, "Take fewer or shorter columns, or give runs more: LADLE_RUN_MEMORY_MB."))
            elif silence := minded.silence():
                minded.stop(silence)
            if why := minded.outlives():
                log.error("run %s: its child cannot be ended; the run ends without it", minded.run.pk)
                self._last_word(minded.run, why)

    def _stop_asked(self) -> None:
        past = Q(give_up_at__lt=timezone.now())
        numbers = [number for number, _ in self.minded]
        for run in Run.objects.filter(~Q(cancel_asked_by="") | past, pk__in=numbers, state=RUNNING, worker=self.id):
            minded = self.minded.get((run.pk, run.attempt))
            if minded is not None:
                minded.stop(_why_stopped(run))

    def deliver(self) -> None:
        """Runs in its own thread: deliveries that wait, each in a thread of its own."""
        while not self.stop.is_set():
            with guarded("deliveries", log):
                while len(self.delivering) < DELIVERIES and not self.draining:
                    busy = {target for each in self.delivering.values() for target in each.targets}
                    run = claim_delivery(self.row, busy)
                    if run is None:
                        break
                    self.delivering[run.pk] = _Delivering(run)
                    threading.Thread(target=self._deliver_one, args=(run,), daemon=True).start()
                for each in list(self.delivering.values()):
                    if each.hangs():
                        log.warning("the delivery of run %s has not moved for long", each.run.pk)
                        delivery_hangs(each.run, settings.STILL_SECONDS)
            self.stop.wait(DELIVERY_SECONDS)

    def _deliver_one(self, run: Run) -> None:
        self.delivering[run.pk].begins()
        try:
            retry_while_database_away(deliver_stored, run)
        except Fenced as error:
            log.warning("%s", error.message)
        except Exception:
            log.exception("the delivery of run %s", run.pk)
            with guarded("deliveries", log):
                fail_delivery(run)
        finally:
            self.delivering.pop(run.pk, None)
            close_old_connections()
            connection.close()

    def _wait_for_queue(self) -> None:
        """Until a run is queued, or for one poll. Its loss costs latency only, and is told once."""
        try:
            with psycopg.connect(settings.DATABASE_URL, autocommit=True, connect_timeout=5) as listening:
                listening.execute(f"listen {QUEUED_CHANNEL}")
                self.deaf = False
                while not self.stop.is_set():
                    self._claim_all()
                    for _ in listening.notifies(timeout=POLL_SECONDS, stop_after=1):
                        pass
        except psycopg.Error as error:
            if not self.deaf:
                log.warning("listening: %s", str(error).split("\n")[0])
            self.deaf = True
            self.stop.wait(1.0)

    def _claim_all(self) -> None:
        while not self.stop.is_set() and not self.draining and self.free.acquire(blocking=False):
            run = None
            try:
                run = ledger.claim(self.row, self.reach)
            except AWAY as error:
                log.warning("claim: %s", str(error).split("\n")[0])
                connection.close()
            except Exception:
                log.exception("claim: a fault of the worker's own")
            finally:
                if run is None:
                    self.free.release()
            if run is None:
                return
            threading.Thread(target=self._carry_out_and_look_again, args=(run,)).start()

    def _carry_out_and_look_again(self, run: Run) -> None:
        self.carry_out(run)
        self._claim_all()
        connection.close()

    def main(self) -> None:
        """Work until asked to stop; runs that are under way are given up to a later attempt."""
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, lambda *_: self.stop.set())
        for words in retry_while_database_away(join, self.row):
            log.warning("%s", words)
        retry_while_database_away(self.row.save)
        retry_while_database_away(self._come)
        if self.after is not None:
            retry_while_database_away(self._take_place)
        self.pool.warm()
        work = (self.beat, self.look_after_others, self.watch_over, self.deliver)
        threads = [threading.Thread(target=each, daemon=True, name=each.__name__) for each in work]
        for thread in threads:
            thread.start()
        log.info("worker %s: %s runs at once", self.id, self.max_runs)
        while not self.stop.is_set():
            self._wait_for_queue()
            ended = [thread.name for thread in threads if not thread.is_alive()]
            if ended and not self.stop.is_set():
                log.error("worker %s: its thread %s has ended, so it begins anew", self.id, ended[0])
                os._exit(4)  # its runs are taken over by the one that is started in its place
        self._leave()

    def _leave(self) -> None:
        """Give what is under way some time, then stop it and hand it back at once, instead of after a lease."""
        until = time.monotonic() + settings.STOP_SECONDS
        while (self.minded or self.delivering) and time.monotonic() < until:
            time.sleep(0.05)
        self.leaving.set()
        self.pool.close()
        for minded in list(self.minded.values()):
            minded.child.kill()
            with suppress(subprocess.TimeoutExpired):
                minded.child.process.wait(GRACE_SECONDS)  # what it wrote is removed once it writes no more
        with guarded("leaving", log):
            ledger.take_over(self.id, stopped=True)
        os._exit(0)  # threads that mind ended children have nothing left to say
