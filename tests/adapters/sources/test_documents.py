"""Document stores beyond the contract of all engines: commands and their tables, effects, errors, limits, snapshots."""

from __future__ import annotations

import contextlib
import csv
import io
import json
import re
import socket
import threading
import time
from datetime import date, datetime, timezone

import bson
import pytest
from bson import Decimal128
from hypothesis import given
from hypothesis import strategies as st
from pymongo import errors

from patient_ladle.adapters.sources import base, documents, documents_errors, get_engine
from patient_ladle.core.errors import (
    BadInput,
    ConnectionLost,
    DeadlineExceeded,
    LadleError,
    ResultTooLarge,
    RunCancelled,
    SourceDatabaseMissing,
    SourceNotReadable,
    SourceSignInRefused,
    SourceTlsRefused,
    StatementFailed,
    StatementRefused,
    StatementWrong,
)
from patient_ladle.core.files.formats import FORMATS, checked_options
from patient_ladle.core.files.formats.base import Target
from patient_ladle.core.ports import Reading, Statement
from patient_ladle.core.statements.languages import documents as language
from patient_ladle.core.values.parameters import BoundValues, Parameter, resolve
from patient_ladle.service.demo.document_server import DocumentServer, Login
from tests.core.documents.slowly import documents as uneven
from tests.core.documents.slowly import read_json, rows_of
from tests.core.languages.test_documents import HOSTILE
from tests.profile import examples

from .cases.documents import address_of

CALLS = [
    {"_id": n, "zone": ("North", "South")[n % 2], "minutes": n, "customer": {"name": f"Customer {n}", "town": "Alder Moor"},
     "topics": ["leak", "bill"][: n % 3], "cost": Decimal128(f"{n}.50")}
    for n in range(40)
]  # fmt: skip


@pytest.fixture(scope="module")
def server():
    logins = {"reader": Login("reading-only", {"works": "read"}), "writer": Login("w", {"works": "readWrite", "other": "read"})}
    made = DocumentServer(
        logins,
        {
            "works": {
                "calls_2026_10": CALLS,
                "calls_2026_11": [],
                "contacts": [{"_id": 1, "a": 1}],
                "slow": [{"_id": n} for n in range(300)],
            },
            "other": {"a": []},
        },
        {"slow": 0.05},
    )
    made.start()
    yield made
    made.stop()


def opened(server, **more):
    return get_engine("documents").open(address_of(server) | more, more.pop("secret", "reading-only"))


def fetched(server, command, values=None, declared=(), reading=None, **given):
    text = command if isinstance(command, str) else json.dumps(command)
    bound = resolve(declared, values or {}, date(2026, 11, 24), datetime(2026, 11, 24, 6, tzinfo=timezone.utc))
    session = opened(server)
    try:
        columns = session.describe(Statement(text, bound, reading=reading or Reading(), **given))
        rows = [row for b in session.batches() for row in zip(*(cells.to_pylist() for cells in b.cells), strict=True)]
        return [c.name for c in columns], rows
    finally:
        session.close()


