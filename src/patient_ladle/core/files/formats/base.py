"""The contract of a result format: options, a writer fed batch by batch, and a row counter that reads the file by itself.

The counter is the proof that the file is whole: it shares no code with the writer and believes only the bytes.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache, reduce
from typing import TYPE_CHECKING, Any, BinaryIO, ClassVar, Protocol

import pyarrow as pa
import pyarrow.compute as pc

from patient_ladle.core.errors import ProofFailed, ValueUnfit
from patient_ladle.core.results.columns import Batch, Column, data_of
from patient_ladle.proof.counting import COUNTERS, Counted, Damaged

from ..options import Option

if TYPE_CHECKING:
    from .tables import Table


class Sink(Protocol):
    """Where a writer's bytes go: never read, never sought in."""

    def write(self, data: Any) -> Any:
        """Takes the next bytes."""


@dataclass(frozen=True, slots=True)
class Target:
    """What a writer is given: where to write, a scratch file when it needs one, the facts that a reader may ask for, and what
    the fields of a line stand for."""

    file: Sink
    scratch: Callable[[], BinaryIO]
    about: Mapping[str, Any] = field(default_factory=dict)
    fields: Mapping[str, Any] = field(default_factory=dict)


class FormatWriter(ABC):
    """Writes one file, of one statement's result or of several one after the other.

    ``rows`` counts all of them; ``warnings`` says what had to be written otherwise than the source has it.
    """

    def __init__(self, target: Target, options: Mapping[str, Any]) -> None:
        self.target, self.options = target, options
        self.columns: Sequence[Column] = ()
        self.rows = 0
        self.warnings: list[str] = []

    @abstractmethod
    def begin(self, title: str, columns: Sequence[Column]) -> None:
        """A statement's result begins. Raises ValueUnfit for columns that the format cannot hold."""

    @abstractmethod
    def write(self, batch: Batch) -> None:
        """Append the batch's rows. Raises ValueUnfit naming row and column."""

    def end(self) -> None:  # noqa: B027  # most formats have nothing between two results
        """The statement's result ends."""

    def close(self) -> None:  # noqa: B027  # many formats have nothing at their end
        """Write what closes the file; the file itself stays open."""

    def content_mark(self) -> str:
        """A digest of the rows alone, where the file also tells of its run; empty where the file's own checksum will do."""
        return ""

    def waiting_bytes(self) -> int:
        """Bytes that are on their way and not in the file yet, about."""
        return 0

    def abandon(self) -> None:  # noqa: B027  # most writers hold nothing but the file
        """Let go of everything without closing well; the run has failed and the file will go."""

    def warn(self, text: str) -> None:
        """Note a replacement once."""
        if text not in self.warnings:
            self.warnings.append(text)

    def unfit(self, column: Column, mask: pa.Array[Any], what: str, hint: str) -> ValueUnfit:
        """The error for the first cell under ``mask``, with its row counted over the file."""
        row = self.rows + first_true(mask) + 1
        return ValueUnfit(f"row {row:,}, column '{column.name}': {what}.", hint, row=row, column=column.name)


class Format(ABC):
    """One member of the family, and all that anybody has to know of it: nothing about a format stands elsewhere."""

    name: ClassVar[str]
    extension: ClassVar[str]
    media_type: ClassVar[str]
    note: ClassVar[str]
    options: ClassVar[tuple[Option, ...]] = ()
    seeks: ClassVar[bool] = False
    """Whether its reader moves about in the file, so that a packed one is unpacked whole first."""
    gathers: ClassVar[bool] = False
    """Whether one file holds the results of all statements."""
    lines: ClassVar[bool] = True
    """Whether rows are lines of text, one after the other."""
    counter: ClassVar[str]
    """Name of the counter in ``proof.counting`` that proves such a file; the descriptor says it to whoever proves it later."""

    @abstractmethod
    def writer(self, target: Target, options: Mapping[str, Any]) -> FormatWriter:
        """A writer; ``options`` are checked ones."""

    def check(self, options: Mapping[str, Any]) -> None:  # noqa: B027  # most options do not meet each other
        """Refuse options that do not go together. Raises BadInput."""

    def read_back(self, file: BinaryIO, options: Mapping[str, Any]) -> Counted:
        """Rows and cells found by reading the whole file. Raises ProofFailed when the file is not well formed."""
        try:
            return self.counted(file, options)
        except Damaged as error:
            raise ProofFailed(f"the file is not whole: {error}.", "Start the run again.") from error

    def counted(self, file: BinaryIO, options: Mapping[str, Any]) -> Counted:
        """``read_back``, which may also raise Damaged."""
        return COUNTERS[self.counter].count(file, self.counter_facts(options))

    def counter_facts(self, options: Mapping[str, Any]) -> dict[str, Any]:
        """What the counter must know of the file, as plain JSON."""
        return {}

    @abstractmethod
    def read(self, file: BinaryIO, options: Mapping[str, Any], columns: Sequence[Sequence[Column]] = ()) -> Iterator[Table]:
        """The tables of an unpacked file, in order. ``columns``: what is known of those of each table, which gives them their
        kinds; else all are texts. A file need not be seekable, unless the format ``seeks``. Raises ValueUnfit for a cell that
        is too large to be read."""

    def read_picked(
        self, file: BinaryIO, options: Mapping[str, Any], columns: Sequence[Column], places: Sequence[int]
    ) -> Iterator[Batch]:
        """Only the columns at these places, of a file with one table. Raises as ``read`` does."""
        for batch in next(self.read(file, options, [columns])).batches:
            yield batch.picked(places)

    def facts(self, options: Mapping[str, Any]) -> dict[str, Any]:
        """What a reader of the file must know that the descriptor's standard has no word for, as plain JSON."""
        return {}

    def field_facts(self, column: Column, options: Mapping[str, Any]) -> dict[str, Any]:
        """How a column's values are written, in the descriptor's words for a field."""
        return {}

    def keeps_all(self, options: Mapping[str, Any], columns: Sequence[Column]) -> bool:
        """Whether reading a file with these options gives every value as it was written, null and the empty text apart."""
        return False

    def null_as(self, options: Mapping[str, Any]) -> str:
        """The text that stands for null; empty also where such a value is simply not there."""
        return ""

    def dialect(self, options: Mapping[str, Any]) -> dict[str, Any]:
        """How to read the file, as the Table Dialect of the descriptor's standard has it."""
        return {}

    def encoding(self, options: Mapping[str, Any]) -> str:
        """Of the text, as the descriptor says it; empty for a binary format."""
        return "utf-8"


