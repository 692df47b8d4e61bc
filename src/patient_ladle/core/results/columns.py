"""Columns and batches: how rows travel from a source to the formats.

Every cell travels as canonical text, the same from every source: integers and exact decimals as digits without an
exponent, floats in their shortest round-trip form (``float_text``), ``true``/``false``, ISO 8601 dates, zone-less timestamps
``2026-11-24 06:05:00``, zoned ones RFC 3339 in UTC ``2026-11-24T06:05:00Z``, binary as base64 (RFC 4648), JSON as JSON.
The column's kind says how a format may write that text; a missing value is null.
"""

from __future__ import annotations

import base64
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, time, timezone
from decimal import Decimal
from typing import Any, cast

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pacsv

KINDS = ("text", "integer", "decimal", "float", "boolean", "date", "time", "timestamp", "zoned", "binary", "json", "any")
"""``any``: the source types each value, not the column (SQLite); the batch then marks which cells are numbers."""

NO_TYPE = "null"
"""A column's source type where types are those of its values, and it has none."""
NUMERIC = ("integer", "decimal", "float")
BATCH_ROWS = 5_000
"""Rows in a batch: large enough that per-batch work vanishes, small enough that memory stays flat."""
FORMULA_BEGINS = "=+-@\t\r\n\uff1d\uff0b\uff0d\uff20"
"""What a text begins with that a spreadsheet program takes for a formula; some read full-width signs as the plain ones."""


@dataclass(frozen=True, slots=True)
class Column:
    """A result column: its name in the file, its kind, what the source calls its type, and what a reader must know of it."""

    name: str
    kind: str = "text"
    source_type: str = ""
    note: str = ""
    pattern: str = ""
    """How a reader wants its values written: a strftime style for moments, ``0.00`` or ``#,##0.00`` for numbers."""

    @classmethod
    def from_dict(cls, plain: Mapping[str, Any]) -> Column:
        """What plain JSON tells of it: name and kind, and ``source_type`` where that is known."""
        return cls(plain["name"], plain["kind"], plain.get("source_type") or "")


class Batch:
    """Some rows, column by column.

    ``cells[i]`` is a string array with nulls; ``numbers[i]`` is a boolean array that marks the numeric cells of a
    column of kind ``any``, and None where none is. All arrays have ``rows`` members. ``csv`` is the same rows as
    comma-separated text (RFC 4180, UTF-8, LF, quotes where needed, nulls unquoted) where the source gave that.
    """

    csv: bytes | None

    def __init__(self, cells: Sequence[pa.Array[Any]], numbers: Sequence[pa.Array[Any] | None], rows: int) -> None:
        self._cells, self._numbers, self.rows = tuple(cells), tuple(numbers), rows
        self.csv = None

    @property
    def cells(self) -> tuple[pa.Array[Any], ...]:
        """The arrays."""
        return self._cells

    @property
    def numbers(self) -> tuple[pa.Array[Any] | None, ...]:
        """Their marks of numbers."""
        return self._numbers

    @classmethod
    def of_texts(cls, columns: Sequence[Sequence[str | None]], rows: int) -> Batch:
        """From canonical texts, column by column."""
        return cls([pa.array(c, pa.string()) for c in columns], [None] * len(columns), rows)

    @classmethod
    def of_values(cls, pieces: Iterable[Sequence[Sequence[Any]]], width: int) -> Batch:
        """From rows of Python values, of sources that type each value. Every piece of them is turned into columns as it comes,
        while it is near the processor and before the next one needs memory."""
        made = [[_gathered(column) for column in zip(*piece, strict=True)] for piece in pieces if piece]
        pairs = [_cells_of(column) for column in zip(*made, strict=True)] or [_cells_of([pa.nulls(0)])] * width
        return cls([cells for cells, _ in pairs], [numbers for _, numbers in pairs], len(pairs[0][0]))

    def slice(self, start: int, count: int) -> Batch:
        """So many of its rows."""
        numbers = [each if each is None else each.slice(start, count) for each in self.numbers]
        return Batch([cells.slice(start, count) for cells in self.cells], numbers, count)

    def picked(self, places: Sequence[int]) -> Batch:
        """So many of its columns, in this order."""
        return Batch([self.cells[place] for place in places], [self.numbers[place] for place in places], self.rows)

    @property
    def bytes(self) -> int:
        """Bytes of the texts held, for progress and limits."""
        return sum(int(array.nbytes) for array in self.cells)


