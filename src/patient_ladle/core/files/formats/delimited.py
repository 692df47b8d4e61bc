"""Delimited text: commas as RFC 4180 describes them, or another delimiter, in any encoding.

Unless set otherwise: UTF-8, a header, LF, quotes only where needed. Null is nothing between delimiters; an empty
text is ``""``, so the two stay apart. Rows that come from the source as such text go into the file as they are.
"""

from __future__ import annotations

import codecs
import csv
import io
import re
import unicodedata
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, BinaryIO, ClassVar

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pacsv

from patient_ladle.core.errors import BadInput
from patient_ladle.core.results.columns import FORMULA_BEGINS, NUMERIC, Batch, Column
from patient_ladle.proof.counting import READ_BYTES

from ..options import Option
from .base import (
    Format,
    FormatWriter,
    Target,
    any_true,
    constant,
    has_empty,
    holding,
    joined,
    replaced_where,
    signs_in,
    together,
)
from .styles import STYLE_OPTIONS, leaves_alone, mind_forms, one_line, styled
from .tables import BATCH_ROWS, HEAD_BYTES, Again, Table, batched, canonical, columns_of, too_large
from .text import ENCODING_OPTIONS, TextWriter, checked_words, field_facts, plain_name

BLOCK_BYTES = 8 << 20
"""Of the file at a time, and so the largest row that is read."""

_WORDS = {"comma": ",", "semicolon": ";", "tab": "\t", "pipe": "|", "space": " "}
_QUOTED_KINDS = ("text", "json", "any", "binary")
"""Kinds whose canonical text may hold a delimiter, a quote or a line end, or be empty."""
_IN_VALUES = "-+.: "
"""Signs that may stand in the canonical text of a number or a moment."""
_LINE_ENDS = {"lf": "\n", "crlf": "\r\n"}
_LIKE_FORMULA = "^[" + FORMULA_BEGINS.replace("-", "\\-") + "]"


def _delimiter(value: str) -> str:
    made = _WORDS.get(value.lower(), value)
    wrong = len(made) != 1 or made == '"' or made.isalnum() or len(f"a{made}b".splitlines()) > 1
    if wrong or unicodedata.category(made) in ("Cf", "Cs", "Co", "Cn"):
        raise BadInput(
            f"'{value}' cannot be a delimiter.",
            f"Take one character that is no letter, digit or quote, or {', '.join(_WORDS)}.",
        )
    return made


OPTIONS = (
    Option("header", True, "a first line with the names of the columns"),
    Option("delimiter", ",", f"between values: one character, or {', '.join(_WORDS)}", check=_delimiter),
    Option(
        "quoting",
        "needed",
        "which values stand in quotes: where needed, every one, or every text",
        ("needed", "always", "text"),
    ),
    Option("line_ending", "lf", "how lines end", tuple(_LINE_ENDS)),
    *ENCODING_OPTIONS,
    Option("null_as", "", "what stands for null; an equal text is put in quotes", check=one_line),
    *STYLE_OPTIONS,
    Option("escape_formulas", False, "an apostrophe before texts that a spreadsheet would take for a formula"),
)


