"""A session over inputs: each is loaded into one private database file, which is opened anew to be read only; the combining
statement is carried out there.

An input comes from the result store, where it was proven, from a lookup, or, for a preview, straight from its source.
"""

from __future__ import annotations

import hashlib
import json
import shutil
import tempfile
from abc import ABC, abstractmethod
from collections.abc import Callable, Generator, Iterator, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import replace
from datetime import date, datetime
from typing import Any, BinaryIO

import duckdb
import pyarrow as pa

from patient_ladle.core.errors import BadInput, InputDamaged, LadleError, NotFound, ProofFailed, RunCancelled, unknown_name
from patient_ladle.core.files.background import ahead
from patient_ladle.core.files.formats import get_format
from patient_ladle.core.files.output import OutputSettings
from patient_ladle.core.inputs.declared import Drawn
from patient_ladle.core.inputs.judging import compared, judge, read_by_name
from patient_ladle.core.ports import Loaded, Reading, Shaped, SourceSession, Statement
from patient_ladle.core.results.columns import NUMERIC, Batch, Column, unique_names
from patient_ladle.core.statements.languages.duckdb import DUCKDB
from patient_ladle.core.statements.parts import place
from patient_ladle.core.statements.scanner import replace_parameters
from patient_ladle.core.steps.at import ROW, Field, quoted
from patient_ladle.core.steps.declared import numbered, steps_of
from patient_ladle.core.steps.lookups import Lookup
from patient_ladle.core.values.parameters import MAX_LIST_ITEMS, Parameter, resolve
from patient_ladle.proof.unpacking import unpacked
from patient_ladle.words import amount

from ..sources.duckdb_session import SAFE, DuckdbSession
from ..stores import store_at
from .judge import raise_in_words, translated
from .scratch import PIECE_ROWS, Loading, ReadOnly, Scratch
from .shaped import PREVIEW_ROWS, null_row
from .typing import UNKNOWN, type_of

Opener = Callable[[Mapping[str, Any]], SourceSession]
"""Opens what an input's job carries: its reader, and its steps."""
Fields = Mapping[str, Sequence[Field]]
"""Columns of each input, by its name."""
PIECE = 1 << 20


class Given(ABC):
    """One input on its way into the file."""

    def __init__(self, job: Mapping[str, Any]) -> None:
        self.job, self.name = job, str(job["name"])

    @abstractmethod
    def load(self, session: CombinedSession, reading: Reading) -> Loaded:
        """Into the session's file. Raises errors of ``core.errors``."""

    def cancel(self) -> None:  # noqa: B027 - most inputs wait for nobody
        """What is being asked elsewhere, from another thread."""


class LookupGiven(Given):
    """A lookup, which came with the job."""

    def load(self, session: CombinedSession, reading: Reading) -> Loaded:
        lookup = Lookup.from_dict(self.job["lookup"])
        session.scratch.lookup(self.name, lookup)
        session.fields[self.name] = lookup.fields
        return Loaded(self.name, len(lookup.rows))


class StoredGiven(Given):
    """A result in the store: its files are those that were proven, to the byte, and hold as many rows."""

    def load(self, session: CombinedSession, reading: Reading) -> Loaded:
        columns = columns_of_job(self.job)
        places = session.places_read(columns)
        loading = Loading(session.scratch, self.name, [columns[place] for place in places])
        for batch in ahead(stored_rows(self.job, columns, places)):
            loading.add(batch)
            session.go_on()
            reading.looked(loading.rows + loading.waiting_rows, 0)
        session.fields[self.name] = _ended(loading)
        if loading.rows != self.job["rows"]:
            raise ProofFailed(
                f"input '{self.name}': {amount(self.job['rows'], 'row')} fetched, {loading.rows:,} loaded.",
                "Look at the result store's disk, then start the run again.",
            )
        return Loaded(self.name, loading.rows, tuple(loading.notes()))


def _ended(loading: Loading) -> list[Field]:
    """What was loaded. A column without any value, as in a night without rows, is null and goes with any kind."""
    fields = loading.end()
    bare = {kept.column.name for kept in loading.kept if kept.column.kind == "any" and not kept.settled}
    if bare:
        rows = quoted(f"{loading.name} rows")  # no input can be called that
        nulls = ", ".join(f"null as {quoted(name)}" for name in sorted(bare))
        loading.scratch.execute(f"alter table {quoted(loading.name)} rename to {rows}")
        loading.scratch.execute(f"create view {quoted(loading.name)} as select * replace ({nulls}) from {rows}")
    return [Field(field.name, UNKNOWN) if field.name in bare else field for field in fields]


