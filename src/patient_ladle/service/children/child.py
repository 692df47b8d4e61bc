"""The child: does the job that stands on its standard input, and tells how it goes in JSON lines.

In: the job, then ``{"cancel": true}`` (or the run's number), ``{"published": true}`` or ``{"fenced": …}``. End of input
means that the parent is gone, and the child ends at once. Out: ``stage``, ``log``, ``progress``, ``publish``, then ``done`` or
``failed``. A job that says ``stay`` leaves the child waiting for the next one, unless it failed.
"""

from __future__ import annotations

import json
import os
import queue
import shutil
import sys
import threading
import time
import traceback
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import date, datetime, timezone
from pathlib import Path
from typing import Any

from patient_ladle.adapters.combining.combined import drawn_from
from patient_ladle.adapters.deliveries import begun, mark_of
from patient_ladle.adapters.readers import reader_of, with_steps
from patient_ladle.adapters.sources import ENGINES, get_engine
from patient_ladle.adapters.sources.base import ProbingSession
from patient_ladle.adapters.stores import store_at
from patient_ladle.adapters.stores.base import Store
from patient_ladle.core.errors import (
    Fenced,
    LadleError,
    OutOfMemory,
    RunCancelled,
    ServiceFault,
    SourceNotReadable,
    StatementFailed,
    StatementRefused,
    StatementWrong,
    StoreUnwritable,
)
from patient_ladle.core.files.output import OutputSettings
from patient_ladle.core.inputs.declared import Drawn
from patient_ladle.core.ports import Loaded, Outcome, Reading, Shaped, SourceSession, Statement
from patient_ladle.core.results.columns import unique_names
from patient_ladle.core.results.guards import checked_guards
from patient_ladle.core.results.profile import with_gaps
from patient_ladle.core.results.source_profile import Subject, source_profile
from patient_ladle.core.runs.engine import RunJob, name_fields, run_extract
from patient_ladle.core.runs.preview import PreviewLimits, first_rows
from patient_ladle.core.statements.catalogue import without_schema
from patient_ladle.core.statements.outlines.base import Compiled
from patient_ladle.core.statements.views import Filter
from patient_ladle.core.steps.declared import numbered, steps_of
from patient_ladle.core.steps.lookups import Lookup
from patient_ladle.core.values.parameters import BoundValues, Parameter, resolve, samples
from patient_ladle.words import amount

from .launch import PREFIX

IDLE_SECONDS = 0.05
"""A job that came with the start is there by then: nothing holds it up."""
END = object()


class _SystemClock:
    def now(self) -> datetime:
        return datetime.now(timezone.utc)

    def monotonic(self) -> float:
        return time.monotonic()


class PipeLedger:
    """The run's ledger at the other end of the pipe. See RunLedger."""

    def __init__(self) -> None:
        self.out = threading.Lock()
        self.answers: queue.Queue[dict[str, Any]] = queue.Queue()
        self.jobs: queue.Queue[dict[str, Any]] = queue.Queue()
        self.run = ""
        self.cancelled = threading.Event()
        self.session: SourceSession | None = None

    def tell(self, kind: str, **facts: Any) -> None:
        """One line to the parent."""
        with self.out:
            at = datetime.now(timezone.utc).isoformat()
            sys.stdout.write(json.dumps({"kind": kind, "at": at, **facts}) + "\n")
            sys.stdout.flush()

    def listen(self) -> None:
        """Runs in a thread of its own: takes the parent's words until it is gone."""
        for line in sys.stdin:
            said = json.loads(line)
            if "do" in said:
                self._begin(said)
                self.jobs.put(said)
            elif said.get("cancel"):
                if said["cancel"] not in (True, self.run):
                    continue  # meant for a run that has ended meanwhile
                self.cancelled.set()
                if self.session is not None:
                    self.session.cancel()
            else:
                self.answers.put(said)
        _leave_nothing()
        os._exit(3)

    def _begin(self, job: dict[str, Any]) -> None:
        """Nothing of the job before is left."""
        self.run, self.session = str(job.get("run", "")), None
        self.cancelled.clear()
        while not self.answers.empty():
            self.answers.get_nowait()

    def stage(self, name: str) -> None:
        self.tell("stage", name=name)

    def connected(self, identity: dict[str, str]) -> None:
        self.tell("connected", identity=identity)

    def log(self, level: str, text: str) -> None:
        self.tell("log", level=level, text=text)

    def progress(self, rows: int, bytes_read: int) -> None:
        self.tell("progress", rows=rows, bytes=bytes_read)

    def cancel_asked(self) -> bool:
        return self.cancelled.is_set()

    def publish(self, outcome: Outcome, deliver: Callable[[], None]) -> None:
        """The parent records the intent and renames under the run's lock; here one only waits for its word."""
        self.tell("publish", outcome=outcome.to_dict())
        answer = self.answers.get()
        if not answer.get("published"):
            raise Fenced(str(answer.get("fenced", "another worker owns this run.")))


