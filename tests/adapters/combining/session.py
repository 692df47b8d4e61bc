"""Rows that lie in memory, through steps."""

from __future__ import annotations

from datetime import date, datetime, timezone
from types import SimpleNamespace

from patient_ladle.adapters.combining.shaped import ShapedSession
from patient_ladle.core.ports import Reading, Statement
from patient_ladle.core.results.columns import Batch
from patient_ladle.core.steps.declared import numbered, steps_of
from patient_ladle.core.values.parameters import resolve

DAY = date(2026, 11, 24)


class Rows:
    """A source session of canonical texts, in batches of so many rows."""

    def __init__(self, columns, rows, size=3):
        self.columns, self.rows, self.size = columns, rows, size
        self.closed = self.cancelled = False
        self.remarks = ()

    def identity(self):
        return {"server": "memory"}

    def describe(self, statement):
        return self.columns

    def batches(self, soon=False):
        for start in range(0, len(self.rows), self.size):
            piece = self.rows[start : start + self.size]
            yield Batch.of_texts(list(zip(*piece, strict=True)), len(piece))

    def cancel(self):
        self.cancelled = True

    def close(self):
        self.closed = True


def values_of(parameters=(), given=None):
    return resolve(list(parameters), given or {}, DAY, datetime(2026, 11, 24, 6, tzinfo=timezone.utc))


def shaped(columns, rows, steps, lookups=None, parameters=(), given=None, inner=None):
    """Names, columns, rows of canonical texts and what each step did."""
    told = []
    session = ShapedSession(inner or Rows(columns, rows), lookups or {})
    statement = Statement(
        "select", values_of(parameters, given), reading=Reading(shaped=told.append), steps=numbered(steps_of(steps))
    )
    try:
        found = session.describe(statement)
        made = [list(row) for batch in session.batches() for row in zip(*(c.to_pylist() for c in batch.cells), strict=True)]
    finally:
        session.close()
    ways = told[0] if told else SimpleNamespace(steps=(), notes=(), fetched=len(rows))
    return SimpleNamespace(
        names=[c.name for c in found], columns=found, rows=made, steps=ways.steps, notes=ways.notes, fetched=ways.fetched
    )
