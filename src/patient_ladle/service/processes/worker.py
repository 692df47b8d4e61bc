"""The worker: claims runs, carries each out in a child, beats, and takes over from workers that no longer do."""

from __future__ import annotations

import logging
import os
import signal
import socket
import threading
import time
import uuid
from collections.abc import Callable
from typing import Any

import psycopg
from django.conf import settings
from django.db import DatabaseError, InterfaceError, close_old_connections, connection
from django.db.models import F, Q
from django.utils import timezone

from patient_ladle.adapters.deliveries.folder import delivery_folders
from patient_ladle.core.errors import DeadlineExceeded, Fenced, LadleError, OutOfMemory, RunCancelled, WorkerLost, from_dict
from patient_ladle.service.children.launch import Child
from patient_ladle.service.children.pool import ChildPool
from patient_ladle.service.extracts.private_values import opened
from patient_ladle.service.runs import ledger
from patient_ladle.service.runs.joining import join
from patient_ladle.service.runs.models import RUNNING, Run, Worker
from patient_ladle.service.runs.telling import QUEUED_CHANNEL
from patient_ladle.service.sources.queries import address_in, way_to

log = logging.getLogger("ladle.worker")

BEAT_SECONDS = 2.0
LEASE_SECONDS = 10.0
"""A worker whose beat has not moved for so long, by the watcher's own monotonic clock, is lost."""
CANCEL_SECONDS = 0.5
GRACE_SECONDS = 15.0
"""A child that was asked to stop and does not is ended: its driver hangs."""
POLL_SECONDS = 2.0
_TURNS = ("publish", "done", "failed")
"""What a child tells that ends something; nothing else follows in one breath but the next of them."""
AWAY_SECONDS = 120.0
"""How long a write to the ledger is tried again while the service database is away."""
_AWAY = (psycopg.OperationalError, InterfaceError, DatabaseError)


def patiently(action: Callable[..., Any], *args: Any) -> Any:
    """Do it, again and again while the service database is away."""
    began, wait = time.monotonic(), 0.2
    while True:
        try:
            return action(*args)
        except _AWAY as error:
            close_old_connections()
            connection.close()
            if time.monotonic() - began > AWAY_SECONDS:
                raise
            log.warning("the service database does not answer: %s", str(error).split("\n")[0])
            time.sleep(wait)
            wait = min(wait * 2, 5.0)


def job_of(run: Run) -> dict[str, Any]:
    """All that the child needs; the secret travels through its pipe only. Raises errors of ``core.errors``."""
    revision, address = run.revision, address_in(run.source, run.environment)
    return {
        "do": "run",
        "run": str(run.pk),
        "attempt": run.attempt,
        "name": run.extract.name,
        "file_name": revision.file_name,
        "output": revision.output,
        "guards": revision.guards,
        **way_to(address),
        "statement": revision.statement,
        "parameters": [parameter.to_dict() for parameter in revision.declared],
        "values": opened(run.values),
        "data_date": run.data_date.isoformat(),
        "due_at": run.due_at.isoformat(),
        "formats": run.formats,
        "deadline_seconds": run.source.deadline_seconds,
        "max_rows": run.source.max_rows,
        "max_bytes": run.source.max_bytes,
        "deliver_into": delivery_folders(settings.DELIVERY_ROOTS, run.delivers_into),
        "store": str(settings.RESULT_STORE),
        "about": {
            "extract": run.extract.name,
            "folder": run.extract.folder,
            "revision": revision.number,
            "source": run.source.name,
            "environment": run.environment.name,
            "dataDate": run.data_date.isoformat(),
            "run": run.pk,
            "attempt": run.attempt,
        },
    }


def _why_stopped(run: Run) -> LadleError:
    if run.cancel_asked_by:
        return RunCancelled("the run was cancelled.", "Start it again when it is wanted.")
    return DeadlineExceeded(
        f"the run was given up at {run.give_up_at:%Y-%m-%d %H:%M} UTC, as its time was used up.",
        "Give its schedule more minutes for a run, or make the statement faster.",
    )