def carry_out(job: dict[str, Any], ledger: PipeLedger) -> None:
    """A run, to its end. Raises errors of ``core.errors``."""
    parameters = [Parameter.from_dict(item) for item in job["parameters"]]
    given, told = _drawn(job, ledger)
    values = resolve(parameters, given, date.fromisoformat(job["data_date"]), datetime.fromisoformat(job["due_at"]))
    # Files travel: which input a value came from is for the record.
    elsewhere = {name: f"{amount(len(given[name]), 'value')} of another result" for name in told}
    about = {**job["about"], "values": {**values.as_text(), **elsewhere}}
    parts = tuple(reader_of(job["reader"]).language(job["reader"]).parts(job["statement"]))
    guards = checked_guards(job["guards"])
    guarded = {guard.given.get("lookup") for guard in guards}
    work = RunJob(
        name=job["name"],
        file_name=job["file_name"],
        statement=Statement(job["statement"], values, job["query_timeout_seconds"]),
        formats=tuple(job["formats"]),
        deliver_into=tuple(job["deliver_into"]),
        known=job["known"],
        about=about,
        max_rows=job["max_rows"],
        max_bytes=job["max_bytes"],
        parts=parts,
        steps=steps_of(job.get("steps") or ()),
        output=OutputSettings.from_dict(job["output"]),
        names=name_fields(job["about"], values),
        guards=guards,
        keys={each["name"]: Lookup.from_dict(each).keys() for each in job.get("lookups", ()) if each["name"] in guarded},
    )
    store = store_at(job["store"])
    _look_at(store, job["store"], job.get("store_mark", ""))
    folder = store.result(job["run"], job["attempt"])
    delivery = begun(work.deliver_into, mark_of(job["run"], job["attempt"]), folder.open)
    try:
        run_extract(work, lambda: _shaping(job, ledger, len(parts)), folder, ledger, _SystemClock(), delivery)
    except LadleError as error:
        raise values.without_private(error) from error
    ledger.tell("done")


def _drawn(job: dict[str, Any], ledger: PipeLedger) -> tuple[dict[str, Any], dict[str, str]]:
    """All values that are given, with those that come from columns of other inputs; and words for these."""
    given, told = dict(job["values"]), dict[str, str]()
    for name, of in job.get("drawn", {}).items():
        column = Drawn(of["input"], of["column"])
        given[name] = drawn_from(of["given"], column, name)
        told[name] = f"{amount(len(given[name]), 'value')} of column '{column.column}' of input '{column.input}'"
        ledger.log("info", f"parameter {name}: {told[name]}")
    return given, told


def _look_at(store: Store, place: str, mark: str) -> None:
    """The store is there, and is the one it should be, before a source is read in vain. Raises StoreUnwritable."""
    found = store.mark(make=False)
    if mark and found != mark:
        raise StoreUnwritable(
            f"the result store '{place}' is not the one that this service writes to: "
            + (f"its mark is {found}." if found else "it has no mark."),
            "See whether it is mounted.",
        )


def _opened(job: dict[str, Any], ledger: PipeLedger) -> SourceSession:
    session = reader_of(job["reader"]).open(job["reader"])
    ledger.session = session
    if job["do"] not in ("run", "understand"):  # a run tells of its session itself; what understands runs nothing
        ledger.tell("connected", identity=session.identity())
    if ledger.cancelled.is_set():
        session.close()
        raise RunCancelled("this was cancelled.", "Start it again when it is wanted.")
    return session