class CsvBatch(Batch):
    """Rows that came as comma-separated text; the arrays are made when somebody asks for them."""

    def __init__(self, csv: bytes, width: int, rows: int) -> None:
        super().__init__((), [None] * width, rows)
        self.csv = csv

    @property
    def cells(self) -> tuple[pa.Array[Any], ...]:
        if not self._cells and self._numbers:
            self._cells = tuple(_parsed(self.csv or b"", len(self._numbers)))
        return self._cells

    @property
    def bytes(self) -> int:
        return len(self.csv or b"")


def _parsed(text: bytes, width: int) -> list[pa.Array[Any]]:
    names = [str(number) for number in range(width)]
    table = pacsv.read_csv(
        cast("Any", pa.BufferReader(text)),
        pacsv.ReadOptions(column_names=names, use_threads=False, block_size=len(text) + 1),
        pacsv.ParseOptions(newlines_in_values=True, ignore_empty_lines=False),
        pacsv.ConvertOptions(
            column_types=dict.fromkeys(names, pa.string()),
            null_values=[""],
            strings_can_be_null=True,
            quoted_strings_can_be_null=False,
            check_utf8=False,  # the source said that it sends UTF-8, and the server keeps to it
        ),
    )
    columns: list[Any] = table.columns
    return [column.combine_chunks() if column.num_chunks != 1 else column.chunk(0) for column in columns]


def _gathered(values: Sequence[Any]) -> Any:
    """Values of one column as an array when they are of one type, as they mostly are, or all null; else as they came."""
    types = set(map(type, values)) - {type(None)}
    kind = _FAST.get(types.pop()) if len(types) == 1 else None if types else pa.null()
    try:
        return values if kind is None else pa.array(values, kind)
    except OverflowError:
        return values


def _texts_of(gathered: Any) -> tuple[pa.Array[Any], pa.Array[Any] | None]:
    """Canonical texts of gathered values, and which of them are numbers; None where none is."""
    if not isinstance(gathered, pa.Array):
        numbers = [isinstance(v, (int, float)) and not isinstance(v, bool) for v in gathered]
        return pa.array([canonical(value) for value in gathered], pa.string()), pa.array(numbers, pa.bool_())
    if gathered.type in (pa.string(), pa.null()):
        return gathered.cast(pa.string()), None
    return (float_texts(gathered) if gathered.type == pa.float64() else gathered.cast(pa.string())), gathered.is_valid()


def _cells_of(pieces: Sequence[Any]) -> tuple[pa.Array[Any], pa.Array[Any] | None]:
    """The same of one column, gathered in pieces: at once where all are of one type, or null."""
    kinds = {piece.type if isinstance(piece, pa.Array) else None for piece in pieces} - {pa.null()}
    if len(kinds) == 1 and None not in kinds:
        kind = kinds.pop()
        return _texts_of(pa.concat_arrays([piece if piece.type == kind else piece.cast(kind) for piece in pieces]))
    parts = [_texts_of(piece) for piece in pieces]
    numbers = [pa.repeat(False, len(cells)) if marks is None else marks for cells, marks in parts] if kinds else []
    return pa.concat_arrays([cells for cells, _ in parts]), pa.concat_arrays(numbers) if numbers else None


_FAST = {str: pa.string(), int: pa.int64(), float: pa.float64()}


def data_of(array: pa.Array[Any]) -> memoryview:
    """The texts of an array one after the other."""
    buffers = array.buffers()
    if not len(array) or buffers[1] is None or buffers[2] is None:
        return memoryview(b"")
    offsets = memoryview(buffers[1]).cast("i")
    return memoryview(buffers[2])[offsets[array.offset] : offsets[array.offset + len(array)]]


_SAME_FLOAT = {
    digits: rf"^-?(?:0|[1-9][0-9]{{0,{whole}}}(?:\.[0-9]*[1-9])?|0\.0{{0,3}}[1-9](?:[0-9]*[1-9])?)$"
    for digits, whole in ((6, 5), (15, 12))
}
"""What is canonical already, by the width of the float."""


_NOT_PLAIN = b"e", b"n", b"0.0000"
"""What stands in the shortest texts of 64-bit floats where ours may differ: exponents, infinities and NaN, the very small."""
_PLAIN_WHOLE = 13
"""Signs before the point, minus included, up to which everybody writes a float without an exponent."""


