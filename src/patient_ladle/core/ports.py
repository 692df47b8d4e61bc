"""The five ports through which the engine meets the world, plus the shapes that cross them.

Real members live in ``adapters`` and ``service``; in-memory members in ``core.runs.memory`` run the whole job in tests.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any, BinaryIO, ClassVar, Protocol

from .errors import LadleError
from .results.columns import Batch, Column
from .results.guards import Finding
from .values.parameters import BoundValues


def nobody(rows: int, size: int) -> None:
    """Whoever need not be told."""


@dataclass(frozen=True, slots=True)
class StepRows:
    """What one step did: rows before and after it; ``unmatched``: rows that met nothing in a lookup, None of other steps."""

    number: int
    title: str
    kind: str
    rows_in: int
    rows_out: int
    unmatched: int | None = None

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON; the number from 1."""
        made = {
            "number": self.number + 1,
            "name": self.title,
            "step": self.kind,
            "rows_in": self.rows_in,
            "rows_out": self.rows_out,
        }
        return made if self.unmatched is None else made | {"unmatched": self.unmatched}


@dataclass(frozen=True, slots=True)
class Shaped:
    """What became of a statement's result on its way through its steps: rows fetched and loaded, each step, what to mind.
    ``passed``: nothing had to be loaded, the steps were done to batches as they passed."""

    fetched: int
    steps: tuple[StepRows, ...]
    notes: tuple[str, ...] = ()
    passed: bool = False


def nobody_shaped(shaped: Shaped) -> None:
    """Whoever need not be told."""


@dataclass(frozen=True, slots=True)
class Loaded:
    """An input of a combination that was loaded: its name, its rows, what to mind of it."""

    name: str
    rows: int
    notes: tuple[str, ...] = ()


def nobody_loaded(loaded: Loaded) -> None:
    """Whoever need not be told."""


@dataclass(frozen=True, slots=True)
class Reading:
    """For sources that know their columns only once they have looked through the rows: how, and who is told meanwhile."""

    options: Mapping[str, Any] = field(default_factory=dict)
    """How documents become rows (core.documents.table)."""
    columns: tuple[str, ...] = ()
    """Those that the result's files are to have; one that no row has is there all the same, and empty."""
    first: int = 0
    """Only so many of the first rows are wanted; 0: all."""
    looked: Callable[[int, int], None] = nobody
    """Told of rows and bytes so far; what it raises ends the reading."""
    shaped: Callable[[Shaped], None] = nobody_shaped
    """Told how the rows went through the steps, before the first of them is given."""
    loaded: Callable[[Loaded], None] = nobody_loaded
    """Told of each input of a combination, once it is there."""


@dataclass(frozen=True, slots=True)
class Statement:
    """What a source session is asked to run: the author's text and the values bound to its parameters."""

    text: str
    values: BoundValues = field(default_factory=BoundValues)
    query_timeout_seconds: float = 3600.0
    reading: Reading = field(default_factory=Reading)
    steps: tuple[tuple[int, Any], ...] = ()
    """Steps on its result (core.steps.declared), each with its place among all of the extract, from 0."""


class SourceSession(Protocol):
    """One read-only session with one source, used for one run, then closed.

    Every method raises errors of ``core.errors`` only. ``cancel`` may be called from another thread at any time and
    makes the call in progress raise RunCancelled.
    """

    remarks: Sequence[str] = ()
    """What a person should know of the statement that was described last: of functions that it calls, say."""

    def describe(self, statement: Statement) -> Sequence[Column]:
        """Columns of the result, found without running the statement where the engine can."""

    def batches(self, soon: bool = False) -> Iterator[Batch]:
        """The described statement's rows, all of them, from one consistent snapshot.

        ``soon``: only the first rows will be read, and they are wanted as early as can be.
        """

    def identity(self) -> dict[str, str]:
        """Server, database and login that the session really uses, for the run record."""

    def cancel(self) -> None:
        """Stop the statement in the source."""

    def close(self) -> None:
        """End the session; safe to call twice."""


@dataclass(frozen=True, slots=True)
class StoredFile:
    """A proven file in the result store: its name there, rows, bytes and SHA-256 in hex."""

    name: str
    format: str
    media_type: str
    rows: int
    bytes: int
    sha256: str
    statement: int = 0
    """Which statement of the extract it holds, from 0; the first, where it holds several."""
    part: int | None = None
    """Which part of the result, from 1, where it is split."""
    compression: str = "none"
    options: Mapping[str, Any] = field(default_factory=dict)
    contents: tuple[tuple[int, int], ...] = ()
    """(statement, rows) of each result in it, in order."""
    content: str = ""
    """The same for the same rows, also where the file itself tells its run: a digest in hex."""
    sheets: tuple[tuple[str, int, int], ...] = ()
    """(name, statement's place in ``contents``, rows) of each sheet of a workbook."""

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON."""
        return {field_name: getattr(self, field_name) for field_name in self.__slots__}


@dataclass(frozen=True, slots=True)
class DeliveryPlan:
    """The intent that is recorded before anything becomes visible at a target.

    ``moves`` are (where it is prepared, place where it will be seen, sha256), target after target, at each the descriptor last
    as its commit mark. What a place is, the kind of the targets says.
    """

    kind: str
    targets: tuple[str, ...]
    moves: tuple[tuple[str, str, str], ...] = ()
    wished: tuple[tuple[str, str], ...] = ()
    """(stored name, name to deliver it under) as asked for, so that it can be planned again."""
    own: Mapping[str, Any] = field(default_factory=dict)
    """Plain JSON that only the kind reads."""

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON, as kept in the journal."""
        moves, wished = [list(move) for move in self.moves], [list(pair) for pair in self.wished]
        return {"kind": self.kind, "targets": list(self.targets), "moves": moves, "wished": wished, "own": dict(self.own)}

    @classmethod
    def from_dict(cls, data: Mapping[str, Any]) -> DeliveryPlan:
        """The inverse of ``to_dict``."""
        moves, wished = (tuple(tuple(each) for each in data[key]) for key in ("moves", "wished"))
        return cls(data["kind"], tuple(data["targets"]), moves, wished, data["own"])

    def copies(self) -> list[tuple[tuple[str, str, str], ...]]:
        """Of each file without the descriptor, its moves, one for each target."""
        return [self.moves[place :: len(self.wished)] for place in range(len(self.wished) - 1)]

    def wishes(self) -> DeliveryPlan:
        """What is to be delivered, with nothing prepared for it."""
        return replace(self, moves=(), own={})

    def delivered(self) -> list[list[str]]:
        """Of each file without the descriptor, its places, one for each target."""
        return [[final for _, final, _ in moves] for moves in self.copies()]


