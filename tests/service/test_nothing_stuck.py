"""Whatever whoever minds a thing does, or does not: a run, a query, a delivery, a sending ends, and it is told."""

from __future__ import annotations

import os
import threading

import pytest

from patient_ladle.core.errors import StatementWrong
from tests.command import PATIENCE
from tests.conftest import until

from .hands import claimed_by, frozen_in
from .test_deliveries import claimed, into, outcome_of, settings_of  # noqa: F401  # fixtures
from .test_worker import in_thread, worker  # noqa: F401  # fixtures


@pytest.fixture
def impatient(worker, monkeypatch, settings_of):  # noqa: F811
    """The worker, whose every wait is over at once."""
    from patient_ladle.service.processes import worker as module

    for name in ("GRACE_SECONDS", "UNMINDED_SECONDS"):
        monkeypatch.setattr(module, name, 0.0)
    for name in ("CANCEL_SECONDS", "DELIVERY_SECONDS"):
        monkeypatch.setattr(module, name, 0.01)
    settings_of(STILL_SECONDS=0.0)
    return worker


def alerts():
    from patient_ladle.service.alerts.models import Alert

    return list(Alert.objects.order_by("at").values_list("kind", flat=True))


@pytest.mark.parametrize("cancelled", [False, True])
def test_a_run_that_is_in_nobodys_hands_ends(impatient, repository, cancelled):
    run = claimed_by(impatient, repository)
    if cancelled:
        type(run).objects.filter(pk=run.pk).update(cancel_asked_by="amir")
    impatient._end_unminded()
    impatient.unminded = {place: since - 1 for place, since in impatient.unminded.items()}
    impatient._end_unminded()
    run.refresh_from_db()
    assert (run.state, run.error["code"]) == ("cancelled" if cancelled else "failed", "worker_lost")
    impatient._end_unminded()
    assert impatient.unminded == {}


def test_a_run_that_is_in_somebodys_hands_is_left_to_them(impatient, repository):
    run = claimed_by(impatient, repository)
    impatient.in_hand.add((run.pk, run.attempt))
    for _ in range(3):
        impatient._end_unminded()
    run.refresh_from_db()
    assert (run.state, impatient.unminded) == ("running", {})


def test_a_last_word_that_cannot_be_kept_is_followed_by_a_plainer_one(impatient, repository, monkeypatch):
    from patient_ladle.service.ledger import work as ledger

    run, fail = claimed_by(impatient, repository), ledger.fail

    def choosy(run, error):
        if error.code != "worker_lost":
            raise ValueError("what is that?")
        fail(run, error)

    def minded(run):
        raise StatementWrong("odd words")

    monkeypatch.setattr(ledger, "fail", choosy)
    monkeypatch.setattr(impatient, "_mind", minded)
    impatient.carry_out(run)
    run.refresh_from_db()
    assert (run.state, run.error["message"]) == ("failed", "the run failed, and what was said of it could not be kept.")


def test_a_run_whose_last_word_finds_the_record_away_for_long_ends_once_it_is_back(impatient, repository, monkeypatch):
    import psycopg

    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.processes import worker as module

    run, fail = claimed_by(impatient, repository), ledger.fail

    def away(*_):
        raise psycopg.OperationalError("the server has gone")

    def minded(run):
        raise StatementWrong("no such column")

    monkeypatch.setattr(module, "AWAY_SECONDS", -1.0)
    monkeypatch.setattr(ledger, "fail", away)
    monkeypatch.setattr(impatient, "_mind", minded)
    impatient.carry_out(run)
    assert type(run).objects.get(pk=run.pk).state == "running"
    monkeypatch.setattr(ledger, "fail", fail)
    impatient._end_unminded()
    impatient.unminded = {place: since - 1 for place, since in impatient.unminded.items()}
    impatient._end_unminded()
    run.refresh_from_db()
    assert (run.state, run.error["code"]) == ("failed", "worker_lost")


