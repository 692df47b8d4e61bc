"""Whatever happens, in whatever order, with a crash at any statement: no run without a way out, nothing lost or doubled.

Two workers, a scheduler and people act on the real ledger, store and folders, while workers die, freeze and come back, folders
go away and delivered files are taken. A slow reckoning of the due times and a look at every file judge what is left of it.
"""

from __future__ import annotations

import hashlib
import json
from collections import Counter, defaultdict
from datetime import datetime, timedelta, timezone
from pathlib import Path

import pytest
from hypothesis import note, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule, run_state_machine_as_test

from patient_ladle.core.errors import Conflict, ConnectionLost, Fenced, RunCancelled, StatementWrong
from tests.conftest import until
from tests.profile import NIGHTS

from .hands import worker
from .test_crashes import Crash, crashing, nobody_holds_anything
from .test_deliveries import into, outcome_of, settings_of  # noqa: F401  # fixtures

STEPS = 40
ROUNDS = 80
"""So many looks, a quarter of an hour apart, must bring everything to its end."""
QUARTER = timedelta(minutes=15)
SCHEDULES = {"plain": {"extract": "from_wide", "while_running": "parallel"},
             "sequence": {"extract": "from_wide", "then": [{"extract": "from_narrow"}], "while_running": "wait"}}  # fmt: skip
crashes = st.none() | st.integers(1, 70)
slots = st.sampled_from(["a", "b"])
names = st.sampled_from(sorted(SCHEDULES))
folders = st.sampled_from(["one", "two"])


class World:
    """The ledger, the folders and the clock, as the machine needs them."""

    def __init__(self, person, root, clock, monkeypatch):
        self.person, self.root, self.clock, self.monkeypatch = person, root, clock, monkeypatch
        self.nights = 0

    def emptied(self):
        from patient_ladle.service.alerts.models import Alert, OpenProblem
        from patient_ladle.service.ledger.models import DeliveryTarget, Run, Worker
        from patient_ladle.service.schedules.models import DueTime, Schedule, SequenceStep
        from patient_ladle.service.schedules.services import add_schedule

        Run.objects.update(again_of=None)
        for model in (Run, DueTime, SequenceStep, Schedule, Worker, Alert, OpenProblem, DeliveryTarget):
            model.objects.all().delete()
        self.nights += 1
        self.clock.at = datetime(2026, 3, 2, 0, 5, tzinfo=timezone.utc)
        below = self.root / str(self.nights)
        for name in ("one", "two"):
            (below / name).mkdir(parents=True)
        self.monkeypatch.setattr("django.conf.settings.DELIVERY_ROOTS", (below,))
        for name, given in SCHEDULES.items():
            add_schedule(
                self.person, name, environment="live", rule="0 * * * *", zone="UTC", catch_up="all", attempts=2, **given
            )
        return below


class Clock:
    """Stands still until it is moved."""

    at = datetime(2026, 3, 2, tzinfo=timezone.utc)

    def __call__(self):
        return self.at


@pytest.fixture
def world(repository, into, monkeypatch):  # noqa: F811
    from patient_ladle.service.extracts.models import Revision

    clock, guarded = Clock(), Revision.objects.filter(extract__name="from_narrow")
    guarded.update(guards=[{"guard": "rows", "at_least": 1, "then": "hold"}])
    monkeypatch.setattr("django.utils.timezone.now", clock)
    for module in ("processes.scheduler", "schedules.services", "runs.recording", "ledger.alarms"):
        monkeypatch.setattr(f"patient_ladle.service.{module}.database_now", clock)
    yield World(repository, into, clock, monkeypatch)
    guarded.update(guards=[])


class Hands:
    """A worker process: its row, and what it has under way."""

    def __init__(self, name):
        self.row, self.runs, self.deliveries = worker(name), [], []


