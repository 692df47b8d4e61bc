"""A schedule run now, and its month at a glance."""

from __future__ import annotations

import random
from collections import Counter
from datetime import date, datetime, timedelta, timezone
from zoneinfo import ZoneInfo

import pytest

from patient_ladle.client.errors import CallFailed
from patient_ladle.core.errors import Conflict
from tests.conftest import printed, until

from .hands import put

ZONES = ("Europe/London", "Pacific/Auckland", "America/St_Johns", "UTC")


@pytest.fixture
def schedule(repository):
    from patient_ladle.service.schedules.services import add_schedule

    def made(name="glanced", **given):
        wanted = {"extract": "from_wide", "environment": "live", "rule": "daily 05:00", "zone": "UTC"} | given
        return add_schedule(repository, name, **wanted)

    return made


@pytest.mark.parametrize("seed", range(12))
def test_a_month_counts_what_a_slow_reckoning_counts(schedule, repository, seed):
    from patient_ladle.service.runs.schedule_month import month_of
    from patient_ladle.service.runs.services import queue_due_runs
    from patient_ladle.service.schedules.models import DueTime

    dice = random.Random(seed)
    zone = ZoneInfo(dice.choice(ZONES))
    made = schedule(zone=zone.key, then=[{"extract": "from_narrow"}] if seed % 2 else [])
    first = date(2026, dice.choice((3, 4, 10, 11)), 1)
    expected: dict[date, Counter] = {}
    begin = datetime(first.year, first.month, first.day, tzinfo=timezone.utc) - timedelta(days=3)
    for number in range(40):
        edge = dice.choice((0, 0, 1)) * timedelta(hours=dice.randrange(-15, 15))
        at = begin + timedelta(days=number) + timedelta(seconds=dice.randrange(86_400)) + edge
        decision = dice.choice(("run", "run", "skipped", "missed"))
        day = at.astimezone(zone).date()
        due_time, new = DueTime.objects.get_or_create(
            schedule=made, due_at=at, defaults={"data_date": day, "decision": decision, "reason": "drawn"}
        )
        assert new
        told = expected.setdefault(day, Counter())
        if decision != "run":
            told[decision] += 1
            continue
        for turn in range(dice.choice((1, 1, 2))):
            states = []
            for run in queue_due_runs(due_time, turn=turn):
                state, held = dice.choice(
                    (("finished", ""), ("finished", "held"), ("failed", ""), ("cancelled", ""), ("finished", "rejected"))
                )
                put(run, state, held=held)
                states.append(held or state)
        told.update(states)  # the last turn is what counts
    days, complete = month_of(made, first)
    assert complete
    assert [each.date for each in days] == [first + timedelta(days=n) for n in range(len(days))]
    assert days[-1].date.month == first.month != (days[-1].date + timedelta(days=1)).month
    assert {each.date: each.counts for each in days if each.counts} == {
        day: told for day, told in expected.items() if (day.year, day.month) == (first.year, first.month)
    }


def test_a_month_counts_what_is_to_come_and_nothing_while_it_is_paused(schedule, repository):
    from patient_ladle.service.runs.schedule_month import MOST_TO_COME, month_of
    from patient_ladle.service.schedules.services import edit_schedule, pause_schedule

    made, first = schedule(rule="weekdays 06:30, 18:00", zone="Europe/London"), date(2040, 2, 1)
    days, complete = month_of(made, first)
    assert complete
    assert [each.to_come for each in days] == [0 if each.date.weekday() > 4 else 2 for each in days]
    made = edit_schedule(made.name, rule="* * * * *")
    days, complete = month_of(made, first)
    assert not complete
    assert sum(each.to_come for each in days) == MOST_TO_COME
    made = pause_schedule(repository, made.name, "", None)
    assert (sum(each.to_come for each in month_of(made, first)[0]), month_of(made, first)[1]) == (0, True)


def test_a_run_now_runs_the_whole_sequence_once_and_not_beside_one_that_the_schedule_waits_for(schedule, repository):
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.runs.recording import run_now
    from patient_ladle.service.schedules.services import pause_schedule

    made = schedule("in_order", then=[{"extract": "from_narrow"}], while_running="skip")
    pause_schedule(repository, made.name, "the meters are swapped", None)
    due_time = run_now(repository, made.name)
    runs = list(Run.objects.filter(due_time=due_time).order_by("step"))
    assert [run.extract.name for run in runs] == ["from_wide", "from_narrow"]
    assert (due_time.decision, due_time.reason) == ("run", "started by amir")
    assert all(run.published and run.started_by == repository for run in runs)
    with pytest.raises(Conflict, match=r"has not ended, and the schedule runs nothing beside it"):
        run_now(repository, made.name)
    for run in runs:
        put(run, "finished")
    with pytest.raises(Conflict, match="a due time of this very second"):  # the tests' clock stands still
        run_now(repository, made.name)
    assert Run.objects.filter(due_time__schedule=made).count() == 2


