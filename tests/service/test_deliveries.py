"""Deliveries that do not go as they should: the result stays, the problem is told, and a person decides."""

from __future__ import annotations

import hashlib
import importlib
import os
import subprocess
from datetime import timedelta
from pathlib import Path

import pytest

from patient_ladle.adapters.deliveries import KINDS
from patient_ladle.adapters.deliveries.folder import FolderKind
from patient_ladle.core.errors import BadInput, Conflict, Fenced, ServiceFault, StoreUnwritable, WorkerLost
from patient_ladle.core.ports import DeliveryPlan
from tests.adapters.deliveries.memory_kind import Shelves
from tests.command import PATIENCE
from tests.conftest import until

from .hands import queue, worker

DATA = b"a\n1\n"


@pytest.fixture
def into(repository, tmp_path, settings_of):
    """An empty folder that deliveries may go into."""
    settings_of(DELIVERY_ROOTS=(tmp_path,), RETRY_SECONDS=30)
    folder = tmp_path / "into"
    folder.mkdir()
    return folder


@pytest.fixture
def settings_of(orm, monkeypatch):
    from django.conf import settings

    from patient_ladle.service.alerts.models import Alert, OpenProblem

    for model in (Alert, OpenProblem):
        model.objects.all().delete()
    return lambda **given: [monkeypatch.setattr(settings, name, value) for name, value in given.items()]


def outcome_of(run, *targets, data=DATA, known=None, rows=1, stem="use"):
    """As a child tells it: stored, proven, and prepared at the targets."""
    from patient_ladle.adapters.deliveries import kind_of, mark_of
    from patient_ladle.service.ledger.stores import store

    targets = tuple(map(str, targets))
    kind = kind_of(targets[0])
    result = store().result(str(run.pk), run.attempt)
    result.create("use.csv").write(data)
    result.finish("use.csv")
    result.seal({"resources": [{"path": "use.csv"}], "ladle": {}, "run": run.pk})
    names = [("use.csv", f"{stem}.csv"), ("datapackage.json", f"{stem}.datapackage.json")]
    file = {"name": "use.csv", "format": "csv", "media_type": "text/csv", "rows": rows, "bytes": len(data), "statement": 0,
            "sha256": hashlib.sha256(data).hexdigest()}  # fmt: skip
    told = {"statements": [{"title": "", "rows": rows, "columns": []}], "files": [file], "warnings": []}
    try:
        made = lambda names: {"resources": [{"path": names["use.csv"]}], "run": run.pk}  # noqa: E731
        delivery = kind.begin(mark_of(str(run.pk), run.attempt), result.open)
        plan = delivery.prepare(targets, names, {}, made, known or {})
    except StoreUnwritable as error:
        plan = DeliveryPlan(kind.name, targets, wished=tuple(names))
        return told | {"delivery": plan.to_dict(), "undelivered": error.to_dict()}
    return told | {"delivery": plan.to_dict()}


@pytest.fixture
def claimed(into, repository):
    """``claimed(name)``: a run that a new worker of that name has taken."""

    def made(name="w1", extract="from_wide"):
        from patient_ladle.service.ledger import work as ledger

        queue(repository, extract)
        return ledger.claim(worker(name))

    return made


def look_again(name="w9"):
    """One try of what waits, as if its moment had come; returns the run."""
    from patient_ladle.service.ledger.delivering import claim_delivery, deliver_stored
    from patient_ladle.service.ledger.models import Run, Worker

    Run.objects.exclude(deliver_at=None).update(deliver_at="2026-01-01T00:00:00Z")
    run = claim_delivery(Worker.objects.filter(pk=name).first() or worker(name))
    deliver_stored(run)
    run.refresh_from_db()
    return run


def intended(run, outcome):
    """The state that a worker leaves that dies between its intent and the first rename."""
    from patient_ladle.service.ledger.models import ResultFile, Run

    ResultFile.objects.bulk_create(ResultFile(run=run, attempt=run.attempt, **file) for file in outcome["files"])
    Run.objects.filter(pk=run.pk).update(publishing={"delivery": outcome["delivery"]}, rows=1)


