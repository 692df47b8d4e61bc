"""Runs that wait, are tried again, follow each other or fill in the past, by the service's own functions on a real database."""

from __future__ import annotations

from datetime import date, datetime, time, timedelta, timezone
from pathlib import Path

import pytest

from patient_ladle.core.errors import BadInput, Conflict, ConnectionLost, StatementWrong
from patient_ladle.core.values.quiet_hours import QuietHours

from .hands import queue, worker

OUTCOME = {"statements": [{"title": "", "rows": 0, "columns": []}], "files": [], "warnings": [], "delivery": None}


@pytest.fixture
def schedule(repository):
    """A schedule whose due times the tests set, with some settings."""
    from patient_ladle.service.schedules.services import add_schedule

    def made(name="yearly", **settings):
        given = {
            "extract": "from_wide",
            "environment": "live",
            "rule": "1st of january 00:00",
            "zone": "Europe/London",
            **settings,
        }
        return add_schedule(repository, name, **given)

    return made


def test_a_page_of_schedules_costs_as_many_queries_as_one_schedule(schedule, repository):
    from django.db import connection
    from django.test.utils import CaptureQueriesContext
    from rest_framework.test import APIClient

    client = APIClient(headers={"host": "127.0.0.1"})
    client.force_authenticate(repository)
    asked = []
    for wanted in (1, 24):
        for number in range(wanted):
            schedule(f"page-{wanted}-{number}", then=[{"extract": "from_narrow"}])
        with CaptureQueriesContext(connection) as made:
            found = client.get("/api/v1/schedules", {"page_size": 30}).json()["results"]
        asked.append(len(made))
    assert len(found) == 25
    assert found[0]["then"][0]["extract"] == "from_narrow"
    assert asked[0] == asked[1] <= 8


def tick(minutes=1):
    """A scheduler's round, with all schedules due so many minutes ago."""
    from patient_ladle.service.processes import scheduler
    from patient_ladle.service.schedules.models import Schedule

    due = scheduler.database_now().replace(second=0, microsecond=0) - timedelta(minutes=minutes)
    Schedule.objects.update(next_due_at=due)
    scheduler.tick()


def settled(later=timedelta()):
    """A look at whatever waits, as it would be later; what each run is then."""
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.ledger.waiting import mark_late, settle_due

    now = datetime.now(timezone.utc) + later
    settle_due(now)
    mark_late(now)
    return [run.state for run in Run.objects.order_by("id")]


def finish(run=None, error=None):
    """The next queued run is claimed and comes to its end."""
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.models import Worker

    claimed = ledger.claim(Worker.objects.first() or worker("w"))
    assert run is None or claimed == run
    ledger.fail(claimed, error) if error else ledger.publish(claimed, OUTCOME)
    claimed.refresh_from_db()
    return claimed


def states():
    from patient_ladle.service.ledger.models import Run

    return [run.state for run in Run.objects.order_by("id")]


def test_a_run_waits_for_the_earlier_one_of_its_schedule_and_goes_when_that_has_ended(schedule):
    from patient_ladle.service.ledger.models import Run

    schedule()
    tick(2), tick(1)
    assert states() == ["queued", "waiting"]
    first, second = Run.objects.order_by("id")
    assert second.waits_for.startswith(f"run {first.pk} of the due time ")
    finish(first)
    assert states() == ["finished", "queued"]


@pytest.mark.parametrize(("while_running", "found"), [("skip", ["queued"]), ("parallel", ["queued", "queued"])])
def test_or_its_due_time_is_skipped_or_it_runs_in_parallel_as_chosen(schedule, while_running, found):
    from patient_ladle.service.schedules.models import DueTime

    schedule(while_running=while_running)
    tick(2), tick(1)
    assert states() == found
    newest = DueTime.objects.first()
    assert newest.decision == ("skipped" if while_running == "skip" else "run")
    assert while_running != "skip" or newest.reason.endswith("had not ended")


