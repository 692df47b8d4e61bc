"""What tests of the ledger do with their own hands."""

from __future__ import annotations

import threading
from datetime import timedelta


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