class DelimitedWriter(TextWriter):
    """See FormatWriter."""

    def begin(self, title: str, columns: Sequence[Column]) -> None:
        self.columns = columns
        mind_forms(columns, self.options)
        options = self.options
        delimiter, self.line_ending = options["delimiter"], _LINE_ENDS[options["line_ending"]]
        self.needs_quotes = f'[{re.escape(delimiter)}"\r\n]|^$'
        if len(columns) == 1:
            self.needs_quotes += r"|^\\\.$"  # alone on a line some readers take it for the end
        if options["null_as"]:
            self.needs_quotes += f"|^{re.escape(options['null_as'])}$"
        self.quoting_words = len(columns) == 1 or bool(options["null_as"]) or not delimiter.isascii()
        self.quoting_signs = delimiter.encode() + b'"\r\n'
        self.left_alone = [leaves_alone(column, options) for column in columns]
        usual = all(options[o.name] == o.default for o in OPTIONS if o.name not in ("header", "encoding", "replacement"))
        self.alone = len(columns) == 1 and not options["null_as"]
        self.null_as = '""' if self.alone else options["null_as"]
        self.takes_csv = usual and self.encoder.plain and all(self.left_alone)
        if options["header"]:
            names = [pa.array([column.name], pa.string()) for column in columns]
            self.put(self._lines(names, [Column(c.name) for c in columns]))

    def _quoted(self, array: pa.Array[Any], column: Column) -> pa.Array[Any]:
        always = self.options["quoting"]
        if always == "always" or (always == "text" and column.kind not in (*NUMERIC, "boolean")):
            return together('"', pc.replace_substring(array, '"', '""'), '"')
        if self.quoting_words:
            needs = pc.match_substring_regex(array, self.needs_quotes)
        else:
            found, empty = signs_in(array, self.quoting_signs), has_empty(array)
            if not found and not empty:
                return array
            needs = holding(array, found, empty)
        if not any_true(needs):
            return array
        some = pc.replace_substring(array.filter(needs), '"', '""')
        return replaced_where(array, needs, together('"', some, '"'))

    def _guarded(self, array: pa.Array[Any], numbers: pa.Array[Any] | None) -> pa.Array[Any]:
        like = pc.match_substring_regex(array, _LIKE_FORMULA)
        if numbers is not None:
            like = pc.and_(like, pc.invert(numbers))
        if not any_true(like):
            return array
        self.warn("texts that a spreadsheet would take for a formula: written with an apostrophe before them")
        return replaced_where(array, like, together("'", array.filter(pc.fill_null(like, False))))

    def _lines(
        self,
        cells: Sequence[pa.Array[Any]],
        columns: Sequence[Column],
        numbers: Sequence[pa.Array[Any] | None] = (),
        alone: bool = True,
    ) -> memoryview:
        parts: list[pa.Array[Any] | str] = []
        for n, (array, column) in enumerate(zip(cells, columns, strict=True)):
            if self.options["escape_formulas"] and column.kind in ("text", "any"):
                array = self._guarded(array, numbers[n] if numbers else None)
            if (
                self.options["quoting"] != "needed"
                or column.kind in _QUOTED_KINDS
                or not alone
                or self.options["delimiter"] in _IN_VALUES
            ):
                array = self._quoted(array, column)
            parts += [self.options["delimiter"], pc.fill_null(array, constant(self.null_as)) if array.null_count else array]
            if self.alone and array.null_count:
                self.warn(f"column '{column.name}' is alone: its nulls are written as \"\", for readers skip empty lines")
        return joined([*parts[1:], self.line_ending])

    def write(self, batch: Batch) -> None:
        if batch.csv is not None and self.takes_csv and not (self.alone and _has_empty_line(batch.csv)):
            self.put(batch.csv)
        elif all(self.left_alone):
            self.put(self._lines(batch.cells, self.columns, batch.numbers), batch)
        else:
            each = zip(self.columns, batch.cells, batch.numbers, strict=True)
            cells = [styled(column, array, numbers, self.options) for column, array, numbers in each]
            self.put(self._lines(cells, self.columns, batch.numbers, alone=False), batch)
        self.rows += batch.rows


def _has_empty_line(csv: bytes) -> bool:
    """Perhaps: a quoted text may hold one."""
    return csv.startswith(b"\n") or b"\n\n" in csv


def _head(file: BinaryIO, encoding: str, options: Mapping[str, Any]) -> tuple[list[str], BinaryIO]:
    """Names of the columns, made up where the file has none, and the file from its beginning."""
    head = file.read(HEAD_BYTES)
    text = codecs.getincrementaldecoder("utf-8-sig" if encoding == "utf-8" else encoding)("replace").decode(head)
    csv.field_size_limit(HEAD_BYTES)
    try:
        first = next(csv.reader(io.StringIO(text, newline=""), delimiter=options["delimiter"]), [])
    except csv.Error as error:
        raise too_large() from error
    names = first if options["header"] else [f"column_{number}" for number in range(1, len(first) + 1)]
    return names, io.BufferedReader(Again(head, file), READ_BYTES)


def _batches(content: BinaryIO, width: int, encoding: str, options: Mapping[str, Any]) -> Iterator[Batch]:
    """By Arrow's reader, which tells null from an empty text; it knows no delimiter beyond ASCII."""
    if not width:
        return
    if not options["delimiter"].isascii():
        yield from _slowly(content, width, encoding, options)
        return
    names = [str(number) for number in range(width)]
    try:
        yield from _by_arrow(content, names, encoding, options)
    except pa.ArrowInvalid as error:
        if "straddl" in str(error):
            raise too_large() from error
        raise