def test_a_sequence_runs_in_order_and_a_failure_leads_to_not_run_with_its_cause(schedule):
    from patient_ladle.service.ledger.models import Run

    schedule(then=[{"extract": "from_narrow"}, {"extract": "from_wide"}], while_running="parallel")
    tick(2)
    assert states() == ["queued", "waiting", "waiting"]
    finish()
    assert states() == ["finished", "queued", "waiting"]
    failed = finish(error=StatementWrong("no such table.", "Correct it."))
    last = Run.objects.latest("id")
    assert (last.state, last.error["code"]) == ("not_run", "not_run")
    assert last.error["message"] == f"not run: step 2, run {failed.pk} of from_narrow, is failed."
    assert last.log.last().level == "error"


def test_what_can_pass_is_tried_again_later_and_what_cannot_fails_at_once(schedule):
    from patient_ladle.service.ledger.models import Run

    schedule(attempts=2)
    tick()
    before = datetime.now(timezone.utc)
    waiting = finish(error=ConnectionLost("the connection broke."))
    assert (waiting.state, waiting.attempt, waiting.waits_for) == ("waiting", 1, "attempt 2 of 2")
    earliest, latest = before + timedelta(seconds=20), datetime.now(timezone.utc) + timedelta(seconds=40)
    assert earliest < waiting.not_before < latest
    assert settled() == ["waiting"]
    assert settled(timedelta(seconds=60)) == ["queued"]
    failed = finish(waiting, ConnectionLost("the connection broke."))
    assert (failed.state, failed.attempt) == ("failed", 2)
    texts = list(failed.log.values_list("text", flat=True))
    assert "failed: given up after 2 attempts" in texts
    assert any(text.startswith("attempt 1 failed; the next one is at ") for text in texts)
    [by_hand] = queue(Run.objects.first().started_by or failed.extract.owner, "from_wide")
    once = finish(by_hand, StatementWrong("no such table."))
    assert (once.state, once.log.last().text) == ("failed", "failed: it cannot pass by itself, so it is not tried again")


def test_a_waiting_retry_is_not_hurried_and_can_be_cancelled(schedule, repository):
    from patient_ladle.service.ledger.waiting import _look_at_followers
    from patient_ladle.service.runs.services import cancel_run

    schedule()
    tick()
    waiting = finish(error=ConnectionLost("the connection broke."))
    _look_at_followers(waiting)
    assert states() == ["waiting"]
    cancel_run(repository, waiting.pk)
    assert states() == ["cancelled"]


def test_an_extract_waits_for_others_of_the_same_data_date(schedule, repository):
    from patient_ladle.service.extracts.services import set_depends_on
    from patient_ladle.service.ledger.models import Run

    set_depends_on("from_narrow", ["from_wide"])
    try:
        with pytest.raises(Conflict, match="from_wide → from_narrow → from_wide"):
            set_depends_on("from_wide", ["from_narrow"])
        schedule("later", extract="from_narrow", timeout_minutes=60)
        tick()
        run = Run.objects.get()
        assert (run.state, run.waits_for) == ("waiting", f"a run of from_wide for {run.data_date}")
        [other] = queue(repository, "from_wide")
        Run.objects.filter(pk=other.pk).update(data_date=run.data_date)
        finish(other)
        assert states() == ["queued", "finished"]
        Run.objects.all().delete()
        tick(2)
        assert settled(timedelta(minutes=61)) == ["not_run"]
        assert Run.objects.get().error["message"].startswith("not run: it waited for a run of from_wide for ")
        Run.objects.all().delete()
        tick(3)
        [other] = queue(repository, "from_wide")
        Run.objects.filter(pk=other.pk).update(data_date=Run.objects.first().data_date)
        finish(other, StatementWrong("no such table."))
        assert states() == ["not_run", "failed"]
    finally:
        set_depends_on("from_narrow", [])


def test_a_source_in_its_quiet_hours_is_left_alone(repository, schedule):
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.ledger.waiting import hold_quiet_sources
    from patient_ladle.service.sources.services import edit_source

    [run] = queue(repository, "from_wide")
    now = datetime.now(timezone.utc)
    begin, end = (now + timedelta(hours=n) for n in (-1, 1))
    edit_source("wide", {"quiet_hours": f"{begin:%H:%M} to {end:%H:%M}", "quiet_zone": "UTC"})
    try:
        assert ledger.claim(worker("w")) is None
        hold_quiet_sources(now)
        run.refresh_from_db()
        assert (run.state, run.waits_for) == ("waiting", "the quiet hours of source wide to end")
        assert run.wait_until == end.replace(second=0, microsecond=0)
        queue(repository, "from_wide")
        assert states() == ["waiting", "waiting"]
        with pytest.raises(BadInput, match="is not a span of time"):
            edit_source("wide", {"quiet_hours": "from nine to five"})
    finally:
        edit_source("wide", {"quiet_hours": "", "quiet_zone": ""})
    Run.objects.update(wait_until=now)
    assert settled() == ["queued", "queued"]


