"""The contract of every format: what other readers find is what went in, and the own counter agrees.

A format that is registered and has no reader here fails.
"""

from __future__ import annotations

import csv
import io
import json
import math
import warnings
from datetime import date, datetime, timedelta, timezone

import openpyxl
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from patient_ladle.core.columns import Batch, Column, canonical
from patient_ladle.core.errors import ProofFailed, ValueUnfit
from patient_ladle.core.formats import FORMATS
from patient_ladle.core.formats.xlsx import MAX_TEXT, _letters

text = st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0"), max_size=30)
CELLS = {
    "text": text,
    "integer": st.integers(-(10**20), 10**20),
    "decimal": st.decimals(allow_nan=False, allow_infinity=False, places=5, min_value=-(10**16), max_value=10**16),
    "float": st.floats(allow_nan=False),
    "boolean": st.booleans(),
    "date": st.dates(),
    "timestamp": st.datetimes(),
    "zoned": st.datetimes(timezones=st.just(timezone.utc)),
    "any": st.one_of(text, st.integers(-(2**60), 2**60), st.floats(allow_nan=False, allow_infinity=False)),
}


@st.composite
def results(draw):
    kinds = draw(st.lists(st.sampled_from(sorted(CELLS)), min_size=1, max_size=5))
    rows = draw(st.lists(st.tuples(*[st.none() | CELLS[kind] for kind in kinds]), max_size=8))
    return [Column(f'c{n} ü,"<{n}', kind) for n, kind in enumerate(kinds)], rows


def batch_of(columns, rows):
    if any(column.kind == "any" for column in columns):
        made = Batch.of_values(rows, len(columns))
        numbers = tuple(n if c.kind == "any" else None for c, n in zip(columns, made.numbers, strict=True))
        return Batch(made.cells, numbers, len(rows))
    return Batch.of_texts([[canonical(r[i]) for r in rows] for i in range(len(columns))], len(rows))


def written(name, columns, rows, split=3):
    file = io.BytesIO()
    writer = FORMATS[name].writer(file, columns)
    for start in range(0, len(rows), split):
        writer.write(batch_of(columns, rows[start : start + split]))
    writer.close()
    assert writer.rows == len(rows)
    return file, writer.warnings


def read_csv(file):
    lines = list(csv.reader(io.StringIO(file.getvalue().decode(), newline=""), strict=True))
    return lines[0], lines[1:]


def check_csv(columns, rows, file):
    header, lines = read_csv(file)
    assert header == [c.name for c in columns]
    expected = [[canonical(v) or "" for v in row] for row in rows]
    assert [line or [""] for line in lines] == expected


def check_json(columns, rows, file):
    found = json.loads(file.getvalue(), parse_float=str, parse_int=str)
    assert [list(r) for r in found] == [[c.name for c in columns]] * len(rows)
    for record, row in zip(found, rows, strict=True):
        for value, original in zip(record.values(), row, strict=True):
            assert value == (original if isinstance(original, bool) else canonical(original))


def check_xlsx(columns, rows, file):
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        sheet = openpyxl.load_workbook(file)["Result"]
    lines = list(sheet.iter_rows(values_only=True))
    assert [_unescaped(name) for name in lines[0]] == [c.name for c in columns]
    assert len(lines) - 1 == len(rows)
    for line, row in zip(lines[1:], rows, strict=True):
        for column, value, original in zip(columns, line, row, strict=True):
            assert _same_cell(column, value, original), (column, value, original)


def _unescaped(value):
    return openpyxl.utils.escape.unescape(value) if isinstance(value, str) else value


def _same_cell(column, value, original):
    if original is None or original == "":
        return value in (None, "")
    if isinstance(value, str) and column.kind != "text":
        return _unescaped(value).replace("\r\n", "\n") == canonical(original).replace("\r\n", "\n")
    if isinstance(original, datetime):
        return abs(value - original.replace(tzinfo=None)) < timedelta(milliseconds=2)
    if isinstance(original, date):
        return value == datetime(original.year, original.month, original.day)
    if isinstance(original, str):
        return _unescaped(value) == original
    return value == original or math.isclose(float(value), float(original), rel_tol=1e-15)


READERS = {"csv": check_csv, "json": check_json, "xlsx": check_xlsx}


