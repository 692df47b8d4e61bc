"""JSON (RFC 8259), UTF-8: an array of objects, one object a line, or lines alone; numbers keep every digit the source gave."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from itertools import chain
from typing import Any, BinaryIO, ClassVar

import msgspec
import pyarrow as pa
import pyarrow.compute as pc

from patient_ladle.core.results.columns import NUMERIC, Batch, Column

from ..options import Option
from .base import (
    Format,
    FormatWriter,
    Target,
    all_true,
    any_true,
    chosen,
    has_only,
    holding,
    joined,
    replaced_where,
    signs_in,
    together,
)
from .styles import BINARY, MOMENTS, ZONE, in_form, in_hex, mind_forms, rounded
from .tables import Table, batched, canonical, columns_of

_NUMBER = r"^-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?$"
_ESCAPED = b"\\" + bytes(range(32)) + b'"'
"""The backslash first, for it stands in the others' escapes."""
_PLAIN = b"0123456789-.+eE"
"""What numbers that JSON takes are made of; a source writes nothing else with these signs alone."""
_NOT_FINITE = ("text", "null", "refuse")
_SHORT = "nan_as"
OPTIONS = (
    Option(
        _SHORT, "text", "NaN and infinity, for which JSON has no numbers: as texts, as null, or the run is refused", _NOT_FINITE
    ),
    Option("envelope", False, "the array stands in an object beside the extract's name, revision, values and columns"),
    ZONE,
    BINARY,
)
LINE_OPTIONS = tuple(option for option in OPTIONS if option.name != "envelope")


def _text(array: pa.Array[Any]) -> pa.Array[Any]:
    """JSON strings of the texts, without their quotes; only those that need escapes leave the fast path."""
    found = signs_in(array, _ESCAPED)
    if found:
        needs = holding(array, found)
        some = array.filter(needs)
        for sign in found:
            some = pc.replace_substring(some, chr(sign), json.dumps(chr(sign))[1:-1])
        array = replaced_where(array, needs, some)
    return array


def _one_line(array: pa.Array[Any]) -> pa.Array[Any]:
    """JSON values without raw line ends, which can only stand between their parts."""
    if signs_in(array, b"\n\r"):
        return pc.replace_substring_regex(array, "[\n\r]", " ")
    return array