def test_quiet_hours_go_on_over_midnight_and_end_by_the_zones_clock():
    quiet = QuietHours.from_text("22:00 to 02:00 and 07:00-09:30", "Europe/London")

    def end(text):
        found = quiet.end_of(datetime.fromisoformat(text))
        return found.isoformat() if found else None

    assert end("2026-07-01T22:30:00+00:00") == "2026-07-02T01:00:00+00:00"
    assert end("2026-07-01T00:30:00+00:00") == "2026-07-01T01:00:00+00:00"
    assert end("2026-07-01T07:59:00+00:00") == "2026-07-01T08:30:00+00:00"
    assert end("2026-07-01T09:00:00+00:00") is None
    for text in ("25:00 to 26:00", "07:00 to 07:00", "at night"):
        with pytest.raises(BadInput):
            QuietHours.from_text(text, "UTC")


def test_a_higher_priority_goes_first_but_never_for_ever(repository, schedule):
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.models import Run

    old, low, high = queue(repository, "from_wide", 3)
    now = datetime.now(timezone.utc)
    Run.objects.update(state="waiting", wait_until=now)
    Run.objects.filter(pk=low.pk).update(priority=-1)
    Run.objects.filter(pk=high.pk).update(priority=1)
    settled()
    Run.objects.filter(pk=old.pk).update(queue_order=now - timedelta(minutes=11))
    me = worker("w")
    assert [ledger.claim(me) for _ in range(3)] == [old, high, low]


def test_a_run_that_is_not_finished_by_its_hour_is_late(schedule):
    from patient_ladle.service.ledger.models import Run

    soon = (datetime.now(timezone.utc) + timedelta(minutes=5)).time().replace(second=0, microsecond=0)
    schedule(zone="UTC", rule="every hour", finish_by=soon)
    tick()
    run = Run.objects.get()
    assert timedelta() < run.finish_by - datetime.now(timezone.utc) < timedelta(minutes=6)
    assert settled() == ["queued"]
    assert not Run.objects.get().late
    settled(timedelta(minutes=7))
    run = Run.objects.get()
    assert (run.late, run.log.last().text.startswith("late: it was to be finished by ")) == (True, True)


def test_starts_are_spread_in_the_same_way_each_time(schedule):
    from patient_ladle.service.ledger.models import Run

    schedule("a-spread", spread_seconds=3600)
    tick(0)
    run = Run.objects.get()
    assert (run.state, run.waits_for[:22]) == ("waiting", "its start to be spread")
    assert timedelta() <= run.not_before - run.due_at < timedelta(seconds=3600)
    assert settled(timedelta(hours=1, minutes=2)) == ["queued"]


def test_a_pause_ends_by_itself(schedule, repository):
    from patient_ladle.service.processes import scheduler
    from patient_ladle.service.schedules.models import DueTime, Schedule
    from patient_ladle.service.schedules.services import pause_schedule

    schedule("minutely", rule="* * * * *", catch_up="all")
    pause_schedule(repository, "minutely", "meter swap", datetime.now(timezone.utc) + timedelta(hours=1))
    Schedule.objects.update(paused_until=scheduler.database_now() - timedelta(minutes=3))
    tick(6)
    found = list(DueTime.objects.order_by("due_at").values_list("decision", flat=True))
    assert (found.count("skipped"), found.count("run")) == (4, 3)
    assert Schedule.objects.get().paused_at is None
    with pytest.raises(BadInput, match="which is past"):
        pause_schedule(repository, "minutely", "", datetime.now(timezone.utc) - timedelta(hours=1))


