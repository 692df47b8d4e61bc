"""The parts of an Office Open XML workbook (ECMA-376) around its cells, and one worksheet deflated in a second thread."""

from __future__ import annotations

import re
import zlib
from collections.abc import Mapping, Sequence
from itertools import chain
from typing import Any, BinaryIO, NoReturn
from xml.sax.saxutils import escape, quoteattr

from isal import isal_zlib

from patient_ladle.core.errors import BadInput
from patient_ladle.proof.counting import ORIGIN_SHEET, READ_BYTES

from ..background import BackgroundWriter
from .archive import Archive, crc_of_both
from .styles import marks_of

MAIN = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
SPREADSHEET = "application/vnd.openxmlformats-officedocument.spreadsheetml"
_OFFICE = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
_PACKAGE = "http://schemas.openxmlformats.org/package/2006"
_XML = '<?xml version="1.0" encoding="UTF-8" standalone="yes"?>\n'
_XF = '<xf numFmtId="{0}" fontId="{1}" fillId="0" borderId="0" xfId="0" applyNumberFormat="1" applyFont="1"/>'
_FONT = '<sz val="11"/><name val="Calibri"/>'
_NAME_FORBIDS = re.compile(r"[\[\]:*?/\\\x00-\x1f]")
NAME_LENGTH = 31
"""Characters of a sheet's name, UTF-16 units to be exact."""
_MARKS = {
    "d": "dd", "m": "mm", "Y": "yyyy", "y": "yy", "H": "hh", "I": "hh", "M": "mm", "S": "ss", "b": "mmm", "B": "mmmm",
    "a": "ddd", "A": "dddd", "p": "AM/PM", "f": "", "%": "\\%",
}  # fmt: skip


def letters(number: int) -> str:
    """Column letters of a 1-based number: 1 is A, 27 is AA."""
    made = ""
    while number:
        number, rest = divmod(number - 1, 26)
        made = chr(65 + rest) + made
    return made or "A"


def escaped(text: str) -> str:
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


def number_format(style: str) -> str:
    r"""The workbook's code of a strftime style: ``%d/%m/%Y`` is ``dd\/mm\/yyyy``.

    Raises BadInput for a style that a workbook cannot show, or would show otherwise.
    """
    marks = [mark for mark in marks_of(style) if mark != "%"]
    for mark, before, after in zip(marks, ["", *marks], [*marks[1:], ""], strict=False):
        beside_time = before in ("H", "I") or after == "S"
        if mark not in _MARKS:
            _refuse(style, mark, "has no form in a workbook")
        if mark == "f" and "%S.%f" not in style:
            _refuse(style, mark, "is shown only right after %S.")
        if mark == "m" and beside_time:
            _refuse(style, mark, "beside hours or seconds would be shown as minutes")
        if mark == "M" and not beside_time:
            _refuse(style, mark, "without hours before it or seconds after it would be shown as the month")
    if ("p" in marks) != ("I" in marks) or ("I" in marks and "H" in marks):
        _refuse(style, "I", "and %p go together, and without %H")
    made = "".join(
        "ss.000" if part == "%S.%f" else _MARKS[part[1]] if part[0] == "%" else "".join("\\" + char for char in part)
        for part in re.findall(r"%S\.%f|%.|[^%]+", style)
    )
    if len(made) > _LONGEST_CODE:
        raise BadInput(f"'{style}' is longer than a workbook takes.", f"Its code has {_LONGEST_CODE} characters at most.")
    return made


_LONGEST_CODE = 255


def _refuse(style: str, mark: str, why: str) -> NoReturn:
    raise BadInput(f"'%{mark}' in '{style}' {why}.", "Take a style of %d %m %Y %y %b %B %a %A %H %M %S, %I with %p, %S.%f.")


def sheet_name(wanted: str, taken: Sequence[str]) -> str:
    """A name that a workbook takes: without forbidden characters, short enough, and not there yet."""
    base = _NAME_FORBIDS.sub("_", wanted).strip("' ") or "Result"
    if base.lower() in ("history", ORIGIN_SHEET.lower()):
        base += "_"
    lower, count, name = {each.lower() for each in taken}, 1, _cut(base, NAME_LENGTH)
    while name.lower() in lower:
        count += 1
        mark = f" ({count})"
        name = _cut(base, NAME_LENGTH - len(mark)) + mark
    return name


def _cut(text: str, units: int) -> str:
    return text.encode("utf-16-le")[: 2 * units].decode("utf-16-le", errors="ignore").rstrip("' ")


def text_cell(text: str, style: int = 0) -> str:
    """One cell of text."""
    marked = f' s="{style}"' if style else ""
    return f'<c t="inlineStr"{marked}><is><t xml:space="preserve">{escaped(text)}</t></is></c>'


