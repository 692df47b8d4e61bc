"""Profiles of columns, asked of six engines and reckoned from texts, held against a slow reckoning over the same rows."""

from __future__ import annotations

import io
import operator
import sqlite3
from collections import Counter
from contextlib import closing
from datetime import date, datetime, timezone
from decimal import Decimal

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.errors import StatementWrong, UnknownName
from patient_ladle.core.files.formats import checked_options
from patient_ladle.core.files.reading import Wanted, profile_of
from patient_ladle.core.results.profile import of_cells, start_of, with_gaps
from patient_ladle.core.results.source_profile import Subject, source_profile
from patient_ladle.core.statements.languages.sqlite import SQLITE
from patient_ladle.core.statements.views import Filter
from tests.adapters.sources.small_tables import KINDS, ROWS
from tests.profile import examples

TESTS = {"is": operator.eq, "is_not": operator.ne, "less": operator.lt, "at_most": operator.le, "more": operator.gt,
         "at_least": operator.ge}  # fmt: skip
NUMBERS, MOMENTS = ("integer", "decimal"), ("date", "timestamp")


@st.composite
def looks(draw):
    """A table, a column of it, and filters with a value that stands in it."""
    table = draw(st.sampled_from(sorted(KINDS)))
    names = list(KINDS[table])
    filters = []
    for _ in range(draw(st.integers(0, 2))):
        name = draw(st.sampled_from([each for each in names if KINDS[table][each] != "boolean"]))
        value = draw(st.sampled_from([row[names.index(name)] for row in ROWS[table]]))
        test = draw(st.sampled_from(["is", "is_not"] if KINDS[table][name] == "text" else sorted(TESTS)))
        empty = value is None or draw(st.integers(0, 4)) == 0
        filters.append((name, draw(st.sampled_from(["is_null", "is_not_null"])) if empty else test, value))
    return table, draw(st.sampled_from(names)), filters


def passing(table, filters):
    names = list(KINDS[table])
    for row in ROWS[table]:
        values = dict(zip(names, row, strict=True))
        if all(
            (values[name] is None) == (test == "is_null")
            if test in ("is_null", "is_not_null")
            else values[name] is not None and TESTS[test](values[name], value)
            for name, test, value in filters
        ):
            yield values


def read(text, kind):
    """A value as the reckoning has it: of every engine's text."""
    if text is None:
        return None
    if kind in NUMBERS:
        return Decimal(text)
    if kind in MOMENTS:
        return datetime.fromisoformat(text.replace("Z", ""))
    return text in ("true", "1") if kind == "boolean" else text


def alike(value, kind):
    return datetime(value.year, value.month, value.day) if kind == "date" else Decimal(value) if kind == "integer" else value


def held(profile, values, kind):
    """Every number of a profile, held against the values."""
    present = [alike(value, kind) for value in values if value is not None]
    assert (profile.rows, profile.absent) == (len(values), len(values) - len(present))
    times = Counter(present)
    assert {read(text, kind): rows for text, rows in profile.commonest} == dict(times.most_common())
    assert [rows for _, rows in profile.commonest] == sorted(times.values(), reverse=True)
    if kind != "boolean":
        assert (read(profile.least, kind), read(profile.greatest, kind)) == (
            min(present, default=None),
            max(present, default=None),
        )
    if kind in NUMBERS and present:
        assert float(profile.mean) == pytest.approx(float(sum(present) / len(present)), rel=1e-6, abs=1e-4)
    if kind == "boolean":  # which some engines keep as numbers
        return
    if kind not in (*NUMBERS, *MOMENTS) or not present:
        assert profile.bars == ()
        return
    assert profile.bars_by
    assert all(bar.to == after.from_ for bar, after in zip(profile.bars, profile.bars[1:], strict=False))
    for bar in profile.bars:
        low, high = read(bar.from_, kind), read(bar.to, kind)
        assert bar.rows == sum(low <= value < high for value in present), bar
    assert sum(bar.rows for bar in profile.bars) == len(present)


