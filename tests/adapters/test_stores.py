"""Result stores keep one contract, whether renames exist there or not; the bucket is a real server of its protocol."""

from __future__ import annotations

import contextlib
import errno
import hashlib
import json
import os
import re
import shutil
import socket
import zipfile
from datetime import datetime, timedelta, timezone
from urllib.parse import urlsplit

import pytest
import s3fs

from patient_ladle.adapters.deliveries import begun, mark_of
from patient_ladle.adapters.stores import store_at
from patient_ladle.core.errors import BadInput, NotFound, ProofFailed, SourceUnreachable, StoreUnreadable, StoreUnwritable
from patient_ladle.core.ports import Statement
from patient_ladle.core.results.columns import Column
from patient_ladle.core.runs.engine import RunJob, run_extract
from patient_ladle.core.runs.memory import ManualClock, MemoryLedger, MemorySession
from tests import profile
from tests.bad_bucket import MODES, WELL, BadBucket

COLUMNS = [Column("id", "integer"), Column("note")]
ROWS = [(n, f"reading {n} " + "of the river gauge " * 20) for n in range(60_000)]
NAMES = ["datapackage.json", "readings.csv", "readings.json", "readings.xlsx"]


@pytest.fixture(params=["folder", "bucket"])
def address(request, tmp_path):
    if request.param == "folder":
        (tmp_path / "results").mkdir()
        return str(tmp_path / "results")
    request.getfixturevalue("bucket_server")
    return f"s3://fennmoor/{tmp_path.name}"


def run(address, into=(), rows=ROWS, attempt=1, formats=("csv", "json", "xlsx"), session=None):
    job = RunJob("r", "readings", Statement("select 1"), formats, tuple(map(str, into)))
    place = store_at(address).result("7", attempt)
    delivery, read = begun(job.deliver_into, mark_of("7", attempt), place.open), lambda: MemorySession(COLUMNS, rows)
    return run_extract(job, session or read, place, MemoryLedger(), ManualClock(), delivery)


def read(address, name, attempt=1):
    with store_at(address).open("7", attempt, name) as file:
        return file.read()


def litter(address):
    """Everything that lies in a bucket, uploads under way among it."""
    system, root = s3fs.S3FileSystem(use_listings_cache=False), address.removeprefix("s3://")
    uploads = system.call_s3("list_multipart_uploads", Bucket="fennmoor").get("Uploads") or []
    return sorted(path.removeprefix(root + "/") for path in system.find(root)), [upload["Key"] for upload in uploads]


def test_a_result_is_stored_proven_delivered_into_every_folder_and_read_back(address, tmp_path):
    folders = [tmp_path / "regulator", tmp_path / "archive" / "2026"]
    outcome = run(address, folders)
    for file in outcome.files:
        data = read(address, file.name)
        assert (hashlib.sha256(data).hexdigest(), len(data), file.rows) == (file.sha256, file.bytes, len(ROWS))
        assert all((folder / file.name).read_bytes() == data for folder in folders)
    for folder in folders:
        assert sorted(path.name for path in folder.iterdir()) == ["readings.csv", "readings.datapackage.json", *NAMES[2:]]
    assert outcome.delivery.delivered()[0] == [str(folder / "readings.csv") for folder in folders]
    assert [resource["path"] for resource in json.loads(read(address, "datapackage.json"))["resources"]] == NAMES[1:]
    with store_at(address).open("7", 1, "readings.xlsx") as file, zipfile.ZipFile(file) as book:
        assert book.testzip() is None
    with store_at(address).open("7", 1, "readings.csv") as file:
        file.seek(100)
        assert file.read(50) == read(address, "readings.csv")[100:150]


def test_a_folder_that_cannot_take_the_files_keeps_them_out_of_the_others(address, tmp_path):
    (tmp_path / "blocked").write_text("a file, no folder")
    outcome = run(address, [tmp_path / "first", tmp_path / "blocked" / "here"], ROWS[:10])
    assert isinstance(outcome.undelivered, StoreUnwritable)
    assert list((tmp_path / "first").glob("*")) == []
    assert b"readings.csv" in read(address, "datapackage.json"), "what is stored and proven stays"


def test_an_attempt_that_fails_leaves_nothing_also_where_another_one_stays(address):
    class Torn(MemorySession):
        def batches(self, soon=False):
            yield from super().batches(soon)
            raise SourceUnreachable("the line broke.")

    run(address, rows=ROWS[:10])
    with pytest.raises(SourceUnreachable):
        run(address, attempt=2, session=lambda: Torn(COLUMNS, ROWS))
    for name in NAMES:
        with pytest.raises(NotFound):
            read(address, name, attempt=2)
    assert read(address, "readings.csv").count(b"\n") == 11
    if address.startswith("s3://"):
        assert litter(address) == ([f"7/1/{name}" for name in NAMES], [])


