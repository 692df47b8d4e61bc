"""An Office Open XML workbook (ECMA-376), streamed: a sheet for each statement, bold frozen header, filter, real values.

Numbers, dates and booleans are real ones; text that looks like a number stays text. What a cell cannot hold exactly
(numbers beyond 15 digits, dates before March 1900, infinities) is written as text with a warning; what it cannot hold at
all (texts beyond 32,767 characters) is refused unless a choice says otherwise. A result beyond the last row of a sheet goes
on in the next one.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, BinaryIO, ClassVar

import pyarrow as pa
import pyarrow.compute as pc

from patient_ladle.core.errors import BadInput, ValueUnfit
from patient_ladle.core.results.columns import NUMERIC, Batch, Column, float_texts
from patient_ladle.proof.counting import ORIGIN_SHEET

from ..naming import filled
from ..options import Option
from .archive import MOST_BYTES, Archive
from .base import (
    Format,
    FormatWriter,
    Target,
    all_true,
    any_true,
    chosen,
    constant,
    has_only,
    joined,
    longest,
    replaced_where,
    signs_in,
    together,
)
from .sheets import SPREADSHEET, Sheet, Styles, escaped, number_format, sheet_name, text_cell, workbook_parts
from .styles import BINARY, NUMBER_FORM, ZONE, checked_form, fitting_form, in_hex
from .tables import Table, whole
from .workbook import sheets

MAX_ROWS = 1_048_576
"""Rows of a worksheet, the header's among them."""
MAX_COLUMNS = 16_384
MAX_TEXT = 32_767
"""Characters of a cell: UTF-16 units, to be exact."""
MAX_DIGITS = 15
"""Significant digits that every double keeps (IEEE 754 binary64)."""
MAX_SHEET_BYTES = MOST_BYTES - (256 << 20)
"""A sheet's XML stays below what an archive's plain form takes; the last batch may be large."""
_TEXT_OPEN, _TEXT_CLOSE = '<c t="inlineStr"><is><t xml:space="preserve">', "</t></is></c>"
_NEEDS_ESCAPES = "[&<>\x00-\x08\x0b-\x1f\ufffe\uffff]|_x[0-9A-Fa-f]{4}_"
_ESCAPED = bytes({*range(9), *range(11, 32)}) + b"&<>_\xef"
"""Bytes without which no text needs escapes; U+FFFE and U+FFFF begin with the last of them."""
_FIRST_DAY, _DAY_AFTER = -25_508, 2_932_897
"""1900-03-01 and 10000-01-01, in days from 1970-01-01."""
_HELD_DATE = r"^(19(0[1-9]|[1-9]\d)|1900-(0[3-9]|1)|[2-9]\d\d\d)[^ ]*(.*[^C])?$"
"""Years 1900 (from March) to 9999: the days whose serial number every reader agrees on."""
_EPOCH_DAY = 25_569
"""Serial number of 1970-01-01 in a worksheet."""
_DAY_MICROS = 86_400_000_000
_PLAIN = b"0123456789-.+eE"
"""What finite numbers are made of."""
_FINITE = r"^[-+]?[0-9]"
_ENDLESS = r"(?i)^([-+]?inf(inity)?|nan)$"
_NOT_FINITE = "infinity or NaN"
ISO_FORMS = ("%Y-%m-%d %H:%M:%S", "%Y-%m-%d")
_IDLE_ZEROS = r"(\.\d*?)0+$"
_SIGNIFICANT_16 = r"^-?[0.]*([1-9]\.?([0-9]\.?){15})"
_TOO_MANY_DIGITS = "numbers that a cell cannot hold exactly"
_OUTSIDE = "dates outside March 1900 to 9999"


def _lines(value: tuple[str, ...]) -> tuple[str, ...]:
    if len(value) > 20:
        raise BadInput(f"{len(value)} title rows are too many.", "Give 20 at most.")
    return value


def _date_form(value: str) -> str:
    number_format(checked_form(value, "date"))
    return value


def _timestamp_form(value: str) -> str:
    number_format(checked_form(value, "timestamp"))
    return value


