"""A session of the DuckDB engine that can only read, shared by the engines that stand on it.

External access is off and the configuration locked before the author's text is seen, so that nothing can be attached,
copied, loaded or read from the file system; one statement is taken, and only of the kind that gives rows. Rows come as
Arrow batches. The engine's memory limit is soft: sessions belong into a child process whose memory is watched.
"""

from __future__ import annotations

import contextlib
import json
import re
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime, timezone
from typing import Any, cast

import duckdb
import pyarrow as pa
import pyarrow.compute as pc

from patient_ladle.core.errors import (
    LadleError,
    RunCancelled,
    SourceNotReadable,
    SourceWritable,
    StatementFailed,
    StatementRefused,
    StatementWrong,
)
from patient_ladle.core.ports import Statement
from patient_ladle.core.results.arrow_text import canonical_array
from patient_ladle.core.results.columns import BATCH_ROWS, Batch, Column
from patient_ladle.core.statements.catalogue import CatalogueBuilder, TableColumn
from patient_ladle.core.statements.languages.duckdb import DUCKDB, cast_of, kind_named
from patient_ladle.core.statements.parts import Rendered, place
from patient_ladle.core.statements.plans import Plan, of_duckdb
from patient_ladle.core.values.parameters import Parameter, Value, as_text

from .base import (
    About,
    AddressField,
    ProbingSession,
    gated,
    missing_name,
    refuse_other_count,
    rendered,
    tables_by_alias,
    with_names,
)
from .duckdb_allowed import Judge
from .duckdb_nested import ZONED, form_of

_MISSING = {
    r"^Table with name (.+?) does not exist": "table",
    r'^Referenced column "([^"]+)" not found': "column",
    r'does not have a column named "([^"]+)"': "column",
}
_DESCRIBE = "describe\n"
"""On a line of its own, so that the engine's lines are the author's plus one."""
_ATTEMPTS = (
    ("select * from read_text('/etc/hostname')", "disabled"),
    ("copy (select 1) to '/dev/null'", "disabled"),
    ("attach '/dev/null' as ladle_proof", "disabled"),
    ("set enable_external_access = true", "locked"),
)
"""What a session must refuse, and the word by which its guard is known."""
MEMORY_LIMIT = "2GB"
SAFE: dict[str, Any] = {
    "enable_external_access": "false",
    "autoinstall_known_extensions": "false",
    "autoload_known_extensions": "false",
    "allow_community_extensions": "false",
    "python_enable_replacements": "false",
    "memory_limit": MEMORY_LIMIT,
    "threads": "2",
}


def spilling_into(folder: str) -> dict[str, Any]:
    """Settings of a session whose statements can read and write what spills, and nobody else's."""
    return SAFE | {"temp_directory": folder, "max_temp_directory_size": "10GB"}


ZONE = AddressField(str, "zone of the session, such as Europe/London; default UTC")


def secured(connection: duckdb.DuckDBPyConnection, zone: str) -> None:
    """The last settings of a session: a zone, which is never that of the host, and that nothing can be set any more.

    Raises SourceNotReadable for a zone that the engine does not know.
    """
    name = zone or "UTC"
    try:
        if re.fullmatch(r"[A-Za-z0-9_+/-]+", name) is None:
            raise duckdb.InvalidInputException("it is no name")
        connection.execute(f"set TimeZone = '{name}'")
    except duckdb.Error as error:
        raise SourceNotReadable(
            f"'{zone}' is not a time zone that DuckDB knows.", "Correct the time zone of the source: Europe/London, or UTC."
        ) from error
    connection.execute("set lock_configuration = true")


_FORMS = (
    (r"^JSON$", "{0}"),
    (r"^TIMESTAMP WITH TIME ZONE$", ZONED),
    (r"^(DATE|TIME.*|UHUGEINT|BIT)$", "{0}::varchar"),
)
"""Types of which the engine's own text is right where its Arrow value is not (infinity, 24:00, 128 bits): by expression."""
_BEFORE_CHRIST = r"^(\S+) \(BC\)(.*)$"


def _form_of(kind: str, column: str) -> str:
    if re.search(r"\[|STRUCT|MAP|UNION", kind):
        return form_of(kind, column)
    return next((form.format(column) for pattern, form in _FORMS if re.search(pattern, kind)), column)


