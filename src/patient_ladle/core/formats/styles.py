"""How canonical texts are written for a reader who wants them otherwise: dates, times, zones, numbers, booleans, binary."""

from __future__ import annotations

import base64
import re
from collections.abc import Mapping
from datetime import datetime
from decimal import ROUND_HALF_UP, Decimal, localcontext
from typing import Any
from zoneinfo import ZoneInfo

import pyarrow as pa
import pyarrow.compute as pc

from ..columns import NUMERIC, Column
from ..errors import BadInput
from ..options import Option
from .base import chosen, constant, replaced_where

_PLAIN_DATE = r"^\d{4}-\d\d-\d\d$"
_PLAIN_MOMENT = r"^\d{4}-\d\d-\d\d[ T]\d\d:\d\d:\d\d(\.\d{1,6})?Z?$"
_PLAIN_TIME = r"^([01]\d|2[0-3]):\d\d:\d\d(\.\d{1,6})?$"
_PLAIN_NUMBER = r"^-?\d+(\.\d+)?$"
NUMBER_FORM = re.compile(r"(#,##)?0(\.(0+))?")


def checked_zone(name: str) -> str:
    """An IANA name of a time zone. Raises BadInput."""
    try:
        ZoneInfo(name)
    except (ValueError, OSError, KeyError):
        raise BadInput(f"'{name}' is not a time zone.", "Take an IANA name such as Europe/London, or UTC.") from None
    return name


def checked_form(form: str) -> str:
    """A strftime style, or nothing. Raises BadInput."""
    if form and "%" not in form:
        raise BadInput(f"'{form}' is not a style of dates.", "Use strftime's marks, such as %d/%m/%Y or %H:%M.")
    for mark in re.findall(r"%(.?)", form):
        if not mark or mark not in "aAbBdfHIjmMpSUVuwWyYGZz%":
            raise BadInput(
                f"'%{mark}' in '{form}' is not a mark of a date.", "Use strftime's marks, such as %d/%m/%Y or %H:%M."
            )
    return form


ZONE = Option("zone", "UTC", "time zone in which moments with a zone are written, such as Europe/London", check=checked_zone)
BINARY = Option("binary", "base64", "how binary values are written", ("base64", "hex"))
STYLE_OPTIONS = (
    Option("date_form", "", "strftime style of dates, such as %d/%m/%Y; ISO 8601 unless set", check=checked_form),
    Option(
        "timestamp_form", "", "strftime style of timestamps, such as %d/%m/%Y %H:%M; ISO 8601 unless set", check=checked_form
    ),
    Option("time_form", "", "strftime style of times, such as %H:%M; ISO 8601 unless set", check=checked_form),
    ZONE,
    Option("decimal_sign", ".", "between the whole and the fraction of a number", (".", ",")),
    Option("thousands_sign", "", "between groups of three digits", ("", ",", ".", " ", "'", "\u202f")),
    Option("true_word", "true", "how true is written"),
    Option("false_word", "false", "how false is written"),
    BINARY,
)


def styled(column: Column, array: pa.Array, numbers: pa.Array | None, options: Mapping[str, Any]) -> pa.Array:
    """The cells as the options and the column's own form want them; a value that a style cannot take stays canonical."""
    kind = column.kind
    if kind in ("date", "timestamp", "zoned", "time"):
        return _moments(column, array, options)
    if kind in NUMERIC:
        return _numbers(array, column.form, options)
    if kind == "any" and numbers is not None:
        return pc.if_else(numbers, _numbers(array, "", options), array)
    if kind == "boolean" and (options["true_word"], options["false_word"]) != ("true", "false"):
        return chosen(pc.equal(array, constant("true")), options["true_word"], options["false_word"])
    if kind == "binary":
        return in_hex(array) if options["binary"] == "hex" else array
    return array


def leaves_alone(column: Column, options: Mapping[str, Any]) -> bool:
    """Whether ``styled`` gives back what it is given, for every value."""
    return not column.form and all(options[o.name] == o.default for o in STYLE_OPTIONS)


def in_hex(array: pa.Array) -> pa.Array:
    """Binary cells in hex instead of base64."""
    return pa.array([None if v is None else base64.b64decode(v).hex() for v in array.to_pylist()], pa.string())