@lru_cache(4096)
def constant(text: str) -> pa.Scalar[Any]:
    """The text as an Arrow value, made once: making one costs more than a small batch's work."""
    return pa.scalar(text, pa.string())


NOTHING = constant("")


def together(*parts: pa.Array[Any] | str) -> pa.Array[Any]:
    """Element-wise join; a row with a null member is null."""
    return pc.binary_join_element_wise(*[constant(part) if isinstance(part, str) else part for part in parts], NOTHING)


def chosen(mask: pa.Array[Any], yes: pa.Array[Any] | str, no: pa.Array[Any] | str) -> pa.Array[Any]:
    """``yes`` where the mask is true, ``no`` elsewhere; null where the mask is."""
    return pc.if_else(mask, *[constant(each) if isinstance(each, str) else each for each in (yes, no)])


def signs_in(array: pa.Array[Any], signs: bytes) -> bytes:
    """Those of these bytes that stand in any text: a look at all texts at once, before one at each."""
    data = bytes(data_of(array))
    if len(signs) > _FEW and len(data.translate(None, signs)) == len(data):
        return b""
    return bytes(sign for sign in signs if sign in data)


_FEW = 4
"""So many bytes are found sooner one by one."""


def holding(array: pa.Array[Any], signs: bytes, empty: bool = False) -> pa.Array[Any]:
    """A mask of the texts that hold any of these ASCII bytes, or that are ``empty``; one of both is asked for at least."""
    masks = [pc.match_substring(array, chr(sign)) for sign in signs]
    return reduce(pc.or_, [*masks, pc.equal(pc.binary_length(array), 0)] if empty else masks)


def has_only(array: pa.Array[Any], signs: bytes) -> bool:
    """Whether no text holds anything but these bytes."""
    return not bytes(data_of(array)).translate(None, signs)


def has_empty(array: pa.Array[Any]) -> bool:
    """Whether any text is empty."""
    return pc.min(pc.binary_length(array)).as_py() == 0


def longest(array: pa.Array[Any]) -> int:
    """Bytes of the longest text."""
    return pc.max(pc.binary_length(array)).as_py() or 0


def joined(parts: Sequence[pa.Array[Any] | str]) -> memoryview:
    """Element-wise join of arrays and constants; the joined array's data buffer is the file's bytes."""
    return data_of(together(*merged(parts)))


def merged(parts: Sequence[pa.Array[Any] | str]) -> list[pa.Array[Any] | str]:
    """The parts with neighbouring constants as one: every part costs the join a look at every row."""
    made: list[pa.Array[Any] | str] = []
    for part in parts:
        if made and isinstance(part, str) and isinstance(made[-1], str):
            made[-1] += part
        elif not (isinstance(part, str) and part == ""):
            made.append(part)
    return made


def replaced_where(array: pa.Array[Any], mask: pa.Array[Any], replacement: pa.Array[Any]) -> pa.Array[Any]:
    """``array`` with the members under ``mask`` replaced, in order, by those of ``replacement``."""
    return pc.replace_with_mask(array, pc.fill_null(mask, False), replacement)


def any_true(mask: pa.Array[Any]) -> bool:
    """Is any member true? Nulls are not."""
    return bool(pc.any(mask).as_py())


def all_true(mask: pa.Array[Any]) -> bool:
    """Are all members true that are not null?"""
    return bool(pc.all(mask).as_py())


def first_true(mask: pa.Array[Any]) -> int:
    """Position of the first true member; call only where ``any_true`` holds."""
    found: Any = pc.index(pc.fill_null(mask, False), True)
    return int(found.as_py())
