"""A session whose rows go through steps: loaded into a private database file, shaped there by one statement, given on."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, Protocol, runtime_checkable

import pyarrow as pa

from patient_ladle.core.errors import BadInput, LadleError, ProofFailed, RunCancelled, StatementFailed, StatementWrong
from patient_ladle.core.ports import Reading, Shaped, SourceSession, Statement, StepRows
from patient_ladle.core.results.columns import Batch, Column, unique_names
from patient_ladle.core.steps.at import ROW, Field, quoted
from patient_ladle.core.steps.chain import Chain
from patient_ladle.core.steps.declared import LookUp, tag_of, title_of
from patient_ladle.core.steps.lookups import InputTable, Lookup, tables_by_key
from patient_ladle.core.steps.passing import pass_by, passed
from patient_ladle.words import amount

from .judge import EngineJudge, raise_in_words, refuse_own_names
from .scratch import Loading, ReadOnly, Scratch
from .typing import UNKNOWN, type_of

RESULT = "ladle result"
PREVIEW_ROWS = 100_000
"""So many of the first rows go through the steps of a preview."""


def null_row(fields: Sequence[Field]) -> str:
    """What selects one row without values, of these columns: enough to understand a statement over them."""
    made = [f"null as {quoted(f.name)}" if f.type == UNKNOWN else f"cast(null as {f.type}) as {quoted(f.name)}" for f in fields]
    return f"select {', '.join([*made, f'cast(0 as bigint) as {ROW}'])}"


def checked_chain(
    judge: EngineJudge, columns: Sequence[Column], steps: Sequence[tuple[int, Any]], lookups: Mapping[str, Lookup | InputTable]
) -> Chain:
    """Steps compiled over nothing: all that can be told before a row is read. Raises BadInput; its fact ``where`` is a path."""
    refuse_own_names([column.name for column in columns])
    fields = [Field(column.name, type_of(column)) for column in columns]
    tables = {key: null_row(each.fields) for key, each in lookups.items()}
    return Chain(judge, fields, null_row(fields), lookups, tables).extend(steps)


@runtime_checkable
class HasInputs(Protocol):
    """A session over inputs, which are there from its first ``describe`` on."""

    def fields_of(self, name: str) -> Sequence[Field]:
        """Columns of an input. Raises UnknownName."""

    def rows_of(self, name: str) -> Iterator[pa.Table]:
        """Its rows, piece by piece."""


class ShapedSession(SourceSession):
    """``inner``: the source's; it is let go of once ``statements`` statements were read from it."""

    def __init__(self, inner: SourceSession, lookups: Mapping[str, Lookup], statements: int = 1) -> None:
        self.inner, self.lookups, self.left = inner, lookups, statements
        self.scratch: Scratch | None = None
        self.reader: ReadOnly | None = None
        self.rows: int | None = None
        self.steps: tuple[tuple[int, Any], ...] = ()
        self.passing: Sequence[tuple[int, Column]] = ()
        """Columns, and where they stood, where the steps are done to batches as they pass."""
        self.reading = Reading()
        self.met: Mapping[str, Lookup | InputTable] = {}
        self.cancelled = False
        self.who: dict[str, str] = {}

    def identity(self) -> dict[str, str]:
        return self.who or self.inner.identity()

    def _described(self, statement: Statement) -> Sequence[Column]:
        columns = self.inner.describe(statement)
        self.remarks = self.inner.remarks
        return columns

    def describe(self, statement: Statement) -> Sequence[Column]:
        self.left -= 1
        self.steps = statement.steps
        self._let_go_of_scratch()
        self.passing = []
        if not statement.steps:
            return self._described(statement)
        first = PREVIEW_ROWS + 1 if statement.reading.first else 0
        whole = replace(statement, steps=(), reading=replace(statement.reading, first=first, columns=()))
        columns, _ = unique_names(self._described(whole))
        scratch = self.scratch = Scratch()
        try:
            met = tables_by_key(self.lookups.values(), self._inputs_met(statement))
            checked_chain(EngineJudge(scratch.connection, statement.values), columns, statement.steps, met)
        except BadInput as error:
            raise StatementWrong(error.message, error.hint, **error.facts) from error
        if pass_by(statement.steps) and not first:
            self._let_go_of_scratch()
            self.passing, self.reading = passed(columns, statement.steps), statement.reading
            return [column for _, column in self.passing]
        self.met = met
        tables = {key: f"lookup {number}" for number, key in enumerate(met)}
        for key, each in met.items():
            if isinstance(each, Lookup):
                scratch.lookup(tables[key], each)
            else:
                self._bring(scratch, tables[key], each)
        loading = Loading(scratch, RESULT, columns)
        cut = self._load(loading, statement)
        if self.left == 0:
            self.who = self.inner.identity()
            self.inner.close()
        fields = loading.end()
        self.reader = reader = ReadOnly(scratch, {})
        self._go_on()  # a cancel that came while there was neither met nobody
        with self._in_words():
            try:
                return self._shaped(statement, loading, fields, tables, cut)
            except StatementFailed as error:
                if not reader.has_room_for(error):
                    raise
                return self._shaped(statement, loading, fields, tables, cut)

    def _inputs_met(self, statement: Statement) -> list[InputTable]:
        """Inputs that the statement's steps look up in."""
        inner = self.inner
        names = dict.fromkeys(step.input.lower() for _, step in statement.steps if isinstance(step, LookUp) and step.input)
        return [InputTable(name, inner.fields_of(name)) for name in names] if isinstance(inner, HasInputs) else []

    def _bring(self, scratch: Scratch, name: str, table: InputTable) -> None:
        """An input into the steps' own file: theirs is closed before the steps begin."""
        assert isinstance(self.inner, HasInputs)
        declared = ", ".join(f"{quoted(f.name)} {'VARCHAR' if f.type == UNKNOWN else f.type}" for f in table.fields)
        scratch.execute(f"create table {quoted(name)} ({declared})")
        for rows in self.inner.rows_of(table.name):
            self._go_on()
            scratch.mind()
            scratch.append(name, rows)

    def _load(self, loading: Loading, statement: Statement) -> bool:
        """All rows, or those that a preview takes; whether some were left."""
        rows = size = 0
        for batch in self.inner.batches(soon=bool(statement.reading.first)):
            if statement.reading.first and rows + batch.rows > PREVIEW_ROWS:
                loading.add(batch.slice(0, PREVIEW_ROWS - rows))
                return True
            loading.add(batch)
            rows, size = rows + batch.rows, size + batch.bytes
            statement.reading.looked(rows, size)
            self._go_on()
        return False

    def _shaped(
        self, statement: Statement, loading: Loading, fields: Sequence[Field], tables: Mapping[str, str], cut: bool
    ) -> Sequence[Column]:
        assert self.reader is not None
        judge = EngineJudge(self.reader.connection, statement.values, live=True)
        base = f"select *, rowid as {ROW} from {quoted(RESULT)}"
        selects = {name: f"select * from {quoted(table)}" for name, table in tables.items()}
        chain = Chain(judge, fields, base, self.met, selects).extend(statement.steps)
        for test in chain.tests:
            count, example = judge.row(chain.testing(test))
            if count:
                raise self._told(test.where, test.words.format(count=amount(count, "row"), example=example), test.hint)
        loaded, self.rows, *measured = judge.row(chain.counting())
        if loaded != loading.rows:
            raise ProofFailed(
                f"{amount(loading.rows, 'row')} loaded, {loaded:,} found.", "Look at the disk of temporary files."
            )
        notes = [f"the steps saw the first {PREVIEW_ROWS:,} rows only: a run takes all"] if cut else []
        counts = _step_rows(chain, loaded, measured)
        statement.reading.shaped(Shaped(loaded, counts, (*loading.notes(), *notes)))
        return self.reader.describe(Statement(chain.query(), statement.values))

    def batches(self, soon: bool = False) -> Iterator[Batch]:
        if not self.steps:
            yield from self.inner.batches(soon)
            return
        if self.passing:
            yield from self._as_they_pass()
            return
        assert self.reader is not None, "describe comes first"
        given = 0
        with self._in_words():
            for batch in self.reader.batches(soon):
                given += batch.rows
                yield batch
        if given != self.rows:
            raise ProofFailed(
                f"{given:,} rows came out of the steps, where {self.rows:,} were counted.", "Start the run again."
            )

    def _as_they_pass(self) -> Iterator[Batch]:
        places, rows = [place for place, _ in self.passing], 0
        for batch in self.inner.batches():
            rows += batch.rows
            yield batch.picked(places)
        counts = [StepRows(number, title_of(step), tag_of(step), rows, rows, None) for number, step in self.steps]
        self.reading.shaped(Shaped(rows, tuple(counts), (), passed=True))

    def _told(self, where: str, what: str, hint: str) -> StatementFailed:
        """A fault at run time, with the step's number and name."""
        number = int(re.findall(r"\d+", where)[0])
        step = next(step for place, step in self.steps if place == number)
        name = f" '{step.name}'" if step.name else ""
        return StatementFailed(f"step {number + 1}{name}: {what}.", hint, where=where)

    def _in_words(self) -> _InWords:
        return _InWords(self)

    def _go_on(self) -> None:
        if self.cancelled:
            raise RunCancelled("the steps were stopped.", "Start the run again when it is wanted.")

    def cancel(self) -> None:
        self.cancelled = True
        if self.left or self.reader is None:
            self.inner.cancel()
        if self.reader is not None:
            self.reader.cancel()
        elif self.scratch is not None:
            self.scratch.stop()

    def _let_go_of_scratch(self) -> None:
        if self.reader is not None:
            self.reader.close()
        if self.scratch is not None:
            self.scratch.close()
        self.reader = self.scratch = self.rows = None

    def close(self) -> None:
        self.inner.close()
        self._let_go_of_scratch()


