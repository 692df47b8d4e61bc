"""One run of one extract: connect → describe → fetch and write → prove → store → deliver.

One pass over one fetch feeds every format. A result exists only when its descriptor does, and is delivered only when
rows fetched, rows written and rows read back agree for every file.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from typing import Any

from patient_ladle.words import amount

from ..errors import (
    DeadlineExceeded,
    DiskFull,
    Fenced,
    LadleError,
    NameTaken,
    ProofFailed,
    ResultTooLarge,
    RunCancelled,
    StoreUnwritable,
)
from ..files.compression import extension_of
from ..files.descriptor import describe_result
from ..files.formats import get_format
from ..files.naming import file_stem
from ..files.output import OutputSettings
from ..files.shaping import Shape
from ..files.writing import FilesOfFormat
from ..ports import (
    Clock,
    Delivery,
    DeliveryPlan,
    Loaded,
    Outcome,
    Reading,
    ResultFolder,
    RunLedger,
    Shaped,
    SourceSession,
    Statement,
    StatementResult,
    StoredFile,
)
from ..results.columns import Batch, Column, unique_names
from ..results.guards import Finding, Guard, Watch
from ..statements.parts import Part
from ..steps.declared import numbered
from ..values.parameters import BoundValues

DESCRIPTOR = "datapackage.json"
UNDELIVERABLE = (StoreUnwritable, DiskFull, NameTaken)
"""Faults of a delivery that leave the stored result as it is."""
PROGRESS_SECONDS = 0.5
"""How often progress is told: a person sees it move, and the ledger is not flooded."""
LEAST_FREE_BYTES = 64 << 10
"""Below this a run stops before anything is lost in the middle of a write."""
SCARCE_BYTES = 2 << 30
"""Below this a run warns."""


@dataclass(frozen=True, slots=True)
class RunJob:
    """All that one attempt needs to know; ``about`` goes into the descriptor and into files that say where they came from."""

    name: str
    file_name: str
    statement: Statement
    formats: tuple[str, ...]
    deliver_into: tuple[str, ...] = ()
    about: dict[str, Any] = field(default_factory=dict)
    max_rows: int | None = None
    max_bytes: int | None = None
    parts: tuple[Part, ...] = ()
    """The statements of a text that holds several; all are read in one session, from one snapshot where there is one."""
    steps: tuple[Any, ...] = ()
    """What is done to results after the fetch (core.steps.declared)."""
    output: OutputSettings = field(default_factory=OutputSettings)
    names: Mapping[str, Any] = field(default_factory=dict)
    """What the fields of ``file_name``, and of lines in files, stand for."""
    guards: tuple[Guard, ...] = ()
    keys: Mapping[str, Sequence[Sequence[str | None]]] = field(default_factory=dict)
    """Those of the lookups that guards name, by the lookup's name."""
    known: Mapping[str, str] = field(default_factory=dict)
    """By target, what earlier deliveries have taught."""

    def statements(self) -> list[tuple[str, Statement]]:
        """Title and statement of each."""
        if len(self.parts) < 2:
            only = replace(self.statement, steps=numbered(self.steps))
            return [(self.parts[0].title if self.parts else "", only)]
        return [
            (part.title, replace(self.statement, text=part.text, steps=numbered(self.steps, number)))
            for number, part in enumerate(self.parts, 1)
        ]

    def stem(self, statement: int | None = None, part: int | None = None) -> str:
        """Stem of a file's name: of one statement (from 0) or of all, of one part (from 1) or of the whole."""
        which = (statement + 1, self.parts[statement].title) if statement is not None and len(self.parts) > 1 else None
        return file_stem(self.file_name, self.names, which, part)

    def descriptor_name(self) -> str:
        """Name of the descriptor among delivered files."""
        return descriptor_name(self.name, self.stem())

    def planned_files(self) -> list[tuple[str, str, int | None]]:
        """Name, format and statement (None: all) of the files that a run would write; the first part of those it splits."""
        part = 1 if self.output.files["rows_per_file"] or self.output.files["bytes_per_file"] else None
        made: list[tuple[str, str, int | None]] = []
        for name in self.formats:
            member = get_format(name)
            numbers: list[int | None] = [None] if member.gathers else list(range(len(self.statements())))
            extension = member.extension + extension_of(self.output.files["compression"])
            made += [(self.stem(number, part) + extension, name, number) for number in numbers]
        return made


