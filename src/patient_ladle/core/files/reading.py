"""The first rows of a stored file, read as a reader would see them, in any format."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, BinaryIO

import pyarrow as pa
import pyarrow.compute as pc

from patient_ladle.proof.unpacking import unpacked

from ..errors import unknown_name
from ..results.columns import Batch, Column
from ..results.profile import Profile, of_cells
from .formats import get_format
from .formats.base import Target
from .formats.tables import Table
from .output import OutputSettings

MOST_CHARACTERS = 2_000
"""Of one cell in a preview."""
MOST_BYTES = 400 << 20
"""Of the texts of one column that are looked at."""


def first_rows_of(
    file: BinaryIO, form: str, options: Mapping[str, Any], compression: str, most: int, sheet: str = ""
) -> dict[str, Any]:
    """``columns``, ``rows`` (texts, None for null) and whether that was all. ``sheet``: of a workbook; else the first."""
    table = _table(get_format(form).read(unpacked(compression, file), options), sheet)
    found: list[list[str | None]] = []
    for batch in table.batches:
        found += [list(row) for row in zip(*(cells.to_pylist() for cells in batch.cells), strict=True)]
        if len(found) > most:
            break
    shown = [[None if cell is None else cell[:MOST_CHARACTERS] for cell in row] for row in found[:most]]
    return {"columns": [column.name for column in table.columns], "rows": shown, "complete": len(found) <= most}


@dataclass(frozen=True, slots=True)
class Wanted:
    """A table in a file, and what is known of that. ``sheet``: of a workbook, else the first; ``known``: the columns of each
    table in the file, as the run had them."""

    form: str
    options: Mapping[str, Any]
    compression: str = "none"
    sheet: str = ""
    known: Sequence[Sequence[Column]] = ()


def profile_of(file: BinaryIO, wanted: Wanted, column: str, until: Callable[[], bool] = lambda: False) -> Profile:
    """A column of a file at a glance; ``until``: whether it is time to stop.

    A file that is too large, or takes too long, is told of as far as it was read. Raises UnknownName.
    """
    tables = get_format(wanted.form).read(unpacked(wanted.compression, file), wanted.options, wanted.known)
    table = _table(tables, wanted.sheet)
    names = [each.name for each in table.columns]
    if column not in names:
        raise unknown_name("column", column, names)
    place, kept, size, complete = names.index(column), [], 0, True
    for batch in table.batches:
        kept.append(pa.array(batch.cells[place], pa.string()))
        size += kept[-1].nbytes
        if size > MOST_BYTES or until():
            complete = next(iter(table.batches), None) is None
            break
    kind = table.columns[place].kind if wanted.known else "any"
    return of_cells(column, kind, pa.chunked_array(kept, pa.string()), complete)


def _table(tables: Iterator[Table], wanted: str) -> Table:
    """The one of that name, else the first."""
    first = next(tables)
    if not wanted or first.name == wanted:
        return first
    return next((table for table in tables if table.name == wanted), first)


def sample_of(
    columns: Sequence[Column], rows: Sequence[Sequence[str | None]], form: str, settings: OutputSettings
) -> dict[str, Any]:
    """How a few rows would look in a file: its text, or its cells for a format that is no text; and what would be warned of.

    Raises what a run would raise.
    """
    data, warnings = small_file(columns, rows, form, settings)
    member, options = get_format(form), settings.options_of(form)
    told: dict[str, Any] = {"warnings": warnings, "bytes": len(data), "text": None, "columns": [], "rows": []}
    encoding = member.encoding(options)
    if encoding:
        told["text"] = data.decode("utf-8-sig" if encoding == "utf-8" else encoding, errors="replace")
    else:
        told |= first_rows_of(io.BytesIO(data), form, options, "none", len(rows) + 1)
    return told


def small_file(
    columns: Sequence[Column], rows: Sequence[Sequence[str | None]], form: str, settings: OutputSettings
) -> tuple[bytes, list[str]]:
    """A few rows as a file, and what is warned of. Raises what a run would raise."""
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
    return file.getvalue(), list(writer.warnings)


def _numeric(array: pa.Array[Any]) -> pa.Array[Any]:
    return pc.match_substring_regex(array, r"^-?[0-9]+(\.[0-9]+)?([eE][+-]?[0-9]+)?$")
