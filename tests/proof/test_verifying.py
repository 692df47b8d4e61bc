"""A file held against its descriptor: what is whole is proven, in every format and compression; what is not is said."""

from __future__ import annotations

import json
from datetime import date

import pytest

from patient_ladle.adapters.stores.folder import FolderStore
from patient_ladle.core.files.compression import COMPRESSIONS
from patient_ladle.core.files.formats import FORMATS
from patient_ladle.core.files.output import OutputSettings
from patient_ladle.core.ports import Statement
from patient_ladle.core.results.columns import Column
from patient_ladle.core.runs.engine import RunJob, run_extract
from patient_ladle.core.runs.memory import ManualClock, MemoryLedger, MemorySession
from patient_ladle.proof.verifying import NothingToVerify, verify

COLUMNS = [Column("id", "integer"), Column("note", "text"), Column("read_on", "date")]
ROWS = [(n, f'dial "{n}"\nseen' if n % 3 else None, date(2026, 11, 24)) for n in range(500)]


def stored(folder, form, **output):
    """One finished run in a store; the folder that holds its files."""
    job = RunJob("readings", "readings", Statement("select 1"), (form,), output=OutputSettings.from_dict(output))
    run_extract(job, lambda: MemorySession(COLUMNS, ROWS), FolderStore(folder).result("1", 1), MemoryLedger(), ManualClock())
    return folder / "1" / "1"


@pytest.mark.parametrize("compression", COMPRESSIONS)
@pytest.mark.parametrize("form", sorted(FORMATS))
def test_what_was_stored_is_proven_and_a_flipped_bit_is_seen(tmp_path, form, compression):
    folder = stored(tmp_path, form, files={"compression": compression})
    [found] = verify(folder)
    assert (found.rows, found.differs) == (500, [])
    assert [words.split()[0] for words in found.proven] == ["bytes", "checksum", "rows"]
    [path] = [p for p in folder.iterdir() if p.name != "datapackage.json"]
    data = bytearray(path.read_bytes())
    data[len(data) // 2] ^= 1
    path.write_bytes(data)
    [damaged] = verify(path)
    assert any(words.startswith("checksum") for words in damaged.differs)
    path.write_bytes(bytes(data[: len(data) // 2]))
    [cut] = verify(folder / "datapackage.json")
    assert {words.split(":")[0].split()[0] for words in cut.differs} >= {"bytes", "checksum"}


@pytest.mark.parametrize(
    ("form", "options"),
    [
        ("csv", {"header": False, "encoding": "utf-16", "delimiter": "tab", "line_ending": "crlf"}),
        ("csv", {"quoting": "always", "encoding": "windows-1252", "null_as": "NULL"}),
        ("xlsx", {"title_rows": ["one", "two"], "header": False}),
        ("xlsx", {"origin": False, "filter": False, "freeze": False}),
        ("json", {"envelope": True}),
        ("text", {"header": False, "encoding": "utf-8-bom"}),
        ("parquet", {"compression": "none"}),
    ],
)
def test_rows_are_counted_whatever_the_options(tmp_path, form, options):
    [found] = verify(stored(tmp_path, form, formats={form: options}))
    assert (found.rows, found.differs) == (500, [])


def test_every_part_is_proven_by_itself_and_one_that_is_gone_is_named(tmp_path):
    folder = stored(tmp_path, "csv", files={"rows_per_file": 200, "compression": "gzip"})
    assert [(found.rows, found.differs) for found in verify(folder)] == [(200, []), (200, []), (100, [])]
    (folder / "readings.002.csv.gz").unlink()
    assert [found.differs for found in verify(folder)] == [[], ["the file is not there"], []]
    assert [found.rows for found in verify(folder / "readings.003.csv.gz")] == [100]


@pytest.mark.parametrize("content", ["not JSON", "{}", '{"resources": [3]}', '{"resources": []}'])
def test_a_descriptor_that_is_none_proves_nothing(tmp_path, content):
    (tmp_path / "x.datapackage.json").write_text(content)
    (tmp_path / "x.csv").write_text("a\n1\n")
    for path in (tmp_path, tmp_path / "x.csv", tmp_path / "x.datapackage.json", tmp_path / "gone" / "x.csv"):
        with pytest.raises(NothingToVerify):
            verify(path)


def test_rows_that_differ_are_told_with_both_numbers(tmp_path):
    folder = stored(tmp_path, "jsonl")
    told = json.loads((folder / "datapackage.json").read_text())
    told["resources"][0]["ladle"]["rows"] = 1_500
    (folder / "datapackage.json").write_text(json.dumps(told))
    [found] = verify(folder)
    assert found.differs == ["rows: the descriptor says 1,500, the file has 500"]