def descriptor_name(name: str, stem: str) -> str:
    """Name of the descriptor among the delivered files of an extract, from their common stem."""
    return f"{stem.rstrip('-_. ') or name}.{DESCRIPTOR}"


def name_fields(about: Mapping[str, Any], values: BoundValues) -> dict[str, Any]:
    """What the fields of a file name stand for, from a run's facts and its values; a sensitive value shows as its mask."""
    shown = values.as_text()
    return {
        "extract": about.get("extract", ""),
        "folder": str(about.get("folder", "")).replace("/", "-"),
        "data_date": values.values["data_date"],
        "environment": about.get("environment", ""),
        "run": about.get("run", ""),
        **{f"value.{name}": "" if value is None else value for name, value in shown.items()},
    }


def run_extract(
    job: RunJob,
    open_session: Callable[[], SourceSession],
    folder: ResultFolder,
    ledger: RunLedger,
    clock: Clock,
    delivery: Delivery | None = None,
) -> Outcome:
    """Run the job to its published end; ``delivery``: a try to bring it where the job says, none where it says nothing.

    Raises an error of ``core.errors``; then nothing of this attempt is left in the store or at a delivered name.
    """
    try:
        found, warnings, formats, broken = _read(job, open_session, folder, ledger, clock)
        files = _prove(formats, ledger)
        warnings += [f"{file.name}: {text}" for each in formats for file in each.files for text in file.writer.warnings]
        outcome = Outcome(found, files, warnings, broken=broken)
        _store_and_deliver(job, outcome, folder, ledger, clock, delivery)
    except Fenced:
        raise  # whoever owns the run now may be delivering these very files, and cleans up after it
    except BaseException:
        if delivery:
            delivery.drop()
        folder.discard()
        raise
    return outcome


def _read(
    job: RunJob, open_session: Callable[[], SourceSession], folder: ResultFolder, ledger: RunLedger, clock: Clock
) -> tuple[list[StatementResult], list[str], list[FilesOfFormat], list[Finding]]:
    """All that needs the source, which is let go of before anything is proven."""
    ledger.stage("connect")
    session = open_session()
    found: list[StatementResult] = []
    warnings: list[str] = []
    broken: list[Finding] = []
    several = len(job.parts) > 1
    facts = (job.about, {**job.about, **job.names})  # lines of older revisions name facts of the run, as {dataDate}
    formats = [FilesOfFormat(get_format(name), job.output, folder, job.stem, facts, several) for name in job.formats]
    progress = _Progress(job, folder, ledger, clock)
    try:
        who = session.identity()
        ledger.connected(who)
        ledger.log("info", "connected, read-only: " + ", ".join(f"{key} {value}" for key, value in who.items()))
        with _deadline(session, job.statement.query_timeout_seconds):
            for number, (title, statement) in enumerate(job.statements()):
                if several:
                    ledger.log("info", f"statement {number + 1} of {len(job.parts)}: {title}")
                ways: list[Shaped] = []
                told = _Told(ledger)
                reading = Reading(
                    job.output.documents, job.output.chosen(title), looked=progress.look, shaped=ways.append, loaded=told.loaded
                )
                columns, minded = _describe(replace(statement, reading=reading), session, ledger)
                minded += told.notes + _through_steps(ways, ledger)
                told_before = len(ways)
                shape = job.output.shape(title, columns)
                watch = Watch(job.guards if number == 0 else (), shape.columns, job.keys)
                rows = _fetch(number, title, session, shape, formats, ledger, progress, watch)
                _through_steps(ways[told_before:], ledger)
                broken += watch.findings()
                found.append(StatementResult(title, list(shape.columns), rows, ways[0] if ways else None))
                warnings += minded + shape.warnings
        for each in formats:
            each.close()
        return found, warnings, formats, broken
    except BaseException:
        for each in formats:
            each.abandon()
        raise
    finally:
        session.close()


