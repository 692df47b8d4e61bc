"""In-memory members of the five ports: the whole job runs on them, with no database, disk or service.

They ship with the product so that anybody who writes a source or a format can try it.
"""

from __future__ import annotations

import hashlib
import io
import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta, timezone
from typing import Any, BinaryIO, ClassVar

from ..errors import LadleError, RunCancelled
from ..ports import NOTHING_KNOWN, DeliveryPlan, Outcome, Statement
from ..results.columns import BATCH_ROWS, Batch, Column, canonical


class MemorySession:
    """A source session over rows held in memory. ``fail_after`` raises ``failure`` once so many rows went out."""

    def __init__(
        self,
        columns: Sequence[Column],
        rows: Sequence[Sequence[Any]],
        fail_after: int | None = None,
        failure: LadleError | None = None,
    ) -> None:
        self.columns, self.rows = columns, rows
        self.fail_after, self.failure = fail_after, failure
        self.cancelled = self.closed = False
        self.remarks: Sequence[str] = ()

    def identity(self) -> dict[str, str]:
        return {"server": "memory"}

    def describe(self, statement: Statement) -> Sequence[Column]:
        return self.columns

    def batches(self, soon: bool = False) -> Iterator[Batch]:
        for start in range(0, len(self.rows), BATCH_ROWS):
            if self.cancelled:
                raise RunCancelled("the statement was stopped.")
            if self.failure is not None and start >= (self.fail_after or 0):
                raise self.failure
            rows = self.rows[start : start + BATCH_ROWS]
            if any(column.kind == "any" for column in self.columns):
                yield Batch.of_values([rows], len(self.columns))
            else:
                texts = [[canonical(value) for value in column] for column in zip(*rows, strict=True)]
                yield Batch.of_texts(texts, len(rows))

    def cancel(self) -> None:
        self.cancelled = True

    def close(self) -> None:
        self.closed = True


class _KeptBytes(io.BytesIO):
    """Bytes that outlive ``close``."""

    def close(self) -> None:
        return None


class MemoryFolder:
    """A result folder, as a dictionary of bytes."""

    def __init__(self) -> None:
        self.files: dict[str, _KeptBytes] = {}
        self.descriptor: dict[str, Any] | None = None

    def create(self, name: str) -> BinaryIO:
        self.files[name] = _KeptBytes()
        return self.files[name]

    def scratch(self) -> BinaryIO:
        return io.BytesIO()

    def place(self) -> str:
        return ""

    def free_bytes(self) -> int | None:
        return None

    def finish(self, name: str) -> None:
        return None

    def open(self, name: str) -> BinaryIO:
        return io.BytesIO(self.files[name].getvalue())

    def seal(self, descriptor: dict[str, Any]) -> None:
        self.descriptor = descriptor

    def discard(self) -> None:
        self.files.clear()
        self.descriptor = None


class MemoryDelivery:
    """A try to deliver into a dictionary of bytes; ``prepared`` and ``delivered`` may outlive it."""

    kind: ClassVar[str] = "memory"

    def __init__(
        self,
        mark: str,
        opened: Callable[[str], BinaryIO],
        prepared: dict[str, bytes] | None = None,
        delivered: dict[str, bytes] | None = None,
    ) -> None:
        self.mark, self.opened = mark, opened
        self.prepared: dict[str, bytes] = {} if prepared is None else prepared
        self.delivered: dict[str, bytes] = {} if delivered is None else delivered

    def prepare(
        self,
        targets: Sequence[str],
        names: Sequence[tuple[str, str]],
        manner: Mapping[str, Any],
        descriptor: Callable[[Mapping[str, str]], Any],
        known: Mapping[str, str] = NOTHING_KNOWN,
    ) -> DeliveryPlan:
        *files, (_, last) = names
        moves = []
        for target in targets:
            contents = {}
            for stored, name in files:
                with self.opened(stored) as file:
                    contents[name] = file.read()
            contents[last] = json.dumps(descriptor(dict(files)), default=str).encode()
            for name, content in contents.items():
                kept = f"{target}/.{name}.{self.mark}"
                self.prepared[kept] = content
                moves.append((kept, f"{target}/{name}", hashlib.sha256(content).hexdigest()))
        return DeliveryPlan(self.kind, tuple(targets), tuple(moves), tuple(names))

    def drop(self) -> None:
        for kept in [kept for kept in self.prepared if kept.endswith(f".{self.mark}")]:
            del self.prepared[kept]

    def commit(self, plan: DeliveryPlan) -> None:
        for kept, place, _ in plan.moves:
            self.delivered[place] = self.prepared.pop(kept)


class MemoryLedger:
    """Keeps what the run told. ``cancel`` answers as a person who asked the run to stop."""

    def __init__(self, cancel: bool = False) -> None:
        self.stages: list[str] = []
        self.lines: list[tuple[str, str]] = []
        self.identity: dict[str, str] = {}
        self.rows = 0
        self.outcome: Outcome | None = None
        self.cancel = cancel

    def stage(self, name: str) -> None:
        self.stages.append(name)

    def connected(self, identity: dict[str, str]) -> None:
        self.identity = identity

    def log(self, level: str, text: str) -> None:
        self.lines.append((level, text))

    def progress(self, rows: int, bytes_read: int) -> None:
        self.rows = rows

    def cancel_asked(self) -> bool:
        return self.cancel

    def publish(self, outcome: Outcome, deliver: Callable[[], None]) -> None:
        deliver()
        self.outcome = outcome


class ManualClock:
    """Time that moves only when told to."""

    def __init__(self, at: datetime = datetime(2026, 11, 24, 6, 5, tzinfo=timezone.utc)) -> None:
        self.at, self.elapsed = at, 0.0

    def now(self) -> datetime:
        return self.at

    def monotonic(self) -> float:
        return self.elapsed

    def advance(self, seconds: float) -> None:
        """Both clocks move by so many seconds."""
        self.at += timedelta(seconds=seconds)
        self.elapsed += seconds
