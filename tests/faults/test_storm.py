"""A storm: parts of the service killed, frozen and restarted at random moments under load, while folders, clocks, rights and
schedules change under it; then an audit of everything it keeps.
"""

from __future__ import annotations

import hashlib
import os
import random
import signal
import threading
import time
from collections import Counter
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import timedelta
from functools import partial
from pathlib import Path

import psycopg
import pytest

from patient_ladle.client import CallFailed, NotReachable
from tests.conftest import READER_PASSWORD, set_up, start_service, stop_service, until
from tests.profile import SEED
from tests.profile import STORM_KILLS as KILLS

PARTS = {"worker": 5, "child": 4, "scheduler": 3, "web": 2, "supervisor": 1}
"""What is killed, and how often beside the others."""
WORDS = {"worker": "service worker", "child": "children.child", "scheduler": "service scheduler", "web": "service web"}
SCHEDULES = 4
PAST_MINUTES = 6
"""Due times of each schedule that have passed when the storm begins: all of them are to be caught up with."""
ROWS = 600
CALM_SECONDS = 600 + 3 * KILLS
FROZEN_SECONDS = 13.0
"""Longer than a worker's lease: its runs are taken over while it sleeps, and it wakes up to find that out."""
DEADLINE_SECONDS = 10
STATEMENT = f"select n, md5(n::text) as mark, pg_sleep(0.0005) is null as slept from generate_series(1, {ROWS}) n"
PASSING = {"worker_lost", "deadline_exceeded", "connection_lost", "source_unreachable", "store_unwritable", "store_unreadable",
           "disk_full"}  # fmt: skip
"""What fails a run by hand, which is tried once, and never one of a schedule."""
CLOCKS = """
    create schema clocks; create table clocks.wrong (seconds float); insert into clocks.wrong values (0);
    create function clocks.clock_timestamp() returns timestamptz language sql volatile as
      'select pg_catalog.clock_timestamp() + (select seconds from clocks.wrong) * interval ''1 second''';
    alter role ladle set search_path = clocks, pg_catalog, public;
"""
"""Before the database's own clock stands one that can be moved."""


def descendants(root):
    """pid → command line of all processes below one."""
    parents, commands = {}, {}
    for folder in Path("/proc").iterdir():
        if folder.name.isdigit():
            with suppress(OSError):
                commands[int(folder.name)] = (folder / "cmdline").read_text().replace("\0", " ")
                parents[int(folder.name)] = int((folder / "stat").read_text().rpartition(")")[2].split()[1])
    found, new = set(), {root}
    while new:
        found |= new
        new = {pid for pid, parent in parents.items() if parent in new}
    return {pid: commands[pid] for pid in found - {root}}


