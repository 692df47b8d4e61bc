"""Two weeks that lie behind the demo's first start, so that every page has something to show.

Each run is a real one, carried out now by the code that carries out all runs, with real files; then its moments are set back
to the night that it belongs to. What was out of the ordinary in those nights is told in ``_Night``.
"""

from __future__ import annotations

import re
import socket
from collections.abc import Callable, Iterator
from datetime import date, datetime, time, timedelta
from itertools import takewhile
from typing import Any

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from patient_ladle import variables
from patient_ladle.core.errors import LadleError, SourceSignInRefused
from patient_ladle.core.ports import Outcome
from patient_ladle.core.runs.due_decisions import LATE_AFTER, RUN, finish_by
from patient_ladle.core.values.calendars.clock import check_zone
from patient_ladle.service.alerts.models import Alert, OpenProblem, Summary
from patient_ladle.service.children.child import PipeLedger, carry_out
from patient_ladle.service.extracts.models import Revision
from patient_ladle.service.ledger import states, work
from patient_ladle.service.ledger.alarms import run_is_late
from patient_ladle.service.ledger.delivering import claim_delivery, deliver_stored
from patient_ladle.service.ledger.holding import release
from patient_ladle.service.ledger.models import LogLine, Run, Worker
from patient_ladle.service.ledger.run_log import add_log
from patient_ladle.service.people.models import Person
from patient_ladle.service.processes.worker import job_of
from patient_ladle.service.runs.services import due_runs, run_again
from patient_ladle.service.schedules.models import DueTime, Schedule

DAYS = variables.DEMO_DAYS.value()
HOURLY_SINCE = timedelta(hours=15)
"""A schedule of every hour was added yesterday evening: it would fill the two weeks with nothing but itself."""
OUTAGE, SLOW, RENAMED = 6, 9, 3
"""So many days ago the service was down from four to ten past eight, the telemetry share was slow, and the laboratory renamed
a column."""
UP_AGAIN, SLOW_END = time(8, 10), time(7, 12)
PATIENCE = timedelta(seconds=3)
"""From a due time to the start of its run."""


class _Told(PipeLedger):
    """The ledger of a run that is carried out in this very process."""

    def __init__(self, run: Run) -> None:
        super().__init__()
        self.row, self.facts = run, list[dict[str, Any]]()

    def tell(self, kind: str, **facts: Any) -> None:
        if kind != "done":
            self.facts.append({"kind": kind, "at": timezone.now().isoformat(), **facts})

    def publish(self, outcome: Outcome, deliver: Callable[[], None]) -> None:
        work.record(self.row, self.facts)
        self.facts = []
        work.publish(self.row, outcome.to_dict())


def _statement(run: Run, days_ago: int, held: bool) -> str:
    """As the source was in that night, which is not there any more: it had fewer points, or the column's old name."""
    text = str(run.revision.statement)
    if held:
        return f"{text}limit 57\n"
    return text if days_ago <= RENAMED else text.replace("r.result_mgl", "r.value as result_mgl")


