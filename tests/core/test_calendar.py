"""Due times: always forward, right across daylight saving, each decided once."""

from __future__ import annotations

from datetime import date, datetime, timedelta, timezone
from itertools import islice, pairwise
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from patient_ladle.core.calendar_rules import check_rule, check_zone, due_times, next_due
from patient_ladle.core.due_decisions import MISSED, RUN, SKIPPED, decide
from patient_ladle.core.errors import BadInput

ZONES = ["UTC", "Europe/London", "America/New_York", "Asia/Kolkata", "Australia/Lord_Howe", "Pacific/Chatham"]
RULES = ["* * * * *", "*/7 * * * *", "30 1 * * *", "30 2 * * *", "0 5 1 * *", "15 6 * * 1-5", "0 0 29 2 *"]


def utc(text):
    return datetime.fromisoformat(text).replace(tzinfo=timezone.utc)


@given(st.sampled_from(RULES), st.sampled_from(ZONES), st.datetimes(datetime(2024, 1, 1), datetime(2030, 1, 1)))
@settings(max_examples=150, deadline=None)
def test_moments_move_forward_and_carry_on_from_any_of_them(rule, zone, start):
    moments = list(islice(due_times(rule, zone, start.replace(tzinfo=timezone.utc)), 6))
    assert all(a < b for a, b in pairwise(moments))
    assert all(next_due(rule, zone, a) == b for a, b in pairwise(moments))


@pytest.mark.parametrize("zone", ZONES)
def test_a_daily_rule_has_one_moment_on_every_day_of_three_years(zone):
    moments = islice(due_times("30 2 * * *", zone, utc("2024-12-31T23:59:00")), 3 * 365)
    days = [moment.astimezone(ZoneInfo(zone)).date() for moment in moments]
    assert len(set(days)) == len(days)
    assert days[-1] - days[0] == timedelta(days=len(days) - 1)


def test_the_clock_of_the_zone_counts_on_both_sides_of_the_change():
    found = list(islice(due_times("0 6 * * *", "Europe/London", utc("2026-03-27T12:00:00")), 3))
    assert [m.isoformat()[:16] for m in found] == ["2026-03-28T06:00", "2026-03-29T05:00", "2026-03-30T05:00"]


@pytest.mark.parametrize("rule", ["", "* * * *", "61 * * * *", "0 0 30 2 *", "a b c d e"])
def test_refuses_a_rule_that_names_no_moment(rule):
    with pytest.raises(BadInput) as refused:
        check_rule(rule)
    assert "crontab" in refused.value.message or "cannot be read" in refused.value.message
    assert "minute, hour" in refused.value.hint


def test_an_unknown_zone_gets_the_nearest_name():
    with pytest.raises(BadInput) as refused:
        check_zone("Europe/Lundon")
    assert refused.value.hint == "Did you mean 'Europe/London'?"


def decided(now, paused=""):
    return list(decide("0 * * * *", "Europe/London", utc("2026-07-01T00:00:00"), utc(now), paused))


def test_of_what_was_missed_only_the_latest_runs_and_each_is_recorded():
    found = decided("2026-07-01T05:30:00")
    assert [d.decision for d, _ in found] == [MISSED] * 5 + [RUN]
    last, following = found[-1]
    assert (last.late, last.data_date, following) == (True, date(2026, 7, 1), utc("2026-07-01T06:00:00"))
    assert "later due time runs instead" in found[0][0].reason


def test_a_due_time_met_in_time_is_not_late():
    [(only, _)] = decided("2026-07-01T00:00:05")
    assert (only.decision, only.late, only.reason) == (RUN, False, "due")


def test_a_pause_records_due_times_as_skipped():
    assert {(d.decision, d.reason) for d, _ in decided("2026-07-01T03:30:00", "paused by rita")} == {
        (SKIPPED, "paused by rita")
    }


@given(st.lists(st.integers(1, 500), min_size=1, max_size=20))
@settings(deadline=None)
def test_however_often_one_looks_no_due_time_is_lost_or_doubled(steps):
    first = now = utc("2026-10-24T22:00:00")
    due, recorded = first, []
    for minutes in steps:
        now += timedelta(minutes=minutes)
        for decision, following in decide("*/20 * * * *", "Europe/London", due, now):
            recorded.append(decision.due_at)
            due = following
    assert recorded == [
        m for m in islice(due_times("*/20 * * * *", "Europe/London", first - timedelta(minutes=1)), 600) if m <= now
    ]