@dataclass
class Storm:
    """The service in it, and what was done to it."""

    data: Path
    source: str
    chance: random.Random
    service: object = None
    kills: Counter = field(default_factory=Counter)
    troubles: Counter = field(default_factory=Counter)
    started: int = 0
    later: list[threading.Timer] = field(default_factory=list)
    taken: dict = field(default_factory=dict)

    def begin(self):
        shim = os.pathsep.join([str(Path(__file__).parent / "clocks"), os.environ.get("PYTHONPATH", "")])
        tokens = self.service.tokens if self.service else {}
        clock = str(self.data.parent / "storm.clock")
        while True:
            try:
                self.service = start_service(self.data, LADLE_RETRY_SECONDS="1", PYTHONPATH=shim, STORM_CLOCK=clock)
                break
            except AssertionError as error:  # whoever starts it while its store is away is told so, and tries again
                if "has no mark" not in str(error):
                    raise
                self.troubles["a start refused while the store is away"] += 1
                time.sleep(1)
        self.service.tokens.update(tokens)  # a sign-in that a kill cut off counts as one that failed

    def pids(self, part):
        return [pid for pid, command in descendants(self.service.process.pid).items() if WORDS[part] in command]

    def kill(self, part):
        """One of its processes, if there is one at this moment."""
        if part == "supervisor":
            self.service.process.kill()
            self.service.process.wait()
            self.begin()
        else:
            pids = self.pids(part)
            if not pids:
                return
            signalled(self.chance.choice(pids), signal.SIGKILL)
        self.kills[part] += 1

    def after(self, seconds, work):
        """Once so many seconds have passed, however the storm goes on."""
        timer = threading.Timer(seconds, work)
        timer.start()
        self.later.append(timer)

    # Troubles. Each passes by itself.

    def a_worker_sleeps(self):
        self.sleeps("worker", FROZEN_SECONDS)

    def the_scheduler_sleeps_while_a_schedule_is_edited(self):
        self.sleeps("scheduler", 5.0)
        self.edit()

    def sleeps(self, part, seconds):
        for pid in self.pids(part)[:1]:
            signalled(pid, signal.SIGSTOP)
            self.after(seconds, partial(signalled, pid, signal.SIGCONT))

    def edit(self):
        zone = self.chance.choice(["UTC", "Europe/London", "Asia/Kolkata"])
        with suppress(CallFailed, NotReachable), self.service.ladle() as ladle:
            ladle.schedules.edit(f"minutely-{self.chance.randrange(SCHEDULES)}", zone=zone)

    def planned_restarts_in_a_row(self):
        if KILLS > 50 and self.chance.random() < 0.7:
            return  # they take their time, and a long storm has many
        for _ in range(3):
            stop_service(self.service)
            self.begin()

    def a_session_of_the_source_sleeps(self):
        with psycopg.connect(self.source, autocommit=True) as connection:
            found = connection.execute(
                "select pid from pg_stat_activity where usename = 'reader' and state = 'active'"
            ).fetchall()
        for (pid,) in found[:1]:
            signalled(pid, signal.SIGSTOP)
            self.after(DEADLINE_SECONDS + 8, partial(signalled, pid, signal.SIGCONT))

    def the_delivery_folder_is_away(self):
        self.is_away(self.data / "deliveries" / "storm")

    def the_result_store_is_away(self):
        self.is_away(self.data / "results")

    def is_away(self, folder):
        away = folder.with_name(f"{folder.name}.away")
        if folder.is_dir() and not away.exists():
            folder.rename(away)
            folder.write_text("no folder")
            self.after(self.chance.uniform(1, 8), lambda: (folder.unlink(), away.rename(folder)))

    def a_folder_stands_at_a_delivered_name(self):
        with suppress(OSError):
            obstacle = self.data / "deliveries" / "latest" / "latest.csv"
            obstacle.parent.mkdir(parents=True, exist_ok=True)
            obstacle.unlink(missing_ok=True)
            obstacle.mkdir()
            self.after(self.chance.uniform(2, 12), obstacle.rmdir)

    def delivered_files_are_taken(self):
        for path in (self.data / "deliveries" / "storm").glob("[!.]*"):
            with suppress(OSError):
                self.taken[path] = path.read_bytes()
                path.unlink()

    def the_clock_of_the_host_is_moved(self):
        (self.data.parent / "storm.clock").write_text(str(self.chance.choice([-120, -7, 7, 120, 0])))

    def the_clock_of_the_database_is_moved(self):
        with suppress(psycopg.Error), self.database() as connection:
            connection.execute("update clocks.wrong set seconds = %s", [self.chance.choice([-150, -20, 20, 150, 0])])

    def start_some(self):
        """Runs by hand, each asked for once; the web may be away."""
        with suppress(CallFailed, NotReachable), self.service.ladle() as ladle:
            for _ in range(1 if KILLS > 50 else 2):
                ladle.runs.start("steady")
                self.started += 1

    def database(self):
        return psycopg.connect(self.service.database_url(), autocommit=True)

    def unfinished(self):
        with self.database() as connection:
            [count] = connection.execute(
                "select count(*) from runs_run where state in ('waiting', 'queued', 'running') or delivery in ('waiting', 'in_progress')"
            ).fetchone()
        return count

    def calm(self):
        """All that passes has passed, the clocks are right, and nothing falls due any more."""
        for timer in self.later:
            timer.join()
        (self.data.parent / "storm.clock").write_text("0")
        with self.database() as connection:
            connection.execute("update clocks.wrong set seconds = 0")
        with self.service.ladle() as ladle:
            for name in (*(f"minutely-{number}" for number in range(SCHEDULES)), "locked"):
                until(lambda name=name: paused(ladle, name))


def signalled(pid, number):
    with suppress(ProcessLookupError):
        os.kill(pid, number)