def test_a_delivery_that_ended_meanwhile_is_not_told_of(impatient, waiting):
    from patient_ladle.service.ledger.delivering import claim_delivery, deliver_stored, delivery_hangs

    run = claim_delivery(impatient.row)
    deliver_stored(run)
    before = alerts()
    delivery_hangs(run, 900)
    assert alerts() == before


def test_a_run_of_which_nothing_moves_is_ended_and_says_where_it_stood(impatient, repository, monkeypatch):
    frozen_in("store", monkeypatch, impatient)
    run = claimed_by(impatient, repository)
    with in_thread(impatient.watch_over):
        impatient.carry_out(run)
        impatient.leaving.set()
    run.refresh_from_db()
    assert (run.state, run.error["code"]) == ("failed", "deadline_exceeded")
    assert run.error["message"] == "nothing of the run has moved for 0 minutes, in its stage 'store'."


def test_a_run_ends_whose_child_not_even_force_ends(impatient, repository, monkeypatch):
    """A child that waits for a disk that hangs stays as it is whatever it is sent: the run ends without it."""
    from patient_ladle.service.children.launch import Child

    monkeypatch.setattr(Child, "kill", lambda self: None)
    children = frozen_in("store", monkeypatch, impatient)
    run = claimed_by(impatient, repository)
    with in_thread(impatient.watch_over), in_thread(lambda: impatient.carry_out(run)):
        until(lambda: type(run).objects.get(pk=run.pk).state == "failed")
        assert impatient.minded, "its thread still waits, and has its place"
        [child] = children
        child.process.kill()
        until(lambda: not impatient.minded)
        impatient.leaving.set()
    run.refresh_from_db()
    assert (run.state, run.error["code"]) == ("failed", "deadline_exceeded")


def test_what_moves_is_left_alone():
    from patient_ladle.service.processes import movement

    over = threading.Event()
    numbers = []

    def work():
        numbers.append(threading.get_native_id())
        while not over.is_set():
            os.pread(own, 1 << 20, 0)

    own = os.open("/dev/zero", os.O_RDONLY)
    thread = threading.Thread(target=work)
    thread.start()
    until(lambda: numbers)
    of = movement.Movement.of_thread(numbers[0])
    of.since -= 1_000
    until(lambda: of.still_seconds() < 500)
    over.set()
    thread.join()
    os.close(own)
    of.since -= 1_000
    of.mark = movement._used(of.place)
    assert of.still_seconds() > 900, "it has ended, and moves no more"


@pytest.fixture
def waiting(claimed, into, settings_of):  # noqa: F811
    """A finished run whose first delivery did not go well, due again."""
    from patient_ladle.service.ledger import work as ledger

    run = claimed("first")
    outcome = outcome_of(run, into)
    (into / "use.datapackage.json").mkdir()
    ledger.publish(run, outcome)
    (into / "use.datapackage.json").rmdir()
    type(run).objects.filter(pk=run.pk).update(deliver_at="2026-01-01T00:00:00Z")
    run.refresh_from_db()
    assert run.delivery == "waiting"
    return run


def test_a_delivery_that_hangs_is_told_of_and_made_again_and_the_try_that_hung_does_nothing_more(
    impatient, waiting, monkeypatch
):
    from patient_ladle.service.ledger import delivering
    from patient_ladle.service.ledger.models import TargetToClear

    hung, go_on = threading.Event(), threading.Event()
    prove = delivering._prove

    def hangs(run, plan):
        hung.set()
        assert go_on.wait(PATIENCE)
        prove(run, plan)

    monkeypatch.setattr(delivering, "_prove", hangs)
    with in_thread(impatient.deliver):
        assert hung.wait(PATIENCE)
        until(lambda: type(waiting).objects.get(pk=waiting.pk).delivery == "waiting")
        impatient.draining = True
        waiting.refresh_from_db()
        assert "nothing of this delivery has moved" in waiting.delivery_error["message"]
        assert (alerts()[-1], TargetToClear.objects.count(), list(impatient.delivering)) == ("not_delivered", 1, [waiting.pk])
        go_on.set()
        until(lambda: not impatient.delivering)
        impatient.stop.set()
    waiting.refresh_from_db()
    assert (waiting.delivery, waiting.files.get().delivered_path) == ("waiting", "")