@pytest.mark.parametrize(
    ("command", "names", "count", "first"),
    [
        ({"find": "calls_2026_10"}, ["zone", "minutes", "customer.name", "customer.town", "topics", "cost"], 40,
         ("North", "0", "Customer 0", "Alder Moor", "[]", "0.50")),
        ({"find": "calls_2026_10", "projection": {"minutes": 1, "customer.town": 1, "zone": 1}, "sort": {"minutes": -1}, "limit": 3},
         ["minutes", "customer.town", "zone"], 3, ("39", "Alder Moor", "South")),
        ({"find": "calls_2026_10", "projection": {"_id": 1, "zone": 1}, "skip": 38}, ["_id", "zone"], 2, ("38", "North")),
        ({"find": "calls_2026_10", "projection": {"customer": 0, "topics": 0}}, ["zone", "minutes", "cost"], 40, ("North", "0", "0.50")),
        ({"find": "calls_2026_10", "filter": {"zone": "East"}}, ["zone", "minutes", "customer.name", "customer.town", "topics", "cost"], 0, None),
        ({"find": "calls_2026_10", "filter": {"zone": "East"}, "projection": {"zone": 1, "customer": 1}},
         ["zone", "customer.name", "customer.town"], 0, None),
        ({"find": "calls_2026_11", "projection": {"zone": 1}}, ["zone"], 0, None),
        ({"find": "calls_2026_11"}, ["_id"], 0, None),
        ({"count": "calls_2026_10", "query": {"zone": "North"}}, ["count"], 1, ("20",)),
        ({"distinct": "calls_2026_10", "key": "customer.town"}, ["customer.town"], 1, ("Alder Moor",)),
        ({"aggregate": "calls_2026_10", "pipeline": [{"$group": {"_id": "$zone", "calls": {"$sum": 1}}}, {"$sort": {"_id": 1}}]},
         ["_id", "calls"], 2, ("North", "20")),
        ({"aggregate": "calls_2026_10", "pipeline": [{"$group": {"_id": {"zone": "$zone"}, "calls": {"$sum": 1}}}, {"$sort": {"_id": 1}},
                                                     {"$project": {"calls": 1, "_id": 1}}]}, ["calls", "_id.zone"], 2, ("20", "North")),
        ({"aggregate": "calls_2026_10", "pipeline": [{"$match": {"minutes": 7}}, {"$project": {"_id": 0, "cost": 1, "who": "$customer.name"}}]},
         ["cost", "who"], 1, ("7.50", "Customer 7")),
        ({"aggregate": "calls_2026_10", "pipeline": [{"$count": "all"}]}, ["all"], 1, ("40",)),
        ({"aggregate": "calls_2026_10", "pipeline": [{"$match": {"minutes": {"$gt": 37}}}, {"$project": {"customer": 0, "topics": 0}}]},
         ["zone", "minutes", "cost"], 2, ("North", "38", "38.50")),
    ],
)  # fmt: skip
def test_a_command_gives_the_columns_that_it_asks_for_in_their_order(server, command, names, count, first):
    found, rows = fetched(server, command)
    assert (found, len(rows), rows[0] if rows else None) == (names, count, first)


def test_what_is_chosen_is_there_also_on_a_night_without_it(server):
    assert fetched(server, {"find": "calls_2026_11"}, reading=Reading(columns=("minutes", "zone"))) == (["minutes", "zone"], [])
    names, rows = fetched(server, {"find": "calls_2026_10", "limit": 1}, reading=Reading(columns=("nowhere", "_id", "zone")))
    assert names[:3] == ["nowhere", "_id", "zone"]
    assert rows[0][:3] == (None, "0", "North")


def test_rows_of_a_list_and_objects_that_stay_json(server):
    command = {
        "find": "calls_2026_10",
        "filter": {"minutes": {"$in": [2, 3]}},
        "projection": {"minutes": 1, "topics": 1, "customer": 1},
    }
    kept = {"find": "calls_2026_10", "limit": 1, "projection": {"customer.town": 1, "customer.name": 1, "zone": 1}}
    assert fetched(server, kept, reading=Reading({"depth": 0}))[0] == ["customer", "zone"]
    assert fetched(server, command, reading=Reading({"rows_of": "topics", "depth": 0})) == (
        ["minutes", "topics", "customer"],
        [("2", "leak", '{"name":"Customer 2","town":"Alder Moor"}'), ("2", "bill", '{"name":"Customer 2","town":"Alder Moor"}'),
         ("3", None, '{"name":"Customer 3","town":"Alder Moor"}')],
    )  # fmt: skip


def test_only_the_first_rows_are_read_where_no_more_are_wanted(server):
    looked = []
    _, rows = fetched(
        server, {"find": "slow"}, reading=Reading({"identifier": True}, first=5, looked=lambda *seen: looked.append(seen))
    )
    assert (len(rows), len(looked)) == (5, 1)


def test_whoever_is_told_may_end_the_reading(server):
    def too_much(rows, size):
        raise ResultTooLarge(f"{rows} rows")

    with pytest.raises(ResultTooLarge, match="40 rows"):
        fetched(server, {"find": "calls_2026_10"}, reading=Reading(looked=too_much))
    assert server.cursors == {}


PARAMETERS = [
    Parameter("zone"),
    Parameter("least", "integer"),
    Parameter("rate", "decimal"),
    Parameter("on", "boolean"),
    Parameter("none", required=False),
]


