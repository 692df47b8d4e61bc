"""The child process by itself, spoken to through its pipes as worker and web do: one job in, lines out, never a trace."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from types import SimpleNamespace

import psycopg
import pytest

from tests.conftest import READER_PASSWORD, SLOW

COMMAND = [sys.executable, "-m", "patient_ladle.service.children.child"]


def reader(address):
    return {
        "kind": "source",
        "engine": "postgresql",
        "address": address,
        "secret": READER_PASSWORD,
        "connect_timeout_seconds": 5,
    }


@pytest.fixture
def start(metering):
    """Starts a child with a job; what it says is read with ``told``."""
    started = []

    def begin(**job):
        process = subprocess.Popen(COMMAND, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        started.append(process)
        own = {key: job.pop(key) for key in ("kind", "engine", "secret") if key in job}
        say(process, {"reader": reader(metering) | own} | job)
        return process

    yield begin
    for process in started:
        process.kill()
        process.wait()
        for pipe in (process.stdin, process.stdout, process.stderr):
            try:
                pipe.close()
            except BrokenPipeError:
                continue


def say(process, words):
    process.stdin.write(json.dumps(words) + "\n")
    process.stdin.flush()


def told(process):
    return [json.loads(line) for line in process.stdout]


def a_run(folder, **more):
    return {
        "do": "run", "run": "7", "attempt": 1, "name": "districts", "file_name": "districts", "output": {}, "guards": [], "statement": "select * from districts", "parameters": [],
        "values": {}, "data_date": "2026-11-24", "due_at": "2026-11-24T06:05:00+00:00", "formats": ["csv"], "query_timeout_seconds": 30,
        "max_rows": None, "max_bytes": None, "deliver_into": [], "known": {}, "store": str(folder), "about": {},
    } | more  # fmt: skip


def test_a_run_tells_its_stages_waits_to_publish_and_says_that_it_is_done(start, tmp_path):
    child = start(**a_run(tmp_path))
    said = []
    for line in child.stdout:
        said.append(json.loads(line))
        if said[-1]["kind"] == "publish":
            break
    assert [s["name"] for s in said if s["kind"] == "stage"] == ["connect", "describe", "fetch", "prove", "store", "deliver"]
    assert [s["identity"]["login"] for s in said if s["kind"] == "connected"] == ["reader"]
    assert [s["rows"] for s in said[-1]["outcome"]["statements"]] == [3]
    assert (tmp_path / "7/1/districts.csv").read_text().startswith("district_id,name,zone\n1,Alder Moor,North\n")
    time.sleep(0.3)
    assert child.poll() is None, "it must wait for the word of whoever owns the run"
    say(child, {"published": True})
    assert [s["kind"] for s in told(child)] == ["done"]
    assert child.wait(60) == 0


def test_a_fenced_run_keeps_its_hands_off_what_another_attempt_may_be_delivering(start, tmp_path):
    child = start(**a_run(tmp_path))
    for line in child.stdout:
        if json.loads(line)["kind"] == "publish":
            break
    say(child, {"fenced": "attempt 2 owns this run."})
    [last] = told(child)
    assert (last["kind"], last["error"]["code"], last["error"]["message"]) == ("failed", "fenced", "attempt 2 owns this run.")
    assert (tmp_path / "7/1/districts.csv").is_file()


@pytest.mark.parametrize(
    ("change", "code"),
    [
        ({"statement": "select * from nowhere"}, "statement_wrong"),
        ({"statement": "select 1; drop table districts"}, "statement_refused"),
        ({"formats": ["pdf"]}, "unknown_name"),
        ({"engine": "oracle"}, "unknown_name"),
        ({"kind": "tape"}, "unknown_name"),
        ({"secret": "wrong"}, "source_sign_in_refused"),
        ({"query_timeout_seconds": 0.2, "statement": "select pg_sleep(20)"}, "deadline_exceeded"),
        ({"max_rows": 2}, "result_too_large"),
        ({"values": {"nobody": 1}}, "unknown_name"),
    ],
)
def test_a_run_that_fails_says_why_and_leaves_nothing(start, tmp_path, change, code):
    child = start(**a_run(tmp_path, **change))
    last = told(child)[-1]
    assert (last["kind"], last["error"]["code"], bool(last["error"]["message"])) == ("failed", code, True)
    assert "wrong" not in last["error"]["message"] or code != "source_sign_in_refused"
    assert list(tmp_path.iterdir()) == []
    assert child.wait(60) == 0
    assert child.stderr.read() == ""


def test_a_store_that_is_not_the_one_it_should_be_is_seen_before_a_source_is_read(start, tmp_path):
    """An unmounted share is an empty folder: what were written there would fill the local disk and be lost."""
    child = start(**a_run(tmp_path / "results", store_mark="0123456789abcdef"))
    [said] = told(child)
    assert (said["kind"], said["error"]["code"], said["error"]["transient"]) == ("failed", "store_unwritable", True)
    assert "it has no mark" in said["error"]["message"]
    assert not (tmp_path / "results").exists()


def test_a_cancel_reaches_the_statement_in_the_source(start, tmp_path):
    child = start(**a_run(tmp_path, statement=SLOW))
    for line in child.stdout:
        if json.loads(line).get("name") == "fetch":
            break
    say(child, {"cancel": True})
    assert told(child)[-1]["error"]["code"] == "cancelled"
    assert list(tmp_path.iterdir()) == []


def test_a_child_ends_when_its_parent_is_gone(start, tmp_path):
    child = start(**a_run(tmp_path, statement=SLOW))
    for line in child.stdout:
        if json.loads(line).get("name") == "fetch":
            break
    child.stdin.close()
    assert child.wait(60) == 3


def test_a_fault_of_our_own_is_said_without_its_trace_which_goes_to_the_log(start, tmp_path):
    child = start(**a_run(tmp_path, due_at="not a time"))
    last = told(child)[-1]
    assert last["error"]["code"] == "service_fault"
    assert "not a time" not in json.dumps(last)
    assert "Traceback" in child.stderr.read()


def test_looks_and_checks_answer_once(start):
    rows = {
        "do": "rows",
        "statement": "select * from districts order by 1",
        "parameters": [],
        "values": {},
        "rows": 2,
        "data_date": "2026-11-24",
    }
    connected, done = told(start(**rows))
    assert (connected["kind"], int(connected["identity"]["session"]) > 0) == ("connected", True)
    assert (done["result"]["rows"], done["result"]["complete"]) == (
        [["1", "Alder Moor", "North"], ["2", "Birch Fen", "South"]],
        False,
    )
    _, done = told(start(do="catalogue"))
    assert {t["name"] for t in done["result"]} >= {"districts", "readings"}
    [done] = told(start(do="check"))
    assert [s["passed"] for s in done["result"]] == [True] * 8


def understood(child, *parts, parameters=()):
    say(child, {"parts": list(parts), "parameters": list(parameters)})
    return json.loads(child.stdout.readline())


def test_a_child_that_understands_stays_and_runs_nothing(start, cluster):
    child = start(do="understand")
    assert json.loads(child.stdout.readline())["kind"] == "begun"
    first = understood(child, "select name from districts", "select nmae from districts", SLOW, "delete from districts")
    assert first["kind"] == "understood"
    right, wrong, slow, writes = first["parts"]
    assert [c["name"] for c in right["columns"]] == ["name"]
    assert (wrong["error"]["code"], wrong["error"]["facts"]["name"]) == ("statement_wrong", "nmae")
    assert [c["name"] for c in slow["columns"]] == ["n", "slept"]
    assert writes["error"]["code"] == "statement_refused"
    [again] = understood(child, "select :since as since", parameters=[{"name": "since", "type": "date"}])["parts"]
    assert again["columns"] == [{"name": "since", "kind": "date", "source_type": "date"}]
    assert child.poll() is None
    with psycopg.connect(cluster.url("metering"), autocommit=True) as connection:
        connection.execute("select pg_terminate_backend(pid) from pg_stat_activity where usename = 'reader'")
    assert understood(child, "select 1 as one")["error"]["code"] == "connection_lost"
    assert child.wait(60) == 0


def test_a_private_value_is_masked_in_the_last_word_of_a_run(start, tmp_path):
    child = start(**a_run(tmp_path, statement="select cast(:code as text)::int as c", values={"code": "sesame-9"},
                          parameters=[{"name": "code", "sensitive": True}]))  # fmt: skip
    said = told(child)
    assert said[-1]["kind"] == "failed"
    assert said[-1]["error"]["message"] == "the database failed while running the statement."
    assert "sesame-9" not in json.dumps(said)


def until_kind(child, *kinds):
    """What the child says up to one of these."""
    said = []
    for line in child.stdout:
        said.append(json.loads(line))
        if said[-1]["kind"] in kinds:
            return said
    raise AssertionError(f"it ended with {said[-1:]}")


def test_a_child_that_may_stay_takes_one_job_after_the_other_until_one_fails(start, metering, tmp_path):
    way = {"reader": reader(metering)}
    child = start(**a_run(tmp_path, stay=True))
    for number in ("7", "8", "9"):
        if number != "7":
            say(child, {"cancel": "7"})  # late, and meant for another run
            say(child, way | a_run(tmp_path, run=number, stay=True))
        until_kind(child, "publish")
        say(child, {"published": True})
        assert until_kind(child, "done", "failed")[-1]["kind"] == "done"
        assert (tmp_path / number / "1" / "districts.csv").exists()
    say(child, way | a_run(tmp_path, run="10", stay=True, statement="select no_such from districts"))
    assert until_kind(child, "failed")[-1]["error"]["code"] == "statement_wrong"
    assert child.wait(60) == 0, "after a fault it makes room for a fresh one"


def test_a_pool_reuses_children_and_lets_go_of_those_that_are_dead_grown_or_old(monkeypatch):
    from patient_ladle.service.children import pool as module

    class Stub:
        def __init__(self):
            self.jobs, self.ended, self.bytes, self.process = 0, False, 100 << 20, self

        def poll(self):
            return 0 if self.ended else None

        def say(self, words):
            self.said = words

        def resident_bytes(self):
            return self.bytes

        def kill(self):
            self.ended = True

        def wait(self):
            return 0

    monkeypatch.setattr(module, "Child", Stub)
    pool = module.ChildPool(2)
    pool.warm()
    warm = list(pool.idle)
    first = pool.take({"do": "run"})
    assert (first in warm, first.said) == (True, {"do": "run", "stay": True})
    pool.give_back(first)
    assert pool.take({"do": "run"}) is first
    first.bytes = module.GROWN_BYTES
    pool.give_back(first)
    assert first.ended
    second = pool.take({"do": "run"})
    second.jobs = module.JOBS
    pool.give_back(second)
    assert second.ended
    third = pool.take({"do": "run"})
    assert third not in warm
    pool.give_back(third)
    third.ended = True
    fourth = pool.take({"do": "run"})
    assert fourth is not third
    pool.close()
    pool.give_back(fourth)
    assert fourth.ended


def test_a_run_that_eats_memory_is_stopped_with_a_clear_word_and_no_other_is_touched(orm):
    from django.test import override_settings

    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.processes.worker import WorkerProcess, _Minded
    from patient_ladle.service.sources.models import Source

    class Stub:
        def __init__(self, size):
            self.size, self.killed, self.process = size, False, SimpleNamespace(pid=os.getpid())

        def resident_bytes(self):
            return self.size

        def kill(self):
            self.killed = True

    worker = WorkerProcess(2)
    run = Run(source=Source(connect_timeout_seconds=10, query_timeout_seconds=600))
    worker.minded = {(number, 1): _Minded(run, Stub(size)) for number, size in ((1, 300 << 20), (2, 3 << 30))}
    with override_settings(RUN_MEMORY_BYTES=2 << 30):
        worker._mind_memory_and_sources()
    spared, ended = worker.minded.values()
    assert (spared.child.killed, spared.asked, ended.child.killed) == (False, None, True)
    error = ended.asked[1]
    assert (error.code, error.transient) == ("out_of_memory", False)
    assert error.message == "the run needed more than the 2,048 MB of memory that one may take, and was stopped."
