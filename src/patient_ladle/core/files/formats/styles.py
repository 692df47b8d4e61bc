"""How canonical texts are written for a reader who wants them otherwise: dates, times, zones, numbers, booleans, binary."""

from __future__ import annotations

import base64
import re
import unicodedata
from collections.abc import Mapping, Sequence
from datetime import datetime
from decimal import ROUND_HALF_UP, Decimal, localcontext
from functools import partial
from typing import Any
from zoneinfo import ZoneInfo

import pyarrow as pa
import pyarrow.compute as pc

from patient_ladle.core.errors import BadInput, ValueUnfit
from patient_ladle.core.results.columns import NUMERIC, Column

from ..options import Option
from .base import chosen, constant, replaced_where

_PLAIN_DATE = r"^\d{4}-\d\d-\d\d$"
_PLAIN_MOMENT = r"^\d{4}-\d\d-\d\d[ T]\d\d:\d\d:\d\d(\.\d{1,6})?Z?$"
_PLAIN_TIME = r"^([01]\d|2[0-3]):\d\d:\d\d(\.\d{1,6})?$"
_PLAIN_NUMBER = r"^-?\d+(\.\d+)?$"
_FINITE_NUMBER = r"^-?\d+(\.\d+)?([eE][+-]?\d+)?$"
NUMBER_FORM = re.compile(r"(#,##)?0(\.(0{1,30}))?")
MOMENTS = ("date", "time", "timestamp", "zoned")
DATE_MARKS, TIME_MARKS, ZONE_MARKS = "aAbBdjmUuVwWyYG", "fHIMpS", "zZ"
_MARKS_OF = {
    "date": DATE_MARKS,
    "time": TIME_MARKS,
    "timestamp": DATE_MARKS + TIME_MARKS,
    "zoned": DATE_MARKS + TIME_MARKS + ZONE_MARKS,
}
"""strftime's marks that each kind of moment has a value for."""


def checked_zone(name: str) -> str:
    """An IANA name of a time zone. Raises BadInput."""
    try:
        ZoneInfo(name)
    except (ValueError, OSError, KeyError):
        raise BadInput(f"'{name}' is not a time zone.", "Take an IANA name such as Europe/London, or UTC.") from None
    return name


def one_line(value: str) -> str:
    """A text without line ends, tabs and other control characters. Raises BadInput."""
    for char in value:
        if unicodedata.category(char) in ("Cc", "Cs", "Zl", "Zp"):
            raise BadInput(f"{value!r} holds the character U+{ord(char):04X}.", "Take a text of one line, without tabs.")
    return value


def marks_of(form: str) -> list[str]:
    """The letters of a strftime style, in order."""
    return re.findall("%(.?)", one_line(form))


def checked_form(form: str, kind: str = "zoned") -> str:
    """A strftime style for that kind of moment, or nothing. Raises BadInput."""
    if form and "%" not in form:
        raise BadInput(f"'{form}' is not a style of dates.", "Use strftime's marks, such as %d/%m/%Y or %H:%M.")
    for mark in marks_of(form):
        if not mark or mark not in _MARKS_OF["zoned"] + "%":
            raise BadInput(
                f"'%{mark}' in '{form}' is not a mark of a date.", "Use strftime's marks, such as %d/%m/%Y or %H:%M."
            )
        if mark not in _MARKS_OF[kind] + "%":
            has = f"a {kind}" if kind in ("date", "time") else "a timestamp without a zone"
            raise BadInput(f"'%{mark}' in '{form}' asks for what {has} has not.", f"Leave %{mark} out of this style.")
    return form


def fitting_form(column: Column, options: Mapping[str, Any]) -> str:
    """The strftime style of a column of moments, its own or the options'; empty where ISO 8601 is wanted.

    Raises ValueUnfit where its values lack what the style asks for.
    """
    option = {"date": "date_format", "time": "time_format"}.get(column.kind, "timestamp_format")
    try:
        return checked_form(column.pattern or options.get(option, ""), column.kind)
    except BadInput as error:
        hint = f"Give this column a style of its own, or change {option}."
        raise ValueUnfit(f"column '{column.name}': {error.message}", hint, column=column.name) from error


def mind_forms(columns: Sequence[Column], options: Mapping[str, Any]) -> None:
    """Refuse styles that ask for what a column has not, before the first row. Raises ValueUnfit."""
    for column in columns:
        if column.kind in MOMENTS:
            fitting_form(column, options)


def takes_form(column: Column) -> bool:
    """Whether the column's own form has something to do with its values."""
    numeric = column.kind in (*NUMERIC, "any")
    return not column.pattern or (numeric if NUMBER_FORM.fullmatch(column.pattern) else column.kind in MOMENTS)


