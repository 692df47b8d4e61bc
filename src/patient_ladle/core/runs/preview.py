"""The first rows of a statement, bounded in rows and bytes and saying so; never the whole table."""

from __future__ import annotations

import base64
import time
from dataclasses import dataclass
from typing import Any

from ..ports import SourceSession, Statement
from ..results.columns import Column, unique_names

LONG_TEXT = 1_000
"""Characters of a text that a grid shows before it is opened."""
KEPT_CELL = 512 * 1024
"""Bytes of one long or binary value that are kept to be opened; a larger one belongs into an extract."""
_SIGNATURES = (
    (b"\x89PNG\r\n\x1a\n", "image/png"), (b"\xff\xd8\xff", "image/jpeg"), (b"GIF8", "image/gif"), (b"%PDF-", "application/pdf"),
    (b"PK\x03\x04", "application/zip"), (b"\x1f\x8b", "application/gzip"), (b"SQLite format 3", "application/vnd.sqlite3"),
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class PreviewLimits:
    """``bytes`` bounds what is kept of all cells together."""

    rows: int = 100
    bytes: int = 8 * 1024 * 1024


def media_of(data: bytes) -> str:
    """The media type that the first bytes give away."""
    if data[:4] == b"RIFF" and data[8:12] == b"WEBP":
        return "image/webp"
    return next((media for mark, media in _SIGNATURES if data.startswith(mark)), "application/octet-stream")


def _cell(column: Column, text: str | None) -> Any:
    """A short text as it is; a binary or long value as what it is, with ``data`` while it is small enough to keep."""
    if text is None:
        return None
    if column.kind == "binary":
        head = base64.b64decode(text[:64])
        size = len(text) // 4 * 3 - text[-2:].count("=")
        return {"bytes": size, "media": media_of(head), "data": text if len(text) <= KEPT_CELL else None}
    if len(text) > LONG_TEXT:
        return {"text": text[:LONG_TEXT], "characters": len(text), "data": text if len(text) <= KEPT_CELL else None}
    return text


def first_rows(session: SourceSession, statement: Statement, limits: PreviewLimits) -> dict[str, Any]:
    """Columns, rows as lists of cells, and whether that was all. Seconds to the first row and to the last one read.

    Reads one row more than it shows, to know whether there are more; the statement's own text is never changed.
    """
    began = time.monotonic()
    columns, _ = unique_names(session.describe(statement))
    rows: list[list[Any]] = []
    size, first, more = 0, None, False
    for batch in session.batches(soon=True):
        first = first if first is not None else time.monotonic() - began
        for row in zip(*(cells.to_pylist() for cells in batch.cells), strict=True):
            if len(rows) >= limits.rows or size > limits.bytes:
                more = True
                break
            rows.append([_cell(column, text) for column, text in zip(columns, row, strict=True)])
            size += sum(len(text) for text in row if text is not None)
        if more:
            break
    return {
        "columns": [{"name": c.name, "kind": c.kind, "source_type": c.source_type} for c in columns],
        "rows": rows,
        "notes": [f"column '{c.name}' is {c.note}" for c in columns if c.note] + list(session.remarks),
        "complete": not more,
        "first_seconds": round(first or time.monotonic() - began, 3),
        "seconds": round(time.monotonic() - began, 3),
    }
