"""One run of one extract: connect → describe → fetch and write → prove → store → deliver.

One pass over one fetch feeds every format. A result exists only when its descriptor does, and is delivered only when
rows fetched, rows written and rows read back agree for every file.
"""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from typing import Any, BinaryIO

from .columns import Column, unique_names
from .descriptor import describe_result
from .errors import DeadlineExceeded, Fenced, LadleError, ProofFailed, ResultTooLarge, RunCancelled
from .formats import get_format
from .formats.base import Format, FormatWriter
from .naming import slug
from .ports import Clock, Outcome, ResultFolder, RunLedger, SourceSession, Statement, StatementResult, StoredFile
from .scanner import Part

DESCRIPTOR = "datapackage.json"
PROGRESS_SECONDS = 0.5
"""How often progress is told: a person sees it move, and the ledger is not flooded."""


@dataclass(frozen=True, slots=True)
class RunJob:
    """All that one attempt needs to know; ``about`` goes into the descriptor as it is."""

    name: str
    stem: str
    statement: Statement
    formats: tuple[str, ...]
    deliver_into: str = ""
    about: dict[str, Any] = field(default_factory=dict)
    max_rows: int | None = None
    max_bytes: int | None = None
    parts: tuple[Part, ...] = ()
    """The statements of a text that holds several; all are read in one session, from one snapshot where there is one."""

    def statements(self) -> list[tuple[str, str, Statement]]:
        """Title, stem of the files, and statement of each."""
        if len(self.parts) < 2:
            return [(self.parts[0].title if self.parts else "", self.stem, self.statement)]
        return [
            (part.title, f"{self.stem}.{number}-{slug(part.title)}", replace(self.statement, text=part.text))
            for number, part in enumerate(self.parts, 1)
        ]


class _CountedFile:
    """Takes size and SHA-256 of the bytes on their way into a file."""

    def __init__(self, file: BinaryIO) -> None:
        self.file, self.bytes, self.digest = file, 0, hashlib.sha256()

    def write(self, data: bytes) -> int:
        self.file.write(data)
        self.digest.update(data)
        self.bytes += len(data)
        return len(data)

    def flush(self) -> None:
        self.file.flush()


@dataclass(slots=True)
class _OpenResult:
    format: Format
    name: str
    statement: int
    counted: _CountedFile
    writer: FormatWriter


def run_extract(
    job: RunJob,
    open_session: Callable[[], SourceSession],
    folder: ResultFolder,
    ledger: RunLedger,
    clock: Clock,
) -> Outcome:
    """Run the job to its published end.

    Raises an error of ``core.errors``; then nothing of this attempt is left in the store or at a delivered name.
    """
    try:
        found, warnings, results = _read(job, open_session, folder, ledger, clock)
        files = _prove(results, folder, ledger)
        warnings += [f"{r.name}: {warning}" for r in results for warning in r.writer.warnings]
        outcome = Outcome(found, files, warnings)
        _store_and_deliver(job, outcome, folder, ledger, clock)
    except Fenced:
        raise  # whoever owns the run now may be delivering these very files, and cleans up after it
    except BaseException:
        folder.discard()
        raise
    return outcome


def _read(
    job: RunJob, open_session: Callable[[], SourceSession], folder: ResultFolder, ledger: RunLedger, clock: Clock
) -> tuple[list[StatementResult], list[str], list[_OpenResult]]:
    """All that needs the source, which is let go of before anything is proven."""
    ledger.stage("connect")
    session = open_session()
    found: list[StatementResult] = []
    warnings: list[str] = []
    results: list[_OpenResult] = []
    try:
        who = session.identity()
        ledger.connected(who)
        ledger.log("info", "connected, read-only: " + ", ".join(f"{key} {value}" for key, value in who.items()))
        with _deadline(session, job.statement.deadline_seconds):
            before = 0
            for number, (title, stem, statement) in enumerate(job.statements()):
                if len(job.parts) > 1:
                    ledger.log("info", f"statement {number + 1} of {len(job.parts)}: {title}")
                columns, minded = _describe(statement, session, ledger)
                written = _fetch(job, stem, number, session, columns, folder, ledger, clock, before)
                rows = written[0].writer.rows
                before += rows
                found.append(StatementResult(title, list(columns), rows))
                warnings += minded
                results += written
            return found, warnings, results
    finally:
        session.close()


def _describe(statement: Statement, session: SourceSession, ledger: RunLedger) -> tuple[list[Column], list[str]]:
    ledger.stage("describe")
    columns, renamed = unique_names(session.describe(statement))
    warnings = [f"column renamed, for its name stands twice or is missing: {name}" for name in renamed]
    warnings += [f"column '{column.name}' is {column.note}" for column in columns if column.note]
    for warning in warnings:
        ledger.log("warning", warning)
    ledger.log("info", f"{len(columns)} columns: " + ", ".join(f"{c.name} ({c.kind})" for c in columns))
    return columns, warnings


