"""What the combining engine keeps a column in: chosen by its kind, widened as values ask for it, text where nothing else
holds every value as it is.

Each batch is cast by Arrow, which refuses what would be rounded or cut; floats and moments are cast back and compared. A
column that fails is text from then on, and says so.
"""

from __future__ import annotations

import base64
import json
import re
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import time
from typing import Any, cast

import pyarrow as pa
import pyarrow.compute as pc

from patient_ladle.core.results.arrow_text import canonical_array
from patient_ladle.core.results.columns import Column

UNKNOWN = '"NULL"'
"""The type of a column whose values say what they are, until they are there."""
TEXT = "VARCHAR"
_BY_KIND = {
    "text": TEXT, "integer": "BIGINT", "float": "DOUBLE", "boolean": "BOOLEAN", "date": "DATE", "time": "TIME",
    "timestamp": "TIMESTAMP", "zoned": "TIMESTAMP WITH TIME ZONE", "binary": "BLOB", "json": "JSON", "any": UNKNOWN,
}  # fmt: skip
_ARROW: dict[str, pa.DataType] = {
    TEXT: pa.string(), "JSON": pa.string(), "BIGINT": pa.int64(), "DOUBLE": pa.float64(), "BOOLEAN": pa.bool_(),
    "DATE": pa.date32(), "TIMESTAMP": pa.timestamp("us"), "TIMESTAMP WITH TIME ZONE": pa.timestamp("us", "UTC"),
}  # fmt: skip
_DECIMAL = re.compile(r"DECIMAL\((\d+), ?(\d+)\)")
_DECLARED = re.compile(r"(?i)^(?:numeric|decimal|dec)\((\d+)(?:, ?(\d+))?\)")
_NARROW, _WIDE = 18, 38
_WHOLE_SECONDS = 19
"""Signs of a moment without a fraction or a zone."""
_USUAL_PLACES = 6
"""Of a decimal whose type says none, before any value is seen."""
AS_TEXT = {
    "DOUBLE": "regexp_replace(replace(cast({0} as varchar), 'inf', 'Infinity'), '\\.0$', '')",
    "TIMESTAMP WITH TIME ZONE": "replace(regexp_replace(cast(timezone('UTC', {0}) as varchar), '$', 'Z'), ' ', 'T')",
    "BLOB": "to_base64({0})",
}
"""How a column that was kept in a type becomes the texts it came as; of others the engine's own text is that."""


def type_of(column: Column) -> str:
    """The first choice for a column, before any of its values is seen."""
    if column.kind != "decimal":
        return _BY_KIND[column.kind]
    declared = _DECLARED.match(column.source_type)
    if declared and int(declared[1]) <= _WIDE:
        return f"DECIMAL({max(int(declared[1]), _NARROW)}, {int(declared[2] or 0)})"
    return f"DECIMAL({_WIDE}, {_USUAL_PLACES})"


class Unfit(Exception):
    """Values of a batch are not held by a type; ``row``: the first such, from 0, ``value``: its text."""

    def __init__(self, row: int, value: str) -> None:
        super().__init__(value)
        self.row, self.value = row, value


@dataclass(slots=True)
class Kept:
    """One column while it is loaded. ``type``: the engine's; ``note``: what a reader must know of it."""

    column: Column
    type: str = ""
    note: str = ""
    settled: bool = field(default=False)
    """A value was seen, so that the type holds something."""
    whole: int = 0
    places: int = 0
    """The most digits before and behind the point of decimals so far."""

    def __post_init__(self) -> None:
        self.type = type_of(self.column)
        if self.column.kind == "decimal" and not _DECLARED.match(self.column.source_type):
            self.type = f"DECIMAL({_NARROW}, 0)"
        if self.type == UNKNOWN:
            self.type = "BIGINT"  # while all are null; then the first values say

    def take(self, cells: pa.Array[Any], numbers: pa.Array[Any] | None, rows: int) -> tuple[pa.Array[Any], str]:
        """The batch's values as they are kept, and the type that the rows before must be changed to; empty: they need not be.

        ``rows``: how many came before.
        """
        if cells.null_count == len(cells):
            return pa.array([None] * len(cells), _arrow_of(self.type)), ""
        before, missed = self.type, ("", Unfit(0, ""))
        for wanted in self._choices(cells, numbers):
            try:
                made = _cast(cells, wanted)
            except Unfit as unfit:
                missed = (wanted, unfit)
                continue
            if wanted == TEXT and missed[0]:
                self._becomes_text(*missed, rows)  # the last choice but one says why
            self.settled, self.type = True, wanted
            return made, "" if wanted == before else wanted
        raise AssertionError("a text holds everything")

    def _choices(self, cells: pa.Array[Any], numbers: pa.Array[Any] | None) -> list[str]:
        if self.column.kind == "any":
            return self._of_values(cells, numbers)
        if self.type == TEXT:
            return [TEXT]
        if self.column.kind == "integer":
            return [*([self.type] if self.type == "BIGINT" else []), f"DECIMAL({_WIDE}, 0)", TEXT]
        return [*self._decimals(cells), TEXT] if self.column.kind == "decimal" else [self.type, TEXT]

    def _decimals(self, cells: pa.Array[Any]) -> list[str]:
        """As it is where that holds all digits seen so far, else the narrowest that does."""
        self.whole, self.places = max(self.whole, _whole_of(cells)), max(self.places, _places_of(cells))
        found = _DECIMAL.fullmatch(self.type)
        assert found is not None
        width, places = int(found[1]), int(found[2])
        if self.places <= places and self.whole <= width - places:
            return [self.type]
        wider = [f"DECIMAL({each}, {self.places})" for each in (_NARROW, _WIDE) if self.whole + self.places <= each]
        if not wider:
            self.note = f"text here: its values need {self.whole + self.places} digits, and {_WIDE} are kept"
        return wider[:1]

    def _of_values(self, cells: pa.Array[Any], numbers: pa.Array[Any] | None) -> list[str]:
        """Numbers where every value is one; a column of both is text, where 1 and '1' are the same."""
        count = 0 if numbers is None else pc.sum(pc.and_(numbers, cells.is_valid())).as_py() or 0
        if count == len(cells) - cells.null_count and self.type != TEXT:
            whole = pc.all(pc.match_substring_regex(cells, r"^-?\d+$")).as_py()
            return ["BIGINT", TEXT] if whole and self.type == "BIGINT" else ["DOUBLE", TEXT]
        if count or self.settled:
            self.note = "of numbers and texts: the number 1 and the text '1' are equal in it"
        return [TEXT]

    def _becomes_text(self, wanted: str, unfit: Unfit, rows: int) -> None:
        self.note = (
            f"text here: row {rows + unfit.row + 1:,} has '{unfit.value[:60]}', which no {wanted.lower()} holds as it is"
        )

    def back(self, name: str) -> str:
        """An expression of the texts that the kept values came as."""
        return AS_TEXT.get(self.type, "cast({0} as varchar)").format(name)


