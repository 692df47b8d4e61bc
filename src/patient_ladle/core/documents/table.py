"""A table of documents: its columns are known once all of them were looked through, and nothing of any is left out.

What is found is kept as texts, column by column, in memory and beyond some size in a file, until the last document has come.
"""

from __future__ import annotations

import struct
import tempfile
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from patient_ladle.words import amount

from ..errors import DiskFull, StatementWrong
from ..files.options import checked
from ..files.output import DOCUMENT_OPTIONS
from ..results.columns import NO_TYPE, Batch, Column
from ..statements.documents.projections import Wanted
from .values import INT32, INT64, KINDS, NULL, UNDEFINED, damaged, texts
from .walking import Found, Path, Walked, Walker

MEMORY_BYTES = 32 << 20
"""Texts that are held in memory; more of them go to a file."""
_NOTHING = (NULL, UNDEFINED)
_SAID = {INT32: "integer", INT64: "integer"}
"""One name for both: which of them a number is depends on how large it happens to be."""
_NUMBERS = ("integer", "decimal", "float")


@dataclass(slots=True)
class _Seen:
    """Values of one type at one path: how many rows have one, and which is the first, from 1."""

    rows: int = 0
    first: int = 0


@contextmanager
def _readable() -> Iterator[None]:
    """Whatever damaged bytes bring about, as what they are. Raises StatementFailed."""
    try:
        yield
    except (IndexError, ValueError, ArithmeticError, struct.error, RecursionError) as error:
        raise damaged() from error


class DocumentTable:
    """Takes batches of documents, then gives columns, then the rows."""

    def __init__(self, options: Mapping[str, Any], wanted: Wanted) -> None:
        self.options, self.wanted = checked(options, DOCUMENT_OPTIONS, "documents"), wanted
        rows_of = self.options["rows_of"]
        self.walker = Walker(self.options["depth"], tuple(rows_of.split(".")) if rows_of else ())
        self.rows = 0
        self.seen: dict[tuple[Path, int], _Seen] = {}
        self.kept: list[tuple[list[tuple[Path, int]], pa.RecordBatch | int, int]] = []
        self.bytes_kept = 0
        self.file: Any = None

    def add(self, raw: bytes) -> None:
        """Documents, one after the other. Raises StatementFailed, ResultTooLarge, DiskFull."""
        with _readable():
            self._take(self.walker.walk(raw))

    def _take(self, walked: Walked) -> None:
        keys, arrays = [], []
        for key, found in walked.found.items():
            seen = self.seen.setdefault(key, _Seen())
            if key[1] in _NOTHING:
                continue
            array, first, held = self._dense(walked, key, found)
            if not seen.rows:
                seen.first = self.rows + first + 1
            seen.rows += held
            keys.append(key)
            arrays.append(array)
        self._keep(keys, arrays, walked.rows)
        self.rows += walked.rows

    def learn(self, raw: bytes) -> None:
        """Fields of documents that are no rows of the result. Raises StatementFailed, ResultTooLarge."""
        with _readable():
            for key in self.walker.walk(raw).found:
                self.seen.setdefault(key, _Seen())

    def _dense(self, walked: Walked, key: tuple[Path, int], found: Found) -> tuple[pa.Array[Any], int, int]:
        """Texts of a key row by row, null where a row has none; its first row, from 0, and how many have one."""
        documents, places = found.in_order()
        made = texts(walked.source, key[1], places)
        count = walked.rows
        spread = None if self.walker.of_elements(key[0]) else walked.documents
        if len(documents) == count and spread is None:
            return made, 0, count
        where = np.full(count if spread is None else int(spread.max()) + 1, -1, np.int64)
        where[documents] = np.arange(len(documents))
        if spread is not None:
            where = where[spread]
        there = where >= 0
        dense = made.take(pa.array(where, mask=~there))
        return dense, int(there.argmax()), int(there.sum())

    def _keep(self, keys: list[tuple[Path, int]], arrays: list[pa.Array[Any]], rows: int) -> None:
        batch = pa.RecordBatch.from_arrays(arrays, [str(number) for number in range(len(keys))])
        self.bytes_kept += batch.nbytes
        if self.bytes_kept <= MEMORY_BYTES:
            self.kept.append((keys, batch, rows))
            return
        try:
            if self.file is None:
                self.file = tempfile.TemporaryFile()  # noqa: SIM115 - closed with the table
            self.kept.append((keys, self.file.tell(), rows))
            if keys:
                with pa.ipc.new_stream(self.file, batch.schema) as stream:
                    stream.write_batch(batch)
                self.file.flush()
        except OSError as error:
            raise DiskFull(
                f"no space is left in '{tempfile.gettempdir()}', where results are gathered.",
                "Free some space, then start the run again.",
            ) from error

    def columns(self) -> list[Column]:
        """Of the whole. Raises StatementWrong for a field that nobody expected, where the columns are strict."""
        self.paths = self._ordered()
        self._refuse_unexpected()
        types: dict[Path, dict[int, _Seen]] = {}
        for (path, code), seen in self.seen.items():
            if code not in _NOTHING:
                types.setdefault(path, {})[code] = seen
        self.made = [_column(".".join(path), types.get(path, {})) for path in self.paths]
        return self.made

    def _ordered(self) -> list[Path]:
        order = self.walker.paths()
        types: dict[Path, set[int]] = {}
        for path, code in self.seen:
            types.setdefault(path, set()).add(code)
        deeper = {path[:length] for path in types for length in range(1, len(path))}
        # An object that is entered has its fields as columns; what says nothing but *null* there needs none of its own.
        found = [path for path, codes in types.items() if not (codes <= {*_NOTHING} and path in deeper)]
        if not (self.wanted.identifier or self.options["identifier"]):
            found = [path for path in found if path[0] != "_id"] or (found if not self.wanted.columns else [])
        for name in self.wanted.columns:
            known = {".".join(path) for path in found}
            inside = any(each.startswith(f"{name}.") or name.startswith(f"{each}.") for each in known)
            if name not in known and not inside:
                found.append((name,))
        found = found or [("_id",)]  # what every document has, where nothing else is known of any
        return sorted(found, key=lambda path: (self._rank(path), order.get(path, len(order))))

    def _rank(self, path: Path) -> int:
        """By the first column that was asked for of which it is, or which is of it."""
        name = ".".join(path)
        for number, each in enumerate(self.wanted.columns):
            if name == each or name.startswith(f"{each}.") or each.startswith(f"{name}."):
                return number
        return len(self.wanted.columns)

    def _refuse_unexpected(self) -> None:
        if not self.options["strict_columns"] or not self.wanted.columns or not self.rows:
            return
        for path in self.paths:
            if self._rank(path) == len(self.wanted.columns):
                held = (seen.first for (other, code), seen in self.seen.items() if other == path and code not in _NOTHING)
                first = min(held, default=1)
                raise StatementWrong(
                    f"the documents have a field '{'.'.join(path)}', from row {first:,} on, which is none of the columns.",
                    "Take it into the projection or the choice of columns, leave it out there, or give up strict_columns.",
                )

    def batches(self) -> Iterator[Batch]:
        """All rows, as they were added; to be asked for once."""
        for keys, kept, rows in self.kept:
            batch = self._read(kept) if isinstance(kept, int) and keys else kept
            held: dict[Path, list[tuple[int, pa.Array[Any]]]] = {}
            for number, (path, code) in enumerate(keys):
                held.setdefault(path, []).append((code, batch.column(number)))  # type: ignore[union-attr]
            cells, numbers = [], []
            for path, column in zip(self.paths, self.made, strict=True):
                array, marks = _joined(held.get(path, []), rows, column.kind == "any")
                cells.append(array)
                numbers.append(marks)
            yield Batch(cells, numbers, rows)
        self.close()

    def _read(self, place: int) -> pa.RecordBatch:
        self.file.seek(place)
        return pa.ipc.open_stream(self.file).read_next_batch()

    def close(self) -> None:
        """Let go of the file, if there is one."""
        if self.file is not None:
            self.file.close()