class Styles:
    """Number formats in the order in which somebody asked for them; 0 is plain, 1 is bold."""

    def __init__(self) -> None:
        self.codes: list[str] = []

    def of(self, code: str) -> int:
        """The number of the style that shows values by that code."""
        if code not in self.codes:
            self.codes.append(code)
        return self.codes.index(code) + 2

    def part(self) -> str:
        """The workbook's part of styles."""
        formats = "".join(f'<numFmt numFmtId="{164 + n}" formatCode={quoteattr(c)}/>' for n, c in enumerate(self.codes))
        cells = _XF.format(0, 0) + _XF.format(0, 1) + "".join(_XF.format(164 + n, 0) for n in range(len(self.codes)))
        return (
            f'{_XML}<styleSheet xmlns="{MAIN}"><numFmts count="{len(self.codes)}">{formats}</numFmts>'
            f'<fonts count="2"><font>{_FONT}</font><font><b/>{_FONT}</font>'
            '</fonts><fills count="2"><fill><patternFill patternType="none"/></fill>'
            '<fill><patternFill patternType="gray125"/></fill>'
            '</fills><borders count="1"><border><left/><right/><top/><bottom/><diagonal/></border></borders>'
            '<cellStyleXfs count="1"><xf numFmtId="0" fontId="0" fillId="0" borderId="0"/></cellStyleXfs>'
            f'<cellXfs count="{len(self.codes) + 2}">{cells}</cellXfs>'
            '<cellStyles count="1"><cellStyle name="Normal" xfId="0" builtinId="0"/></cellStyles></styleSheet>'
        ).replace('<numFmts count="0"></numFmts>', "")


def workbook_parts(names: Sequence[str], styles: Styles) -> Mapping[str, str]:
    """Everything but the sheets, by its path in the archive."""
    paths = [f"worksheets/sheet{number}.xml" for number in range(1, len(names) + 1)]
    overrides = "".join(f'<Override PartName="/xl/{path}" ContentType="{SPREADSHEET}.worksheet+xml"/>' for path in paths)
    sheets = "".join(f'<sheet name={quoteattr(name)} sheetId="{n}" r:id="rId{n}"/>' for n, name in enumerate(names, 1))
    ties = "".join(f'<Relationship Id="rId{n}" Type="{_OFFICE}/worksheet" Target="{path}"/>' for n, path in enumerate(paths, 1))
    return {
        "[Content_Types].xml": f'{_XML}<Types xmlns="{_PACKAGE}/content-types"><Default Extension="rels" '
        'ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
        f'<Override PartName="/xl/workbook.xml" ContentType="{SPREADSHEET}.sheet.main+xml"/>{overrides}'
        f'<Override PartName="/xl/styles.xml" ContentType="{SPREADSHEET}.styles+xml"/></Types>',
        "_rels/.rels": f'{_XML}<Relationships xmlns="{_PACKAGE}/relationships"><Relationship Id="rId1" '
        f'Type="{_OFFICE}/officeDocument" Target="xl/workbook.xml"/></Relationships>',
        "xl/workbook.xml": f'{_XML}<workbook xmlns="{MAIN}" xmlns:r="{_OFFICE}"><sheets>{sheets}</sheets></workbook>',
        "xl/_rels/workbook.xml.rels": f'{_XML}<Relationships xmlns="{_PACKAGE}/relationships">{ties}'
        f'<Relationship Id="rId{len(names) + 1}" Type="{_OFFICE}/styles" Target="styles.xml"/></Relationships>',
        "xl/styles.xml": styles.part(),
    }


class Sheet:
    """One worksheet: its rows go deflated into a scratch file, for only then is known how many there are."""

    def __init__(self, name: str, scratch: BinaryIO, head_rows: int, widths: Sequence[int], freezes: bool) -> None:
        self.name, self.scratch, self.head_rows, self.freezes = name, scratch, head_rows, freezes
        self.widths = widths
        self.rows = 0
        self.crc = self.size = self.packed = 0
        self.packer = isal_zlib.compressobj(1, isal_zlib.DEFLATED, -15)
        self.background = BackgroundWriter(self._take)

    def _take(self, data: Any) -> None:
        self.crc = isal_zlib.crc32(data, self.crc)
        self.size += len(data)
        self._pack(self.packer.compress(data))

    def _pack(self, packed: bytes) -> None:
        self.scratch.write(packed)
        self.packed += len(packed)

    def write(self, data: Any, rows: int) -> None:
        """So many rows of cells."""
        self.background.submit(data)
        self.rows += rows

    def drop(self) -> None:
        """Let go of the scratch file."""
        self.background.abort()
        self.scratch.close()

    def finish(self, archive: Archive, path: str, has_filter: bool) -> None:
        """Put the sheet into the archive, what is said before its rows first. Raises OverflowError where it is too large."""
        last = f"{letters(len(self.widths))}{max(self.rows, 1)}"
        head_row = max(self.head_rows, 1)
        tail = f'<autoFilter ref="A{head_row}:{last}"/>' if has_filter and self.head_rows else ""
        self.background.submit(f"</sheetData>{tail}</worksheet>".encode())
        self.background.close()
        self._pack(self.packer.flush())
        cols = "".join(f'<col min="{n}" max="{n}" width="{w}" customWidth="1"/>' for n, w in enumerate(self.widths, 1))
        pane = f'<pane ySplit="{head_row}" topLeftCell="A{head_row + 1}" activePane="bottomLeft" state="frozen"/>'
        head = (
            f'{_XML}<worksheet xmlns="{MAIN}"><dimension ref="A1:{last}"/><sheetViews><sheetView workbookViewId="0">'
            f"{pane if self.freezes and self.head_rows else ''}</sheetView></sheetViews><cols>{cols}</cols><sheetData>"
        ).encode()
        packer = zlib.compressobj(6, zlib.DEFLATED, -15)
        before = packer.compress(head) + packer.flush(zlib.Z_FULL_FLUSH)  # ends on a byte: the rows' stream follows as it is
        crc = crc_of_both(zlib.crc32(head), self.crc, self.size)
        self.scratch.seek(0)
        pieces = chain([before], iter(lambda: self.scratch.read(READ_BYTES), b""))
        archive.add_packed(path, crc, len(head) + self.size, len(before) + self.packed, pieces)
        self.scratch.close()
