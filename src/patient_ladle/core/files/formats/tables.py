"""What a file holds when it is read back: tables with their columns, and rows in batches of canonical texts."""

from __future__ import annotations

import base64
import io
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timezone
from itertools import islice
from typing import Any, BinaryIO

import pyarrow as pa
import pyarrow.compute as pc

from patient_ladle.core.errors import ValueUnfit
from patient_ladle.core.results.columns import NUMERIC, Batch, Column

from .base import chosen, constant, has_only, replaced_where

BATCH_ROWS = 1_000
HEAD_BYTES = 4 << 20
"""Read to learn the names of the columns."""
_OFFSET = r"^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?[+-]\d\d:\d\d$"
_HEX = b"0123456789abcdefABCDEF"


@dataclass(frozen=True, slots=True)
class Table:
    """One result in a file. ``batches`` are read as they are asked for, before the next table is."""

    name: str
    columns: Sequence[Column]
    batches: Iterator[Batch]


class Again(io.RawIOBase):
    """A stream of which the first bytes were looked at already."""

    def __init__(self, head: bytes, rest: BinaryIO) -> None:
        self.head, self.rest = head, rest

    def readable(self) -> bool:
        return True

    def readinto(self, into: Any) -> int:
        piece = self.head[: len(into)] or self.rest.read(len(into))
        self.head = self.head[len(piece) :]
        into[: len(piece)] = piece
        return len(piece)


def too_large() -> ValueUnfit:
    """The error for a cell that is not read."""
    return ValueUnfit(
        "a cell of this file is too large to be looked at here.", "Download the file, and open it with a program of yours."
    )


def whole(file: BinaryIO) -> BinaryIO:
    """The file itself if one can move about in it, else all of it in memory."""
    return file if isinstance(file, (io.BufferedReader, io.BytesIO)) and file.seekable() else io.BytesIO(file.read())


def columns_of(names: Sequence[str], known: Sequence[Column]) -> list[Column]:
    """The file's names with the kinds that are known of its columns; all texts where nothing fits them."""
    if len(known) == len(names):
        return [replace(column, name=name) for column, name in zip(known, names, strict=True)]
    return [Column(name) for name in names]


def batched(rows: Iterable[Sequence[str | None]], width: int) -> Iterator[Batch]:
    """Rows of texts as batches; a row that is shorter or longer than the others is filled up or cut."""
    each = iter(rows)
    while piece := list(islice(each, BATCH_ROWS)):
        even = [[*row[:width], *[None] * (width - len(row))] for row in piece]
        yield Batch.of_texts([list(cells) for cells in zip(*even, strict=True)], len(piece))


def canonical(batches: Iterable[Batch], columns: Sequence[Column], options: Mapping[str, Any]) -> Iterator[Batch]:
    """The batches with what options have written otherwise put back: signs of numbers, words of truth, hex, the zone.

    Moments in a style of their own, and characters that were replaced, stay as the file has them.
    """
    for batch in batches:
        cells = [_canonical(column, array, options) for column, array in zip(columns, batch.cells, strict=True)]
        yield Batch(cells, batch.numbers, batch.rows)


def _canonical(column: Column, array: pa.Array[Any], options: Mapping[str, Any]) -> pa.Array[Any]:
    if column.kind in NUMERIC and (options.get("thousands_separator") or options.get("decimal_separator", ".") != "."):
        return _plain_numbers(array, options["thousands_separator"], options["decimal_separator"])
    if column.kind == "boolean" and options.get("true_as", "true") != "true":
        return chosen(pc.equal(array, constant(options["true_as"])), "true", "false")
    if column.kind == "boolean" and options.get("false_as", "false") != "false":
        return chosen(pc.equal(array, constant(options["false_as"])), "false", "true")
    if column.kind == "binary" and options.get("binary") == "hex" and has_only(array, _HEX):
        texts = [None if text is None else base64.b64encode(bytes.fromhex(text)).decode() for text in array.to_pylist()]
        return pa.array(texts, pa.string())
    if column.kind == "zoned" and options.get("zone", "UTC") != "UTC":
        off = pc.fill_null(pc.match_substring_regex(array, _OFFSET), False)
        return replaced_where(array, off, pa.array([_in_utc(str(text)) for text in array.filter(off).to_pylist()], pa.string()))
    return array


def _plain_numbers(array: pa.Array[Any], thousands: str, sign: str) -> pa.Array[Any]:
    if thousands:
        array = pc.replace_substring_regex(array, rf"(\d){re.escape(thousands)}", r"\1")
    return pc.replace_substring(array, sign, ".") if sign != "." else array


def _in_utc(text: str) -> str:
    at = datetime.fromisoformat(text).astimezone(timezone.utc)
    made = at.strftime("%Y-%m-%dT%H:%M:%S").zfill(19)
    fraction = re.search(r"\.\d+", text)
    return f"{made}{fraction.group() if fraction else ''}Z"
