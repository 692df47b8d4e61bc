"""The same table reckoned slowly, document after document, from what the stores' own library decodes."""

from __future__ import annotations

import json
from datetime import datetime
from decimal import Decimal

import bson
from bson import Binary, Code, Decimal128, Int64, MaxKey, MinKey, ObjectId, Regex, Timestamp
from bson.codec_options import CodecOptions, DatetimeConversion
from bson.datetime_ms import DatetimeMS
from hypothesis import strategies as st

from patient_ladle.core.results.columns import float_text

OPTIONS = CodecOptions(datetime_conversion=DatetimeConversion.DATETIME_MS)
LONG = "a_name_that_is_longer_than_the_zeros_which_stand_behind_the_bytes_of_a_batch"


def moment(value):
    at = value.as_datetime().replace(tzinfo=None) if isinstance(value, DatetimeMS) else value
    text = at.isoformat()
    return (text.rstrip("0").rstrip(".") if "." in text else text) + "Z"


def text_of(value):
    match value:
        case None:
            return None
        case bool():
            return "true" if value else "false"
        case int():
            return str(int(value))
        case float():
            return float_text(repr(value))
        case Code():
            return str(value) if value.scope is None else json.dumps({"$code": str(value)}, ensure_ascii=False)
        case str():
            return value
        case Decimal128():
            number = value.to_decimal()
            return "NaN" if number.is_nan() else format(number, "f")
        case DatetimeMS() | datetime():
            return moment(value)
        case ObjectId():
            return str(value)
        case bytes():
            subtype = value.subtype if isinstance(value, Binary) else 0
            return str(value.as_uuid()) if subtype == 4 and len(value) == 16 else __import__("base64").b64encode(value).decode()
        case Timestamp():
            return f"{value.time}:{value.inc}"
        case MinKey() | MaxKey():
            return type(value).__name__
        case Regex():
            return f"/{value.pattern}/{''.join(sign for sign, flag in zip('imsux', (2, 8, 16, 32, 64), strict=True) if value.flags & flag)}"
    return value


def plain(value):
    """What our JSON must be, once a reader of JSON has read it."""
    if isinstance(value, dict):
        return {name: plain(each) for name, each in value.items()}
    if isinstance(value, list):
        return [plain(each) for each in value]
    if value is None or isinstance(value, (bool, str)):
        return str(value) if isinstance(value, str) else value
    text = text_of(value)
    if isinstance(value, (int, float, Decimal128)) and text.lstrip("-") not in ("NaN", "Infinity"):
        return Decimal(text)
    return text


def read_json(text):
    return json.loads(text, parse_int=Decimal, parse_float=Decimal)


def flat(value, path, depth, row):
    """Into ``row``: text, or plain JSON of what stays whole, by path."""
    for name, each in value.items():
        own = (*path, name)
        if isinstance(each, dict) and each and depth > 0:
            flat(each, own, depth - 1, row)
        elif isinstance(each, (dict, list)):
            row[own] = ("json", plain(each))
        elif each is not None:
            row[own] = text_of(each)


def rows_of(documents, depth=3, unfolded=()):
    """Rows by path, in order."""
    for raw in documents:
        document = bson.decode(raw, OPTIONS)
        if not unfolded:
            row = {}
            flat(document, (), depth, row)
            yield row
            continue
        [name] = unfolded
        rest = {key: each for key, each in document.items() if key != name}
        held = document.get(name)
        for each in (held or [None]) if isinstance(held, list) or held is None else [held]:
            row = {}
            flat(rest, (), depth, row)
            flat({name: each}, (), max(depth, 1), row)
            yield row


moments = st.integers(-62_135_596_800_000, 253_402_300_799_999).map(DatetimeMS)
decimals = st.one_of(
    st.decimals(allow_nan=True, allow_infinity=True, places=None).filter(
        lambda d: not d.is_snan() and len(d.as_tuple().digits) <= 34
    ),
    st.integers(-(10**12), 10**12).map(lambda n: Decimal(n).scaleb(-2)),
    st.sampled_from(["0", "-0.00", "1E+10", "9.999999999999999999999999999999999E+6144", "1E-6176", "12.50"]).map(Decimal),
).map(Decimal128)
texts = st.text(st.characters(exclude_categories=["Cs"]), max_size=12)
scalars = st.one_of(
    st.none(), st.booleans(), st.integers(-(2**31), 2**31 - 1), st.integers(-(2**63), 2**63 - 1).map(Int64), st.floats(),
    texts, decimals, moments, st.binary(min_size=12, max_size=12).map(ObjectId), st.binary(max_size=20),
    st.binary(min_size=16, max_size=16).map(lambda b: Binary(b, 4)), st.sampled_from([MinKey(), MaxKey(), Timestamp(7, 1), Regex("^a", "i"), Code("f()")]),
)  # fmt: skip


def documents(names):
    """Uneven ones: nested objects and lists, of fields whose order and types differ."""
    values = st.recursive(
        scalars, lambda inner: st.lists(inner, max_size=3) | st.dictionaries(names, inner, max_size=3), max_leaves=6
    )
    return st.lists(st.dictionaries(names, values, max_size=6), max_size=12)
