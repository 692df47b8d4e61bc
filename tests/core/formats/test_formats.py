"""The contract of every format: what other readers find is what went in, and the own counter agrees.

A format that is registered and has no reader here fails.
"""

from __future__ import annotations

import csv
import io
import json
import math
import random
import re
import tracemalloc
import zipfile
import zlib
from datetime import datetime, timedelta, timezone

import openpyxl
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from patient_ladle.core.errors import BadInput, ProofFailed, ValueUnfit
from patient_ladle.core.files.descriptor import describe_result
from patient_ladle.core.files.formats import FORMATS, checked_options
from patient_ladle.core.files.formats.archive import crc_of_both
from patient_ladle.core.files.formats.base import Target
from patient_ladle.core.files.formats.sheets import letters, sheet_name
from patient_ladle.core.files.formats.xlsx import MAX_TEXT
from patient_ladle.core.files.output import OutputSettings
from patient_ladle.core.files.reading import first_rows_of
from patient_ladle.core.ports import Statement
from patient_ladle.core.results.columns import Batch, Column, canonical
from patient_ladle.core.runs.engine import RunJob
from patient_ladle.core.runs.memory import MemoryFolder, MemorySession
from patient_ladle.proof.counting import AlignedCounter, Damaged, DelimitedCounter, JsonCounter, SheetCounter, names_in
from patient_ladle.proof.verifying import verify
from tests.core.test_engine import run
from tests.profile import examples

from .cases import CASES

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
    return [Column('c ü,"<' + ".c" * n, kind) for n, kind in enumerate(kinds)], rows


