"""Inputs for combinations in tests: results written, proven and stored as a member's are, and lookups."""

from __future__ import annotations

from types import SimpleNamespace

from patient_ladle.adapters.combining.combined import CombinedSession
from patient_ladle.adapters.stores import store_at
from patient_ladle.core.files.output import OutputSettings
from patient_ladle.core.ports import Reading, Statement
from patient_ladle.core.runs.engine import RunJob, run_extract
from patient_ladle.core.runs.memory import ManualClock, MemoryLedger

from .session import Rows, values_of

AS_TEXT = OutputSettings.from_dict({"formats": {"parquet": {"types": "text"}}})


def stored(place, run, name, columns, rows, session=None, output=AS_TEXT, form="parquet", size=3):
    """The job of a stored input, with the files of a run of that number."""
    job = RunJob(name, f"{name}-{run}", Statement("select"), (form,), output=output)
    folder = store_at(str(place)).result(str(run), 1)
    made = run_extract(job, lambda: session or Rows(columns, rows, size), folder, MemoryLedger(), ManualClock())
    [result] = made.results
    return {
        "kind": "stored", "name": name, "store": str(place), "run": run, "attempt": 1, "rows": result.rows,
        "columns": [{"name": c.name, "kind": c.kind, "source_type": c.source_type} for c in result.columns],
        "files": [file.to_dict() for file in made.files],
    }  # fmt: skip


def looked_up(lookup):
    """The job of a lookup."""
    return {"kind": "lookup", "name": lookup.name, "lookup": lookup.to_dict()}


def combined(inputs, statement, parameters=(), given=None, opened=None, session=None):
    """Columns, rows of canonical texts, and what was told of the inputs."""
    told = []
    session = session or CombinedSession(inputs, opened)
    try:
        found = session.describe(Statement(statement, values_of(parameters, given), reading=Reading(loaded=told.append)))
        rows = [list(row) for batch in session.batches() for row in zip(*(c.to_pylist() for c in batch.cells), strict=True)]
    finally:
        session.close()
    return SimpleNamespace(columns=found, names=[c.name for c in found], rows=rows, loaded=told)