NOTHING_KNOWN: Mapping[str, str] = {}


class ResultFolder(Protocol):
    """Where one attempt of one run writes; immutable once sealed."""

    def create(self, name: str) -> BinaryIO:
        """A writable file under a temporary name. Raises StoreUnwritable or DiskFull, also while writing."""

    def scratch(self) -> BinaryIO:
        """A file of its own to write and read, gone once closed. Raises as ``create`` does."""

    def free_bytes(self) -> int | None:
        """Space left where it writes; None where that means nothing."""

    def place(self) -> str:
        """Where that is, in words for whoever has to make room; empty where nobody has."""

    def finish(self, name: str) -> None:
        """Flush the file to disk and give it its name."""

    def open(self, name: str) -> BinaryIO:
        """A finished file, for reading back."""

    def seal(self, descriptor: dict[str, Any]) -> None:
        """Write the descriptor last: with it the attempt's result exists."""

    def discard(self) -> None:
        """Remove everything this attempt wrote."""


class Delivery(Protocol):
    """One try to deliver the sealed files of one attempt to targets of one kind."""

    kind: ClassVar[str]

    def prepare(
        self,
        targets: Sequence[str],
        names: Sequence[tuple[str, str]],
        manner: Mapping[str, Any],
        descriptor: Callable[[Mapping[str, str]], Any],
        known: Mapping[str, str] = NOTHING_KNOWN,
    ) -> DeliveryPlan:
        """Bring copies of the files to every target, where nobody sees them yet.

        ``names``: (stored, delivered), the last being the descriptor's, whose content ``descriptor`` makes from the names as
        delivered. ``manner``: file options of core.files.output. ``known``: by target, what earlier deliveries have taught.
        Raises StoreUnwritable, DiskFull, and NameTaken where files of those names are not to be replaced.
        """

    def drop(self) -> None:
        """Remove what was prepared and will not be delivered. Raises nothing."""

    def commit(self, plan: DeliveryPlan) -> None:
        """Let the prepared files be seen, all of them or none."""


class RunLedger(Protocol):
    """The run's account with the service. Every method raises Fenced once another worker owns the run."""

    def stage(self, name: str) -> None:
        """The run enters a stage: connect, describe, fetch, prove, store, deliver."""

    def connected(self, identity: dict[str, str]) -> None:
        """Server, database and login that the session really uses, for the run record."""

    def log(self, level: str, text: str) -> None:
        """One line of the run log; level is info, warning or error."""

    def progress(self, rows: int, bytes_read: int) -> None:
        """Rows and bytes fetched so far."""

    def cancel_asked(self) -> bool:
        """Has a person asked this run to stop?"""

    def publish(self, outcome: Outcome, deliver: Callable[[], None]) -> None:
        """Record the outcome and its intent, call ``deliver`` under the run's lock, mark the run finished."""


class Clock(Protocol):
    """Wall and monotonic time; tests put their own in place."""

    def now(self) -> datetime:
        """The present moment, with zone."""

    def monotonic(self) -> float:
        """Seconds that never step back."""


@dataclass(slots=True)
class StatementResult:
    """What one statement of the extract gave."""

    title: str
    columns: list[Column]
    rows: int
    shaped: Shaped | None = None
    """How its rows went through the steps; None where it has none."""

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON."""
        columns = [{"name": c.name, "kind": c.kind, "source_type": c.source_type} for c in self.columns]
        made = {"title": self.title, "rows": self.rows, "columns": columns}
        if self.shaped is None:
            return made
        return made | {"fetched": self.shaped.fetched, "steps": [step.to_dict() for step in self.shaped.steps]}


@dataclass(slots=True)
class Outcome:
    """What a run that reached its end has to show; one result for each statement, in order."""

    results: list[StatementResult]
    files: list[StoredFile]
    warnings: list[str]
    delivery: DeliveryPlan | None = None
    broken: list[Finding] = field(default_factory=list)
    """Guards on values that were broken."""
    undelivered: LadleError | None = None
    """Why nothing could be prepared for the delivery; the stored result is whole all the same."""

    @property
    def rows(self) -> int:
        """Of all statements together."""
        return sum(result.rows for result in self.results)

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON, as sent from the child to its worker."""
        return {
            "statements": [result.to_dict() for result in self.results],
            "files": [f.to_dict() for f in self.files],
            "warnings": self.warnings,
            "broken": [finding.to_dict() for finding in self.broken],
            "delivery": self.delivery.to_dict() if self.delivery else None,
            "undelivered": self.undelivered.to_dict() if self.undelivered else None,
        }