def test_what_is_discarded_is_gone_and_its_neighbour_stays(address):
    run(address, rows=ROWS[:10])
    run(address, rows=ROWS[:10], attempt=2)
    store_at(address).discard("7", 1)
    store_at(address).discard("7", 1)
    for name in NAMES:
        with pytest.raises(NotFound):
            read(address, name)
        assert read(address, name, attempt=2)


def test_a_copy_that_differs_from_what_was_proven_is_not_delivered(address, tmp_path, monkeypatch):
    from patient_ladle.adapters.deliveries.folder import FolderDelivery

    real = FolderDelivery._copied
    monkeypatch.setattr(FolderDelivery, "_copied", lambda self, stored, part: "0" * 64 if real(self, stored, part) else "")
    with pytest.raises(ProofFailed, match="would not be what was proven"):
        run(address, [tmp_path / "into"], ROWS[:10])
    assert list((tmp_path / "into").iterdir()) == []


def test_the_mark_of_a_store_is_written_once(address):
    marks = {store_at(address).mark() for _ in range(3)}
    assert len(marks) == 1
    assert len(marks.pop()) == 16


@pytest.mark.parametrize("name", ["../x", "..", "", "a/b", "nothing.csv"])
def test_only_names_of_stored_files_are_opened(address, name):
    run(address, rows=ROWS[:3])
    with pytest.raises(NotFound):
        store_at(address).open("7", 1, name)


def test_what_a_killed_worker_left_in_a_bucket_is_swept(bucket_server):
    address = "s3://fennmoor/killed"
    place = store_at(address).result("7", 1)
    upload = place.create("readings.csv")
    for _ in range(6):
        upload.write(b"x" * (4 << 20))
    done = place.create("done.csv")
    done.write(b"a\n1\n")
    place.finish("done.csv")
    assert litter(address) == (["7/1/done.csv"], ["killed/7/1/readings.csv"])
    store_at(address).discard("7", 1)
    assert litter(address) == ([], [])
    with pytest.raises(StoreUnwritable):
        place.finish("readings.csv")
    with contextlib.suppress(StoreUnwritable):
        place.discard()
    assert litter(address) == ([], [])


def test_access_to_a_bucket_is_given_by_our_variables_by_a_file_or_by_those_of_the_libraries(
    bucket_server, monkeypatch, tmp_path
):
    given = {name: os.environ[f"LADLE_BUCKET_{name}"] for name in ("KEY", "SECRET", "REGION", "ENDPOINT")}
    with monkeypatch.context() as patch:
        for name in ("ACCESS_KEY_ID", "SECRET_ACCESS_KEY", "REGION", "ENDPOINT_URL_S3"):
            patch.delenv(f"AWS_{name}")
        (tmp_path / "secret").write_text(given["SECRET"] + "\n")
        patch.setenv("LADLE_BUCKET_SECRET", f"file:{tmp_path}/secret")
        assert store_at("s3://fennmoor/given").mark()
        patch.setenv("LADLE_BUCKET_SECRET", f"file:{tmp_path}/none")
        with pytest.raises(BadInput, match=r"LADLE_BUCKET_SECRET names .* which cannot be read"):
            store_at("s3://fennmoor/given")
    for name in given:
        monkeypatch.delenv(f"LADLE_BUCKET_{name}")
    assert store_at("s3://fennmoor/given").mark()


def test_a_bucket_that_is_not_there_or_cannot_be_reached_says_what_to_check(bucket_server, monkeypatch):
    for look in (lambda store: store.mark(), lambda store: store.result("7", 1).seal({})):
        with pytest.raises(StoreUnwritable, match="does not do as asked") as refused:
            look(store_at("s3://no-such-bucket/here"))
        assert "LADLE_BUCKET_ENDPOINT" in refused.value.hint
    with pytest.raises(BadInput, match="names no bucket"):
        store_at("s3:///below")
    with socket.socket() as closed:
        closed.bind(("127.0.0.1", 0))
        monkeypatch.setenv("LADLE_BUCKET_ENDPOINT", f"http://127.0.0.1:{closed.getsockname()[1]}")
        s3fs.S3FileSystem.clear_instance_cache()
        with pytest.raises(StoreUnwritable, match="does not do as asked"):
            run("s3://fennmoor/away", rows=ROWS[:3], formats=("csv",))
    s3fs.S3FileSystem.clear_instance_cache()