def test_a_backfill_says_what_it_would_do_and_keeps_one_record_a_due_time(schedule, repository):
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.runs.backfilling import backfill, planned
    from patient_ladle.service.schedules.models import DueTime

    schedule("nightly", rule="daily 00:01", zone="UTC")
    first, last = date(2026, 3, 1), date(2026, 3, 3)
    assert [p["runs"] for p in planned("nightly", first, last)] == [True, True, True]
    made = list(backfill(repository, "nightly", first, last).runs.order_by("due_at"))
    assert [(run.data_date.day, run.priority, run.backfill, run.state) for run in made] == [
        (1, -1, True, "queued"), (2, -1, True, "queued"), (3, -1, True, "queued"),
    ]  # fmt: skip
    finish(made[0])
    assert [(p["runs"], p["why"]) for p in planned("nightly", first, last)] == [
        (False, f"run {made[0].pk} has finished"),
        (False, f"run {made[1].pk} is queued"),
        (False, f"run {made[2].pk} is queued"),
    ]
    with pytest.raises(Conflict, match="no due time"):
        backfill(repository, "nightly", first, last)
    again = backfill(repository, "nightly", first, date(2026, 3, 1), again=True).runs.get()
    assert (again.turn, again.again_of, again.due_time) == (1, made[0], made[0].due_time)
    assert (DueTime.objects.count(), Run.objects.count()) == (3, 4)
    assert DueTime.objects.first().reason == "backfilled by amir"
    for given in ((last, first), (date(2020, 1, 1), date(2026, 1, 1))):
        with pytest.raises(BadInput):
            planned("nightly", *given)


def test_a_backfill_is_one_thing_that_is_cancelled_repeated_and_told_of(schedule, repository):
    from patient_ladle.service.alerts.models import Alert
    from patient_ladle.service.runs.backfilling import backfill, cancel_backfill, planned, repeat_backfill

    Alert.objects.all().delete()
    schedule("nightly", rule="daily 00:01", zone="UTC")
    days = (date(2026, 3, 1), date(2026, 3, 4))
    first = backfill(repository, "nightly", *days)
    with pytest.raises(Conflict, match="has not ended"):
        repeat_backfill(repository, first.pk)
    runs = list(first.runs.order_by("due_at"))
    finish(runs[0]), finish(runs[1], StatementWrong("no such column."))
    assert cancel_backfill(repository, first.pk).cancelled_by == "amir"
    assert sorted(first.runs.values_list("state", flat=True)) == ["cancelled", "cancelled", "failed", "finished"]
    with pytest.raises(Conflict, match="has ended"):
        cancel_backfill(repository, first.pk)
    assert not Alert.objects.exists(), "whoever cancels it knows"
    second = repeat_backfill(repository, first.pk)
    repeated = list(second.runs.order_by("due_at"))
    assert [run.data_date.day for run in repeated] == [2, 3, 4]
    for run in repeated[:2]:
        finish(run)
    assert not Alert.objects.exists(), "one run is left"
    finish(repeated[2], StatementWrong("no such column."))
    told = Alert.objects.get()
    assert (told.person, told.kind, "1 failed, 2 finished" in told.cause) == (repository, "own_run", True)
    again = repeat_backfill(repository, second.pk).runs.get()
    assert (again.data_date.day, again.turn) == (4, 2)
    finish(again)
    assert [plan["runs"] for plan in planned("nightly", *days)] == [False] * 4, "what was mended in another turn stays"
    with pytest.raises(Conflict, match="no due time"):
        repeat_backfill(repository, second.pk)


@pytest.mark.parametrize(
    ("file_name", "days", "refused"),
    [
        ("use-{data_date}", 3, False), ("use", 1, True), ("use", 3, True), ("use-{data_date:%Y%m}", 2, True),
        ("use-{data_date:%Y%m}", 1, False), ("use-{run}", 3, False), ("use-{value.day}", 3, False), ("use-{value.fixed}", 3, True),
    ],
)  # fmt: skip
def test_a_backfill_delivers_no_two_due_times_under_one_name(schedule, repository, file_name, days, refused):
    from patient_ladle.service.extracts.models import Revision
    from patient_ladle.service.ledger.models import Backfill
    from patient_ladle.service.runs.backfilling import backfill, planned

    parameters = [{"name": "day", "type": "date", "default": "today"}, {"name": "fixed", "type": "text", "default": "x"}]
    revision = Revision.objects.filter(extract__name="from_wide")
    before = revision.values("file_name", "deliver_into", "parameters").get()
    revision.update(file_name=file_name, deliver_into="use", parameters=parameters)
    try:
        schedule("nightly", rule="daily 00:01", zone="UTC")
        tick()
        wish = ("nightly", date(2026, 3, 1), date(2026, 3, days))
        if refused:
            with pytest.raises(BadInput, match="one over the other"):
                planned(*wish)
            with pytest.raises(BadInput, match="one over the other"):
                backfill(repository, *wish)
            assert not Backfill.objects.exists()
        made = backfill(repository, *wish, deliver=not refused)
        assert {run.delivers_into for run in made.runs.all()} == {"" if refused else "use"}
    finally:
        revision.update(**before)