def names_in(folder):
    return sorted(path.name for path in folder.iterdir())


def told():
    from patient_ladle.service.alerts.models import Alert

    return list(Alert.objects.order_by("at").values_list("kind", flat=True))


def test_what_cannot_go_forward_is_stored_tried_again_told_and_delivered_in_the_end(claimed, into):
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.delivering import claim_delivery

    (into / "use.csv").write_text("earlier")
    run = claimed()
    outcome = outcome_of(run, into)
    (into / "use.datapackage.json").mkdir()
    ledger.publish(run, outcome)
    run.refresh_from_db()
    assert (run.state, run.delivery, run.delivery_error["code"]) == ("finished", "waiting", "store_unwritable")
    assert (run.files.count(), run.files.get().delivered_path, (into / "use.csv").read_text()) == (1, "", "earlier")
    assert names_in(into) == ["use.csv", "use.datapackage.json"]
    assert claim_delivery(run.worker) is None, "its next try is not due yet"
    tries = [look_again() for _ in range(3)]
    assert [each.delivery for each in tries] == ["waiting"] * 3
    assert told() == ["not_delivered"], "after three tries, and once"
    (into / "use.datapackage.json").rmdir()
    done = look_again()
    assert (done.delivery, done.delivery_error, done.files.get().delivered_path) == ("delivered", None, str(into / "use.csv"))
    assert ((into / "use.csv").read_bytes(), names_in(into)) == (DATA, ["use.csv", "use.datapackage.json"])
    assert told() == ["not_delivered", "recovered"]
    assert claim_delivery(run.worker) is None


def test_a_delivery_into_a_folder_that_is_away_waits_with_nothing_prepared(claimed, tmp_path):
    from patient_ladle.service.ledger import work as ledger

    (tmp_path / "share").write_text("a file, where a folder was mounted")
    run = claimed()
    ledger.publish(run, outcome_of(run, tmp_path / "share"))
    assert look_again().delivery == "waiting"
    (tmp_path / "share").unlink()
    assert (look_again().delivery, (tmp_path / "share" / "use.csv").read_bytes()) == ("delivered", DATA)


@pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root")
def test_a_share_that_is_not_mounted_is_missed_and_the_disk_below_it_is_not_filled(claimed, into):
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.delivering import known_of

    def mounted(*words):
        subprocess.run(words, check=True, capture_output=True)

    below = into / "returns" / "2026"
    mounted("mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", str(into))
    try:
        first = claimed()
        ledger.publish(first, outcome_of(first, below))
        first.refresh_from_db()
        assert (first.delivery, known_of([str(below)])) == ("delivered", {str(below): str(into)})
    finally:
        mounted("umount", str(into))
    second = claimed("w2")
    ledger.publish(second, outcome_of(second, below, known=known_of([str(below)])))
    assert (look_again().delivery, names_in(into)) == ("waiting", [])
    second.refresh_from_db()
    assert "is not mounted" in second.delivery_error["message"]
    mounted("mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", str(into))
    try:
        assert (look_again().delivery, (below / "use.csv").read_bytes()) == ("delivered", DATA)
    finally:
        mounted("umount", str(into))


