"""The service with its results in a bucket: stored, delivered into several folders, held, lost and found."""

from __future__ import annotations

import os
import signal
from urllib.parse import urlsplit

import pytest

from patient_ladle.client import CallFailed
from tests.bad_bucket import WELL, BadBucket
from tests.command import PATIENCE
from tests.conftest import set_up, start_service, stop_service, until
from tests.faults.test_faults import worker_pid

STATEMENT = "select n, pg_sleep(0.0004) is null as x from generate_series(1, 2000) n"
FOLDERS = "regulator; archive/2026"


@pytest.fixture(scope="module")
def bad_bucket(bucket_server):
    made = BadBucket(urlsplit(os.environ["LADLE_BUCKET_ENDPOINT"]).port)
    yield made
    made.end()


@pytest.fixture(scope="module")
def service(home, metering, bad_bucket):
    made = start_service(
        home / "bucket", LADLE_RESULT_STORE="s3://fennmoor/service", LADLE_BUCKET_ENDPOINT=bad_bucket.url, LADLE_BUCKET_SECONDS="1",
        LADLE_RETRY_SECONDS="1",
    )  # fmt: skip
    with set_up(made, metering) as ladle:
        ladle.extracts.add("steady", "metering", STATEMENT, formats=["csv", "xlsx"], deliver_into=FOLDERS, file_name="steady")
    yield made
    stop_service(made)


def keys(system, run):
    return sorted(path.removeprefix(f"fennmoor/service/{run}/") for path in system.find(f"fennmoor/service/{run}"))


STORED = ["datapackage.json", "steady.csv", "steady.xlsx"]


def test_a_lost_attempt_leaves_nothing_in_the_bucket_and_the_next_one_all(service, bucket_server, tmp_path):
    with service.ladle() as ladle:
        run = ladle.runs.start("steady")["id"]
        os.kill(worker_pid(service, run), signal.SIGKILL)
        record = ladle.runs.wait(run, PATIENCE)
        assert (record["attempt"], record["rows"]) == (2, 2_000)
        assert keys(bucket_server, run) == [f"2/{name}" for name in STORED]
        uploads = bucket_server.call_s3("list_multipart_uploads", Bucket="fennmoor").get("Uploads")
        assert not uploads
        [table, book] = record["files"]
        deliveries = service.data / "deliveries"
        assert [table["delivered_path"], *table["delivered_also"]] == [
            str(deliveries / "regulator/steady.csv"),
            str(deliveries / "archive/2026/steady.csv"),
        ]
        assert book["delivered_also"] == [str(deliveries / "archive/2026/steady.xlsx")]
        saved = ladle.runs.save_files(record, tmp_path)
        for path in saved:
            for folder in ("regulator", "archive/2026"):
                delivered = deliveries / folder / path.name
                assert not delivered.exists() or delivered.read_bytes() == path.read_bytes()
        assert len((deliveries / "archive/2026/steady.csv").read_bytes().splitlines()) == 2_001
    shown = service.command("result", "preview", str(run), "--file", "steady.xlsx")
    assert (shown.returncode, "slept" in shown.stdout or "x" in shown.stdout) == (0, True), shown.stderr
    verified = service.command("result", "verify", str(deliveries / "archive/2026/steady.datapackage.json"))
    assert verified.returncode == 0, verified.stdout


def test_a_held_result_is_released_out_of_the_bucket_into_the_folders_of_its_schedule(service, bucket_server):
    guards = [{"guard": "rows", "at_least": 10_000, "then": "hold"}]
    with service.ladle() as ladle:
        ladle.extracts.add("held", "metering", "select 1 as a", deliver_into=FOLDERS, file_name="held", guards=guards)
        ladle.schedules.add("held_daily", "held", "live", "daily 05:00", zone="UTC", deliver_into="held/here, held/there")
        [made] = ladle.schedules.backfill("held_daily", "2026-11-02", "2026-11-02")["runs"]
        record = ladle.runs.wait(made)
        assert (record["held"], [file["delivered_path"] for file in record["files"]]) == ("held", [""])
        record = ladle.runs.release(record["id"], "seen")
    deliveries = service.data / "deliveries"
    [file] = record["files"]
    assert [file["delivered_path"], *file["delivered_also"]] == [
        str(deliveries / "held/here/held.csv"),
        str(deliveries / "held/there/held.csv"),
    ]
    assert not (deliveries / "regulator/held.csv").exists()


def test_a_bucket_that_is_away_needs_nobody_and_is_one_trouble(service, bucket_server, bad_bucket, tmp_path):
    with service.ladle() as ladle:
        stored = ladle.runs.wait(ladle.runs.start("steady")["id"], PATIENCE)
        ladle.schedules.add("steady_daily", "steady", "live", "daily 05:00", zone="UTC", attempts=9)
        bad_bucket.mode = "hanging"
        [run] = ladle.schedules.backfill("steady_daily", "2026-11-02", "2026-11-02", deliver=False)["runs"]
        for mode in ("hanging", "refusing"):
            bad_bucket.mode, failures = mode, ladle.runs.get(run)["failures"]
            until(lambda failures=failures: ladle.runs.get(run)["failures"] > failures)
            with pytest.raises(CallFailed) as away:
                ladle.runs.save_files(stored, tmp_path)
            assert (away.value.status, away.value.code) == (503, "store_unreadable")
        assert ladle.runs.get(run)["error"]["code"] in ("store_unwritable", "store_unreadable")
        bad_bucket.mode = WELL
        record = ladle.runs.wait(run, PATIENCE)
        assert (record["rows"], record["delivery"]) == (2_000, "")
        assert keys(bucket_server, run) == [f"{record['attempt']}/{name}" for name in STORED]
        assert ladle.runs.save_files(stored, tmp_path)
        assert ladle.status()["nothing_runs"] == []
        assert [need for need in ladle.last_night()["needs"] if need["kind"] != "held"] == []