def _fetch(
    job: RunJob,
    stem: str,
    number: int,
    session: SourceSession,
    columns: Sequence[Column],
    folder: ResultFolder,
    ledger: RunLedger,
    clock: Clock,
    before: int,
) -> list[_OpenResult]:
    """One statement's rows into every format. ``before``: rows of the statements before it, for the progress told."""
    ledger.stage("fetch")
    results = []
    for member in (get_format(name) for name in job.formats):
        counted = _CountedFile(folder.create(stem + member.ending))
        results.append(_OpenResult(member, stem + member.ending, number, counted, member.writer(counted, columns)))  # type: ignore[arg-type]  # the writers need write and flush only
    started = clock.monotonic()
    try:
        rows = _write_all(job, session, results, ledger, clock, before)
        for result in results:
            result.writer.close()
    except BaseException:
        for result in results:
            result.writer.abandon()
        raise
    ledger.log("info", f"fetched {rows:,} rows in {clock.monotonic() - started:.1f} s")
    for result in results:
        if result.writer.rows != rows:
            raise ProofFailed(f"{result.name}: {rows:,} rows fetched, {result.writer.rows:,} written.")
    return results


def _refuse_too_large(job: RunJob, rows: int, size: int) -> None:
    for found, most, unit in ((rows, job.max_rows, "rows"), (size, job.max_bytes, "bytes")):
        if most is not None and found > most:
            raise ResultTooLarge(
                f"the result has more than the {most:,} {unit} that its source allows.",
                f"Narrow the statement, or ask an administrator to raise the source's limit of {unit}.",
            )


def _write_all(
    job: RunJob, session: SourceSession, results: Sequence[_OpenResult], ledger: RunLedger, clock: Clock, before: int
) -> int:
    rows = size = 0
    told = clock.monotonic()
    for batch in session.batches():
        if ledger.cancel_asked():
            raise RunCancelled("the run was cancelled.", "Start it again when it is wanted.")
        rows, size = rows + batch.rows, size + batch.bytes
        _refuse_too_large(job, rows, size)
        for result in results:
            result.writer.write(batch)
        if clock.monotonic() - told >= PROGRESS_SECONDS:
            ledger.progress(before + rows, size)
            told = clock.monotonic()
    ledger.progress(before + rows, size)
    return rows


def _prove(results: Sequence[_OpenResult], folder: ResultFolder, ledger: RunLedger) -> list[StoredFile]:
    """Read every file back, apart from its writer: rows by the format's own counter, bytes by checksum."""
    ledger.stage("prove")
    files = []
    for result in results:
        with folder.finish(result.name) as file:
            found = result.format.count_rows(file)
            file.seek(0)
            digest = hashlib.file_digest(file, "sha256").hexdigest()  # type: ignore[arg-type]  # a binary file suffices
        written, member = result.writer.rows, result.format
        if found != written:
            raise ProofFailed(f"{result.name}: {written:,} rows were written and {found:,} read back.", "Start the run again.")
        if digest != result.counted.digest.hexdigest():
            raise ProofFailed(
                f"{result.name}: the bytes on disk are not the bytes written.", "Check the disk of the result store."
            )
        size = result.counted.bytes
        files.append(StoredFile(result.name, member.name, member.media_type, found, size, digest, result.statement))
        ledger.log("info", f"proven: {result.name}, {found:,} rows, {result.counted.bytes:,} bytes, sha256 {digest[:12]}…")
    return files


def _store_and_deliver(job: RunJob, outcome: Outcome, folder: ResultFolder, ledger: RunLedger, clock: Clock) -> None:
    ledger.stage("store")
    about = {**job.about, "rows": outcome.rows, "warnings": outcome.warnings}
    folder.seal(describe_result(job.name, outcome.results, outcome.files, clock.now(), about))
    ledger.log("info", "stored: the descriptor stands beside the files")
    ledger.stage("deliver")
    if not job.deliver_into:
        ledger.publish(outcome, lambda: None)
        return
    names = [(file.name, file.name) for file in outcome.files] + [(DESCRIPTOR, f"{job.stem}.{DESCRIPTOR}")]
    plan = folder.prepare_delivery(job.deliver_into, names)
    outcome.delivery = plan
    ledger.publish(outcome, lambda: folder.deliver(plan))


@contextmanager
def _deadline(session: SourceSession, seconds: float) -> Iterator[None]:
    """Cancel the session when time is up, and say so instead of *cancelled*."""
    up = threading.Event()

    def stop() -> None:
        up.set()
        session.cancel()

    timer = threading.Timer(seconds, stop)
    timer.daemon = True
    timer.start()
    try:
        yield
    except LadleError as error:
        if up.is_set():
            raise DeadlineExceeded(
                f"the statement was stopped at its deadline of {seconds:g} s.",
                "Narrow the statement, or give the extract a longer deadline.",
                deadline_seconds=seconds,
            ) from error
        raise
    finally:
        timer.cancel()