def test_what_cannot_pass_by_itself_is_for_a_person_again_elsewhere_or_left(claimed, into, repository, tmp_path):
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.delivering import decide_delivery
    from patient_ladle.service.ledger.stores import store
    from patient_ladle.service.runs.night import night_to

    runs = [claimed(f"w{n}") for n in range(3)]
    for run in runs:
        (into / "use.csv").mkdir()
        ledger.publish(run, outcome_of(run, into))
        (into / "use.csv").rmdir()
        stored = Path(store().root) / str(run.pk) / "1" / "use.csv"
        stored.write_bytes(b"a\n2\n")
        assert look_again().delivery == "failed", "what is stored is not what was proven"
        assert names_in(into) == []
        stored.write_bytes(DATA)
    from django.utils import timezone

    [need] = night_to(timezone.now()).needs
    assert (need.kind, need.run, need.others) == ("not_delivered", runs[2], [runs[1].pk, runs[0].pk])
    assert set(told()) == {"not_delivered", "damaged", "changed"}
    with pytest.raises(BadInput, match="only with it"):
        decide_delivery(repository, runs[0].pk, "elsewhere")
    with pytest.raises(BadInput, match="outside the delivery folders"):
        decide_delivery(repository, runs[0].pk, "elsewhere", "/etc")
    decide_delivery(repository, runs[0].pk, "again", note="the disk was mended")
    assert (look_again().delivery, (into / "use.csv").read_bytes()) == ("delivered", DATA)
    decide_delivery(repository, runs[1].pk, "elsewhere", "other; third")
    assert look_again().delivery == "delivered"
    assert [names_in(tmp_path / name) for name in ("other", "third")] == [["use.csv", "use.datapackage.json"]] * 2
    assert decide_delivery(repository, runs[2].pk, "left", note="nobody wants it").delivery == "left"
    assert night_to(timezone.now()).needs == []
    for run in runs:
        with pytest.raises(Conflict, match=r"it (is delivered|was left)"):
            decide_delivery(repository, run.pk, "again")


def test_what_comes_after_waits_for_the_delivery_or_for_a_persons_word(claimed, into, repository):
    from patient_ladle.service.extracts.services import set_depends_on
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.delivering import decide_delivery
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.processes.scheduler import tick
    from patient_ladle.service.schedules.models import Schedule
    from patient_ladle.service.schedules.services import add_schedule

    given = {"environment": "live", "rule": "0 6 1 1 *", "zone": "UTC", "catch_up": "latest"}
    add_schedule(repository, "in_order", extract="from_wide", then=[{"extract": "from_narrow"}], **given)
    from django.utils import timezone

    Schedule.objects.update(next_due_at=timezone.now() - timedelta(minutes=1))
    tick()
    me = worker("w1")
    first = ledger.claim(me)
    second = Run.objects.get(step=2)
    outcome = outcome_of(first, into)
    (into / "use.csv").mkdir()
    ledger.publish(first, outcome)
    second.refresh_from_db()
    assert (second.state, second.waits_for) == ("waiting", f"step 1, run {first.pk} of from_wide, to be delivered")
    decide_delivery(repository, first.pk, "left")
    second.refresh_from_db()
    assert second.state == "queued"
    set_depends_on("from_narrow", [])


def test_another_kind_of_target_asks_nothing_new_of_the_ledger(claimed, into, repository, monkeypatch):
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.delivering import decide_delivery, known_of
    from patient_ladle.service.ledger.models import DeliveredName, TargetToClear

    shelves = Shelves()
    monkeypatch.setitem(KINDS, "shelf", shelves)
    run = claimed()
    outcome = outcome_of(run, "shelf:regulator")
    shelves.away.add("shelf:regulator")
    ledger.publish(run, outcome)
    run.refresh_from_db()
    assert (run.delivery, run.delivery_plan["kind"], shelves.seen) == ("waiting", "shelf", {})
    assert TargetToClear.objects.filter(run=run, target="shelf:regulator").exists()
    decide_delivery(repository, run.pk, "elsewhere", "shelf:works")
    assert look_again().delivery == "delivered"
    assert shelves.seen["shelf:works/use.csv"] == DATA
    assert [file.delivered_path for file in run.files.all()] == ["shelf:works/use.csv"]
    assert known_of(["shelf:works"]) == {"shelf:works": "seen before"}
    assert DeliveredName.objects.filter(path="shelf:works/use.csv").exists()
    assert any(line.text.endswith("into shelf:works") for line in run.log.all())
    with pytest.raises(BadInput, match="names no folder"):
        decide_delivery(repository, run_that_failed(claimed, into).pk, "elsewhere", " ; ")


