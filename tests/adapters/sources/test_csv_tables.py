"""CSV files as a source change nothing: what a statement reads is what stands in the file, as another reader finds it."""

from __future__ import annotations

import csv
import io
import json
import shutil
from datetime import date, datetime, timezone

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pyarrow import parquet

from patient_ladle.adapters.sources import get_engine
from patient_ladle.core.errors import SourceNotReadable
from patient_ladle.core.ports import Statement
from patient_ladle.core.values.parameters import resolve
from tests.profile import examples

NOW = datetime(2026, 11, 24, 6, tzinfo=timezone.utc)


def read(folder, text="select * from t", **address):
    """Columns with their kinds, and rows, as a run gets them."""
    session = get_engine("files").open({"folder": str(folder), **address}, "")
    try:
        columns = session.describe(Statement(text, resolve([], {}, date(2026, 11, 24), NOW)))
        rows = [row for batch in session.batches() for row in zip(*(c.to_pylist() for c in batch.cells), strict=True)]
        catalogue = {c["name"]: c["kind"] for table in session.catalogue() if table["name"] == "t" for c in table["columns"]}
        return {column.name: column.kind for column in columns}, rows, catalogue
    finally:
        session.close()


@pytest.fixture
def folder(tmp_path):
    made = tmp_path / "files"
    made.mkdir()
    return made


HARD = ["007", "1.10", "12345678901234567890", "NA", "NULL", "nan", "+44123", "çé", "1e5", "-0", "2026-02-30", "TRUE", " 1", "0x10",
        "1,5", "1_000", "9" * 39, "0000-01-01"]  # fmt: skip


def test_what_looks_like_another_kind_stays_the_text_that_it_is(folder):
    for value in HARD:
        (folder / "t.csv").write_text(f'v,n\n"{value}",1\n{"" if "," in value else value},2\n')
        kinds, rows, catalogue = read(folder)
        expected = "decimal" if value in ("1.10", "12345678901234567890") else "text"
        assert (kinds, catalogue) == ({"v": expected, "n": "integer"}, {"v": expected, "n": "integer"}), value
        assert rows == [(value, "1"), (value if "," not in value else None, "2")]


ALL_KINDS = ["1", "-17", "0", "999999999999999999", "1.10", "0.05", "-2.50", "true", "false", "2026-11-24", "2026-11-24 06:05:00",
             "2026-11-24T06:05:00Z", "2026-11-24 06:05:00.25", "2026-11-24T06:05:00.125Z", *HARD]  # fmt: skip


@given(data=st.data())
@examples(0.8)
def test_every_cell_comes_back_as_another_reader_finds_it(tmp_path_factory, data):
    """Whatever kinds were proven, for whatever mixture of values, in whatever number of files."""
    folder = tmp_path_factory.mktemp("files") / "t"
    folder.mkdir()
    names = ["a", "b", "c"]
    pools = {name: data.draw(st.lists(st.sampled_from(ALL_KINDS), min_size=1, max_size=3)) for name in names}
    expected = []
    for number in range(data.draw(st.integers(1, 2))):
        rows = data.draw(st.lists(st.tuples(*[st.sampled_from([*pools[name], ""]) for name in names]), min_size=1, max_size=5))
        text = io.StringIO()
        csv.writer(text, lineterminator="\n").writerows([names, *rows])
        (folder / f"{number}.csv").write_text(text.getvalue(), encoding="utf-8")
        expected += [tuple(cell or None for cell in row) for row in list(csv.reader(io.StringIO(text.getvalue())))[1:]]
    _, rows, _ = read(folder.parent)
    assert rows == expected
    shutil.rmtree(folder)