@pytest.fixture
def bad_bucket(bucket_server, tmp_path, monkeypatch):
    """A bucket that can be made bad, by name, and a store in it with a result of run 7."""
    behind = urlsplit(os.environ["LADLE_BUCKET_ENDPOINT"]).port
    server = BadBucket(behind)
    monkeypatch.setenv("LADLE_BUCKET_ENDPOINT", server.url)
    monkeypatch.setenv("LADLE_BUCKET_SECONDS", "0.5")
    s3fs.S3FileSystem.clear_instance_cache()
    address = f"s3://fennmoor/{tmp_path.name}"
    run(address, rows=ROWS[:5], formats=("csv",))
    yield server, address
    server.end()
    s3fs.S3FileSystem.clear_instance_cache()


def upload(store):
    """Three parts of an object."""
    file = store.result("8", 1)
    written = file.create("readings.csv")
    for _ in range(3):
        written.write(b"x" * (8 << 20))
    file.finish("readings.csv")


ASKED = {
    "mark": lambda store: store.mark(),
    "runs": lambda store: list(store.runs()),
    "upload": upload,
    "seal": lambda store: store.result("8", 1).seal({"resources": []}),
    "open": lambda store: store.open("7", 1, "readings.csv").read(),
    "discard": lambda store: store.discard("7", 1, surely=True),
    "sweep": lambda store: store.sweep(datetime.now(timezone.utc)),
}
WRITES = ("upload", "seal")
SOME = ("runs", "upload", "open")
"""Of the short form: one that lists, one that writes, one that reads; each waits until it gives up."""


@pytest.mark.parametrize("mode", MODES)
def test_a_bucket_that_is_not_well_says_so_and_nothing_is_lost_or_left(bad_bucket, mode):
    server, address = bad_bucket
    for name, ask in ASKED.items():
        s3fs.S3FileSystem.clear_instance_cache()  # a pool of connections that has seen nothing yet
        server.mode = mode
        if (mode == "full" and name not in WRITES) or not (profile.LONG or name in SOME):
            continue
        with pytest.raises(StoreUnwritable) as met:
            ask(store_at(address))
        assert met.value.transient
        assert not re.search(r"(?i)uploadid|signature|https?://[^/ ]+/", met.value.message), met.value.message
        assert isinstance(met.value, StoreUnreadable) == (name == "open"), name
    server.mode = WELL
    s3fs.S3FileSystem.clear_instance_cache()
    store = store_at(address)
    assert list(store.runs()) == [7]
    assert read(address, "readings.csv").count(b"\n") == 6
    store.discard("8", 1, surely=True)
    store.discard("7", 1, surely=True)
    assert [name for name in litter(address)[0] if name != ".store"] == []
    assert store.sweep(datetime.now(timezone.utc) + timedelta(days=1)) >= 0
    assert litter(address)[1] == []


def test_a_store_says_which_runs_it_has_and_removes_surely_or_says_so(address, monkeypatch):
    store = store_at(address)
    assert (store.mark(make=False), list(store.runs())) == ("", [])
    mark = store.mark()
    assert store.mark(make=False) == mark
    run(address, rows=ROWS[:5])
    assert list(store.runs()) == [7]
    store.discard("7", 1, surely=True)
    assert list(store.runs()) == []
    run(address, rows=ROWS[:5])
    with monkeypatch.context() as away:
        if address.startswith("s3:"):
            away.setattr(store.system, "rm_file", lambda *_: (_ for _ in ()).throw(OSError("the bucket does not answer")))
        else:
            away.setattr(shutil, "rmtree", lambda *_, **__: (_ for _ in ()).throw(OSError(errno.EIO, "input/output error")))
        with pytest.raises(StoreUnwritable):
            store.discard("7", 1, surely=True)
    assert list(store.runs()) == [7]


def test_uploads_that_an_outage_left_open_are_let_go_of_once_they_are_old(bucket_server, tmp_path):
    store = store_at(f"s3://fennmoor/{tmp_path.name}")
    elsewhere = f"{tmp_path.name}-of-another/7/1/readings.csv"
    for key in (f"{tmp_path.name}/7/1/readings.csv", elsewhere):
        bucket_server.call_s3("create_multipart_upload", Bucket="fennmoor", Key=key)
    begun = bucket_server.call_s3("list_multipart_uploads", Bucket="fennmoor", Prefix=tmp_path.name)["Uploads"][0]["Initiated"]
    assert store.sweep(begun) == 0
    assert store.sweep(begun + timedelta(seconds=1)) == 1
    left = bucket_server.call_s3("list_multipart_uploads", Bucket="fennmoor", Prefix=tmp_path.name).get("Uploads")
    assert [upload["Key"] for upload in left] == [elsewhere]
    given = {"Bucket": "fennmoor", "Key": elsewhere, "UploadId": left[0]["UploadId"]}
    bucket_server.call_s3("abort_multipart_upload", **given)
