"""A workbook read back, sheet by sheet: texts, numbers as they stand, days and moments by their style."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime, time, timedelta
from typing import Any, BinaryIO
from xml.etree import ElementTree
from zipfile import ZipFile

from patient_ladle.core.results.columns import Column

from .sheets import MAIN
from .tables import Table, batched, canonical, columns_of

_ESCAPED = re.compile(r"_x([0-9A-Fa-f]{4})_")
_FIRST_DAY = datetime(1899, 12, 30)
_DAY_MILLISECONDS = 86_400_000
_MARKS_OF_MOMENTS = set("ydhs")
ORIGIN = ["fact", "value"]


def sheets(file: BinaryIO, options: Mapping[str, Any], columns: Sequence[Sequence[Column]], origin: str) -> Iterator[Table]:
    """Every sheet of ours as a table, in order; the one named ``origin`` says where the others came from."""
    archive = ZipFile(file)
    dated = _dated(archive.read("xl/styles.xml"))
    book = ElementTree.fromstring(archive.read("xl/workbook.xml"))  # noqa: S314  # our own file
    for number, each in enumerate(book.iter(f"{{{MAIN}}}sheet")):
        rows = _rows(archive.open(f"xl/worksheets/sheet{number + 1}.xml"), dated)  # type: ignore[arg-type]  # it reads bytes
        name = each.get("name", "")
        if name == origin:
            yield Table(name, [Column(fact) for fact in ORIGIN], batched(rows, len(ORIGIN)))
            continue
        for _ in options["title_rows"]:
            next(rows, None)
        first = next(rows, None)
        names = [str(cell) for cell in first or ()]
        if not options["header"]:
            names, rows = [f"column_{place}" for place in range(1, len(names) + 1)], _and(first, rows)
        made = columns_of(names, columns[number] if number < len(columns) else ())
        known = ([_kind(cell, column, options) for cell, column in zip(row, made, strict=False)] for row in rows)
        yield Table(name, made, canonical(batched(known, len(made)), made, {"binary": options["binary"]}))


def _and(first: list[str | None] | None, rows: Iterator[list[str | None]]) -> Iterator[list[str | None]]:
    if first is not None:
        yield first
        yield from rows


def _kind(cell: str | None, column: Column, options: Mapping[str, Any]) -> str | None:
    """Moments in a sheet have no zone: those of UTC say so again."""
    if cell and column.kind == "zoned" and options["zone"] == "UTC" and re.match(r"\d{4}-\d\d-\d\d", cell):
        return f"{cell[:10]}T{cell[11:] or '00:00:00'}Z"
    if cell and column.kind == "timestamp" and len(cell) == len("2026-11-24"):
        return f"{cell} 00:00:00"
    return cell


def _dated(styles: bytes) -> set[str]:
    """Numbers of the styles that show a day or a moment."""
    root = ElementTree.fromstring(styles)  # noqa: S314  # our own file
    codes = {each.get("numFmtId"): each.get("formatCode", "") for each in root.iter(f"{{{MAIN}}}numFmt")}
    forms = root.find(f"{{{MAIN}}}cellXfs")
    each = enumerate(forms if forms is not None else ())
    return {str(number) for number, form in each if set(codes.get(form.get("numFmtId"), "")) & _MARKS_OF_MOMENTS}


def _rows(part: BinaryIO, dated: set[str]) -> Iterator[list[str | None]]:
    for _, element in ElementTree.iterparse(part):  # noqa: S314  # our own file
        if element.tag == f"{{{MAIN}}}row":
            yield [_cell(cell, dated) for cell in element]
            element.clear()


def _cell(cell: ElementTree.Element, dated: set[str]) -> str | None:
    text = "".join(cell.itertext())
    if cell.get("t") == "inlineStr":
        return _ESCAPED.sub(lambda found: chr(int(found[1], 16)), text)
    if cell.get("t") == "b":
        return "true" if text == "1" else "false"
    if cell.get("s") in dated and text:
        try:
            moment = _FIRST_DAY + timedelta(milliseconds=round(float(text) * _DAY_MILLISECONDS))
        except OverflowError:  # the last microseconds of the year 9999 round up into a year that no calendar here has
            moment = datetime.max
        return str(moment.date()) if moment.time() == time() else str(moment)
    return text or None