@examples(0.4)
@given(look=looks())
def test_a_source_tells_of_a_column_what_a_slow_reckoning_does(source, look):
    table, column, filters = look
    known = next(each for each in source.catalogue if each["name"] == table)
    said = [Filter(name, test, "" if value is None else str(value)) for name, test, value in filters]
    found = source_profile(
        Subject(source.engine.language, known, column, said), lambda made: source.rows(made.statement, made.parameters)
    ).profile
    values, kind = [row[column] for row in passing(table, filters)], KINDS[table][column]
    held(found, values, kind)
    present = {value for value in values if value is not None}
    if source.name != "documents":  # the stand-in's library takes a zero for nothing when it counts different values
        assert found.distinct == len(present)


@examples(1.5)
@given(look=looks(), known=st.booleans())
def test_texts_at_hand_tell_what_a_slow_reckoning_does(look, known):
    table, column, filters = look
    values, kind = [row[column] for row in passing(table, filters)], KINDS[table][column]
    texts = [None if value is None else str(value).lower() if kind == "boolean" else str(value) for value in values]
    found = of_cells(column, kind if known or kind == "boolean" else "any", pa.chunked_array([pa.array(texts, pa.string())]))
    held(found, values, kind)
    assert found.distinct == len({value for value in values if value is not None})


@examples(2)
@given(
    st.lists(st.decimals(allow_nan=False, allow_infinity=False, places=3, min_value=-(10**25), max_value=10**25), min_size=1),
    st.booleans(),
)
def test_bars_hold_every_number_once_and_are_few(numbers, whole):
    numbers = [int(number) if whole else number for number in numbers]
    kind = "integer" if whole else "decimal"
    found = of_cells("n", kind, pa.chunked_array([pa.array([format(Decimal(each), "f") for each in numbers])]))
    held(found, numbers, kind) if len(set(numbers)) <= 10 else None
    assert sum(bar.rows for bar in found.bars) == len(numbers)
    assert len(found.bars) <= 22
    for bar in found.bars:
        assert bar.rows == sum(Decimal(bar.from_) <= each < Decimal(bar.to) for each in numbers)


@examples(2)
@given(st.lists(st.dates(), min_size=1))
def test_bars_of_days_hold_every_day_once(days):
    found = of_cells("d", "date", pa.chunked_array([pa.array([day.isoformat() for day in days])]))
    if date.max.year in {day.year for day in days}:
        assert not found.bars or found.bars_by != "year"  # no day is after the last year
        return
    assert sum(bar.rows for bar in found.bars) == len(days) or "only" in found.notes[0]
    for bar in found.bars:
        assert bar.rows == sum(date.fromisoformat(bar.from_) <= day < date.fromisoformat(bar.to) for day in days)


@pytest.mark.parametrize(
    ("texts", "kind", "told"),
    [
        (["NaN", "1"], "float", ("1", "1", None, "NaN among them: no mean, no bars")),
        (["Infinity"], "float", (None, None, None, "no number among them: Infinity")),
        (["1e300", "1"], "float", ("1", format(Decimal("1e300"), "f"), "5" + "0" * 299, "no bars: the values lie too close together or too far apart")),
        (["0044-03-15 BC"], "date", ("0044-03-15 BC", "0044-03-15 BC", None, None)),
        (["007", "8"], "any", ("007", "8", None, None)),
        (["12", "x"], "integer", ("12", "x", None, None)),
    ],
)  # fmt: skip
def test_values_that_are_no_usual_ones_are_said_and_not_drawn(texts, kind, told):
    found = of_cells("c", kind, pa.chunked_array([pa.array(texts)]))
    assert (found.least, found.greatest, found.mean, found.notes[0] if found.notes else None) == told
    assert not found.bars


