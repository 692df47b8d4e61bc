"""One alert per problem: told when it begins, changes and ends; sent with patience, never in anybody's way."""

from __future__ import annotations

import re
from datetime import date, datetime, timedelta, timezone

import pytest
from django.test import override_settings

from patient_ladle.core.errors import BadInput, Conflict, SourceUnreachable, StatementWrong
from patient_ladle.service.demo.mailbox import RunningMailbox

from .hands import put, queue
from .test_waiting import finish, schedule, tick  # noqa: F401  # a fixture and what moves time


@pytest.fixture
def told(repository):
    """Nothing was told yet; ``told()`` is what was since, as (kind, title), oldest first."""
    from patient_ladle.service.alerts.models import Alert, Channel, OpenProblem, Seen, Summary

    for model in (Summary, Alert, OpenProblem, Channel, Seen):
        model.objects.all().delete()
    return lambda: list(Alert.objects.order_by("at").values_list("kind", "title"))


def test_an_extract_that_fails_night_after_night_is_told_once_until_its_cause_changes_or_it_is_well(schedule, told):  # noqa: F811
    from patient_ladle.service.alerts.models import OpenProblem

    schedule(while_running="parallel")
    for night in range(1, 4):
        tick(night)
        finish(error=StatementWrong(f"no such column: x (line {night})."))
    assert told() == [("failed", "from_wide in live: failed")]
    tick(4)
    finish(error=StatementWrong("no such table: y."))
    assert told()[1:] == [("changed", "from_wide in live: failed")]
    assert OpenProblem.objects.get().count == 4
    tick(5)
    finish()
    assert told()[2:] == [("recovered", "from_wide in live runs again")]
    tick(6)
    finish()
    assert len(told()) == 3


def test_a_source_that_is_away_is_one_trouble_however_many_extracts_meet_it(schedule, told):  # noqa: F811
    for name in ("one", "two", "three"):
        schedule(name, attempts=1)
    tick()
    for _ in range(3):
        finish(error=SourceUnreachable("nothing listens there."))
    assert told() == [("source_unreachable", "source wide in live cannot be read")]
    tick(2)
    for _ in range(3):
        finish()
    assert told()[1:] == [("recovered", "source wide in live is back")]


def test_those_not_run_for_another_tell_nothing(schedule, told):  # noqa: F811
    schedule(then=[{"extract": "from_narrow"}])
    tick()
    finish(error=StatementWrong("no such column."))
    assert told() == [("failed", "from_wide in live: failed")]


def test_what_was_missed_is_one_alert_for_all_schedules(schedule, told):  # noqa: F811
    from patient_ladle.service.alerts.models import Alert

    for name in ("one", "two"):
        schedule(name, rule="* * * * *")
    tick(9)
    [(kind, title)] = told()
    assert kind == "missed"
    assert title in ("missed: 14 due times of 2 schedules", "missed: 16 due times of 2 schedules")
    assert Alert.objects.get().cause[-18:] in (
        "one (7), two (7).",
        "one (8), two (8).",
        " one (7), two (7).",
        " one (8), two (8).",
    )
    tick(0)
    assert len(told()) == 1


def test_late_is_told_and_so_is_in_time_again(schedule, told):  # noqa: F811
    from patient_ladle.service.ledger.waiting import mark_late

    schedule(
        zone="UTC", rule="every hour", finish_by=(datetime.now(timezone.utc) + timedelta(hours=2)).time().replace(microsecond=0)
    )
    tick()
    mark_late(datetime.now(timezone.utc) + timedelta(hours=3))
    assert told() == [("late", "yearly is late")]
    finish()
    tick(0)
    finish()
    assert told()[1:] == [("recovered", "yearly is in time again")]


def test_the_morning_is_summed_up_once(told, repository, settings_of_the_morning):
    from patient_ladle.service.runs.summaries import night_of, sum_up

    assert night_of(date(2026, 11, 27)) == "Night of 26–27 November 2026"
    assert night_of(date(2027, 1, 1)) == "Night of 31 December–1 January 2027"
    queue(repository, "from_wide", 2)
    finish()
    finish(error=StatementWrong("no such column."))
    now = datetime.now(timezone.utc)
    assert sum_up(now) is not None
    assert sum_up(now) is None
    [(kind, title)] = [each for each in told() if each[0] != "own_run"]
    assert (kind, title) == ("summary", f"{night_of(now.date())}: 1 needs attention")


