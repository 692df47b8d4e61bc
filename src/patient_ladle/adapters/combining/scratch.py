"""One private database file for one run: results are loaded into it, then it is opened anew to be read only, and locked.

Rules and theory
----------------
* A result is loaded in one transaction, in pieces of about a row group, so that what exceeds memory goes to the file as it
  comes. Rows loaded are counted by the engine and must be those that were given.
* The engine's memory limit is soft; whoever minds the child's memory is the real bound. The file, and what statements spill
  beside it, have a bound that is minded here.
"""

from __future__ import annotations

import contextlib
import shutil
import tempfile
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import duckdb
import pyarrow as pa

from patient_ladle import variables
from patient_ladle.adapters.disk import disk_of
from patient_ladle.core.errors import DiskFull, LadleError, ProofFailed, ResultTooLarge, RunCancelled, StatementFailed
from patient_ladle.core.files.background import BackgroundWriter
from patient_ladle.core.ports import Statement
from patient_ladle.core.results.columns import Batch, Column
from patient_ladle.core.steps.at import Field, quoted
from patient_ladle.core.steps.lookups import Lookup
from patient_ladle.words import amount

from ..sources.duckdb_session import MEMORY_LIMIT, SAFE, SHORT_OF_MEMORY, DuckdbSession, secured, translate
from .typing import TEXT, Kept

PIECE_ROWS = 30_720
"""Given to the engine at once: a quarter of its row groups, whole ones of which it writes as they come."""
PIECE_BYTES = 32 << 20
MOST_BYTES = variables.SCRATCH_MB.value() << 20
"""Of the file, and of what statements spill, together."""
LOADING_MEMORY, FIRST_MEMORY = "64MB", "128MB"
"""What the engine keeps of the file in memory while it is loaded, and while it is asked: blocks that lie on disk anyway, until
this is full. Joins and sorts beyond it spill; what cannot is asked once more with all the memory that a statement may have."""
LEAST_FREE_BYTES = 128 << 20
"""Below this nothing more is written, for others write there too."""


@contextlib.contextmanager
def _told() -> Iterator[None]:
    """The engine's errors in our words. Raises DiskFull where the file cannot be written."""
    try:
        yield
    except duckdb.IOException as error:
        said = str(error).splitlines()[0]
        raise DiskFull(
            f"the scratch file cannot be written: {said}{disk_of(Path(tempfile.gettempdir()))}.",
            "See the disk of the folder for temporary files: TMPDIR names another.",
        ) from error
    except duckdb.Error as error:
        raise translate(error) from error