def test_what_the_database_refuses_of_a_type_is_left_out_and_said(small_sources):
    source, asked = small_sources("sqlite"), []

    def ask(made):
        asked.append(made.statement)
        if "min(" in made.statement:
            raise StatementWrong("function min(uuid) does not exist.", "")
        return source.rows(made.statement, made.parameters)

    known = next(each for each in source.catalogue if each["name"] == "meters")
    found = source_profile(Subject(source.engine.language, known, "order"), ask)
    assert (found.profile.rows, found.profile.absent, found.profile.distinct, found.profile.least) == (5, 1, 4, None)
    assert "min(uuid)" in found.profile.notes[0]
    assert len(asked) == len(found.statements) + 1


def test_a_column_that_is_not_there_is_named(small_sources):
    source = small_sources("sqlite")
    with pytest.raises(UnknownName, match="amont"):
        source_profile(Subject(source.engine.language, source.catalogue[1], "amont"), lambda _: [])


PERIODS = ("day", "week", "month", "quarter", "year")


@examples(2)
@given(
    st.sampled_from(PERIODS), st.sets(st.dates(date(2020, 1, 1), date(2023, 12, 31)), min_size=1, max_size=8),
    st.booleans(), st.integers(0, 2),
)  # fmt: skip
def test_gaps_between_periods_are_filled_once_and_in_order(period, days, absent, short):
    starts = sorted({start_of(period, day).isoformat() for day in days})
    width = 10 if period in ("day", "week", "quarter") else 10 - 3 * min(short, {"month": 1, "year": 2}[period])
    rows = ([[None, "7"]] if absent else []) + [[start[:width], "2"] for start in starts]
    filled, gaps = with_gaps(rows, period)
    if (date.fromisoformat(starts[-1]) - date.fromisoformat(starts[0])).days > 400 and period == "day":
        assert (filled, gaps) == (rows, 0)
        return
    told = [row[0] for row in filled if row[0] is not None]
    assert [row for row in filled if row[1] != "0"] == rows
    assert told == sorted(set(told))
    assert gaps == len(filled) - len(rows)
    first, last = date.fromisoformat(starts[0]).toordinal(), date.fromisoformat(starts[-1]).toordinal()
    wanted = sorted({start_of(period, date.fromordinal(day)).isoformat()[:width] for day in range(first, last + 1)})
    assert told == wanted


@pytest.mark.parametrize(("rows", "complete"), [(50_000, False), (3, True)])
def test_a_file_is_told_as_far_as_it_was_read_and_that_is_said(rows, complete):
    text = "n,word\n" + "".join(f"{n},\n" for n in range(rows))
    found = profile_of(io.BytesIO(text.encode()), Wanted("csv", checked_options("csv", {})), "n", until=lambda: True)
    assert found.complete is complete
    assert (found.rows < rows) is not complete
    whole = profile_of(io.BytesIO(text.encode()), Wanted("csv", checked_options("csv", {})), "word")
    assert (whole.rows, whole.absent, whole.complete, whole.distinct) == (rows, rows, True, 0)


@examples(2)
@given(st.integers(100 * 86_400, 4_000_000_000), st.sampled_from(["day", "week", "month", "quarter", "year"]))
def test_sqlite_counts_seconds_since_1970_by_period_as_it_counts_texts(seconds, period):
    moment = datetime.fromtimestamp(seconds, timezone.utc)
    table = {"schema": "", "name": "t", "columns": [{"name": "at", "type": "integer", "kind": "any", "nullable": True}]}
    made = SQLITE.views(table).counts("at", [], period).statement
    with closing(sqlite3.connect(":memory:")) as connection:
        connection.execute("create table t (at)")
        connection.executemany("insert into t values (?)", [(seconds,), (f"{moment:%Y-%m-%d %H:%M:%S}",), (seconds + 0.5,)])
        assert connection.execute(made).fetchall() == [(start_of(period, moment.date()).isoformat(), 3)]