class Night(RuleBasedStateMachine):
    def __init__(self, world):
        super().__init__()
        self.world, self.clock = world, world.clock
        self.below = world.emptied()
        self.made = 0
        self.hands = {slot: self.new_hands() for slot in ("a", "b")}
        self.lost, self.frozen = [], []
        self.contents = {}
        """SHA-256 → run and attempt of everything that any attempt wrote."""
        self.taken = set()
        self.rules = {name: [(self.clock.at, 0, False)] for name in SCHEDULES}
        """Since when which minute of the hour is due, and whether it is paused."""
        for extract in ("from_wide", "from_narrow"):
            self.a_run_is_started(extract, None)
        self.clock.at += 4 * QUARTER

    def new_hands(self):
        self.made += 1
        return Hands(f"w{self.made}")

    # Acting, and crashing

    def does(self, work, crash, slot=None):
        """Carry it out, with a crash at that statement of it; whoever crashes is gone with all that it had in hand."""
        from django.db import connection

        if crash is None:
            return work()
        try:
            with connection.execute_wrapper(crashing(crash)):
                return work()
        except Crash:
            note(f"crashed at statement {crash}")
            connection.close()
            until(nobody_holds_anything)
            if slot is not None:
                self.dies(slot)
            return None

    def dies(self, slot):
        self.lost.append(self.hands[slot])
        self.hands[slot] = self.new_hands()

    # What goes by itself

    @rule(crash=crashes)
    def scheduler_looks(self, crash):
        from patient_ladle.service.processes import scheduler

        self.does(lambda: (scheduler.tick(), scheduler.look_after_waiting()), crash)

    @rule(quarters=st.sampled_from([1, 2, 4, 9]))
    def time_passes(self, quarters):
        self.clock.at += quarters * QUARTER

    @rule(slot=slots, crash=crashes)
    def claims(self, slot, crash):
        from patient_ladle.service.ledger import work as ledger

        hands = self.hands[slot]
        run = self.does(lambda: ledger.claim(hands.row), crash, slot)
        if run is not None:
            hands.runs.append(run)

    @precondition(lambda self: any(hands.runs for hands in self.hands.values()))
    @rule(data=st.data(), crash=crashes, rows=st.sampled_from([0, 1, 1, 1]))
    def publishes(self, data, crash, rows):
        slot, run = data.draw(st.sampled_from([(s, r) for s, h in self.hands.items() for r in h.runs]))
        hands = self.hands[slot]
        self.does(lambda: self.carry_out(hands, run, rows), crash, slot)

    @precondition(lambda self: any(hands.runs for hands in self.hands.values()))
    @rule(data=st.data(), crash=crashes, passing=st.booleans())
    def meets_a_fault(self, data, crash, passing):
        slot, run = data.draw(st.sampled_from([(s, r) for s, h in self.hands.items() for r in h.runs]))
        hands = self.hands[slot]
        self.does(lambda: self.give_up(hands, run, passing), crash, slot)

    def carry_out(self, hands, run, rows=1):
        """As a worker does it: write, prove, prepare, publish; what is refused is cleaned up."""
        from patient_ladle.service.ledger import work as ledger

        hands.runs.remove(run)
        try:
            stages = ("fetch", "deliver")
            ledger.record(run, [{"kind": "stage", "name": name, "at": self.clock.at.isoformat()} for name in stages])
            ledger.publish(run, self.outcome(run, rows))
        except Fenced:
            ledger.clean_up_after(run)
        except RunCancelled as error:
            ledger.fail(run, error)

    def outcome(self, run, rows):
        data = f"a\n{run.pk}.{run.attempt}\n".encode() if rows else b"a\n"
        self.contents[hashlib.sha256(data).hexdigest()] = (run.pk, run.attempt)
        stem = "use" if run.extract.name == "from_wide" else f"narrow-{run.pk}"
        wanted = [self.below / name for name in (run.delivers_into or "one;two").split(";")]
        return outcome_of(run, *wanted, data=data, rows=rows, stem=stem)

    def give_up(self, hands, run, passing):
        from patient_ladle.service.ledger import work as ledger

        hands.runs.remove(run)
        try:
            ledger.fail(run, ConnectionLost("it was cut.") if passing else StatementWrong("no such table.", "Correct it."))
        except Fenced:
            ledger.clean_up_after(run)

    @rule(slot=slots, crash=crashes, at_once=st.booleans())
    def delivers(self, slot, crash, at_once):
        from patient_ladle.service.ledger.delivering import claim_delivery

        hands = self.hands[slot]
        run = self.does(lambda: claim_delivery(hands.row), crash, slot)
        if run is not None and at_once:
            self.does(lambda: self.deliver(run), crash, slot)
        elif run is not None:
            hands.deliveries.append(run)

    def deliver(self, run):
        from patient_ladle.service.ledger.delivering import deliver_stored

        try:
            deliver_stored(run)
        except Fenced:
            note(f"fenced: delivery of run {run.pk}")

    # Workers come and go

    @rule(slot=slots, how=st.sampled_from(["killed", "frozen", "frozen", "stopped"]), at_once=st.booleans())
    def a_worker_goes(self, slot, how, at_once):
        from patient_ladle.service.ledger import work as ledger

        hands = self.hands[slot]
        self.dies(slot)
        if how == "frozen":
            self.frozen.append(hands)
        if how == "stopped" or at_once:
            ledger.take_over(hands.row.pk, stopped=how == "stopped")
            self.claims("a", None), self.claims("b", None)

    @precondition(lambda self: self.lost)
    @rule(data=st.data(), slot=slots, crash=crashes)
    def a_lost_one_is_taken_over(self, data, slot, crash):
        from patient_ladle.service.ledger import work as ledger

        gone = data.draw(st.sampled_from(self.lost))
        self.does(lambda: ledger.take_over(gone.row.pk), crash, slot)

    @precondition(lambda self: self.frozen)
    @rule(crash=crashes, then=st.sampled_from(["publish", "fail", "deliver"]))
    def a_frozen_one_goes_on(self, crash, then):
        hands = self.frozen.pop(0)
        for run in list(hands.runs if then != "deliver" else []):
            self.does(
                lambda run=run: self.carry_out(hands, run) if then == "publish" else self.give_up(hands, run, True), crash
            )
        for run in hands.deliveries:
            self.does(lambda run=run: self.deliver(run), crash)

    # What happens to folders

    @rule(folder=folders, what=st.sampled_from(["obstacle", "away", "taken", "well"]))
    def something_happens_to_a_folder(self, folder, what):
        match what:
            case "obstacle":
                self.something_stands_in_the_way(folder)
            case "away":
                self.a_folder_goes_away(folder)
            case "taken":
                self.delivered_files_are_taken(folder)
            case "well":
                self.folders_are_well()

    def something_stands_in_the_way(self, folder):
        obstacle = self.below / folder / "use.datapackage.json"
        if obstacle.is_file():
            self.taken.add(obstacle)
            obstacle.unlink()
        if obstacle.parent.is_dir():
            obstacle.mkdir(exist_ok=True)

    def a_folder_goes_away(self, folder):
        away = self.below / f"{folder}.away"
        if not away.exists():
            (self.below / folder).rename(away)
            (self.below / folder).write_text("no folder")

    def folders_are_well(self):
        for folder in ("one", "two"):
            if (self.below / f"{folder}.away").exists():
                (self.below / folder).unlink()
                (self.below / f"{folder}.away").rename(self.below / folder)
            obstacle = self.below / folder / "use.datapackage.json"
            if obstacle.is_dir():
                obstacle.rmdir()

    def delivered_files_are_taken(self, folder):
        for path in self.delivered_in(folder):
            self.taken.add(path)
            path.unlink()

    def delivered_in(self, folder):
        there = self.below / folder
        return [p for p in there.iterdir() if p.is_file() and not p.name.startswith(".")] if there.is_dir() else []

    # People

    @rule(name=names, minute=st.sampled_from([0, 20, 40]), attempts=st.integers(1, 3), crash=crashes,
          deliver_into=st.sampled_from(["", "one", "two;one"]))  # fmt: skip
    def a_schedule_is_edited(self, name, minute, attempts, crash, deliver_into):
        from patient_ladle.service.schedules.services import edit_schedule

        change = {"rule": f"{minute} * * * *", "attempts": attempts, "deliver_into": deliver_into}
        self.does(lambda: edit_schedule(name, **change), crash)
        self.rule_now(name)

    @rule(name=names, crash=crashes)
    def a_schedule_is_paused_or_resumed(self, name, crash):
        from patient_ladle.service.schedules.services import pause_schedule, resume_schedule

        _, _, paused = self.rules[name][-1]
        self.does(lambda: resume_schedule(name) if paused else pause_schedule(self.world.person, name, ""), crash)
        self.rule_now(name)

    def rule_now(self, name):
        from patient_ladle.service.schedules.models import Schedule

        kept = Schedule.objects.get(name=name)
        found = (int(kept.rule.split()[0]), kept.paused_at is not None)
        if found != self.rules[name][-1][1:]:
            self.rules[name].append((self.clock.at, *found))

    @rule(extract=st.sampled_from(["from_wide", "from_narrow"]), crash=crashes)
    def a_run_is_started(self, extract, crash):
        from patient_ladle.service.runs.services import start_run

        self.does(lambda: start_run(self.world.person, {"extract": extract}), crash)

    @rule(
        data=st.data(),
        crash=crashes,
        what=st.sampled_from(["cancel", "again", "release", "reject", "deliver", "elsewhere", "left"]),
    )
    def a_run_is_decided_about(self, data, crash, what):
        from patient_ladle.service.ledger import delivering, holding
        from patient_ladle.service.ledger.models import Run
        from patient_ladle.service.runs import services

        runs = list(Run.objects.order_by("pk").values_list("pk", flat=True))
        if not runs:
            return
        number, person = runs[data.draw(st.integers(0, len(runs) - 1))], self.world.person
        work = {
            "cancel": lambda: services.cancel_run(person, number),
            "again": lambda: services.run_again(person, number),
            "release": lambda: holding.release(person, number, ""),
            "reject": lambda: holding.reject(person, number, ""),
            "deliver": lambda: delivering.decide_delivery(person, number, "again"),
            "elsewhere": lambda: delivering.decide_delivery(person, number, "elsewhere", "three"),
            "left": lambda: delivering.decide_delivery(person, number, "left"),
        }[what]
        try:
            self.does(work, crash)
        except Conflict as error:
            note(error.message)

    @rule(crash=crashes)
    def old_results_are_removed(self, crash):
        from patient_ladle.service.runs.retention import remove_old

        self.does(lambda: remove_old(self.clock.at), crash)

    # Judging

    @invariant()
    def nothing_half_written_stands_at_a_delivered_name(self):
        for folder in ("one", "two", "three", "one.away", "two.away"):
            for path in self.delivered_in(folder):
                if path.suffix == ".csv":
                    assert hashlib.sha256(path.read_bytes()).hexdigest() in self.contents, path
                else:
                    json.loads(path.read_bytes())

    @invariant()
    def a_finished_run_has_one_result_in_the_store(self):
        from patient_ladle.service.ledger.models import ResultFile, Run

        finished = Run.objects.filter(state="finished").values_list("pk", "attempt")
        files = defaultdict(list)
        for file in ResultFile.objects.all():
            files[file.run_id].append(file)
        for number, attempt in finished:
            [file] = files[number]
            assert file.attempt == attempt
            stored = self.store() / str(number) / str(attempt) / file.name
            if file.removed_at is None and stored.exists():  # a crash may come between a removal and its record
                assert hashlib.sha256(stored.read_bytes()).hexdigest() == file.sha256

    def store(self):
        from patient_ladle.service.ledger.stores import store

        return store().root

    def teardown(self):
        self.everything_comes_to_its_end()
        self.due_times_are_those_of_a_slow_reckoning()
        self.files_are_where_the_record_says()
        self.nobody_is_left_with_a_trouble_that_is_over()

    def everything_comes_to_its_end(self):
        from django.db.models import Q

        from patient_ladle.service.ledger import delivering, holding
        from patient_ladle.service.ledger import work as ledger
        from patient_ladle.service.ledger.clearing import clear_targets
        from patient_ladle.service.ledger.models import Run
        from patient_ladle.service.ledger.states import ENDED
        from patient_ladle.service.processes import scheduler
        from patient_ladle.service.runs.retention import remove_old
        from patient_ladle.service.schedules.services import pause_schedule

        self.folders_are_well()
        for slot in ("a", "b"):
            self.dies(slot)
        for gone in [*self.lost, *self.frozen]:
            ledger.take_over(gone.row.pk)
        for name in SCHEDULES:
            pause_schedule(self.world.person, name, "the night is over")
            self.rule_now(name)
        hands = self.new_hands()
        for _ in range(ROUNDS):
            scheduler.tick(), scheduler.look_after_waiting()
            while run := ledger.claim(hands.row):
                hands.runs.append(run)
                self.carry_out(hands, run)
            while run := delivering.claim_delivery(hands.row):
                self.deliver(run)
            for run in Run.objects.filter(held="held"):
                holding.release(self.world.person, run.pk, "")
            for run in Run.objects.filter(delivery="failed"):
                delivering.decide_delivery(self.world.person, run.pk, "again")
            open_still = Run.objects.filter(~Q(state__in=ENDED) | Q(delivery__in=("waiting", "in_progress", "failed")))
            if not open_still.exists():
                break
            self.clock.at += QUARTER
        else:
            raise AssertionError(list(open_still.values()))
        remove_old(self.clock.at)
        clear_targets(self.clock.at)

    def due_times_are_those_of_a_slow_reckoning(self):
        from patient_ladle.service.ledger.models import Run
        from patient_ladle.service.schedules.models import DueTime

        for name, changes in self.rules.items():
            wanted, minute = [], changes[0][0]
            while (minute := minute + timedelta(minutes=1)) <= self.clock.at:
                _, due, paused = [change for change in changes if change[0] < minute][-1]
                if minute.minute == due:
                    wanted.append((minute, "skipped" if paused else "run"))
            found = DueTime.objects.filter(schedule__name=name).order_by("due_at")
            assert list(found.values_list("due_at", "decision")) == wanted, name
            runs = Counter(Run.objects.filter(due_time__schedule__name=name).values_list("due_time__due_at", "step", "turn"))
            steps = 1 + len(SCHEDULES[name].get("then", ()))
            assert runs == {(at, step, 0): 1 for at, word in wanted if word == "run" for step in range(1, steps + 1)}

    def files_are_where_the_record_says(self):
        from patient_ladle.service.ledger.models import Run

        kept = set()
        for run in Run.objects.filter(state="finished"):
            file = run.files.get()
            if file.removed_at is None:
                kept |= {Path(str(run.pk), str(run.attempt), name) for name in (file.name, "datapackage.json")}
            for path in filter(None, [Path(file.delivered_path or "/"), *map(Path, file.delivered_also)]):
                if run.extract.name == "from_narrow" and run.delivery == "delivered" and path not in self.taken:
                    assert hashlib.sha256(path.read_bytes()).hexdigest() == file.sha256, path
        ours = {str(number) for number in Run.objects.values_list("pk", flat=True)}
        stored = {path.relative_to(self.store()) for path in self.store().rglob("*") if path.is_file()}
        assert {path for path in stored if path.parts[0] in ours} == kept
        assert [path for path in self.below.rglob(".*") if path.is_file()] == [], "temporary names are left"
        for folder in ("one", "two", "three"):
            pair = [self.below / folder / name for name in ("use.csv", "use.datapackage.json")]
            if all(path.is_file() for path in pair) and not self.taken & set(pair):
                run, _ = self.contents[hashlib.sha256(pair[0].read_bytes()).hexdigest()]
                assert json.loads(pair[1].read_bytes())["run"] in (run, None)

    def nobody_is_left_with_a_trouble_that_is_over(self):
        from patient_ladle.service.alerts.models import OpenProblem

        over = OpenProblem.objects.filter(ended_at=None).exclude(key__startswith="extract:").exclude(key__startswith="source:")
        assert list(over.values_list("key", "title")) == []


def test_whatever_happens_in_whatever_order_nothing_is_lost_doubled_or_without_a_way_out(world):
    run_state_machine_as_test(lambda: Night(world), settings=settings(max_examples=NIGHTS, stateful_step_count=STEPS))