def _column(name: str, types: Mapping[int, _Seen]) -> Column:
    """Of the types that its values have."""
    said = " or ".join(dict.fromkeys(_SAID.get(code, KINDS[code][1]) for code in types)) or NO_TYPE
    kinds: dict[str, _Seen] = {}
    for code, seen in types.items():
        kind = KINDS[code][0]
        before = kinds.get(kind, _Seen(0, seen.first))
        kinds[kind] = _Seen(before.rows + seen.rows, min(before.first, seen.first))
    if len(kinds) < 2:
        return Column(name, next(iter(kinds), "text"), said)
    if set(kinds) == {"integer", "decimal"}:
        return Column(name, "decimal", "decimal")
    if set(kinds) <= set(_NUMBERS):
        return Column(name, "any", said)
    (main, _), *others = sorted(kinds.items(), key=lambda pair: (-pair[1].rows, pair[1].first))
    others = [(kind, seen) for kind, seen in others if seen.rows]
    odd = [f"{kind} in {amount(seen.rows, 'row')}, the first of them row {seen.first:,}" for kind, seen in others]
    if not odd:
        return Column(name, "any", said)
    return Column(name, "any", said, f"mostly {main}, but {'; '.join(odd)}: each value stands as it is")


def _joined(mine: list[tuple[int, pa.Array[Any]]], rows: int, marked: bool) -> tuple[pa.Array[Any], pa.Array[Any] | None]:
    """A column's texts, whatever their types, and which of them are numbers, where somebody asks."""
    if not mine:
        return pa.nulls(rows, pa.string()), pa.repeat(False, rows) if marked else None
    array = mine[0][1] if len(mine) == 1 else pc.coalesce(*(each for _, each in mine))
    if not marked:
        return array, None
    numeric = [each.is_valid() for code, each in mine if KINDS[code][0] in _NUMBERS]
    marks = pa.repeat(False, rows)
    for each in numeric:
        marks = pc.or_(marks, each)
    return array, marks