_SPILL_LIMIT = "max_temp_directory_size"
"""Named in the engine's error where what spills has reached its limit."""


SHORT_OF_MEMORY = "short_of_memory"
"""A fact of an error."""


def _short_of_memory(said: str) -> StatementFailed | None:
    """Where the engine ran out of memory, or of room for what it spills."""
    more: dict[str, Any] = {SHORT_OF_MEMORY: True}
    if _SPILL_LIMIT in said:
        return StatementFailed(
            "the statement needs more memory than it may use, and more scratch space to do without.",
            "Filter or group before it sorts and joins; steps and inputs may be allowed more: LADLE_SCRATCH_MB.",
            **more,
        )
    if "Out of Memory" in said:
        return StatementFailed(f"the statement needs more than {MEMORY_LIMIT} of memory.", "Narrow the statement.", **more)
    return None


def translate(error: duckdb.Error, text: str = "", rendered: Rendered | None = None) -> LadleError:
    """The one map from the engine's errors to ours, by their class."""
    lines = str(error).strip().splitlines() or ["it said nothing"]
    damaged = re.search(r"'([^']*)': Invalid: (In CSV .*|CSV .*)", lines[0])
    if damaged:
        return SourceNotReadable(
            f"'{damaged[1].rpartition('/')[2]}' cannot be read: {damaged[2].rstrip('.')}.",
            "Correct the file, or declare the column as text: csv_kinds=exact; table.column=text.",
        )
    said = re.sub(r"^[A-Za-z ]+ Error: ", "", lines[0]).rstrip(".! ")
    match error:
        case duckdb.InterruptException():
            return RunCancelled("the statement was stopped in the source.", "Start it again when it is wanted.")
        case duckdb.PermissionException():
            return StatementRefused(f"the statement does more than read: {said}.", "An extract only reads; take that part out.")
        case duckdb.ParserException() | duckdb.BinderException() | duckdb.CatalogException():
            where, placed = _placed(lines, text, rendered)
            facts: dict[str, Any] = {**placed, **missing_name(said, _MISSING)}
            hint = next((line.strip() for line in lines[1:] if line.startswith(("Did you", "Candidate"))), "")
            return StatementWrong(
                f"the database rejected the statement: {said}{where}.",
                hint or "Correct the statement and save it again.",
                **facts,
            )
        case duckdb.OutOfMemoryException() if short := _short_of_memory(f"Out of Memory: {error}"):
            return short
        case duckdb.IOException():
            return SourceNotReadable(f"the files cannot be read: {said}.", "Look at the files and their rights.")
    if "read-only" in str(error) or "lock" in said:
        return StatementRefused(f"the statement does more than read: {said}.", "An extract only reads; take that part out.")
    return StatementFailed(
        f"the database failed while running the statement: {said}.", "Correct the statement or the data it meets."
    )


def _placed(lines: Sequence[str], text: str, rendered: Rendered | None) -> tuple[str, dict[str, int]]:
    """``LINE n: …`` and a caret below it say where, in the rendered text."""
    for number, line in enumerate(lines):
        head = re.match(r"LINE (\d+): ", line)
        if head and rendered is not None and number + 1 < len(lines) and "^" in lines[number + 1]:
            shown, caret = line[head.end() :].removeprefix("..."), lines[number + 1].index("^") - head.end()
            caret -= 3 if line[head.end() :].startswith("...") else 0
            row = int(head.group(1)) - 2
            given = rendered.text.splitlines()[row]
            start = given.find(shown.removesuffix("...")) if shown else -1
            if start < 0:
                return "", {}
            before = sum(len(each) + 1 for each in rendered.text.splitlines()[:row])
            line_number, column = place(text, rendered.original(before + start + caret))
            return f" (line {line_number}, column {column})", {"line": line_number, "column": column}
    return "", {}


