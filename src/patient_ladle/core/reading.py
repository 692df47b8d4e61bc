"""The first rows of a stored file, read as a reader would see them, in any format."""

from __future__ import annotations

import codecs
import csv
import io
import json
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime, time, timedelta
from itertools import islice
from typing import Any, BinaryIO
from xml.etree import ElementTree
from zipfile import ZipFile

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

from patient_ladle.proof.unpacking import unpacked

from .columns import Batch, Column
from .errors import ValueUnfit
from .formats import get_format
from .formats.base import Target
from .formats.sheets import MAIN
from .output import OutputSettings

MOST_CHARACTERS = 2_000
"""Of one cell in a preview."""

LARGEST_CELL = 64 << 20
"""Characters of a cell that is read at all; of a larger one the file itself tells."""


def first_rows_of(
    file: BinaryIO, form: str, options: Mapping[str, Any], packing: str, most: int, sheet: str = ""
) -> dict[str, Any]:
    """``columns``, ``rows`` (texts, None for absent) and whether that was all. ``sheet``: of a workbook; else the first."""
    content = unpacked(packing, file)
    read = {"csv": _delimited, "tsv": _delimited, "json": _json, "jsonl": _json, "parquet": _parquet, "text": _text}
    if form == "xlsx":
        columns, rows = _sheet(_whole(content), options, sheet)
    else:
        columns, rows = read[form](_whole(content) if form == "parquet" else content, options)
    try:
        found = list(islice(rows, most + 1))
    except (csv.Error, MemoryError) as error:
        raise ValueUnfit(
            "a cell of this file is too large to be looked at here.", "Download the file, and open it with a program of yours."
        ) from error
    shown = [[None if cell is None else str(cell)[:MOST_CHARACTERS] for cell in row] for row in found[:most]]
    width = max((len(row) for row in shown), default=len(columns))
    names = list(columns) + [f"column_{n}" for n in range(len(columns) + 1, width + 1)]
    return {"columns": names, "rows": [row + [None] * (len(names) - len(row)) for row in shown], "complete": len(found) <= most}


Read = tuple[list[str], Iterator[list[Any]]]


def _whole(content: BinaryIO) -> BinaryIO:
    return content if isinstance(content, io.BufferedReader) and content.seekable() else io.BytesIO(content.read())


def _lines(content: BinaryIO, options: Mapping[str, Any], form: str) -> io.TextIOBase:
    encoding = get_format(form).encoding(options)
    name = "utf-8-sig" if codecs.lookup(encoding).name == "utf-8" else encoding
    return io.TextIOWrapper(content, name, newline="", errors="replace")


def _delimited(content: BinaryIO, options: Mapping[str, Any]) -> Read:
    csv.field_size_limit(LARGEST_CELL)
    rows = csv.reader(_lines(content, options, "csv"), delimiter=options["delimiter"])
    columns = next(rows, []) if options["header"] else []
    return columns, iter(rows)


def _text(content: BinaryIO, options: Mapping[str, Any]) -> Read:
    lines = (line.rstrip("\r\n") for line in _lines(content, options, "text"))
    head = next(lines, "") if options["header"] else "line"
    if options["header"]:
        next(lines, "")
    return [head], ([line] for line in lines)


def _json(content: BinaryIO, options: Mapping[str, Any]) -> Read:
    lines = (line.strip().removesuffix(b",") for line in content)
    records = (
        json.loads(line, parse_float=str, parse_int=str) for line in lines if line.startswith(b"{") and line.endswith(b"}")
    )
    first = next(records, None)
    if first is None:
        return [], iter(())
    columns = list(first)

    def rows() -> Iterator[list[Any]]:
        yield [_shown(first[name]) for name in columns]
        for record in records:
            yield [_shown(record.get(name)) for name in columns]

    return columns, rows()


def _shown(value: Any) -> Any:
    if isinstance(value, bool):
        return "true" if value else "false"
    return json.dumps(value, ensure_ascii=False) if isinstance(value, (dict, list)) else value


