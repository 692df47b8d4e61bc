"""Guards find what they watch for, in whatever batches it comes, and nothing else."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.errors import BadInput, StatementWrong
from patient_ladle.core.results.columns import Batch, Column
from patient_ladle.core.results.guards import Earlier, Guard, Watch, checked_guards, judged
from tests.profile import examples

COLUMNS = [Column("meter"), Column("day")]
cells = st.sampled_from([None, "", "a", "b", "=", "-", "=a", "\x1f"])


def watched(guards, rows, split):
    watch = Watch(checked_guards(guards), COLUMNS)
    for start in range(0, len(rows), split):
        part = rows[start : start + split]
        watch.see(Batch.of_texts([list(column) for column in zip(*part, strict=True)], len(part)))
    return [finding.text for finding in watch.findings()]


@given(st.lists(st.tuples(cells, cells), max_size=30), st.integers(1, 7))
@examples(2)
def test_nulls_and_duplicates_are_found_with_their_rows(rows, split):
    found = watched(
        [{"guard": "not_null", "columns": ["day"]}, {"guard": "no_duplicate", "columns": ["meter", "day"]}], rows, split
    )
    expected = []
    nulls = [n for n, (_, day) in enumerate(rows, 1) if day is None]
    if nulls:
        expected.append(f"no null in day: {len(nulls):,} found, the first in row {nulls[0]}")
    double = [n for n, row in enumerate(rows) if row in rows[:n]]
    if double:
        first = rows.index(rows[double[0]])
        expected.append(f"no duplicate of meter, day: {len(double)} found, rows {first + 1} and {double[0] + 1} first")
    assert found == expected


def test_a_guarded_column_that_is_not_there_says_so_before_any_row():
    with pytest.raises(StatementWrong) as refused:
        Watch(checked_guards([{"guard": "not_null", "columns": ["metre"]}]), COLUMNS)
    assert refused.value.message == "there is no column of the result 'metre'."
    assert refused.value.hint == "Did you mean 'meter'? A guard of the extract names it."


@pytest.mark.parametrize(
    ("guard", "rows", "earlier", "said"),
    [
        ({"guard": "rows", "at_least": 10}, 9, Earlier(), "at least 10 rows: there are 9"),
        ({"guard": "rows", "at_least": 10, "at_most": 20}, 21, Earlier(), "at least 10 and at most 20 rows: there are 21"),
        ({"guard": "rows", "at_least": 10, "at_most": 20}, 20, Earlier(), None),
        ({"guard": "not_empty"}, 0, Earlier(), "some rows: there is none"),
        ({"guard": "not_empty"}, 1, Earlier(), None),
        ({"guard": "columns"}, 1, Earlier(columns=["meter", "day"]), None),
        ({"guard": "columns"}, 1, Earlier(), None),
        ({"guard": "columns"}, 1, Earlier(columns=["day", "meter"]), "columns as they were: they stand in another order"),
        ({"guard": "columns"}, 1, Earlier(columns=["meter", "zone"]), "columns as they were: gone: zone; new: day"),
        ({"guard": "change", "percent": 10}, 110, Earlier([90, 100, 300]), None),
        ({"guard": "change", "percent": 10}, 111, Earlier([90, 100, 300]),
         "rows within 10 % of the median of the last 8 runs: there are 111, and the median is 100"),
        ({"guard": "change", "percent": "5", "same": "weekday", "of_last": 4}, 1, Earlier([1, 1]),
         "rows within 5 % of the median of the last 4 runs of the same weekday: not judged, for there are 2 earlier runs to compare with"),
    ],
)  # fmt: skip
def test_guards_on_the_whole(guard, rows, earlier, said):
    finding = judged(Guard.from_dict(guard), rows, ["meter", "day"], earlier)
    assert (finding and finding.text) == said
    assert finding is None or finding.then == ("warn" if "not judged" in finding.text else "hold")


@pytest.mark.parametrize(
    ("guard", "said"),
    [
        ({"guard": "row"}, "there is no guard 'row'"),
        ({"guard": "rows"}, "the guard rows needs a bound"),
        ({"guard": "rows", "at_least": -1}, "which is not a number of rows"),
        ({"guard": "rows", "at_least": 5, "at_most": 4}, "no number of rows is at least 5 and at most 4"),
        ({"guard": "rows", "atleast": 5}, "there is no setting of the guard rows 'atleast'"),
        ({"guard": "not_empty", "then": "stop"}, "there is no then 'stop'"),
        ({"guard": "change"}, "the guard change needs 'percent'"),
        ({"guard": "change", "percent": "much"}, "which is not a percentage"),
        ({"guard": "change", "percent": 5, "same": "year"}, "there is no same 'year'"),
        ({"guard": "not_null", "columns": []}, "which names no column"),
        ("rows", "'rows' is not a guard"),
    ],
)
def test_a_guard_that_cannot_be_is_refused(guard, said):
    with pytest.raises(BadInput) as refused:
        checked_guards([guard])
    assert said in refused.value.message


def test_guards_survive_being_kept():
    given = [{"guard": "not_null", "columns": ["a", "b"], "then": "warn"}, {"guard": "rows", "at_most": 3, "then": "hold"}]
    assert [guard.to_dict() for guard in checked_guards(given)] == given
