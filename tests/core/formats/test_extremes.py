"""Whatever options, kinds and values come together: a proven file that other readers read alike, or a refusal with a name in it.

``pytest -s`` tells the figures.
"""

from __future__ import annotations

import csv
import io
import re
from collections import Counter

import openpyxl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.errors import BadInput, StatementWrong, ValueUnfit
from patient_ladle.core.files.formats import FORMATS, checked_options
from patient_ladle.core.files.formats.base import Target
from patient_ladle.core.files.output import OutputSettings
from patient_ladle.core.files.shaping import TYPES
from patient_ladle.core.ports import Statement
from patient_ladle.core.results.columns import Column, CsvBatch
from patient_ladle.core.runs.engine import RunJob
from patient_ladle.core.runs.memory import MemoryFolder, MemorySession
from tests.core.test_engine import run
from tests.profile import examples

from .cases import CASES

TALLY: Counter = Counter()

MOMENTS = ["0001-01-01 00:00:00", "9999-12-31 23:59:59.999999", "2026-10-25 00:30:00.25", "1880-06-01 12:00:00", "infinity",
           "2026-11-24 06:05:00", "1900-02-28 23:59:59", "-infinity", "1969-12-31 23:59:59.5"]  # fmt: skip
VALUES = {
    "text": ["", " ", "a,b", 'a"b', "line\nbreak", "\r", "=1+1", "NULL", "\\.", "é", "Ł", "\U0001f4a7", "NaN", "true", "0", "\t", "\x1f",
             "\x7f", "\ufeff", "\u2028", "_x0041_", "'", "‖", "a;b|c", "x" * 33_000, "2026-02-30", "2026-99-99 rubbish", "007", "?", "\0"],
    "integer": ["0", "-1", str(2**63), str(-(2**63)), "9" * 40, "9" * 130, "1"],
    "decimal": ["0.00", "-0.001", "1234567.5", "9" * 130 + ".5", "NaN", "-Infinity", "0." + "1" * 45, "12"],
    "float": ["0", "-0", "1e+22", "5e-324", "1.7976931348623157e+308", "NaN", "Infinity", "-0.00012345678901234567", "12.5"],
    "boolean": ["true", "false"],
    "date": ["0001-01-01", "9999-12-31", "0044-03-15 BC", "infinity", "1900-02-28", "10000-01-01", "2026-11-24"],
    "time": ["00:00:00", "23:59:59.999999", "24:00:00", "12:00:00+01", "06:05:00"],
    "timestamp": [*MOMENTS, "0044-03-15 06:05:00 BC", "294276-12-31 23:59:59"],
    "zoned": [m if "inf" in m else m.replace(" ", "T") + "Z" for m in MOMENTS],
    "binary": ["", "AP8=", "Zm9v"],
    "json": ['{"a":1,"b":{"c":[]}}', "[1,\n2]", '"x, y"', "null", '"\\":"', "1"],
    "any": ["text", "", 1, -(2**63), 2.5, 1e22, 0.1234567890123456, "=1"],
}  # fmt: skip
NAMES = ["id", "ID", "id_2", "", "a,b", 'q"q', "n\nl", "é", "reading", "‖", "column_4", "x" * 70, " ", "Ł", "\\", 'k\\":']
WORDS = ["", "NULL", "n,a", "0", "false", "ja", "nein", "\n", ",", '"', ";", "?", "-", "N/A", "Ł", "=", "1e5", "nan", "??", "\ud800",
         "a\tb", "2026-01-01", "‖", "'"]  # fmt: skip
FORMS = ["", "%d/%m/%Y", "%Y%m%d%H%M%S", "%H:%M.%S", "%S.%f", "%f", "%z", "%H:%M %Z", "%j %U", "%I:%M", "%I:%M %p", "%H %p", "%M",
         "%H %m", "%Q", "x", "%", "%%Y", "%d\n", "%B %A", "%Y-%m-%dT%H:%M:%S.%f%z", "%M:%S", "%G-W%V-%u", "0.00", "#,##0.00", "0",
         "0." + "0" * 30, "0." + "0" * 31]  # fmt: skip