def test_plans_that_were_recorded_under_earlier_names_are_delivered(claimed, into):
    from patient_ladle.service.ledger import work as ledger

    run = claimed()
    plan = outcome_of(run, into)["delivery"]
    before = {"folders": plan["targets"], "moves": plan["moves"], "wished": plan["wished"], **plan["own"]}
    migration = importlib.import_module("patient_ladle.service.ledger.migrations.0028_targets")
    assert migration.renamed(before) == plan
    wish = {**before, "moves": [], "mounts": {}, "delivered": ["/srv/use.csv"]}
    expected = DeliveryPlan.from_dict(plan).wishes().to_dict() | {"delivered": ["/srv/use.csv"]}
    assert migration.renamed(wish) == expected
    ledger.fail(run, ServiceFault("over.", "Look."))


def run_that_failed(claimed, into):
    from patient_ladle.service.ledger import work as ledger

    run = claimed("w2")
    outcome = outcome_of(run, into)
    (into / "use.csv").mkdir()
    ledger.publish(run, outcome)
    return run


def test_one_that_cannot_be_taken_over_holds_up_no_other(claimed, into, repository, monkeypatch):
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.delivering import decide_delivery
    from patient_ladle.service.ledger.models import Run

    me = worker("lost")
    queue(repository, "from_wide", 3)
    runs = [ledger.claim(me) for _ in range(3)]
    for run in runs[:2]:
        intended(run, outcome_of(run, into))
    real = ledger.run_ended

    def faulty(run, *more):
        if run.pk == runs[0].pk:
            raise RuntimeError("a fault of our own, in the midst of it")
        real(run, *more)

    monkeypatch.setattr(ledger, "run_ended", faulty)
    found = [(run.pk, run.state, run.delivery) for run in ledger.take_over("lost")]
    assert found == [(runs[1].pk, "finished", "delivered"), (runs[2].pk, "queued", "")]
    ended = Run.objects.get(pk=runs[0].pk)
    assert (ended.state, ended.delivery, ended.delivery_error["code"]) == ("finished", "failed", "service_fault")
    decide_delivery(repository, ended.pk, "again")
    assert look_again().delivery == "delivered"
    third = ledger.claim(worker("next"))
    intended(third, outcome_of(third, into))
    monkeypatch.setattr(FolderKind, "commit", lambda *_: (_ for _ in ()).throw(RuntimeError("a fault of our own")))
    [left] = ledger.take_over("next")
    assert (left.state, left.delivery, left.delivery_error["code"]) == ("finished", "failed", "service_fault")


def test_a_fault_after_the_intent_was_recorded_rolls_forward_and_discards_nothing(claimed, into):
    from patient_ladle.service.ledger import work as ledger

    run = claimed()
    intended(run, outcome_of(run, into))
    ledger.fail(run, WorkerLost("the worker met a fault of its own."))
    run.refresh_from_db()
    assert (run.state, run.delivery, (into / "use.csv").read_bytes()) == ("finished", "delivered", DATA)


@pytest.mark.parametrize("after_intent", [False, True], ids=["while preparing", "after the intent"])
def test_a_lost_workers_delivery_is_done_by_another_and_the_thawed_one_does_nothing(claimed, into, after_intent):
    from patient_ladle.service.ledger import delivering
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.models import Run

    run = claimed()
    outcome = outcome_of(run, into)
    (into / "use.csv").mkdir()
    ledger.publish(run, outcome)
    (into / "use.csv").rmdir()
    Run.objects.update(deliver_at="2026-01-01T00:00:00Z")
    frozen = delivering.claim_delivery(worker("frozen"))
    part = into / f".use.csv.{run.pk}-1-2.part"
    part.write_bytes(DATA)
    if after_intent:
        moves = [[str(part), str(into / "use.csv"), hashlib.sha256(DATA).hexdigest()]]
        Run.objects.update(
            publishing={"delivery": {**frozen.delivery_plan, "moves": moves, "own": {"replaces": True, "mounts": {}}}}
        )
    [taken] = ledger.take_over("frozen")
    assert taken.delivery == ("delivered" if after_intent else "waiting")
    assert names_in(into) == (["use.csv"] if after_intent else [])
    with pytest.raises(Fenced):
        delivering.deliver_stored(frozen)
    assert names_in(into) == (["use.csv"] if after_intent else [])
    if not after_intent:
        assert look_again().delivery == "delivered"