def test_a_repeated_run_says_whether_it_gave_the_same(repository):
    from patient_ladle.service.ledger.models import ResultFile, Run
    from patient_ladle.service.runs.services import run_again

    def made(run, digest):
        ended = finish(run)
        ResultFile.objects.create(
            run=ended, attempt=1, name="a.csv", format="csv", media_type="", rows=0, bytes=1, sha256=digest
        )
        return ended

    [one] = queue(repository, "from_wide")
    made(one, "a" * 64)
    same = run_again(repository, one.pk)
    from patient_ladle.service.ledger import work as ledger

    finish(same)
    assert same.again_of == one
    for digest, word in (("a" * 64, "the same result as run"), ("b" * 64, "not the same as run")):
        Run.objects.filter(pk=same.pk).update(state="finished")
        same.refresh_from_db()
        same.files.all().delete()
        ResultFile.objects.create(
            run=same, attempt=1, name="a.csv", format="csv", media_type="", rows=0, bytes=1, sha256=digest
        )
        assert ledger.compared_with_earlier(same)["text"].startswith(word)


def test_a_schedule_minds_its_holidays_and_a_calendar_in_use_stays(schedule, repository):
    from patient_ladle.service.schedules.models import HolidayCalendar
    from patient_ladle.service.schedules.services import (
        edit_schedule,
        remove_calendar,
        remove_schedule,
        save_calendar,
        timing_of,
    )

    save_calendar(repository, "england", country="gb", region="eng")
    made = schedule("monthly", rule="1st 05:00", calendar="england", on_holiday="next_working_day", first_date=date(2038, 1, 1))
    assert made.next_due_at == datetime(2038, 1, 4, 5, tzinfo=timezone.utc)
    assert edit_schedule("monthly", on_holiday="skip").next_due_at == datetime(2038, 2, 1, 5, tzinfo=timezone.utc)
    assert edit_schedule("monthly", exceptions=["2038-02-01"]).next_due_at == datetime(2038, 3, 1, 5, tzinfo=timezone.utc)
    with pytest.raises(Conflict, match="is in use: monthly"):
        remove_calendar("england")
    with pytest.raises(BadInput, match="there is no calendar 'englund'"):
        timing_of({"rule": "daily 05:00", "calendar": "englund"})
    with pytest.raises(BadInput, match="there is no country 'XX'"):
        save_calendar(repository, "nowhere", country="XX")
    remove_schedule("monthly")
    remove_calendar("england")
    assert not HolidayCalendar.objects.exists()


@pytest.mark.parametrize(
    ("settings", "said"),
    [
        ({"catch_up": "some"}, "there is no catch_up policy 'some'"),
        ({"while_running": "skipp"}, "there is no while_running policy 'skipp'"),
        ({"priority": "urgent"}, "there is no priority 'urgent'"),
        ({"then": [{"extract": "from_nowhere"}]}, "there is no extract 'from_nowhere'"),
        ({"rule": "dayly 05:00"}, "not 'dayly' at column 1"),
    ],
)
def test_settings_that_cannot_be_are_refused_and_nothing_is_kept(schedule, settings, said):
    from patient_ladle.service.schedules.models import Schedule

    with pytest.raises(BadInput, match=said):
        schedule(**settings)
    assert not Schedule.objects.exists()
    assert time(7) == schedule("fine", finish_by=time(7)).finish_by