def batch_of(columns, rows):
    if any(column.kind == "any" for column in columns):
        made = Batch.of_values([rows[: len(rows) // 2], rows[len(rows) // 2 :]], len(columns))
        numbers = tuple(n if c.kind == "any" else None for c, n in zip(columns, made.numbers, strict=True))
        return Batch(made.cells, numbers, len(rows))
    return Batch.of_texts([[canonical(r[i]) for r in rows] for i in range(len(columns))], len(rows))


def opened(name, columns, **options):
    file = io.BytesIO()
    writer = FORMATS[name].writer(
        Target(file, io.BytesIO, about := {"extract": "readings"}, about), checked_options(name, options)
    )
    writer.begin("", columns)
    return file, writer


def written(name, columns, rows, split=3, **options):
    file, writer = opened(name, columns, **options)
    for start in range(0, len(rows), split):
        writer.write(batch_of(columns, rows[start : start + split]))
    writer.end()
    writer.close()
    assert writer.rows == len(rows)
    return file, writer.warnings


def of_texts(name, columns, texts, **options):
    """A file of canonical texts, column by column, and what its writer warned of."""
    file, writer = opened(name, columns, **options)
    writer.write(Batch.of_texts(texts, len(texts[0])))
    writer.end()
    writer.close()
    return file.getvalue(), writer.warnings


def test_every_registered_format_has_a_case():
    assert set(CASES) == set(FORMATS)


@pytest.mark.parametrize("name", sorted(FORMATS))
@given(result=results())
@examples(0.6)
def test_another_reader_finds_what_went_in(name, result):
    columns, rows = result
    held = CASES[name].held
    rows = [tuple(v if v is None else held(c.kind, v) for c, v in zip(columns, r, strict=True)) for r in rows]
    file, _ = written(name, columns, rows)
    file.seek(0)
    assert FORMATS[name].read_back(file, checked_options(name, {})).rows == len(rows)
    CASES[name].check(columns, rows, file)


REVERSIBLE = {
    "quoting": ["needed", "always", "text"], "line_ending": ["lf", "crlf"], "encoding": ["utf-8", "utf-8-bom", "utf-16", "gb18030"],
    "null_as": ["", "NULL", "(none)"], "decimal_separator": [".", ","], "thousands_separator": ["", "'", " "], "true_as": ["true", "yes"],
    "false_as": ["false", "no"], "binary": ["base64", "hex"], "zone": ["UTC", "Europe/London", "Asia/Kolkata"], "header": [True, False],
    "delimiter": [",", ";", "\t", "|"], "envelope": [True, False], "compression": ["zstd", "none"], "title_rows": [[], ["Readings", "of a day"]],
}  # fmt: skip
"""Options whose effect a reader can take back."""


def as_read(name, column, text, options):
    """A canonical text as the format can give it back."""
    if text is None or (text == "" and name in ("xlsx", "text")):
        return None
    if name == "text":
        return re.sub("[\t\n\r\x0b\x0c\x85\u2028\u2029]", " ", text).strip(" ") or None
    if name == "xlsx" and column.kind != "text":
        return text.replace("T", " ").removesuffix("Z") if column.kind == "zoned" else text
    return text


def alike(name, column, found, wanted):
    if found == wanted or name != "xlsx" or None in (found, wanted):
        return found == wanted
    if column.kind in ("timestamp", "zoned"):  # milliseconds are what a cell keeps of a moment
        at = [datetime.fromisoformat(each.replace("T", " ").removesuffix("Z")) for each in (found, wanted)]
        return abs(at[0] - at[1]) < timedelta(milliseconds=2)
    return found.replace("\r\n", "\n") == wanted.replace("\r\n", "\n") or math.isclose(
        float(found), float(wanted), rel_tol=1e-15
    )


@pytest.mark.parametrize("name", sorted(FORMATS))
@given(result=results(), data=st.data())
@examples(0.6)
def test_what_was_written_is_read_back(name, result, data):
    columns, rows = result
    if name == "parquet":
        rows = [
            tuple(v if c.kind != "integer" or v is None else v % 2**62 for c, v in zip(columns, r, strict=True)) for r in rows
        ]
    known = [option for option in FORMATS[name].options if option.name in REVERSIBLE]
    drawn = {option.name: data.draw(st.sampled_from(REVERSIBLE[option.name])) for option in known if data.draw(st.booleans())}
    if name in ("csv", "tsv") and len(columns) == 1:
        drawn["null_as"] = "NULL"  # else null that is alone is written as an empty text
    if "zone" in drawn and name == "xlsx":
        drawn["zone"] = "UTC"
    try:
        options = checked_options(name, drawn)
    except BadInput:
        assume(False)
    file, _ = written(name, columns, rows, **drawn)
    file.seek(0)
    table = next(FORMATS[name].read(file, options, [columns]))
    assert [column.kind for column in table.columns] == [column.kind for column in columns] or not options.get("header", True)
    batches = list(table.batches)
    found = [cell for batch in batches for cell in zip(*(cells.to_pylist() for cells in batch.cells), strict=True)]
    if name == "text" and not options["header"]:
        assert len(found) == len(rows)
        return
    assert len(found) == len(rows)
    places = data.draw(st.lists(st.integers(0, len(columns) - 1), min_size=1, unique=True))
    file.seek(0)
    picked = FORMATS[name].read_picked(file, options, columns, places)
    some = [row for batch in picked for row in zip(*(cells.to_pylist() for cells in batch.cells), strict=True)]
    assert some == [tuple(row[place] for place in places) for row in found]
    wanted = zip(*(cells.to_pylist() for cells in batch_of(columns, rows).cells), strict=True) if rows else []
    for got, given_row in zip(found, wanted, strict=True):
        for column, cell, text in zip(columns, got, given_row, strict=True):
            if column.kind == "any" and (options.get("thousands_separator") or options.get("decimal_separator", ".") != "."):
                continue  # nobody knows any more which of its texts were numbers
            assert alike(name, column, as_read(name, column, cell, options), as_read(name, column, text, options)), (
                column,
                cell,
                text,
            )


@pytest.mark.parametrize("name", sorted(FORMATS))
@pytest.mark.parametrize("compression", ["none", "gzip", "zstd", "zip"])
def test_each_format_is_described_previewed_and_verified_by_what_it_says_of_itself(name, compression, tmp_path):
    columns = [Column("n", "integer"), Column("moor", "text"), Column("wet", "boolean")]
    rows = [(n, "a b" if n % 3 else None, bool(n % 2)) for n in range(9)]
    output = OutputSettings.from_dict({"files": {"compression": compression}})
    job = RunJob("readings", "readings", Statement("select 1"), (name,), output=output)
    outcome, folder = run(MemorySession(columns, rows), folder=MemoryFolder(), job=job)
    [file] = outcome.files
    described = describe_result("readings", outcome.results, outcome.files, datetime(2026, 11, 24, tzinfo=timezone.utc), {})
    (tmp_path / file.name).write_bytes(folder.files[file.name].getvalue())
    (tmp_path / "datapackage.json").write_text(json.dumps(described))
    [verdict] = verify(tmp_path)
    assert (verdict.differs, verdict.rows) == ([], 9)
    assert any(said.startswith("rows 9") for said in verdict.proven)
    with open(tmp_path / file.name, "rb") as content:
        shown = first_rows_of(content, name, checked_options(name, {}), compression, 4)
    assert (shown["columns"], len(shown["rows"]), shown["complete"]) == (["n", "moor", "wet"], 4, False)
    assert [row[0] for row in shown["rows"]] == ["0", "1", "2", "3"]
    damaged = bytearray((tmp_path / file.name).read_bytes())
    damaged[len(damaged) // 2] ^= 0xFF
    (tmp_path / file.name).write_bytes(damaged)
    assert verify(tmp_path)[0].differs


@pytest.mark.parametrize("name", sorted(FORMATS))
@given(share=st.floats(0.05, 0.97))
@examples(0.2)
def test_a_file_cut_short_is_never_counted_as_whole(name, share):
    rows = [(n, 'a "quoted"\ntext') for n in range(400)]
    file, _ = written(name, [Column("n", "integer"), Column("t", "text")], rows, split=100)
    data = file.getvalue()
    try:
        found = FORMATS[name].read_back(io.BytesIO(data[: int(len(data) * share)]), checked_options(name, {})).rows
    except ProofFailed:
        return
    assert found != len(rows)


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("json", b'[\n{"a":1},\n]\n'),
        ("json", b'[\n{"a":1}\n{"a":2}\n]\n'),
        ("json", b'[\n{"a":1},\n{"a":01}\n]\n'),
        ("json", b'[\n{"a":1}\n'),
        ("json", b'[\n{"a":1}\n]}\n'),
        ("json", b'{"rows": [\n{"a":1}\n]\n'),
        ("jsonl", b'{"a":1}\n{"a":}\n'),
        ("jsonl", b'{"a":1}\n{"a":2}'),
        ("json", b'[\n{"a":1,"b":2},\n{"a":1}\n]\n'),
        ("json", b'[\n{"a":{"c":1}},\n{"a":1,"b":{"c":1}}\n]\n'),
        ("json", b'[\n{"a":1},\n2\n]\n'),
        ("jsonl", b'{"a":1}\n{"a":1,"b":2}\n'),
        ("csv", b"a,b\n1\n"),
        ("csv", b"a,b\n1,2,3\n"),
        ("csv", b'a,b\n1,"2"3\n'),
        ("csv", b'a,b\n1,2"3"\n'),
        ("csv", b"a\n1\r2\n"),
        ("text", b"a  b\n-  -\n1\n"),
        ("csv", b'a\n"1\n'),
        ("csv", b"a\n1"),
        ("csv", b""),
        ("xlsx", b"PK"),
        ("parquet", b"PAR1"),
    ],
)
def test_a_file_that_is_not_well_formed_is_refused(name, text):
    with pytest.raises(ProofFailed):
        FORMATS[name].read_back(io.BytesIO(text), checked_options(name, {}))


@pytest.mark.parametrize(
    ("text", "rows"), [(b"[\n]\n", 0), (b'[\n{"a":"]"}\n]\n', 1), (b'{"x": 1, "rows": [\n{"a":[1, 2]},\n{"a":2}\n]}\n', 2)]
)
def test_values_of_an_array_are_counted_wherever_its_pieces_part(text, rows):
    for size in range(1, len(text) + 1):
        counter = JsonCounter(True)
        for start in range(0, len(text), size):
            counter.feed(text[start : start + size])
        assert counter.rows() == rows


@pytest.mark.parametrize("name", sorted(FORMATS))
def test_the_same_result_gives_the_same_bytes(name):
    columns, rows = [Column("n", "integer"), Column("t", "text")], [(1, "a"), (2, None)]
    assert written(name, columns, rows)[0].getvalue() == written(name, columns, rows)[0].getvalue()


@pytest.mark.parametrize("way", ["read", "proven"])
def test_a_parquet_file_is_read_without_being_held(way):
    """Row groups are let go of as they are read, however large the file is."""
    columns = [Column("v")]
    file, writer = opened("parquet", columns, types="text")
    chance = random.Random(1)
    for _ in range(8):
        writer.write(Batch.of_texts([[chance.randbytes(100).hex() for _ in range(5_000)]], 5_000))
        writer._put_group()
    writer.end()
    size, file = len(file.getvalue()), io.BufferedReader(io.BytesIO(file.getvalue()))
    tracemalloc.start()
    try:
        if way == "proven":
            assert FORMATS["parquet"].read_back(file, {}).rows == 40_000
        else:
            batches = FORMATS["parquet"].read_picked(file, {}, columns, [0])
            assert sum(batch.rows for batch in batches) == 40_000
        assert tracemalloc.get_traced_memory()[1] < size / 2
    finally:
        tracemalloc.stop()


def test_csv_tells_null_from_empty():
    file, _ = written("csv", [Column("a"), Column("b")], [(None, ""), ("x", None)])
    assert file.getvalue() == b'a,b\n,""\nx,\n'


def test_json_keeps_every_digit_and_names_what_it_has_no_form_for():
    columns = [Column("d", "decimal"), Column("f", "float"), Column("j", "json")]
    texts = [["12345678901234567890.123456789012345678", "NaN"], ["1e+22", "Infinity"], ['{"a":\n[1.50]}', None]]
    made, warned = of_texts("json", columns, texts)
    assert b'{"d":12345678901234567890.123456789012345678,"f":1e+22,"j":{"a": [1.50]}},\n' in made
    assert json.loads(made)[1] == {"d": "NaN", "f": "Infinity", "j": None}
    assert warned == [f"column '{c}' holds numbers that JSON has no form for (NaN, infinity): written as text" for c in "df"]
    assert json.loads(of_texts("json", columns, texts, nan_as="null")[0])[1] == {"d": None, "f": None, "j": None}
    with pytest.raises(ValueUnfit, match="row 2, column 'd'"):
        of_texts("jsonl", columns, texts, nan_as="refuse")
    told = json.loads(of_texts("json", columns, texts, envelope=True)[0])
    assert (told["extract"], len(told["rows"]), told["columns"][2]["type"]) == ("readings", 2, "json")


STYLED = [Column("n", "decimal"), Column("at", "zoned"), Column("d", "date"), Column("b", "boolean"), Column("t", "text")]
STYLED_TEXTS = [
    ["1234567.5", "-12", None],
    ["2026-07-01T23:30:00.25Z", "0044-03-15 BC", None],
    ["2026-11-24", "infinity", None],
    ["true", "false", None],
    ["=1+1", "NULL", ""],
]


@pytest.mark.parametrize(
    ("options", "expected"),
    [
        ({}, b'n,at,d,b,t\n1234567.5,2026-07-01T23:30:00.25Z,2026-11-24,true,=1+1\n-12,0044-03-15 BC,infinity,false,NULL\n,,,,""\n'),
        ({"header": False, "line_ending": "crlf", "delimiter": "pipe", "null_as": "NULL", "true_as": "yes", "false_as": "no"},
         b'1234567.5|2026-07-01T23:30:00.25Z|2026-11-24|yes|=1+1\r\n-12|0044-03-15 BC|infinity|no|"NULL"\r\nNULL|NULL|NULL|NULL|""\r\n'),
        ({"header": False, "quoting": "always", "zone": "Europe/London"},
         b'"1234567.5","2026-07-02T00:30:00.25+01:00","2026-11-24","true","=1+1"\n"-12","0044-03-15 BC","infinity","false","NULL"\n,,,,""\n'),
        ({"header": False, "delimiter": ";", "decimal_separator": ",", "thousands_separator": ".", "quoting": "text", "date_format": "%d/%m/%Y",
          "timestamp_format": "%H:%M", "escape_formulas": True},
         b"1.234.567,5;\"23:30\";\"24/11/2026\";true;\"'=1+1\"\n-12;\"0044-03-15 BC\";\"infinity\";false;\"NULL\"\n;;;;\"\"\n"),
        ({"header": False, "decimal_separator": ","},
         b'"1234567,5",2026-07-01T23:30:00.25Z,2026-11-24,true,=1+1\n-12,0044-03-15 BC,infinity,false,NULL\n,,,,""\n'),
    ],
)  # fmt: skip
def test_delimited_text_is_styled_as_wanted(options, expected):
    made, _ = of_texts("csv", STYLED, STYLED_TEXTS, **options)
    assert made == expected
    assert FORMATS["csv"].read_back(io.BytesIO(made), checked_options("csv", options)).rows == 3


@pytest.mark.parametrize("encoding", ["utf-8-bom", "utf-16", "utf-16-le", "utf-32", "windows-1252", "iso-8859-15", "cp037"])
def test_text_in_any_encoding_is_read_back(encoding):
    columns, texts = [Column("a"), Column("b")], [["Moor é", 'x"\ny'], ["1", None]]
    made, _ = of_texts("csv", columns, texts, encoding=encoding)
    plain = made.decode("utf-8-sig" if encoding == "utf-8-bom" else encoding)
    assert list(csv.reader(io.StringIO(plain, newline=""))) == [["a", "b"], ["Moor é", "1"], ['x"\ny', ""]]
    assert FORMATS["csv"].read_back(io.BytesIO(made), checked_options("csv", {"encoding": encoding})).rows == 2


def test_a_character_that_the_encoding_lacks_is_named_or_replaced():
    columns, texts = [Column("n", "integer"), Column("name")], [["1", "2"], ["plain", "Ł moor"]]
    with pytest.raises(
        ValueUnfit, match=r"row 2, column 'name': the character 'Ł' \(U\+0141\) is not in the encoding windows-1252"
    ):
        of_texts("csv", columns, texts, encoding="windows-1252")
    made, warned = of_texts("csv", columns, texts, encoding="windows-1252", replacement="?")
    assert made.endswith(b"2,? moor\n")
    assert warned == ["characters that windows-1252 lacks: written as '?'"]


@pytest.mark.parametrize(
    ("name", "options", "words"),
    [
        ("csv", {"delimeter": ";"}, "option of csv"), ("csv", {"delimiter": "ab"}, "cannot be a delimiter"),
        ("csv", {"encoding": "utf-9"}, "value of encoding"), ("csv", {"date_format": "%Q"}, "not a mark of a date"),
        ("csv", {"header": "perhaps"}, "true or false"), ("csv", {"decimal_separator": ",", "thousands_separator": ","}, "are the same"),
        ("csv", {"zone": "Europe/Nowhere"}, "not a time zone"), ("json", {"nan_as": "nul"}, "value of nan_as"),
        ("xlsx", {"title_rows": 3}, "a list of texts"), ("cvs", {}, "format"),
    ],
)  # fmt: skip
def test_a_wrong_option_is_refused_with_what_would_be_right(name, options, words):
    with pytest.raises(BadInput, match=words) as found:
        checked_options(name, options)
    assert found.value.hint


def test_xlsx_writes_real_values_and_says_what_it_wrote_as_text():
    columns = [Column("n", "decimal"), Column("when", "date"), Column("t", "text")]
    texts = [
        ["1234567890123456", "1234.5000000000000000", "1.5"],
        ["1899-12-31", "2026-11-24", "infinity"],
        ["007", "1e5", "x"],
    ]
    made, warned = of_texts("xlsx", columns, texts, title_rows=["About {extract}"])
    book = openpyxl.load_workbook(io.BytesIO(made))
    sheet = book["Result"]
    assert [[c.value for c in row] for row in sheet.iter_rows(min_row=3)] == [
        ["1234567890123456", "1899-12-31", "007"],
        [1234.5, datetime(2026, 11, 24), "1e5"],
        [1.5, "infinity", "x"],
    ]
    assert sheet["A1"].value == "About readings"
    assert [told.split("holds ")[1].split(":")[0] for told in warned] == [
        "numbers that a cell cannot hold exactly", "dates outside March 1900 to 9999", "infinity or NaN",
    ]  # fmt: skip
    assert (sheet.freeze_panes, sheet.auto_filter.ref, sheet["A2"].font.bold) == ("A3", "A2:C5", True)
    assert b'<dimension ref="A1:C5"/>' in zipfile.ZipFile(io.BytesIO(made)).read("xl/worksheets/sheet1.xml")
    origin = {a.value: b.value for a, b in book["Origin"].iter_rows()}
    assert (origin["extract"], origin["rows"]) == ("readings", "3")
    for option in ("unrepresentable_numbers", "unrepresentable_dates"):
        with pytest.raises(ValueUnfit, match=r"row (1|3), column"):
            of_texts("xlsx", columns, texts, **{option: "refuse"})


def test_xlsx_refuses_a_text_too_long_naming_row_and_column_or_cuts_it():
    texts = [["x", "y" * MAX_TEXT, "\U0001f4a7" * (MAX_TEXT // 2 + 1)]]
    with pytest.raises(ValueUnfit, match="row 3, column 'note'"):
        of_texts("xlsx", [Column("note")], texts)
    made, [warned] = of_texts("xlsx", [Column("note")], texts, long_text="cut")
    assert warned.endswith("cut")
    cells = [row[0] for row in openpyxl.load_workbook(io.BytesIO(made))["Result"].iter_rows(min_row=2, values_only=True)]
    assert cells == ["x", texts[0][1], "\U0001f4a7" * (MAX_TEXT // 2)]


def test_xlsx_refuses_more_columns_than_a_sheet_holds():
    with pytest.raises(ValueUnfit, match="16,385 columns"):
        opened("xlsx", [Column(f"c{n}") for n in range(16_385)])


def test_xlsx_goes_on_in_the_next_sheet(monkeypatch):
    monkeypatch.setattr("patient_ladle.core.files.formats.xlsx.MAX_ROWS", 8)
    file, _ = written("xlsx", [Column("n", "integer"), Column("t")], [(n, f"t{n}") for n in range(20)], split=5)
    book = openpyxl.load_workbook(file)
    assert book.sheetnames == ["Result", "Result (2)", "Result (3)", "Origin"]
    assert [row[0].value for sheet in book.worksheets[:3] for row in sheet.iter_rows(min_row=2)] == list(range(20))
    file.seek(0)
    assert FORMATS["xlsx"].read_back(file, checked_options("xlsx", {})).rows == 20


def test_sheet_names_are_ones_that_a_workbook_takes():
    assert sheet_name("By [district]: all/none?", []) == "By _district__ all_none_"
    assert sheet_name("a" * 40, ["A" * 31]) == "a" * 27 + " (2)"
    assert [sheet_name(name, []) for name in ("'", "History", "Origin")] == ["Result", "History_", "Origin_"]


def test_column_letters():
    assert [letters(n) for n in (1, 26, 27, 702, 703, 16_384)] == ["A", "Z", "AA", "ZZ", "AAA", "XFD"]


@given(first=st.binary(max_size=80), second=st.binary(max_size=80))
def test_the_checksum_of_two_texts_is_that_of_both_together(first, second):
    assert crc_of_both(zlib.crc32(first), zlib.crc32(second), len(second)) == zlib.crc32(first + second)


@given(rows=st.integers(0, 40), piece=st.integers(1, 60))
def test_rows_are_counted_however_the_bytes_come(rows, piece):
    file, _ = written("json", [Column("a"), Column("j", "json")], [('x"]\n', '{"b":["]"]}')] * rows, envelope=rows % 2 == 0)
    data, counter = file.getvalue(), JsonCounter()
    for start in range(0, len(data), piece):
        counter.feed(data[start : start + piece])
    assert counter.rows() == rows


@given(st.text('":\\\\a,', max_size=30))
def test_names_are_counted_alike_with_and_without_whole_arrays(text):
    quick = names_in(text.encode())
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("patient_ladle.proof.counting.whole_arrays", lambda: None)
        assert names_in(text.encode()) == quick


def fed(counter, data, piece):
    try:
        for start in range(0, len(data), piece):
            counter.feed(data[start : start + piece])
        return counter.rows(), counter.width
    except Damaged:
        return None


def delimited_count(data, piece, *how):
    return fed(DelimitedCounter(*how), data, piece)


@given(widths=st.lists(st.integers(1, 4), max_size=6) | st.lists(st.just(3), max_size=9), titles=st.integers(0, 2),
       piece=st.integers(1, 90), arrays=st.booleans())  # fmt: skip
def test_cells_of_a_sheet_are_counted_row_by_row_however_its_bytes_come(widths, titles, piece, arrays):
    cells = ["<c><v>1</v></c>", '<c t="inlineStr"><is><t>a r/c&lt;r</t></is></c>', "<c/>"]
    rows = ("<row>" + "".join((cells * 2)[n % 3 : n % 3 + width]) + "</row>" for n, width in enumerate(widths))
    sheet = f"<worksheet><cols><col/><col/></cols><sheetData>{''.join(rows)}</sheetData></worksheet>".encode()
    with pytest.MonkeyPatch.context() as patch:
        if not arrays:
            patch.setattr("patient_ladle.proof.counting.whole_arrays", lambda: None)
        found = fed(SheetCounter(titles), sheet, piece)
    alike = {*widths[titles:]}
    assert found == (None if len(alike) > 1 else (len(widths), alike.pop() if alike else None))


@given(text=st.text("aé\n", max_size=30), piece=st.integers(1, 9), encoding=st.sampled_from(["utf-8", "utf-16", "cp1252"]))
@examples(3)
def test_lines_of_aligned_text_are_all_equally_long(text, piece, encoding):
    *lines, rest = text.split("\n")
    good = not rest and len({*map(len, lines)}) <= 1
    assert fed(AlignedCounter(encoding, 0), text.encode(encoding), piece) == ((len(lines), None) if good else None)


@given(text=st.text('aé"",,;\n\n\r', max_size=40), piece=st.integers(1, 9), delimiter=st.sampled_from([",", ";", "é"]))
@examples(8)
def test_what_is_counted_in_delimited_text_is_what_another_reader_finds(text, piece, delimiter):
    counts = delimited_count((text + "\n").encode(), piece, "utf-8", 0, delimiter)
    assert counts == delimited_count((text + "\n").encode(), 1000, "utf-8", 0, delimiter), "however the bytes come"
    if counts is None:
        return
    found = list(csv.reader(io.StringIO(text + "\n", newline=""), strict=True, delimiter=delimiter))
    assert (len(found), {len(line) or 1 for line in found}) == (counts[0], {counts[1]} - {None})


@given(table=st.integers(1, 4).flatmap(lambda n: st.lists(st.lists(st.text('aé",;\n\r ', max_size=4), min_size=n, max_size=n))),
       piece=st.integers(1, 30), delimiter=st.sampled_from([",", ";", "é"]), end=st.sampled_from(["\n", "\r\n"]),
       encoding=st.sampled_from(["utf-8", "utf-8-sig", "utf-16", "iso8859-1"]))  # fmt: skip
@examples(5)
def test_what_another_writer_wrote_is_counted_however_the_bytes_come(table, piece, delimiter, end, encoding):
    quoting = csv.QUOTE_ALL if any("\r" in cell for row in table for cell in row) else csv.QUOTE_MINIMAL  # it lets halves stand
    text = io.StringIO(newline="")
    csv.writer(text, lineterminator=end, delimiter=delimiter, quoting=quoting).writerows(table)
    width = len(table[0]) if table else None
    assert delimited_count(text.getvalue().encode(encoding), piece, encoding, 0, delimiter) == (len(table), width)
