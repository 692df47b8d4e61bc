"""What tests of the ledger do with their own hands."""

from __future__ import annotations

import os
import signal
import threading
from datetime import timedelta
from itertools import chain


def at_once(count, work):
    """``work`` in so many threads, each with its own connection; raises what any of them raised."""
    from django.db import connection

    faults = []

    def guarded():
        try:
            work()
        except BaseException as error:  # noqa: BLE001  # told below, in the test's own thread
            faults.append(error)
        finally:
            connection.close()

    threads = [threading.Thread(target=guarded) for _ in range(count)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
    if faults:
        raise faults[0]


def overdue(person, count, minutes=9):
    """So many schedules of every minute, each due since so many minutes."""
    from patient_ladle.service.processes.scheduler import database_now
    from patient_ladle.service.schedules.models import Schedule
    from patient_ladle.service.schedules.services import add_schedule

    since = database_now().replace(second=0, microsecond=0) - timedelta(minutes=minutes)
    for number in range(count):
        add_schedule(
            person, f"each-minute-{number}", extract="from_wide", environment="live", rule="* * * * *", zone="Europe/London"
        )
    Schedule.objects.update(next_due_at=since)
    return since


def queue(person, extract, count=1):
    from patient_ladle.service.runs.services import start_run

    return [start_run(person, {"extract": extract}) for _ in range(count)]


def worker(name):
    from patient_ladle.service.ledger.models import Worker

    return Worker.objects.create(id=name, host="here", pid=1, max_runs=2)


ERROR = {"code": "error", "message": "it broke.", "hint": "", "transient": False, "facts": {}}


def put(run, state, **more):
    """The run's row in that state, with what goes with it, whatever happened before."""
    from django.utils import timezone

    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.ledger.states import RUN

    rules = RUN.states[state]
    filled = {name: ERROR if name == "error" else timezone.now() for name in rules.filled}
    Run.objects.filter(pk=run.pk).update(state=state, **filled, **dict.fromkeys(rules.empty), **more)


def frozen_in(stage, monkeypatch, process):
    """Children of that worker stand still, and tell that it is in that stage: one stands for whatever it waits for and does not
    come back from. They are put into the list that is returned."""
    from patient_ladle.service.children import launch

    children = []

    def taken(job):
        child = launch.Child(job)
        os.kill(child.process.pid, signal.SIGSTOP)  # long before it has begun
        said = child.told_together()
        child.told_together = lambda: chain([[{"kind": "stage", "name": stage, "at": "2026-11-24T06:05:00Z"}]], said)
        children.append(child)
        return child

    monkeypatch.setattr(process.pool, "take", taken)
    return children


def claimed_by(process, person):
    """A run that the worker has taken, with a place of it."""
    from patient_ladle.service.ledger import work as ledger

    queue(person, "from_wide")
    process.free.acquire()
    return ledger.claim(process.row)