_dates, _times_only = partial(checked_form, kind="date"), partial(checked_form, kind="time")
ZONE = Option("zone", "UTC", "time zone in which moments with a zone are written, such as Europe/London", check=checked_zone)
BINARY = Option("binary", "base64", "how binary values are written", ("base64", "hex"))
STYLE_OPTIONS = (
    Option("date_format", "", "strftime style of dates, such as %d/%m/%Y; default ISO 8601", check=_dates),
    Option(
        "timestamp_format", "", "strftime style of timestamps, such as %d/%m/%Y %H:%M; default ISO 8601", check=checked_form
    ),
    Option("time_format", "", "strftime style of times, such as %H:%M; default ISO 8601", check=_times_only),
    ZONE,
    Option("decimal_separator", ".", "between the whole and the fraction of a number", (".", ",")),
    Option("thousands_separator", "", "between groups of three digits", ("", ",", ".", " ", "'", "\u202f")),
    Option("true_as", "true", "how true is written", check=one_line),
    Option("false_as", "false", "how false is written", check=one_line),
    BINARY,
)


def styled(column: Column, array: pa.Array[Any], numbers: pa.Array[Any] | None, options: Mapping[str, Any]) -> pa.Array[Any]:
    """The cells as the options and the column's own form want them; a value that a style cannot take stays canonical."""
    kind = column.kind
    if kind in MOMENTS:
        return in_form(column, array, options)
    if kind in NUMERIC:
        return _numbers(array, column.pattern, options)
    if kind == "any" and numbers is not None:
        return pc.if_else(numbers, _numbers(array, column.pattern, options), array)
    if kind == "boolean" and (options["true_as"], options["false_as"]) != ("true", "false"):
        return chosen(pc.equal(array, constant("true")), options["true_as"], options["false_as"])
    if kind == "binary":
        return in_hex(array) if options["binary"] == "hex" else array
    return array


def leaves_alone(column: Column, options: Mapping[str, Any]) -> bool:
    """Whether ``styled`` gives back what it is given, for every value."""
    return not column.pattern and all(options[o.name] == o.default for o in STYLE_OPTIONS)


def in_hex(array: pa.Array[Any]) -> pa.Array[Any]:
    """Binary cells in hex instead of base64."""
    return pa.array([None if v is None else base64.b64decode(v).hex() for v in array.to_pylist()], pa.string())


def in_form(column: Column, array: pa.Array[Any], options: Mapping[str, Any]) -> pa.Array[Any]:
    """Moments in the style of the column or of the options, zoned ones in the options' zone; RFC 3339 where there is no style.

    Raises ValueUnfit where the column's values lack what the style asks for.
    """
    form = fitting_form(column, options)
    zone = options["zone"] if column.kind == "zoned" else ""
    if not form:
        return in_zone(array, zone) if zone else array
    if column.kind == "date":
        return _each_plain(array, _PLAIN_DATE, lambda texts: pc.strftime(texts.cast(pa.date32()), form))
    if column.kind == "time":
        return _each_plain(array, _PLAIN_TIME, lambda texts: _times(texts, form))
    return _each_plain(array, _PLAIN_MOMENT, lambda texts: _moments(texts, zone, form))


def in_zone(array: pa.Array[Any], zone: str) -> pa.Array[Any]:
    """Zoned moments with the offset of a zone (RFC 3339) instead of UTC; one whose offset has seconds stays."""
    if zone == "UTC":
        return array

    def made(texts: pa.Array[Any]) -> pa.Array[Any]:
        moments = _utc(texts)
        local, odd = _local(moments, zone), _odd_offset(moments, zone)
        offset = pc.replace_substring_regex(pc.strftime(local, "%z"), r"^(...)(..)$", r"\1:\2")
        whole = pc.binary_join_element_wise(pc.strftime(local, "%Y-%m-%dT%H:%M:%S"), _fraction(texts), offset, "")
        return pc.if_else(odd, texts, whole)

    return _each_plain(array, _PLAIN_MOMENT, made)


def local_texts(array: pa.Array[Any], zone: str) -> pa.Array[Any]:
    """Zoned moments as the zone-less timestamps that clocks in a zone show."""

    def made(texts: pa.Array[Any]) -> pa.Array[Any]:
        shown = pc.strftime(_local(_utc(texts), zone), "%Y-%m-%d %H:%M:%S")
        return pc.binary_join_element_wise(shown, _fraction(texts), "")

    return _each_plain(array, _PLAIN_MOMENT, made)


def _utc(texts: pa.Array[Any]) -> pa.Array[Any]:
    """Moments in whole seconds, for a style shows fractions where it names them, and only there."""
    whole = pc.replace_substring_regex(texts, r"(\.\d+)?Z?$", "")
    return pc.replace_substring(whole, "T", " ").cast(pa.timestamp("s"))


def _fraction(texts: pa.Array[Any]) -> pa.Array[Any]:
    """The fraction of the second with its point, as the source gave it; empty where there is none."""
    return pc.replace_substring_regex(texts, r"^[^.]*?(\.\d+)?Z?$", r"\1")


def _local(moments: pa.Array[Any], zone: str) -> pa.Array[Any]:
    return pc.assume_timezone(moments, "UTC").cast(pa.timestamp("s", zone))