@pytest.fixture
def settings_of_the_morning(orm):
    from django.test import override_settings

    with override_settings(SUMMARY_AT="00:00", TIME_ZONE="UTC"):
        yield


@pytest.fixture
def mailbox():
    running = RunningMailbox()
    running.start()
    yield running
    running.stop()


def test_alerts_go_to_the_channels_that_want_them_and_are_tried_again_with_patience(told, mailbox):
    from django.test import override_settings

    from patient_ladle.service.alerts.courier import send_due
    from patient_ladle.service.alerts.models import Sending
    from patient_ladle.service.alerts.services import add_channel, edit_channel, open_problem, resolve_problem, send_again

    with override_settings(WEBHOOK_PRIVATE=True):
        add_channel("desk", "webhook", {"url": f"{mailbox.url}/desk"}, "hush", ["failed"])
        add_channel("busy", "webhook", {"url": f"{mailbox.url}/busy"}, kinds=["failed"])
        add_channel("moved", "webhook", {"url": f"{mailbox.url}/moved"}, kinds=["failed"])
        edit_channel("moved", {"active": False})
    with override_settings(WEBHOOK_PRIVATE=True, PUBLIC_URL="https://ladle.fennmoor.example"):
        open_problem("k", "failed", "night_flow in live: failed", "no rows", "Look.", "/runs/7")
        before = datetime.now(timezone.utc)
        assert send_due() == 2
        after = datetime.now(timezone.utc)
        assert send_due() == 0
        resolve_problem("k", "night_flow runs again", "it is well")
        assert send_due() == 0, "neither channel wants to hear of recovery"
        states = dict(Sending.objects.values_list("channel__name", "state"))
        assert states == {"desk": "sent", "busy": "waiting"}
        [arrived] = mailbox.box.arrived
        assert '"link": "https://ladle.fennmoor.example/runs/7"' in arrived["text"]
        busy = Sending.objects.get(channel__name="busy")
        assert (busy.attempts, "answered 503" in busy.response) == (1, True)
        assert before + timedelta(seconds=5) < busy.next_at < after + timedelta(seconds=15)
        Sending.objects.filter(pk=busy.pk).update(attempts=9, next_at=busy.next_at - timedelta(hours=1))
        send_due()
        busy.refresh_from_db()
        assert (busy.state, busy.response.endswith("given up after 10 attempts")) == ("failed", True)
        assert send_again(busy.pk).state == "waiting"
        with pytest.raises(Conflict, match="is waiting"):
            send_again(busy.pk)


@pytest.fixture
def ended(told, repository):
    """``ended(own_runs, error)``: titles of what is told of a run by hand of somebody who chose that."""
    from patient_ladle.service.alerts.models import Alert
    from patient_ladle.service.alerts.services import choose_own

    def made(own_runs, error=None):
        Alert.objects.all().delete()
        choose_own(repository, own_runs)
        queue(repository, "from_wide")
        finish(error=error)
        assert not Alert.objects.filter(person=None).exists()
        return [(alert.kind, alert.title.split(": ")[0], alert.title.split()[-1]) for alert in Alert.objects.all()]

    yield made
    choose_own(repository, "failed", "")


def test_whoever_starts_a_run_is_told_of_it_as_they_choose(ended):
    failed, finished = ("own_run", "from_wide in live", "failed"), ("own_run", "from_wide in live", "finished")
    wrong = StatementWrong("no such column.")
    assert [ended(choice, wrong) for choice in ("nothing", "failed", "ended")] == [[], [failed], [failed]]
    assert [ended(choice) for choice in ("nothing", "failed", "ended")] == [[], [], [finished]]


