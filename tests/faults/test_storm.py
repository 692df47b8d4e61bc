"""A storm: parts of the service killed with -9 at random moments under load, then an audit of everything it keeps.

Nine kills in the test run; ``LADLE_STORM_KILLS=200`` makes it as long as one likes, ``LADLE_STORM_SEED`` repeats one.
"""

from __future__ import annotations

import hashlib
import os
import random
import signal
import time
from collections import Counter
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import timedelta
from pathlib import Path

import psycopg
import pytest

from patient_ladle.client import CallFailed, NotReachable
from tests.conftest import set_up, start_service, stop_service, until

KILLS = int(os.environ.get("LADLE_STORM_KILLS", "9"))
SEED = int(os.environ.get("LADLE_STORM_SEED", str(random.randrange(10_000))))
PARTS = {"worker": 5, "child": 4, "scheduler": 3, "web": 2, "supervisor": 1}
"""What is killed, and how often beside the others."""
WORDS = {"worker": "service worker", "child": "children.child", "scheduler": "service scheduler", "web": "service web"}
SCHEDULES = 4
PAST_MINUTES = 6
"""Due times of each schedule that have passed when the storm begins: all of them are to be caught up with."""
ROWS = 600
CALM_SECONDS = 150 + 3 * KILLS
STATEMENT = f"select n, md5(n::text) as mark, pg_sleep(0.0005) is null as slept from generate_series(1, {ROWS}) n"


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
    service: object = None
    kills: Counter = field(default_factory=Counter)
    started: int = 0

    def begin(self):
        self.service = start_service(self.data, LADLE_RETRY_SECONDS="1")

    def kill(self, part):
        """One of its processes, if there is one at this moment."""
        if part == "supervisor":
            self.service.process.kill()
            self.service.process.wait()
            self.begin()
        else:
            pids = [pid for pid, command in descendants(self.service.process.pid).items() if WORDS[part] in command]
            if not pids:
                return
            with suppress(ProcessLookupError):
                os.kill(random.choice(pids), signal.SIGKILL)
        self.kills[part] += 1

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
                "select count(*) from runs_run where state in ('waiting', 'queued', 'running') or delivery in ('waiting', 'under way')"
            ).fetchone()
        return count


@pytest.fixture
def storm(home, metering):
    made = Storm(home / "storm")
    made.begin()
    with set_up(made.service, metering, places=6) as ladle:
        ladle.extracts.add(
            "steady", "metering", STATEMENT, formats=["csv", "json"], deliver_into="storm", file_name="steady-{run}"
        )
        for number in range(SCHEDULES):
            ladle.schedules.add(
                f"minutely-{number}", "steady", "live", "* * * * *", zone="UTC", missed="all", overlap="alongside", attempts=9
            )
    with made.database() as connection:
        connection.execute(f"update schedules_schedule set next_due_at = next_due_at - interval '{PAST_MINUTES} minutes'")
    yield made
    stop_service(made.service)


def test_nothing_is_lost_doubled_or_half_done_after_a_storm(storm):
    chance = random.Random(SEED)
    print(f"storm with seed {SEED}")
    parts = list(PARTS)
    while sum(storm.kills.values()) < KILLS:
        storm.start_some()
        time.sleep(chance.uniform(0.2, 3.0 if KILLS < 50 else 1.5))
        storm.kill(chance.choices(parts, PARTS.values())[0])
    with storm.service.ladle() as ladle:
        for number in range(SCHEDULES):
            until(lambda name=f"minutely-{number}": paused(ladle, name))
    until(lambda: storm.unfinished() == 0, CALM_SECONDS, "runs were left unfinished")
    with storm.database() as connection:
        said = audit(connection, storm)
    print(f"{dict(storm.kills)}: {said}")


def paused(ladle, name):
    """The web may have been killed a moment ago."""
    with suppress(CallFailed, NotReachable):
        return ladle.schedules.pause(name, "the storm is over")
    return None


def audit(connection, storm):
    """Everything kept agrees with everything else; returns it in figures."""
    due = connection.execute(
        "select schedule_id, due_at, decision from schedules_duetime d order by schedule_id, due_at"
    ).fetchall()
    moments = {}
    for schedule, at, decision in due:
        moments.setdefault(schedule, []).append((at, decision))
    assert len(moments) == SCHEDULES
    assert all(len(kept) >= PAST_MINUTES for kept in moments.values())
    for kept in moments.values():
        at = [moment for moment, _ in kept]
        assert at == [at[0] + timedelta(minutes=n) for n in range(len(at))], "a due time is lost or doubled"
        assert {decision for _, decision in kept} <= {"run", "skipped"}
    ran = sum(decision == "run" for kept in moments.values() for _, decision in kept)
    [scheduled] = connection.execute("select count(*) from runs_run where due_time_id is not null").fetchone()
    [by_hand] = connection.execute("select count(*) from runs_run where due_time_id is null").fetchone()
    assert scheduled == ran, "a due time has no run, or two"
    assert by_hand >= storm.started, "a run that was promised is lost"
    states = Counter(dict(connection.execute("select state, count(*) from runs_run group by state").fetchall()))
    lost = connection.execute("select error ->> 'code', attempt from runs_run where state = 'failed'").fetchall()
    assert {code for code, _ in lost} <= {"worker_lost"}, lost
    files = connection.execute(
        "select r.id, r.state, f.attempt, r.attempt, f.name, f.bytes, f.sha256, f.rows, f.delivered_path"
        " from runs_run r left join runs_resultfile f on f.run_id = r.id"
    ).fetchall()
    expected_store, expected_delivered = set(), set()
    for run, state, attempt, last, name, size, sha256, rows, delivered in files:
        if state != "finished":
            assert name is None, f"run {run} is {state} and has files"
            continue
        assert (attempt, rows) == (last, ROWS)
        stored = storm.data / "results" / str(run) / str(attempt) / name
        for path in (stored, Path(delivered)):
            data = path.read_bytes()
            assert (len(data), hashlib.sha256(data).hexdigest()) == (size, sha256), path
        expected_store |= {stored, stored.with_name("datapackage.json")}
        expected_delivered |= {Path(delivered), Path(delivered).with_name(f"steady-{run}.datapackage.json")}
    store, deliveries = storm.data / "results", storm.data / "deliveries"
    assert {path for path in store.rglob("*") if path.is_file() and path.name != ".store"} == expected_store
    assert {path for path in deliveries.rglob("*") if path.is_file()} == expected_delivered
    assert sum(name is not None for _, _, _, _, name, *_ in files) == 2 * states["finished"]
    [again] = connection.execute("select count(*) from runs_run where attempt > 1").fetchone()
    [slowest] = connection.execute(
        "select max(next.at - lost.at) from runs_logline lost join runs_logline next on next.run_id = lost.run_id"
        " and next.attempt = lost.attempt + 1 and next.text like 'attempt %' where lost.text like 'the worker of attempt%'"
    ).fetchone()
    return f"{len(due)} due times, {dict(states)} runs, {again} taken over, none lost or doubled; begun again within {slowest}"