class JsonWriter(FormatWriter):
    """See FormatWriter. ``array``: rows stand in an array, else each is a line of its own."""

    def __init__(self, target: Target, options: Mapping[str, Any], array: bool) -> None:
        super().__init__(target, options)
        self.array = array
        self.close_with = "\n]}\n" if options.get("envelope") else "\n]\n"

    def begin(self, title: str, columns: Sequence[Column]) -> None:
        self.columns = columns
        self.keys = [json.dumps(column.name, ensure_ascii=False) + ":" for column in columns]
        mind_forms(columns, self.options)
        if self.array:
            self.target.file.write(self._head(title).encode())

    def _head(self, title: str) -> str:
        if not self.options.get("envelope"):
            return "["
        told = {
            **{name: value for name, value in self.target.about.items() if name not in ("run", "attempt")},
            **({"statement": title} if title else {}),
            "columns": [{"name": c.name, "type": c.kind, "sourceType": c.source_type} for c in self.columns],
        }
        return json.dumps(told, ensure_ascii=False)[:-1] + ', "rows": ['

    def _cells(self, column: Column, array: pa.Array[Any], numbers: pa.Array[Any] | None) -> tuple[str, pa.Array[Any], str]:
        """What stands before each cell, the cells, what stands after."""
        if column.kind == "json":
            return "", _one_line(array), ""
        if column.kind in MOMENTS:
            array = in_form(column, array, self.options)
        elif column.pattern and column.kind in NUMERIC:
            array = rounded(array, column.pattern)
        elif column.pattern and numbers is not None:
            array = pc.if_else(numbers, rounded(array, column.pattern), array)
        if column.kind in ("boolean", "integer"):
            return "", array, ""
        if column.kind == "binary" and self.options["binary"] == "hex":
            array = in_hex(array)
        if column.kind not in NUMERIC and numbers is None:
            return '"', _text(array), '"'
        if (numbers is None or numbers.null_count + pc.sum(numbers).as_py() == len(array)) and has_only(array, _PLAIN):
            return "", array, ""
        exact = pc.match_substring_regex(array, _NUMBER)
        bare = exact if numbers is None else pc.and_(exact, numbers)
        if all_true(bare):
            return "", array, ""
        return "", pc.if_else(bare, array, self._instead(column, array, numbers, exact)), ""

    def _instead(
        self, column: Column, array: pa.Array[Any], numbers: pa.Array[Any] | None, exact: pa.Array[Any]
    ) -> pa.Array[Any]:
        """JSON texts of everything, and what the option wants for numbers that JSON lacks."""
        texts = together('"', _text(array), '"')
        lost = pc.invert(exact) if numbers is None else pc.and_(pc.invert(exact), numbers)
        if not any_true(lost):
            return texts
        wanted = self.options[_SHORT]
        if wanted == "refuse":
            raise self.unfit(
                column,
                lost,
                "JSON has no form for this number (NaN, infinity)",
                f"Set {_SHORT} to text or null, or choose CSV.",
            )
        self.warn(f"column '{column.name}' holds numbers that JSON has no form for (NaN, infinity): written as {wanted}")
        return texts if wanted == "text" else chosen(lost, "null", texts)

    def write(self, batch: Batch) -> None:
        if not batch.rows:
            return
        parts: list[pa.Array[Any] | str] = []
        for number, (column, key) in enumerate(zip(self.columns, self.keys, strict=True)):
            before, cells, after = self._cells(column, batch.cells[number], batch.numbers[number])
            lead = f"{',' if number else '{'}{key}"
            if cells.null_count:
                whole = together(before, cells, after) if before else cells
                parts += [lead, pc.fill_null(whole, "null")]
            else:
                parts += [lead + before, cells, after]
        if self.array:
            lines = joined([",\n", *parts, "}"])
            self.target.file.write(lines if self.rows else lines[1:])
        else:
            self.target.file.write(joined([*parts, "}\n"]))
        self.rows += batch.rows

    def close(self) -> None:
        if self.array:
            self.target.file.write(self.close_with.encode())


def _objects(file: BinaryIO) -> Iterator[dict[str, msgspec.Raw]]:
    """A row is an object on a line of its own; what stands around the array is none."""
    for line in file:
        text = line.strip().removesuffix(b",")
        if text.startswith(b"{") and text.endswith(b"}"):
            yield _ROW.decode(text)


_ROW = msgspec.json.Decoder(dict[str, msgspec.Raw])


def _cell(raw: msgspec.Raw | None, column: Column) -> str | None:
    """Every digit and every nested value as it stands in the file."""
    text = b"null" if raw is None else bytes(raw)
    if text == b"null":
        return None
    return str(msgspec.json.decode(text)) if text.startswith(b'"') and column.kind != "json" else text.decode()


class JsonFormat(Format):
    """See Format."""

    name = "json"
    counter = "json"
    extension = ".json"
    media_type = "application/json"
    note = "an array of objects, one object a line"
    options: ClassVar[tuple[Option, ...]] = OPTIONS
    array: ClassVar = True

    def writer(self, target: Target, options: Mapping[str, Any]) -> FormatWriter:
        return JsonWriter(target, options, self.array)

    def counter_facts(self, options: Mapping[str, Any]) -> dict[str, Any]:
        return {"array": self.array}

    def field_facts(self, column: Column, options: Mapping[str, Any]) -> dict[str, Any]:
        return {"format": "binary"} if column.kind == "binary" and options["binary"] == "base64" else {}

    def read(self, file: BinaryIO, options: Mapping[str, Any], columns: Sequence[Sequence[Column]] = ()) -> Iterator[Table]:
        rows = _objects(file)
        first = next(rows, None)
        known = columns[0] if columns else ()
        made = columns_of([column.name for column in known] if first is None else list(first), known)
        each = () if first is None else chain([first], rows)
        texts = ([_cell(row.get(column.name), column) for column in made] for row in each)
        yield Table("", made, canonical(batched(texts, len(made)), made, options))


class JsonLinesFormat(JsonFormat):
    """See Format."""

    name = "jsonl"
    extension = ".jsonl"
    media_type = "application/jsonl"
    note = "one object a line, without an array around them"
    options: ClassVar[tuple[Option, ...]] = LINE_OPTIONS
    array: ClassVar = False