TROUBLES = [
    Storm.a_worker_sleeps, Storm.the_scheduler_sleeps_while_a_schedule_is_edited, Storm.planned_restarts_in_a_row,
    Storm.a_session_of_the_source_sleeps, Storm.the_delivery_folder_is_away, Storm.the_result_store_is_away,
    Storm.a_folder_stands_at_a_delivered_name, Storm.delivered_files_are_taken, Storm.the_clock_of_the_host_is_moved,
    Storm.the_clock_of_the_database_is_moved, Storm.edit,
]  # fmt: skip


@pytest.fixture
def storm(home, metering, cluster):
    made = Storm(home / "storm", cluster.url("metering"), random.Random(SEED))
    (home / "storm.clock").write_text("0")
    made.begin()
    with set_up(made.service, metering, max_runs=6, query_timeout_seconds=DEADLINE_SECONDS) as ladle:
        given = {"formats": ["csv", "json"], "file_name": "steady-{run}"}
        ladle.extracts.add("steady", "metering", STATEMENT, deliver_into="storm", **given)
        ladle.extracts.add("latest", "metering", STATEMENT, deliver_into="latest", **given | {"file_name": "latest"})
        ladle.sources.add("sealed", "postgresql", {"live": {"address": metering, "secret": READER_PASSWORD}})
        ladle.extracts.add("sealed", "sealed", "select 1 as a")
        each_minute = {"zone": "UTC", "catch_up": "all", "while_running": "parallel", "attempts": 9}
        for number in range(SCHEDULES):
            extract = "latest" if number == 0 else "steady"
            ladle.schedules.add(f"minutely-{number}", extract, "live", "* * * * *", **each_minute)
        ladle.schedules.add("locked", "sealed", "live", "* * * * *", **each_minute)
    with made.database() as connection:
        connection.execute(CLOCKS)
        connection.execute(f"update schedules_schedule set next_due_at = next_due_at - interval '{PAST_MINUTES} minutes'")
        connection.execute("update sources_address set secret = 'gAAAAAnobody' where source_id ="
                           " (select id from sources_source where name = 'sealed')")  # fmt: skip
    stop_service(made.service)  # sessions that are open keep the clock that they have
    made.begin()
    yield made
    stop_service(made.service)


@pytest.mark.long
def test_nothing_is_lost_doubled_or_half_done_after_a_storm(storm, found):
    print(f"storm with seed {SEED}")
    parts, troubles = list(PARTS), []
    while sum(storm.kills.values()) < KILLS:
        storm.start_some()
        time.sleep(storm.chance.uniform(0.2, 3.0 if KILLS < 50 else 1.5))
        troubles = troubles or storm.chance.sample(TROUBLES, len(TROUBLES))
        for trouble in [troubles.pop() for _ in range(min(2 if KILLS < 50 else 1, len(troubles)))]:
            storm.troubles[trouble.__name__] += 1
            trouble(storm)
        storm.kill(storm.chance.choices(parts, PARTS.values())[0])
        if (count := sum(storm.kills.values())) and count % 25 == 0:
            print(f"{count} kills", flush=True)
    storm.calm()
    until(lambda: storm.unfinished() == 0, CALM_SECONDS, "runs were left unfinished")
    with storm.database() as connection:
        left = "select count(*) from runs_attempttoclear"
        until(lambda: connection.execute(left).fetchone() == (0,), CALM_SECONDS, "what attempts have left is not removed")
        said = audit(connection, storm)
    found(f"A storm with seed {SEED}: {dict(storm.kills)}, {dict(storm.troubles)}: {said}.")


def paused(ladle, name):
    """The web may have been killed a moment ago."""
    with suppress(CallFailed, NotReachable):
        return ladle.schedules.pause(name, "the storm is over")
    return None


