"""A folder of CSV and Parquet files as a source: each file, or each folder of files, is a table.

The service opens the files as Arrow datasets and hands them to an in-memory engine whose external access is off, so a
statement can reach these files and no others, and write none. A file whose real path leads out of the folder is refused.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

import duckdb
import pyarrow as pa
import pyarrow.dataset as datasets
from pyarrow import parquet

from patient_ladle.core.errors import LadleError, SourceDatabaseMissing, SourceNotReadable, SourceUnreachable, StatementWrong
from patient_ladle.core.ports import Statement
from patient_ladle.core.results.columns import Column
from patient_ladle.core.statements.catalogue import CatalogueBuilder, TableColumn
from patient_ladle.core.statements.languages.duckdb import DUCKDB, kind_named
from patient_ladle.words import amount

from .base import CONNECT_SECONDS, AddressField, Engine, ProbingSession, permitted_in
from .csv_tables import FIELDS, HEAD_BYTES, Reading, dataset_of, descriptors_in, readable, reading_of, types_of
from .duckdb_session import ZONE, DuckdbSession, secured, spilling_into

_FORMATS = {".csv": "csv", ".parquet": "parquet"}
MAX_FILES = 10_000
"""Files below one folder; beyond that a listing takes longer than a person waits."""


def tables_of(folder: Path) -> dict[str, list[Path]]:
    """Table name to its files: a file stands for itself, a folder for all the files in it that are of one kind.

    Raises SourceNotReadable for a file that leads out of the folder, or two tables of one name.
    """
    root = folder.resolve()
    found: dict[str, list[Path]] = {}
    for count, path in enumerate(sorted(folder.rglob("*"))):
        if count > MAX_FILES:
            raise SourceNotReadable(f"there are more than {MAX_FILES:,} files below '{folder}'.", "Name a smaller folder.")
        if path.suffix.lower() not in _FORMATS or not path.is_file():
            continue
        if not path.resolve().is_relative_to(root):
            raise SourceNotReadable(
                f"'{path}' leads out of its folder.", "Put the file itself there, or name the other folder."
            )
        place = path.relative_to(folder)
        name = place.stem if len(place.parts) == 1 else "_".join(place.parts[:-1])
        found.setdefault(name, []).append(path)
    for name, paths in found.items():
        if len({path.suffix.lower() for path in paths}) > 1 or len({path.parent for path in paths}) > 1:
            raise SourceNotReadable(f"the table '{name}' would be made of unlike files.", "Keep one kind of file to a name.")
    return found


class FilesSession(DuckdbSession):
    """Opens the files of a table when a statement first names it: a folder may hold thousands."""

    def __init__(
        self,
        connection: duckdb.DuckDBPyConnection,
        who: Mapping[str, str],
        own: tempfile.TemporaryDirectory[str],
        tables: Mapping[str, list[Path]],
        address: Mapping[str, Any],
        descriptors: Mapping[Path, Mapping[str, Any]],
    ) -> None:
        super().__init__(connection, who, own)
        self.tables, self.unopened = dict(tables), dict(tables)
        self.address, self.descriptors = address, descriptors
        self.permitted = permitted_in(address)
        self.faults: dict[str, LadleError] = {}
        """Of tables that a statement may mean and that cannot be opened: told if it does."""

    def _reading(self, name: str) -> Reading:
        return reading_of(self.address, name, self.descriptors, self.tables[name][0])

    def _register(self, names: Iterable[str]) -> None:
        for name in list(names):
            paths = self.unopened.pop(name)
            try:
                self.connection.register(name, self._dataset(name, paths))
            except LadleError as error:
                self.unopened[name], self.faults[name.lower()] = paths, error

    def _dataset(self, name: str, paths: Sequence[Path]) -> datasets.Dataset:
        if _is_csv(paths):
            return dataset_of(paths, self._reading(name))
        with readable(paths[0]):
            return datasets.dataset([str(path) for path in paths], schema=_parquet_schema(paths)[0], format="parquet")

    def probe(self) -> str:
        seen = f"{amount(len(self.tables), 'table')} can be seen"
        faults = []
        for name in list(self.tables)[:PROBED]:
            try:
                self._head(name)
            except LadleError as error:
                faults.append(f"'{name}': {error.message}")
        if faults and len(faults) == len(self.tables):
            raise SourceNotReadable(f"none of the tables can be read: {' '.join(faults[:3])}", "Look at the files.")
        return f"{seen}; {len(faults):,} cannot be read: {' '.join(faults[:5])}" if faults else seen

    def describe(self, statement: Statement) -> Sequence[Column]:
        given = statement.values
        named = [str(given.values[name]) for name, p in given.parameters.items() if p.type == "identifier"]
        text = " ".join([statement.text, *named]).lower()
        self._register(name for name in self.unopened if name.lower() in text)
        try:
            return super().describe(statement)
        except StatementWrong as error:
            missing = str(error.facts.get("name", "")).lower() if error.facts.get("missing") == "table" else ""
            if missing in self.faults:
                raise self.faults[missing] from error
            if "VARCHAR" in error.message:
                error.hint += (
                    " A column of a CSV file is text unless all its values prove another kind: cast it, or declare its kind."
                )
            raise

    def catalogue(self) -> list[dict[str, Any]]:
        """From the heads of the files alone: opening thousands of them for the engine takes longer than a person waits."""
        made, heads = CatalogueBuilder(), dict[str, tuple[pa.Schema, int | None]]()
        for name in self.tables:
            try:
                heads[name] = self._head(name)
            except LadleError as error:  # the others are there all the same
                made.table("main", name, comment=f"cannot be read: {error.in_words()}")
        types = self._types_of({field.type for schema, _ in heads.values() for field in schema})
        for name, (schema, rows) in heads.items():
            columns = [TableColumn(field.name, types[field.type], kind_named(types[field.type])) for field in schema]
            made.table("main", name, columns=columns, rows_about=rows)
        return made.to_list()

    def _head(self, name: str) -> tuple[pa.Schema, int | None]:
        """Columns, and the rows where the files say; kinds of CSV columns as the first of their values prove them."""
        paths = self.tables[name]
        if _is_csv(paths):
            return pa.schema(list(types_of(paths, self._reading(name), HEAD_BYTES).items())), None
        return _parquet_schema(paths)

    def _types_of(self, found: set[pa.DataType]) -> dict[pa.DataType, str]:
        """The engine's names for the types of files."""
        order = list(found)
        asked = pa.schema([(f"c{n}", each) for n, each in enumerate(order)]).empty_table()
        return dict(zip(order, map(str, self.connection.from_arrow(asked).types), strict=True)) if order else {}


