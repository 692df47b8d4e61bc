"""Comma-separated text as RFC 4180 describes it, UTF-8, one header line, lines ended by LF.

An absent value is nothing between delimiters; an empty text is ``""``, so the two stay apart.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import BinaryIO

import pyarrow as pa
import pyarrow.compute as pc

from ..columns import Batch, Column
from ..errors import ProofFailed
from .base import READ_BYTES, Format, FormatWriter, any_true, joined, replaced_where

_NEEDS_QUOTES = '[",\r\n]|^$'
_QUOTED_KINDS = ("text", "json", "any", "binary")
"""Kinds whose canonical text may hold a delimiter, a quote or a line end, or be empty."""


def _quote(array: pa.Array) -> pa.Array:
    needs = pc.match_substring_regex(array, _NEEDS_QUOTES)
    if not any_true(needs):
        return array
    some = pc.replace_substring(array.filter(needs), '"', '""')
    return replaced_where(array, needs, pc.binary_join_element_wise('"', some, '"', ""))


class CsvWriter(FormatWriter):
    """See FormatWriter."""

    def __init__(self, file: BinaryIO, columns: Sequence[Column]) -> None:
        super().__init__(file, columns)
        header = Batch.of_texts([[column.name] for column in columns], 1)
        self._write_lines(header, quoted=[True] * len(columns))

    def _write_lines(self, batch: Batch, quoted: Sequence[bool]) -> None:
        parts: list[pa.Array | str] = []
        for array, quote in zip(batch.cells, quoted, strict=True):
            parts += [",", pc.fill_null(_quote(array) if quote else array, "")]
        self.file.write(joined([*parts[1:], "\n"]))

    def write(self, batch: Batch) -> None:
        self._write_lines(batch, [column.kind in _QUOTED_KINDS for column in self.columns])
        self.rows += batch.rows

    def close(self) -> None:
        return None


class CsvFormat(Format):
    """See Format."""

    name = "csv"
    ending = ".csv"
    media_type = "text/csv"

    def writer(self, file: BinaryIO, columns: Sequence[Column]) -> FormatWriter:
        return CsvWriter(file, columns)

    def count_rows(self, file: BinaryIO) -> int:
        """Line ends outside quotes, less the header. A doubled quote leaves and enters at once, so it needs no care."""
        lines, inside, last = 0, False, b"\n"
        while chunk := file.read(READ_BYTES):
            for number, piece in enumerate(chunk.split(b'"')):
                inside = inside != bool(number)
                if not inside:
                    lines += piece.count(b"\n")
            last = chunk[-1:]
        if inside or last != b"\n" or not lines:
            raise ProofFailed("the CSV file ends in the middle of a row.", "Start the run again.")
        return lines - 1
