"""A JSON array of objects (RFC 8259), one object a line, UTF-8; numbers keep every digit the source gave."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from typing import BinaryIO

import pyarrow as pa
import pyarrow.compute as pc

from ..columns import NUMERIC, Batch, Column
from ..errors import ProofFailed
from .base import READ_BYTES, Format, FormatWriter, any_true, joined, replaced_where

_NUMBER = r"^-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?$"
_NEEDS_ESCAPES = '["\\\\\x00-\x1f]'
_STRING = re.compile(rb'"(?:[^"\\]|\\.)*"')
_NOT_BRACKETS = bytes(set(range(256)) - set(b"[]{}"))


def _text(array: pa.Array) -> pa.Array:
    """JSON strings of the texts; only those that need escapes leave the fast path."""
    needs = pc.match_substring_regex(array, _NEEDS_ESCAPES)
    if any_true(needs):
        some = [json.dumps(text, ensure_ascii=False)[1:-1] for text in array.filter(needs).to_pylist()]
        array = replaced_where(array, needs, pa.array(some, pa.string()))
    return pc.binary_join_element_wise('"', array, '"', "")


class JsonWriter(FormatWriter):
    """See FormatWriter."""

    def __init__(self, file: BinaryIO, columns: Sequence[Column]) -> None:
        super().__init__(file, columns)
        self.keys = [json.dumps(column.name, ensure_ascii=False) + ":" for column in columns]
        file.write(b"[")

    def _cells(self, column: Column, array: pa.Array, numbers: pa.Array | None) -> pa.Array:
        if column.kind in ("boolean", "json"):
            return array
        if column.kind not in NUMERIC and numbers is None:
            return _text(array)
        exact = pc.match_substring_regex(array, _NUMBER)
        bare = exact if numbers is None else pc.and_(exact, numbers)
        if numbers is None and any_true(pc.invert(exact)):
            self.warn(f"column '{column.name}' holds numbers that JSON has no form for (NaN, infinity): written as text")
        return pc.if_else(bare, array, _text(array))

    def write(self, batch: Batch) -> None:
        parts: list[pa.Array | str] = []
        for number, (column, key) in enumerate(zip(self.columns, self.keys, strict=True)):
            cells = self._cells(column, batch.cells[number], batch.numbers[number])
            parts += [f"{',' if number else '{'}{key}", pc.fill_null(cells, "null")]
        lines = joined([",\n", *parts, "}"])
        self.file.write(lines if self.rows else b"\n" + bytes(lines[2:]) if batch.rows else b"")
        self.rows += batch.rows

    def close(self) -> None:
        self.file.write(b"\n]\n")


def _values_closed(brackets: bytes, depth: int) -> tuple[int, int]:
    """Values that end at depth one in a run of brackets, and the depth after it."""
    if depth == 1 and brackets.count(b"{}") * 2 == len(brackets):
        return len(brackets) // 2, depth
    closed = 0
    for bracket in brackets:
        if bracket in b"{[":
            depth += 1
        else:
            depth -= 1
            closed += depth == 1
    return closed, depth


class JsonFormat(Format):
    """See Format."""

    name = "json"
    ending = ".json"
    media_type = "application/json"

    def writer(self, file: BinaryIO, columns: Sequence[Column]) -> FormatWriter:
        return JsonWriter(file, columns)

    def count_rows(self, file: BinaryIO) -> int:
        """Values at depth one: strings are dropped, then only brackets are looked at.

        A raw line end cannot stand inside a JSON string, so the text may be cut at line ends.
        """
        depth, rows, rest = 0, 0, b""
        while chunk := file.read(READ_BYTES):
            cut = chunk.rfind(b"\n") + 1
            if not cut:
                rest += chunk
                continue
            steps, rest = _STRING.sub(b"", rest + chunk[:cut]).translate(None, _NOT_BRACKETS), chunk[cut:]
            found, depth = _values_closed(steps, depth)
            rows += found
        if depth or rest.strip():
            raise ProofFailed("the JSON file ends in the middle of a value.", "Start the run again.")
        return rows