def test_a_alert_for_one_is_in_that_persons_bell_and_mail_alone(ended, repository, mailbox):
    from patient_ladle.service.alerts.courier import send_due
    from patient_ladle.service.alerts.models import Sending
    from patient_ladle.service.alerts.services import add_channel, choose_own, edit_channel, for_the_eyes_of, unseen_by
    from patient_ladle.service.people.models import Person

    other, _ = Person.objects.get_or_create(name="lena", defaults={"role": "reader"})
    way = {"host": "127.0.0.1", "port": str(mailbox.mail.port), "security": "none",
           "sender": "ladle@fennmoor.example", "to": "duty@fennmoor.example"}  # fmt: skip
    add_channel("duty", "mail", way)
    choose_own(repository, mail="amir@fennmoor.example")
    ended("failed", StatementWrong("no such column."))
    assert (unseen_by(repository), unseen_by(other)) == (1, 0)
    assert [for_the_eyes_of(each).count() for each in (repository, other)] == [1, 0]
    assert Sending.objects.count() == 0, "no channel takes alerts to people"
    edit_channel("duty", {"for_people": True})
    ended("failed", StatementWrong("no such column."))
    assert send_due() == 1
    [arrived] = mailbox.box.arrived
    assert "amir@fennmoor.example" in arrived["to"]
    assert "duty" not in arrived["to"]
    Person.objects.filter(pk=repository.pk).update(role="runner")
    ended("failed", StatementWrong("no such column: salary."))
    assert for_the_eyes_of(repository).get().cause == "the database rejected the statement."
    Person.objects.filter(pk=repository.pk).update(role="author")
    with pytest.raises(BadInput, match="more than one address"):
        choose_own(repository, mail="a@fennmoor.example, b@fennmoor.example")
    with pytest.raises(BadInput, match="no addresses of people"):
        add_channel("desk", "webhook", {"url": "https://fennmoor.example"}, for_people=True)


def test_channels_over_the_command_line_and_the_bell(service, http, mailbox):
    inside = service.command("channel", "add", "cli", "--kind", "webhook", "--set", f"url={mailbox.url}/cli")
    assert (inside.returncode, "LADLE_WEBHOOK_PRIVATE=yes" in inside.stderr) == (2, True), (
        "inside the house: refused unless allowed"
    )
    given = ("--set", "url=https://alerts.fennmoor.example/cli", "--only", "failed,held")
    made = service.command("channel", "add", "cli", "--kind", "webhook", *given)
    assert "alerts      failed, held" in made.stdout, made.stderr
    assert "failed, held" in service.command("channel", "list").stdout
    tried = service.command("channel", "test", "cli")
    assert (tried.returncode, "'alerts.fennmoor.example' is not known" in tried.stdout) == (1, True), tried.stdout
    assert "waiting" in service.command("alert", "sent").stdout
    assert "no kind of alert 'fail'" in service.command("channel", "edit", "cli", "--only", "fail").stderr
    edited = service.command("channel", "edit", "cli", "--active", "no")
    assert re.search(r"^active +no$", edited.stdout, re.MULTILINE), edited.stdout + edited.stderr
    assert http("GET", "/channels", "runner").status_code == 403
    before = http("GET", "/bell", "reader").json()["unseen"]
    assert before >= 1
    assert http("POST", "/bell", "reader").status_code == 204
    assert http("GET", "/bell", "reader").json()["unseen"] == 0
    assert "a test of channel cli" in service.command("alert", "list").stdout
    assert service.command("channel", "remove", "cli", "--yes").stdout == "channel cli is removed\n"
    assert "mail" in service.command("channel", "kinds").stdout


def test_a_channel_that_cannot_be_is_refused(told):
    from patient_ladle.service.alerts.services import add_channel

    for given, said in (
        (("Desk", "webhook", {"url": "http://a/"}), "cannot be the name of a channel"),
        (("desk", "pigeon", {}), "there is no kind of channel 'pigeon'"),
        (("desk", "webhook", {"url": "http://a/"}, "", ["oops"]), "there is no kind of alert 'oops'"),
    ):
        with pytest.raises(BadInput, match=said):
            add_channel(*given)


