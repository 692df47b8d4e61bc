"""Values of documents, as texts: each type of BSON in its canonical form (core.results.columns), many at a time.

Whoever asks gives the bytes of a batch and the places where the values begin, in ascending order.
"""

from __future__ import annotations

import base64
import json
import struct
import uuid
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa

from ..errors import StatementFailed
from ..results.arrow_text import canonical_array
from ..results.columns import float_text

Places = np.ndarray[tuple[int], np.dtype[np.int64]]

DOUBLE, STRING, OBJECT, ARRAY, BINARY, UNDEFINED, IDENTIFIER, BOOLEAN, MOMENT, NULL = range(1, 11)
REGEX, POINTER, CODE, SYMBOL, SCOPED_CODE, INT32, TIMESTAMP, INT64, DECIMAL = range(11, 20)
LEAST, MOST = 0xFF, 0x7F
UUID = 0x105
"""Of our own: a binary value of that subtype."""
_FIXED = {DOUBLE: 8, UNDEFINED: 0, IDENTIFIER: 12, BOOLEAN: 1, MOMENT: 8, NULL: 0, INT32: 4, TIMESTAMP: 8, INT64: 8,
          DECIMAL: 16, LEAST: 0, MOST: 0}  # fmt: skip
_SAID = {STRING: 4, CODE: 4, SYMBOL: 4, OBJECT: 0, ARRAY: 0, SCOPED_CODE: 0, BINARY: 5, POINTER: 16}
"""Bytes beside those whose number stands first."""
_LEAST_SAID = {STRING: 1, CODE: 1, SYMBOL: 1, OBJECT: 5, ARRAY: 5, SCOPED_CODE: 14, BINARY: 0, POINTER: 1}
KINDS: Mapping[int, tuple[str, str]] = {
    DOUBLE: ("float", "double"), STRING: ("text", "string"), OBJECT: ("json", "object"), ARRAY: ("json", "array"),
    BINARY: ("binary", "binary"), IDENTIFIER: ("text", "objectId"), BOOLEAN: ("boolean", "bool"), MOMENT: ("zoned", "date"),
    UUID: ("text", "uuid"), REGEX: ("text", "regex"), POINTER: ("json", "dbPointer"), CODE: ("text", "javascript"),
    SYMBOL: ("text", "symbol"),
    SCOPED_CODE: ("json", "javascriptWithScope"), INT32: ("integer", "int"), TIMESTAMP: ("text", "timestamp"),
    INT64: ("integer", "long"), DECIMAL: ("decimal", "decimal"), LEAST: ("text", "minKey"), MOST: ("text", "maxKey"),
}  # fmt: skip
"""Our kind of each type that has values, and what the stores call it."""
_HEX = np.array([[ord(sign) for sign in f"{byte:02x}"] for byte in range(256)], np.uint8)
_BIAS, _LOW_BITS = 6176, (1 << 49) - 1
_FIRST, _LAST = -62_135_596_800_000, 253_402_300_799_999
"""Milliseconds of the years 1 and 9999, between which everybody can read a moment."""
_UUID = 4
ROOM = 64
"""Zeros behind the bytes of a batch."""


@dataclass(frozen=True, slots=True)
class Bytes:
    """A batch's bytes, and the same as numbers that may begin anywhere. Zeros stand behind: nothing reads beyond them."""

    whole: bytes
    data: np.ndarray[Any, np.dtype[np.uint8]]
    short: np.ndarray[Any, np.dtype[np.int32]]
    long: np.ndarray[Any, np.dtype[np.int64]]
    words: np.ndarray[Any, np.dtype[np.uint64]]
    end: int

    @classmethod
    def of(cls, raw: bytes) -> Bytes:
        padded = raw + bytes(ROOM)

        def seen(kind: str, width: int) -> Any:
            return np.ndarray((len(padded) - width + 1,), kind, padded, strides=(1,))

        return cls(padded, np.frombuffer(padded, np.uint8), seen("<i4", 4), seen("<i8", 8), seen("<u8", 8), len(raw))

    def beginnings(self) -> Places:
        """Where each of the documents begins that stand one after the other. Raises StatementFailed."""
        found, at = [], 0
        while at < self.end:
            found.append(at)
            [size] = struct.unpack_from("<i", self.whole, at)
            if size < 5 or at + size > self.end:
                raise damaged()
            at += size
        return np.array(found, np.int64)


def damaged() -> StatementFailed:
    """What the source sent is no document."""
    return StatementFailed("the source sent a document that cannot be read.", "Have the server's data checked.")


def sizes(source: Bytes, code: int, at: Places) -> Places | int:
    """Bytes of values of one type. Raises StatementFailed."""
    if code in _FIXED:
        return _FIXED[code]
    if code in _SAID:
        said = source.short[at].astype(np.int64)
        if len(said) and (said.min() < _LEAST_SAID[code] or (at + said).max() > source.end):
            raise damaged()
        return said + _SAID[code]
    if code == REGEX:
        return np.array([size_of(source.whole, code, each) for each in at.tolist()], np.int64)
    raise damaged()