def test_every_registered_format_has_a_reader_here():
    assert set(READERS) == set(FORMATS)


@pytest.mark.parametrize("name", sorted(FORMATS))
@given(result=results())
@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow])
def test_another_reader_finds_what_went_in(name, result):
    columns, rows = result
    file, _ = written(name, columns, rows)
    file.seek(0)
    assert FORMATS[name].count_rows(file) == len(rows)
    READERS[name](columns, rows, file)


@pytest.mark.parametrize("name", sorted(FORMATS))
@given(share=st.floats(0.05, 0.97))
@settings(max_examples=20, deadline=None)
def test_a_file_cut_short_is_never_counted_as_whole(name, share):
    rows = [(n, 'a "quoted"\ntext') for n in range(400)]
    file, _ = written(name, [Column("n", "integer"), Column("t", "text")], rows, split=100)
    data = file.getvalue()
    try:
        found = FORMATS[name].count_rows(io.BytesIO(data[: int(len(data) * share)]))
    except ProofFailed:
        return
    assert found != len(rows)


@pytest.mark.parametrize("name", sorted(FORMATS))
def test_the_same_result_gives_the_same_bytes(name):
    columns, rows = [Column("n", "integer"), Column("t", "text")], [(1, "a"), (2, None)]
    assert written(name, columns, rows)[0].getvalue() == written(name, columns, rows)[0].getvalue()


def test_csv_tells_absent_from_empty():
    file, _ = written("csv", [Column("a"), Column("b")], [(None, ""), ("x", None)])
    assert file.getvalue() == b'a,b\n,""\nx,\n'


def test_json_keeps_every_digit_and_names_what_it_has_no_form_for():
    columns = [Column("d", "decimal"), Column("f", "float"), Column("j", "json")]
    batch = Batch.of_texts(
        [["12345678901234567890.123456789012345678", "NaN"], ["1e+22", "Infinity"], ['{"a":[1.50]}', None]], 2
    )
    file = io.BytesIO()
    writer = FORMATS["json"].writer(file, columns)
    writer.write(batch)
    writer.close()
    assert b'{"d":12345678901234567890.123456789012345678,"f":1e+22,"j":{"a":[1.50]}},\n' in file.getvalue()
    assert json.loads(file.getvalue())[1] == {"d": "NaN", "f": "Infinity", "j": None}
    assert writer.warnings == [
        f"column '{c}' holds numbers that JSON has no form for (NaN, infinity): written as text" for c in "df"
    ]


def test_xlsx_writes_real_values_and_says_what_it_wrote_as_text():
    columns = [Column("n", "decimal"), Column("when", "date"), Column("t", "text")]
    texts = [
        ["1234567890123456", "1234.5000000000000000", "1.5"],
        ["1899-12-31", "2026-11-24", "infinity"],
        ["007", "1e5", "x"],
    ]
    file = io.BytesIO()
    writer = FORMATS["xlsx"].writer(file, columns)
    writer.write(Batch.of_texts(texts, 3))
    writer.close()
    sheet = openpyxl.load_workbook(file).active
    assert [[c.value for c in row] for row in sheet.iter_rows(min_row=2)] == [
        ["1234567890123456", "1899-12-31", "007"],
        [1234.5, datetime(2026, 11, 24), "1e5"],
        [1.5, "infinity", "x"],
    ]
    assert len(writer.warnings) == 2
    assert sheet.freeze_panes == "A2"
    assert sheet.auto_filter.ref == "A1:C4"
    assert sheet["A1"].font.bold


def test_xlsx_refuses_a_text_too_long_naming_row_and_column():
    writer = FORMATS["xlsx"].writer(io.BytesIO(), [Column("note")])
    with pytest.raises(ValueUnfit, match="row 2, column 'note'"):
        writer.write(Batch.of_texts([["x", "y" * (MAX_TEXT + 1)]], 2))
    writer.abandon()


def test_xlsx_refuses_more_columns_than_a_sheet_holds():
    with pytest.raises(ValueUnfit, match="16,385 columns"):
        FORMATS["xlsx"].writer(io.BytesIO(), [Column(f"c{n}") for n in range(16_385)])


def test_column_letters():
    assert [_letters(n) for n in (1, 26, 27, 702, 703, 16_384)] == ["A", "Z", "AA", "ZZ", "AAA", "XFD"]