def test_a_try_goes_on_where_the_service_database_broke_off_and_delivers_nothing_twice(claimed, into, monkeypatch, tmp_path):
    from django.db import OperationalError

    from patient_ladle.service.ledger import delivering
    from patient_ladle.service.ledger import work as ledger

    run = claimed()
    outcome = outcome_of(run, into)
    (into / "use.csv").mkdir()
    ledger.publish(run, outcome)
    (into / "use.csv").rmdir()
    real = delivering._delivered

    def breaks_off(*given):
        os.rename(into / "use.csv", tmp_path / "taken.csv")  # whoever wanted it is quick
        raise OperationalError("the server closed the connection unexpectedly")

    monkeypatch.setattr(delivering, "_delivered", breaks_off)
    with pytest.raises(OperationalError):
        look_again()
    monkeypatch.setattr(delivering, "_delivered", real)
    run.refresh_from_db()
    delivering.deliver_stored(run)
    run.refresh_from_db()
    assert (run.delivery, names_in(into)) == ("delivered", ["use.datapackage.json"])
    assert "somebody has taken it" in run.log.order_by("id").last().text


def test_a_released_result_says_who_released_it_and_one_whose_files_are_gone_is_for_a_person(claimed, into, repository):
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.delivering import decide_delivery, to_deliver
    from patient_ladle.service.ledger.holding import release
    from patient_ladle.service.ledger.models import Run

    run = claimed()
    outcome = outcome_of(run, into)
    ledger.publish(run, outcome | {"delivery": None})
    for part in into.iterdir():
        part.unlink()
    wish = DeliveryPlan.from_dict(outcome["delivery"]).wishes().to_dict()
    Run.objects.filter(pk=run.pk).update(held="held", delivery="", delivery_plan=wish)
    release(repository, run.pk, "the meter swap explains it")
    assert look_again().delivery == "delivered"
    assert '"released": "the meter swap explains it"' in (into / "use.datapackage.json").read_text()
    run.refresh_from_db()
    run.files.update(removed_at=run.ended_at)
    Run.objects.filter(pk=run.pk).update(delivery="")
    run.refresh_from_db()
    to_deliver(run, wish)
    run.save()
    gone = look_again()
    assert (gone.delivery, gone.delivery_error["message"]) == ("failed", "its files are not kept any more.")
    assert decide_delivery(repository, run.pk, "left").delivery == "left"


def test_a_fault_of_our_own_while_delivering_is_for_a_person(claimed, into):
    from patient_ladle.service.ledger import delivering
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.models import Run

    run = claimed()
    outcome = outcome_of(run, into)
    (into / "use.csv").mkdir()
    ledger.publish(run, outcome)
    Run.objects.update(deliver_at="2026-01-01T00:00:00Z")
    delivering.fail_delivery(delivering.claim_delivery(worker("w2")))
    run.refresh_from_db()
    assert (run.delivery, run.delivery_error["code"]) == ("failed", ServiceFault.code)