def float_texts(array: pa.Array[Any]) -> pa.Array[Any]:
    """Canonical texts of an array of 32-bit or 64-bit floats: its shortest digits, by the rule of ``float_text``."""
    texts = array.cast(pa.string())
    if array.type == pa.float32():
        return canonical_floats(texts, 6)
    return canonical_shortest(texts)


def canonical_shortest(texts: pa.Array[Any]) -> pa.Array[Any]:
    """``canonical_floats`` of 64-bit floats' shortest digits, without needless zeros: a look at all of them mostly does."""
    data = bytes(data_of(texts))
    if any(sign in data for sign in _NOT_PLAIN):
        return canonical_floats(texts)
    point = pc.find_substring(texts, ".")
    whole = pc.max(pc.if_else(pc.less(point, 0), pc.binary_length(texts), point)).as_py()
    return texts if whole is None or whole <= _PLAIN_WHOLE else canonical_floats(texts)


def canonical_floats(texts: pa.Array[Any], digits: int = 15) -> pa.Array[Any]:
    """Any texts of floats in their canonical form; most are in it already."""
    other = pc.fill_null(pc.invert(pc.match_substring_regex(texts, _SAME_FLOAT[digits])), False)
    if not pc.any(other).as_py():
        return texts
    some = [float_text(str(text), digits) for text in texts.filter(other).to_pylist()]
    return pc.replace_with_mask(texts, other, pa.array(some, pa.string()))


def float_text(text: str, digits: int = 15) -> str:
    """The canonical form of any text of a float: as it is between 0.0001 and 10 to the power of ``digits``, else with an
    exponent of at least two figures (``1e+20``, ``1e-05``); ``NaN``, ``Infinity``, ``-Infinity``; never ``1.0``.

    ``digits``: 15 for 64-bit floats, 6 for 32-bit ones; PostgreSQL's own texts follow the same rule.
    """
    word = text.strip().lower()
    if word.lstrip("+-") in ("nan", "inf", "infinity"):
        return "NaN" if "nan" in word else "-Infinity" if word.startswith("-") else "Infinity"
    sign, figures, exponent = Decimal(word).normalize().as_tuple()
    shown = "".join(map(str, figures))
    point = len(shown) + int(exponent)
    minus = "-" if sign else ""
    if shown == "0":
        return f"{minus}0"
    if -4 < point <= digits:
        if point <= 0:
            return f"{minus}0.{'0' * -point}{shown}"
        whole, rest = shown[:point].ljust(point, "0"), shown[point:]
        return f"{minus}{whole}{'.' if rest else ''}{rest}"
    power = point - 1
    rest = f".{shown[1:]}" if len(shown) > 1 else ""
    return f"{minus}{shown[0]}{rest}e{'-' if power < 0 else '+'}{abs(power):02d}"


def canonical(value: Any) -> str | None:  # noqa: C901 - one case a type
    """The canonical text of one Python value; None stays None.

    Raises TypeError for a type that has no canonical text.
    """
    match value:
        case None | str():
            return value
        case bool():
            return "true" if value else "false"
        case int():
            return str(value)
        case float():
            return float_text(repr(value))
        case Decimal():
            return format(value, "f")
        case bytes() | bytearray() | memoryview():
            return base64.b64encode(value).decode()
        case datetime() if value.tzinfo:
            return _trim(value.astimezone(timezone.utc).replace(tzinfo=None).isoformat()) + "Z"
        case datetime():
            return _trim(value.isoformat(sep=" "))
        case date():
            return value.isoformat()
        case time():
            return _trim(value.isoformat())
    raise TypeError(f"no canonical text for {type(value).__name__}")


def _trim(text: str) -> str:
    return text.rstrip("0").rstrip(".") if "." in text else text


def unique_names(columns: Sequence[Column]) -> tuple[list[Column], list[str]]:
    """Columns with every name unique, and the names that had to be changed (``id`` → ``id_2``).

    Names are keys in JSON and headers that readers look up, so two of the same would lose one.
    """
    taken = {column.name.lower() for column in columns if column.name}  # a new name must not be that of another column
    given: set[str] = set()
    made, changed = [], []
    for number, column in enumerate(columns, 1):
        base = name = column.name or f"column_{number}"
        count = 1
        while name.lower() in given or (name != column.name and name.lower() in taken):
            count += 1
            name = f"{base}_{count}"
        if name != column.name:
            changed.append(f"{column.name or '(no name)'} → {name}")
        given.add(name.lower())
        made.append(replace(column, name=name))
    return made, changed
