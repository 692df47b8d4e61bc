"""The whole job on in-memory ports: the result is whole and proven, or there is none."""

from __future__ import annotations

import errno
import io
import json
import pickle
import re
import threading
from dataclasses import replace
from datetime import date

import openpyxl
import pytest

from patient_ladle.core import errors
from patient_ladle.core.errors import (
    BadInput,
    ConnectionLost,
    DeadlineExceeded,
    DiskFull,
    LadleError,
    ProofFailed,
    ResultTooLarge,
    RunCancelled,
    StoreUnreadable,
    from_dict,
)
from patient_ladle.core.files.compression import COMPRESSIONS, extension_of
from patient_ladle.core.files.formats import FORMATS, get_format
from patient_ladle.core.files.naming import check_template, file_stem
from patient_ladle.core.files.output import OutputSettings
from patient_ladle.core.files.writing import FilesOfFormat
from patient_ladle.core.ports import Statement
from patient_ladle.core.results.columns import Column, unique_names
from patient_ladle.core.runs.engine import RunJob, run_extract
from patient_ladle.core.runs.memory import ManualClock, MemoryDelivery, MemoryFolder, MemoryLedger, MemorySession
from patient_ladle.core.statements.languages.postgresql import POSTGRESQL
from patient_ladle.core.statements.scanner import statements
from patient_ladle.proof.counting import Counted
from patient_ladle.proof.unpacking import unpacked

from .test_descriptor import conforms

COLUMNS = [Column("id", "integer"), Column("name", "text")]
ROWS = [(n, f"meter {n}") for n in range(12_000)]
JOB = RunJob("meters", "meters-2026-11-24", Statement("select 1"), ("csv", "xlsx", "json"), ("out",), {"source": "metering"})


def run(session, ledger=None, folder=None, job=JOB, delivered=None):
    folder = folder or MemoryFolder()
    delivery = MemoryDelivery("1-1-1", folder.open, delivered=delivered)
    return run_extract(job, lambda: session, folder, ledger or MemoryLedger(), ManualClock(), delivery), folder


def test_one_pass_feeds_every_format_and_the_descriptor_tells_of_each():
    session, ledger = MemorySession(COLUMNS, ROWS), MemoryLedger()
    delivered = {}
    outcome, folder = run(session, ledger, delivered=delivered)
    assert [f.rows for f in outcome.files] == [12_000] * 3
    assert ledger.stages == ["connect", "describe", "fetch", "prove", "store", "deliver"]
    assert ledger.rows == 12_000
    assert session.closed
    resources = {r["format"]: r for r in folder.descriptor["resources"]}
    for file in outcome.files:
        assert len(folder.files[file.name].getvalue()) == file.bytes == resources[file.format]["bytes"]
        assert resources[file.format]["hash"] == f"sha256:{file.sha256}"
        assert resources[file.format]["ladle"]["rows"] == 12_000
    assert folder.descriptor["ladle"]["source"] == "metering"
    assert list(delivered)[-1] == "out/meters-2026-11-24.datapackage.json"


def test_each_of_several_statements_has_its_own_result():
    class ByText(MemorySession):
        def describe(self, statement):
            self.rows = ROWS[: 3 if "districts" in statement.text else 0 if "none" in statement.text else 7]
            self.columns = COLUMNS[:1] if "districts" in statement.text else COLUMNS
            self.rows = [row[: len(self.columns)] for row in self.rows]
            return super().describe(statement)

    text = "-- By district\nselect 1 from districts; select 2 from none;\n/* All, of them */ select 3;\n-- the end"
    job = replace(
        JOB, parts=tuple(statements(text, POSTGRESQL)), formats=("csv", "json"), statement=Statement(text), file_name="use"
    )
    ledger = MemoryLedger()
    outcome, folder = run(ByText(COLUMNS, ROWS), ledger, job=job)
    assert [(r.title, r.rows, len(r.columns)) for r in outcome.results] == [
        ("By district", 3, 1), ("statement 2", 0, 2), ("All, of them", 7, 2)]  # fmt: skip
    assert [(f.name, f.rows, f.statement) for f in outcome.files if f.format == "csv"] == [
        ("use.1-by_district.csv", 3, 0), ("use.2-statement_2.csv", 0, 1), ("use.3-all_of_them.csv", 7, 2)]  # fmt: skip
    assert (outcome.rows, ledger.rows) == (10, 10)
    resources = conforms(folder.descriptor)["resources"]
    assert [(r["name"], r["title"]) for r in resources][:2] == [
        ("meters-1-csv", "By district"),
        ("meters-1-json", "By district"),
    ]
    assert [len(r["schema"]["fields"]) for r in resources] == [1, 1, 2, 2, 2, 2]


