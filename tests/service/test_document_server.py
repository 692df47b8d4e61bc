"""The document store that ships for demo and tests, asked by the driver that real ones are asked by."""

from __future__ import annotations

import threading
import time
from datetime import datetime, timezone

import pymongo
import pytest
from bson import Binary, Decimal128, Int64, ObjectId
from pymongo import errors

from patient_ladle.service.demo.document_server import DocumentServer, Login
from tests.command import PATIENCE

AT = datetime(2026, 11, 24, 6, 5, 1, 250_000, timezone.utc)
KINDS = {
    "_id": ObjectId("0123456789abcdef01234567"), "text": "Heron Holt é", "whole": 7, "long": Int64(2**40), "half": 0.5, "no": None,
    "yes": True, "exact": Decimal128("1.50"), "at": AT, "bytes": Binary(b"\x00\xff", 128), "nested": {"reading": {"value": 3}}, "list": [1, "a", {}],
}  # fmt: skip
MANY = [{"_id": n, "zone": ("North", "South")[n % 2], "litres": n} for n in range(350)]


@pytest.fixture(scope="module")
def server():
    contacts = {"kinds": [KINDS], "many": MANY, "slow": [{"_id": n} for n in range(500)], "none": []}
    made = DocumentServer(
        {"reader": Login("read,er=1", {"contacts": "read"}), "writer": Login("writer", {"contacts": "readWrite"})},
        {"contacts": contacts, "private": {"payroll": [{"_id": 1}]}},
        {"slow": 0.02},
    )
    made.start()
    yield made
    made.stop()


def client(server, name="reader", password=None, **more):
    given = {"reader": "read,er=1", "writer": "writer"}
    return pymongo.MongoClient(
        "127.0.0.1", server.port, username=name, password=password or given[name], serverSelectionTimeoutMS=PATIENCE * 1000,
        tz_aware=True, retryReads=False, **more,
    )  # fmt: skip


def test_every_kind_of_value_comes_as_it_is(server):
    with client(server) as one:
        assert one.contacts.kinds.find_one() == KINDS
        assert list(one.contacts.kinds.find({}, {"_id": 0, "text": 1})) == [{"text": KINDS["text"]}]


@pytest.mark.parametrize("batch", [1, 2, 101, 349, 350, 351, 1000])
def test_all_documents_come_in_batches_of_any_size(server, batch):
    with client(server) as one:
        assert list(one.contacts.many.find({}, batch_size=batch)) == MANY
        assert one.contacts.many.count_documents({"zone": "North"}) == 175
        grouped = one.contacts.many.aggregate(
            [{"$group": {"_id": "$zone", "n": {"$sum": "$litres"}}}, {"$sort": {"_id": 1}}], batchSize=batch
        )
        assert list(grouped) == [{"_id": "North", "n": sum(range(0, 350, 2))}, {"_id": "South", "n": sum(range(1, 350, 2))}]
    assert server.cursors == {}


def test_whoever_is_not_known_or_may_not_is_refused(server):
    for name, password in (("reader", "wrong"), ("nobody", "read,er=1")):
        with client(server, name, password) as one, pytest.raises(errors.OperationFailure) as refused:
            one.contacts.many.find_one()
        assert refused.value.code == 18
    with pymongo.MongoClient("127.0.0.1", server.port) as unknown, pytest.raises(errors.OperationFailure) as refused:
        unknown.contacts.many.find_one()
    assert refused.value.code == 13
    with client(server) as one:
        assert one.list_database_names() == ["contacts"]
        assert one.contacts.list_collection_names() == ["kinds", "many", "none", "slow"]
        with pytest.raises(errors.OperationFailure, match="not authorized on private"):
            one.private.payroll.find_one()
        [role] = one.admin.command("connectionStatus")["authInfo"]["authenticatedUserRoles"]
        assert role == {"role": "read", "db": "contacts"}


def test_a_reader_changes_nothing_and_a_writer_does(server):
    before = server.counts()
    with client(server) as one:
        for work in (
            lambda: one.contacts.many.insert_one({"a": 1}),
            lambda: one.contacts.many.delete_many({}),
            lambda: one.contacts.many.drop(),
            lambda: list(one.contacts.many.aggregate([{"$out": "stolen"}])),
        ):
            with pytest.raises(errors.OperationFailure) as refused:
                work()
            assert refused.value.code == 13
    assert server.counts() == before
    with client(server, "writer") as one:
        one.contacts.none.insert_one({"_id": 1})
        assert server.counts() == before | {"contacts.none": 1}
        one.contacts.none.delete_many({})
    assert server.counts() == before


def test_a_command_ends_at_its_time_limit_in_whatever_batch_it_is(server):
    with client(server) as one:
        with pytest.raises(errors.ExecutionTimeout):
            list(one.contacts.slow.find({}, max_time_ms=200))
        with pytest.raises(errors.ExecutionTimeout):
            list(one.contacts.slow.find({}, max_time_ms=200, batch_size=2))


def test_an_operation_is_ended_by_another_hand(server):
    ended = []

    def ask():
        with client(server) as one:
            try:
                ended.append(list(one.contacts.slow.find({}, batch_size=400)))
            except errors.OperationFailure as error:
                ended.append(error.code)

    asking = threading.Thread(target=ask)
    asking.start()
    with client(server) as other:
        until = time.monotonic() + PATIENCE
        while not ended and time.monotonic() < until:
            running = other.admin.command("currentOp")["inprog"]
            for each in running:
                if each["op"] in ("find", "getMore"):
                    other.admin.command("killOp", op=each["opid"])
            time.sleep(0.01)
    asking.join(PATIENCE)
    assert ended == [11601]


def test_a_cursor_that_is_lost_and_a_snapshot_that_is_not_offered_are_told(server):
    with client(server) as one:
        cursor = one.contacts.many.find({}, batch_size=10)
        next(cursor)
        server.cursors.clear()
        with pytest.raises(errors.CursorNotFound):
            list(cursor)
        with pytest.raises(errors.OperationFailure, match="readConcern: snapshot"):
            one.contacts.command("find", "many", readConcern={"level": "snapshot"})
        with pytest.raises(errors.OperationFailure) as refused:
            one.contacts.command("whatever")
        assert refused.value.code == 59