ZONES = ["UTC", "Europe/London", "Europe/Amsterdam", "Africa/Monrovia", "Asia/Kolkata", "Pacific/Apia", "Nowhere"]
POOLS = {
    "delimiter": [",", ";", "tab", "|", "+", "-", ".", ":", " ", "e", '"', "‖", "¦", "\x01", "\u2028", "\x1c", "'", "\\", "#"],
    "zone": ZONES, "encoding": [*FORMATS["csv"].options[4].choices, "rot13", "idna", "punycode", "unicode_escape", "utf-7", "latin-1"],
    "date_format": FORMS, "timestamp_format": FORMS, "time_format": FORMS,
}  # fmt: skip


def values_of(option):
    if option.name in POOLS:
        return st.sampled_from(POOLS[option.name])
    match option.kind:
        case "choice":
            return st.sampled_from(option.choices)
        case "boolean":
            return st.booleans()
        case "texts":
            return st.lists(st.sampled_from(WORDS), max_size=3)
    return st.sampled_from(WORDS)


@st.composite
def jobs(draw, name):
    kinds = draw(st.lists(st.sampled_from(sorted(VALUES)), min_size=1, max_size=5))
    columns = [Column(draw(st.sampled_from(NAMES)), kind, draw(st.sampled_from(["", "numeric(3, 5)", "numeric(40, 2)", "numeric(5, -2)"])))
               for kind in kinds]  # fmt: skip
    rows = draw(st.lists(st.tuples(*[st.none() | st.sampled_from(VALUES[kind]) for kind in kinds]), max_size=6))
    declared = FORMATS[name].options
    some = draw(st.lists(st.sampled_from(declared), max_size=5, unique_by=lambda option: option.name)) if declared else []
    options = {option.name: draw(values_of(option)) for option in some}
    choices = []
    if draw(st.booleans()):
        named = {column.name: column for column in columns if column.name}
        for column in draw(st.lists(st.sampled_from(sorted(named)), unique=True, max_size=4)) if named else []:
            made = {"name": column}
            if draw(st.booleans()):
                made["type"] = draw(st.sampled_from(sorted(TYPES)))
            if draw(st.booleans()):
                made["pattern"] = draw(st.sampled_from(FORMS))
            choices.append(made)
    return columns, rows, options, choices


def rows_of(table):
    return sum(batch.rows for batch in table.batches)


def names_something(error, columns, options, choices):
    told = f"{error.message} {error.hint}"
    named = (
        [column.name for column in columns]
        + [choice["name"] for choice in choices]
        + list(options)
        + ["column", "pattern", "style"]
    )
    return bool(error.message and error.hint) and any(name and name in told for name in named)


@pytest.mark.parametrize("name", sorted(FORMATS))
@examples(1.2)
@given(data=st.data())
def test_any_options_end_in_a_proven_file_that_others_read_or_in_a_refusal_with_a_name(name, data):
    columns, rows, options, choices = data.draw(jobs(name))
    TALLY["tried"] += 1
    try:
        output = OutputSettings.from_dict({"formats": {name: options}, "columns": choices})
        job = RunJob("readings", "readings", Statement("select 1"), (name,), output=output)
        outcome, folder = run(MemorySession(columns, rows), folder=MemoryFolder(), job=job)
    except (BadInput, ValueUnfit, StatementWrong) as error:
        TALLY["refused"] += 1
        assert names_something(error, columns, options, choices), error.in_words()
        return
    [file], [result] = outcome.files, outcome.results
    made, names = folder.files[file.name].getvalue(), [column.name for column in result.columns]
    read = CASES[name].read(made, output.options_of(name), names, rows)
    TALLY["proven"] += 1
    TALLY["rows read back"] += file.rows
    tables = list(map(rows_of, FORMATS[name].read(io.BytesIO(made), output.options_of(name), [result.columns])))
    assert tables[0] == len(rows), "what is written is read back, whatever its options"
    if read and not choices and not options.get("escape_formulas") and not options.get("replacement"):
        for place, column in enumerate(columns):
            if column.kind == "text":
                absent = output.options_of(name)["null_as"]
                assert [line[place] for line in read] == [absent if row[place] is None else row[place] for row in rows]