def test_values_stand_for_what_they_are_wherever_they_stand(server):
    values = {"zone": "$zone", "least": 0, "rate": "1.50", "on": False, "none": None}
    text = """{"aggregate": "calls_2026_10", "pipeline": [{"$limit": 1}, {"$project": {"_id": 0, "zone": :zone, "least": :least, "rate": :rate,
      "on": :on, "none": :none, "both": {"$concat": ["$zone", :zone]}, "same": {"$literal": :zone}}}]}"""
    names, [row] = fetched(server, text, values, PARAMETERS)
    assert dict(zip(names, row, strict=True)) == {
        "zone": "$zone", "least": "0", "rate": "1.50", "on": "false", "none": None, "both": "North$zone", "same": "$zone"
    }  # fmt: skip
    assert fetched(server, '{"find": "calls_2026_10", "filter": {"zone": :zone}}', {"zone": "$zone"}, PARAMETERS[:1])[1] == []


def test_nothing_hostile_has_an_effect_even_for_a_login_that_may_write(server, monkeypatch):
    before = server.counts()
    for command in HOSTILE:
        session = opened(server, user="writer", secret="w")
        with pytest.raises(StatementRefused):
            session.describe(Statement(json.dumps(command)))
        session.close()
    assert server.counts() == before
    # Past the gate only commands of four names are sent, and a login that may only read is refused by the server.
    monkeypatch.setattr(language, "judged", lambda *_: "")
    for command in HOSTILE:
        session = opened(server)
        try:
            session.describe(Statement(json.dumps(command)))
        except LadleError as error:
            assert error.hint
        finally:
            session.close()
    assert server.counts() == before
    for command in HOSTILE:
        name = next(iter(command))
        if name in ("find", "aggregate", "count", "distinct"):
            continue
        session = opened(server, user="writer", secret="w")
        with pytest.raises(StatementRefused, match=f"'{name}' is no command that only reads".replace("$", r"\$")):
            session.describe(Statement(json.dumps(command)))
        session.close()
    assert server.counts() == before
    assert len(HOSTILE) > 100


@pytest.mark.parametrize(
    ("command", "error", "says"),
    [
        ({"find": "calls_2026_1o"}, StatementWrong, "there is no collection 'calls_2026_1o' (line 1, column 10)"),
        ({"aggregate": "calls_2026_10", "pipeline": [{"$lookup": {"from": "crew", "as": "x", "localField": "a", "foreignField": "b"}}]},
         StatementWrong, "no collection 'crew'"),
        ({"find": "calls_2026_10", "projection": {"zone": 1, "minutes": 0}}, StatementWrong, "the database rejected the statement"),
        ({"find": "calls_2026_10", "limit": 1.5}, StatementWrong, "the statement cannot be sent: limit must be an instance of"),
        ({"find": "calls_2026_10", "filter": {"$box": 1}}, StatementWrong, "the database rejected the statement"),
        ({"find": "calls_2026_10", "filter": {"at": {"$date": "yesterday"}}}, StatementWrong, "is not what it says"),
        ({"find": "calls_2026_10", "filter": {"id": {"$oid": "xyz"}}}, StatementWrong, "is not what it says"),
        ({"find": "calls_2026_10", "filter": {"n": {"$numberDecimal": "many"}}}, StatementWrong, "is not what it says"),
        ({"find": "calls_2026_10", "filter": {"n": {"$numberLong": "9223372036854775808"}}}, StatementWrong, "is not what it says"),
    ],
)  # fmt: skip
def test_a_wrong_command_is_told_with_what_to_do_next(server, command, error, says):
    with pytest.raises(error) as wrong:
        fetched(server, command)
    assert says in wrong.value.message
    assert wrong.value.hint
    assert server.cursors == {}


