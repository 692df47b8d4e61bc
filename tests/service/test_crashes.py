"""A crash at any statement to the service database: whoever comes next finds all due times, once, and carries them to their end."""

from __future__ import annotations

from collections import Counter
from datetime import datetime, timedelta, timezone
from itertools import count

import pytest

from patient_ladle.core.errors import ConnectionLost, StatementWrong
from tests.conftest import until

from .hands import worker
from .test_waiting import OUTCOME, schedule  # noqa: F401  # a fixture

STEP = 11
"""Every so many statements a crash is tried; the first one moves, so that every residue is met as the code changes."""


class Crash(BaseException):
    """The process is gone."""


class Night:
    """What a scheduler and workers do in a night: a sequence, a follower of the same data date, a retry, a failure."""

    def __init__(self):
        self.workers, self.looks, self.failing = 0, 0, True

    def ticked(self):
        from patient_ladle.service.processes import scheduler

        scheduler.tick()

    def looked(self):
        from patient_ladle.service.ledger.waiting import hold_quiet_sources, mark_late, settle_due

        self.looks += 1
        later = datetime.now(timezone.utc) + timedelta(minutes=10 * self.looks)
        settle_due(later)
        hold_quiet_sources(later)
        mark_late(later)

    def worked(self):
        from patient_ladle.service.ledger import work as ledger
        from patient_ladle.service.ledger.models import Worker

        self.workers += not Worker.objects.filter(gone_at=None).exists()
        mine = Worker.objects.filter(pk=f"w{self.workers}").first() or worker(f"w{self.workers}")
        while run := ledger.claim(mine):
            self.carry_out(run, ledger)

    def carry_out(self, run, ledger):
        ledger.record(run, [{"kind": "stage", "name": "fetch", "at": datetime.now(timezone.utc).isoformat()}])
        if run.due_time.schedule.name == "spoilt":
            ledger.fail(run, StatementWrong("no such table.", "Correct it."))
        elif run.extract.name == "from_narrow" and self.failing:
            self.failing = False
            ledger.fail(run, ConnectionLost("it was cut."))
        else:
            ledger.publish(run, OUTCOME)

    def resolve_problem(self):
        from patient_ladle.service.ledger.models import Run
        from patient_ladle.service.ledger.states import ENDED

        return Run.objects.exists() and not Run.objects.exclude(state__in=ENDED).exists()

    def go(self):
        self.ticked()
        for _ in range(12):
            self.worked()
            self.looked()
            if self.resolve_problem():
                return
        from patient_ladle.service.ledger.models import Run

        left = list(Run.objects.values_list("extract__name", "step", "state", "attempt", "waits_for", "wait_until", "worker"))
        raise AssertionError(f"the night does not end: {left}")


def crashing(at):
    """A wrapper of statements: the process is gone at that one, and until it is taken off."""
    made = 0

    def wrapper(execute, sql, params, many, context):
        nonlocal made
        made += 1
        if made >= at:
            raise Crash
        return execute(sql, params, many, context)

    wrapper.count = lambda: made
    return wrapper


def nobody_holds_anything():
    """What a crash left open is undone by the server when it sees the end of the connection, and not sooner."""
    from django.db import connection

    with connection.cursor() as cursor:
        cursor.execute("select count(*) from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid()"
                       " and state <> 'idle'")  # fmt: skip
        return cursor.fetchone() == (0,)


def found():
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.schedules.models import DueTime

    due = Counter(DueTime.objects.values_list("schedule__name", "decision"))
    runs = Counter(Run.objects.values_list("due_time__schedule__name", "step", "extract__name", "state"))
    return due, runs


@pytest.fixture
def night(schedule, orm):  # noqa: F811
    """``night()`` empties the ledger and gives a night that is about to begin."""
    from patient_ladle.service.alerts.models import Alert, OpenProblem
    from patient_ladle.service.extracts.services import set_depends_on
    from patient_ladle.service.ledger.models import Run, Worker
    from patient_ladle.service.processes import scheduler
    from patient_ladle.service.schedules.models import DueTime, Schedule

    schedule("sequence", then=[{"extract": "from_narrow"}, {"extract": "from_wide"}], while_running="parallel", attempts=3)
    schedule("spoilt", then=[{"extract": "from_narrow"}], while_running="parallel")
    schedule("alone", extract="from_wide", while_running="wait")
    due = scheduler.database_now().replace(second=0, microsecond=0) - timedelta(minutes=1)

    def made():
        for model in (Run, DueTime, Worker, Alert, OpenProblem):
            model.objects.all().delete()
        Schedule.objects.update(next_due_at=due)
        return Night()

    yield made
    set_depends_on("from_narrow", [])


def test_a_crash_at_any_statement_loses_nothing_and_doubles_nothing(night):
    from django.db import connection

    from patient_ladle.service.alerts.models import Alert
    from patient_ladle.service.ledger import work as ledger

    whole = crashing(10**9)
    with connection.execute_wrapper(whole):
        night().go()
    wanted = found()
    assert wanted[0] == {("sequence", "run"): 1, ("spoilt", "run"): 1, ("alone", "run"): 1}
    assert Counter(state for *_, state in wanted[1].elements()) == {"finished": 4, "failed": 1, "not_run": 1}
    for at in count(1 + whole.count() % STEP, STEP):
        one = night()
        try:
            with connection.execute_wrapper(crashing(at)):
                one.go()
        except Crash:
            connection.close()
            until(nobody_holds_anything)
            if one.workers:
                ledger.take_over(f"w{one.workers}")
            one.go()
        else:
            break  # no two nights make quite as many statements: this one was over before its crash
        assert found() == wanted, f"after a crash at statement {at}"
        assert Alert.objects.filter(kind="failed").count() == 1, f"one problem is told once, after a crash at statement {at}"
    assert at > 15 * STEP