def test_figures():
    print(f"\noptions × kinds × values: {dict(TALLY)}")
    assert TALLY["proven"] > TALLY["tried"] / 10 or not TALLY["tried"]


@pytest.mark.parametrize(
    ("options", "words"),
    [
        ({"null_as": "n,a"}, "parts or quotes"), ({"replacement": ","}, "parts or quotes"), ({"null_as": "a\nb"}, r"U\+000A"),
        ({"null_as": "0"}, "a value may look like"), ({"null_as": "2026-01-01"}, "a value may look like"),
        ({"null_as": "false"}, "could tell them apart"), ({"true_as": "", "false_as": "x"}, "could tell them apart"),
        ({"true_as": "ja", "false_as": "ja"}, "both 'ja'"), ({"replacement": "?", "null_as": "??"}, "could tell them apart"),
        ({"encoding": "punycode"}, "value of encoding"), ({"encoding": "rot13"}, "value of encoding"),
        ({"encoding": "iso-8859-1", "delimiter": "‖"}, "iso-8859-1 lacks"), ({"delimiter": "\u2028"}, "cannot be a delimiter"),
        ({"date_format": "%H:%M"}, "which? a date has not|a date has not"), ({"time_format": "%d"}, "a time has not"),
        ({"replacement": "=", "escape_formulas": True}, "begins like a formula"), ({"true_as": "\ud800"}, "no file takes"),
    ],
)  # fmt: skip
def test_options_that_make_a_file_ambiguous_are_refused_when_saved(options, words):
    with pytest.raises(BadInput, match=words) as found:
        OutputSettings.from_dict({"formats": {"csv": options}})
    assert found.value.hint


@pytest.mark.parametrize("form", ["%j", "%U", "%I:%M", "%H:%M %p", "%M", "%H-%m", "%f", "%z", "x" + "%d" * 200])
def test_a_style_that_a_workbook_cannot_show_is_refused_or_for_a_column_told(form):
    with pytest.raises(BadInput, match="%"):
        OutputSettings.from_dict({"formats": {"xlsx": {"timestamp_format": form}}})


def one(name, kind, texts, form="", options=None, type_=""):
    """The cells of one column of a delimited or JSON file, and what was warned of."""
    choice = {"name": "v", **({"pattern": form} if form else {}), **({"type": type_} if type_ else {})}
    output = OutputSettings.from_dict({"formats": {name: options or {}}, "columns": ["n", choice]})
    job = RunJob("r", "r", Statement("select 1"), (name,), output=output)
    session = MemorySession([Column("n", "integer"), Column("v", kind)], [(str(n), text) for n, text in enumerate(texts)])
    outcome, folder = run(session, folder=MemoryFolder(), job=job)
    data = folder.files[outcome.files[0].name].getvalue().decode()
    if name == "csv":
        return [line[1] for line in csv.reader(io.StringIO(data))][1:], outcome.warnings
    return re.findall(r'"v":(.*)}', data), outcome.warnings


