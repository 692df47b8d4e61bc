"""The ledger under many hands: due times, limits of runs at once and fencing, on a real database, by the service's own functions."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import threading
import time
from collections import Counter
from datetime import datetime, timedelta, timezone
from pathlib import Path
from typing import ClassVar

import pytest

from patient_ladle.adapters.stores import store_at
from patient_ladle.core.errors import Fenced, StatementWrong
from tests.command import PATIENCE
from tests.conftest import children_of, until

from .hands import at_once, overdue, queue, worker


def whole(since, count):
    """Every due time of every schedule is there once, decided; the latest of each runs and no other."""
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.schedules.models import DueTime

    for number in range(count):
        found = list(
            DueTime.objects.filter(schedule__name=f"each-minute-{number}").order_by("due_at").values_list("due_at", "decision")
        )
        assert [due for due, _ in found] == [since + timedelta(minutes=n) for n in range(len(found))]
        assert [decision for _, decision in found] == ["missed"] * (len(found) - 1) + ["run"]
    assert Run.objects.count() == count


def test_four_schedulers_record_each_due_time_once(repository):
    from patient_ladle.service.processes.scheduler import tick

    since = overdue(repository, 60)
    at_once(4, tick)
    whole(since, 60)


def test_a_scheduler_that_dies_anywhere_leaves_nothing_half_recorded(repository, monkeypatch):
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.processes import scheduler
    from patient_ladle.service.runs import recording
    from patient_ladle.service.schedules.models import DueTime

    since = overdue(repository, 12)
    real, calls = recording.due_runs, []

    class Killed(BaseException):
        """The process is gone; a fault of one schedule would be its own."""

    def dies(*given, **origin):
        made = real(*given, **origin)
        calls.append(made)
        if len(calls) in (3, 9):
            raise Killed
        return made

    monkeypatch.setattr(recording, "due_runs", dies)
    for _ in range(2):
        with pytest.raises(Killed):
            scheduler.tick()
        assert (DueTime.objects.count(), Run.objects.count()) == (0, 0)
    scheduler.tick()
    whole(since, 12)


def test_missed_due_times_are_told_by_the_next_scheduler_when_one_was_killed_before_telling(repository, monkeypatch):
    from patient_ladle.service.alerts.models import Alert
    from patient_ladle.service.processes import scheduler
    from patient_ladle.service.schedules.models import Schedule

    overdue(repository, 3)
    Alert.objects.all().delete()
    with monkeypatch.context() as killed, pytest.raises(RuntimeError, match="killed here"):
        killed.setattr(scheduler, "tell_missed", lambda: (_ for _ in ()).throw(RuntimeError("killed here")))
        scheduler.tick()
    held_by_another = Schedule.objects.order_by("id").first()
    soon, held_by_another.next_due_at = held_by_another.next_due_at, datetime.now(timezone.utc) - timedelta(hours=1)
    held_by_another.save()
    scheduler.tell_missed()
    assert not Alert.objects.exists(), "what is due and not recorded would be told in a second alert"
    held_by_another.next_due_at = soon
    held_by_another.save()
    for _ in range(2):
        scheduler.tick()
        [alert] = Alert.objects.filter(kind="missed")
        assert alert.title.endswith("of 3 schedules")


def test_a_due_time_that_cannot_run_is_skipped_with_its_reason(repository):
    from patient_ladle.service.extracts.services import archive_extract, restore_extract
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.processes.scheduler import tick
    from patient_ladle.service.schedules.models import DueTime

    overdue(repository, 1, minutes=0)
    archive_extract("from_wide")
    try:
        tick()
    finally:
        restore_extract(repository, "from_wide", None)
    [due] = DueTime.objects.all()
    assert (due.decision, due.reason, Run.objects.count()) == (
        "skipped",
        "could not run: extract 'from_wide' is archived. Restore it, or take it out of the schedule.",
        0,
    )


def test_no_source_is_read_by_more_runs_at_once_than_it_has_places(repository):
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.models import Run

    queue(repository, "from_wide", 20), queue(repository, "from_narrow", 10)
    lock, busy, most, done = threading.Lock(), {"wide": 0, "narrow": 0}, {"wide": 0, "narrow": 0}, []
    numbers, limits = iter(range(100)), {"wide": 3, "narrow": 1}

    def work():
        me = worker(f"w{next(numbers)}")
        while len(done) < 30:
            run = ledger.claim(me)
            if run is None:
                continue
            source = run.source.name
            with lock:
                busy[source] += 1
                most[source] = max(most[source], busy[source])
            until(lambda of=source: most[of] == limits[of])  # whoever has a place keeps it until all are taken once
            with lock:
                busy[source] -= 1
                done.append(run.pk)
            ledger.fail(run, StatementWrong("it is enough", "Stop."))

    at_once(6, work)
    assert sorted(done) == sorted(Run.objects.values_list("pk", flat=True))
    assert len(set(done)) == 30
    assert most == limits


OUTCOME = {"statements": [{"title": "", "rows": 0, "columns": []}], "files": [], "warnings": [], "delivery": None}


@pytest.mark.parametrize(
    ("write", "given"),
    [
        ("record", ([{"kind": "stage", "at": "2026-11-25T05:00:00+00:00", "name": "prove"}],)), ("publish", (OUTCOME,)),
        ("fail", (StatementWrong("x", "y"),)),
    ],
)  # fmt: skip
def test_a_worker_that_lost_its_run_writes_nothing_more(repository, write, given):
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.models import Run

    queue(repository, "from_wide")
    lost = ledger.claim(worker("lost"))
    ledger.take_over("lost")
    again = ledger.claim(worker("next"))
    before = Run.objects.values().get(pk=again.pk)
    lines = again.log.count()
    with pytest.raises(Fenced, match="no longer attempt 1 of this worker"):
        getattr(ledger, write)(lost, *given)
    assert (Run.objects.values().get(pk=again.pk), again.log.count(), again.attempt) == (before, lines, 2)
    getattr(ledger, write)(again, *given)


@pytest.mark.parametrize(
    ("before", "stopped", "cancelled", "state", "lost"),
    [(0, False, "", "queued", 1), (2, False, "", "failed", 3), (0, False, "rita", "cancelled", 1), (2, True, "", "queued", 2)],
)
def test_what_becomes_of_the_run_of_a_worker_that_is_lost_or_stopped(repository, before, stopped, cancelled, state, lost):
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.models import Run

    queue(repository, "from_wide")
    run = ledger.claim(worker("lost"))
    Run.objects.filter(pk=run.pk).update(attempt=7, lost=before, cancel_asked_by=cancelled)
    [taken] = ledger.take_over("lost", stopped)
    assert (taken.state, taken.worker, bool(taken.ended_at)) == (state, None, state != "queued")
    assert ledger.take_over("lost") == []
    assert (taken.lost, taken.failures) == (lost, 0)
    how = "stopped, and hands the run back" if stopped else "lost"
    assert taken.log.last().text == f"the worker of attempt 7 was {how}. The run is {state}."


@pytest.mark.parametrize("stopped", [True, False])
def test_a_worker_that_is_stopped_waits_for_a_row_that_is_written_and_one_that_takes_over_does_not(repository, stopped):
    from django.db import connection, transaction

    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.models import Run

    queue(repository, "from_wide")
    run = ledger.claim(worker("leaving"))
    taken, done = [], threading.Event()

    def take():
        try:
            taken.append([each.state for each in ledger.take_over("leaving", stopped)])
        finally:
            done.set()
            connection.close()

    waits = "select count(*) from pg_locks where not granted"
    with transaction.atomic():
        Run.objects.select_for_update().get(pk=run.pk)
        thread = threading.Thread(target=take)
        thread.start()
        with connection.cursor() as cursor:

            def waiting():
                cursor.execute(waits)
                return cursor.fetchone()[0] > 0

            until(lambda: done.is_set() or (stopped and waiting()))
    thread.join(PATIENCE)
    run.refresh_from_db()
    assert (taken, run.state, run.lost) == (([["queued"]], "queued", 0) if stopped else ([[]], "running", 0))


@pytest.mark.parametrize("ended", ["lost", "failed"])
def test_what_a_child_without_its_worker_still_writes_is_removed_in_the_end(repository, monkeypatch, ended):
    from django.conf import settings

    from patient_ladle.service.ledger import clearing
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.models import AttemptToClear

    queue(repository, "from_wide")
    run = ledger.claim(worker("lost"))
    ledger.take_over("lost") if ended == "lost" else ledger.fail(run, StatementWrong("x", "y"))
    folder = Path(settings.RESULT_STORE) / str(run.pk)
    (folder / "1").mkdir(parents=True, exist_ok=True)
    (folder / "1" / "use.csv.part").touch()
    now = AttemptToClear.objects.get(run=run).since
    assert (clearing.clear_attempts(now + timedelta(seconds=9)), len([*folder.rglob("*.part")])) == (0, 1)
    with monkeypatch.context() as away:
        away.setattr(clearing, "store", lambda: store_at("/nowhere/at/all"))
        assert clearing.clear_attempts(now + timedelta(seconds=11)) == 0
    assert clearing.clear_attempts(now + timedelta(seconds=11)) == 1
    assert (folder.exists(), AttemptToClear.objects.count()) == (False, 0)


def test_a_list_of_extracts_costs_four_queries_however_long_it_is_and_search_sees_the_newest_text_only(repository):
    from django.db import connection
    from django.test.utils import CaptureQueriesContext

    from patient_ladle.service.extracts.models import Extract, with_heads
    from patient_ladle.service.extracts.services import add_extract, save_extract

    for number in range(20):
        if not Extract.objects.filter(name=f"many_{number}").exists():
            add_extract(repository, f"many_{number}", "many", "", source="wide", statement=f"select {number} as first_text")
    save_extract(repository, "many_3", None, "", statement="select 3 as second_text")
    with CaptureQueriesContext(connection) as asked:
        found = {extract.name: extract.head for extract in with_heads(Extract.objects.select_related("owner"))}
        words = [(head.statement, head.source.name, head.author.name) for head in found.values()]
    assert len(asked) == 4
    assert (len(words) >= 22, found["many_3"].number >= 2) == (True, True)


def test_secrets_are_encrypted_with_the_newest_key_and_readable_with_older_ones(repository, home):
    from cryptography.fernet import Fernet
    from django.conf import settings
    from django.db import connection

    from patient_ladle.service.common.keys import secret_box
    from patient_ladle.service.sources.models import Address

    address = Address.objects.first()
    address.secret = "hush-hush-42"
    address.save()
    path = settings.DATA / "keys" / "secrets.key"
    old = path.read_text()
    newer = Fernet.generate_key().decode()
    path.write_text(f"{newer}\n{old}")
    secret_box.cache_clear()
    try:
        assert Address.objects.get(pk=address.pk).secret == "hush-hush-42"
        address.save()
        with connection.cursor() as cursor:
            cursor.execute("select secret from sources_address where id = %s", [address.pk])
            [stored] = cursor.fetchone()
        assert "hush" not in stored
        assert Fernet(newer).decrypt(stored.encode()) == b"hush-hush-42"
    finally:
        address.secret = ""
        address.save()
        path.write_text(old)
        secret_box.cache_clear()


@pytest.mark.parametrize(
    ("reference", "words"),
    [("env:LADLE_SOURCE_NONE", "is not set where the service runs"), ("file:../x", "there is no secret file")],
)
def test_a_reference_to_a_secret_stays_within_its_bounds(repository, reference, words):
    from patient_ladle.core.errors import BadInput
    from patient_ladle.service.sources.models import Address
    from patient_ladle.service.sources.queries import secret_of

    with pytest.raises(BadInput, match=words):
        secret_of(Address(secret=reference))
    assert secret_of(Address(secret="env:HOME")) == "env:HOME", "only LADLE_SOURCE_ variables are looked up"


class WarmChild:
    """Stands for a child that understands: answers as told to, counts how often it is made and ended."""

    made: ClassVar[list] = []
    answers: ClassVar[list] = []

    def __init__(self, job):
        self.job, self.asked, self.ended = job, [], False
        WarmChild.made.append(self)

    def say(self, words):
        self.asked.append(words)

    def told(self):
        answer = WarmChild.answers.pop(0)
        yield from answer() if callable(answer) else [answer]

    def kill(self):
        self.ended = True

    def wait(self):
        return -9


def test_a_warm_child_is_kept_made_anew_and_left_alone_after_a_failure(repository, monkeypatch):
    from patient_ladle.core.errors import ConnectionLost, SourceUnreachable
    from patient_ladle.service.sources import understanding
    from patient_ladle.service.sources.models import Address

    WarmChild.made.clear()
    monkeypatch.setattr(understanding, "Child", WarmChild)
    monkeypatch.setattr(understanding, "_kept", {})
    address = Address.objects.select_related("source", "environment").get(source__name="wide")
    right, lost = (
        {"kind": "understood", "parts": [{"columns": []}]},
        {"kind": "failed", "error": ConnectionLost("gone").to_dict()},
    )
    silent = lambda: iter(())  # noqa: E731

    def ask():
        return understanding.understand(repository, address, ["select 1"], [])

    WarmChild.answers[:] = [lambda: iter(({"kind": "begun"}, right)), right, lost, right]
    assert ask() == ask() == [{"columns": []}]
    assert len(WarmChild.made) == 1, "kept warm"
    assert ask() == [{"columns": []}], "a session lost between two strokes is opened anew, and nobody sees it"
    assert [child.ended for child in WarmChild.made] == [True, False]
    WarmChild.answers[:] = [silent, silent]
    for _ in range(3):
        with pytest.raises(SourceUnreachable):
            ask()
    assert WarmChild.answers == [], "asked once more with a new session, then left alone for a while"
    address.fields = address.fields | {"path": address.fields["path"].replace("x.db", "y.db")}
    WarmChild.answers[:] = [right]
    assert ask() == [{"columns": []}], "another address is another session"
    assert WarmChild.made[-1].job["reader"]["address"]["path"].endswith("y.db")
    monkeypatch.setattr(understanding, "IDLE_SECONDS", -1.0)
    understanding._end_idle()
    assert understanding._kept == {}
    assert all(child.ended for child in WarmChild.made)


def test_the_stored_catalogue_is_decoded_once_for_as_long_as_it_stands(repository):
    from django.utils import timezone

    from patient_ladle.service.sources import understanding
    from patient_ladle.service.sources.models import Address

    def kept():
        return understanding.kept_catalogue(Address.objects.get(source__name="narrow", environment__name="live"))

    assert kept() is None
    for name in ("first", "second"):
        Address.objects.filter(source__name="narrow").update(catalogue=[{"name": name}], catalogue_at=timezone.now())
        found = kept()
        assert found == [{"name": name}]
        assert kept() is found
    Address.objects.filter(source__name="narrow").update(catalogue=None, catalogue_at=None)


def test_a_worker_joins_only_with_the_same_keys_and_store_and_says_what_is_odd(repository, monkeypatch, tmp_path):
    from django.test import override_settings

    from patient_ladle.core.errors import Conflict
    from patient_ladle.service.ledger import registration
    from patient_ladle.service.ledger.models import Worker
    from patient_ladle.service.sources.models import Address

    first = Worker(id="first", host="a", pid=1, max_runs=2)
    assert registration.join(first) == []
    first.save()
    second = Worker(id="second", host="b", pid=2, max_runs=2)
    with (
        override_settings(RESULT_STORE=tmp_path / "another"),
        pytest.raises(Conflict, match="another one than that of worker first"),
    ):
        registration.join(second)
    monkeypatch.setattr(registration, "__version__", "99.1")
    assert registration.join(second) == [f"this worker is of version 99.1, others of {first.version}: upgrade them together"]
    assert (second.store_mark, abs(second.clock_seconds) < 2) == (first.store_mark, True)

    kept = dict(Address.objects.values_list("pk", "secret"))
    Address.objects.update(secret="hush-hush-43")
    with override_settings(DATA=tmp_path / "elsewhere"), pytest.raises(Conflict, match=r"cannot be read with this host's key"):
        registration.join(second)
    for number, secret in kept.items():
        Address.objects.filter(pk=number).update(secret=secret)


def test_a_draining_worker_takes_no_more_runs_until_it_may(repository):
    from patient_ladle.core.errors import BadInput
    from patient_ladle.service.ledger import registration
    from patient_ladle.service.ledger.models import Run, Worker
    from patient_ladle.service.processes.worker import WorkerProcess

    process = WorkerProcess(2)
    process.row.save()
    assert registration.drain(process.id, True).draining
    process.draining = True
    queue(repository, "from_wide")
    process._claim_all()
    assert [run.state for run in Run.objects.all()] == ["queued"]
    assert not registration.drain(process.id, False).draining
    Worker.objects.update(gone_at="2026-11-24T06:00:00Z")
    with pytest.raises(BadInput, match="is gone"):
        registration.drain(process.id, True)
    with pytest.raises(BadInput, match="there is no worker 'nobody'"):
        registration.drain("nobody", True)


def test_rows_copied_in_are_those_that_the_orm_would_have_saved(repository):
    from patient_ladle.service.common.bulk import copied_in, moments_set, new_object
    from patient_ladle.service.extracts.models import Extract
    from patient_ladle.service.ledger.making import new_run
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.schedules.models import DueTime, Schedule
    from patient_ladle.service.sources.models import Environment

    due_at = overdue(repository, 2)
    schedules = list(Schedule.objects.order_by("id"))
    extract, live = Extract.objects.get(name="from_wide"), Environment.objects.get()

    def made(way):
        given = {"due_at": due_at, "data_date": due_at.date(), "decision": "run", "reason": 'a "quoted"\treason\\'}
        due_times = [DueTime(schedule=schedule, **given) for schedule in schedules]
        values = {"a": None, "b": ["x", 'y\\"\n'], "c": 1.5}
        runs = [
            new_run(extract, extract.head, live, {}, ["csv"], due_at.date(), due_at, due_time=due_time, finish_by=due_at)
            for due_time in due_times
        ]
        for run in runs:
            run.values_in_effect, run.held_plan, run.waits_for, run.late = values, None, "a\\b\tc\nd", True
        way(due_times)
        way(runs)
        found = Run.objects.order_by("id").values()
        whole = [
            {key: value for key, value in row.items() if key not in ("id", "due_time_id", "queued_at", "queue_order", "wait_until", "give_up_at")}
            for row in found
        ]  # fmt: skip
        assert [run.pk for run in runs] == [row["id"] for row in found], "objects know their numbers"
        assert all(row["queued_at"] and row["queue_order"] for row in found)
        assert [run.due_time_id for run in runs] == [each.pk for each in due_times]
        runs[0].waits_for = "rain"
        runs[0].save()  # as an update, not as another row
        assert Run.objects.count() == len(runs)
        Run.objects.all().delete()
        DueTime.objects.all().delete()
        return whole

    assert made(copied_in) == made(lambda objects: [each.save() for each in objects])
    copied_in([])
    one, other = (new_object(Run, extract=extract, again_of=None, state="failed", queue_order=due_at) for _ in "12")
    like = Run(extract=extract, again_of=None, state="failed", queue_order=due_at)
    assert one.extract is extract
    assert (vars(one) | {"_state": 0}) == (vars(like) | {"_state": 0})
    assert one.stages is not other.stages
    first, second = schedules
    moments_set(Schedule, "next_due_at", {first.pk: None, second.pk: due_at + timedelta(days=1)})
    assert list(Schedule.objects.order_by("id").values_list("next_due_at", flat=True)) == [None, due_at + timedelta(days=1)]


def test_many_schedules_due_at_once_cost_a_few_statements_however_many_they_are(repository):
    from django.db import connection
    from django.test.utils import CaptureQueriesContext

    from patient_ladle.service.extracts.models import Revision
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.processes import scheduler
    from patient_ladle.service.runs.api import RunLine, lines_of_runs

    counts = []
    Revision.objects.update(parameters=[{"name": "limit", "shared": "limit", "required": False}])
    for many in (1, 3, 30):  # the very first look writes down, once, that it looked
        Run.objects.all().delete()
        _more(repository, many)
        with CaptureQueriesContext(connection) as asked:
            scheduler.tick()
        counts.append(len(asked))
        assert Run.objects.filter(state="queued").count() == many
    with CaptureQueriesContext(connection) as asked:
        assert {line["schedule"] for line in RunLine(lines_of_runs(), many=True).data} == {
            f"each-minute-{n}" for n in range(30)
        }
    assert len(asked) == 2, "the runs, and their files"
    Revision.objects.update(parameters=[])
    assert counts[1] == counts[2], "no statement for each of them"


def _more(person, count):
    """Other schedules, due since the minute before, instead of those that were."""
    from patient_ladle.service.schedules.models import DueTime, Schedule

    DueTime.objects.all().delete()
    Schedule.objects.all().delete()
    overdue(person, count)


def test_a_database_that_is_away_is_looked_for_at_an_even_pace(orm):
    from django.conf import settings
    from psycopg_pool import ConnectionPool

    looked = 0
    with socket.create_server(("127.0.0.1", 0)) as door:
        door.settimeout(20)  # by doubling its waits, a pool would have looked five times
        options = settings.DATABASES["default"]["OPTIONS"]["pool"]
        with ConnectionPool(f"host=127.0.0.1 port={door.getsockname()[1]} user=ladle", open=False, **options) as pool:
            pool.open()
            end = time.monotonic() + 20
            while looked < 6 and time.monotonic() < end:
                door.accept()[0].close()
                looked += 1
    assert looked == 6


@pytest.mark.parametrize("how", ["both", "the second one killed", "all due before they begin"])
def test_two_processes_record_many_due_times_once_and_tell_of_missed_ones_once(repository, cluster, home, how):
    """Half of the schedules run late, half miss; the scheduler is a real one, with batches of its own size."""
    from django.db import connection

    from patient_ladle.service.alerts.models import Alert
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.processes.scheduler import BATCH
    from patient_ladle.service.schedules.models import DueTime, Schedule
    from patient_ladle.service.schedules.services import add_schedule

    half = BATCH + BATCH // 4
    for missed in ("none", "latest"):
        add_schedule(
            repository,
            f"yearly-{missed}",
            extract="from_wide",
            environment="live",
            rule="0 6 1 1 *",
            zone="UTC",
            catch_up=missed,
        )
    with connection.cursor() as cursor:
        cursor.execute(
            "insert into schedules_schedule select made.* from schedules_schedule x, generate_series(1, %s) n,"
            " lateral jsonb_populate_record(x, jsonb_build_object('id', x.id + 10 * n, 'name', x.name || n)) made",
            [half - 1],
        )
    Alert.objects.all().delete()

    def make_due():
        Schedule.objects.update(next_due_at=datetime.now(timezone.utc) - timedelta(hours=2))

    environment = os.environ | {
        "LADLE_DATABASE_URL": cluster.url("ladle"), "LADLE_DATA": str(home / "ledger"), "LADLE_SUMMARY_AT": "",
    }  # fmt: skip
    if how == "all due before they begin":
        make_due()
        make_due = bool
    scheduler = subprocess.Popen(
        [sys.executable, "-m", "patient_ladle.service", "scheduler"], env=environment, stdin=subprocess.PIPE, stderr=subprocess.PIPE,
    )  # fmt: skip
    try:
        [second] = until(lambda: children_of(scheduler.pid))
        asleep = os.listdir(f"/proc/{second}/fd")
        make_due()
        until(DueTime.objects.exists)
        if how == "the second one killed":
            os.kill(second, signal.SIGKILL)
        until(lambda: DueTime.objects.count() == 2 * half)
        told = until(lambda: list(Alert.objects.filter(kind="missed")))
        if how == "both":
            assert len(os.listdir(f"/proc/{second}/fd")) > len(asleep), "it worked on a connection of its own"
    finally:
        scheduler.terminate()
        said = scheduler.communicate(timeout=PATIENCE)[1].decode()
    assert not Path("/proc", str(second)).exists(), "it ends with the first one"
    assert "Traceback" not in said, said
    assert DueTime.objects.values("schedule").distinct().count() == 2 * half
    assert Counter(DueTime.objects.values_list("decision", flat=True)) == {"run": half, "missed": half}
    assert Run.objects.filter(due_time__schedule__catch_up="latest").count() == Run.objects.count() == half
    [alert] = told
    assert alert.title == f"missed: {half:,} due times of {half:,} schedules"