def test_a_delivery_that_is_in_nobodys_hands_is_made_again(impatient, waiting):
    from patient_ladle.service.ledger.delivering import claim_delivery

    assert claim_delivery(impatient.row).pk == waiting.pk
    impatient._end_unminded()
    impatient.unminded = {place: since - 1 for place, since in impatient.unminded.items()}
    impatient._end_unminded()
    waiting.refresh_from_db()
    assert (waiting.delivery, waiting.deliverer, waiting.delivery_attempts) == ("waiting", None, 2)
    assert claim_delivery(impatient.row).pk == waiting.pk, "at once"


def test_a_query_that_nobody_minds_or_asks_for_ends(orm, repository):
    from datetime import timedelta

    from django.utils import timezone

    from patient_ladle.service.sources.interactive import LOST_SECONDS, end_lost
    from patient_ladle.service.sources.models import InteractiveQuery

    now = timezone.now()
    long_ago, lately = now - timedelta(seconds=LOST_SECONDS + 1), now - timedelta(seconds=LOST_SECONDS - 5)
    for number, deadline in (("lost", long_ago), ("late", lately)):
        InteractiveQuery.objects.create(
            id=number, person=repository, kind="rows", request={}, state="running", deadline_at=deadline
        )
    assert end_lost(now) == 1
    states = dict(InteractiveQuery.objects.filter(pk__in=("lost", "late")).values_list("pk", "state"))
    assert states == {"lost": "failed", "late": "running"}


def test_what_cannot_be_kept_of_a_query_is_followed_by_a_plainer_word(orm, repository, monkeypatch):
    from datetime import timedelta

    from django.utils import timezone

    from patient_ladle.service.sources import interactive
    from patient_ladle.service.sources.models import InteractiveQuery

    until_then = timezone.now() + timedelta(minutes=1)
    InteractiveQuery.objects.create(id="odd", person=repository, kind="rows", request={}, deadline_at=until_then)
    monkeypatch.setattr(interactive, "_carried_out", lambda *_: {"rows": [["a\0b"]]})
    interactive._mind("odd", [], {})
    found = InteractiveQuery.objects.get(pk="odd")
    assert (found.state, found.error["code"]) == ("failed", "service_fault")


def test_a_sending_that_hangs_is_given_up_and_its_channel_alone_waits(orm, repository, monkeypatch, settings_of):  # noqa: F811
    from patient_ladle.service.alerts import courier
    from patient_ladle.service.alerts.models import Channel, Sending
    from patient_ladle.service.alerts.services import add_channel, tell

    Channel.objects.all().delete()
    monkeypatch.setattr(courier, "SEND_SECONDS", 0.2)
    go_on, ended = threading.Event(), threading.Event()

    class Odd:
        @staticmethod
        def send(message, wanted, secret, reach):
            if wanted["url"].endswith("hangs"):
                go_on.wait(PATIENCE)
                ended.set()
            return "taken, with a \0"

    for name in ("hangs", "odd"):
        add_channel(name, "webhook", {"url": f"https://alerts.fennmoor.example/{name}"})
    monkeypatch.setattr(courier, "get_channel", lambda kind: Odd)
    tell("failed", "night_flow in live: failed", "no rows")
    said = [(courier.send_due(), dict(Sending.objects.values_list("channel__name", "response")))]
    Sending.objects.update(next_at="2026-01-01T00:00:00Z")
    said.append((courier.send_due(), dict(Sending.objects.values_list("channel__name", "response"))))
    assert [count for count, _ in said] == [2, 1]
    assert {each["odd"] for _, each in said} == {"taken, with a \u2400"}
    assert "had not taken it after 0.2 s" in said[0][1]["hangs"]
    assert "an earlier sending to 'hangs' has not ended yet" in said[1][1]["hangs"]
    go_on.set()
    assert ended.wait(PATIENCE)
    Channel.objects.all().delete()