def _describe(statement: Statement, session: SourceSession, ledger: RunLedger) -> tuple[list[Column], list[str]]:
    ledger.stage("describe")
    columns, renamed = unique_names(session.describe(statement))
    warnings = [f"column renamed, for its name stands twice or is missing: {name}" for name in renamed]
    warnings += [f"column '{column.name}' is {column.note}" for column in columns if column.note]
    for warning in warnings:
        ledger.log("warning", warning)
    for remark in session.remarks:  # of every run: no warning, which would say that this one is out of the ordinary
        ledger.log("info", remark)
    ledger.log("info", f"{len(columns)} columns: " + ", ".join(f"{c.name} ({c.kind})" for c in columns))
    return columns, warnings


class _Told:
    """What is loaded for a combination, while it is described."""

    def __init__(self, ledger: RunLedger) -> None:
        self.ledger, self.notes = ledger, list[str]()

    def loaded(self, loaded: Loaded) -> None:
        """Told of an input that is there."""
        self.ledger.log("info", f"input {loaded.name}: {amount(loaded.rows, 'row')} loaded")
        for note in loaded.notes:
            self.ledger.log("warning", f"input {loaded.name}: {note}")
            self.notes.append(f"input {loaded.name}: {note}")


def _through_steps(ways: Sequence[Shaped], ledger: RunLedger) -> list[str]:
    """Told of what became of the rows on their way through the steps; returns what is to be minded."""
    for shaped in ways:
        steps = amount(len(shaped.steps), "step")
        ledger.log(
            "info",
            f"fetched {amount(shaped.fetched, 'row')}, "
            + (f"and loaded as many for {steps}" if not shaped.passed else f"with {steps} done as they passed"),
        )
        for step in shaped.steps:
            missed = "" if step.unmatched is None else f", {step.unmatched:,} without a match"
            ledger.log(
                "info", f"step {step.number + 1} ({step.title}): {step.rows_in:,} rows in, {step.rows_out:,} out{missed}"
            )
        for note in shaped.notes:
            ledger.log("warning", note)
    return [note for shaped in ways for note in shaped.notes]


class _Progress:
    """Counts what is fetched over all statements; tells it, minds the limits, the disk and whoever asks to stop."""

    def __init__(self, job: RunJob, folder: ResultFolder, ledger: RunLedger, clock: Clock) -> None:
        self.job, self.folder, self.ledger, self.clock = job, folder, ledger, clock
        self.rows = self.bytes = 0
        self.told = self.clock.monotonic()
        self.warned = False
        self._mind_space()

    def add(self, batch: Batch) -> None:
        self.rows, self.bytes = self.rows + batch.rows, self.bytes + batch.bytes
        self.look(0, 0)

    def look(self, rows: int, size: int) -> None:
        """Minds all limits. ``rows``, ``size``: looked through beside those that were added, before any of them is written."""
        if self.ledger.cancel_asked():
            raise RunCancelled("the run was cancelled.", "Start it again when it is wanted.")
        self._refuse_too_large(rows, size)
        if self.clock.monotonic() - self.told >= PROGRESS_SECONDS:
            self.tell(rows, size)
            self._mind_space()

    def tell(self, rows: int = 0, size: int = 0) -> None:
        self.ledger.progress(self.rows + rows, self.bytes + size)
        self.told = self.clock.monotonic()

    def _refuse_too_large(self, rows: int, size: int) -> None:
        both = ((self.rows + rows, self.job.max_rows, "rows"), (self.bytes + size, self.job.max_bytes, "bytes"))
        for found, most, unit in both:
            if most is not None and found > most:
                raise ResultTooLarge(
                    f"the result has more than the {most:,} {unit} that its source allows.",
                    f"Narrow the statement, or ask an administrator to raise the source's limit of {unit}.",
                )

    def _mind_space(self) -> None:
        """Warn long before the end; stop before the disk is full, for others write there too."""
        free = self.folder.free_bytes()
        if free is None:
            return
        if free < LEAST_FREE_BYTES:
            raise DiskFull(
                f"no space is left in the result store{self.folder.place()}.",
                "Free some space there, then start the run again.",
            )
        if free < SCARCE_BYTES and not self.warned:
            self.warned = True
            self.ledger.log("warning", f"space is scarce in the result store: {free / 1e9:.1f} GB are left")


