"""DuckDB database files, opened read-only with external access off. See ``duckdb_session``."""

from __future__ import annotations

import tempfile
from collections.abc import Mapping
from typing import Any

import duckdb

from patient_ladle.core.errors import SourceNotReadable, SourceUnreachable
from patient_ladle.core.statements.languages.duckdb import DUCKDB

from .base import CONNECT_SECONDS, AddressField, Engine, ProbingSession, database_file, permitted_in
from .duckdb_session import ZONE, DuckdbSession, secured, spilling_into


class DuckdbEngine(Engine):
    """See Engine."""

    name = "duckdb"
    title = "DuckDB"
    language = DUCKDB
    url_schemes = ("duckdb",)
    fields = {
        "path": AddressField(
            str, "absolute path of the database file, on the service's host", required=True, guarded=True, is_path=True
        ),
        "time_zone": ZONE,
    }
    takes_secret = False
    networked = False

    def open(self, address: Mapping[str, Any], secret: str, connect_timeout_seconds: float = CONNECT_SECONDS) -> ProbingSession:
        path = database_file(address["path"])
        own = tempfile.TemporaryDirectory(prefix="ladle-duckdb-")
        try:
            connection = duckdb.connect(str(path), read_only=True, config=spilling_into(own.name))
            secured(connection, str(address.get("time_zone") or ""))
            connection.execute("select count(*) from duckdb_tables()").fetchone()
        except SourceNotReadable:
            own.cleanup()
            raise
        except duckdb.Error as error:
            own.cleanup()
            said = str(error).splitlines()[0]
            if "lock" in said.lower():
                raise SourceUnreachable(f"the file is held by a program that writes it: {said}.", "Try again later.") from error
            raise SourceNotReadable(
                f"the file cannot be read as a DuckDB database: {said}.", "Correct the path of the source."
            ) from error
        session = DuckdbSession(connection, {"file": str(path)}, own)
        session.permitted = permitted_in(address)
        return session