def test_it_is_run_and_looked_at_from_the_command_line(service, tmp_path):
    with service.ladle("author") as ladle:
        ladle.schedules.add("run_by_hand", "district_use", "live", "daily 05:00", zone="UTC", first_date="2040-01-01")
        done = service.command("schedule", "run", "run_by_hand", "--into", str(tmp_path), name="runner")
        assert done.returncode == 0, done.stderr
        assert "delivered as " in service.command("run", "show", done.stdout.split()[1]).stdout
        assert len(list(tmp_path.glob("*.csv"))) == 1
        month = printed(service.command("schedule", "month", "run_by_hand", "--json", name="reader"))
        assert [day["counts"] for day in month["days"] if day["counts"]] == [{"finished": 1}]
        assert "1 finished" in service.command("schedule", "month", "run_by_hand", name="reader").stdout
        refused = service.command("schedule", "run", "run_by_hand", name="reader")
        assert (refused.returncode, "this needs runner" in refused.stderr) == (4, True)
        wrong = service.command("schedule", "month", "run_by_hand", "--month", "2026-13")
        assert (wrong.returncode, "which is not a date" in wrong.stderr) == (2, True)
        queued = service.command("schedule", "run", "run_by_hand", "--no-wait", name="runner").stdout
        number = int(queued.split()[1])
        until(lambda: ladle.runs.get(number)["state"] == "finished")
        ladle.schedules.remove("run_by_hand")


def pauses_of(ladle, names):
    found = {name: ladle.schedules.get(name) for name in names}
    return {name: (bool(s["paused_at"]), s["pause_reason"], s["paused_until"]) for name, s in found.items()}


def test_several_pauses_are_set_and_undone_on_states_made_at_random(service):
    names = [f"several_{n}" for n in range(5)]
    drawn = random.Random(20261129)
    kinds = [
        lambda name: {"name": name, "paused": False},
        lambda name: {"name": name, "paused": True, "reason": drawn.choice(["", "meter swap"])},
        lambda name: {"name": name, "paused": True, "reason": "holidays", "until": f"2099-01-0{drawn.randint(1, 9)}T06:00:00Z"},
    ]
    with service.ladle("author") as ladle:
        for name in names:
            ladle.schedules.add(name, "district_use", "live", "daily at 05:00", zone="UTC")
        for _ in range(12):
            ladle.schedules.set_pauses([drawn.choice(kinds)(name) for name in names])
            before = pauses_of(ladle, names)
            some = drawn.sample(names, drawn.randint(1, len(names)))
            wanted = [drawn.choice(kinds)(name) for name in some]
            undo = ladle.schedules.set_pauses(wanted)["before"]
            now = pauses_of(ladle, names)
            for each in wanted:
                reason, until = (each.get("reason", ""), each.get("until")) if each["paused"] else ("", None)
                assert now[each["name"]] == (each["paused"], reason, until)
            assert {name: now[name] for name in names if name not in some} == {n: before[n] for n in names if n not in some}
            ladle.schedules.set_pauses(undo)
            assert pauses_of(ladle, names) == before
        for wrong in (["nobody"], [names[0]]):
            with pytest.raises(CallFailed):
                ladle.schedules.pause_several([*names, *wrong], "not at all")
            assert pauses_of(ladle, names) == before
        with pytest.raises(CallFailed, match="which is past"):
            ladle.schedules.pause_several(names, "too late", "2020-01-01T00:00:00Z")
        assert pauses_of(ladle, names) == before
        paused = service.command("schedule", "pause", *names[:2], "--reason", "swap", name="author")
        assert "2 schedules are paused" in paused.stdout, paused.stderr
        assert {pauses_of(ladle, [name])[name] for name in names[:2]} == {(True, "swap", None)}
        told = printed(service.command("schedule", "resume", *names[:2], "--json", name="author"))
        assert [(s["name"], s["paused_at"]) for s in told] == [(name, None) for name in names[:2]]
        for name in names:
            ladle.schedules.remove(name)