class Scratch:
    """See the module. ``most_bytes``: what it may take on disk."""

    def __init__(self, most_bytes: int = MOST_BYTES) -> None:
        self.own = tempfile.TemporaryDirectory(prefix="ladle-scratch-")
        self.most_bytes = most_bytes
        self.path = Path(self.own.name) / "results.duckdb"
        self.spill = Path(self.own.name) / "spill"
        self.connection = duckdb.connect(str(self.path), config=self._settings(most_bytes))
        self.writer: BackgroundWriter | None = None
        """Of what is loading."""

    def _settings(self, most_bytes: int, memory: str = LOADING_MEMORY) -> dict[str, Any]:
        own = {
            "memory_limit": memory,
            "temp_directory": str(self.spill),
            "max_temp_directory_size": f"{max(most_bytes, 1 << 20) >> 20}MiB",
        }
        return SAFE | own | {"ieee_floating_point_ops": "false"}  # a division by zero is an error, and no infinity in a file

    def mind(self) -> None:
        """Raises ResultTooLarge or DiskFull, before the disk is full."""
        if self.bytes() > self.most_bytes:
            raise ResultTooLarge(
                f"the rows take more than the {self.most_bytes >> 20:,} MB of scratch space that a run may use.",
                "Narrow the statement, or allow more: LADLE_SCRATCH_MB.",
            )
        if shutil.disk_usage(self.own.name).free < LEAST_FREE_BYTES:
            raise DiskFull(
                f"no space is left in the folder for temporary files{disk_of(Path(self.own.name))}; "
                f"{LEAST_FREE_BYTES >> 20} MB are left to others.",
                "Free some space there, then start the run again, or name another folder: TMPDIR.",
            )

    def execute(self, query: str) -> duckdb.DuckDBPyConnection:
        """A statement of our own, while there is something to load. Raises DiskFull where the file cannot be written."""
        with _told():
            return self.connection.execute(query)

    def append(self, name: str, rows: pa.Table) -> None:
        """To a table, by its places. A registered table would be held until the transaction ends. Raises as ``execute``."""
        with _told():
            self.connection.from_arrow(rows).insert_into(quoted(name))

    def bytes(self) -> int:
        """On disk now."""
        return sum(entry.stat().st_size for entry in Path(self.own.name).rglob("*") if entry.is_file())

    def lookup(self, name: str, lookup: Lookup) -> None:
        """A lookup as a table of that name."""
        types = lookup.types()
        given = pa.table(
            [pa.array([row[place] for row in lookup.rows], pa.string()) for place in range(len(types))],
            names=[f"c{place}" for place in range(len(types))],
        )
        made = [
            f"cast(c{place} as {type_}) as {quoted(column.name)}"
            for place, (column, type_) in enumerate(zip(lookup.columns, types, strict=True))
        ]
        self.connection.register("ladle_given", given)
        self.execute(f"create table {quoted(name)} as select {', '.join(made)} from ladle_given")
        self.connection.unregister("ladle_given")

    def reopened(self, who: dict[str, str], roomy: bool = False) -> DuckdbSession:
        """A session over what was loaded, which can only read it. Nothing can be loaded any more. ``roomy``: once more, after
        the first was closed, with all the memory that a statement may have."""
        if not roomy:
            self.execute("checkpoint")
            self.connection.close()
        left = max(self.most_bytes - self.bytes(), 1 << 20)
        settings = self._settings(left, MEMORY_LIMIT if roomy else FIRST_MEMORY)
        connection = duckdb.connect(str(self.path), read_only=True, config=settings)
        secured(connection, "")
        return DuckdbSession(connection, who)

    def stop(self) -> None:
        """What is loading at this moment; from any thread."""
        with contextlib.suppress(duckdb.Error):
            self.connection.interrupt()

    def close(self) -> None:
        """With all that was loaded; may be called twice."""
        self.stop()
        if self.writer is not None:
            self.writer.abort()
        with contextlib.suppress(duckdb.Error):
            self.connection.close()
        self.own.cleanup()


class ReadOnly:
    """The file, opened anew and asked. A statement that runs short of memory before its first row is asked once more."""

    def __init__(self, scratch: Scratch, who: dict[str, str]) -> None:
        self.scratch, self.who = scratch, who
        self.session = scratch.reopened(who)
        self.described: Statement | None = None
        self.roomy = self.cancelled = False

    @property
    def connection(self) -> duckdb.DuckDBPyConnection:
        """Of the session that is open."""
        return self.session.connection

    def describe(self, statement: Statement) -> Sequence[Column]:
        """See SourceSession."""
        self.described = statement
        return self.session.describe(statement)

    def batches(self, soon: bool = False) -> Iterator[Batch]:
        """See SourceSession."""
        given = False
        try:
            for batch in self.session.batches(soon):
                given = True
                yield batch
        except StatementFailed as error:
            if given or not self.has_room_for(error):
                raise
            yield from self.session.batches(soon)

    def has_room_for(self, error: LadleError) -> bool:
        """Whether it was short of memory, and has more of it from now on."""
        if self.roomy or not error.facts.get(SHORT_OF_MEMORY):
            return False
        self.roomy = True
        self.session.close()
        self.session = self.scratch.reopened(self.who, roomy=True)
        if self.cancelled:  # that came while there was no session
            raise RunCancelled("the statement was stopped.", "Start the run again when it is wanted.")
        if self.described is not None:
            self.session.describe(self.described)
        return True

    def cancel(self) -> None:
        """See SourceSession."""
        self.cancelled = True
        self.session.cancel()

    def close(self) -> None:
        """See SourceSession."""
        self.session.close()