@pytest.mark.parametrize(
    ("rule", "by", "taken"),
    [
        ("06:30", time(6, 30), False), ("06:30", time(6), False), ("weekdays 06:30", time(6, 29), False), ("06:30", time(6, 31), True),
        ("22:00", time(6), True), ("22:00", time(21), False), ("every 15 minutes", time(6), True), ("06:30 and 18:00", time(6), True),
    ],
)  # fmt: skip
def test_a_run_is_to_be_finished_after_it_begins(schedule, rule, by, taken):
    if taken:
        assert schedule(rule=rule, finish_by=by).finish_by == by
        return
    with pytest.raises(BadInput, match="that is before they begin, or a day later"):
        schedule(rule=rule, finish_by=by)


def test_a_schedule_runs_by_the_clocks_of_the_service_unless_it_says_others(repository):
    from django.test import override_settings
    from rest_framework.test import APIClient

    client = APIClient(headers={"host": "127.0.0.1"})
    client.force_authenticate(repository)
    with override_settings(TIME_ZONE="Europe/London"):
        body = {"name": "at_home", "extract": "from_wide", "environment": "live", "rule": "06:30"}
        assert client.post("/api/v1/schedules", body, format="json").json()["zone"] == "Europe/London"


def test_results_are_kept_so_long_or_so_many_and_the_latest_always(repository):
    from django.conf import settings

    from patient_ladle.service.extracts.services import set_retention
    from patient_ladle.service.ledger.models import ResultFile, Run
    from patient_ladle.service.runs.retention import remove_old

    def kept():
        return [run.pk for run in Run.objects.filter(files__removed_at=None, files__isnull=False).order_by("id")]

    runs = [finish(run) for run in queue(repository, "from_wide", 5)]
    now = datetime.now(timezone.utc)
    for days, run in zip((200, 100, 80, 70, 60), runs, strict=True):
        Run.objects.filter(pk=run.pk).update(ended_at=now - timedelta(days=days))
        ResultFile.objects.create(
            run=run, attempt=1, name="a.csv", format="csv", media_type="", rows=0, bytes=1, sha256="a" * 64
        )
        folder = Path(settings.RESULT_STORE) / str(run.pk) / "1"
        folder.mkdir(parents=True)
        (folder / "a.csv").write_text("a")
    numbers = [run.pk for run in runs]
    Run.objects.filter(pk=numbers[1]).update(held="held")
    assert remove_old(now) == 1
    assert kept() == numbers[1:], "what is held waits for its author"
    assert [(Path(settings.RESULT_STORE) / str(number) / "1" / "a.csv").exists() for number in numbers] == [
        False,
        True,
        True,
        True,
        True,
    ]
    gone = Run.objects.get(pk=numbers[0])
    assert gone.log.last().text == "1 file removed from the result store: their retention time is over"
    set_retention("from_wide", None, 2)
    try:
        remove_old(now)
        assert kept() == [numbers[1], *numbers[3:]]
        set_retention("from_wide", 1, None)
        remove_old(now)
        assert kept() == [numbers[1], numbers[4]], "the newest stays"
        assert remove_old(now) == 0
    finally:
        set_retention("from_wide", None, None)


def test_what_is_the_latest_is_kept_whatever_ran_last_and_one_store_that_is_away_loses_no_record(repository, monkeypatch):
    """A backfill of an old day, and a run again, come later and are no later results."""
    from django.conf import settings

    from patient_ladle.adapters.stores.folder import FolderStore
    from patient_ladle.core.errors import StoreUnwritable
    from patient_ladle.service.extracts.services import set_retention
    from patient_ladle.service.ledger.models import NEWEST_FIRST, ResultFile, Run
    from patient_ladle.service.runs.retention import remove_old

    runs = [finish(run) for run in queue(repository, "from_wide", 4)]
    for day, run in zip((26, 27, 10, 11), runs, strict=True):
        Run.objects.filter(pk=run.pk).update(data_date=f"2026-11-{day}", due_at=f"2026-11-{day}T06:00:00Z")
        ResultFile.objects.create(
            run=run, attempt=1, name="a.csv", format="csv", media_type="", rows=0, bytes=1, sha256="a" * 64
        )
        folder = Path(settings.RESULT_STORE) / str(run.pk) / "1"
        folder.mkdir(parents=True)
        (folder / "a.csv").write_text("a")
    numbers = [run.pk for run in runs]

    def kept():
        return [run.pk for run in Run.objects.filter(files__removed_at=None, files__isnull=False).order_by("id")]

    assert Run.objects.order_by(*NEWEST_FIRST).first().pk == numbers[1]
    now = datetime.now(timezone.utc)
    set_retention("from_wide", None, 2)
    try:
        with monkeypatch.context() as away:
            away.setattr(FolderStore, "discard", lambda *_, **__: (_ for _ in ()).throw(StoreUnwritable("the share is away.")))
            assert remove_old(now) == 0
        assert kept() == numbers, "what was not removed is not recorded as removed"
        remove_old(now)
        assert kept() == numbers[:2]
        set_retention("from_wide", 1, None)
        Run.objects.update(ended_at=now - timedelta(days=9))
        remove_old(now)
        assert kept() == [numbers[1]]
    finally:
        set_retention("from_wide", None, None)


