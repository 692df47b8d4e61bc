"""Canonical text (core.results.columns) of Arrow arrays, for sources that give columns instead of rows.

Kernels do the common types; only types without one (intervals, nested values, binary) go value by value.
"""

from __future__ import annotations

import base64
import json
from collections.abc import Callable
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from math import isfinite
from typing import Any, cast

import pyarrow as pa
import pyarrow.compute as pc

from .columns import canonical, float_text, float_texts

_TRAILING = r"(\.\d*?)0+$"


def kind_of(kind: pa.DataType) -> str:
    """The canonical kind of an Arrow type."""
    types = pa.types
    if types.is_dictionary(kind):
        return kind_of(kind.value_type)
    if types.is_timestamp(kind):
        return "zoned" if kind.tz else "timestamp"
    tests: dict[str, Callable[[pa.DataType], bool]] = {
        "boolean": types.is_boolean, "integer": types.is_integer, "float": types.is_floating, "decimal": types.is_decimal,
        "date": types.is_date, "time": types.is_time, "json": types.is_nested,
    }  # fmt: skip
    for name, test in tests.items():
        if test(kind):
            return name
    binary = types.is_binary(kind) or types.is_large_binary(kind) or types.is_fixed_size_binary(kind)
    return "binary" if binary else "text"


def canonical_array(array: pa.Array[Any]) -> pa.Array[Any]:
    """The array's values as canonical texts; nulls stay null."""
    kind, types = array.type, pa.types
    if types.is_dictionary(kind):
        return canonical_array(cast("Any", array).dictionary_decode())
    if types.is_timestamp(kind):
        return _moments(array)
    if types.is_decimal(kind):
        plain = array.cast(pa.string())
        scientific = pc.match_substring(plain, "E")
        return _by_value(array, lambda value: format(value, "f")) if pc.any(scientific).as_py() else plain
    if types.is_floating(kind):
        return float_texts(array.cast(pa.float32()) if types.is_float16(kind) else array)
    if types.is_time(kind):
        return _trimmed(array.cast(pa.string()))
    if types.is_nested(kind):
        return _by_value(array, lambda value: json.dumps(_plain(value), ensure_ascii=False, separators=(",", ":")))
    if kind_of(kind) == "binary":
        return _by_value(array, lambda value: base64.b64encode(value).decode())
    if types.is_interval(kind) or types.is_duration(kind):
        return _by_value(array, _interval)
    return array.cast(pa.string())


def _by_value(array: pa.Array[Any], text: Any) -> pa.Array[Any]:
    return pa.array([None if value is None else text(value) for value in array.to_pylist()], pa.string())


def _trimmed(texts: pa.Array[Any]) -> pa.Array[Any]:
    """Without the zeros at the end of a fraction."""
    return pc.replace_substring_regex(pc.replace_substring_regex(texts, _TRAILING, r"\1"), r"\.$", "")


def _moments(array: pa.Array[Any]) -> pa.Array[Any]:
    zoned = array.type.tz is not None
    plain = array.cast(pa.timestamp(array.type.unit)) if zoned else array  # the same instants, said in UTC
    texts = _trimmed(plain.cast(pa.string()))
    return pc.replace_substring_regex(texts, r"^(\S+) (.*)$", r"\1T\2Z") if zoned else texts


def _plain(value: Any) -> Any:
    match value:
        case timedelta() | pa.MonthDayNano():  # a tuple, too
            return _interval(value)
        case dict():
            return {str(key): _plain(item) for key, item in value.items()}
        case list() if value and all(isinstance(item, tuple) and len(item) == 2 for item in value):
            return {str(key): _plain(item) for key, item in value}  # a map
        case list() | tuple():
            return [_plain(item) for item in value]
        case float() if not isfinite(value):
            return float_text(repr(value))
        case bytes():
            return base64.b64encode(value).decode()
        case Decimal() | date() | time() | datetime():
            return canonical(value)
    return value


def _interval(value: Any) -> str:
    """ISO 8601, as in ``P1M2DT3S``."""
    if isinstance(value, timedelta):
        months, days, seconds = 0, value.days, Decimal(value.seconds) + Decimal(value.microseconds) / 1_000_000
    else:
        months, days, seconds = value.months, value.days, Decimal(value.nanoseconds) / 1_000_000_000
    clock = f"T{format(seconds.normalize(), 'f')}S" if seconds else ""
    text = f"{f'{months}M' if months else ''}{f'{days}D' if days else ''}{clock}"
    return f"P{text}" if text else "PT0S"
