"""Date phrases against an independent, slow reckoning that walks day by day, and against whatever may be typed."""

from __future__ import annotations

import re
from datetime import date, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.errors import BadInput
from patient_ladle.core.values.date_phrases import EXAMPLES, MONTHS, WEEKDAYS, date_of, read_period, timestamp_of

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
        ("monday", 1, "'last monday' or 'next monday' or 'this monday'"),
        ("last month", 1, "'start of last month' or 'end of last month'"),
        ("2026-W05", 1, "'start of 2026-W05' or 'end of 2026-W05'"),
        ("year to date", 1, "'start of year' or 'today'"),
        ("last working day", 1, "'last working day of this month' or 'previous working day'"),
        ("01/02/2026", 1, "'2026-01-02' or '2026-02-01'"),
        ("start of week 54", 15, "a week that the year has"),
        ("31 february", 1, "a day that the month has"),
        ("end of Q5", 8, "Q1 to Q4"),
        ("7 days", 7, "ago, before, after"),
        ("2026-13-01", 1, "calendar"),
        ("2027-02-29", 1, "calendar"),
        ("today at 24:30", 10, "00:00 to 23:59"),
        ("today - 30000 years", 1, "Count fewer"),
        ("", 1, "today"),
    ],
)
def test_an_unknown_phrase_says_where_and_what_is_nearest(phrase, column, hint):
    with pytest.raises(BadInput) as refused:
        timestamp_of(phrase, date(2026, 11, 24))
    assert (refused.value.facts["line"], refused.value.facts["column"]) == (1, column)
    assert hint in refused.value.hint


@pytest.mark.parametrize(
    ("said", "means"),
    [
        ("end of month", "end of this month"), ("beginning of the month", "start of this month"), ("end of previous month", "end of last month"),
        ("a month ago", "today - 1 month"), ("in 2 weeks", "today + 2 weeks"), ("3 days from now", "today + 3 days"),
        ("2 business days ago", "today - 2 working days"), ("the day before yesterday", "today - 2 days"),
        ("2 working days before end of month", "end of this month - 2 working days"), ("day after start of last month", "start of last month + 1 day"),
        ("15th of last month", "15th day of last month"), ("first of the month", "start of this month"), ("january 5", "5th day of january"),
        ("5th of january 2025", "2025-01-05"), ("24 nov 2025", "2025-11-24"), ("start of 2025", "2025-01-01"), ("end of 2025-02", "2025-02-28"),
        ("start of jan 2025", "2025-01-01"), ("previous working day", "today - 1 working day"), ("today minus 3 days", "today - 3 days"),
        ("today at 6pm", "today at 18:00"), ("end of q1", "end of march"), ("end of 2024-Q1", "2024-03-31"), ("end of current quarter", "end of this quarter"),
    ],
)  # fmt: skip
def test_phrases_may_be_said_in_several_ways(said, means):
    for today in (date(2026, 11, 24), date(2024, 2, 29), date(2027, 1, 1), date(2026, 5, 31)):
        assert timestamp_of(said.title(), today) == timestamp_of(means, today)


@given(DAYS, st.sampled_from(WEEKDAYS), st.sampled_from([("last", -1), ("previous", -1), ("next", 1), ("following", 1)]))
def test_the_nearest_weekday_on_either_side(today, weekday, which):
    word, step = which
    day = today + timedelta(days=step)
    while day.weekday() != WEEKDAYS.index(weekday):
        day += timedelta(days=step)
    assert date_of(f"{word} {weekday}", today) == day
    assert date_of(f"{word} {weekday[:3]}", today) == day


@given(DAYS)
def test_weeks_are_those_of_the_standard(today):
    year, week, day = today.isocalendar()
    first = today
    while first.weekday():
        first -= timedelta(days=1)
    whole = (first, first + timedelta(days=6))
    assert date_of(f"{year}-W{week:02}-{day}", date(2000, 1, 1)) == today
    for said in (f"{year}-W{week:02}", f"week {week} of {year}", f"week {week} {year}"):
        assert read_period(said, date(2000, 1, 1)) == whole
        assert date_of(f"start of {said}", date(2000, 1, 1)) == whole[0]
    assert date_of(f"{WEEKDAYS[day - 1]} of {year}-w{week:02}", date(2000, 1, 1)) == today


@given(DAYS, st.sampled_from(sorted(KEYS)))
def test_periods_up_to_today_and_named_ones(today, unit):
    days = walked(today, unit, "this")
    assert read_period(f"{unit} to date", today) == read_period(f"This {unit} to date", today) == (days[0], today)
    names = {
        "month": f"{MONTHS[today.month - 1]} {today.year}",
        "year": str(today.year),
        "quarter": f"{today.year}-Q{(today.month + 2) // 3}",
    }
    if unit in names:
        assert read_period(names[unit], date(2000, 1, 1)) == (days[0], days[-1])
    assert read_period("yesterday", today) == (today - timedelta(days=1),) * 2


@pytest.mark.parametrize(
    "period",
    [
        "last 7 days",
        "last 2 days",
        "last 1 month",
        "last 2 months",
        "last 1200 months",
        "next 1 week",
        "last 3 months",
        "Last 2 Years",
        "next 10 working days",
    ],
)
def test_a_period_that_could_mean_two_things_is_refused_with_both_which_can_be_read(period):
    with pytest.raises(BadInput, match="could mean more than one thing") as refused:
        read_period(period, date(2026, 11, 24))
    ways = re.findall(r"'([^']+)'", refused.value.hint)
    assert len({read_period(way, date(2026, 11, 24)) for way in ways}) == 2


@given(st.sampled_from(EXAMPLES), st.data())
def test_a_proposal_never_means_something_else(phrase, data):
    """One sign of a word is changed, left out or doubled: what is proposed has the words that the phrase had, or none is."""
    at = data.draw(st.integers(0, len(phrase) - 1))
    sign = data.draw(st.sampled_from(["", phrase[at] * 2, *"aeinst"]))
    wrong = phrase[:at] + sign + phrase[at + 1 :]
    try:
        date_of(wrong.partition(" at ")[0], date(2026, 11, 24))
    except BadInput as refused:
        proposed = re.search(r"Did you mean '([^']+)'", refused.hint)
        if proposed and " at " not in phrase:
            assert date_of(proposed[1], date(2026, 11, 24)) == date_of(phrase, date(2026, 11, 24)), wrong


WORDS = st.sampled_from([*WEEKDAYS, *MONTHS[:2], "today", "start", "end", "of", "last", "this", "month", "working", "day", "3rd", "at",
                         "06:30", "-", "+", "7", "days", "ago", "before", "to", "date", "2026", "q1", "week", "in", "a", "the", "2026-w01", "31", "9999-12", "pm", "\u0661", "\u202e", "é", "\n", "²"])  # fmt: skip


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