def test_a_share_that_cannot_take_a_file_is_met_from_the_command_line_and_mended(service):
    """A result of two formats, of which one name is a folder's: the earlier files stay, the run has finished, and a word is enough."""
    with service.ladle("author") as ladle:
        ladle.extracts.add(
            "payroll", "metering", "select 1 as pay", formats=["csv", "json"], deliver_into="bank", file_name="pay"
        )
        first = ladle.runs.wait(ladle.runs.start("payroll")["id"], PATIENCE)
        assert first["delivery"] == "delivered"
    bank = service.data / "deliveries" / "bank"
    earlier = {path.name: path.read_bytes() for path in bank.iterdir()}
    (bank / "pay.json").unlink()
    (bank / "pay.json").mkdir()
    started = service.command("run", "start", "payroll", name="author")
    assert (started.returncode, "not delivered yet" in started.stdout) == (1, True), started
    assert "a folder stands at" in started.stdout
    number = started.stdout.split()[1]
    assert {name: (bank / name).read_bytes() for name in earlier if name != "pay.json"} == {
        name: data for name, data in earlier.items() if name != "pay.json"
    }
    of_payroll = ("run", "list", "--extract", "payroll", "--limit", "1")  # *being delivered* while it is tried again
    until(lambda: "finished, not delivered yet" in service.command(*of_payroll, name="author").stdout, PATIENCE)
    elsewhere = service.command(
        "run", "deliver", number, "--into", "bank/resent", "--note", "the share is mended", name="author"
    )
    assert (elsewhere.returncode, "delivered as" in elsewhere.stdout) == (0, True), elsewhere
    assert names_in(bank / "resent") == ["pay.csv", "pay.datapackage.json", "pay.json"]
    again = service.command("run", "deliver", number, name="author")
    assert (again.returncode, "Only a delivery that failed" in again.stderr) == (2, True)
    (bank / "pay.json").rmdir()
    waiting = until(lambda: service.command("run", "start", "payroll", name="author"))
    assert waiting.returncode == 0
    assert names_in(bank) == ["pay.csv", "pay.datapackage.json", "pay.json", "resent"]


def test_what_a_try_left_in_a_folder_that_was_away_is_removed_once_it_is_back(claimed, into, tmp_path):
    from django.utils import timezone

    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.clearing import clear_targets
    from patient_ladle.service.ledger.models import Run, TargetToClear

    run = claimed()
    Run.objects.update(deliver_into=str(into))
    ledger.record(run, [{"kind": "stage", "name": "deliver", "at": timezone.now().isoformat()}])
    outcome_of(run, into)
    others = into / f".use.csv.{run.pk}0-1-1.part"
    others.write_text("of another run")
    into.rename(tmp_path / "away")
    ledger.fail(run, WorkerLost("the child is gone."))
    assert clear_targets(timezone.now()) == 0
    (tmp_path / "away").rename(into)
    assert names_in(into) == [f".use.csv.{run.pk}-1-1.part", others.name, f".use.datapackage.json.{run.pk}-1-1.part"]
    assert clear_targets(timezone.now()) == 1
    assert (names_in(into), TargetToClear.objects.exists()) == ([others.name], False)


def test_a_result_that_waits_to_be_delivered_is_kept_however_old_it_is(claimed, into, settings_of):
    from django.utils import timezone

    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.runs.retention import remove_old

    first, second = claimed(), claimed("w2")
    (into / "use.csv").mkdir()
    ledger.publish(first, outcome_of(first, into))
    ledger.publish(second, outcome_of(second, into.parent / "other"))
    settings_of(RETENTION_DAYS=1)
    later = timezone.now() + timedelta(days=9)
    assert remove_old(later) == 0
    Run.objects.filter(pk=first.pk).update(delivery="left", deliver_at=None)
    assert remove_old(later) == 1


def test_a_folder_that_is_gone_since_the_last_delivery_is_made_anew_and_that_is_said(claimed, into):
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.delivering import known_of

    regulation = into / "renamed-away"
    for turn in ("w1", "w2"):
        run = claimed(turn)
        ledger.publish(run, outcome_of(run, regulation, known=known_of([str(regulation)])))
        warnings = [line.text for line in run.log.filter(level="warning")]
        if turn == "w1":
            assert warnings == []
            regulation.rename(into / "archive")
    assert warnings[-1].startswith(
        f"the folder '{regulation}' was not there any more though something had been delivered into it"
    )
    assert names_in(regulation) == names_in(into / "archive")
