"""Declarations and values: right ones pass, wrong ones say what would be right."""

from __future__ import annotations

from datetime import date, datetime, timezone
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.errors import BadInput, LadleError
from patient_ladle.core.values.parameters import Parameter, as_text, check_declared, resolve

DAY = date(2026, 11, 24)
DUE = datetime(2026, 11, 24, 6, 5, tzinfo=timezone.utc)


def values(declared, given):
    return resolve([Parameter.from_dict(d) for d in declared], given, DAY, DUE).values


@pytest.mark.parametrize(
    ("kind", "given", "value"),
    [
        ("text", "  as it is ", "  as it is "),
        ("integer", "42", 42),
        ("integer", -7, -7),
        ("decimal", "12.50", Decimal("12.50")),
        ("boolean", "no", False),
        ("boolean", True, True),
        ("date", "2028-02-29", date(2028, 2, 29)),
        ("timestamp", "2026-11-24 06:05", datetime(2026, 11, 24, 6, 5)),
        ("timestamp", "2026-11-24T06:05:00Z", DUE),
    ],
)
def test_reads_a_value_of_each_type(kind, given, value):
    assert values([{"name": "p", "type": kind}], {"p": given})["p"] == value


@pytest.mark.parametrize(
    ("kind", "given"),
    [("integer", "4.2"), ("integer", True), ("decimal", "NaN"), ("decimal", "1_0"), ("boolean", "maybe"), ("date", "2027-02-29"),
     ("timestamp", "yesteryear"), ("text", {"a": 1}), ("text", ["a", "b"]), ("date", []), ("date", "today at 06:00")],
)  # fmt: skip
def test_refuses_a_wrong_value_and_says_what_is_right(kind, given):
    with pytest.raises(BadInput) as refused:
        values([{"name": "since", "type": kind}], {"since": given})
    assert "'since'" in refused.value.message
    assert refused.value.hint


def test_defaults_absence_and_built_ins():
    made = values([{"name": "a", "type": "integer", "default": 3}, {"name": "b", "required": False}], {})
    assert made == {"a": 3, "b": None, "data_date": DAY, "due_time": DUE}


@pytest.mark.parametrize(
    ("given", "words"),
    [
        ({}, "parameter 'above' needs a value (a number such as 12.5). Give one: above=…"),
        ({"abov": 1}, "there is no parameter 'abov'. Did you mean 'above'?"),
        ({"above": 1, "data_date": "2026-01-01"}, "'data_date' is built in and is not set as a value."),
        ({"above": 1, "zone": "Nroth"}, "not among its allowed values. Did you mean 'North'?"),
        ({"above": 1, "zones": ["x"] * 10_001}, "at most 10,000 are taken"),
    ],
)
def test_errors_say_the_next_step(given, words):
    declared = [
        {"name": "above", "type": "decimal"},
        {"name": "zone", "required": False, "allowed": ["North", "South"]},
        {"name": "zones", "is_list": True, "required": False},
    ]
    with pytest.raises(LadleError) as refused:
        values(declared, given)
    assert words in refused.value.in_words()


@pytest.mark.parametrize(
    ("declaration", "words"),
    [
        ({"name": "Upper"}, "cannot be the name of a parameter"),
        ({"name": "due_time"}, "is built in"),
        ({"name": "a", "type": "dat"}, "Did you mean 'date'?"),
        ({"name": "a", "tpye": "date"}, "Did you mean 'type'?"),
        ({"name": "a", "type": "integer", "default": "x"}, "is not a whole number"),
        ({"name": "a", "allowed": ["x"], "default": "y"}, "not among its allowed values"),
    ],
)
def test_refuses_a_declaration_that_could_not_be_used(declaration, words):
    with pytest.raises(BadInput) as refused:
        Parameter.from_dict(declaration)
    assert words in refused.value.in_words()


def test_every_name_used_is_declared_once():
    a = Parameter("since", "date")
    check_declared([a], ["since", "data_date"])
    with pytest.raises(BadInput, match="declared twice"):
        check_declared([a, a], [])
    with pytest.raises(BadInput, match="uses ':sinc', which is not declared") as refused:
        check_declared([a], ["sinc"])
    assert refused.value.hint == "Did you mean 'since'?"


scalars = {
    "text": st.text(st.characters(exclude_characters="\0", exclude_categories=["Cs"])),
    "integer": st.integers(-(10**38), 10**38),
    "decimal": st.decimals(allow_nan=False, allow_infinity=False, places=6),
    "boolean": st.booleans(),
    "date": st.dates(),
    "timestamp": st.datetimes(),
}


@given(st.sampled_from(sorted(scalars)).flatmap(lambda kind: st.tuples(st.just(kind), st.lists(scalars[kind], max_size=5))))
def test_a_value_and_its_text_are_one(drawn):
    kind, items = drawn
    parameter = Parameter("p", kind, is_list=True)
    assert parameter.read(as_text(tuple(items)), DAY) == tuple(items)


