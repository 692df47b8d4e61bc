"""The contract of a result format: a writer fed batch by batch, and a row counter that reads the file by itself.

The counter is the proof that the file is whole: it shares no code with the writer and believes only the bytes.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import Any, BinaryIO, ClassVar

import pyarrow as pa
import pyarrow.compute as pc

from ..columns import Batch, Column

READ_BYTES = 1 << 20
"""Bytes a counter reads at a time."""


class FormatWriter(ABC):
    """Writes one result into one file. ``warnings`` says what had to be written otherwise than the source has it."""

    def __init__(self, file: BinaryIO, columns: Sequence[Column]) -> None:
        self.file, self.columns = file, columns
        self.rows = 0
        self.warnings: list[str] = []

    @abstractmethod
    def write(self, batch: Batch) -> None:
        """Append the batch's rows. Raises ValueUnfit naming row and column."""

    @abstractmethod
    def close(self) -> None:
        """Write what closes the file; the file itself stays open."""

    def abandon(self) -> None:  # noqa: B027  # most writers hold nothing but the file
        """Let go of the file without closing it well; the run has failed and the file will go."""

    def warn(self, text: str) -> None:
        """Note a replacement once."""
        if text not in self.warnings:
            self.warnings.append(text)


class Format(ABC):
    """One member of the family."""

    name: ClassVar[str]
    ending: ClassVar[str]
    media_type: ClassVar[str]

    @abstractmethod
    def writer(self, file: BinaryIO, columns: Sequence[Column]) -> FormatWriter:
        """A writer that has already written the header."""

    @abstractmethod
    def count_rows(self, file: BinaryIO) -> int:
        """Rows found by reading the whole file. Raises ProofFailed when the file is not well formed."""


def joined(parts: Sequence[pa.Array | str]) -> memoryview:
    """Element-wise join of arrays and constants; the joined array's data buffer is the file's bytes."""
    array = pc.binary_join_element_wise(*parts, "")
    buffers = array.buffers()
    if not len(array) or buffers[2] is None:
        return memoryview(b"")
    offsets = memoryview(buffers[1]).cast("i")
    return memoryview(buffers[2])[offsets[array.offset] : offsets[array.offset + len(array)]]


def replaced_where(array: pa.Array, mask: pa.Array, replacement: pa.Array) -> pa.Array:
    """``array`` with the members under ``mask`` replaced, in order, by those of ``replacement``."""
    return pc.replace_with_mask(array, pc.fill_null(mask, False), replacement)


def any_true(mask: pa.Array) -> bool:
    """Is any member true? Nulls are not."""
    return bool(pc.any(mask).as_py())


def first_true(mask: pa.Array) -> int:
    """Position of the first true member; call only where ``any_true`` holds."""
    found: Any = pc.index(pc.fill_null(mask, False), True)
    return int(found.as_py())
