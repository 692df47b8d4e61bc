"""Killed, frozen and restarted at the worst moment: one record, one result, no litter, no lie."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from urllib.parse import urlsplit

import httpx
import psycopg
import pytest
from cryptography.fernet import Fernet

from patient_ladle.client import RunFailed
from tests import template
from tests.command import PATIENCE
from tests.conftest import children_of, set_up, start_service, stop_service, until


@pytest.fixture(scope="module")
def fresh(home, metering):
    """A service of its own, for these tests harm it."""
    (home / "t").mkdir()
    made = start_service(home / "faults", LADLE_SCRATCH_MB="30", LADLE_RUN_MEMORY_MB="600", TMPDIR=str(home / "t"))
    with set_up(made, metering) as ladle:
        ladle.extracts.add("steady", "metering", "select n, pg_sleep(0.0004) is null as x from generate_series(1, 6000) n",
                           formats=["csv", "json"], deliver_into="steady", file_name="steady")  # fmt: skip
        ladle.extracts.add("patient", "metering", "select n, pg_sleep(0.002) is null as x from generate_series(1, 2500) n",
                           formats=["csv"], deliver_into="patient")  # fmt: skip
        ladle.extracts.add("quick", "metering", "select * from districts", formats=["csv"], deliver_into="quick")
    yield made
    stop_service(made)


def database(service):
    return psycopg.connect(service.database_url(), autocommit=True)


def worker_pid(service, run, stage="fetch"):
    with database(service) as connection:
        found = until(lambda: connection.execute(
            "select w.pid from runs_run r join runs_worker w on w.id = r.worker_id where r.id = %s and r.stage = %s", [run, stage]
        ).fetchone())  # fmt: skip
    return found[0]


def audit(service):
    """What must hold after any storm."""
    deliveries, results = service.data / "deliveries", service.data / "results"
    litter = [p for root in (deliveries, results) for p in root.rglob("*") if p.name.endswith(".part")]
    assert litter == []
    with database(service) as connection:
        files = connection.execute("select f.run_id, f.attempt, f.name, f.bytes from runs_resultfile f join runs_run r on r.id = f.run_id"
                                   " where r.state = 'finished'").fetchall()  # fmt: skip
        for run, attempt, name, size in files:
            assert (results / str(run) / str(attempt) / name).stat().st_size == size
        for (run,) in connection.execute("select id from runs_run where state in ('failed', 'cancelled', 'queued')").fetchall():
            assert not (results / str(run)).exists()


def test_a_worker_killed_in_the_middle_of_a_run_loses_nothing(fresh):
    with fresh.ladle() as ladle:
        run = ladle.runs.start("steady")["id"]
        os.kill(worker_pid(fresh, run), signal.SIGKILL)
        record = ladle.runs.wait(run, PATIENCE)
        assert (record["attempt"], record["rows"], [f["rows"] for f in record["files"]]) == (2, 6_000, [6_000, 6_000])
        texts = [line["text"] for line in ladle.runs.log(run)]
        assert "the worker of attempt 1 was lost. The run is queued." in texts
    assert sorted(p.name for p in (fresh.data / "deliveries/steady").iterdir()) == [
        "steady.csv",
        "steady.datapackage.json",
        "steady.json",
    ]
    audit(fresh)


def test_a_worker_killed_while_inputs_are_loaded_loses_nothing(fresh):
    """What the input gave is taken by the next attempt; nothing of the first stays in the folder for temporary files."""
    with fresh.ladle() as ladle:
        ladle.extracts.add("many", "metering", "select n, n % 97 as part from generate_series(1, 2000000) n")
        ladle.extracts.add(
            "added_up", "", "select part, count(*) as n, sum(n) as total from many group by part order by part",
            inputs=[{"name": "many", "extract": "many"}], formats=["csv"], deliver_into="added",
        )  # fmt: skip
        run = ladle.runs.start("added_up")["id"]
        os.kill(worker_pid(fresh, run, "describe"), signal.SIGKILL)
        record = ladle.runs.wait(run, PATIENCE)
        assert (record["attempt"], record["rows"]) == (2, 97)
        [member] = ladle.runs.list(member_of=run)
        assert (member["attempt"], member["rows"]) == (1, 2_000_000)
        told = [line["text"] for line in ladle.runs.log(run)]
        assert "input many: 2,000,000 rows loaded" in " ".join(told)
    assert len(list((fresh.data / "deliveries/added").glob("*.csv"))) == 1
    audit(fresh)


def test_a_combination_that_eats_memory_fails_alone(fresh):
    """Lists cannot be spilled: the engine's own bound or the child's ends it, and the next run is carried out."""
    with fresh.ladle() as ladle:
        statement = "select max(length(l)) as most from (select list(s.n) as l from few s, range(4000) group by s.n % 3)"
        ladle.extracts.add("few", "metering", "select n from generate_series(1, 100000) n")
        ladle.extracts.add("eats", "", statement, inputs=[{"name": "few", "extract": "few"}])
        with pytest.raises(RunFailed, match="memory"):
            ladle.runs.wait(ladle.runs.start("eats")["id"], PATIENCE)
        assert ladle.runs.wait(ladle.runs.start("quick")["id"], PATIENCE)["state"] == "finished"
    audit(fresh)


@pytest.mark.parametrize("way", ["combined", "steps"])
def test_more_rows_than_scratch_space_holds_fail_the_run_with_what_to_do(fresh, home, way):
    """Stopped by the limit, long before the disk is full; all that was written is gone again."""
    of = "select n, md5(n::text) || md5((n + 1)::text) as t from generate_series(1, 1200000) n"
    with fresh.ladle() as ladle:
        if way == "combined":
            ladle.extracts.add("wide_rows", "metering", of)
            ladle.extracts.add(
                "too_wide", "", "select max(t) as most from wide_rows", inputs=[{"name": "wide_rows", "extract": "wide_rows"}]
            )
        else:
            ladle.extracts.add("too_wide_shaped", "metering", of, steps=[{"step": "filter", "where": "n % 2 = 0"}])
        run = ladle.runs.start("too_wide" if way == "combined" else "too_wide_shaped")["id"]
        with pytest.raises(RunFailed, match="more than the 30 MB of scratch space"):
            ladle.runs.wait(run, PATIENCE)
        assert "LADLE_SCRATCH_MB" in ladle.runs.get(run)["error"]["hint"]
    until(lambda: not any("results.duckdb" in files for _, _, files in os.walk(home / "t")), PATIENCE)
    audit(fresh)


def test_a_frozen_worker_that_wakes_up_publishes_nothing(fresh):
    environment = fresh.environment | {"LADLE_DATABASE_URL": fresh.database_url()}
    with fresh.ladle() as ladle:
        run = ladle.runs.start("steady")["id"]
        pid = worker_pid(fresh, run)
        other = subprocess.Popen(
            [sys.executable, "-m", "patient_ladle.cli.main", "worker", "start"], env=environment, stdin=subprocess.DEVNULL
        )
        try:
            os.kill(pid, signal.SIGSTOP)
            until(lambda: ladle.runs.get(run)["attempt"] > 1)
            os.kill(pid, signal.SIGCONT)
            record = ladle.runs.wait(run, PATIENCE)
            assert record["attempt"] > 1
            [csv] = [f for f in record["files"] if f["format"] == "csv"]
            until(lambda: any(f"run {run}: " in line for line in fresh.log), why="the woken worker has not let go of the run")
            assert (fresh.data / "deliveries/steady/steady.csv").stat().st_size == csv["bytes"]
            assert len({f["name"] for f in ladle.runs.get(run)["files"]}) == 2
        finally:
            os.kill(pid, signal.SIGCONT)
            other.terminate()
            other.wait(PATIENCE)
    audit(fresh)


def test_planned_restarts_in_a_row_spend_no_attempt(fresh):
    """More of them than a run may be lost, or may fail."""
    with fresh.ladle() as ladle:
        run = ladle.runs.start("patient")["id"]
        for restarts in range(1, 5):
            os.kill(worker_pid(fresh, run), signal.SIGTERM)
            until(lambda before=restarts: ladle.runs.get(run)["attempt"] > before, PATIENCE)
        record = ladle.runs.wait(run, PATIENCE)
        texts = [line["text"] for line in ladle.runs.log(run) if "hands the run back" in line["text"]]
    assert (record["lost"], record["failures"], record["rows"]) == (0, 0, 2_500)
    assert len(texts) == record["attempt"] - 1
    assert record["attempt"] == 5
    audit(fresh)


def test_a_worker_that_is_stopped_lets_its_run_finish_within_its_time(fresh):
    environment = fresh.environment | {"LADLE_DATABASE_URL": fresh.database_url(), "LADLE_STOP_SECONDS": "600"}
    with fresh.ladle() as ladle:
        [own] = ladle.runs.workers()
        ladle.runs.drain(own["id"])
        other = subprocess.Popen(
            [sys.executable, "-m", "patient_ladle.cli.main", "worker", "start"], env=environment, stdin=subprocess.DEVNULL
        )
        try:
            until(lambda: len(ladle.runs.workers()) == 2, PATIENCE)
            with database(fresh) as connection:
                beats = "select beat from runs_worker where id = %s"
                before = connection.execute(beats, [own["id"]]).fetchone()
                until(lambda: connection.execute(beats, [own["id"]]).fetchone()[0] > before[0] + 1)
            run = ladle.runs.start("steady")["id"]
            assert worker_pid(fresh, run) == other.pid
            other.terminate()
            assert other.wait(PATIENCE) == 0
            record = ladle.runs.get(run)
            assert (record["state"], record["attempt"], record["rows"]) == ("finished", 1, 6_000)
        finally:
            other.kill()
            other.wait()
            ladle.runs.drain(own["id"], False)
    audit(fresh)


def test_an_intent_that_was_recorded_is_rolled_forward(fresh):
    with fresh.ladle() as ladle:
        record = ladle.runs.wait(ladle.runs.start("quick")["id"], PATIENCE)
        [file] = record["files"]
        delivered = fresh.data / "deliveries/quick" / file["name"]
        before = delivered.read_bytes()
        part = delivered.with_name(f".{file['name']}.{record['id']}-1-1.part")
        delivered.rename(part)
        with database(fresh) as connection:  # the state a worker leaves that dies between intent and rename
            connection.execute(
                "insert into runs_worker (id, host, pid, max_runs, beat, started_at, version, store_mark, clock_seconds, draining)"
                " values ('gone', 'elsewhere', 1, 2, 7, now(), '', '', 0, false)"
            )
            move = [str(part), str(delivered), file["sha256"]]
            own = {"replaces": True, "mounts": {}}
            plan = {"kind": "folder", "targets": [str(delivered.parent)], "moves": [move], "wished": [], "own": own}
            plan = psycopg.types.json.Json({"delivery": plan})
            connection.execute(
                "update runs_run set state = 'running', ended_at = null, delivery = '', worker_id = 'gone', publishing = %s"
                " where id = %s", [plan, record["id"]],
            )  # fmt: skip
        after = until(lambda: (r := ladle.runs.get(record["id"]))["state"] == "finished" and r, PATIENCE)
        assert (after["attempt"], delivered.read_bytes(), part.exists()) == (1, before, False)
        assert any("rolled forward" in line["text"] for line in ladle.runs.log(record["id"]))
    audit(fresh)


def reading_children(pid, port):
    """Children of a worker that are connected to a source; the others wait for work."""
    sockets = {f"socket:[{words[9]}]" for words in map(str.split, Path("/proc/net/tcp").read_text().splitlines()[1:])
               if words[2].endswith(f":{port:04X}")}  # fmt: skip
    found = []
    for child in children_of(pid):
        with suppress(FileNotFoundError):
            found += [child] if sockets & {os.readlink(each) for each in Path(f"/proc/{child}/fd").iterdir()} else []
    return found


def test_a_child_that_is_killed_ends_its_run_with_a_clear_word_and_touches_no_other(fresh, metering):
    with fresh.ladle() as ladle:
        run, other = ladle.runs.start("steady")["id"], ladle.runs.start("steady")["id"]
        pid = worker_pid(fresh, run)
        os.kill(until(lambda: reading_children(pid, metering["port"]))[0], signal.SIGKILL)
        ended = until(lambda: [r for r in (ladle.runs.get(run), ladle.runs.get(other)) if r["state"] == "failed"], PATIENCE)
        assert "ended by signal 9 without a last word" in ended[0]["error"]["message"]
        assert "memory" in ended[0]["error"]["hint"]
        [survivor] = {run, other} - {ended[0]["id"]}
        assert ladle.runs.wait(survivor, PATIENCE)["rows"] == 6_000
    audit(fresh)


@pytest.mark.parametrize("who", ["child", "worker"])
def test_what_is_killed_leaves_no_statement_in_the_source(fresh, metering, cluster, who):
    """One that the server would not miss for minutes: it sends nothing before its end."""
    with fresh.ladle() as ladle, psycopg.connect(cluster.url(), autocommit=True) as source:
        statement = "select count(*) from (select pg_sleep(0.01) from generate_series(1, 100000) offset 0) each"
        run = ladle.runs.start_unsaved("metering", statement=statement, formats=["csv"])["id"]
        worker = worker_pid(fresh, run)
        session = int(until(lambda: ladle.runs.get(run)["identity"].get("session")))

        def there():
            return source.execute("select 1 from pg_stat_activity where pid = %s and state = 'active'", [session]).fetchone()

        until(there)
        os.kill(worker if who == "worker" else reading_children(worker, metering["port"])[0], signal.SIGKILL)
        until(lambda: not there())
        if who == "worker":  # another has taken the run up again
            ladle.runs.cancel(run)
        until(lambda: ladle.runs.get(run)["state"] in ("failed", "cancelled"))
    audit(fresh)


def test_a_source_that_goes_away_in_mid_fetch_is_said_and_may_pass(fresh, cluster):
    with fresh.ladle() as ladle, psycopg.connect(cluster.url(), autocommit=True) as source:
        run = ladle.runs.start("steady")["id"]
        worker_pid(fresh, run)
        until(
            lambda: source.execute("select pg_terminate_backend(pid) from pg_stat_activity where usename = 'reader'").fetchall()
        )
        with pytest.raises(RunFailed, match="the connection to the source broke"):
            ladle.runs.wait(run, PATIENCE)
        assert ladle.runs.get(run)["error"]["transient"] is True
        assert ladle.runs.wait(ladle.runs.again(run)["id"], PATIENCE)["rows"] == 6_000
    audit(fresh)


def test_the_service_database_away_is_said_and_recovers_by_itself(fresh):
    with fresh.ladle() as ladle:
        run = ladle.runs.start("steady")["id"]
        worker_pid(fresh, run)
        with database(fresh) as connection:
            connection.execute(
                "select pg_terminate_backend(pid) from pg_stat_activity where pid <> pg_backend_pid() and datname = 'ladle'"
            )
        assert ladle.runs.wait(run, PATIENCE)["rows"] == 6_000
    audit(fresh)


def postmaster(folder):
    """Its number; nothing while its file is not there, or not yet written."""
    with suppress(FileNotFoundError, IndexError):
        return Path(folder, "postmaster.pid").read_text().split()[0]
    return ""


def test_a_service_database_that_is_killed_is_started_again_and_the_run_goes_on_or_is_taken_up_again(fresh):
    with fresh.ladle() as ladle:
        run = ladle.runs.start("steady")["id"]
        worker_pid(fresh, run)
        with database(fresh) as connection:
            [folder] = connection.execute("show data_directory").fetchone()
        first = postmaster(folder)
        os.kill(int(first), signal.SIGKILL)
        until(lambda: postmaster(folder) not in ("", first), PATIENCE)
        until(lambda: answers(fresh), PATIENCE)
        assert ladle.runs.wait(run, 2 * PATIENCE)["rows"] == 6_000
    audit(fresh)


def test_a_source_that_freezes_in_mid_fetch_ends_the_run_at_its_deadline_and_holds_up_no_other(fresh, metering, cluster):
    with fresh.ladle() as ladle, psycopg.connect(cluster.url(), autocommit=True) as source:
        login = {"live": {"address": metering, "secret": "reading-only"}}
        ladle.sources.add("impatient", "postgresql", login, query_timeout_seconds=4)
        ladle.extracts.add(
            "frozen", "impatient", "select n, pg_sleep(0.001) from generate_series(1, 100000) n", formats=["csv"]
        )
        run = ladle.runs.start("frozen")["id"]
        worker_pid(fresh, run)
        asked = "select pid from pg_stat_activity where usename = 'reader' and query like '%generate_series(1, 100000)%'"
        [backend] = until(lambda: source.execute(asked).fetchone())
        os.kill(backend, signal.SIGSTOP)
        try:
            assert ladle.runs.wait(ladle.runs.start("quick")["id"], PATIENCE)["rows"] == 3
            ended = until(lambda: (r := ladle.runs.get(run))["state"] == "failed" and r, 2 * PATIENCE)
        finally:
            os.kill(backend, signal.SIGCONT)
        assert "deadline" in ended["error"]["message"]
        assert not (fresh.data / "results" / str(run)).exists()
    audit(fresh)


@pytest.mark.long  # every migration there is, twice
def test_two_services_that_migrate_the_same_database_at_once_both_come_up(home, cluster):
    cluster.make_database("shared")
    key = Fernet.generate_key().decode()
    for name in ("one", "two"):  # two hosts of one service have the same keys
        (home / name / "keys").mkdir(parents=True)
        (home / name / "keys" / "secrets.key").write_text(key)
    with ThreadPoolExecutor(2) as pool:
        starting = [
            pool.submit(start_service, home / name, LADLE_DATABASE_URL=cluster.url("shared"), LADLE_RESULT_STORE=str(home / "shared-results"))
            for name in ("one", "two")
        ]  # fmt: skip
        services = [each.result() for each in starting]
    try:
        with psycopg.connect(cluster.url("shared")) as connection:
            [twice] = connection.execute("select count(*) - count(distinct (app, name)) from django_migrations").fetchone()
            [people] = connection.execute("select count(*) from people_person").fetchone()
        assert (twice, people) == (0, 1)
        for service in services:
            until(lambda service=service: answers(service))
    finally:
        for service in services:
            stop_service(service)


def test_a_result_store_that_is_not_writable_is_said_in_the_run(fresh):
    results = fresh.data / "results"
    with fresh.ladle() as ladle:
        until(lambda: ladle.runs.workers())
        kept = results.rename(fresh.data / "results.kept")
        try:
            results.write_text("a file, no folder")
            with pytest.raises(RunFailed, match=r"it has no mark\. See whether it is mounted"):
                ladle.runs.wait(ladle.runs.start("quick")["id"], PATIENCE)
        finally:
            results.unlink()
            kept.rename(results)
    audit(fresh)


def part_pid(service, part):
    found = subprocess.run(
        ["pgrep", "-P", str(service.process.pid), "-f", f"patient_ladle.service {part}"],
        capture_output=True,
        text=True,
        check=False,
    )
    return int(found.stdout.split()[0]) if found.stdout else None


def answers(service):
    try:
        return httpx.get(f"{service.url}/healthz", timeout=20).status_code == 200
    except httpx.TransportError:
        return False


@pytest.mark.parametrize("part", ["web", "scheduler", "worker"])
def test_a_part_that_is_killed_is_started_again(fresh, part):
    before = until(lambda: part_pid(fresh, part))
    below = children_of(before)
    os.kill(before, signal.SIGKILL)
    until(lambda: (now := part_pid(fresh, part)) and now != before, PATIENCE)
    until(lambda: not any(Path("/proc", str(pid)).exists() for pid in below), PATIENCE, "what stood below it goes on")
    until(lambda: answers(fresh), PATIENCE)
    with fresh.ladle() as ladle:
        record = ladle.runs.wait(ladle.runs.start("quick")["id"], PATIENCE)
        assert record["rows"] == 3
        due = ladle.schedules.add(f"after-{part}", "quick", "live", "* * * * *")
        with database(fresh) as connection:
            connection.execute(
                "update schedules_schedule set next_due_at = date_trunc('minute', now()) where name = %s", [due["name"]]
            )
        until(lambda: [d for d in ladle.schedules.due_times(due["name"]) if d["decision"] == "run"], PATIENCE)
        ladle.schedules.remove(due["name"])
        until(lambda: all(r["state"] in ("finished", "failed", "cancelled") for r in ladle.runs.list()), PATIENCE)
    audit(fresh)


@pytest.mark.parametrize("who", ["another service", "something else"])
def test_a_start_on_a_taken_port_says_so_and_ends(fresh, home, who):
    port = urlsplit(fresh.url).port
    with socket.create_server(("127.0.0.1", 0)) as mute:
        taken = port if who == "another service" else mute.getsockname()[1]
        template.copied(home / f"taken-{taken}")
        environment = fresh.environment | {"LADLE_PORT": str(taken), "LADLE_DATA": str(home / f"taken-{taken}")}
        command = [sys.executable, "-m", "patient_ladle.cli.main", "service", "start"]
        ended = subprocess.run(command, env=environment, capture_output=True, text=True, timeout=PATIENCE, check=False)
    assert (ended.returncode, "ready:" in ended.stdout) == (1, False)
    assert "set LADLE_PORT to a free port" in ended.stderr
    assert "Traceback" not in ended.stderr


def test_a_second_service_on_the_same_data_is_refused_and_a_restart_keeps_everything(fresh):
    second = subprocess.run([sys.executable, "-m", "patient_ladle.cli.main", "service", "start"], env=fresh.environment | {"LADLE_PORT": "1"},
                            capture_output=True, text=True, timeout=PATIENCE, check=False)  # fmt: skip
    assert (second.returncode, "another service runs on the data directory" in second.stderr) == (1, True)
    with fresh.ladle() as ladle:
        until(lambda: all(r["state"] in ("finished", "failed", "cancelled") for r in ladle.runs.list()))
        before = [(r["id"], r["state"]) for r in ladle.runs.list()]
    fresh.process.send_signal(signal.SIGKILL)
    fresh.process.wait()
    until(
        lambda: (
            subprocess.run(["pgrep", "-f", "patient_ladle.service web"], capture_output=True, check=False).returncode or True
        )
    )
    again = start_service(fresh.data)
    fresh.url, fresh.process, fresh.reader = again.url, again.process, again.reader
    with fresh.ladle() as ladle:
        assert [(r["id"], r["state"]) for r in ladle.runs.list()] == before
        assert ladle.runs.wait(ladle.runs.start("quick")["id"], PATIENCE)["rows"] == 3
    audit(fresh)