OPTIONS = (
    Option("header", True, "a bold row with the names of the columns"),
    Option("freeze", True, "the header stays in sight"),
    Option("filter", True, "the header has a filter"),
    Option(
        "title_rows",
        (),
        "lines above the header; {extract}, {data_date}, {value.NAME} and the like are filled in, as in a file name",
        check=_lines,
        has_fields=True,
    ),
    Option("origin", True, f"a last sheet '{ORIGIN_SHEET}' that says where the workbook came from"),
    Option("date_format", "%Y-%m-%d", "how dates are shown, a strftime style", check=_date_form),
    Option("timestamp_format", "%Y-%m-%d %H:%M:%S", "how timestamps are shown, a strftime style", check=_timestamp_form),
    ZONE,
    Option(
        "unrepresentable_numbers",
        "text",
        "numbers beyond 15 digits and infinities: as texts, or the run is refused",
        ("text", "refuse"),
    ),
    Option(
        "unrepresentable_dates", "text", "dates outside March 1900 to 9999: as texts, or the run is refused", ("text", "refuse")
    ),
    Option(
        "long_text", "refuse", f"texts beyond {MAX_TEXT:,} characters: the run is refused, or they are cut", ("refuse", "cut")
    ),
    BINARY,
)


def _text_cells(array: pa.Array[Any]) -> pa.Array[Any]:
    return together(_TEXT_OPEN, _escaped_all(array), _TEXT_CLOSE)


def _escaped_all(array: pa.Array[Any]) -> pa.Array[Any]:
    if signs_in(array, _ESCAPED):
        needs = pc.match_substring_regex(array, _NEEDS_ESCAPES)
        some = [escaped(str(text)) for text in array.filter(pc.fill_null(needs, False)).to_pylist()]
        array = replaced_where(array, needs, pa.array(some, pa.string())) if some else array
    return array


def _serials(array: pa.Array[Any], kind: str, zone: str) -> pa.Array[Any] | None:
    """Serial numbers of moments, as texts; None where any is none that a cell holds."""
    try:
        if kind == "date":
            days = array.cast(pa.date32()).cast(pa.int32())
            return pc.add(days, _EPOCH_DAY).cast(pa.string()) if _held(days, _FIRST_DAY, _DAY_AFTER) else None
        plain = array
        if kind == "zoned":
            plain = pc.replace_substring(pc.replace_substring(array, "T", " "), "Z", "")
        moments = plain.cast(pa.timestamp("us"))
    except pa.ArrowInvalid:
        return None
    if zone != "UTC":
        moments = pc.local_timestamp(pc.assume_timezone(moments, "UTC").cast(pa.timestamp("us", zone)))
    micros = moments.cast(pa.int64())
    if not _held(micros, _FIRST_DAY * _DAY_MICROS, _DAY_AFTER * _DAY_MICROS):
        return None
    micros = pc.add(micros, _EPOCH_DAY * _DAY_MICROS)
    days = pc.divide(micros, _DAY_MICROS)  # whole days apart: all microseconds at once are more than a double holds
    share = pc.divide(pc.subtract(micros, pc.multiply(days, _DAY_MICROS)).cast(pa.float64()), float(_DAY_MICROS))
    return pc.add(days.cast(pa.float64()), share).cast(pa.string())


def _held(array: pa.Array[Any], least: int, beyond: int) -> bool:
    ends = pc.min_max(array).as_py()
    return ends["min"] is None or (ends["min"] >= least and ends["max"] < beyond)


def _is_double(array: pa.Array[Any], held: pa.Array[Any]) -> pa.Array[Any]:
    """Where a finite number is what the nearest double is written as, so that a cell holds it exactly."""
    doubles = pc.if_else(held, array, None).cast(pa.float64())
    return pc.fill_null(pc.equal(float_texts(doubles), array), False)


Cells = tuple[str, "pa.Array[Any]", str]
"""What stands before each cell's text, the texts, and what stands after."""