PROBED = 500
"""Tables whose heads a check looks at."""


def _is_csv(paths: Sequence[Path]) -> bool:
    return paths[0].suffix.lower() == ".csv"


def _parquet_schema(paths: Sequence[Path]) -> tuple[pa.Schema, int]:
    """All columns that any of the files has, and their rows. Raises SourceNotReadable where two have one name and two types."""
    schemas, rows = [], 0
    for path in paths:
        with readable(path):
            schemas.append(parquet.read_schema(path))
            rows += parquet.read_metadata(path).num_rows
    try:
        return pa.unify_schemas(schemas), rows
    except pa.ArrowException as error:
        raise SourceNotReadable(
            f"the files beside '{paths[0].name}' do not fit together: {str(error).splitlines()[0]}.",
            "Keep files of one kind to a folder.",
        ) from error


class FilesEngine(Engine):
    """See Engine."""

    name = "files"
    title = "Data files"
    language = DUCKDB
    url_schemes = ("files",)
    fields = {
        "folder": AddressField(
            str,
            "absolute path of a folder with CSV or Parquet files, on the service's host",
            required=True,
            guarded=True,
            is_path=True,
        ),
        "time_zone": ZONE,
        **FIELDS,
    }
    takes_secret = False
    networked = False

    def open(self, address: Mapping[str, Any], secret: str, connect_timeout_seconds: float = CONNECT_SECONDS) -> ProbingSession:
        folder = Path(address["folder"])
        if not folder.parent.is_dir():
            raise SourceUnreachable(f"there is no folder '{folder.parent}' on this host.", "Correct the folder of the source.")
        if not folder.is_dir():
            raise SourceDatabaseMissing(f"there is no folder '{folder}' on this host.", "Correct the folder of the source.")
        tables = tables_of(folder)
        if not tables:
            raise SourceNotReadable(
                f"there are no CSV or Parquet files in '{folder}'.", "Put some there, or correct the folder."
            )
        descriptors = descriptors_in(folder)
        own = tempfile.TemporaryDirectory(prefix="ladle-files-")
        connection = duckdb.connect(":memory:", config=spilling_into(own.name))
        try:
            secured(connection, str(address.get("time_zone") or ""))
        except SourceNotReadable:
            connection.close()
            own.cleanup()
            raise
        return FilesSession(connection, {"folder": str(folder)}, own, tables, address, descriptors)
