"""Documents taken apart in whole batches, held against the slow way and against one table of golden values."""

from __future__ import annotations

import random
import uuid

import bson
import pytest
from bson import Binary, Code, DBRef, Decimal128, Int64, MaxKey, MinKey, ObjectId, Regex, Timestamp
from bson.datetime_ms import DatetimeMS
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.documents import table as tables
from patient_ladle.core.documents.fields import fields_of
from patient_ladle.core.documents.table import DocumentTable
from patient_ladle.core.documents.walking import MAX_FIELDS
from patient_ladle.core.errors import DiskFull, LadleError, ResultTooLarge, StatementFailed, StatementWrong
from patient_ladle.core.statements.documents.projections import Wanted
from tests.profile import examples

from .slowly import LONG, documents, read_json, rows_of

NAMES = st.sampled_from(["_id", "a", "b", "c", "reading", "value", "a.b", "$x", "", "é🜁", LONG])


def table_of(raws, options=None, batches=1):
    made = DocumentTable({"identifier": True, **(options or {})}, Wanted())
    size = max(1, -(-len(raws) // batches))
    for start in range(0, len(raws), size):
        made.add(b"".join(raws[start : start + size]))
    return made


def cells_of(made):
    columns = made.columns()
    rows = [row for batch in made.batches() for row in zip(*(cells.to_pylist() for cells in batch.cells), strict=True)]
    return columns, rows


def same(made, expected):
    """Every cell is what the slow way says, and no other has a value."""
    columns, rows = cells_of(made)
    assert made.rows == len(expected)
    if not columns:
        assert not any(expected)
        return
    assert len(rows) == len(expected)
    for row, slow in zip(rows, expected, strict=True):
        found = {path: cell for path, cell in zip(made.paths, row, strict=True) if cell is not None}
        assert set(found) == set(slow)
        for path, cell in found.items():
            if isinstance(slow[path], tuple):
                assert read_json(cell) == slow[path][1], path
            else:
                assert cell == slow[path], path


@given(given=documents(NAMES), batches=st.integers(1, 4), depth=st.integers(0, 3))
@examples(3)
def test_any_documents_become_the_rows_that_the_slow_way_makes_of_them(given, batches, depth):
    raws = [bson.encode(each) for each in given]
    same(table_of(raws, {"depth": depth}, batches=batches), list(rows_of(raws, depth)))


@given(given=documents(NAMES), batches=st.integers(1, 3), depth=st.integers(0, 2))
@examples(2)
def test_elements_of_a_list_become_rows_as_in_the_slow_way(given, batches, depth):
    raws = [bson.encode(each) for each in given]
    same(table_of(raws, {"depth": depth, "rows_of": "reading"}, batches=batches), list(rows_of(raws, depth, ("reading",))))


def test_elements_of_a_list_within_an_object():
    raws = [bson.encode(each) for each in (
        {"n": 1, "contact": {"calls": [{"minutes": 3}, {"minutes": 5, "by": "rosa"}], "kind": "leak"}},
        {"n": 2, "contact": {"calls": [], "kind": "taste"}}, {"n": 3}, {"n": 4, "contact": {"calls": 7}},
        {"n": 5, "contact": {"calls": [[1], "x", None, {}]}},
    )]  # fmt: skip
    columns, rows = cells_of(table_of(raws, {"rows_of": "contact.calls", "depth": 1}))
    assert [c.name for c in columns] == ["n", "contact.calls", "contact.calls.minutes", "contact.calls.by", "contact.kind"]
    assert rows == [
        ("1", None, "3", None, "leak"), ("1", None, "5", "rosa", "leak"), ("2", None, None, None, "taste"), ("3",) + (None,) * 4,
        ("4", "7", None, None, None), ("5", "[1]", None, None, None), ("5", "x", None, None, None), ("5",) + (None,) * 4,
        ("5", "{}", None, None, None),
    ]  # fmt: skip


GOLDEN = [
    (0.1, "float", "double", "0.1"),
    (1e22, "float", "double", "1e+22"),
    (float("nan"), "float", "double", "NaN"),
    (float("-inf"), "float", "double", "-Infinity"),
    ("tab\t \"q\" é🜁\n", "text", "string", "tab\t \"q\" é🜁\n"),
    ("", "text", "string", ""),
    ({}, "json", "object", "{}"),
    ({"a": {"b": {"c": {"d": 1}}}}, "json", "object", '{"d":1}'),
    ([], "json", "array", "[]"),
    ([1, Int64(2**40), 0.5, Decimal128("1.50"), None, True, "é\n", {"": []}], "json", "array",
     '[1,1099511627776,0.5,1.50,null,true,"é\\n",{"":[]}]'),
    ([float("nan"), Decimal128("NaN"), ObjectId(b"\x01" * 12), DatetimeMS(250), b"\0\xff", uuid_ := Binary.from_uuid(uuid.UUID(int=7))],
     "json", "array",
     '["NaN","NaN","010101010101010101010101","1970-01-01T00:00:00.25Z","AP8=","00000000-0000-0000-0000-000000000007"]'),
    (b"\x00\xff\x10", "binary", "binary", "AP8Q"),
    (Binary(b"\x01" * 16, 3), "binary", "binary", "AQEBAQEBAQEBAQEBAQEBAQ=="),
    (uuid_, "text", "uuid", "00000000-0000-0000-0000-000000000007"),
    (ObjectId("0123456789abcdef01234567"), "text", "objectId", "0123456789abcdef01234567"),
    (True, "boolean", "bool", "true"),
    (False, "boolean", "bool", "false"),
    (DatetimeMS(1_795_500_301_250), "zoned", "date", "2026-11-24T06:05:01.25Z"),
    (DatetimeMS(0), "zoned", "date", "1970-01-01T00:00:00Z"),
    (DatetimeMS(-1), "zoned", "date", "1969-12-31T23:59:59.999Z"),
    (DatetimeMS(253_402_300_800_000), "zoned", "date", "10000-01-01T00:00:00Z"),
    (DatetimeMS(-62_135_596_800_001), "zoned", "date", "0000-12-31T23:59:59.999Z"),
    (DatetimeMS(2**63 - 1), "zoned", "date", "292278994-08-17T07:12:55.807Z"),
    (Regex("^Moor", "i"), "text", "regex", "/^Moor/i"),
    (Code("return 1"), "text", "javascript", "return 1"),
    (Code("return 1", {"a": 1}), "json", "javascriptWithScope", '{"$code":"return 1"}'),
    (-7, "integer", "integer", "-7"),
    (Int64(-(2**63)), "integer", "integer", "-9223372036854775808"),
    (Timestamp(1_795_500_301, 2), "text", "timestamp", "1795500301:2"),
    (Decimal128("12.50"), "decimal", "decimal", "12.50"),
    (Decimal128("-0.00"), "decimal", "decimal", "-0.00"),
    (Decimal128("1E+5"), "decimal", "decimal", "100000"),
    (Decimal128("1E-10"), "decimal", "decimal", "0.0000000001"),
    (Decimal128("9999999999999999999999999999999999"), "decimal", "decimal", "9999999999999999999999999999999999"),
    (Decimal128("-Infinity"), "decimal", "decimal", "-Infinity"),
    (MinKey(), "text", "minKey", "MinKey"),
    (MaxKey(), "text", "maxKey", "MaxKey"),
    (DBRef("meters", ObjectId(b"\x02" * 12)), "text", "objectId", "020202020202020202020202"),
]  # fmt: skip


@pytest.mark.parametrize(("value", "kind", "source_type", "text"), GOLDEN)
def test_every_type_has_its_canonical_text(value, kind, source_type, text):
    for depth in (0, 3):
        columns, [row] = cells_of(table_of([bson.encode({"v": value})], {"depth": depth}))
        if depth or not isinstance(value, (dict, DBRef)):
            assert (columns[-1].kind, columns[-1].source_type, row[-1]) == (kind, source_type, text)
            assert not columns[-1].note


def test_absent_and_null_are_both_no_value_and_stay_apart_in_json():
    raws = [bson.encode(each) for each in ({"a": None, "b": 1}, {"b": 2}, {"a": 3})]
    columns, rows = cells_of(table_of(raws))
    assert ([c.name for c in columns], rows) == (["a", "b"], [(None, "1"), (None, "2"), ("3", None)])
    whole = [bson.encode({"v": bson.decode(raw)}) for raw in raws]
    assert [row for (row,) in cells_of(table_of(whole, {"depth": 0}))[1]] == ['{"a":null,"b":1}', '{"b":2}', '{"a":3}']


def test_a_column_of_several_kinds_keeps_every_value_and_says_from_which_row_on():
    raws = [bson.encode({"litres": value}) for value in (1, Int64(2), 3, "about 4", "n/a", 0.5, None)]
    made = table_of(raws, batches=3)
    [column], rows = cells_of(made)
    assert [cell for (cell,) in rows] == ["1", "2", "3", "about 4", "n/a", "0.5", None]
    assert column.kind == "any"
    assert column.note == (
        "mostly integer, but text in 2 rows, the first of them row 4; float in 1 row, the first of them row 6: each value stands as it is"
    )
    marks = [mark for batch in made.batches() for mark in batch.numbers[0].to_pylist()]
    assert marks == [True, True, True, False, False, True, False]


@pytest.mark.parametrize(
    ("values", "kind", "type_"),
    [
        ((1, 2, "about 3"), "integer", "int 67 %, string 33 %"),
        (("a", "b", 3, None), "text", "string 67 %, int 33 %"),
        ((1, 0.5), "float", "int 50 %, double 50 %"),
        ((None,), "text", "null"),
    ],
)
def test_a_field_of_several_types_is_looked_for_by_that_of_most(values, kind, type_):
    [field] = fields_of(table_of([bson.encode({"n": value}) for value in values]))
    assert (field.kind, field.type) == (kind, type_)


@pytest.mark.parametrize(
    ("values", "kind"),
    [((1, Int64(2)), "integer"), ((1, Decimal128("0.5")), "decimal"), ((1, 0.5), "any"), ((None, None), "text")],
)
def test_numbers_of_several_types_need_no_warning(values, kind):
    [column], _ = cells_of(table_of([bson.encode({"n": value}) for value in values]))
    assert (column.kind, column.note) == (kind, "")


def columns_of(raws, wanted, **options):
    made = DocumentTable(options, wanted)
    made.add(b"".join(bson.encode(each) for each in raws))
    return [c.name for c in made.columns()]


def test_columns_come_in_the_order_that_was_asked_for_and_all_of_those():
    raws = [{"_id": 1, "b": {"y": 1, "x": 2}, "a": 1, "c": 3}]
    assert columns_of(raws, Wanted(["a", "nowhere", "b.x", "b"])) == ["a", "nowhere", "b.x", "b.y", "c"]
    assert columns_of(raws, Wanted()) == ["b.y", "b.x", "a", "c"]
    assert columns_of(raws, Wanted(), identifier=True) == ["_id", "b.y", "b.x", "a", "c"]
    assert columns_of(raws, Wanted(["_id", "a"], True)) == ["_id", "a", "b.y", "b.x", "c"]
    assert columns_of([{"_id": 1}], Wanted()) == ["_id"]
    assert columns_of([], Wanted(["a"])) == ["a"]


def test_strict_columns_refuse_a_field_that_nobody_expects():
    raws = [{"a": 1}, {"a": 2}, {"a": 3, "surprise": 1}]
    with pytest.raises(StatementWrong, match="a field 'surprise', from row 3 on"):
        columns_of(raws, Wanted(["a"]), strict_columns=True)
    with pytest.raises(StatementWrong, match="a field 'empty', from row 1 on"):
        columns_of([{"a": 1, "empty": None}], Wanted(["a"]), strict_columns=True)
    assert columns_of(raws, Wanted(["a", "surprise"]), strict_columns=True) == ["a", "surprise"]
    learned = DocumentTable({"strict_columns": True}, Wanted(["a"]))
    learned.learn(bson.encode(raws[2]))
    assert [c.name for c in learned.columns()] == ["a", "surprise"]  # no row has it
    assert columns_of(raws, Wanted(), strict_columns=True) == ["a", "surprise"]


def test_names_that_are_data_are_refused_before_they_fill_the_memory():
    raws = [{"readings": {f"M{n}-{number}": 1 for number in range(50)}} for n in range(MAX_FIELDS // 50 + 1)]
    with pytest.raises(ResultTooLarge, match="the documents of 'readings' have more than 2,000 fields"):
        columns_of(raws, Wanted())
    assert columns_of(raws, Wanted(), depth=0) == ["readings"]


def test_more_than_the_memory_may_hold_goes_to_a_file_and_comes_back(monkeypatch):
    monkeypatch.setattr(tables, "MEMORY_BYTES", 100)
    raws = [bson.encode({"n": n, **({"even": "x" * n} if n % 2 else {})}) for n in range(40)]
    made = table_of(raws, batches=9)
    assert made.file is not None
    assert cells_of(made)[1] == [(str(n), "x" * n if n % 2 else None) for n in range(40)]
    assert made.file.closed
    with open("/dev/full", "wb", buffering=0) as full, pytest.raises(DiskFull, match="no space is left"):
        monkeypatch.setattr(tables.tempfile, "TemporaryFile", lambda: full)
        table_of(raws, batches=2)


def test_bytes_that_are_no_documents_are_refused_and_nothing_breaks():
    random.seed(1)
    whole = b"".join(bson.encode({"a": n, "b": {"c": "text", "l": [1, "x", {"d": 0.5}]}, "u": Binary(b"12")}) for n in range(4))
    refused = 0
    for _ in range(3_000):
        broken = bytearray(whole)
        for _ in range(random.randint(1, 3)):
            broken[random.randrange(len(broken))] = random.randrange(256)
        try:
            cells_of(table_of([bytes(broken)], {"rows_of": "b.l"}))
        except LadleError as error:
            assert isinstance(error, (StatementFailed, ResultTooLarge))
            refused += 1
    assert refused > 500
    with pytest.raises(StatementFailed, match="cannot be read"):
        DocumentTable({}, Wanted()).learn(bson.encode({"a": "Fen"})[:4] + b"\x02a\0\xff\xff\xff\x7fFen\0")
    for cut in range(1, len(whole) // 4):
        with pytest.raises(StatementFailed, match="cannot be read"):
            table_of([whole[:-cut]])


def test_of_a_field_that_a_document_has_twice_the_last_counts_as_for_everybody_who_reads_it():
    raws = [bson.encode({"a": 1, "b": "x", "c": 3}).replace(b"\x10c\x00", b"\x10a\x00"), bson.encode({"b": "y"})]
    assert bson.decode(raws[0])["a"] == 3
    assert cells_of(table_of(raws))[1] == [("3", "x"), (None, "y")]


def test_a_text_that_is_no_utf8_shows_its_bytes():
    raw = bson.encode({"a": "Moor", "b": "Fen"}).replace(b"Moor", b"M\xff\xfer")
    assert cells_of(table_of([raw]))[1] == [("M\\xff\\xfer", "Fen")]


@pytest.mark.parametrize(
    ("options", "says"),
    [
        ({"depth": 99}, "99 levels are more than the 20"),
        ({"depht": 1}, "Did you mean 'depth'?"),
        ({"identifier": 7}, "true or false"),
    ],
)
def test_an_option_that_is_none_is_refused(options, says):
    with pytest.raises(LadleError) as refused:
        DocumentTable(options, Wanted())
    assert says in refused.value.in_words()
