"""One worksheet of an Office Open XML workbook (ECMA-376), streamed: bold frozen header, filter, widths, real values.

Numbers, dates and booleans are real ones; text that looks like a number stays text. What a cell cannot hold exactly
(integers and decimals beyond 15 digits, dates before March 1900, infinities) is written as text with a warning; what
the format cannot hold at all (32,767 characters, 1,048,576 rows, 16,384 columns) is refused.
"""

from __future__ import annotations

import zipfile
from collections.abc import Sequence
from typing import BinaryIO
from xml.parsers import expat
from xml.sax.saxutils import escape, quoteattr

import pyarrow as pa
import pyarrow.compute as pc

from ..columns import NUMERIC, Batch, Column
from ..errors import ProofFailed, ValueUnfit
from .base import READ_BYTES, Format, FormatWriter, any_true, first_true, joined, replaced_where

MAX_ROWS = 1_048_576
"""Rows of a worksheet, the header's among them."""
MAX_COLUMNS = 16_384
MAX_TEXT = 32_767
"""Characters (UTF-16 units, to be exact) of a cell."""
MAX_DIGITS = 15
"""Significant digits that every double keeps (IEEE 754 binary64)."""
_SHEET = "xl/worksheets/sheet1.xml"
_MAIN = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
_OFFICE = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
_PACKAGE = "http://schemas.openxmlformats.org/package/2006"
_XML = '<?xml version="1.0" encoding="UTF-8" standalone="yes"?>\n'
_SPREADSHEET = "application/vnd.openxmlformats-officedocument.spreadsheetml"
_XF = '<xf numFmtId="{0}" fontId="{1}" fillId="0" borderId="0" xfId="0" applyNumberFormat="1" applyFont="1"/>'
_PARTS = {
    "[Content_Types].xml": f'{_XML}<Types xmlns="{_PACKAGE}/content-types"><Default Extension="rels" '
    'ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
    f'<Override PartName="/xl/workbook.xml" ContentType="{_SPREADSHEET}.sheet.main+xml"/>'
    f'<Override PartName="/{_SHEET}" ContentType="{_SPREADSHEET}.worksheet+xml"/>'
    f'<Override PartName="/xl/styles.xml" ContentType="{_SPREADSHEET}.styles+xml"/></Types>',
    "_rels/.rels": f'{_XML}<Relationships xmlns="{_PACKAGE}/relationships"><Relationship Id="rId1" '
    f'Type="{_OFFICE}/officeDocument" Target="xl/workbook.xml"/></Relationships>',
    "xl/workbook.xml": f'{_XML}<workbook xmlns="{_MAIN}" xmlns:r="{_OFFICE}"><sheets>'
    '<sheet name="Result" sheetId="1" r:id="rId1"/></sheets></workbook>',
    "xl/_rels/workbook.xml.rels": f'{_XML}<Relationships xmlns="{_PACKAGE}/relationships">'
    f'<Relationship Id="rId1" Type="{_OFFICE}/worksheet" Target="worksheets/sheet1.xml"/>'
    f'<Relationship Id="rId2" Type="{_OFFICE}/styles" Target="styles.xml"/></Relationships>',
    "xl/styles.xml": f'{_XML}<styleSheet xmlns="{_MAIN}"><numFmts count="2">'
    '<numFmt numFmtId="164" formatCode="yyyy\\-mm\\-dd"/><numFmt numFmtId="165" formatCode="yyyy\\-mm\\-dd\\ hh:mm:ss"/>'
    '</numFmts><fonts count="2"><font><sz val="11"/><name val="Calibri"/></font><font><b/><sz val="11"/>'
    '<name val="Calibri"/></font></fonts><fills count="2"><fill><patternFill patternType="none"/></fill>'
    '<fill><patternFill patternType="gray125"/></fill></fills>'
    '<borders count="1"><border><left/><right/><top/><bottom/><diagonal/></border></borders>'
    '<cellStyleXfs count="1"><xf numFmtId="0" fontId="0" fillId="0" borderId="0"/></cellStyleXfs><cellXfs count="4">'
    f"{_XF.format(0, 0)}{_XF.format(0, 1)}{_XF.format(164, 0)}{_XF.format(165, 0)}</cellXfs>"
    '<cellStyles count="1"><cellStyle name="Normal" xfId="0" builtinId="0"/></cellStyles></styleSheet>',
}
_TEXT_OPEN, _TEXT_CLOSE = '<c t="inlineStr"><is><t xml:space="preserve">', "</t></is></c>"
_NEEDS_ESCAPES = "[&<>\x00-\x08\x0b-\x1f\ufffe\uffff]|_x[0-9A-Fa-f]{4}_"
_HELD_DATE = r"^(19(0[1-9]|[1-9]\d)|1900-(0[3-9]|1)|[2-9]\d\d\d)[^ ]*(.*[^C])?$"
"""Years 1900 (from March) to 9999: the days whose serial number every reader agrees on."""
_EPOCH_DAY = 25_569
"""Serial number of 1970-01-01 in a worksheet."""
_DAY_MICROS = 86_400_000_000
_FINITE = r"^[-+]?[0-9]"
_IDLE_ZEROS = r"(\.\d*?)0+$"
_SIGNIFICANT_16 = r"^-?[0.]*([1-9]\.?([0-9]\.?){15})"