class _Past:
    """Makes it, due time by due time in their order."""

    def __init__(self) -> None:
        self.zone = check_zone(settings.TIME_ZONE)
        self.now = timezone.now()
        self.today = self.now.astimezone(self.zone).date()
        self.worker = Worker.objects.create(
            id=f"{socket.gethostname()}-before", host=socket.gethostname(), pid=1, max_runs=2, gone_at=self.now
        )
        self.author = Person.objects.get(name="amir")

    def make(self) -> int:
        """All of it; the number of runs."""
        before = Run.objects.count()
        due = [(at, each) for each in Schedule.objects.filter(removed_at=None) for at in self._moments(each)]
        last_held = max((at for at, each in due if each.name == "samples-daily"), default=None)
        for at, schedule in sorted(due, key=lambda pair: (pair[0], pair[1].name)):
            with transaction.atomic():
                self._due(schedule, at, at == last_held)
        Revision.objects.update(saved_at=self.now - timedelta(days=DAYS + 7))
        for summary in Summary.objects.select_related("alert"):
            summary.alert.delete()  # of a night in which there was nothing yet: it is summed up anew
        return Run.objects.count() - before

    def _moments(self, schedule: Schedule) -> Iterator[datetime]:
        back = HOURLY_SINCE if schedule.rule.endswith("* * * *") else timedelta(days=DAYS)
        return takewhile(lambda at: at < self.now, schedule.timing().due_times(self.now - back))

    def _at(self, day: date, wall: time) -> datetime:
        return datetime.combine(day, wall, self.zone)

    def _due(self, schedule: Schedule, at: datetime, last_held: bool) -> None:
        day = at.astimezone(self.zone).date()
        ago = (self.today - day).days
        begins = at
        if ago == OUTAGE and time(4) <= at.astimezone(self.zone).time() < UP_AGAIN:
            begins = self._at(day, UP_AGAIN)
        late = begins - at > LATE_AFTER
        reason = "late: the service was not running when it was due" if late else "due"
        due = DueTime.objects.create(schedule=schedule, due_at=at, data_date=day, decision=RUN, reason=reason)
        DueTime.objects.filter(pk=due.pk).update(decided_at=begins)
        held = last_held or (schedule.name == "samples-daily" and ago == DAYS - 6)
        for run in due_runs(due, late=late):
            run.finish_by = run.finish_by and self.now + timedelta(days=1)  # it is not late because it is made now
            began = timezone.now()
            refused = schedule.name == "repairs-weekly" and 7 <= ago < 14  # one of its Mondays, whatever day it is
            self._carried_out(run, None if refused else _statement(run, ago, held))
            ends = self._at(day, SLOW_END) if schedule.name == "night-flow-daily" and ago == SLOW else None
            begins = self._set_back(run, began, begins + PATIENCE, ends)
            if refused:
                self._again(run, self._at(day, time(8, 40)))
            if held and not last_held:
                self._released(run, self._at(day, time(8, 20)))

    def _carried_out(self, run: Run, statement: str | None) -> None:
        """To its end; with no statement the source refuses the login."""
        now = timezone.now()
        if run.pk is None:
            run.save()
        states.RUN.move(run, "queue", queue_order=now)
        states.RUN.move(run, "claim", worker=self.worker, attempt=1, started_at=now)
        run.save()
        add_log(run, "info", f"attempt 1 on {self.worker.host} (worker {self.worker.pid})")
        told = _Told(run)
        try:
            if statement is None:
                told.stage("connect")
                told.log("error", "the password of the login 'reader_live' was changed on the server this night")
                raise SourceSignInRefused(
                    "the source refused the login 'reader_live'.", "Correct the user or the password of the source."
                )
            carry_out(job_of(run) | {"statement": statement}, told)
        except LadleError as error:
            work.record(run, told.facts)
            work.fail(run, error)
        run.refresh_from_db()

    def _set_back(self, run: Run, began: datetime, to: datetime, ends: datetime | None = None) -> datetime:
        """All moments of a run that began so, as though it had begun at ``to``; returns its end. ``ends``: it took so long."""
        run.refresh_from_db()
        fetched = next((datetime.fromisoformat(s["at"]) for s in run.stages if s["stage"] == "prove"), began)
        longer = ends - to - ((run.ended_at or began) - began) if ends else timedelta()

        def then(at: datetime) -> datetime:
            """It is the fetching that took so long."""
            return to + (at - began) + (longer if at >= fetched else timedelta())

        stages = [each | {"at": then(datetime.fromisoformat(each["at"])).isoformat()} for each in run.stages]
        ended = then(run.ended_at or began)
        due = run.due_time
        by = finish_by(run.due_at, due.schedule.zone, due.schedule.finish_by) if due and due.schedule.finish_by else None
        late = run.late or bool(by and ended > by)
        if late and by:
            run.late, run.finish_by = True, by
            run_is_late(run)
        Run.objects.filter(pk=run.pk).update(
            queued_at=to, queue_order=to, started_at=then(run.started_at or began), ended_at=ended, stages=stages,
            finish_by=by, late=late, give_up_at=to + timedelta(days=1),
        )  # fmt: skip
        for line in LogLine.objects.filter(run=run, at__gte=began):
            text = (
                re.sub(r"(^fetched .*) in .* s$", rf"\1 in {longer.total_seconds():,.1f} s", line.text) if ends else line.text
            )
            LogLine.objects.filter(pk=line.pk).update(at=then(line.at), text=text)
        self._set_alerts_back(began, ended)
        return ended

    @staticmethod
    def _set_alerts_back(began: datetime, to: datetime) -> None:
        Alert.objects.filter(at__gte=began).update(at=to)
        OpenProblem.objects.filter(began_at__gte=began).update(began_at=to)
        OpenProblem.objects.filter(ended_at__gte=began).update(ended_at=to)
        OpenProblem.objects.filter(seen_at__gte=began).update(seen_at=to)

    def _again(self, failed: Run, at: datetime) -> None:
        """Somebody has put right what was wrong, and ran it again."""
        began = timezone.now()
        run = run_again(self.author, failed.pk)
        states.RUN.move(run, "leave the queue", wait_until=began)  # it is this process that carries it out
        self._carried_out(run, str(run.revision.statement))
        self._set_back(run, began, at)

    def _released(self, run: Run, at: datetime) -> None:
        began = timezone.now()
        release(self.author, run.pk, "Three points were closed for flushing, as agreed with the laboratory.")
        if claimed := claim_delivery(self.worker, set()):
            deliver_stored(claimed)
        LogLine.objects.filter(run=run, at__gte=began).update(at=at)
        self._set_alerts_back(began, at)


def make_past() -> int:
    """Two weeks of runs before now, once; their number."""
    return 0 if DAYS <= 0 or Run.objects.exists() else _Past().make()