def _parquet(content: BinaryIO, options: Mapping[str, Any]) -> Read:
    file = pq.ParquetFile(content)
    batches = file.iter_batches(batch_size=1_000)
    return list(file.schema_arrow.names), (
        list(row) for batch in batches for row in zip(*batch.to_pydict().values(), strict=True)
    )


def _sheet(content: BinaryIO, options: Mapping[str, Any], wanted: str) -> Read:
    archive = ZipFile(content)
    names = [each.get("name") for each in ElementTree.fromstring(archive.read("xl/workbook.xml")).iter(f"{{{MAIN}}}sheet")]  # noqa: S314  # our own file
    number = names.index(wanted) + 1 if wanted in names else 1
    dated = _dated(archive.read("xl/styles.xml"))
    rows = _sheet_rows(archive.open(f"xl/worksheets/sheet{number}.xml"), dated)  # type: ignore[arg-type]  # it reads bytes
    if names[number - 1] == "Origin":
        return ["fact", "value"], rows
    for _ in options.get("title_rows", ()):
        next(rows, None)
    return ([str(cell) for cell in next(rows, [])] if options.get("header", True) else []), rows


def _dated(styles: bytes) -> set[str]:
    """Numbers of the styles that show a day or a moment."""
    root = ElementTree.fromstring(styles)  # noqa: S314  # our own file
    codes = {each.get("numFmtId"): each.get("formatCode", "") for each in root.iter(f"{{{MAIN}}}numFmt")}
    forms = root.find(f"{{{MAIN}}}cellXfs")
    return {
        str(n)
        for n, form in enumerate(forms if forms is not None else ())
        if set(codes.get(form.get("numFmtId"), "")) & set("ydhs")
    }


def _sheet_rows(part: BinaryIO, dated: set[str]) -> Iterator[list[Any]]:
    for _, element in ElementTree.iterparse(part):  # noqa: S314  # our own file
        if element.tag == f"{{{MAIN}}}row":
            yield [_cell(cell, dated) for cell in element]
            element.clear()


def _cell(cell: ElementTree.Element, dated: set[str]) -> str | None:
    text = "".join(cell.itertext())
    if cell.get("t") == "b":
        return "true" if text == "1" else "false"
    if cell.get("s") in dated and cell.get("t") is None and text:
        moment = datetime(1899, 12, 30) + timedelta(milliseconds=round(float(text) * 86_400_000))
        return str(moment.date()) if moment.time() == time() else str(moment)
    return text or None


def sample_of(
    columns: Sequence[Column], rows: Sequence[Sequence[str | None]], form: str, settings: OutputSettings
) -> dict[str, Any]:
    """How a few rows would look in a file: its text, or its cells for a format that is no text; and what would be warned of.

    Raises what a run would raise.
    """
    shape, member, file = settings.shape("", columns), get_format(form), io.BytesIO()
    options = settings.options_of(form)
    writer = member.writer(Target(file, io.BytesIO, {}), options)
    writer.begin("", shape.columns)
    cells = [list(each) for each in zip(*rows, strict=True)] if rows else [[] for _ in columns]
    batch = Batch.of_texts(cells, len(rows))
    numbers = [_numeric(array) if column.kind == "any" else None for column, array in zip(columns, batch.cells, strict=True)]
    zone = str(options.get("zone", "UTC"))
    writer.write(shape.batch(Batch(batch.cells, numbers, len(rows)), 0, zone))
    writer.end()
    writer.close()
    told: dict[str, Any] = {"warnings": writer.warnings, "bytes": len(file.getvalue()), "text": None, "columns": [], "rows": []}
    encoding = member.encoding(options)
    if encoding:
        told["text"] = file.getvalue().decode("utf-8-sig" if encoding == "utf-8" else encoding, errors="replace")
    else:
        file.seek(0)
        told |= first_rows_of(file, form, options, "none", len(rows) + 1)
    return told


def _numeric(array: pa.Array) -> pa.Array:
    return pc.match_substring_regex(array, r"^-?[0-9]+(\.[0-9]+)?([eE][+-]?[0-9]+)?$")
