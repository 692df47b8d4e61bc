"""Text in aligned columns, for reading: widths come from the whole result, which waits in a scratch file until its end."""

from __future__ import annotations

import io
import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, BinaryIO, ClassVar, cast

import pyarrow as pa
import pyarrow.compute as pc

from patient_ladle.core.errors import BadInput
from patient_ladle.core.results.columns import NUMERIC, Batch, Column

from ..options import Option
from .base import Format, Target, any_true, constant, joined, signs_in
from .styles import STYLE_OPTIONS, mind_forms, one_line, styled
from .tables import Again, Table, batched, canonical, columns_of
from .text import ENCODING_OPTIONS, TextWriter, checked_words, field_facts, plain_name

_GAP = "  "
_BREAKS = "[\t\n\r\x0b\x0c\u0085\u2028\u2029]"
_BREAK_BYTES = b"\t\n\r\x0b\x0c\xc2\xe2"
"""Bytes without which no text holds a break."""
OPTIONS = (
    Option("header", True, "a first line with the names of the columns, and a rule below it"),
    Option("null_as", "", "what stands for null", check=one_line),
    *ENCODING_OPTIONS,
    *STYLE_OPTIONS,
)


class AlignedWriter(TextWriter):
    """See FormatWriter."""

    def __init__(self, target: Target, options: Mapping[str, Any]) -> None:
        super().__init__(target, options)
        self.widths: list[int] = []

    def begin(self, title: str, columns: Sequence[Column]) -> None:
        self.columns = columns
        mind_forms(columns, self.options)
        self.schema = pa.schema([(str(number), pa.string()) for number in range(len(columns))])
        self.waiting = self.target.scratch()
        self.stream = pa.ipc.new_stream(cast("Any", self.waiting), self.schema)
        self.names = [self._unbroken(column, pa.array([column.name])) for column in columns] if self.options["header"] else []
        self.widths = [max(len(name[0].as_py()), 1) for name in self.names] or [1] * len(columns)

    def _unbroken(self, column: Column, texts: pa.Array[Any]) -> pa.Array[Any]:
        if signs_in(texts, _BREAK_BYTES) and any_true(pc.match_substring_regex(texts, _BREAKS)):
            self.warn(f"column '{column.name}' holds line ends or tabs: written as spaces")
            return pc.replace_substring_regex(texts, _BREAKS, " ")
        return texts

    def write(self, batch: Batch) -> None:
        cells = []
        for n, (column, array, numbers) in enumerate(zip(self.columns, batch.cells, batch.numbers, strict=True)):
            shown = pc.fill_null(styled(column, array, numbers, self.options), constant(self.options["null_as"]))
            shown = self._unbroken(column, shown)
            self.widths[n] = max(self.widths[n], pc.max(pc.utf8_length(shown)).as_py() or 0)
            cells.append(shown)
        self.stream.write_batch(pa.record_batch(cells, schema=self.schema))
        self.rows += batch.rows

    def _lines(self, cells: Sequence[pa.Array[Any]]) -> memoryview:
        parts: list[pa.Array[Any] | str] = []
        for column, array, width in zip(self.columns, cells, self.widths, strict=True):
            pad = pc.utf8_lpad if column.kind in NUMERIC else pc.utf8_rpad
            parts += [_GAP, pad(array, width)]
        return joined([*parts[1:], "\n"])

    def end(self) -> None:
        self.stream.close()
        self.waiting.seek(0)
        if self.options["header"]:
            self.put(self._lines(self.names))
            self.put((_GAP.join("-" * width for width in self.widths) + "\n").encode())
        for stored in pa.ipc.open_stream(cast("Any", self.waiting)):
            batch = Batch(stored.columns, [None] * len(self.columns), stored.num_rows)
            self.put(self._lines(batch.cells), batch)
        self.waiting.close()

    def waiting_bytes(self) -> int:
        return self.waiting.tell()

    def abandon(self) -> None:
        if self.widths:
            self.waiting.close()


def _cell(text: str, options: Mapping[str, Any]) -> str | None:
    found = text.strip(" ")
    return None if found == options["null_as"] else found


class AlignedFormat(Format):
    """See Format."""

    name = "text"
    counter = "aligned"
    extension = ".txt"
    media_type = "text/plain"
    note = "text in aligned columns, for reading"
    options: ClassVar = OPTIONS

    def check(self, options: Mapping[str, Any]) -> None:
        checked_words(options)
        if len(options["replacement"]) > 1:
            raise BadInput(
                f"replacement is '{options['replacement']}', and columns stay aligned with one character.", "Take one."
            )

    def writer(self, target: Target, options: Mapping[str, Any]) -> AlignedWriter:
        return AlignedWriter(target, options)

    def counter_facts(self, options: Mapping[str, Any]) -> dict[str, Any]:
        return {"encoding": self.encoding(options), "headRows": 2 * options["header"]}

    def field_facts(self, column: Column, options: Mapping[str, Any]) -> dict[str, Any]:
        return field_facts(column, options)

    def null_as(self, options: Mapping[str, Any]) -> str:
        return str(options["null_as"])

    def read(self, file: BinaryIO, options: Mapping[str, Any], columns: Sequence[Sequence[Column]] = ()) -> Iterator[Table]:
        """Cells without the spaces around them; whole lines where there is no header to say where columns begin."""
        encoding = self.encoding(options)
        content = io.BufferedReader(Again(b"", file))  # the file is the caller's, who closes it
        text = io.TextIOWrapper(content, "utf-8-sig" if encoding == "utf-8" else encoding, newline="\n")
        lines = (line.removesuffix("\n") for line in text)
        places, names = [slice(None)], ["line"]
        if options["header"]:
            head, rule = next(lines, ""), next(lines, "")
            places = [slice(*found.span()) for found in re.finditer("-+", rule)]
            names = [head[place].strip() for place in places]
        made = columns_of(names, columns[0] if columns else ())
        rows = ([_cell(line[place], options) for place in places] for line in lines)
        yield Table("", made, canonical(batched(rows, len(made)), made, options))

    def encoding(self, options: Mapping[str, Any]) -> str:
        return plain_name(options["encoding"])
