"""Looking into a stored file, for the processes of ``judging``: no Django, and nothing that outlives the call."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from patient_ladle.adapters.stores import store_at
from patient_ladle.core.files.reading import first_rows_of


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