def test_phrases_periods_and_shared_values():
    declared = [
        {"name": "since", "type": "date", "default": "start of last month"},
        {"name": "until", "type": "timestamp", "default": "today at 06:30"},
        {"name": "span", "type": "period"},
        {"name": "rate", "type": "decimal", "shared": "leak_rate", "default": "9"},
        {"name": "days", "type": "date", "is_list": True, "default": ["today", "2026-01-31"]},
    ]
    for given_span in ("last month", "start of last month to end of last month", ["2026-10-01", "2026-10-31"],
                       {"from": "start of last month", "to": "2026-10-31"}):  # fmt: skip
        made = resolve([Parameter.from_dict(d) for d in declared], {"span": given_span}, DAY, DUE, {"leak_rate": "0.25"}).values
        assert (made["span_from"], made["span_to"]) == (date(2026, 10, 1), date(2026, 10, 31))
    assert (made["since"], made["until"], made["rate"]) == (date(2026, 10, 1), datetime(2026, 11, 24, 6, 30), Decimal("0.25"))
    assert made["days"] == (DAY, date(2026, 1, 31))
    assert "span" not in made
    check_declared([Parameter.from_dict(d) for d in declared], ["span_from", "span_to", "since"])
    with pytest.raises(BadInput, match="uses ':span'"):
        check_declared([Parameter.from_dict(d) for d in declared], ["span"])


@pytest.mark.parametrize(
    ("declared", "value", "words"),
    [
        ({"type": "integer", "minimum": 1, "maximum": 12}, 13, "takes at most 12"),
        ({"type": "date", "maximum": "today"}, "tomorrow", "takes at most today"),
        ({"type": "timestamp", "minimum": "2026-11-24 00:00"}, "2026-11-23T23:59:59Z", "takes at least"),
        ({"pattern": r"FW-\d+"}, "FW-1 or 1=1", "does not match"),
        ({"pattern": "(a+)+", "note": "Only the letter a."}, "a" * 40 + "!", "does not match"),
        ({"type": "identifier", "allowed": ["readings", "archive.readings"]}, "redings", "not among its allowed"),
        ({"type": "period"}, "2026-11-30 to 2026-11-01", "before it begins"),
        ({"type": "period"}, "november", "which is not two dates"),
        ({"type": "date"}, "stat of last month", "which is not a date"),
        ({"type": "integer", "sensitive": True}, "secret-9", r"was given '\(sensitive\)'"),
        ({"sensitive": True, "allowed": ["s3cret"]}, "s3cre", r"was given '\(sensitive\)'"),
        ({"sensitive": True, "pattern": "x"}, "s3cre", r"was given '\(sensitive\)'"),
    ],
)  # fmt: skip
def test_bounds_patterns_names_and_privacy(declared, value, words):
    if value == "november":
        value = "novembre"
    with pytest.raises(BadInput, match=words) as refused:
        values([{"name": "p", **declared}], {"p": value})
    assert refused.value.hint
    assert "s3cre" not in refused.value.message
    if declared.get("sensitive"):
        assert "s3cre" not in refused.value.in_words().replace("Allowed: s3cret", "")


@pytest.mark.parametrize(
    "declared",
    [
        {"type": "identifier"}, {"type": "identifier", "allowed": ["a"], "is_list": True}, {"type": "identifier", "allowed": ["a"], "required": False},
        {"minimum": 1}, {"type": "integer", "pattern": "x"}, {"pattern": "("}, {"type": "date", "default": "start of the mouth"},
        {"lookup": {"column": "code"}}, {"lookup": {"name": "areas", "table": "x"}}, {"lookup": {"name": "areas"}, "allowed": ["N1"]},
        {"lookup": {"name": "areas"}, "type": "period"}, {"lookup": "areas"}, {"lookup": {"name": "areas"}, "labels": {"N1": "North"}},
        {"choices": {"source": "metering"}}, {"type": "period", "is_list": True}, {"type": "integer", "minimum": "few"}, {"unknown": 1},
    ],
)  # fmt: skip
def test_a_declaration_that_could_never_be_used_is_refused(declared):
    with pytest.raises(BadInput) as refused:
        Parameter.from_dict({"name": "p", **declared})
    assert refused.value.hint


def test_a_declaration_survives_its_plain_form_and_a_private_value_is_never_written():
    full = {
        "name": "p",
        "type": "integer",
        "allowed": [1, 2],
        "labels": {"1": "North"},
        "default": "1",
        "minimum": 0,
        "sensitive": True,
    }
    made = Parameter.from_dict(full)
    assert Parameter.from_dict(made.to_dict()) == made
    assert resolve([made], {}, DAY, DUE).as_text()["p"] == "(sensitive)"