def _escaped(text: str) -> str:
    """XML text; characters that XML cannot carry as ``_xHHHH_`` (ECMA-376 part 1, 22.9.2.19)."""
    out = []
    for number, char in enumerate(text):
        code = ord(char)
        if (code < 32 and char not in "\t\n") or code in (0xFFFE, 0xFFFF):
            out.append(f"_x{code:04X}_")
        elif char == "_" and text[number + 1 : number + 2] == "x" and text[number + 6 : number + 7] == "_":
            out.append("_x005F_")
        else:
            out.append(char)
    return escape("".join(out))


def _text_cells(array: pa.Array) -> pa.Array:
    needs = pc.match_substring_regex(array, _NEEDS_ESCAPES)
    if any_true(needs):
        some = [_escaped(text) for text in array.filter(needs).to_pylist()]
        array = replaced_where(array, needs, pa.array(some, pa.string()))
    return pc.binary_join_element_wise(_TEXT_OPEN, array, _TEXT_CLOSE, "")


def _days(array: pa.Array) -> pa.Array:
    return pc.add(array.cast(pa.date32()).cast(pa.int32()), _EPOCH_DAY).cast(pa.string())


def _moments(array: pa.Array) -> pa.Array:
    plain = pc.replace_substring(pc.replace_substring(array, "T", " "), "Z", "")
    micros = pc.add(plain.cast(pa.timestamp("us")).cast(pa.int64()), _EPOCH_DAY * _DAY_MICROS)
    days = pc.divide(micros, _DAY_MICROS)  # whole days apart: all microseconds at once are more than a double holds
    share = pc.divide(pc.subtract(micros, pc.multiply(days, _DAY_MICROS)).cast(pa.float64()), float(_DAY_MICROS))
    return pc.add(days.cast(pa.float64()), share).cast(pa.string())