def test_what_is_declared_is_read_so_and_a_value_that_is_none_is_named(folder):
    (folder / "t.csv").write_bytes("serial;volume;fitted;note\n0017;1,5;2026-11-24;çé\n0018;;NA;\n".encode("windows-1252"))
    address = {
        "csv_encoding": "windows-1252",
        "csv_delimiter": ";",
        "csv_nulls": "NA",
        "csv_kinds": "exact, t.serial=integer, u.note=date",
    }
    kinds, rows, _ = read(folder, **address)
    assert kinds == {"serial": "integer", "volume": "text", "fitted": "date", "note": "text"}
    assert rows == [("17", "1,5", "2026-11-24", "çé"), ("18", None, None, None)]
    assert set(read(folder, **address | {"csv_kinds": "text"})[0].values()) == {"text"}
    with pytest.raises(SourceNotReadable, match=r"t\.csv.*conversion error to int64"):
        read(folder, **address | {"csv_kinds": "exact; t.volume=integer"})
    with pytest.raises(
        SourceNotReadable, match=r"'t\.csv' cannot be read: its text is not in the encoding declared\. Declare"
    ) as found:
        try:
            read(folder, csv_delimiter=";")
        except SourceNotReadable as error:
            raise SourceNotReadable(error.in_words()) from error
    assert "csv_encoding" in str(found.value)
    (folder / "t.csv").write_text("1;x\n2;y\n")
    assert read(folder, csv_delimiter=";", csv_header="no")[1] == [("1", "x"), ("2", "y")]
    for wrong, words in (
        ({"csv_kinds": "exact; t.n=number"}, "is not a declaration"),
        ({"csv_kinds": "guess"}, "begins with 'guess'"),
        ({"csv_header": "maybe"}, "csv_header is 'maybe'"),
        ({"csv_delimiter": ";;"}, "cannot be a delimiter"),
        ({"csv_encoding": "utf-9"}, "is not an encoding"),
    ):
        with pytest.raises(SourceNotReadable, match=words):
            read(folder, **wrong)


def test_a_folder_has_all_columns_of_all_its_files(folder):
    for name in ("csv", "parquet"):
        (folder / name).mkdir()
    (folder / "csv" / "1.csv").write_text("id,a\n1,x\n")
    (folder / "csv" / "2.csv").write_text("b,id\n7,2\n")
    parquet.write_table(pa.table({"id": [1], "a": ["x"]}), folder / "parquet" / "1.parquet")
    parquet.write_table(pa.table({"id": [2], "b": [7]}), folder / "parquet" / "2.parquet")
    for name in ("csv", "parquet"):
        _, rows, _ = read(folder, f"select id, a, b from {name} order by id")
        assert rows == [("1", "x", None), ("2", None, "7")]
    parquet.write_table(pa.table({"id": ["two"]}), folder / "parquet" / "3.parquet")
    with pytest.raises(SourceNotReadable, match="do not fit together"):
        read(folder, "select * from parquet")
    (folder / "csv" / "3.csv").write_text("id,id\n1,2\n")
    with pytest.raises(SourceNotReadable, match=r"'3\.csv' has two columns named 'id'"):
        read(folder, "select * from csv")
    (folder / "csv" / "3.csv").write_text("id,a\n1\n")
    with pytest.raises(SourceNotReadable, match=r"'3\.csv' cannot be read: .*Expected 2 columns, got 1"):
        read(folder, "select * from csv")


def test_a_data_package_in_the_folder_says_how_its_files_are_read(folder):
    (folder / "t.csv").write_bytes("code|use|day|note\n007|1.50|2026-11-24|-\n008|-|-|\xe9\n".encode("iso-8859-1"))
    fields = [
        {"name": "code", "type": "integer"},
        {"name": "use", "type": "number"},
        {"name": "day", "type": "date", "format": "%d.%m"},
    ]
    resource = {"path": "t.csv", "encoding": "iso-8859-1", "dialect": {"delimiter": "|"},
                "schema": {"fields": [*fields, {"name": "note", "type": "string"}], "missingValues": ["-"]}}  # fmt: skip
    (folder / "datapackage.json").write_text(json.dumps({"resources": [resource]}))
    kinds, rows, _ = read(folder)
    assert kinds == {"code": "integer", "use": "decimal", "day": "text", "note": "text"}
    assert rows == [("7", "1.50", "2026-11-24", None), ("8", None, None, "é")]
    (folder / "datapackage.json").write_text("{")
    with pytest.raises(SourceNotReadable, match=r"'datapackage\.json' is not a data package"):
        read(folder)
