"""Looking into a stored file, for the processes of ``judging``: no Django, and nothing that outlives the call."""

from __future__ import annotations

import hashlib
import os
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any, BinaryIO

import pyarrow as pa

from patient_ladle.adapters.stores import store_at
from patient_ladle.core.errors import ResultDamaged
from patient_ladle.core.files.reading import Wanted, first_rows_of, profile_of
from patient_ladle.core.results.profile import of_cells


@dataclass(frozen=True, slots=True)
class StoredAt:
    """Where a file lies: the store's address, the run, its attempt, the file's name; and what was proven of it."""

    store: str
    run: str
    attempt: int
    name: str
    sha256: str
    bytes: int

    @contextmanager
    def opened(self) -> Iterator[BinaryIO]:
        """Raises NotFound where the file is not there, ResultDamaged where it is another one. One of more than
        ``LOOKED_AT_FIRST`` bytes is not read through for a look: it is in its turn, and whenever it is sent."""
        with store_at(self.store).open(self.run, self.attempt, self.name) as file:
            size = file.seek(0, os.SEEK_END)
            file.seek(0)
            if size != self.bytes or (size <= LOOKED_AT_FIRST and _digest(file) != self.sha256):
                raise ResultDamaged(f"the stored file '{self.name}' of run {self.run} is not what was proven.")
            yield file


LOOKED_AT_FIRST = 64 << 20


def _digest(file: BinaryIO) -> str:
    digest = hashlib.sha256()
    while piece := file.read(1 << 20):
        digest.update(piece)
    file.seek(0)
    return digest.hexdigest()


def preview_of(at: StoredAt, form: str, options: Mapping[str, Any], compression: str, most: int, sheet: str) -> dict[str, Any]:
    """See ``first_rows_of``."""
    with at.opened() as file:
        return first_rows_of(file, form, options, compression, most, sheet)


def profile_at(at: StoredAt, wanted: Wanted, column: str, seconds: float) -> dict[str, Any]:
    """See ``profile_of``; as much of the file as can be read in so many seconds."""
    ends = time.monotonic() + seconds
    with at.opened() as file:
        return profile_of(file, wanted, column, lambda: time.monotonic() > ends).to_dict()


def profile_of_rows(column: str, kind: str, texts: Sequence[str | None], complete: bool) -> dict[str, Any]:
    """A column of rows at hand at a glance."""
    return of_cells(column, kind, pa.chunked_array([pa.array(texts, pa.string())]), complete).to_dict()