@pytest.mark.parametrize(
    "text",
    [
        '{"find": "calls_2026_10", "sort": :zone}', '{"find": "calls_2026_10", "projection": :zone}', '{"find": "calls_2026_10", "filter": :zone}',
        '{"find": "calls_2026_10", "skip": :zone}', '{"find": "calls_2026_10", "hint": :zone}', '{"find": "calls_2026_10", "collation": :zone}',
        '{"find": "calls_2026_10", "let": :zone}', '{"count": "calls_2026_10", "query": :zone}', '{"distinct": "calls_2026_10", "key": :zone, "query": :zone}',
        *(f'{{"aggregate": "calls_2026_10", "pipeline": [{{"{stage}": :zone}}]}}'
          for stage in ("$project", "$group", "$match", "$facet", "$lookup", "$addFields", "$set", "$bucket", "$sort", "$limit", "$setWindowFields")),
    ],
)  # fmt: skip
def test_a_text_where_an_object_belongs_is_an_error_of_ours(server, text):
    for value in ("North", None):
        with contextlib.suppress(LadleError):
            fetched(server, text, {"zone": value}, [Parameter("zone", required=False)])
    assert server.cursors == {}


def test_a_sort_by_a_field_that_no_document_has_is_no_error(server):
    assert len(fetched(server, {"find": "calls_2026_10", "sort": {"nowhere": 1}})[1]) == 40


def test_the_servers_time_limit_and_a_lost_cursor_are_told_apart(server):
    with pytest.raises(DeadlineExceeded, match="at its time limit"):
        fetched(server, {"find": "slow"}, query_timeout_seconds=0.3)

    def lose(*_):
        server.cursors.clear()

    many = [{"_id": n} for n in range(documents.BATCH_ROWS + 10)]
    server.store["works"]["many"].insert_many(many)
    with pytest.raises(ConnectionLost, match=r"cursor id .* not found") as lost:
        fetched(server, {"find": "many"}, reading=Reading(looked=lose))
    assert lost.value.transient


def running_in(server):
    """Once a statement is."""
    deadline = time.monotonic() + 150
    while not any(each.command == "find" for each in list(server.operations.values())) and time.monotonic() < deadline:
        time.sleep(0.01)


def test_a_cancel_ends_the_operation_in_the_server(server):
    session = opened(server)
    ended = threading.Event()

    def read():
        with pytest.raises(RunCancelled):
            session.describe(Statement('{"find": "slow"}'))
        ended.set()

    reader = threading.Thread(target=read)
    reader.start()
    running_in(server)
    session.cancel()
    assert ended.wait(150)
    reader.join()
    session.close()
    assert not any(each.command == "find" for each in list(server.operations.values()))
    assert server.cursors == {}


class Silenced:
    """A way to a server that can be made to carry nothing any more, without anybody hanging up."""

    def __init__(self, port):
        self.silent = threading.Event()
        self.listener = socket.create_server(("127.0.0.1", 0))
        self.port, self.target, self.open = self.listener.getsockname()[1], port, [self.listener]
        threading.Thread(target=self.take, daemon=True).start()

    def take(self):
        with contextlib.suppress(OSError):
            while True:
                here, _ = self.listener.accept()
                there = socket.create_connection(("127.0.0.1", self.target))
                self.open += [here, there]
                for one, other in ((here, there), (there, here)):
                    threading.Thread(target=self.carry, args=(one, other), daemon=True).start()

    def carry(self, one, other):
        with contextlib.suppress(OSError):
            while piece := one.recv(65536):
                if self.silent.is_set():
                    return
                other.sendall(piece)

    def close(self):
        for each in self.open:
            with contextlib.suppress(OSError):
                each.shutdown(socket.SHUT_RDWR)
            each.close()


def test_a_server_that_falls_silent_is_let_go_of(server, monkeypatch):
    monkeypatch.setattr(base, "LET_GO_SECONDS", 0.5)
    monkeypatch.setattr(documents, "STOP_SECONDS", 0.5)
    way = Silenced(server.port)
    session = get_engine("documents").open(address_of(server) | {"port": way.port}, "reading-only")
    ended = threading.Event()

    def read():
        with pytest.raises(RunCancelled):
            session.describe(Statement('{"find": "slow"}'))
        ended.set()

    threading.Thread(target=read, daemon=True).start()
    running_in(server)
    session.connection.admin.command("ping")  # by a second connection, which stays open: by it the server is told to stop
    way.silent.set()
    session.cancel()
    assert ended.wait(150)
    session.close()
    way.close()