class XlsxWriter(FormatWriter):
    """See FormatWriter."""

    def __init__(self, target: Target, options: Mapping[str, Any]) -> None:
        super().__init__(target, options)
        self.archive = Archive(target.file)
        self.styles = Styles()
        self.names: list[str] = []
        self.found: list[tuple[str, int]] = []
        self.sheets: list[tuple[str, int, int]] = []
        self.marks: list[str] = []
        self.sheet: Sheet | None = None

    def begin(self, title: str, columns: Sequence[Column]) -> None:
        self.columns, self.title, self.before = columns, title or "Result", self.rows
        if len(columns) > MAX_COLUMNS:
            raise ValueUnfit(
                f"the result has {len(columns):,} columns; a worksheet holds {MAX_COLUMNS:,}.",
                "Choose fewer columns, or CSV or JSON.",
            )
        self.number_styles = [self._style_of(column) for column in columns]

    def _style_of(self, column: Column) -> int:
        if column.kind in ("date", "timestamp", "zoned"):
            usual = (
                self.options["date_format" if column.kind == "date" else "timestamp_format"] or ISO_FORMS[column.kind == "date"]
            )
            try:
                return self.styles.of(number_format(fitting_form(column, {}) or usual))
            except BadInput as error:
                self.warn(f"column '{column.name}' is shown as {usual}: {error.message.rstrip('.')}")
                return self.styles.of(number_format(usual))
        return self.styles.of(column.pattern) if column.kind in NUMERIC and NUMBER_FORM.fullmatch(column.pattern) else 0

    def _open_sheet(self, batch: Batch | None) -> Sheet:
        widths = [len(column.name) + 3 for column in self.columns]
        if batch is not None and batch.rows:
            seen = [pc.max(pc.utf8_length(array)).as_py() or 0 for array in batch.cells]
            widths = [max(a, b + 1) for a, b in zip(widths, seen, strict=True)]
        titles = [filled(line, {**self.target.fields, "statement": self.title}) for line in self.options["title_rows"]]
        head_rows = len(titles) + bool(self.options["header"])
        name = sheet_name(self.title, self.names)
        sheet = Sheet(name, self.target.scratch(), head_rows, [min(max(w, 8), 60) for w in widths], self.options["freeze"])
        self.names.append(name)
        head = [f"<row>{text_cell(line, 1)}</row>" for line in titles]
        if self.options["header"]:
            head.append(f"<row>{''.join(text_cell(column.name, 1) for column in self.columns)}</row>")
        if head:
            sheet.write("".join(head).encode(), head_rows)
        return sheet

    def _close_sheet(self) -> None:
        if self.sheet is not None:
            self.sheets.append((self.sheet.name, len(self.found), self.sheet.rows - self.sheet.head_rows))
            try:
                self.sheet.finish(self.archive, f"xl/worksheets/sheet{len(self.names)}.xml", self.options["filter"])
            except OverflowError:
                raise ValueUnfit(
                    "the workbook is larger than 4 GiB, the most that every reader takes.", "Choose CSV, or split into files."
                ) from None
            self.marks.append(f"{self.sheet.name}:{self.sheet.crc:08x}:{self.sheet.size}")
            self.sheet = None

    def _fallback(
        self, column: Column, array: pa.Array[Any], held: pa.Array[Any], cells: Cells, why: str, wanted: str
    ) -> Cells:
        """The cells where the value is held, text cells elsewhere, with a warning."""
        if all_true(held):
            return cells
        endless = pc.and_(pc.invert(held), pc.match_substring_regex(array, _ENDLESS))
        for mask, what in ((pc.and_(pc.invert(held), pc.invert(endless)), why), (endless, _NOT_FINITE)):
            if any_true(mask):
                if wanted == "refuse":
                    raise self.unfit(
                        column, mask, f"a worksheet has no form for {what}", "Let it be written as text, or choose CSV."
                    )
                self.warn(f"column '{column.name}' holds {what}: written as text")
        return "", pc.if_else(held, together(*cells), _text_cells(array)), ""

    def _number_cells(self, column: Column, array: pa.Array[Any], style: int) -> Cells:
        cells = (f'<c s="{style}"><v>' if style else "<c><v>", array, "</v></c>")
        short = column.kind == "float" or longest(array) <= MAX_DIGITS
        if short and has_only(array, _PLAIN):
            return cells
        held = pc.match_substring_regex(array, _FINITE)
        if column.kind == "any":
            held = pc.and_(held, _is_double(array, held))
        elif not short:
            digits = pc.replace_substring_regex(array, _IDLE_ZEROS, r"\1")
            held = pc.and_(held, pc.invert(pc.match_substring_regex(digits, _SIGNIFICANT_16)))
        return self._fallback(column, array, held, cells, _TOO_MANY_DIGITS, self.options["unrepresentable_numbers"])

    def _date_cells(self, column: Column, array: pa.Array[Any], style: int) -> Cells:
        zone = self.options["zone"] if column.kind == "zoned" else "UTC"
        before, after = f'<c s="{style}"><v>', "</v></c>"
        serials = _serials(array, column.kind, zone)
        if serials is not None:
            return before, serials, after
        held = pc.match_substring_regex(array, _HELD_DATE)
        serials = _serials(pc.if_else(held, array, None), column.kind, zone)
        if serials is None:  # a moment at the very edge, that the zone takes over it
            held, serials = pc.equal(pc.binary_length(array), -1), array
        return self._fallback(column, array, held, (before, serials, after), _OUTSIDE, self.options["unrepresentable_dates"])

    def _cells(self, column: Column, array: pa.Array[Any], numbers: pa.Array[Any] | None, style: int) -> Cells:
        if column.kind in NUMERIC:
            return self._number_cells(column, array, style)
        if column.kind == "boolean":
            return '<c t="b"><v>', chosen(pc.equal(array, constant("true")), "1", "0"), "</v></c>"
        if column.kind in ("date", "timestamp", "zoned"):
            return self._date_cells(column, array, style)
        if numbers is not None and any_true(numbers):
            if all_true(pc.if_else(array.is_valid(), numbers, None)):
                return self._number_cells(column, array, style)
            some = together(*self._number_cells(column, pc.if_else(numbers, array, None), style))
            return "", pc.if_else(numbers, some, _text_cells(self._fitting(column, array))), ""
        if column.kind == "binary" and self.options["binary"] == "hex":
            array = in_hex(array)
        return _TEXT_OPEN, _escaped_all(self._fitting(column, array)), _TEXT_CLOSE

    def _fitting(self, column: Column, array: pa.Array[Any]) -> pa.Array[Any]:
        """Texts short enough for a cell. Raises ValueUnfit unless they may be cut."""
        if longest(array) <= MAX_TEXT:
            return array
        units = [0 if text is None else len(text) + sum(char > "\uffff" for char in text) for text in array.to_pylist()]
        over = pa.array([count > MAX_TEXT for count in units])
        if not any_true(over):
            return array
        if self.options["long_text"] == "refuse":
            what = f"the text is longer than the {MAX_TEXT:,} characters a cell holds"
            raise self.unfit(
                column, over, what, "Choose CSV or JSON, shorten the text in the statement, or set long_text to cut."
            )
        self.warn(f"column '{column.name}' holds texts longer than {MAX_TEXT:,} characters: cut")
        some = [
            str(text).encode("utf-16-le")[: 2 * MAX_TEXT].decode("utf-16-le", errors="ignore")
            for text in array.filter(over).to_pylist()
        ]
        return replaced_where(array, over, pa.array(some, pa.string()))

    def write(self, batch: Batch) -> None:
        done = 0
        while done < batch.rows:
            if self.sheet is not None and (self.sheet.rows >= MAX_ROWS or self.sheet.size > MAX_SHEET_BYTES):
                self._close_sheet()
            if self.sheet is None:
                self.sheet = self._open_sheet(batch)
            count = min(batch.rows - done, MAX_ROWS - self.sheet.rows)
            self._rows(self.sheet, batch, done, count)
            done += count

    def _rows(self, sheet: Sheet, batch: Batch, start: int, count: int) -> None:
        whole = count == batch.rows
        parts: list[pa.Array[Any] | str] = ["<row>"]
        for column, array, numbers, style in zip(self.columns, batch.cells, batch.numbers, self.number_styles, strict=True):
            if not whole:
                array = array.slice(start, count)
                numbers = numbers if numbers is None else numbers.slice(start, count)
            cells = self._cells(column, array, numbers, style)
            if array.null_count:
                parts.append(pc.fill_null(together(*cells), "<c/>"))
            else:
                parts += cells
        sheet.write(joined([*parts, "</row>"]), count)
        self.rows += count

    def end(self) -> None:
        if self.sheet is None:
            self.sheet = self._open_sheet(None)
        self._close_sheet()
        self.found.append((self.title, self.rows - self.before))

    def close(self) -> None:
        if self.options["origin"]:
            self._origin()
        for path, text in workbook_parts(self.names, self.styles).items():
            self.archive.add(path, text)
        self.archive.close()

    def _origin(self) -> None:
        facts: list[tuple[str, str]] = []
        for key, value in self.target.about.items():
            if isinstance(value, dict):
                facts += [(f"value of {name}", _shown(each)) for name, each in value.items()]
            elif isinstance(value, list):
                one = _in_words(key).removesuffix("s")
                facts += [(f"{one} {number}", _shown_part(each)) for number, each in enumerate(value, 1)]
            else:
                facts.append((_in_words(key), str(value)))
        several = len(self.found) > 1
        facts += [(f"rows of {title}" if several else "rows", str(rows)) for title, rows in self.found]
        facts += [("warnings", warning) for warning in self.warnings]
        self.sheet = Sheet(ORIGIN_SHEET, self.target.scratch(), 0, [20, 40], False)
        rows = "".join(f"<row>{text_cell(name, 1)}{text_cell(value)}</row>" for name, value in facts)
        self.sheet.write(rows.encode(), len(facts))
        self.names.append(ORIGIN_SHEET)
        self._close_sheet()

    def content_mark(self) -> str:
        told = self.marks[: len(self.marks) - bool(self.options["origin"])]
        return hashlib.sha256("\n".join(told).encode()).hexdigest()

    def waiting_bytes(self) -> int:
        return self.sheet.packed if self.sheet else 0

    def abandon(self) -> None:
        if self.sheet is not None:
            self.sheet.drop()