class _InWords:
    """What the engine says while it shapes rows, in words about steps."""

    def __init__(self, session: ShapedSession) -> None:
        self.session = session

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind: Any, error: BaseException | None, trace: Any) -> None:
        if not isinstance(error, LadleError) or isinstance(error, (RunCancelled, ProofFailed)):
            return
        unfit = re.search(r"(steps\[\d+\])\.column: (.*?)\.?$", error.message)
        if unfit:
            number = int(re.findall(r"\d+", unfit[1])[0])
            wanted = next(step.kind for place, step in self.session.steps if place == number)
            what = f"'{unfit[2]}' is not a value of kind {wanted}"
            raise self.session._told(
                unfit[1], what, 'Correct or filter it before, or let it be null: "unfit": "null".'
            ) from error
        raise_in_words(error)


def _step_rows(chain: Chain, loaded: int, measured: Sequence[int]) -> tuple[StepRows, ...]:
    """The numbers that were counted, step by step."""
    left = list(measured)
    made, rows = [], loaded
    for stage in chain.stages:
        found = {name: left.pop(0) for name in stage.measured}
        after = found.get("rows", rows)
        made.append(StepRows(stage.number, stage.title, tag_of(stage.step), rows, after, found.get("unmatched")))
        rows = after
    return tuple(made)