@pytest.mark.parametrize("snapshots", [False, True])
def test_a_run_tells_whether_its_statements_read_one_moment(snapshots):
    own = DocumentServer(
        {"reader": Login("reading-only", {"works": "read"})}, {"works": {"a": [{"_id": 1, "n": 1}]}}, snapshots=snapshots
    )
    own.start()
    try:
        session = opened(own)
        assert session.identity()["snapshot"] == (
            "one for all statements" if snapshots else "none: each statement reads what it finds"
        )
        session.describe(Statement('{"find": "a"}'))
        assert session.table.rows == 1
        session.describe(Statement('{"count": "a"}'))
        session.close()
    finally:
        own.stop()


def test_a_member_that_the_server_tells_of_is_judged_like_one_that_a_person_names():
    own = DocumentServer(
        {"reader": Login("reading-only", {"works": "read"})},
        {"works": {"a": [{"_id": 1}]}},
        snapshots=True,
        members=["169.254.1.1:27017"],
    )
    own.start()
    try:
        with pytest.raises(BadInput, match=r"169\.254\.1\.1' is an address that no source may have"):
            get_engine("documents").open(address_of(own) | {"replica_set": "fennmoor"}, "reading-only", 60)
    finally:
        own.stop()


@pytest.mark.parametrize(
    ("change", "error", "says"),
    [
        ({"user": "nobody"}, SourceSignInRefused, "refused the login 'nobody'"),
        ({"database": "nowhere"}, SourceDatabaseMissing, "no database 'nowhere'"),
        ({"ssl_mode": "require"}, SourceTlsRefused, "no encrypted connection"),
        ({"replica_set": "other"}, LadleError, "no connection to"),
        ({"members": "127.0.0.1:many"}, LadleError, "'127.0.0.1:many' is no member"),
        ({"members": "169.254.1.1:27017"}, BadInput, "no source may have"),
    ],
)
def test_what_keeps_a_session_from_being_opened_is_told(server, change, error, says):
    waits_in_vain = {"ssl_mode", "replica_set"} & set(change)
    with pytest.raises(error) as refused:
        get_engine("documents").open(address_of(server) | change, "reading-only", 5 if waits_in_vain else 60)
    assert says in refused.value.message
    assert refused.value.hint


@pytest.mark.parametrize(
    ("code", "came", "error"),
    [
        (13, False, SourceNotReadable), (18, False, SourceSignInRefused), (50, False, DeadlineExceeded), (43, True, ConnectionLost),
        (11600, False, ConnectionLost), (237, False, RunCancelled), (2, False, StatementWrong), (2, True, StatementFailed), (292, False, StatementFailed),
    ],
)  # fmt: skip
def test_every_error_of_a_server_has_its_kind(code, came, error):
    made = documents_errors.translate(errors.OperationFailure("said so", code, {"errmsg": "said so", "code": code}), came)
    assert type(made) is error
    assert "said so" in made.message or error is RunCancelled
    assert made.hint


def test_what_a_collection_holds_is_told_from_a_sample(server, monkeypatch):
    monkeypatch.setattr(documents, "LOOK_SECONDS", 5.0)  # less than it takes to look into one of them
    session = opened(server)
    tables = {table["name"]: table for table in session.catalogue()}
    session.close()
    october, slow = tables["calls_2026_10"], tables["slow"]
    assert (slow["comment"], slow["columns"]) == ("not looked into: no answer within 5 s", [])
    assert (october["rows_about"], october["schema"], october["indexes"]) == (40, "works", ["_id_ (_id)"])
    assert [(c["name"], c["type"], c["kind"]) for c in october["columns"]] == [
        ("_id", "int", "integer"), ("zone", "string", "text"), ("minutes", "int", "integer"), ("customer.name", "string", "text"),
        ("customer.town", "string", "text"), ("topics", "array", "json"), ("cost", "decimal", "decimal"),
    ]  # fmt: skip
    assert october["columns"][1]["comment"] == "such as North, South"
    monkeypatch.setattr(documents, "CATALOGUE_SECONDS", -1.0)
    session = opened(server)
    assert {table["comment"] for table in session.catalogue()} == {"not looked into: the time for all of them was over"}
    session.close()


