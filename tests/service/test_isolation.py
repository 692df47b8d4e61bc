"""A fault of one is its own: the others go on, it is recorded where it belongs, told, and passes when it is mended."""

from __future__ import annotations

import time
from collections import Counter
from datetime import datetime, timedelta, timezone

import pytest

from patient_ladle.core.errors import Conflict, SecretUnreadable

from .hands import overdue, queue, worker


@pytest.fixture
def quiet(repository):
    """Nothing was told yet; ``quiet()`` gives the kinds that were told since."""
    from patient_ladle.service.alerts.models import Alert, Channel, OpenProblem

    for model in (Alert, OpenProblem, Channel):
        model.objects.all().delete()
    return lambda: list(Alert.objects.order_by("at").values_list("kind", flat=True))


def due_times_of(name):
    from patient_ladle.service.schedules.models import DueTime

    return list(DueTime.objects.filter(schedule__name=name).order_by("due_at").values_list("due_at", "decision"))


def every_minute(since, now):
    """The due times of every minute, by counting."""
    minutes = int((now - since).total_seconds() // 60)
    return [since + timedelta(minutes=n) for n in range(minutes + 1)]


def test_a_schedule_that_cannot_be_recorded_is_set_aside_told_and_caught_up_with_when_it_is_mended(
    repository, quiet, monkeypatch
):
    from patient_ladle.service.processes import scheduler
    from patient_ladle.service.runs import recording
    from patient_ladle.service.schedules.models import Schedule

    since = overdue(repository, 5)
    now, real = scheduler.database_now(), recording.due_runs

    def faulty(due_time, **origin):
        if due_time.schedule.name == "each-minute-2":
            raise RuntimeError("nobody thought of this")
        return real(due_time, **origin)

    monkeypatch.setattr(recording, "due_runs", faulty)
    for _ in range(2):
        scheduler.tick()
    for number in (0, 1, 3, 4):
        assert [at for at, _ in due_times_of(f"each-minute-{number}")] == every_minute(since, now)
    assert due_times_of("each-minute-2") == []
    aside = Schedule.objects.get(name="each-minute-2")
    assert (aside.next_due_at, aside.fault) == (since, "RuntimeError: a fault of the service's own.")
    assert aside.look_again_at > datetime.now(timezone.utc)
    assert quiet() == ["not_run", "missed"], "its problem once, and what the others missed"
    monkeypatch.setattr(recording, "due_runs", real)
    scheduler.tick()
    assert due_times_of("each-minute-2") == [], "it is looked at again later"
    Schedule.objects.update(look_again_at="2026-01-01T00:00:00Z")
    scheduler.tick()
    found = due_times_of("each-minute-2")
    assert [at for at, _ in found] == every_minute(since, now)
    assert Counter(decision for _, decision in found) == {"missed": len(found) - 1, "run": 1}
    aside.refresh_from_db()
    assert (aside.fault, aside.look_again_at) == ("", None)
    assert quiet()[2:] == ["recovered", "missed"]


CHANGES = {
    "rule": lambda services, person, name: services.edit_schedule(name, rule="0 6 1 1 *"),
    "zone": lambda services, person, name: services.edit_schedule(name, zone="Asia/Tokyo"),
    "values": lambda services, person, name: services.edit_schedule(name, priority="high"),
    "pause": lambda services, person, name: services.pause_schedule(person, name, "the pump is being mended"),
    "resume": lambda services, person, name: services.resume_schedule(name),
    "remove": lambda services, person, name: services.remove_schedule(name),
    "calendar": lambda services, person, name: services.save_calendar(person, "days", country="GB", region="SCT"),
}


@pytest.mark.parametrize("change", CHANGES)
def test_what_fell_due_is_recorded_under_the_old_rule_before_a_schedule_is_changed(repository, quiet, change):
    """As after an outage, or while the scheduler is frozen: nothing but the change itself records it."""
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.processes import scheduler
    from patient_ladle.service.schedules import services
    from patient_ladle.service.schedules.models import Schedule

    services.save_calendar(repository, "days", country="GB", region="ENG")
    since = overdue(repository, 2)
    name = "each-minute-0"
    services.edit_schedule("each-minute-1", calendar="days")
    if change == "calendar":
        services.edit_schedule(name, calendar="days")
    if change == "resume":
        services.pause_schedule(repository, name, "the pump is being mended")
    Run.objects.all().delete()
    from patient_ladle.service.schedules.models import DueTime

    DueTime.objects.all().delete()
    Schedule.objects.update(next_due_at=since)
    now = services.database_now()
    CHANGES[change](services, repository, name)
    found = due_times_of(name)
    assert [at for at, _ in found][: len(every_minute(since, now))] == every_minute(since, now)
    wanted = {"skipped": len(found)} if change == "resume" else {"missed": len(found) - 1, "run": 1}
    assert Counter(decision for _, decision in found) == wanted
    changed = Schedule.objects.get(name=name)
    assert changed.next_due_at is None if change == "remove" else changed.next_due_at > now
    if change != "calendar":
        assert due_times_of("each-minute-1") == [], "the others wait for the scheduler"
    scheduler.tick()


@pytest.mark.parametrize("change", ["rule", "zone", "calendar"])
def test_a_due_time_that_comes_while_a_schedule_is_changed_is_not_lost(repository, monkeypatch, change):
    """Each look at the clock is 40 seconds later than the one before it: what finds nothing due is followed by one that would."""
    from patient_ladle.service.runs import recording
    from patient_ladle.service.schedules import services
    from patient_ladle.service.schedules.models import Schedule

    services.save_calendar(repository, "days", country="GB", region="ENG")
    since = overdue(repository, 1, minutes=2)
    if change == "calendar":
        services.edit_schedule("each-minute-0", calendar="days")
    looks = [since + timedelta(minutes=3)]

    def later():
        looks.append(looks[-1] + timedelta(seconds=40))
        return looks[-2]

    for module in (services, recording):
        monkeypatch.setattr(module, "database_now", later)
    rule = {"rule": lambda: services.edit_schedule("each-minute-0", rule="*/1 * * * *")}.get(change)
    (rule or (lambda: CHANGES[change](services, repository, "each-minute-0")))()
    following = Schedule.objects.get(name="each-minute-0").next_due_at
    assert [at for at, _ in due_times_of("each-minute-0")] + [following] == every_minute(since, following)


def test_a_schedule_whose_runs_cannot_be_made_can_be_changed_all_the_same(repository, quiet, monkeypatch):
    from patient_ladle.service.runs import recording
    from patient_ladle.service.schedules import services

    since = overdue(repository, 1)
    now = services.database_now()
    monkeypatch.setattr(recording, "due_runs", lambda *_, **__: (_ for _ in ()).throw(RuntimeError("nobody thought of this")))
    services.edit_schedule("each-minute-0", rule="0 6 1 1 *")
    found = due_times_of("each-minute-0")
    assert [at for at, _ in found] == every_minute(since, now)
    assert Counter(decision for _, decision in found) == {"missed": len(found) - 1, "skipped": 1}
    assert quiet() == ["not_run"]


def test_a_change_is_refused_while_more_has_fallen_due_than_can_be_recorded_at_once(repository, monkeypatch):
    from patient_ladle.service.runs import recording
    from patient_ladle.service.schedules import services

    overdue(repository, 1, minutes=60)
    monkeypatch.setattr(recording, "RECORDS", 2)
    monkeypatch.setattr(recording, "MOST_LOOKS", 5)
    with pytest.raises(Conflict, match="more due times that are not recorded yet"):
        services.edit_schedule("each-minute-0", rule="0 6 1 1 *")
    assert due_times_of("each-minute-0") == [], "and nothing of it was half done"


def test_due_times_that_are_skipped_for_a_fault_are_told_once_and_when_they_run_again(repository, quiet):
    from patient_ladle.service.extracts.services import archive_extract, restore_extract
    from patient_ladle.service.processes.scheduler import tick
    from patient_ladle.service.schedules.models import Schedule

    since = overdue(repository, 1, minutes=5)
    Schedule.objects.update(catch_up="all", while_running="parallel")
    try:
        archive_extract("from_wide")
        for minutes in (0, 10):
            Schedule.objects.update(next_due_at=since - timedelta(minutes=minutes))
            tick()
        assert Counter(decision for _, decision in due_times_of("each-minute-0")) == {"skipped": 16}
        assert quiet().count("not_run") == 1
    finally:
        restore_extract(repository, "from_wide", None)
    Schedule.objects.update(next_due_at=since - timedelta(minutes=20))
    tick()
    assert [kind for kind in quiet() if kind != "missed"] == ["not_run", "recovered"]


def test_a_waiting_run_that_meets_a_fault_holds_up_no_other(repository, monkeypatch):
    from patient_ladle.service.ledger import waiting
    from patient_ladle.service.ledger.models import Run

    runs = queue(repository, "from_wide", 3)
    Run.objects.update(state="waiting", wait_until="2026-01-01T00:00:00Z")
    real = waiting._blocker

    def faulty(run):
        if run.pk == runs[1].pk:
            raise RuntimeError("nobody thought of this")
        return real(run)

    monkeypatch.setattr(waiting, "_blocker", faulty)
    now = datetime.now(timezone.utc)
    waiting.settle_due(now)
    assert [run.state for run in Run.objects.order_by("id")] == ["queued", "waiting", "queued"]
    left = Run.objects.get(pk=runs[1].pk)
    assert left.wait_until > now
    assert "a fault of the service's own" in left.log.order_by("id").last().text


def test_quiet_hours_that_cannot_be_read_hold_back_their_own_source_only(repository):
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.sources.models import Source

    queue(repository, "from_wide"), queue(repository, "from_narrow")
    Source.objects.filter(name="wide").update(quiet_hours="whenever")
    try:
        assert ledger.claim(worker("w1")).extract.name == "from_narrow"
        assert ledger.claim(worker("w2")) is None
    finally:
        Source.objects.update(quiet_hours="")


@pytest.mark.parametrize("part", ["tick", "look_after_waiting"])
def test_what_one_part_of_a_look_cannot_do_the_other_does(repository, monkeypatch, part):
    from patient_ladle.service.ledger.models import Pulse
    from patient_ladle.service.processes import scheduler

    Pulse.objects.all().delete()
    done = []

    def faulty(*_):
        raise RuntimeError("nobody thought of this")

    for name in ("tick", "look_after_waiting"):
        monkeypatch.setattr(scheduler, name, faulty if name == part else lambda *_, name=name: done.append(name))
    scheduler.look(None)
    assert len(done) == 1
    assert Pulse.objects.filter(pk="scheduler").exists() is (part != "tick"), "it lives only if it records due times"


def test_a_secret_that_cannot_be_read_is_a_fault_of_its_own_source_and_channel(repository, quiet, tmp_path, monkeypatch):
    from django.test import override_settings

    from patient_ladle.service.alerts import courier
    from patient_ladle.service.alerts.models import Channel, Sending
    from patient_ladle.service.alerts.services import tell
    from patient_ladle.service.processes.scheduler import tick
    from patient_ladle.service.sources.models import Address
    from patient_ladle.service.sources.queries import connection_spec

    with override_settings(DATA=tmp_path / "elsewhere"):
        Address.objects.filter(source__name="wide").update(secret="hush-hush-44")
        Channel.objects.create(name="sealed", kind="webhook", settings={"url": "https://a.example/"}, secret="hush-hush-45")
    Channel.objects.create(name="open", kind="webhook", settings={"url": "https://b.example/"})
    try:
        wide, narrow = (Address.objects.select_related("source", "environment").get(source__name=n) for n in ("wide", "narrow"))
        with pytest.raises(SecretUnreadable, match="the secret of 'wide' in 'live' cannot be read"):
            connection_spec(wide)
        assert connection_spec(narrow)["secret"] == ""
        wide.last_check = []
        wide.save()
        assert Address.objects.get(pk=wide.pk).secret == "(cannot be read)", "saving its row does not seal the stand-in"
        overdue(repository, 1)
        tick()
        assert due_times_of("each-minute-0")[-1][1] == "run", "the run says what is wrong"
        sent = []

        class Kind:
            def send(self, message, settings, secret, reach):
                sent.append(settings["url"])
                return "taken"

        monkeypatch.setattr(courier, "get_channel", lambda _: Kind())
        Sending.objects.all().delete()
        tell("held", "a title", "a cause")
        courier.send_due()
        assert sent == ["https://b.example/"]
        states = dict(Sending.objects.values_list("channel__name", "response"))
        assert "the secret of channel 'sealed' cannot be read" in states["sealed"]
    finally:
        Address.objects.filter(source__name="wide").update(secret="")
        Channel.objects.all().delete()


def test_nothing_runs_is_said_by_health_and_told_by_the_web_itself(repository, quiet, monkeypatch):
    from django.db.models.functions import Now

    from patient_ladle.service.ledger import pulses
    from patient_ladle.service.ledger.models import Pulse, Worker
    from patient_ladle.service.runs import health

    sent = []
    monkeypatch.setattr(pulses.courier, "send_due", lambda: sent.append(quiet()))
    Pulse.objects.all().delete()
    monkeypatch.setattr(pulses, "_BEGAN", time.monotonic())
    assert health.health(None).status_code == 200, "a service that was just started is given its time"
    monkeypatch.setattr(pulses, "_BEGAN", -1e9)
    words = [
        "nothing records due times so far",
        "nothing looks after space and old results so far",
        "no worker carries out runs",
    ]
    assert pulses.what_does_not_run() == words
    for _ in range(2):
        pulses.look()
    assert sent == [["nothing_runs"], ["nothing_runs"]], "told once, and taken to its channels without a scheduler"
    assert health.health(None).status_code == 503
    for name in ("scheduler", "upkeep"):
        Pulse.beat(name)
    me = worker("w1")
    Worker.objects.filter(pk=me.pk).update(beat_at=Now(), draining=True)
    assert pulses.what_does_not_run() == ["every worker is draining, so that queued runs wait"]
    Worker.objects.update(draining=False)
    pulses.look()
    assert (health.health(None).status_code, quiet()[-1]) == (200, "recovered")
    Worker.objects.update(beat_at=Now() - timedelta(hours=1))
    [words] = pulses.what_does_not_run()
    assert words.startswith("no worker carries out runs since 20")