def _arrow_of(type_: str) -> pa.DataType:
    found = _DECIMAL.fullmatch(type_)
    if found:
        return pa.decimal128(int(found[1]), int(found[2]))
    return _ARROW.get(type_, pa.binary() if type_ == "BLOB" else pa.time64("us"))


def _whole_of(cells: pa.Array[Any]) -> int:
    """The most digits before a point."""
    point = pc.find_substring(cells, ".")
    lengths = pc.if_else(pc.less(point, 0), pc.binary_length(cells), point)
    return max(1, int(pc.max(pc.subtract(lengths, pc.starts_with(cells, "-").cast(pa.int32()))).as_py()))


def _places_of(cells: pa.Array[Any]) -> int:
    """The most digits behind a point."""
    point = pc.find_substring(cells, ".")
    places = pc.if_else(pc.less(point, 0), 0, pc.subtract(pc.subtract(pc.binary_length(cells), point), 1))
    return int(pc.max(places).as_py())


def _cast(cells: pa.Array[Any], type_: str) -> pa.Array[Any]:
    """Every value as it is, in another type. Raises Unfit."""
    if type_ == TEXT:
        return cells
    readers: dict[str, Callable[[str], Any]] = {"TIME": _time, "BLOB": base64.b64decode, "JSON": _json}
    by_value = readers.get(type_)
    if by_value is not None:
        return pa.array(_each(cells, by_value), _arrow_of(type_))
    try:
        made = cells.cast(_arrow_of(type_))
    except pa.ArrowException:
        raise _first_unfit(cells, _arrow_of(type_)) from None
    if type_ != "BIGINT":
        same = pc.equal(_texts_of(made, cells), cells)
        if not pc.all(same).as_py() and _DECIMAL.fullmatch(type_):
            same = pc.equal(_without_zeros(made.cast(pa.string())), _without_zeros(cells))
        if not pc.all(same).as_py():
            row = pc.index(same, False).as_py()
            raise Unfit(row, str(cells[row].as_py()))
    return made


def _without_zeros(cells: pa.Array[Any]) -> pa.Array[Any]:
    """Texts of decimals without what their places add."""
    shorter: pa.Array[Any] = pc.replace_substring_regex(cells, r"(\.\d*?)0+$", r"\1")
    return cast("pa.Array[Any]", pc.replace_substring_regex(shorter, r"\.$", ""))


def _texts_of(made: pa.Array[Any], cells: pa.Array[Any]) -> pa.Array[Any]:
    """The canonical texts of what was cast; moments of whole seconds, as most are, by a kernel that knows no fractions."""
    zoned = pa.types.is_timestamp(made.type) and made.type.tz is not None
    if pa.types.is_timestamp(made.type) and pc.max(pc.binary_length(cells)).as_py() == _WHOLE_SECONDS + zoned:
        texts = made.cast(pa.timestamp("s"), safe=False).cast(pa.string())
        return pc.replace_substring(pc.binary_join_element_wise(texts, "Z", ""), " ", "T") if zoned else texts
    return canonical_array(made)


def _first_unfit(cells: pa.Array[Any], type_: pa.DataType) -> Unfit:
    """By halves: the first value that is not held."""
    first, last = 0, len(cells)
    while last - first > 1:
        middle = (first + last) // 2
        try:
            cells.slice(first, middle - first).cast(type_)
            first = middle
        except pa.ArrowException:
            last = middle
    return Unfit(first, str(cells[first].as_py()))


def _each(cells: pa.Array[Any], read: Callable[[str], Any]) -> list[Any]:
    made: list[Any] = []
    for row, text in enumerate(cells.to_pylist()):
        try:
            made.append(None if text is None else read(text))
        except ValueError:
            raise Unfit(row, str(text)) from None
    return made


def _json(text: str) -> str:
    json.loads(text)
    return text


def _time(text: str) -> time:
    """Raises ValueError also for what would be cut: more than six digits of a second."""
    if not re.fullmatch(r"\d\d:\d\d:\d\d(\.\d{1,6})?", text):
        raise ValueError(text)
    return time.fromisoformat(text)
