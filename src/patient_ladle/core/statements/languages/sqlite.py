"""SQL of SQLite, whose columns have no type of their own: what a value is, the value says."""

from __future__ import annotations

import json
from datetime import datetime, timezone
from decimal import Decimal

from ...errors import ValueWrong
from ...values.parameters import Parameter, Scalar, Value, as_text
from ..outlines.forms import Forms
from .sql import SqlLanguage, string, words


def bound(parameter: Parameter, value: Value) -> str | int | float | None:
    """A value as SQLite stores it: integers of 64 bits, floats, texts; lists as JSON.

    Raises ValueWrong for a number that it could not hold.
    """
    if isinstance(value, tuple):
        return json.dumps([bound(parameter, item) for item in value], ensure_ascii=False)
    return None if value is None else _bound(parameter, value)


def _bound(parameter: Parameter, value: Scalar) -> str | int | float:
    if isinstance(value, bool):
        return int(value)
    if isinstance(value, (int, Decimal)) and value == int(value) and -(2**63) <= value < 2**63:
        return int(value)
    if isinstance(value, (int, Decimal)):
        if isinstance(value, int) or Decimal(repr(float(value))) != value:
            raise ValueWrong(
                f"parameter '{parameter.name}' was given '{parameter.shown(as_text(value))}', which has more digits than SQLite"
                " keeps.", "Give an integer of at most 64 bits, or a number of at most 15 digits.", parameter=parameter.name,
            )  # fmt: skip
        return float(value)
    if isinstance(value, datetime) and value.tzinfo:  # its timestamps have no zone
        value = value.astimezone(timezone.utc).replace(tzinfo=None)
    return str(as_text(value))


def _literal(parameter: Parameter, value: Value) -> str:
    made = bound(parameter, value)
    if isinstance(value, tuple):
        return f"(select value from json_each({string(str(made))}))"
    if made is None:
        return "null"
    return string(made) if isinstance(made, str) else repr(made)


SQLITE = SqlLanguage(
    "sqlite",
    title="SQL of SQLite",
    formatter="sqlite",
    literal=_literal,
    own_words="glob regexp isnull notnull",
    typed_columns=False,
    list_test="in …",
    bracket_names=True,
    backtick_names=True,
    refused_calls=frozenset({"load_extension", "writefile", "readfile", "edit", "fts3_tokenizer"}),
    forms=Forms(
        numbers_for_booleans=True,
        nulls_are=("first", "last"),
        parser="sqlite",
        position="instr({e}, {v})",
        in_list="{e} in {v}",
        not_in_list="{e} not in {v}",
        day_after="date({v}, '+1 day')",
        date="{v}",
        timestamp="{v}",
        zoned="{v}",
        zone="",
    ),
    reserved=words(
        """add all alter and as autoincrement between case cast check collate commit constraint create cross
        current_date current_time current_timestamp default deferrable delete distinct drop else escape except exists
        false foreign from full group having in index indexed inner insert intersect into is isnull join left limit
        natural not nothing notnull null on or order outer primary raise recursive references returning right select
        set table then to transaction true union unique update using values when where"""
    ),
    periods={  # auto: a number is a Julian day, or beyond those seconds since 1970
        "day": "date({column}, 'auto')", "week": "date({column}, 'auto', '-6 days', 'weekday 1')",
        "month": "strftime('%Y-%m-01', {column}, 'auto')",
        "quarter": "date({column}, 'auto', 'start of month', '-' || ((strftime('%m', {column}, 'auto') - 1) % 3) || ' months')",
        "year": "strftime('%Y-01-01', {column}, 'auto')",
    },
)  # fmt: skip
