"""Due times: right on every day against a slow reckoning of another kind, always forward, each decided once."""

from __future__ import annotations

import random
import re
from bisect import bisect_right
from datetime import date, datetime, time, timedelta, timezone
from functools import cache
from itertools import islice, pairwise, takewhile
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.errors import BadInput, ConnectionLost, StatementWrong
from patient_ladle.core.runs.due_decisions import MISSED, RUN, SKIPPED, CatchUp, Pause, decide, finish_by
from patient_ladle.core.runs.retrying import JITTER, LONGEST_WAIT_SECONDS, RetryPolicy
from patient_ladle.core.values.calendars.clock import check_zone
from patient_ladle.core.values.calendars.holidays import of_country, of_file
from patient_ladle.core.values.calendars.reading import FORMS, read_rule
from patient_ladle.core.values.calendars.timing import Timing
from tests.profile import YEARS, examples

ZONES = ["UTC", "Europe/London", "America/New_York", "Asia/Kolkata", "Australia/Lord_Howe", "Pacific/Chatham"]
BEGIN, END = date(2024, 1, 1), date(2024 + YEARS, 1, 1)
HOLIDAYS = {**of_country("GB", "ENG", 2026), date(2027, 2, 1): "Fen Day", date(2027, 2, 2): "Fen Day"}


def utc(text):
    return datetime.fromisoformat(text).replace(tzinfo=timezone.utc)


@cache
def spans(zone):
    """The zone's offsets as they follow each other, found by looking every quarter of an hour."""
    step, at, found = timedelta(minutes=15), utc("2023-12-25T00:00:00"), []
    while at < utc("2034-01-10T00:00:00"):
        offset = at.astimezone(ZoneInfo(zone)).utcoffset()
        if not found or found[-1][1] != offset:
            found.append((at, offset))
        at += step
    return found


def slow_moments(zone, day, wall):
    """All moments at which a clock shows that, or the change that left it out."""
    found, naive = [], datetime.combine(day, wall, timezone.utc)
    near = bisect_right(spans(zone), (naive - timedelta(days=2), timedelta.max)) - 1
    for number in range(max(near, 0), len(spans(zone))):
        start, offset = spans(zone)[number]
        end = spans(zone)[number + 1][0] if number + 1 < len(spans(zone)) else None
        at = naive - offset
        if start <= at and (end is None or at < end):
            found.append(at)
        if start - naive > timedelta(days=2):
            break
    if not found:
        found = [
            s for (s, after), (_, before) in zip(spans(zone)[1:], spans(zone), strict=False) if s + before <= naive < s + after
        ]
    return found


def working(day):
    return day.weekday() < 5 and day not in HOLIDAYS


def nth(day, number, wanted):
    """Whether the day is the so-and-so-many-th of its month that is wanted; from the end for a negative number."""
    step = timedelta(days=1 if number < 0 else -1)
    count, other = 0, day
    while other.month == day.month:
        count += wanted(other)
        other += step
    return wanted(day) and count == abs(number)


def moved_here(day, wanted):
    """Whether the day is wanted, or the first working day after wanted ones on which nobody works."""
    if not working(day):
        return False
    while not wanted(day):
        day -= timedelta(days=1)
        if working(day):
            return False
    return True