class XlsxWriter(FormatWriter):
    """See FormatWriter."""

    def __init__(self, file: BinaryIO, columns: Sequence[Column]) -> None:
        super().__init__(file, columns)
        if len(columns) > MAX_COLUMNS:
            raise ValueUnfit(
                f"the result has {len(columns):,} columns; a worksheet holds {MAX_COLUMNS:,}.",
                "Choose fewer columns, or CSV or JSON.",
            )
        self.out = _Outlet(file)
        self.zip = zipfile.ZipFile(self.out, "w", zipfile.ZIP_DEFLATED, compresslevel=1)
        for name, text in _PARTS.items():
            self.zip.writestr(zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0)), text)
        info = zipfile.ZipInfo(_SHEET, (1980, 1, 1, 0, 0, 0))
        info.compress_type = zipfile.ZIP_DEFLATED
        self.sheet = self.zip.open(info, "w", force_zip64=True)
        self.begun = False

    def _begin(self, batch: Batch | None) -> None:
        widths = [len(column.name) + 3 for column in self.columns]
        if batch is not None and batch.rows:
            longest = [pc.max(pc.utf8_length(array)).as_py() or 0 for array in batch.cells]
            widths = [max(a, b + 1) for a, b in zip(widths, longest, strict=True)]
        cols = "".join(
            f'<col min="{n}" max="{n}" width="{min(max(w, 8), 60)}" customWidth="1"/>' for n, w in enumerate(widths, 1)
        )
        cells = "".join(
            f'<c t="inlineStr" s="1"><is><t xml:space="preserve">{_escaped(c.name)}</t></is></c>' for c in self.columns
        )
        pane = '<pane ySplit="1" topLeftCell="A2" activePane="bottomLeft" state="frozen"/>'
        self.sheet.write(
            f'{_XML}<worksheet xmlns={quoteattr(_MAIN)}><sheetViews><sheetView workbookViewId="0">{pane}</sheetView>'
            f"</sheetViews><cols>{cols}</cols><sheetData><row>{cells}</row>".encode()
        )
        self.begun = True

    def _fallback(self, column: Column, array: pa.Array, held: pa.Array, cells: pa.Array, why: str) -> pa.Array:
        """``cells`` where the value is held, text cells elsewhere, with a warning."""
        if pc.all(pc.fill_null(held, True)).as_py():
            return cells
        self.warn(f"column '{column.name}' holds {why}: written as text")
        return pc.if_else(held, cells, _text_cells(array))

    def _number_cells(self, column: Column, array: pa.Array) -> pa.Array:
        held = pc.match_substring_regex(array, _FINITE)
        if column.kind != "float" and (pc.max(pc.binary_length(array)).as_py() or 0) > MAX_DIGITS:
            digits = pc.replace_substring_regex(array, _IDLE_ZEROS, r"\1")
            held = pc.and_(held, pc.invert(pc.match_substring_regex(digits, _SIGNIFICANT_16)))
        cells = pc.binary_join_element_wise("<c><v>", array, "</v></c>", "")
        return self._fallback(column, array, held, cells, "numbers that a cell cannot hold exactly")

    def _date_cells(self, column: Column, array: pa.Array) -> pa.Array:
        held = pc.match_substring_regex(array, _HELD_DATE)
        safe = pc.if_else(held, array, None)
        serial = _days(safe) if column.kind == "date" else _moments(safe)
        style = 2 if column.kind == "date" else 3
        cells = pc.binary_join_element_wise(f'<c s="{style}"><v>', serial, "</v></c>", "")
        return self._fallback(column, array, held, cells, "dates outside March 1900 to 9999")

    def _cells(self, column: Column, array: pa.Array, numbers: pa.Array | None) -> pa.Array:
        if column.kind in NUMERIC:
            return self._number_cells(column, array)
        if column.kind == "boolean":
            flags = pc.if_else(pc.equal(array, "true"), "1", "0")
            return pc.binary_join_element_wise('<c t="b"><v>', flags, "</v></c>", "")
        if column.kind in ("date", "timestamp", "zoned"):
            return self._date_cells(column, array)
        if numbers is not None and any_true(numbers):
            return pc.if_else(numbers, self._number_cells(column, pc.if_else(numbers, array, None)), _text_cells(array))
        return _text_cells(array)

    def _refuse_unfit(self, batch: Batch) -> None:
        if self.rows + batch.rows + 1 > MAX_ROWS:
            raise ValueUnfit(
                f"the result has more than {MAX_ROWS - 1:,} rows, the most that a worksheet holds.",
                "Choose CSV or JSON, or narrow the statement.",
            )
        for column, array in zip(self.columns, batch.cells, strict=True):
            over = pc.greater(pc.utf8_length(array), MAX_TEXT)
            if any_true(over):
                row = self.rows + first_true(over) + 1
                raise ValueUnfit(
                    f"row {row:,}, column '{column.name}': the text is longer than the {MAX_TEXT:,} characters a cell holds.",
                    "Choose CSV or JSON, or shorten the text in the statement.",
                    row=row,
                    column=column.name,
                )

    def write(self, batch: Batch) -> None:
        self._refuse_unfit(batch)
        if not self.begun:
            self._begin(batch)
        parts: list[pa.Array | str] = ["<row>"]
        for column, array, numbers in zip(self.columns, batch.cells, batch.numbers, strict=True):
            parts.append(pc.fill_null(self._cells(column, array, numbers), "<c/>"))
        self.sheet.write(joined([*parts, "</row>"]))
        self.rows += batch.rows

    def close(self) -> None:
        if not self.begun:
            self._begin(None)
        last = f"{_letters(len(self.columns))}{self.rows + 1}"
        self.sheet.write(f'</sheetData><autoFilter ref="A1:{last}"/></worksheet>'.encode())
        self.sheet.close()
        self.zip.close()

    def abandon(self) -> None:
        self.out.shut = True
        self.sheet.close()
        self.zip.close()


class _Outlet:
    """The file as the archive sees it: written to, never sought in, and silent once shut."""

    def __init__(self, file: BinaryIO) -> None:
        self.file, self.shut = file, False

    def write(self, data: bytes) -> int:
        return len(data) if self.shut else self.file.write(data)

    def flush(self) -> None:
        return None

    def close(self) -> None:
        return None


def _letters(number: int) -> str:
    """Column letters of a 1-based number: 1 is A, 27 is AA."""
    letters = ""
    while number:
        number, rest = divmod(number - 1, 26)
        letters = chr(65 + rest) + letters
    return letters or "A"


class XlsxFormat(Format):
    """See Format."""

    name = "xlsx"
    ending = ".xlsx"
    media_type = f"{_SPREADSHEET}.sheet"

    def writer(self, file: BinaryIO, columns: Sequence[Column]) -> FormatWriter:
        return XlsxWriter(file, columns)

    def count_rows(self, file: BinaryIO) -> int:
        """Row tags of the sheet, while the archive's checksum and the XML's form are proven."""
        parser, rows, rest = expat.ParserCreate(), 0, b""
        try:
            with zipfile.ZipFile(file) as archive, archive.open(_SHEET) as sheet:
                while chunk := sheet.read(READ_BYTES):
                    parser.Parse(chunk)
                    text = rest + chunk
                    rows += text.count(b"<row>")
                    rest = text[-4:]
            parser.Parse(b"", True)
        except (zipfile.BadZipFile, KeyError, EOFError, expat.ExpatError) as error:
            raise ProofFailed(f"the workbook is damaged: {error}.", "Start the run again.") from error
        return rows - 1