@pytest.mark.parametrize(
    ("kind", "form", "options", "text", "expected"),
    [
        ("timestamp", "%Y%m%d%H%M%S", {}, "2026-11-24 06:05:00.25", "20261124060500"),
        ("timestamp", "%H:%M.%S", {}, "2026-11-24 06:05:07", "06:05.07"),
        ("timestamp", "%S.%f", {}, "1969-12-31 23:59:59.5", "59.500000"),
        ("timestamp", "%%f %f", {}, "2026-11-24 06:05:00", "%f 000000"),
        ("zoned", "%H:%M%z", {"zone": "Europe/Amsterdam"}, "1930-01-01T12:00:00Z", "12:19+001932"),
        ("zoned", "", {"zone": "Europe/Amsterdam"}, "1930-01-01T12:00:00.5Z", "1930-01-01T12:00:00.5Z"),
        ("zoned", "", {"zone": "Europe/London"}, "2026-07-01T23:30:00.25Z", "2026-07-02T00:30:00.25+01:00"),
        ("decimal", "0.00", {}, "9" * 120 + ".995", "1" + "0" * 120 + ".00"), ("decimal", "0.00", {}, "-0.001", "0.00"),
        ("float", "0.00", {}, "1e+22", "1" + "0" * 22 + ".00"), ("float", "#,##0.0", {"decimal_separator": ","}, "1234.25", "1.234,3"),
        ("float", "", {"decimal_separator": ",", "thousands_separator": "."}, "1.5e+22", "1,5e+22"),
    ],
)  # fmt: skip
def test_styles_say_what_they_name_and_lose_no_instant(kind, form, options, text, expected):
    assert one("csv", kind, [text], form, options)[0] == [expected]


def test_json_takes_the_forms_of_columns():
    assert one("json", "decimal", ["1234.5", "NaN"], "#,##0.00")[0] == ["1234.50", '"NaN"']
    assert one("json", "date", ["2026-11-24"], "%d.%m.%Y")[0] == ['"24.11.2026"']


@pytest.mark.parametrize(
    ("kind", "cast", "text"),
    [("text", "date", "2026-02-30"), ("text", "date", "2026-99-99 rubbish"), ("text", "date", "0000-01-01"),
     ("date", "timestamp", "0044-03-15 BC"), ("text", "timestamp", "2026-11-24 25:00"), ("timestamp", "date", "infinity")],
)  # fmt: skip
def test_a_type_is_checked_for_real(kind, cast, text):
    with pytest.raises(ValueUnfit, match=r"row 2, column 'v'"):
        one("csv", kind, ["2026-11-24", text], type_=cast)


def test_a_moment_becomes_the_date_that_it_has_in_the_files_zone():
    assert one("csv", "zoned", ["2026-07-01T23:30:00Z"], options={"zone": "Europe/London"}, type_="date")[0] == ["2026-07-02"]
    assert one("csv", "zoned", ["2026-07-01T23:30:00Z"], type_="date")[0] == ["2026-07-01"]


def test_null_that_is_alone_makes_no_empty_line():
    job = RunJob("r", "r", Statement("select 1"), ("csv",))
    outcome, folder = run(MemorySession([Column("v")], [("a",), (None,), ("",)]), folder=MemoryFolder(), job=job)
    assert folder.files["r.csv"].getvalue() == b'v\na\n""\n""\n'
    assert "is alone" in outcome.warnings[0]


def test_floats_of_every_length_are_numbers_in_a_workbook():
    job = RunJob("r", "r", Statement("select 1"), ("xlsx",))
    values = [0.1234567890123456, 12345678.123456789, 1e22, 123456789012345, 2**60 + 1, 3]
    outcome, folder = run(MemorySession([Column("v", "any")], [(value,) for value in values]), folder=MemoryFolder(), job=job)
    sheet = openpyxl.load_workbook(io.BytesIO(folder.files["r.xlsx"].getvalue())).worksheets[0]
    assert [row[0] for row in sheet.iter_rows(min_row=2, values_only=True)] == [*values[:4], str(2**60 + 1), 3]
    assert outcome.warnings == ["r.xlsx: column 'v' holds numbers that a cell cannot hold exactly: written as text"]


def test_text_that_comes_ready_from_the_source_makes_no_empty_line_either():
    file = io.BytesIO()
    writer = FORMATS["csv"].writer(Target(file, io.BytesIO, {}), checked_options("csv", {}))
    writer.begin("", [Column("v")])
    for text, rows in ((b"a\nb\n", 2), (b"\nc\n", 2), (b'a\n\n"x\n\ny"\n', 3)):
        writer.write(CsvBatch(text, 1, rows))
    writer.end()
    assert file.getvalue() == b'v\na\nb\n""\nc\na\n""\n"x\n\ny"\n'