def test_a_result_without_rows_has_its_header():
    outcome, folder = run(MemorySession(COLUMNS, []))
    assert outcome.rows == 0
    assert folder.files["meters-2026-11-24.csv"].getvalue() == b"id,name\n"
    assert json.loads(folder.files["meters-2026-11-24.json"].getvalue()) == []


@pytest.mark.parametrize("after", [0, 5_000, 10_000])
def test_a_failure_at_any_point_leaves_nothing(after):
    delivered = {"out/meters-2026-11-24.csv": b"yesterday's"}
    folder = MemoryFolder()
    session = MemorySession(COLUMNS, ROWS, fail_after=after, failure=ConnectionLost("gone"))
    with pytest.raises(ConnectionLost):
        run(session, folder=folder, delivered=delivered)
    assert (folder.files, folder.descriptor, delivered) == ({}, None, {"out/meters-2026-11-24.csv": b"yesterday's"})
    assert session.closed


def test_a_cancel_stops_the_run_and_leaves_nothing():
    folder = MemoryFolder()
    with pytest.raises(RunCancelled):
        run(MemorySession(COLUMNS, ROWS), MemoryLedger(cancel=True), folder)
    assert folder.files == {}


@pytest.mark.parametrize("name", sorted(FORMATS))
@pytest.mark.parametrize("damage", ["cut", "flip"])
def test_a_file_that_is_not_what_was_written_is_withheld(name, damage):
    class Faulty(MemoryFolder):
        def finish(self, name):
            data = self.files[name].getvalue()
            data = data[: len(data) * 2 // 3] if damage == "cut" else data[:-40] + bytes([data[-40] ^ 1]) + data[-39:]
            self.files[name].seek(0)
            self.files[name].truncate()
            self.files[name].write(data)
            return super().finish(name)

    folder, delivered = Faulty(), {}
    job = RunJob("meters", "m", Statement("select 1"), (name,), ("out",))
    with pytest.raises(ProofFailed):
        run(MemorySession(COLUMNS, ROWS), folder=folder, job=job, delivered=delivered)
    assert delivered == {}


class _Unreadable(io.RawIOBase):
    """A file of a disk that fails."""

    def readable(self):
        return True

    def seekable(self):
        return True

    at = 0

    def seek(self, offset, whence=0):
        self.at = offset + (0, self.at, 10_000)[whence]
        return self.at

    def tell(self):
        return self.at

    def readinto(self, _):
        raise OSError(errno.EIO, "Input/output error")


@pytest.mark.parametrize("name", ["csv", "json", "xlsx", "parquet"])
@pytest.mark.parametrize("reader", ["counter", "checksum"])
@pytest.mark.parametrize("how", ["opening", "reading"])
@pytest.mark.parametrize("compression", ["none", "gzip"])
def test_a_store_that_fails_while_a_file_is_read_back_says_nothing_of_the_file(name, reader, how, compression):
    """Whichever of the two that read it meets the fault: it can pass, and the run is tried again."""
    counts = threading.current_thread()

    class Failing(MemoryFolder):
        def open(self, name):
            if (threading.current_thread() is counts) != (reader == "counter"):
                return super().open(name)
            if how == "opening":
                raise StoreUnreadable("the bucket does not answer.")
            return io.BufferedReader(_Unreadable())

    output = OutputSettings.from_dict({"files": {"compression": compression}})
    job = RunJob("meters", "m", Statement("select 1"), (name,), output=output)
    with pytest.raises(StoreUnreadable) as told:
        run(MemorySession(COLUMNS, ROWS), folder=Failing(), job=job)
    assert told.value.transient


def test_rows_that_a_writer_loses_are_missed(monkeypatch):
    """Whatever the file says of itself: it is whole, it reads back as written, and is not what was fetched."""
    write, batches = FilesOfFormat.write, []
    monkeypatch.setattr(
        FilesOfFormat, "write", lambda self, batch: batches.append(batch) or len(batches) == 2 or write(self, batch)
    )
    folder = MemoryFolder()
    with pytest.raises(ProofFailed, match=r"csv: 12,000 rows fetched, \d,000 written"):
        run(MemorySession(COLUMNS, ROWS), folder=folder, job=RunJob("meters", "m", Statement("select 1"), ("csv",)))
    assert (folder.files, folder.descriptor) == ({}, None)


@pytest.mark.parametrize(
    ("found", "words"),
    [
        (Counted(11_999, (2,)), r"12,000 rows written, 11,999 read back"),
        (Counted(12_000, (3,)), r"rows of 2 cells written, of 3 read back"),
    ],
)
def test_a_file_in_which_other_rows_or_cells_are_found_is_withheld(monkeypatch, found, words):
    """Though its bytes are those that were written: its writer and whoever reads it do not mean the same."""
    monkeypatch.setattr(FilesOfFormat, "_counted", lambda *_: found)
    folder = MemoryFolder()
    with pytest.raises(ProofFailed, match=words):
        run(MemorySession(COLUMNS, ROWS), folder=folder, job=RunJob("meters", "m", Statement("select 1"), ("csv",)))
    assert folder.descriptor is None


def test_a_deadline_says_so_and_not_cancelled():
    class Slow(MemorySession):
        def describe(self, statement):
            while not self.cancelled:
                pass
            raise RunCancelled("stopped")

    job = RunJob("m", "m", Statement("select 1", query_timeout_seconds=0.05), ("csv",))
    with pytest.raises(DeadlineExceeded, match=r"at its deadline of 0\.05 s"):
        run(Slow(COLUMNS, ROWS), job=job)


def test_names_that_stand_twice_are_told_apart():
    made, changed = unique_names([Column("id"), Column("ID"), Column(""), Column("id_2")])
    assert [c.name for c in made] == ["id", "ID_3", "column_3", "id_2"]
    assert changed == ["ID → ID_3", "(no name) → column_3"]


def test_every_error_crosses_process_borders():
    classes = errors.all_codes()
    for code, cls in classes.items():
        made = cls("what happened.", "What to do.", line=3)
        for copy in (pickle.loads(pickle.dumps(made)), from_dict(json.loads(json.dumps(made.to_dict())))):
            assert (type(copy), copy.code, copy.in_words(), copy.facts) == (
                cls,
                code,
                "what happened. What to do.",
                {"line": 3},
            )


def test_an_unknown_format_gets_the_nearest_name():
    with pytest.raises(LadleError) as refused:
        get_format("jsn")
    assert refused.value.in_words() == "there is no format 'jsn'. Did you mean 'json'?"


@pytest.mark.parametrize("template", ["../{extract}", "a/b", "{extrct}", "", ".hidden", "a\nb", "x" * 300])
def test_refuses_a_file_name_that_could_leave_its_folder(template):
    with pytest.raises(LadleError):
        check_template(template)


def test_names_are_filled_from_the_template():
    fields = {
        "extract": "use",
        "data_date": date(2026, 11, 24),
        "environment": "..\\c",
        "folder": "a-b",
        "run": 7,
        "value.zone": "a/../b\n",
    }
    for template, made in {
        "{extract}-{data_date}": "use-2026-11-24", "{data_date:%Y%m}_{value.zone}_{run}": "202611_a_.._b__7",
        "{environment}": "__c", "{value.zone}": "a_.._b_", "{extract} {statement}": "use",
    }.items():  # fmt: skip
        assert file_stem(template, fields, None, None) == made
    assert file_stem("{extract}", fields, (2, "By zone"), 3) == "use.2-by_zone.003"
    assert file_stem("{part}-{statement}-{extract}", fields, (2, "By zone"), 3) == "003-2-by_zone-use"
    assert file_stem("{value.zone}", {"value.zone": "CON"}, None, None) == "_CON"
    assert len(file_stem("{value.zone}", {"value.zone": "ü" * 300}, None, None).encode()) == 200
    with pytest.raises(LadleError, match="zoen"):
        check_template("{value.zoen}", ["zone"])
    for wrong in ("{extract:%Y}", "{data_date:%Q}", "{data_date:x}"):
        with pytest.raises(LadleError):
            check_template(wrong)


CHOICES = [{"name": "name", "as": "Meter"}, {"name": "id", "type": "text"}]


@pytest.mark.parametrize("compression", COMPRESSIONS)
@pytest.mark.parametrize("name", sorted(FORMATS))
def test_split_packed_and_shaped_files_hold_every_row_once(name, compression):
    settings = OutputSettings.from_dict({"columns": CHOICES, "files": {"compression": compression, "rows_per_file": 5_000}})
    assert OutputSettings.from_dict(settings.to_dict()) == settings
    outcome, folder = run(MemorySession(COLUMNS, ROWS), job=replace(JOB, formats=(name,), output=settings))
    extension = FORMATS[name].extension + extension_of(compression)
    assert [(f.name, f.rows, f.part) for f in outcome.files] == [
        (f"meters-2026-11-24.{n:03d}{extension}", rows, n) for n, rows in ((1, 5_000), (2, 5_000), (3, 2_000))
    ]
    assert [field["name"] for field in conforms(folder.descriptor)["resources"][0]["schema"]["fields"]] == ["Meter", "id"]
    if name == "csv":
        data = b"".join(unpacked(compression, folder.open(f.name)).read() for f in outcome.files)
        assert data.count(b"Meter,id\n") == 3
        assert data.replace(b"Meter,id\n", b"") == b"".join(b"%s,%d\n" % (n.encode(), i) for i, n in ROWS)


def test_a_workbook_gathers_all_statements_and_says_where_it_came_from():
    text = "-- By district\nselect 1; -- Of all\nselect 2"
    job = replace(JOB, parts=tuple(statements(text, POSTGRESQL)), formats=("xlsx", "csv"), statement=Statement(text))
    outcome, folder = run(MemorySession(COLUMNS, ROWS[:7]), job=job)
    [book] = [file for file in outcome.files if file.format == "xlsx"]
    assert (book.name, book.rows, book.contents) == ("meters-2026-11-24.xlsx", 14, ((0, 7), (1, 7)))
    found = openpyxl.load_workbook(folder.open(book.name))
    assert [(s.title, s.max_row) for s in found.worksheets[:2]] == [("By district", 8), ("Of all", 8)]
    assert [[c.value for c in row] for row in found["Origin"].iter_rows()] == [
        ["source", "metering"], ["rows of By district", "7"], ["rows of Of all", "7"]]  # fmt: skip
    sheets = [r["dialect"]["sheetName"] for r in conforms(folder.descriptor)["resources"] if r["format"] == "xlsx"]
    assert sheets == ["By district", "Of all"]


@pytest.mark.parametrize(
    ("given", "words"),
    [
        ({"formats": {"csv": {"delimiter": "ab"}}}, "csv: 'ab' cannot be a delimiter"), ({"fromats": {}}, "part of an output"),
        ({"columns": [{"name": "id", "typ": "x"}]}, "field of a column"), ({"columns": ["id", {"name": "x", "as": "ID"}]}, "two columns"),
        ({"columns": [{"name": "id", "type": "number"}]}, "type of a column"), ({"files": {"mode": "0777"}}, "writable for others"),
        ({"files": {"rows_per_file": 3}}, "too few"), ({"files": {"compression": "rar"}}, "value of compression"),
        ({"columns": [{"name": "id", "pattern": "0.0.0"}]}, "style of dates"), ({"columns": 3}, "a list"),
    ],
)  # fmt: skip
def test_wrong_output_settings_are_refused_before_anything_runs(given, words):
    with pytest.raises(BadInput, match=re.escape(words)):
        OutputSettings.from_dict(given)


def test_a_chosen_column_that_is_not_there_and_a_value_that_is_no_number_are_named():
    for columns, words in (
        ([{"name": "nmae"}], "'nmae'"),
        ([{"name": "name", "type": "integer"}], "row 1, column 'name': 'meter 0' is no integer"),
    ):
        with pytest.raises(LadleError, match=words):
            run(MemorySession(COLUMNS, ROWS), job=replace(JOB, output=OutputSettings.from_dict({"columns": columns})))


def test_scarce_space_is_said_and_a_full_disk_stops_the_run():
    class Small(MemoryFolder):
        free = 1 << 30

        def free_bytes(self):
            return self.free

    ledger, folder = MemoryLedger(), Small()
    run(MemorySession(COLUMNS, ROWS), ledger, folder)
    assert ("warning", "space is scarce in the result store: 1.1 GB are left") in ledger.lines
    folder.free = 1 << 10
    with pytest.raises(DiskFull):
        run(MemorySession(COLUMNS, ROWS), folder=folder)
    assert folder.files == {}


@pytest.mark.parametrize(
    ("limits", "words"), [({"max_rows": 7_000}, "more than the 7,000 rows"), ({"max_bytes": 9}, "more than the 9 bytes")]
)
def test_a_result_beyond_its_limits_is_refused_and_nothing_of_it_kept(limits, words):
    job = RunJob("m", "m", Statement("select 1"), ("csv",), **limits)
    folder, session = MemoryFolder(), MemorySession(COLUMNS, ROWS)
    with pytest.raises(ResultTooLarge, match=words):
        run(session, folder=folder, job=job)
    assert (folder.files, session.closed) == ({}, True)


def test_limits_that_are_just_met_are_no_hindrance_and_where_it_read_is_recorded():
    ledger = MemoryLedger()
    outcome, _ = run(
        MemorySession(COLUMNS, ROWS), ledger, job=RunJob("m", "m", Statement("select 1"), ("csv",), max_rows=12_000)
    )
    assert (outcome.rows, ledger.identity) == (12_000, {"server": "memory"})
    assert ("info", "connected, read-only: server memory") in ledger.lines


def test_what_a_reader_must_know_of_a_column_is_a_warning():
    outcome, _ = run(MemorySession([Column("flow", "float", note="rounded to six digits")], [(1.5,)]))
    assert outcome.warnings == ["column 'flow' is rounded to six digits"]