def test_a_clock_that_steps_and_a_rule_that_changes_make_no_due_time_twice_and_lose_none(schedule, monkeypatch):
    from patient_ladle.service.processes import scheduler
    from patient_ladle.service.runs import recording
    from patient_ladle.service.schedules import services
    from patient_ladle.service.schedules.models import DueTime, Schedule

    start = datetime(2026, 11, 24, 6, 0, 30, tzinfo=timezone.utc)
    at = {"now": start}
    for module in (scheduler, services, recording):
        monkeypatch.setattr(module, "database_now", lambda: at["now"])
    schedule("minutely", rule="* * * * *", catch_up="all", while_running="parallel")
    Schedule.objects.update(next_due_at=start.replace(second=0))

    def recorded():
        return [due.due_at.minute for due in DueTime.objects.order_by("due_at")]

    scheduler.tick()
    assert recorded() == [0]
    at["now"] = start - timedelta(minutes=7)  # back: nothing is due a second time
    scheduler.tick()
    assert recorded() == [0]
    at["now"] = start + timedelta(minutes=4)  # and forward: none is lost
    scheduler.tick()
    scheduler.tick()
    assert recorded() == [0, 1, 2, 3, 4]
    services.edit_schedule("minutely", rule="*/2 * * * *")
    at["now"] = start + timedelta(minutes=9)
    scheduler.tick()
    assert recorded() == [0, 1, 2, 3, 4, 6, 8]
    services.edit_schedule("minutely", rule="* * * * *")  # reckoned from now, not from the past
    Schedule.objects.update(next_due_at=start.replace(second=0))  # as a restored database would have it
    scheduler.tick()
    assert recorded() == [0, 1, 2, 3, 4, 5, 6, 7, 8, 9]
    assert DueTime.objects.filter(runs__turn__gt=0).count() == 0
    assert [due.runs.count() for due in DueTime.objects.all()] == [1] * 10


def test_old_words_are_forgotten_and_the_records_stay(repository, monkeypatch):
    from patient_ladle.service.alerts.models import Alert
    from patient_ladle.service.alerts.services import open_problem, resolve_problem, tell
    from patient_ladle.service.ledger.models import LogLine, Run
    from patient_ladle.service.runs import retention

    [run] = queue(repository, "from_wide")
    finish(run)
    now, old = datetime.now(timezone.utc), datetime.now(timezone.utc) - timedelta(days=401)
    LogLine.objects.all().delete()
    lines = [LogLine(run=run, attempt=1, at=old, stage="", level="info", text=str(n)) for n in range(25)]
    LogLine.objects.bulk_create([*lines, LogLine(run=run, attempt=1, at=now, stage="", level="info", text="today")])
    Alert.objects.all().delete()
    for key in ("open", "ended"):
        open_problem(key, "failed", key, "it failed", "Look.", "/", mark="m")
    resolve_problem("ended", "well again", "it is")
    tell("summary", "the night", "all is well", "", "/")
    Alert.objects.update(at=old)
    monkeypatch.setattr(retention, "LINES", 10)
    assert [retention.forget_old(now) for _ in range(4)] == [13, 10, 5, 0]
    assert [line.text for line in LogLine.objects.all()] == ["today"]
    assert [alert.title for alert in Alert.objects.all()] == ["open"], "a problem that goes on keeps its words"
    assert Run.objects.filter(pk=run.pk).exists()