def texts(source: Bytes, code: int, at: Places) -> pa.Array[Any]:
    """Canonical texts of values of one type."""
    make = _MAKERS.get(code)
    if make is not None:
        return make(source, at)
    return pa.array([_alone(source.whole, code, each) for each in at.tolist()], pa.string())


def _buffer(array: Any) -> pa.Buffer:
    return pa.py_buffer(array)


def _strings(source: Bytes, at: Places) -> pa.Array[Any]:
    offsets = np.empty(2 * len(at), np.int32)
    offsets[0::2] = at + 4
    offsets[1::2] = at + 3 + source.short[at]
    every = pa.StringArray.from_buffers(2 * len(at) - 1, _buffer(offsets), _buffer(source.data))
    made = every.take(pa.array(np.arange(0, 2 * len(at), 2)))
    try:
        made.validate(full=True)
    except pa.ArrowInvalid:  # not all of it is UTF-8: the bytes are shown that are none
        made = pa.array([_text(source.whole, each) for each in at.tolist()], pa.string())
    return made


def _moments(source: Bytes, at: Places) -> pa.Array[Any]:
    when = source.long[at]
    if len(when) and (when.min() < _FIRST or when.max() > _LAST):
        return pa.array([moment_text(each) for each in when.tolist()], pa.string())
    whole = not (when % 1000).any()
    made = pa.array(when // 1000 if whole else when, pa.timestamp("s" if whole else "ms", "UTC"))
    return canonical_array(made)


def moment_text(milliseconds: int) -> str:
    """A moment from milliseconds after 1970; also of years that have more figures than four."""
    text = str(np.datetime_as_string(np.datetime64(milliseconds, "ms")))
    return (text.rstrip("0").rstrip(".") if "." in text else text) + "Z"


def _identifiers(source: Bytes, at: Places) -> pa.Array[Any]:
    figures = _HEX[source.data[at[:, None] + np.arange(12)]].reshape(-1)
    offsets = np.arange(0, 24 * len(at) + 1, 24, dtype=np.int32)
    return pa.StringArray.from_buffers(len(at), _buffer(offsets), _buffer(figures))


def _decimals(source: Bytes, at: Places) -> pa.Array[Any]:
    low, high = source.words[at], source.words[at + 8]
    exponent = ((high >> np.uint64(49)) & np.uint64(0x3FFF)).astype(np.int64) - _BIAS
    minus = (high >> np.uint64(63)).astype(bool)
    # Whole numbers of 63 bits with up to 18 decimals are done in whole arrays, those of as many decimals together.
    plain = ((high & np.uint64(_LOW_BITS)) == 0) & (low < np.uint64(1 << 63)) & (exponent <= 0) & (exponent >= -18)
    plain &= (((high >> np.uint64(61)) & np.uint64(3)) != np.uint64(3)) & ~(minus & (low == 0))
    odd = [decimal_text(each, other) for each, other in zip(low[~plain].tolist(), high[~plain].tolist(), strict=True)]
    pieces: list[pa.Array[Any]] = [pa.array(odd, pa.string())]
    places: list[Any] = [np.flatnonzero(~plain)]
    for power in np.unique(exponent[plain]).tolist():
        those = np.flatnonzero(plain & (exponent == power))
        whole = low[those].astype(np.int64)
        unscaled = np.empty((len(those), 2), np.int64)
        unscaled[:, 0] = np.where(minus[those], -whole, whole)
        unscaled[:, 1] = unscaled[:, 0] >> 63
        kind = pa.decimal128(38, -power)
        pieces.append(canonical_array(pa.Array.from_buffers(kind, len(those), [None, _buffer(unscaled)])))
        places.append(those)
    order = np.empty(len(at), np.int64)
    order[np.concatenate(places)] = np.arange(len(at))
    return pa.concat_arrays(pieces).take(pa.array(order))


def decimal_text(low: int, high: int) -> str:
    """A number of IEEE 754-2008 decimal128, in its binary encoding, from its two halves."""
    minus = "-" if high >> 63 else ""
    if (high >> 58) & 31 == 31:
        return "NaN"
    if (high >> 58) & 31 == 30:
        return f"{minus}Infinity"
    if (high >> 61) & 3 == 3:  # a coefficient of more than 34 figures, which stands for zero
        exponent, whole = (high >> 47) & 0x3FFF, 0
    else:
        exponent, whole = (high >> 49) & 0x3FFF, (high & _LOW_BITS) << 64 | low
    if whole >= 10**34:
        whole = 0
    return format(Decimal((int(bool(minus)), tuple(map(int, str(whole))), exponent - _BIAS)), "f")


_MAKERS: Mapping[int, Callable[[Bytes, Places], pa.Array[Any]]] = {
    DOUBLE: lambda source, at: canonical_array(pa.array(source.words[at].view(np.float64))),
    STRING: _strings,
    CODE: _strings,
    SYMBOL: _strings,
    IDENTIFIER: _identifiers,
    BOOLEAN: lambda source, at: canonical_array(pa.array(source.data[at] != 0)),
    MOMENT: _moments,
    INT32: lambda source, at: pa.array(source.short[at]).cast(pa.string()),
    INT64: lambda source, at: pa.array(source.long[at]).cast(pa.string()),
    DECIMAL: _decimals,
}


def _text(whole: bytes, at: int) -> str:
    [size] = struct.unpack_from("<i", whole, at)
    return whole[at + 4 : at + 3 + size].decode("utf-8", "backslashreplace")


def _alone(whole: bytes, code: int, at: int) -> str:
    """One value of a type of which there are seldom many."""
    match code:
        case 0xFF | 0x7F:
            return "MinKey" if code == LEAST else "MaxKey"
        case 17:
            count, seconds = struct.unpack_from("<II", whole, at)
            return f"{seconds}:{count}"
        case 11:
            pattern, options = whole[at : whole.index(0, whole.index(0, at) + 1)].split(b"\0")
            return f"/{pattern.decode()}/{options.decode()}"
        case 0x105:
            return str(uuid.UUID(bytes=whole[at + 5 : at + 21]))
        case 5:
            [size] = struct.unpack_from("<i", whole, at)
            return base64.b64encode(whole[at + 5 : at + 5 + size]).decode()
    return json_text(whole, code, at)


def json_text(whole: bytes, code: int, at: int) -> str:  # noqa: C901 - one case a type
    """A value as JSON (RFC 8259): numbers by all of their figures, what JSON has no type for as its canonical text."""
    match code:
        case 3:
            pairs = [f"{_quoted(name)}:{json_text(whole, kind, place)}" for name, kind, place in elements(whole, at)]
            return "{" + ",".join(pairs) + "}"
        case 4:
            return "[" + ",".join(json_text(whole, kind, place) for _, kind, place in elements(whole, at)) + "]"
        case 6 | 10:
            return "null"
        case 1:
            return _number(float_text(repr(struct.unpack_from("<d", whole, at)[0])))
        case 19:
            return _number(decimal_text(*struct.unpack_from("<QQ", whole, at)))
        case 16:
            return str(struct.unpack_from("<i", whole, at)[0])
        case 18:
            return str(struct.unpack_from("<q", whole, at)[0])
        case 8:
            return "true" if whole[at] else "false"
        case 2 | 13 | 14:
            return _quoted(_text(whole, at))
        case 7:
            return f'"{whole[at : at + 12].hex()}"'
        case 9:
            return f'"{moment_text(struct.unpack_from("<q", whole, at)[0])}"'
        case 12:
            behind = at + size_of(whole, code, at) - 12
            return f'{{"$ref":{_quoted(_text(whole, at))},"$id":"{whole[behind : behind + 12].hex()}"}}'
        case 15:
            return f'{{"$code":{_quoted(_text(whole, at + 4))}}}'
    if code not in KINDS:
        raise damaged()
    return _quoted(_alone(whole, is_uuid(whole, at) if code == BINARY else code, at))


def is_uuid(whole: bytes, at: int) -> int:
    """The code of a binary value: of its own where it is a UUID (RFC 9562)."""
    return UUID if whole[at + 4] == _UUID and whole[at : at + 4] == b"\x10\0\0\0" else BINARY


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)


def _number(figures: str) -> str:
    return f'"{figures}"' if figures.lstrip("-") in ("NaN", "Infinity") else figures


def headers(whole: bytes, at: int) -> Iterator[tuple[int, int]]:
    """Of each value of one document, where its header begins and where it stands itself."""
    head = at + 4
    while whole[head]:
        here = whole.index(0, head + 1) + 1
        yield head, here
        head = here + size_of(whole, whole[head], here)


def elements(whole: bytes, at: int) -> Iterator[tuple[str, int, int]]:
    """Name, type and place of each value of one document."""
    for head, here in headers(whole, at):
        yield whole[head + 1 : here - 1].decode("utf-8", "backslashreplace"), whole[head], here


def size_of(whole: bytes, code: int, at: int) -> int:
    """Bytes of one value. Raises StatementFailed."""
    if code in _FIXED:
        return _FIXED[code]
    if code in _SAID:
        [said] = struct.unpack_from("<i", whole, at)
        if said < _LEAST_SAID[code]:
            raise damaged()
        return int(said) + _SAID[code]
    if code == REGEX:
        return whole.index(0, whole.index(0, at) + 1) + 1 - at
    raise damaged()