def _odd_offset(moments: pa.Array[Any], zone: str) -> pa.Array[Any]:
    """Where local time is off by seconds too, or falls out of the years that RFC 3339 has."""
    local = pc.local_timestamp(_local(moments, zone)).cast(pa.int64())
    minutes = pc.multiply(pc.divide(pc.subtract(local, moments.cast(pa.int64())), 60), 60)
    off = pc.not_equal(pc.subtract(local, moments.cast(pa.int64())), minutes)
    return pc.or_(off, pc.or_(pc.less(local, _FIRST_SECOND), pc.greater(local, _LAST_SECOND)))


_FIRST_SECOND, _LAST_SECOND = -62_135_596_800, 253_402_300_799
"""0001-01-01 00:00:00 and 9999-12-31 23:59:59, in seconds from 1970-01-01."""


def _moments(texts: pa.Array[Any], zone: str, form: str) -> pa.Array[Any]:
    moments = _utc(texts)
    shown = _local(moments, zone) if zone else moments
    micros = pc.utf8_rpad(pc.replace_substring(_fraction(texts), ".", ""), 6, "0")
    parts = [micros if part == "%f" else pc.strftime(shown, part) for part in _parted(form)]
    made = pc.binary_join_element_wise(*parts, "")
    if zone and "z" in marks_of(form):
        made = replaced_where(made, (odd := _odd_offset(moments, zone)), _slowly(texts.filter(odd), zone, form))
    return made


def _parted(form: str) -> list[str]:
    """The style cut around its fractions, which strftime here does not know."""
    made = [""]
    for part in re.findall("%.|[^%]+", form):
        made[-1:] = [made[-1], part, ""] if part == "%f" else [made[-1] + part]
    return [part for part in made if part]


def _slowly(texts: pa.Array[Any], zone: str, form: str) -> pa.Array[Any]:
    """The few moments whose offset has seconds, which only the standard library writes."""
    moments = [datetime.fromisoformat(str(text)).astimezone(ZoneInfo(zone)) for text in texts.to_pylist()]
    return pa.array([moment.strftime(form) for moment in moments], pa.string())


def _each_plain(array: pa.Array[Any], pattern: str, made: Any) -> pa.Array[Any]:
    """``made`` of the members that look like the pattern; the others (infinity, years beyond 9999) as they are."""
    plain = pc.fill_null(pc.match_substring_regex(array, pattern), False)
    return replaced_where(array, plain, made(array.filter(plain)))


def _times(texts: pa.Array[Any], form: str) -> pa.Array[Any]:
    days = [datetime.fromisoformat(f"2000-01-01 {text}") for text in texts.to_pylist()]
    return pa.array([day.strftime(form) for day in days], pa.string())


def _numbers(array: pa.Array[Any], form: str, options: Mapping[str, Any]) -> pa.Array[Any]:
    thousands, sign = options["thousands_separator"], options["decimal_separator"]
    found = NUMBER_FORM.fullmatch(form) if form else None
    if found:
        thousands = thousands or ("" if not found.group(1) else "," if sign == "." else ".")
        array = rounded(array, form)
    if sign != ".":
        array = _each_plain(array, _FINITE_NUMBER, lambda texts: pc.replace_substring(texts, ".", sign, max_replacements=1))
    if thousands:
        plain = _PLAIN_NUMBER.replace(r"\.", re.escape(sign))
        return _each_plain(array, plain, lambda texts: _grouped(texts, thousands, sign))
    return array


def rounded(array: pa.Array[Any], form: str) -> pa.Array[Any]:
    """Numbers with as many places as the form has, half away from zero; infinities and NaN as they are."""
    found = NUMBER_FORM.fullmatch(form)
    if not found:
        return array
    places = len(found.group(3) or "")

    def made(texts: pa.Array[Any]) -> pa.Array[Any]:
        unit = Decimal(1).scaleb(-places)
        with localcontext() as context:
            context.prec = (pc.max(pc.binary_length(texts)).as_py() or 0) + places + _LARGEST_EXPONENT
            values = [Decimal(str(text)).quantize(unit, ROUND_HALF_UP) for text in texts.to_pylist()]
        return pa.array([format(value if value else value.copy_abs(), "f") for value in values], pa.string())

    return _each_plain(array, _FINITE_NUMBER, made)


_LARGEST_EXPONENT = 330
"""More than the exponent of any double."""


def _grouped(texts: pa.Array[Any], thousands: str, sign: str) -> pa.Array[Any]:
    made = []
    for text in texts.to_pylist():
        whole, point, rest = str(text).partition(sign)
        minus = "-" if whole.startswith("-") else ""
        digits = whole.removeprefix("-")
        head = len(digits) % 3
        groups = ([digits[:head]] if head else []) + [digits[i : i + 3] for i in range(head, len(digits), 3)]
        made.append(f"{minus}{thousands.join(groups)}{point}{rest}")
    return pa.array(made, pa.string())