def columns_of_job(job: Mapping[str, Any]) -> list[Column]:
    """What is known of a stored result's columns."""
    return [Column.from_dict(each) for each in job["columns"]]


def stored_rows(job: Mapping[str, Any], columns: Sequence[Column], places: Sequence[int]) -> Generator[Batch, None, None]:
    """All rows of a stored result, of them the columns at these places. Raises InputDamaged where a file is not what was
    proven."""
    store = store_at(job["store"])
    for file in job["files"]:
        with ExitStack() as files:
            try:
                stored = files.enter_context(store.open(str(job["run"]), job["attempt"], file["name"]))
            except NotFound:
                raise _damaged(job, file["name"], "it is not there") from None
            digest = hashlib.sha256()
            while piece := stored.read(PIECE):
                digest.update(piece)
            if digest.hexdigest() != file["sha256"]:
                raise _damaged(job, file["name"], "its bytes are not those that were proven")
            stored.seek(0)
            member = get_format(file["format"])
            content: BinaryIO = stored
            if file["compression"] != "none":
                content = files.enter_context(tempfile.TemporaryFile())
                with unpacked(file["compression"], stored) as opened:
                    shutil.copyfileobj(opened, content)
                content.seek(0)
            yield from member.read_picked(content, file["options"], columns, places)


def _damaged(job: Mapping[str, Any], name: str, why: str) -> InputDamaged:
    return InputDamaged(
        f"the stored file '{name}' of run {job['run']} is damaged: {why}.",
        "A run makes this input anew. Look at the result store's disk.",
        run=job["run"],
        file=name,
        why=why,
    )


class LiveGiven(Given):
    """An extract asked at its source: the first rows of it, for a preview."""

    session: SourceSession | None = None

    def load(self, session: CombinedSession, reading: Reading) -> Loaded:
        job = self.job
        values = {**job["values"], **{name: session.drawn(Drawn(**of), name) for name, of in job.get("drawn", {}).items()}}
        parameters = [Parameter.from_dict(item) for item in job["parameters"]]
        bound = resolve(parameters, values, date.fromisoformat(job["data_date"]), datetime.fromisoformat(job["due_at"]))
        output = OutputSettings.from_dict(job["output"])
        ways: list[Shaped] = []
        looking = Reading(output.documents, output.chosen(job["title"]), PREVIEW_ROWS + 1, reading.looked, ways.append)
        steps = numbered(steps_of(job.get("steps") or ()), job["statement_number"])
        self.session = inner = session.opened(job)
        try:
            session.go_on()
            columns, _ = unique_names(inner.describe(Statement(job["statement"], bound, reading=looking, steps=steps)))
            shape = output.shape(job["title"], columns)
            loading = Loading(session.scratch, self.name, shape.columns)
            cut = self._load(inner, loading, shape.batch, session)
            session.fields[self.name] = _ended(loading)
        except LadleError as error:
            raise bound.without_private(error) from error
        finally:
            inner.close()
        notes = [f"only the first {PREVIEW_ROWS:,} rows of input '{self.name}' were taken: a run takes all"] if cut else []
        notes += [note for each in ways for note in each.notes]
        return Loaded(self.name, loading.rows, (*loading.notes(), *notes))

    def _load(
        self, inner: SourceSession, loading: Loading, shaped: Callable[[Batch, int], Batch], session: CombinedSession
    ) -> bool:
        rows = 0
        for batch in inner.batches(soon=True):
            session.go_on()
            left = PREVIEW_ROWS - rows
            loading.add(shaped(batch if batch.rows <= left else batch.slice(0, left), rows))
            rows += batch.rows
            if batch.rows > left:
                return True
        return False

    def cancel(self) -> None:
        if self.session is not None:
            self.session.cancel()


_GIVEN: Mapping[str, type[Given]] = {"lookup": LookupGiven, "stored": StoredGiven, "live": LiveGiven}