def _shaping(job: dict[str, Any], ledger: PipeLedger, statements: int = 1) -> SourceSession:
    """A session for the job's statements; where it has steps, their rows go through them."""
    inner = _opened(job, ledger)
    ledger.session = session = with_steps(inner, job, statements)
    if session is not inner and ledger.cancelled.is_set():
        session.cancel()
    return session


def _probing(job: dict[str, Any], ledger: PipeLedger) -> ProbingSession:
    """Of a source, which can be looked around in."""
    session = _opened(job, ledger)
    assert isinstance(session, ProbingSession)
    return session


def _check(job: dict[str, Any], ledger: PipeLedger) -> None:
    way = job["reader"]
    steps = get_engine(way["engine"]).check(way["address"], way["secret"], way["connect_timeout_seconds"])
    ledger.tell("done", result=[step.to_dict() for step in steps])


def _catalogue(job: dict[str, Any], ledger: PipeLedger) -> None:
    session = _probing(job, ledger)
    try:
        default = get_engine(job["reader"]["engine"]).default_schema(job["reader"]["address"])
        ledger.tell("done", result=without_schema(session.catalogue(), default))
    finally:
        session.close()


@contextmanager
def _asked(job: dict[str, Any], ledger: PipeLedger) -> Iterator[tuple[SourceSession, BoundValues]]:
    """A session for a statement, and its values, which no error of it tells where they are sensitive."""
    parameters = [Parameter.from_dict(item) for item in job["parameters"]]
    values = resolve(parameters, job["values"], date.fromisoformat(job["data_date"]), datetime.now(timezone.utc))
    session = _shaping(job, ledger)
    try:
        yield session, values
    except LadleError as error:
        raise values.without_private(error) from error
    finally:
        session.close()


def _rows(job: dict[str, Any], ledger: PipeLedger) -> None:
    with _asked(job, ledger) as (session, values):
        limits = PreviewLimits(rows=job["rows"])
        ways: list[Shaped] = []
        loaded: list[Loaded] = []
        first = 0 if job.get("count") else limits.rows + 1  # all rows are counted, where a preview looks at the first ones
        reading = Reading(job.get("documents") or {}, first=first, shaped=ways.append, loaded=loaded.append)
        steps = numbered(steps_of(job.get("steps") or ()), job.get("statement_number", 1))
        found = first_rows(session, Statement(job["statement"], values, reading=reading, steps=steps), limits)
        if loaded:
            found["inputs"] = [{"name": each.name, "rows": each.rows} for each in loaded]
            found["notes"] += [note for each in loaded for note in each.notes]
        for shaped in ways:
            found["shaped"] = {"fetched": shaped.fetched, "steps": [step.to_dict() for step in shaped.steps]}
            found["notes"] += shaped.notes
            if job.get("count"):
                after = shaped.steps[-1].rows_out if shaped.steps else shaped.fetched
                found |= {
                    "columns": [{"name": "rows", "kind": "integer", "source_type": ""}],
                    "rows": [[str(after)]],
                    "complete": True,
                }
        if job.get("period") and found["complete"]:
            found["rows"], gaps = with_gaps(found["rows"], job["period"])
            found["notes"] += [f"{amount(gaps, job['period'])} without rows between the others"] if gaps else []
        ledger.tell("done", result=found | {"identity": session.identity()})


def _profile(job: dict[str, Any], ledger: PipeLedger) -> None:
    """A column at a glance: a few statements in one session, which is opened anew after one that the database refused."""
    language = reader_of(job["reader"]).language(job["reader"])
    subject = Subject(language, job["table"], job["column"], [Filter.from_dict(each) for each in job["filters"]])
    now, day = datetime.now(timezone.utc), date.fromisoformat(job["data_date"])
    sessions: list[SourceSession] = []
    identity: dict[str, str] = {}

    def ask(made: Compiled) -> list[list[Any]]:
        if not sessions:
            sessions.append(_opened(job, ledger))
            identity.update(sessions[0].identity())
        statement = Statement(made.statement, resolve(list(made.parameters), {}, day, now), reading=Reading({}))
        try:
            rows: list[list[Any]] = first_rows(sessions[0], statement, PreviewLimits(rows=job["rows"]))["rows"]
        except LadleError:
            sessions.pop().close()
            raise
        return rows

    began = time.monotonic()
    try:
        found = source_profile(subject, ask)
    finally:
        for session in sessions:
            session.close()
    seconds = round(time.monotonic() - began, 3)
    statements = ";\n\n".join(found.statements)
    ledger.tell(
        "done",
        result={"profile": found.profile.to_dict(), "statement": statements, "seconds": seconds, "identity": identity},
    )