def _fetch(  # noqa: PLR0913 - a statement, where it goes, and who is told
    number: int,
    title: str,
    session: SourceSession,
    shape: Shape,
    formats: Sequence[FilesOfFormat],
    ledger: RunLedger,
    progress: _Progress,
    watch: Watch,
) -> int:
    """One statement's rows into every format; returns how many they are."""
    ledger.stage("fetch")
    began, before = progress.clock.monotonic(), progress.rows
    for each in formats:
        each.begin(number, title, shape.columns)
    zones = list(dict.fromkeys(each.zone for each in formats)) if shape.minds_zone else ["UTC"]
    for batch in session.batches():
        so_far = progress.rows - before
        progress.add(batch)
        shaped = {zone: shape.batch(batch, so_far, zone) for zone in zones}
        watch.see(shaped[zones[0]])
        for each in formats:
            each.write(shaped[each.zone if shape.minds_zone else zones[0]])
    progress.tell()
    rows = progress.rows - before
    for each in formats:
        each.end()
    ledger.log("info", f"fetched {amount(rows, 'row')} in {progress.clock.monotonic() - began:.1f} s")
    for each in formats:
        if each.rows_of(number) != rows:
            raise ProofFailed(f"{each.member.name}: {amount(rows, 'row')} fetched, {each.rows_of(number):,} written.")
    return rows


def _prove(formats: Sequence[FilesOfFormat], ledger: RunLedger) -> list[StoredFile]:
    ledger.stage("prove")
    proven = []
    for each in formats:
        for file in each.files:
            stored = each.prove(file)
            ledger.log(
                "info",
                f"proven: {stored.name}, {amount(stored.rows, 'row')}, {stored.bytes:,} bytes, sha256 {stored.sha256[:12]}…",
            )
            proven.append(stored)
    return sorted(proven, key=lambda file: file.statement)


def _store_and_deliver(
    job: RunJob, outcome: Outcome, folder: ResultFolder, ledger: RunLedger, clock: Clock, delivery: Delivery | None
) -> None:
    ledger.stage("store")
    about = {**job.about, "rows": outcome.rows, "warnings": outcome.warnings}
    moment = clock.now()

    def described(names: Mapping[str, str]) -> dict[str, Any]:
        return describe_result(job.name, outcome.results, outcome.files, moment, about, names)

    folder.seal(described({}))
    ledger.log("info", "stored: the descriptor stands beside the files")
    ledger.stage("deliver")
    if not job.deliver_into or delivery is None:
        ledger.publish(outcome, lambda: None)
        return
    names = [(file.name, file.name) for file in outcome.files] + [(DESCRIPTOR, job.descriptor_name())]
    try:
        plan = delivery.prepare(job.deliver_into, names, job.output.files, described, job.known)
    except UNDELIVERABLE as error:  # the delivery's own fault: what is stored and proven stays, to be delivered later
        delivery.drop()
        plan = DeliveryPlan(delivery.kind, tuple(job.deliver_into), wished=tuple(names))
        outcome.undelivered = error
    else:
        _prove_copies(plan, outcome.files)
    outcome.delivery = plan
    ledger.publish(outcome, lambda: None if outcome.undelivered else delivery.commit(plan))


def _prove_copies(plan: DeliveryPlan, files: Sequence[StoredFile]) -> None:
    """What was read from the store to be delivered is what was proven. Raises ProofFailed."""
    for file, moves in zip(files, plan.copies(), strict=True):
        for _, final, sha256 in moves:
            if sha256 != file.sha256:
                raise ProofFailed(f"'{final}' would not be what was proven as {file.name}.", "Look at the result store's disk.")


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
                query_timeout_seconds=seconds,
            ) from error
        raise
    finally:
        timer.cancel()