def audit(connection, storm):
    """Everything kept agrees with everything else; returns it in figures."""
    due = due_times_without_a_gap(connection)
    scheduled = connection.execute(
        "select s.name, r.state, r.error ->> 'code', r.delivery from runs_run r join schedules_duetime d on d.id = r.due_time_id"
        " join schedules_schedule s on s.id = d.schedule_id"
    ).fetchall()
    by_hand = connection.execute("select state, error ->> 'code' from runs_run where due_time_id is null").fetchall()
    assert len(scheduled) == sum(decision == "run" for _, _, decision in due), "a due time has no run, or two"
    assert len(by_hand) >= storm.started, "a run that was promised is lost"
    sealed = Counter(code for name, _, code, _ in scheduled if name == "locked")
    assert set(sealed) == {"secret_unreadable"}
    failed = Counter(code for name, state, code, _ in scheduled if state != "finished" and name != "locked")
    assert set(failed) <= {"worker_lost"}, failed
    undelivered = sum(delivery not in ("delivered", "") for *_, delivery in scheduled)
    assert undelivered == 0
    assert {code for _, code in by_hand} <= PASSING | {None}, by_hand
    files_are_what_the_record_says(connection, storm)
    [again] = connection.execute("select count(*) from runs_run where attempt > 1").fetchone()
    [tries] = connection.execute("select max(delivery_attempts) from runs_run").fetchone()
    [slowest] = connection.execute(
        "select max(next.at - lost.at) from runs_logline lost join runs_logline next on next.run_id = lost.run_id"
        " and next.attempt = lost.attempt + 1 and next.text like 'attempt %' where lost.text like 'the worker of attempt%'"
    ).fetchone()
    states = dict(Counter(state for _, state, *_ in scheduled) + Counter(state for state, _ in by_hand))
    return (
        f"{len(due)} due times, {states} runs, {sum(sealed.values())} of them of an unreadable secret, {again} taken over or tried"
        f" again, none lost or doubled; persons needed for {sum(failed.values()) + undelivered}; a delivery took at most {tries}"
        f" tries; {sum(state == 'failed' for state, _ in by_hand)} by hand failed at once; begun again within {slowest}"
    )


def due_times_without_a_gap(connection):
    due = connection.execute(
        "select schedule_id, due_at, decision from schedules_duetime d order by schedule_id, due_at"
    ).fetchall()
    moments = {}
    for schedule, at, decision in due:
        moments.setdefault(schedule, []).append((at, decision))
    assert len(moments) == SCHEDULES + 1
    assert all(len(kept) >= PAST_MINUTES for kept in moments.values())
    for kept in moments.values():
        at = [moment for moment, _ in kept]
        assert at == [at[0] + timedelta(minutes=n) for n in range(len(at))], "a due time is lost or doubled"
        assert {decision for _, decision in kept} <= {"run", "skipped"}
    return due


def files_are_what_the_record_says(connection, storm):
    files = connection.execute(
        "select r.id, r.state, f.attempt, r.attempt, f.name, f.bytes, f.sha256, f.rows, f.delivered_path, e.name"
        " from runs_run r join extracts_extract e on e.id = r.extract_id left join runs_resultfile f on f.run_id = r.id"
    ).fetchall()
    expected_store, expected_delivered = set(), set()
    for run, state, attempt, last, name, size, sha256, rows, delivered, extract in files:
        if state != "finished":
            assert name is None, f"run {run} is {state} and has files"
            continue
        assert (attempt, rows) == (last, ROWS)
        stored = storm.data / "results" / str(run) / str(attempt) / name
        expected_store |= {stored, stored.with_name("datapackage.json")}
        copies = [stored.read_bytes()]
        if extract == "steady":
            described = Path(delivered).with_name(f"steady-{run}.datapackage.json")
            assert all(path.exists() or path in storm.taken for path in (Path(delivered), described))
            copies.append(Path(delivered).read_bytes() if Path(delivered).exists() else storm.taken[Path(delivered)])
            expected_delivered |= {path for path in (Path(delivered), described) if path.exists()}
        else:
            expected_delivered |= {Path(delivered), Path(delivered).with_name("latest.datapackage.json")}
        for data in copies:
            assert (len(data), hashlib.sha256(data).hexdigest()) == (size, sha256), (run, name)
    store, deliveries = storm.data / "results", storm.data / "deliveries"
    assert {path for path in store.rglob("*") if path.is_file() and path.name != ".store"} == expected_store
    assert {path for path in deliveries.rglob("*") if path.is_file() and not path.name.startswith(".")} == expected_delivered
    finished = len({run for run, state, *_ in files if state == "finished"})
    assert sum(name is not None for _, _, _, _, name, *_ in files) == 2 * finished
    until(lambda: not [path for path in deliveries.rglob(".*") if path.is_file()], why="temporary names are left")
