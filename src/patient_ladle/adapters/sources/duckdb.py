"""DuckDB database files, opened read-only with external access off. See ``duckdb_session``."""

from __future__ import annotations

import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import duckdb

from patient_ladle.core.dialects import DUCKDB
from patient_ladle.core.errors import SourceDatabaseMissing, SourceNotReadable, SourceUnreachable

from .base import CONNECT_SECONDS, AddressField, Engine, ProbingSession
from .duckdb_session import SAFE, DuckdbSession


class DuckdbEngine(Engine):
    """See Engine."""

    name = "duckdb"
    title = "DuckDB"
    dialect = DUCKDB
    fields = {
        "path": AddressField(
            str, "absolute path of the database file, on the service's host", required=True, guarded=True, is_path=True
        )
    }
    takes_secret = False
    networked = False

    def open(self, address: Mapping[str, Any], secret: str, connect_seconds: float = CONNECT_SECONDS) -> ProbingSession:
        path = Path(address["path"])
        if not path.parent.is_dir():
            raise SourceUnreachable(f"there is no folder '{path.parent}' on this host.", "Correct the path of the source.")
        if not path.is_file():
            raise SourceDatabaseMissing(f"there is no file '{path}' on this host.", "Correct the path of the source.")
        own = tempfile.TemporaryDirectory(
            prefix="ladle-duckdb-"
        )  # statements can read and write what spills here: nobody else's
        settings = SAFE | {"temp_directory": own.name, "max_temp_directory_size": "10GB"}
        try:
            connection = duckdb.connect(str(path), read_only=True, config=settings)
            connection.execute("set lock_configuration = true")
            connection.execute("select count(*) from duckdb_tables()").fetchone()
        except duckdb.Error as error:
            own.cleanup()
            said = str(error).splitlines()[0]
            if "lock" in said.lower():
                raise SourceUnreachable(f"the file is held by a program that writes it: {said}.", "Try again later.") from error
            raise SourceNotReadable(
                f"the file cannot be read as a DuckDB database: {said}.", "Correct the path of the source."
            ) from error
        return DuckdbSession(connection, {"file": str(path)}, own)