class CombinedSession(SourceSession):
    """``inputs``: what the job carries of each, in the order in which they are loaded; ``statement``: all that will be asked
    of them, several where it holds several. Of a stored result only the columns that this may read are loaded."""

    def __init__(self, inputs: Sequence[Mapping[str, Any]], opened: Opener, statement: str = "") -> None:
        self.given = [_GIVEN[each["kind"]](each) for each in inputs]
        self.opened = opened
        self.scratch = Scratch()
        self.fields: dict[str, Sequence[Field]] = {}
        self.reader: ReadOnly | None = None
        self.loading: Given | None = None
        self.asked = [part.text for part in DUCKDB.parts(statement)] if statement else []
        self.read: frozenset[str] | None = None
        """Names, in small letters, of columns that may be read; None: any may be."""
        self.cancelled = False

    def identity(self) -> dict[str, str]:
        return {"inputs": f"{len(self.given)}, combined by the service"}

    def describe(self, statement: Statement) -> Sequence[Column]:
        if self.reader is None:
            self._load(statement)
        assert self.reader is not None
        names = [each.name for each in self.given]
        with _refusals():
            refuse_out_of_reach(self.reader.connection, statement.text, names, self.fields)
            return self.reader.describe(replace(statement, reading=Reading()))

    def _load(self, statement: Statement) -> None:
        reading = statement.reading
        names = [each.name for each in self.given]
        with _refusals():
            found = [read_by_name(_judged(self.scratch.connection, text, names)) for text in self.asked]
        if found and None not in found:
            self.read = frozenset().union(*filter(None, found))
        for given in self.given:
            self.go_on()
            self.loading = given
            try:
                reading.loaded(given.load(self, reading))
            except LadleError as error:
                if isinstance(error, RunCancelled) or f"'{given.name}'" in error.message:
                    raise
                raise type(error)(f"input '{given.name}': {error.message}", error.hint, **error.facts) from error
        self.loading = None
        self.reader = ReadOnly(self.scratch, self.identity())
        self.go_on()  # a cancel that came while there was neither met nobody

    def places_read(self, columns: Sequence[Column]) -> list[int]:
        """Where columns stand that may be read; at least one, for rows are counted by it."""
        if self.read is None:
            return list(range(len(columns)))
        return [place for place, column in enumerate(columns) if column.name.lower() in self.read] or [0]

    def drawn(self, of: Drawn, parameter: str) -> list[str]:
        """The different values of a column of an input that is loaded. Raises BadInput."""
        table, names = self._named(of.input), [field.name for field in self.fields_of(of.input)]
        column = quoted(names[_place_of(of, names)])
        rows = self.scratch.execute(
            f"select distinct cast({column} as varchar) from {quoted(table)} where {column} is not null"
            f" order by 1 limit {MAX_LIST_ITEMS + 1}"
        ).fetchall()
        return checked_drawn([str(value) for (value,) in rows], of, parameter)

    def _named(self, name: str) -> str:
        known = {each.lower(): each for each in self.fields}
        if name.lower() not in known:
            raise unknown_name("input", name, self.fields)
        return known[name.lower()]

    def fields_of(self, name: str) -> Sequence[Field]:
        """Columns of an input that is loaded. Raises UnknownName."""
        return self.fields[self._named(name)]

    def rows_of(self, name: str) -> Iterator[pa.Table]:
        """All rows of an input that is loaded, piece by piece."""
        assert self.reader is not None, "describe comes first"
        asked = self.reader.connection.cursor().sql(f"from {quoted(self._named(name))}")
        for rows in asked.to_arrow_reader(PIECE_ROWS):
            yield pa.Table.from_batches([rows])

    def batches(self, soon: bool = False) -> Iterator[Batch]:
        assert self.reader is not None, "describe comes first"
        with _refusals():
            yield from self.reader.batches(soon)

    def go_on(self) -> None:
        """Raises RunCancelled once the session was cancelled."""
        if self.cancelled:
            raise RunCancelled("the combination was stopped.", "Start the run again when it is wanted.")

    def cancel(self) -> None:
        self.cancelled = True
        if self.loading is not None:
            self.loading.cancel()
        if self.reader is not None:
            self.reader.cancel()
        else:
            self.scratch.stop()

    def close(self) -> None:
        if self.reader is not None:
            self.reader.close()
        self.scratch.close()


class _refusals:
    """What is wrong with the statement itself ends a run as any wrong statement does; the engine speaks our words."""

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind: Any, error: BaseException | None, trace: Any) -> None:
        if not isinstance(error, LadleError) or isinstance(error, (RunCancelled, ProofFailed)):
            return
        raise_in_words(error)