def _plan(job: dict[str, Any], ledger: PipeLedger) -> None:
    """How the database means to carry a statement out, which is not run."""
    with _asked(job, ledger) as (session, values):
        assert isinstance(session, ProbingSession)  # a plan is of the statement alone: such a job has no steps
        statement = Statement(job["statement"], values.with_stand_ins())
        session.understand(statement)
        ledger.tell("done", result={"plan": session.plan(statement).to_dict(job["tables"]), "identity": session.identity()})


def _understand(job: dict[str, Any], ledger: PipeLedger) -> None:
    """Kept warm: says of each statement asked about what columns it has, or what the database has against it."""
    ledger.tell("begun")  # from here on it is the source that is waited for
    session = _probing(job, ledger)
    try:
        session.release_snapshot()
        while True:
            asked = ledger.answers.get()
            values = samples([Parameter.from_dict(item) for item in asked["parameters"]])
            ledger.tell("understood", parts=[_understood(session, Statement(text, values)) for text in asked["parts"]])
    finally:
        session.close()


def _understood(session: ProbingSession, statement: Statement) -> dict[str, Any]:
    try:
        columns, _ = unique_names(session.understand(statement))
    except (StatementRefused, StatementWrong, StatementFailed, SourceNotReadable) as error:
        return {"error": error.to_dict()}
    return {"columns": [{"name": c.name, "kind": c.kind, "source_type": c.source_type} for c in columns]}


_DOES = {
    "understand": _understand,
    "run": carry_out,
    "check": _check,
    "catalogue": _catalogue,
    "rows": _rows,
    "profile": _profile,
    "plan": _plan,
}


def main() -> None:
    """Entry point of ``python -m patient_ladle.service.children.child``."""
    ledger = PipeLedger()
    threading.Thread(target=ledger.listen, daemon=True).start()
    stays, first = True, warm_up()
    while stays:
        job = _awaited(ledger, first)
        stays = _done(job, ledger) and bool(job.get("stay"))
    sys.stdout.flush()
    _leave_nothing()
    os._exit(0)  # threads of drivers may linger; everything that counts is on disk


def _leave_nothing() -> None:
    """Its folder for what is temporary goes with it, also where nobody is left who would remove it."""
    own = Path(os.environ.get("TMPDIR", ""))
    if own.name.startswith(PREFIX):
        shutil.rmtree(own, ignore_errors=True)


def warm_up() -> Iterator[None]:
    """Piece by piece, what a first job would have to wait for: the patterns of each language are compiled."""
    for engine in ENGINES.values():
        engine.language.warm()
        yield


def _awaited(ledger: PipeLedger, idly: Iterator[None]) -> dict[str, Any]:
    """The next job; while there is none, what is done idly."""
    while True:
        try:
            return ledger.jobs.get(timeout=IDLE_SECONDS)
        except queue.Empty:
            if next(idly, END) is END:
                return ledger.jobs.get()


def _done(job: dict[str, Any], ledger: PipeLedger) -> bool:
    """Whether the job came to its good end."""
    try:
        _DOES[job["do"]](job, ledger)
    except LadleError as error:
        ledger.tell("failed", error=error.to_dict())
    except MemoryError:
        ledger.tell("failed", error=OutOfMemory("the run ran out of memory.", "Narrow the statement.").to_dict())
    except Exception:  # noqa: BLE001  # the last boundary: the trace goes to the service's log, never to a person
        traceback.print_exc()
        fault = ServiceFault("the run met a fault of the service's own.", "The service's log has the details.")
        ledger.tell("failed", error=fault.to_dict())
    else:
        return True
    return False


if __name__ == "__main__":
    main()