class Loading:
    """A result on its way into a table ``name``."""

    def __init__(self, scratch: Scratch, name: str, columns: Sequence[Column]) -> None:
        self.scratch, self.name = scratch, name
        self.kept = [Kept(column) for column in columns]
        self.rows = 0
        self.waiting_rows = self.waiting_bytes = 0
        self.waiting: list[Batch] = []
        self.writer = scratch.writer = BackgroundWriter(self._put, depth=1)
        self._execute = scratch.execute
        self._execute("begin")
        declared = ", ".join(f"c{place} {each.type}" for place, each in enumerate(self.kept))
        self._execute(f"create table {quoted(name)} ({declared})")

    def add(self, batch: Batch) -> None:
        """The next rows."""
        self.waiting.append(batch)
        self.waiting_rows += batch.rows
        self.waiting_bytes += batch.bytes
        if self.waiting_rows >= PIECE_ROWS or self.waiting_bytes >= PIECE_BYTES:
            self._write()

    def _write(self) -> None:
        if not self.waiting:
            return
        self.scratch.mind()
        made: list[pa.Array[Any]] = []
        changed: list[str] = []
        for place, kept in enumerate(self.kept):
            cells = pa.concat_arrays([batch.cells[place] for batch in self.waiting])
            back = kept.back(f"c{place}")
            values, wanted = kept.take(cells, self._numbers(place), self.rows)
            if wanted:
                changed.append(self._changing(place, wanted, back))
            made.append(values)
        rows = pa.table(made, names=[f"c{place}" for place in range(len(made))])
        self.writer.submit((changed, rows))
        self.rows += self.waiting_rows
        self.waiting, self.waiting_rows, self.waiting_bytes = [], 0, 0

    def _put(self, piece: tuple[Sequence[str], pa.Table]) -> None:
        changed, rows = piece
        for query in changed:
            self._execute(query)
        self.scratch.append(self.name, rows)

    def _numbers(self, place: int) -> pa.Array[Any] | None:
        """Which cells of a column of values are numbers; None where none is."""
        marks = [batch.numbers[place] for batch in self.waiting]
        if all(each is None for each in marks):
            return None
        return pa.concat_arrays(
            [pa.repeat(False, b.rows) if each is None else each for b, each in zip(self.waiting, marks, strict=True)]
        )

    def _changing(self, place: int, wanted: str, back: str) -> str:
        """What changes the rows that are there already; as text they are what they came as."""
        using = back if wanted == TEXT else f"cast(c{place} as {wanted})"
        return f"alter table {quoted(self.name)} alter c{place} type {wanted} using {using}"

    def end(self) -> list[Field]:
        """The table as it is now, under the columns' own names. Raises ProofFailed where rows are not those that were given."""
        self._write()
        self.writer.close()
        for place, kept in enumerate(self.kept):
            self._execute(f"alter table {quoted(self.name)} rename c{place} to {quoted(kept.column.name)}")
        self._execute("commit")
        [(loaded,)] = self._execute(f"select count(*) from {quoted(self.name)}").fetchall()
        if loaded != self.rows:
            raise ProofFailed(f"{amount(self.rows, 'row')} fetched, {loaded:,} loaded.", "Look at the disk of temporary files.")
        return [Field(kept.column.name, kept.type) for kept in self.kept]

    def notes(self) -> list[str]:
        """What a reader must know of the columns."""
        return [f"column '{kept.column.name}' is {kept.note}" for kept in self.kept if kept.note]
