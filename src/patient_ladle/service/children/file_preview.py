"""Looking into a stored file, for the processes of ``judging``: no Django, and nothing that outlives the call."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import pyarrow as pa

from patient_ladle.adapters.stores import store_at
from patient_ladle.core.files.reading import Wanted, first_rows_of, profile_of
from patient_ladle.core.results.profile import of_cells


@dataclass(frozen=True, slots=True)
class StoredAt:
    """Where a file lies: the store's address, the run, its attempt, the file's name."""

    store: str
    run: str
    attempt: int
    name: str


def preview_of(at: StoredAt, form: str, options: Mapping[str, Any], compression: str, most: int, sheet: str) -> dict[str, Any]:
    """See ``first_rows_of``. Raises NotFound where the file is not there."""
    with store_at(at.store).open(at.run, at.attempt, at.name) as file:
        return first_rows_of(file, form, options, compression, most, sheet)


def profile_at(at: StoredAt, wanted: Wanted, column: str, seconds: float) -> dict[str, Any]:
    """See ``profile_of``; as much of the file as can be read in so many seconds."""
    ends = time.monotonic() + seconds
    with store_at(at.store).open(at.run, at.attempt, at.name) as file:
        return profile_of(file, wanted, column, lambda: time.monotonic() > ends).to_dict()


def profile_of_rows(column: str, kind: str, texts: Sequence[str | None], complete: bool) -> dict[str, Any]:
    """A column of rows at hand at a glance."""
    return of_cells(column, kind, pa.chunked_array([pa.array(texts, pa.string())]), complete).to_dict()
