"""Date phrases against an independent, slow reckoning that walks day by day, and against whatever may be typed."""

from __future__ import annotations

from datetime import date, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.date_phrases import EXAMPLES, MONTHS, WEEKDAYS, date_of, read_period, timestamp_of
from patient_ladle.core.errors import BadInput

DAYS = st.dates(date(1990, 1, 1), date(2060, 12, 31))
KEYS = {
    "week": lambda day: (day - timedelta(days=day.weekday())).toordinal(),
    "month": lambda day: (day.year, day.month),
    "quarter": lambda day: (day.year, (day.month - 1) // 3),
    "year": lambda day: day.year,
}


def walked(today, unit, which):
    """Days of a period, found by stepping until its key changes."""
    key = KEYS[unit]

    def whole(day):
        first = last = day
        while key(first - timedelta(days=1)) == key(day):
            first -= timedelta(days=1)
        while key(last + timedelta(days=1)) == key(day):
            last += timedelta(days=1)
        return first, last

    first, last = whole(today)
    if which == "last":
        first, last = whole(first - timedelta(days=1))
    elif which == "next":
        first, last = whole(last + timedelta(days=1))
    return [first + timedelta(days=n) for n in range((last - first).days + 1)]


@given(DAYS, st.sampled_from(sorted(KEYS)), st.sampled_from(["last", "this", "next"]))
def test_periods(today, unit, which):
    days = walked(today, unit, which)
    assert date_of(f"start of {which} {unit}", today) == days[0]
    assert date_of(f"END  of {which} {unit}", today) == days[-1]
    assert read_period(f"{which} {unit}", today) == (days[0], days[-1])
    working = [day for day in days if day.weekday() < 5]
    assert date_of(f"last working day of {which} {unit}", today) == working[-1]
    assert date_of(f"2nd working day of {which} {unit}", today) == working[1]
    assert date_of(f"first friday of {which} {unit}", today) == next(day for day in days if day.weekday() == 4)


@given(DAYS, st.integers(0, 400), st.sampled_from("+-"))
def test_days_and_working_days_added(today, count, sign):
    step = timedelta(days=1 if sign == "+" else -1)
    assert date_of(f"today {sign} {count} days", today) == today + count * step
    day, left = today, count
    while left:
        day += step
        left -= day.weekday() < 5
    assert date_of(f"today {sign} {count} working days", today) == day


@given(DAYS, st.integers(0, 60))
def test_months_added_keep_the_day_or_take_the_last(today, count):
    made = date_of(f"today + {count} months", today)
    assert (made.year * 12 + made.month) - (today.year * 12 + today.month) == count
    assert made.day == today.day or (made + timedelta(days=1)).day == 1
    assert date_of(f"{today.isoformat()} + {count} months", date(2000, 1, 1)) == made


@pytest.mark.parametrize(
    ("phrase", "on", "means"),
    [
        ("today - 1 year", "2028-02-29", "2027-02-28"),
        ("today + 1 month", "2027-01-31", "2027-02-28"),
        ("today - 1 month - 1 month", "2027-05-31", "2027-03-30"),
        ("monday of last week", "2026-11-23", "2026-11-16"),
        ("monday of this week", "2026-11-29", "2026-11-23"),
        ("end of february", "2028-07-01", "2028-02-29"),
        ("end of february of last year", "2028-07-01", "2027-02-28"),
        ("31st day of last month", "2026-11-05", "2026-10-31"),
        ("end of last quarter", "2026-01-01", "2025-12-31"),
        ("today at 02:30", "2026-03-29", "2026-03-29 02:30:00"),
        ("yesterday at 23:59", "2026-10-26", "2026-10-25 23:59:00"),
    ],
)
def test_short_months_leap_days_and_nights_that_skip_an_hour(phrase, on, means):
    found = timestamp_of(phrase, date.fromisoformat(on))
    assert found == datetime.fromisoformat(means)


@pytest.mark.parametrize(
    ("phrase", "column", "hint"),
    [
        ("stat of last month", 1, "Did you mean 'start of last month'?"),
        ("start of last mnth", 15, "Did you mean 'start of last month'?"),
        ("mondy of last week - 2 days", 1, "Did you mean 'monday of last week - 2 days'?"),
        ("today - 7 dais", 11, "Did you mean 'today - 7 days'?"),
        ("today -", 8, "a count"),
        ("6th friday of last month", 1, "1st to 5th"),
        ("last monday", 12, "of"),
        ("2027-02-29", 1, "calendar"),
        ("today at 24:30", 10, "06:30"),
        ("today - 30000 years", 1, "Count fewer"),
        ("", 1, "today"),
    ],
)
def test_an_unknown_phrase_says_where_and_what_is_nearest(phrase, column, hint):
    with pytest.raises(BadInput) as refused:
        timestamp_of(phrase, date(2026, 11, 24))
    assert (refused.value.facts["line"], refused.value.facts["column"]) == (1, column)
    assert hint in refused.value.hint


WORDS = st.sampled_from([*WEEKDAYS, *MONTHS[:2], "today", "start", "end", "of", "last", "this", "month", "working", "day", "3rd", "at",
                         "06:30", "-", "+", "7", "days", "\u0661", "\u202e", "é", "\n", "²"])  # fmt: skip


@given(st.one_of(st.text(max_size=40), st.lists(WORDS, max_size=9).map(" ".join)), DAYS)
def test_whatever_is_typed_is_read_or_refused(text, today):
    for read in (timestamp_of, date_of, read_period):
        try:
            read(text, today)
        except BadInput as refused:
            assert refused.hint


@given(st.sampled_from(EXAMPLES), DAYS)
def test_every_example_can_be_read_on_every_day(phrase, today):
    assert isinstance(timestamp_of(phrase, today), datetime)