def _shown(value: Any) -> str:
    if value is None:
        return "null"
    return ", ".join(map(str, value)) if isinstance(value, list) else str(value)


def _shown_part(value: Any) -> str:
    """A fact that has facts of its own: ``run 12, rows 3``."""
    if not isinstance(value, dict):
        return _shown(value)
    return ", ".join(f"{_in_words(key)} {_shown(each)}" for key, each in value.items() if each is not False)


def _in_words(key: str) -> str:
    return "".join(f" {char.lower()}" if char.isupper() else char for char in key)


class XlsxFormat(Format):
    """See Format."""

    name = "xlsx"
    extension = ".xlsx"
    media_type = f"{SPREADSHEET}.sheet"
    counter = "workbook"
    lines = False
    note = "a workbook: a sheet for each statement, and one that says where it came from"
    options: ClassVar = OPTIONS
    seeks = True
    gathers = True

    def writer(self, target: Target, options: Mapping[str, Any]) -> FormatWriter:
        return XlsxWriter(target, options)

    def counter_facts(self, options: Mapping[str, Any]) -> dict[str, Any]:
        titles = len(options["title_rows"])
        return {"headRows": titles + bool(options["header"]), "titleRows": titles}

    def facts(self, options: Mapping[str, Any]) -> dict[str, Any]:
        return {"titleRows": len(options["title_rows"])} if options["title_rows"] else {}

    def field_facts(self, column: Column, options: Mapping[str, Any]) -> dict[str, Any]:
        return {"format": "binary"} if column.kind == "binary" and options["binary"] == "base64" else {}

    def read(self, file: BinaryIO, options: Mapping[str, Any], columns: Sequence[Sequence[Column]] = ()) -> Iterator[Table]:
        """Numbers as their cells hold them: a cell knows no zeros at the end of a fraction."""
        return sheets(whole(file), options, columns, ORIGIN_SHEET)

    def encoding(self, options: Mapping[str, Any]) -> str:
        return ""