class WorkerProcess:
    """One worker with so many places; each place is a thread that minds one child.

    ``after``: the process number of the one on this host that it takes the place of, seen dead by its parent.
    """

    def __init__(self, places: int, after: int | None = None) -> None:
        self.after = after
        self.id = f"{socket.gethostname()}-{os.getpid()}-{uuid.uuid4().hex[:6]}"
        self.places = places
        self.stop = threading.Event()
        self.draining = self.deaf = False
        self.free = threading.Semaphore(places)
        self.pool = ChildPool(places)
        self.children: dict[int, Child] = {}
        self.asked: dict[int, tuple[float, LadleError]] = {}
        self.seen: dict[str, tuple[int, float]] = {}
        self.row = Worker(id=self.id, host=socket.gethostname(), pid=os.getpid(), places=places)

    def carry_out(self, run: Run) -> None:
        """Mind one run to its end; whatever happens, the run gets a last word or is left to be taken over."""
        fenced = False
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
            child = self.children.pop(run.pk, None)
            self.asked.pop(run.pk, None)
            if child:
                child.kill()
                child.wait()
            if fenced:
                patiently(ledger.clean_up_after, run)
            close_old_connections()
            connection.close()
            self.free.release()

    def _last_word(self, run: Run, error: LadleError) -> None:
        if self.stop.is_set():
            return  # its child was stopped with the worker: the run is handed back, not ended
        try:
            patiently(ledger.fail, run, error)
        except Fenced as fenced:
            log.warning("run %s: %s", run.pk, fenced.message)

    def _mind(self, run: Run) -> None:
        child = self.children[run.pk] = self.pool.take(job_of(run))
        ended = False
        for told in child.told_together():
            if facts := [said for said in told if said["kind"] not in _TURNS]:
                patiently(ledger.record, run, facts)
            for said in told:
                match said["kind"]:
                    case "publish":
                        self._publish(run, child, said["outcome"])
                        ended = True
                    case "done":
                        self.pool.give_back(self.children.pop(run.pk))
                        return
                    case "failed":
                        raise self._cause(run, from_dict(said["error"]))
        status = child.wait()
        if not ended:
            if run.pk in self.asked:
                raise self.asked[run.pk][1]
            how = f"was ended by signal {-status}" if status < 0 else f"ended with status {status}"
            hint = "It may have run out of memory: narrow the statement." if status == -9 else "The service's log has more."
            raise WorkerLost(f"the run's child {how} without a last word.", hint)

    def _cause(self, run: Run, error: LadleError) -> LadleError:
        """A run that was stopped at its deadline was not cancelled by anybody."""
        asked = self.asked.get(run.pk)
        return asked[1] if asked and isinstance(error, RunCancelled) else error

    def _publish(self, run: Run, child: Child, outcome: dict[str, Any]) -> None:
        try:
            patiently(ledger.publish, run, outcome)
        except Fenced as error:
            child.say({"fenced": error.message})
            raise
        child.say({"published": True})

    def beat(self) -> None:
        """Runs in its own thread: counts up, and looks after the others."""
        while not self.stop.wait(BEAT_SECONDS) or self.children:
            try:
                Worker.objects.filter(pk=self.id).update(beat=F("beat") + 1, gone_at=None)
                self.draining = Worker.objects.values_list("draining", flat=True).get(pk=self.id)
                self._look_after_others()
            except _AWAY as error:
                log.warning("beat: %s", str(error).split("\n")[0])
                self.seen.clear()  # nobody is lost for one lease after the database was away
                connection.close()
            finally:
                close_old_connections()
            if self.stop.is_set():
                time.sleep(0.2)

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

    def _take_over(self, other: Worker) -> None:
        taken = ledger.take_over(other.pk)
        log.warning("worker %s is lost; its runs: %s", other.pk, [(r.pk, r.state) for r in taken])

    def _take_place(self) -> None:
        """Of the one before, without waiting for a lease: it was seen dead."""
        for other in Worker.objects.filter(host=self.row.host, pid=self.after, gone_at=None).exclude(pk=self.id):
            self._take_over(other)

    def watch_over(self) -> None:
        """Runs in its own thread: stops the children of runs that were cancelled or have used up their time."""
        while not self.stop.is_set() or self.children:
            time.sleep(CANCEL_SECONDS)
            minded = list(self.children)
            if not minded:
                continue
            self._mind_memory()
            try:
                self._stop_asked(minded)
            except _AWAY:
                connection.close()  # the beat says so already
            finally:
                close_old_connections()

    def _mind_memory(self) -> None:
        """A run that takes too much ends before the machine does."""
        for number, child in list(self.children.items()):
            if child.resident_bytes() > settings.RUN_MEMORY_BYTES and number not in self.asked:
                most = settings.RUN_MEMORY_BYTES >> 20
                words = f"the run needed more than the {most:,} MB of memory that one may take, and was stopped."
                error = OutOfMemory(words, "Take fewer or shorter columns, or give runs more: LADLE_RUN_MEMORY_MB.")
                self.asked[number] = (time.monotonic(), error)
                child.kill()

    def _stop_asked(self, minded: list[int]) -> None:
        past = Q(give_up_at__lt=timezone.now())
        for run in Run.objects.filter(~Q(cancel_asked_by="") | past, pk__in=minded, state=RUNNING):
            child = self.children.get(run.pk)
            if child is None:
                continue
            if run.pk not in self.asked:
                self.asked[run.pk] = (time.monotonic(), _why_stopped(run))
                child.say({"cancel": str(run.pk)})
            elif time.monotonic() - self.asked[run.pk][0] > GRACE_SECONDS:
                log.warning("run %s: its child does not stop and is ended", run.pk)
                child.kill()

    def _wait_for_queue(self) -> None:
        """Until a run is queued, or for one poll. Its loss costs latency only, and is told once."""
        own = settings.DATABASES["default"]
        try:
            with psycopg.connect(
                host=own["HOST"], port=own["PORT"], user=own["USER"], password=own["PASSWORD"], dbname=own["NAME"],
                autocommit=True, connect_timeout=5,
            ) as listening:  # fmt: skip
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
                run = ledger.claim(self.row)
            except _AWAY as error:
                log.warning("claim: %s", str(error).split("\n")[0])
                connection.close()
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
        for words in patiently(join, self.row):
            log.warning("%s", words)
        patiently(self.row.save)
        if self.after is not None:
            patiently(self._take_place)
        self.pool.warm()
        threads = [threading.Thread(target=t, daemon=True) for t in (self.beat, self.watch_over)]
        for thread in threads:
            thread.start()
        log.info("worker %s: %s places", self.id, self.places)
        while not self.stop.is_set():
            self._wait_for_queue()
        self._leave()

    def _leave(self) -> None:
        """Stop the children and hand their runs back at once, instead of after a lease."""
        self.pool.close()
        for child in list(self.children.values()):
            child.kill()
        try:
            ledger.take_over(self.id)
            Worker.objects.filter(pk=self.id).update(gone_at=timezone.now())
        except _AWAY as error:
            log.warning("leaving: %s", str(error).split("\n")[0])
        os._exit(0)  # threads that mind ended children have nothing left to say