class DuckdbSession(ProbingSession):
    """See SourceSession. ``who`` is what ``identity`` says; ``own`` is the session's own folder for what spills."""

    driver_errors = (duckdb.Error,)

    def __init__(
        self, connection: duckdb.DuckDBPyConnection, who: Mapping[str, str], own: tempfile.TemporaryDirectory[str] | None = None
    ) -> None:
        super().__init__()
        self.connection, self.who, self.own = connection, dict(who), own
        self.permitted: Sequence[str] = ()
        self.rendered: Rendered | None = None
        self.columns: list[Column] = []
        self.text = ""
        self.bound: dict[str, Any] = {}

    def translated(self, error: Exception) -> LadleError:
        return translate(cast(duckdb.Error, error))

    def identity(self) -> dict[str, str]:
        return self.who

    def _asked(self, query: str) -> list[tuple[Any, ...]]:
        try:
            return self.connection.execute(query).fetchall()
        except duckdb.Error as error:
            raise translate(error) from error

    def probe(self) -> str:
        [(count,)] = self._asked("select count(*) from duckdb_tables() where not internal")
        [(views,)] = self._asked("select count(*) from duckdb_views() where not internal")
        return f"{count + views} tables and views can be seen"

    def prove_read_only(self) -> str:
        """Each guard must answer in its own words: files can be neither read nor written, nor the guards changed."""
        refused = ""
        for attempt, guard in _ATTEMPTS:
            try:
                self.connection.execute(attempt).fetchall()
            except duckdb.Error as error:
                said = str(error).splitlines()[0]
                if guard not in said:
                    raise SourceWritable(
                        f"the session did not refuse '{attempt}' as it should: {said}.",
                        "Do not use this source; report it with the engine's version.",
                    ) from error
                refused = refused or said
            else:
                raise SourceWritable(
                    f"the session let '{attempt}' through.", "Do not use this source; report it with the engine's version."
                )
        return f"reading a file, writing one and changing a setting were refused: {refused}"

    def about(self) -> About:
        [(zone,)] = self._asked("select current_setting('TimeZone')")
        return About(f"DuckDB {duckdb.__version__}", str(zone), "UTF-8")

    def catalogue(self) -> list[dict[str, Any]]:
        made = CatalogueBuilder()
        for schema, name, comment, rows in self._asked(
            "select schema_name, table_name, coalesce(comment, ''), estimated_size from duckdb_tables() where not internal"
        ):
            made.table(schema, name, comment=comment, rows_about=rows)
        for schema, name, comment in self._asked(
            "select schema_name, view_name, coalesce(comment, '') from duckdb_views() where not internal"
        ):
            made.table(schema, name, kind="view", comment=comment)
        for schema, name, column, kind, nullable, default, comment in self._asked(
            "select schema_name, table_name, column_name, data_type, is_nullable, column_default, coalesce(comment, '')"
            " from duckdb_columns() where not internal order by table_oid, column_index"
        ):
            made.table(schema, name).columns.append(
                TableColumn(column, kind, kind_named(kind), bool(nullable), default, comment)
            )
        for schema, name, kind, columns, table, to_columns in self._asked(
            "select schema_name, table_name, constraint_type, constraint_column_names, referenced_table, referenced_column_names"
            " from duckdb_constraints() where constraint_type in ('PRIMARY KEY', 'UNIQUE', 'FOREIGN KEY')"
        ):
            ours = {"PRIMARY KEY": "primary", "UNIQUE": "unique"}.get(kind, "foreign")
            made.key(schema, name, ours, columns, (schema, table, to_columns) if ours == "foreign" else None)
        for schema, name, index, text in self._asked("select schema_name, table_name, index_name, sql from duckdb_indexes()"):
            made.table(schema, name).indexes.append(text or index)
        return made.to_list()

    def describe(self, statement: Statement) -> Sequence[Column]:
        self.text = gated(statement, DUCKDB)
        Judge(with_names(statement, self.text, DUCKDB), self.permitted).judge()
        self.rendered, self.bound = bind_values(statement, self.text)
        try:
            statements = duckdb.extract_statements(self.rendered.text)
            if len(statements) != 1 or statements[0].type != duckdb.StatementType.SELECT:
                raise StatementRefused("the statement does more than read.", "Write one statement that selects something.")
            refuse_other_count(len(self.bound.keys() & statements[0].named_parameters), len(self.bound))
            refuse_other_count(len(statements[0].named_parameters), len(self.bound))
            rows = self.connection.execute(_DESCRIBE + self.rendered.text, self.bound or None).fetchall()
        except duckdb.Error as error:
            raise translate(error, self.text, self.rendered) from error
        except UnicodeDecodeError:  # the engine cuts a letter in two where it quotes the text in an error
            raise StatementWrong(
                "the database rejected the statement: a literal in it is not well formed.",
                "Look at literals of bits or bytes: b'…' and x'…' take digits only.",
            ) from None
        self.columns = [Column(str(name), kind_named(str(kind)), str(kind)) for name, kind, *_ in rows]
        return self.columns

    def _query(self) -> str:
        """The statement with some columns as the engine's own text; the alias list lets names repeat."""
        assert self.rendered is not None
        names = [f"c{number}" for number in range(1, len(self.columns) + 1)]
        forms = [_form_of(column.source_type, name) for column, name in zip(self.columns, names, strict=True)]
        if forms == names:
            return self.rendered.text
        return f"select {', '.join(forms)} from (\n{self.rendered.text}\n) as ladle({', '.join(names)})"

    def batches(self, soon: bool = False) -> Iterator[Batch]:
        assert self.rendered is not None, "describe comes first"
        self.go_on()
        try:
            found = self.connection.sql(self._query(), params=self.bound or None)
            for batch in found.to_arrow_reader(BATCH_ROWS):
                self.go_on()
                if batch.num_rows:
                    cells = [_text_of(column, array) for column, array in zip(self.columns, batch.columns, strict=True)]
                    yield Batch(cells, [None] * len(cells), batch.num_rows)
        except duckdb.Error as error:
            raise translate(error, self.text, self.rendered) from error
        except OSError as error:  # the Arrow reader's own class for an error of the engine
            said = str(error)
            if self.cancelled or "INTERRUPT" in said.upper():
                raise RunCancelled("the statement was stopped in the source.", "Start it again when it is wanted.") from error
            if short := _short_of_memory(said):
                raise short from error
            raise StatementFailed(
                f"the database failed while running the statement: {said.splitlines()[0]}.",
                "Correct the statement or the data it meets.",
            ) from error

    def plan(self, statement: Statement) -> Plan:
        assert self.rendered is not None, "understand comes first"
        told = []
        for form in ("json", "text"):
            query = f"explain (format {form})\n{self.rendered.text}"
            try:
                rows = self.connection.execute(query, self.bound or None).fetchall()
            except duckdb.Error as error:
                raise translate(error, self.text, self.rendered) from error
            told.append(str(rows[0][1]))
        return of_duckdb(json.loads(told[0]), tables_by_alias(self.text, DUCKDB), told[1])

    def stop(self) -> None:
        try:
            self.connection.interrupt()
        except duckdb.Error:
            return  # it is closed

    def let_go(self) -> None:
        """A busy connection cannot be broken from another thread: whoever watches the process ends it."""

    def end(self) -> None:
        with contextlib.suppress(duckdb.Error):  # it is busy still, in a thread that nobody can stop
            self.connection.close()
        if self.own is not None:
            self.own.cleanup()


def _text_of(column: Column, array: pa.Array[Any]) -> pa.Array[Any]:
    texts = canonical_array(array)
    if column.kind in ("date", "timestamp", "zoned") and pc.any(pc.match_substring(texts, "(BC)")).as_py():
        texts = pc.replace_substring_regex(pc.replace_substring(texts, "T(BC)", " (BC)"), _BEFORE_CHRIST, r"\1\2 BC")
    return texts


def bind_values(statement: Statement, text: str) -> tuple[Rendered, dict[str, Any]]:
    """The text with a parameter of its own for each occurrence of a value, and what is bound to each."""
    bound: dict[str, Any] = {}

    def put(parameter: Parameter, value: Value) -> str:
        name = f"p{len(bound) + 1}"
        bound[name] = [_bound(item) for item in value] if isinstance(value, tuple) else _bound(value)
        return f"(${name}::{cast_of(parameter, value)})"

    return rendered(statement, text, DUCKDB, put), bound


def _bound(value: Any) -> Any:
    """A moment with a zone goes as its text in UTC, which is that moment whatever the session's zone is."""
    return as_text(value.astimezone(timezone.utc)) if isinstance(value, datetime) and value.tzinfo else value