EACH = ['{"find": "calls_2026_10", "filter": {"zone": :zone, "minutes": {"$gte": :least}}, "limit": 2}',
        '{"aggregate": "calls_2026_10", "pipeline": [{"$match": {"zone": :zone}}, {"$group": {"_id": null, "n": {"$sum": 1}}}]}',
        '{"count": "calls_2026_10", "query": {"zone": :zone}}', '{"distinct": "calls_2026_10", "key": "zone"}']  # fmt: skip


def test_a_statement_taken_out_runs_in_the_stores_own_words_and_comes_back(server):
    values = resolve(
        PARAMETERS[:2], {"zone": "North", "least": 2**40}, date(2026, 11, 24), datetime(2026, 11, 24, tzinfo=timezone.utc)
    )
    for text in EACH:
        _, [out] = language.DOCUMENTS.filled_parts(f"// Calls\n{text}\n", values)
        lines = out.filled_in.split("\n")
        assert lines[0].startswith("db.runCommand(")
        assert lines[-1] == ("), cursor: {}})" if "aggregate" in text else "))")
        assert language.DOCUMENTS.restore(out.filled_in) == f"// Calls\n{text}"
        assert language.DOCUMENTS.restore(f"{out.filled_in};\n{out.filled_in}\n") == f"// Calls\n{text}\n;\n// Calls\n{text}\n"


def test_the_same_is_read_with_the_driver_alone(server, monkeypatch, capsys):
    values = resolve(
        PARAMETERS[:2], {"zone": "North", "least": 7}, date(2026, 11, 24), datetime(2026, 11, 24, tzinfo=timezone.utc)
    )
    told = [language.DOCUMENTS.fill_in(text, values).text for text in EACH]
    code = get_engine("documents").driver_code(address_of(server), told)
    assert "reading-only" not in code
    monkeypatch.setenv("SOURCE_PASSWORD", "reading-only")
    made = {}
    exec(code, made)  # it is what a person would run
    made["client"].close()
    printed = capsys.readouterr().out.splitlines()
    assert [re.search(r"'minutes': (\d+)", line).group(1) for line in printed[:2]] == ["8", "10"]
    assert printed[2:4] == ["{'n': 20, '_id': None}", "20"]
    assert sorted(re.findall("[A-Z]\\w+", printed[4])) == ["North", "South"]


NAMES = st.sampled_from(["a", "b", "c", "reading", "value", "é🜁"])


@given(given=uneven(NAMES))
@examples(0.6)
def test_any_documents_reach_csv_and_json_as_they_are(server, given):
    with server.turn:
        server.store["works"].drop_collection("any")
        server.store["works"].create_collection("any")
        if given:
            server.store["works"]["any"].insert_many([{"_id": n, **each} for n, each in enumerate(given)])
    expected = list(rows_of([bson.encode({"_id": n, **each}) for n, each in enumerate(given)]))
    session = opened(server)
    columns = session.describe(Statement('{"find": "any"}', BoundValues(), reading=Reading({"identifier": True})))
    paths, batches = session.table.paths, list(session.batches())
    session.close()
    read = {}
    for name in ("csv", "jsonl"):
        file = io.BytesIO()
        writer = FORMATS[name].writer(Target(file, io.BytesIO), checked_options(name, {}))
        writer.begin("", columns)
        for batch in batches:
            writer.write(batch)
        writer.end()
        read[name] = file.getvalue().decode("utf-8-sig")
    table = list(csv.reader(io.StringIO(read["csv"], newline="")))
    lines = [read_json(line) for line in read["jsonl"].split("\n")[:-1]]
    if not given:
        assert (len(table), lines) == (1, [])
        return
    assert (len(table) - 1, len(lines)) == (len(given), len(given))
    for slow, cells, line in zip(expected, table[1:], lines, strict=True):
        for path, column, cell, value in zip(paths, columns, cells, line.values(), strict=True):
            if path not in slow:
                assert (cell, value) == ("", None)
            elif isinstance(slow[path], tuple):
                assert read_json(cell) == slow[path][1]
                assert (value if column.kind == "json" else read_json(value)) == slow[path][1]
            else:
                assert cell == slow[path], column
                assert (
                    value == slow[path]
                    or str(value) in (slow[path], slow[path].title())
                    or column.kind in ("integer", "float", "decimal", "any")
                )