def _by_arrow(content: BinaryIO, names: Sequence[str], encoding: str, options: Mapping[str, Any]) -> Iterator[Batch]:
    try:
        reader = pacsv.open_csv(
            content,
            pacsv.ReadOptions(
                column_names=list(names), skip_rows_after_names=int(options["header"]), block_size=BLOCK_BYTES,
                use_threads=False, encoding=encoding,
            ),
            pacsv.ParseOptions(delimiter=options["delimiter"], newlines_in_values=True, ignore_empty_lines=False),
            pacsv.ConvertOptions(
                column_types=dict.fromkeys(names, pa.string()), null_values=[options["null_as"]], strings_can_be_null=True,
                quoted_strings_can_be_null=False,
            ),
        )  # fmt: skip
    except pa.ArrowInvalid as error:
        if "Empty CSV" in str(error):
            return
        raise
    for batch in reader:
        for start in range(0, batch.num_rows, BATCH_ROWS):
            piece = batch.slice(start, BATCH_ROWS)
            yield Batch(piece.columns, [None] * len(names), piece.num_rows)


def _slowly(content: BinaryIO, width: int, encoding: str, options: Mapping[str, Any]) -> Iterator[Batch]:
    """Without telling null from empty, where both are nothing."""
    text = io.TextIOWrapper(content, "utf-8-sig" if encoding == "utf-8" else encoding, newline="")
    rows = csv.reader(text, delimiter=options["delimiter"])
    if options["header"]:
        next(rows, None)
    yield from batched(([None if cell == options["null_as"] else cell for cell in row] for row in rows), width)


_LAYOUT = ("header", "delimiter", "line_ending")
"""Options that no value is changed by."""


class CsvFormat(Format):
    """See Format."""

    name = "csv"
    counter = "delimited"
    extension = ".csv"
    media_type = "text/csv"
    note = "delimited text, one row a line"
    options: ClassVar[tuple[Option, ...]] = OPTIONS

    def writer(self, target: Target, options: Mapping[str, Any]) -> FormatWriter:
        return DelimitedWriter(target, options)

    def check(self, options: Mapping[str, Any]) -> None:
        checked_words(options)
        if options["escape_formulas"] and options["replacement"][:1] in ("=", "+", "-", "@"):
            raise BadInput(
                "replacement begins like a formula, and escape_formulas is set.", "Take another replacement, such as ?."
            )
        for name in ("null_as", "replacement"):
            for sign in (options["delimiter"], '"'):
                if sign in options[name]:
                    raise BadInput(
                        f"{name} is '{options[name]}' and holds '{sign}', which parts or quotes the values.",
                        f"Take another {name}, or another delimiter.",
                    )

    def counter_facts(self, options: Mapping[str, Any]) -> dict[str, Any]:
        encoding, head = self.encoding(options), int(options["header"])
        return {"encoding": encoding, "headRows": head, "delimiter": options["delimiter"]}

    def facts(self, options: Mapping[str, Any]) -> dict[str, Any]:
        made = {}
        if not options["null_as"]:
            made["nulls"] = "nothing between delimiters; an empty text stands in quotes"
        if options["escape_formulas"]:
            made["guardedFormulas"] = "an apostrophe stands before texts that begin like a formula"
        return made

    def field_facts(self, column: Column, options: Mapping[str, Any]) -> dict[str, Any]:
        return field_facts(column, options)

    def null_as(self, options: Mapping[str, Any]) -> str:
        return str(options["null_as"])

    def read(self, file: BinaryIO, options: Mapping[str, Any], columns: Sequence[Sequence[Column]] = ()) -> Iterator[Table]:
        names, content = _head(file, self.encoding(options), options)
        made = columns_of(names, columns[0] if columns else ())
        yield Table("", made, canonical(_batches(content, len(names), self.encoding(options), options), made, options))

    def encoding(self, options: Mapping[str, Any]) -> str:
        return plain_name(options["encoding"])

    def keeps_all(self, options: Mapping[str, Any], columns: Sequence[Column]) -> bool:
        others = [option for option in self.options if option.name not in _LAYOUT]
        plain = all(options.get(option.name, option.default) == option.default for option in others)
        return plain and all(column.kind != "any" for column in columns)

    def dialect(self, options: Mapping[str, Any]) -> dict[str, Any]:
        return {
            "header": options["header"],
            "delimiter": options["delimiter"],
            "lineTerminator": _LINE_ENDS[options["line_ending"]],
            "quoteChar": '"',
            "doubleQuote": True,
        }


class TsvFormat(CsvFormat):
    """See Format."""

    name = "tsv"
    extension = ".tsv"
    media_type = "text/tab-separated-values"
    note = "text delimited by tabs, one row a line"
    options: ClassVar[tuple[Option, ...]] = tuple(
        Option("delimiter", "\t", o.note, check=o.check) if o.name == "delimiter" else o for o in OPTIONS
    )