def test_the_night_names_what_needs_a_person_and_leaves_out_what_was_put_right(schedule, told, orm):  # noqa: F811
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.ledger.states import FINISHED
    from patient_ladle.service.runs.night import last_evening, night_to

    schedule(zone="UTC")
    tick()
    finish(error=StatementWrong("no such column: x.", "Correct it."))
    now = datetime.now(timezone.utc)
    night = night_to(now)
    assert [(need.kind, need.cause, need.hint) for need in night.needs] == [("failed", "no such column: x.", "Correct it.")]
    assert "1 failed" in night.sentence
    failed = Run.objects.get()
    tick(0)
    finish()
    later = Run.objects.exclude(pk=failed.pk).get()
    Run.objects.filter(pk=later.pk).update(
        data_date=failed.data_date, held="held", findings=[{"text": "rows: 3", "then": "hold"}]
    )
    assert [(need.kind, need.cause) for need in night_to(now).needs] == [("held", "rows: 3")]
    far = now + timedelta(days=9)
    assert [need.kind for need in night_to(far).needs] == ["held"], "a decision is wanted however old it is"
    Run.objects.filter(pk=later.pk).update(held="", state=FINISHED, late=True)
    assert [need.kind for need in night_to(now).needs] == ["late"]
    assert (night_to(far).needs, night_to(far).sentence) == ([], "no runs.")
    with override_settings(TIME_ZONE="Europe/London"):
        for hour, evening in ((6, (24, 18)), (17, (24, 18)), (23, (24, 18)), (1, (24, 18))):
            at = datetime(2026, 11, 26 if hour == 1 else 25, hour, 30, tzinfo=timezone.utc)
            began = last_evening(at)
            assert (began.day, began.hour) == ((25, 18) if hour == 1 else evening)


def test_failed_comes_before_held_before_late_and_a_run_queued_long_ago_still_counts(repository, orm):
    from patient_ladle.service.runs.night import night_to

    runs = queue(repository, "from_wide", 5)
    changes = (
        {"state": "not_run"},
        {"state": "failed"},
        {"state": "finished", "held": "held"},
        {"state": "finished", "late": True},
        {"state": "queued", "queued_at": runs[0].queued_at - timedelta(days=3)},
    )
    for day, (run, change) in enumerate(zip(runs, changes, strict=True)):
        put(run, data_date=run.data_date - timedelta(days=day), **change)
    night = night_to(datetime.now(timezone.utc))
    assert [need.kind for need in night.needs] == ["failed", "not_run", "held", "late"]
    assert night.states["queued"] == 1


def test_who_was_not_told_of_a_trouble_is_not_told_that_it_is_over(told):
    from patient_ladle.service.alerts.models import Channel, Sending
    from patient_ladle.service.alerts.services import open_problem, resolve_problem

    for name, kinds in (
        ("all", []),
        ("held too", ["held", "changed", "recovered"]),
        ("failed", ["failed", "changed", "recovered"]),
    ):
        Channel.objects.create(name=name, kind="webhook", settings={}, kinds=kinds)
    open_problem("k", "held", "run 7 is held", "too few rows")
    open_problem("k", "held", "run 7 is held", "no rows at all")
    resolve_problem("k", "run 7 is released", "by amir")
    sent = [(sending.channel.name, sending.alert.kind) for sending in Sending.objects.order_by("alert__at", "channel__name")]
    assert sent == [(name, kind) for kind in ("held", "changed", "recovered") for name in ("all", "held too")]
    Channel.objects.all().delete()


def test_a_clock_that_jumps_while_a_worker_runs_is_told_once_and_when_it_is_right_again(told, monkeypatch):
    from patient_ladle.service.ledger import registration

    from .hands import worker

    row, off = worker("w1"), {"seconds": 0.0}
    monkeypatch.setattr(registration, "_clock_seconds", lambda: off["seconds"])
    for seconds in (0.4, 90.0, 91.5, -30.0, 0.2, 0.1):
        off["seconds"] = seconds
        registration.mind_clock(row)
    assert [kind for kind, _ in told()] == ["clock", "recovered"]
    assert type(row).objects.get(pk="w1").clock_seconds == 0.2