def in_zone(array: pa.Array, zone: str) -> pa.Array:
    """Zoned moments with the offset of a zone (RFC 3339) instead of UTC."""
    if zone == "UTC":
        return array
    return _each_plain(array, _PLAIN_MOMENT, lambda texts: _local(texts, zone, "%Y-%m-%dT%H:%M:%S%z"))


def _local(texts: pa.Array, zone: str, form: str) -> pa.Array:
    moments = pc.replace_substring(texts, "Z", "").cast(pa.timestamp("us"))
    local = pc.assume_timezone(moments, "UTC").cast(pa.timestamp("us", zone))
    made = _trimmed(pc.strftime(local, form))
    return pc.replace_substring_regex(made, r"([+-]\d\d)(\d\d)$", r"\1:\2") if form.endswith("%z") else made


def _trimmed(texts: pa.Array) -> pa.Array:
    """Without the fraction that strftime writes for whole seconds, and without zeros at the end of others."""
    whole = pc.replace_substring_regex(texts, r"(:\d\d)\.0+(\D|$)", r"\1\2")
    return pc.replace_substring_regex(whole, r"(:\d\d\.\d*?[1-9])0+(\D|$)", r"\1\2")


def _each_plain(array: pa.Array, pattern: str, made: Any) -> pa.Array:
    """``made`` of the members that look like the pattern; the others (infinity, years beyond 9999) as they are."""
    plain = pc.fill_null(pc.match_substring_regex(array, pattern), False)
    return replaced_where(array, plain, made(array.filter(plain)))


def _moments(column: Column, array: pa.Array, options: Mapping[str, Any]) -> pa.Array:
    key = {"date": "date_form", "time": "time_form"}.get(column.kind, "timestamp_form")
    form = column.form or options[key]
    if column.kind == "zoned":
        if not form:
            return in_zone(array, options["zone"])
        return _each_plain(array, _PLAIN_MOMENT, lambda texts: _local(texts, options["zone"], form))
    if not form:
        return array
    if column.kind == "date":
        return _each_plain(array, _PLAIN_DATE, lambda texts: pc.strftime(texts.cast(pa.date32()), form))
    if column.kind == "time":
        return _each_plain(array, _PLAIN_TIME, lambda texts: _times(texts, form))
    return _each_plain(array, _PLAIN_MOMENT, lambda texts: _trimmed(pc.strftime(texts.cast(pa.timestamp("us")), form)))


def _times(texts: pa.Array, form: str) -> pa.Array:
    days = [datetime.fromisoformat(f"2000-01-01 {text}") for text in texts.to_pylist()]
    return pa.array([day.strftime(form) for day in days], pa.string())


def _numbers(array: pa.Array, form: str, options: Mapping[str, Any]) -> pa.Array:
    thousands, sign = options["thousands_sign"], options["decimal_sign"]
    found = NUMBER_FORM.fullmatch(form) if form else None
    if found:
        thousands = thousands or ("" if not found.group(1) else "," if sign == "." else ".")
        array = _each_plain(array, _PLAIN_NUMBER, lambda texts: _rounded(texts, len(found.group(3) or "")))
    if thousands:
        return _each_plain(array, _PLAIN_NUMBER, lambda texts: _grouped(texts, thousands, sign))
    return array if sign == "." else pc.replace_substring(array, ".", sign, max_replacements=1)


def _rounded(texts: pa.Array, places: int) -> pa.Array:
    unit = Decimal(1).scaleb(-places)
    with localcontext() as context:
        context.prec = 100
        made = [format(Decimal(text).quantize(unit, ROUND_HALF_UP), "f") for text in texts.to_pylist()]
    return pa.array(made, pa.string())


def _grouped(texts: pa.Array, thousands: str, sign: str) -> pa.Array:
    made = []
    for text in texts.to_pylist():
        whole, point, rest = text.partition(".")
        minus = "-" if whole.startswith("-") else ""
        digits = whole.removeprefix("-")
        head = len(digits) % 3
        groups = ([digits[:head]] if head else []) + [digits[i : i + 3] for i in range(head, len(digits), 3)]
        made.append(f"{minus}{thousands.join(groups)}{point and sign}{rest}")
    return pa.array(made, pa.string())