def drawn_from(given: Mapping[str, Any], of: Drawn, parameter: str) -> list[str]:
    """The different values of a column of an input, from where it lies: a stored result, or a lookup. Raises BadInput."""
    if given["kind"] == "lookup":
        lookup = Lookup.from_dict(given["lookup"])
        names = [column.name for column in lookup.columns]
        cells = [list(each) for each in zip(*lookup.rows, strict=True)] or [[] for _ in names]
        batches: Iterator[Batch] = iter([Batch.of_texts(cells, len(lookup.rows))])
        place = _place_of(of, names)
    else:
        columns = columns_of_job(given)
        place = _place_of(of, [column.name for column in columns])
        batches, place = stored_rows(given, columns, [place]), 0
    found: set[str] = set()
    for batch in batches:
        found |= {str(value) for value in batch.cells[place].unique().to_pylist() if value is not None}
        if len(found) > MAX_LIST_ITEMS:
            break
    return checked_drawn(sorted(found), of, parameter)


def _place_of(of: Drawn, names: Sequence[str]) -> int:
    """Where the column stands. Raises BadInput."""
    found = [place for place, name in enumerate(names) if name.lower() == of.column.lower()]
    if not found:
        raise BadInput(f"input '{of.input}' has no column '{of.column}'.", f"It has {', '.join(names[:12]) or 'none'}.")
    return found[0]


def checked_drawn(values: list[str], of: Drawn, parameter: str) -> list[str]:
    """Values that are to be a list parameter. Raises BadInput beyond its limit."""
    if len(values) > MAX_LIST_ITEMS:
        raise BadInput(
            f"column '{of.column}' of input '{of.input}' has more than the {MAX_LIST_ITEMS:,} different values that"
            f" the parameter '{parameter}' can take.",
            "Take the whole result as an input, and join it in the combining statement.",
        )
    return values


def _judged(connection: duckdb.DuckDBPyConnection, statement: str, names: Sequence[str]) -> Any:
    """The engine's parse of a statement that reads these inputs and nothing else. Raises BadInput with line and column."""
    made = replace_parameters(statement, DUCKDB, lambda name: f"$p_{name}")
    try:
        [(found,)] = connection.execute("select json_serialize_sql(?)", [made.text]).fetchall()
    except duckdb.Error as error:
        raise translated(error) from error
    tree = json.loads(found)
    try:
        judge(tree, names)
    except BadInput as error:
        at = error.facts.pop("at", None)
        if at is None or not 0 <= at < len(made.text.encode()):
            raise
        line, column = place(statement, made.original(len(made.text.encode()[:at].decode(errors="ignore"))))
        where = f" (line {line}, column {column})."
        raise type(error)(
            error.message.rstrip(".") + where, error.hint, **{**error.facts, "line": line, "column": column}
        ) from error
    return tree


def refuse_out_of_reach(connection: duckdb.DuckDBPyConnection, statement: str, names: Sequence[str], fields: Fields) -> None:
    """Raises BadInput for anything but inputs that a statement names, and for kinds that do not compare."""
    tree = _judged(connection, statement, names)
    kinds = {(table.lower(), field.name.lower()): (table, field) for table, columns in fields.items() for field in columns}

    def known(table: str, column: str) -> tuple[str, Field] | None:
        if table:
            return kinds.get((table.lower(), column.lower()))
        found = [each for (_, name), each in kinds.items() if name == column.lower()]
        return found[0] if len(found) == 1 else None

    for ends in compared(tree):
        sides = [known(*each) for each in ends]
        if sides[0] and sides[1] and not _compare(sides[0][1].kind, sides[1][1].kind):
            said = " and ".join(f"{table}.{field.name} is {field.kind}" for table, field in filter(None, sides))
            text = next(table + "." + field.name for table, field in filter(None, sides) if field.kind != "text")
            raise BadInput(
                f"{said}: they do not compare, for the number 1 is not the text '1'.",
                f"Say how they are meant: cast({text} as varchar), or cast the text.",
            )


def _compare(first: str, second: str) -> bool:
    """Whether the engine compares values of two kinds without making something else of one."""
    moments, texts = ("date", "timestamp", "zoned"), ("text", "json")
    return (
        "any" in (first, second) or first == second or any({first, second} <= set(each) for each in (NUMERIC, moments, texts))
    )


def described(statement: Statement, columns: Mapping[str, Sequence[Column]]) -> Sequence[Column]:
    """Columns of a combining statement, from those of its inputs; nothing is read. Raises BadInput, StatementWrong."""
    connection = duckdb.connect(":memory:", config=SAFE)
    session = DuckdbSession(connection, {})
    try:
        fields = {name: [Field(column.name, type_of(column)) for column in each] for name, each in columns.items()}
        refuse_out_of_reach(connection, statement.text, list(columns), fields)
        for name, each in fields.items():
            connection.execute(f"create table {quoted(name)} as select * exclude {ROW} from ({null_row(each)}) limit 0")
        return session.describe(statement)
    finally:
        session.close()