def quarters(first, last):
    return [time(m // 60, m % 60) for m in range(first, last + 1, 15)]


RULES = [
    ("daily 02:30", {}, lambda d: True, [time(2, 30)]),
    ("30 1 * * *", {}, lambda d: True, [time(1, 30)]),
    ("0 */2 * * *", {}, lambda d: True, [time(hour) for hour in range(0, 24, 2)]),
    ("*/20 2 * * *", {}, lambda d: True, [time(2, minute) for minute in (0, 20, 40)]),
    ("30 * * * *", {}, lambda d: True, [time(hour, 30) for hour in range(24)]),
    ("*/15 1-3 * * 0", {}, lambda d: d.weekday() == 6, quarters(60, 225)),
    ("45 1,2 * * *", {}, lambda d: True, [time(1, 45), time(2, 45)]),
    ("weekdays 06:30 and 00:00", {}, lambda d: d.weekday() < 5, [time(6, 30), time(0, 0)]),
    ("15 6 * * 1-5", {"on_holiday": "skip"}, lambda d: d.weekday() < 5 and d not in HOLIDAYS, [time(6, 15)]),
    ("daily 01:00 to 03:00 each 15 minutes", {}, lambda d: True, quarters(60, 180)),
    ("1st and 15th, 02:15", {}, lambda d: d.day in (1, 15), [time(2, 15)]),
    ("1st, 15th or next working day 02:00", {}, lambda d: moved_here(d, lambda x: x.day in (1, 15)), [time(2)]),
    ("3rd working day 07:00", {}, lambda d: nth(d, 3, working), [time(7)]),
    ("last working day of march and december 16:00", {}, lambda d: d.month in (3, 12) and nth(d, -1, working), [time(16)]),
    ("last friday 18:00", {}, lambda d: nth(d, -1, lambda x: x.weekday() == 4), [time(18)]),
    ("1st and 3rd monday 01:45", {}, lambda d: d.weekday() == 0 and (d.day - 1) // 7 in (0, 2), [time(1, 45)]),
    ("last day 23:30", {}, lambda d: (d + timedelta(days=1)).day == 1, [time(23, 30)]),
    ("working days 02:45", {}, working, [time(2, 45)]),
    (
        "fridays 02:30",
        {"on_holiday": "next_working_day"},
        lambda d: (d.weekday() == 4 and d not in HOLIDAYS) or (d.weekday() != 4 and moved_here(d, lambda x: x.weekday() == 4 and x in HOLIDAYS)),
        [time(2, 30)],
    ),
    (
        "mondays 02:30",
        {"first": date(2025, 3, 30), "last": date(2031, 10, 27), "exceptions": frozenset({date(2026, 3, 30)})},
        lambda d: d.weekday() == 0 and date(2025, 3, 30) <= d <= date(2031, 10, 27) and d != date(2026, 3, 30),
        [time(2, 30)],
    ),
]  # fmt: skip


@pytest.mark.parametrize("zone", ZONES)
@pytest.mark.parametrize(("rule", "more", "wanted", "walls"), RULES, ids=[rule for rule, *_ in RULES])
def test_every_day_of_some_years_is_right(rule, more, wanted, walls, zone):
    days = (BEGIN + timedelta(days=n) for n in range((END - BEGIN).days))
    many = len(walls) > 2
    slow = set()
    for day in filter(wanted, days):
        for wall in walls:
            found = slow_moments(zone, day, wall)
            shown = [at for at in found if (at + _offset(zone, at)).time() == wall]
            slow.update(shown if many else found[:1])
    begin, end = (datetime.combine(day, time(), ZoneInfo(zone)).astimezone(timezone.utc) for day in (BEGIN, END))
    timing = Timing(rule, zone, holidays=HOLIDAYS, **more)
    quick = list(takewhile(lambda at: at < end, timing.due_times(begin - timedelta(seconds=1))))
    assert quick == sorted(at for at in slow if begin <= at < end)


def _offset(zone, at):
    return spans(zone)[bisect_right(spans(zone), (at, timedelta.max)) - 1][1]


@given(st.sampled_from([*FORMS, "* * * * *", "*/7 * * * *", "0 0 29 2 *"]), st.sampled_from(ZONES),
       st.datetimes(datetime(2024, 1, 1), datetime(2030, 1, 1)), st.sampled_from(["run", "skip", "next_working_day"]))  # fmt: skip
@examples(1.2)
def test_moments_move_forward_and_carry_on_from_any_of_them(rule, zone, start, on_holiday):
    timing = Timing(rule, zone, on_holiday=on_holiday, holidays=HOLIDAYS)
    moments = list(islice(timing.due_times(start.replace(tzinfo=timezone.utc)), 6))
    assert all(a < b for a, b in pairwise(moments))
    assert all(timing.next_due(a) == b for a, b in pairwise(moments))


def test_the_days_on_which_clocks_change_and_moves_are_told():
    found = Timing("daily 01:30", "Europe/London").noted(utc("2026-03-28T12:00:00"), 2)
    assert [(at.isoformat()[:16], note) for at, note in found] == [
        ("2026-03-29T01:00", "clocks go forward by 1 h on this day"),
        ("2026-03-30T00:30", ""),
    ]
    rule = Timing("1st or next working day 05:00", "Europe/London", holidays=HOLIDAYS)
    assert [note for _, note in rule.noted(utc("2027-01-31T12:00:00"), 2)] == [
        "moved from 2027-02-01 (Fen Day)",
        "",
    ]
    [(_, note)] = Timing("25th 05:00", holidays=HOLIDAYS).noted(utc("2026-12-20T00:00:00"), 1)
    assert note == "on a holiday (Christmas Day)"


@pytest.mark.parametrize(
    ("rule", "said", "hint"),
    [
        ("", "a day was expected, not the end", "daily 06:30"),
        ("* * * *", "has 4 fields; a crontab rule has five", "five crontab fields"),
        ("61 * * * *", "cannot be read: Bad minute", "minute, hour"),
        ("0 0 30 2 *", "cannot be read", "minute, hour"),
        ("a b c d e", "a day was expected, not 'a' at column 1", ""),
        ("dayly 06:30", "not 'dayly' at column 1", "Did you mean 'daily'?"),
        ("wroking days 05:00", "not 'wroking' at column 1", "Did you mean 'working'?"),
        ("weekdays 6", "a time such as 06:30 was expected, not '6' at column 10", ""),
        ("weekdays 25:00", "a time from 00:00 to 23:59 was expected, not '25:00' at column 10", ""),
        ("1st of jnauary 05:00", "a month was expected, not 'jnauary' at column 8", "Did you mean 'january'?"),
        ("32nd 05:00", "a day from 1st to 31st", ""),
        ("last 05:00", "what the last one is of", "last friday"),
        ("daily 07:00 to 06:00 each 5 minutes", "a time after 07:00 was expected, not '06:00' at column 16", ""),
        ("daily 07:00 to 19:00 each 5 parsecs", "minutes or hours was expected, not 'parsecs'", ""),
        ("daily 07:00 to 19:00", "'each' and a number of minutes or hours was expected, not the end", ""),
        ("daily 06:30 always", "the end was expected, not 'always' at column 13", ""),
        ("31st of february 05:00", "names no moment", "Change the rule"),
    ],
)
def test_refuses_a_rule_that_cannot_be_read_and_says_where(rule, said, hint):
    with pytest.raises(BadInput) as refused:
        Timing(rule).check(utc("2026-11-24T00:00:00"))
    assert said in refused.value.message
    assert hint in refused.value.hint


def test_words_may_be_said_in_several_ways():
    for one, other in [
        ("mon, thu at 6:30", "mondays and thursdays 06:30"),
        ("every day 06:30, 18:00", "daily 06:30 and 18:00"),
        ("First working day 05:00", "1st working day 05:00"),
        ("weekdays every hour", "weekdays 00:00 to 23:59 each 60 minutes"),
        ("hourly", "daily 00:00 to 23:59 each 1 hour"),
        ("every 2 hours on weekdays", "weekdays each 2 hours"),
        ("every 15 min between 7am and 7 PM", "daily 07:00 to 19:00 each 15 minutes"),
        ("monday through friday 06:30", "weekdays 06:30"),
        ("sat-mon at noon", "saturday to monday 12:00"),
        ("monthly on the 1st and 15th at 5am", "1st and 15th 05:00"),
        ("weekly on monday, friday 06:30", "mondays and fridays 06:30"),
        ("the last business day of the month 16:00", "last working day 16:00"),
        ("workdays at midnight", "working days 00:00"),
        ("beginning of each month 06:30", "1st 06:30"),
        ("end of the quarter 23:00", "last day of march, june, september and december 23:00"),
        ("start of year 06:30", "1st of january 06:30"),
        ("06:30 and 18:00 on weekdays", "weekdays 06:30, 18:00"),
        ("6:30am", "daily 06:30"),
        ("@Monthly", "0 0 1 * *"),
    ]:
        assert read_rule(one) == read_rule(other), one


DAYS_SAID = {"daily": ["every day", "each day", ""], "weekdays": ["every weekday", "monday to friday", "mon - fri", "Mon, Tue, Wed, Thu, Fri"],
             "1st": ["1st of the month", "monthly on the 1st", "first of every month", "start of month", "the first"],
             "last day": ["end of month", "last day of the month", "monthly on the last day"], "mondays": ["every monday", "weekly on mondays", "mon", "start of week"],
             "2nd and 3rd working day": ["2nd, 3rd business day", "second and third workday", "2nd and third working day of each month"],
             "last friday": ["the last fri", "monthly on the last friday", "last friday of the month"]}  # fmt: skip
TIMES_SAID = {"06:30": ["6:30", "at 6:30am", "6:30 am"], "18:00 and 12:00": ["noon and 6 pm", "12:00, 18:00", "at 12pm and 6pm"],
              "07:00 to 19:00 each 30 minutes": ["every 30 minutes from 7am to 7pm", "each 30 min between 07:00 and 19:00"],
              "each 60 minutes": ["hourly", "every hour", "every 1 hour"]}  # fmt: skip


@given(st.sampled_from(sorted(DAYS_SAID)), st.sampled_from(sorted(TIMES_SAID)), st.data())
def test_whatever_way_a_rule_is_said_it_names_the_same_moments(days, times, data):
    said_days, said_times = (
        data.draw(st.sampled_from([days, *DAYS_SAID[days]])),
        data.draw(st.sampled_from([times, *TIMES_SAID[times]])),
    )
    first = data.draw(st.booleans()) and said_days and "every" not in said_times[1:] + " on"
    text = f"{said_times} on {said_days}" if first else f"{said_days} {said_times}"
    text = data.draw(st.sampled_from([str, str.upper, str.title]))(" ".join(text.split()))
    start = utc("2026-11-24T00:00:00")
    wanted = [moment.at for moment in islice(Timing(f"{days} {times}", "Europe/London").moments(start), 40)]
    assert [moment.at for moment in islice(Timing(text, "Europe/London").moments(start), 40)] == wanted, text


@pytest.mark.parametrize(
    ("rule", "ways"),
    [
        ("monthly 05:00", "Write '1st 05:00' or 'last day 05:00'."),
        ("weekly at 06:30", "Write 'mondays 06:30' or 'fridays 06:30'."),
        ("quarterly", "Write '1st of january, april, july and october 06:30' or 'end of quarter 06:30'."),
        ("end of week 18:00", "Write 'fridays 18:00' or 'sundays 18:00'."),
    ],
)
def test_a_rule_that_could_mean_two_things_is_refused_with_both(rule, ways):
    with pytest.raises(BadInput, match="could mean more than one thing") as refused:
        read_rule(rule)
    assert refused.value.hint == ways
    for way in re.findall(r"'([^']+)'", ways):
        read_rule(way)


@pytest.mark.parametrize(
    ("rule", "hint"),
    [("15 minutes", "'every 15 minutes'"), ("0630 daily", "'06:30 daily'"), ("daily", "'daily 06:30'"), ("monday 6", "'monday 6:00'"),
     ("montly on the 1st 05:00", "'monthly'"), ("every 2nd monday 06:30", "Write it as one of these"), ("every 2 weeks", "Write it as one of these"),
     ("@reboot", "@hourly, @daily"), ("weekly on the 1st 05:00", "Write it as one of these")],
)  # fmt: skip
def test_what_a_rule_lacks_is_proposed(rule, hint):
    with pytest.raises(BadInput) as refused:
        read_rule(rule)
    assert hint in refused.value.hint


def test_dates_that_contradict_each_other_are_refused():
    with pytest.raises(BadInput, match="lies before the first one"):
        Timing("daily 05:00", first=date(2026, 5, 2), last=date(2026, 5, 1)).check(utc("2026-01-01T00:00:00"))
    with pytest.raises(BadInput, match="names no moment from 2026-05-01 on"):
        Timing("sundays 05:00", first=date(2026, 5, 1), last=date(2026, 5, 2)).check(utc("2026-01-01T00:00:00"))


def test_an_unknown_zone_or_country_gets_the_nearest_name():
    with pytest.raises(BadInput) as refused:
        check_zone("Europe/Lundon")
    assert refused.value.hint == "Did you mean 'Europe/London'?"
    with pytest.raises(BadInput, match="there is no region of GB 'ENGL'"):
        of_country("GB", "ENGL", 2026)


FILE = """BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//Fennmoor Water//days//EN
BEGIN:VEVENT
UID:1
DTSTART;VALUE=DATE:20250624
RRULE:FREQ=YEARLY
SUMMARY:Fen Day
END:VEVENT
BEGIN:VEVENT
UID:2
DTSTART;VALUE=DATE:20261224
DTEND;VALUE=DATE:20261227
SUMMARY:Office closed
END:VEVENT
END:VCALENDAR
"""


def test_holidays_are_read_from_an_icalendar_file():
    found = of_file(FILE, 2026)
    assert [day.isoformat() for day in sorted(found) if day.year == 2026] == [
        "2026-06-24", "2026-12-24", "2026-12-25", "2026-12-26",
    ]  # fmt: skip
    assert found[date(2031, 6, 24)] == "Fen Day"
    for text, said in [
        ("hello", "not an iCalendar file"),
        ("BEGIN:VCALENDAR\nEND:VCALENDAR", "names no day from 2024 to 2038"),
    ]:
        with pytest.raises(BadInput, match=said):
            of_file(text, 2026)


HOURLY = Timing("0 * * * *", "Europe/London")


def decided(now, catch_up=None, pause=None):
    return list(decide(HOURLY, utc("2026-07-01T00:00:00"), utc(now), catch_up, pause))


def test_of_what_was_missed_only_the_latest_runs_and_each_is_recorded():
    found = decided("2026-07-01T05:30:00")
    assert [d.decision for d, _ in found] == [MISSED] * 5 + [RUN]
    last, following = found[-1]
    assert (last.late, last.data_date, following) == (True, date(2026, 7, 1), utc("2026-07-01T06:00:00"))
    assert "later due time runs instead" in found[0][0].reason


@pytest.mark.parametrize(
    ("catch_up", "runs", "reason"),
    [
        (CatchUp("all"), 6, ""),
        (CatchUp("all", most=2), 2, "only the last 2"),
        (CatchUp("all", hours=3), 3, "more than 3 h ago"),
        (CatchUp("none"), 0, "what is missed does not run"),
        (CatchUp("latest", hours=0), 0, "more than 0 h ago"),
        (CatchUp("latest", hours=1), 1, "more than 1 h ago"),
    ],
)
def test_what_was_missed_runs_as_chosen(catch_up, runs, reason):
    found = [d for d, _ in decided("2026-07-01T05:30:00", catch_up)]
    assert [d.decision for d in found] == [MISSED] * (6 - runs) + [RUN] * runs
    assert reason in found[0].reason


@pytest.mark.parametrize("policy", ["latest", "all", "none"])
def test_a_due_time_met_in_time_is_not_late(policy):
    [(only, _)] = decided("2026-07-01T00:00:05", CatchUp(policy, hours=0))
    assert (only.decision, only.late, only.reason) == (RUN, False, "due")


def test_a_pause_records_due_times_as_skipped_until_it_ends():
    found = decided("2026-07-01T03:30:00", pause=Pause("paused by rita", utc("2026-07-01T02:00:00")))
    assert [d.decision for d, _ in found] == [SKIPPED, SKIPPED, MISSED, RUN]
    assert found[0][0].reason == "paused by rita"


def test_finished_by_is_the_next_time_the_clock_shows_it():
    assert finish_by(utc("2026-07-01T04:00:00"), "Europe/London", time(7, 0)) == utc("2026-07-01T06:00:00")
    assert finish_by(utc("2026-07-01T06:30:00"), "Europe/London", time(7, 0)) == utc("2026-07-02T06:00:00")


def test_only_what_can_pass_is_tried_again_with_longer_waits_and_an_end():
    now, chance = utc("2026-07-01T04:00:00"), random.Random(7)
    patience = RetryPolicy(4, utc("2026-07-01T05:00:00"))
    lost = ConnectionLost("the connection broke.")
    waits = [patience.again_at(lost, attempt, now, chance)[0] for attempt in (1, 2, 3)]
    seconds = [(at - now).total_seconds() for at in waits]
    assert all(abs(got / plain - 1) <= JITTER for got, plain in zip(seconds, (30, 60, 120), strict=True))
    assert patience.again_at(lost, 4, now) == (None, "given up after 4 attempts")
    assert patience.again_at(StatementWrong("no such table."), 1, now)[1].startswith("it cannot pass by itself")
    assert (
        "given up: the next attempt would begin after 2026-07-01 05:00"
        in patience.again_at(lost, 1, utc("2026-07-01T04:59:50"))[1]
    )
    assert patience.wait_seconds(40) <= LONGEST_WAIT_SECONDS * (1 + JITTER)
