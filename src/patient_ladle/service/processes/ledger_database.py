"""The service database before anything uses it: whether it answers, and whether its schema is this release's.

Nothing of Django is in here: a start that has nothing to migrate is spared two seconds.
"""

from __future__ import annotations

import importlib.util
import re
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import psycopg

from patient_ladle import variables

from .private_server import ServerFailed

CONNECT_SECONDS = 10
Connection = psycopg.Connection[tuple[Any, ...]]


def reached() -> Connection:
    """A connection to it, as ``LADLE_DATABASE_URL`` says. Raises ServerFailed."""
    url = variables.DATABASE_URL.value()
    parts = variables.database_parts(url)
    more: dict[str, Any] = {} if "connect_timeout" in parts else {"connect_timeout": CONNECT_SECONDS}
    try:
        return psycopg.connect(url, autocommit=True, **more)
    except psycopg.Error as error:
        place = f"{parts.get('host') or 'this machine'}, port {parts.get('port') or 5432}"
        said = " ".join(str(error).split("\n")[0].split()).removeprefix("connection failed: ").rstrip(".")
        raise ServerFailed(
            f"the service database '{parts['dbname']}' at {place} does not let us in: {said}.",
            "Look whether its server runs, and at host, port, login, password and options in LADLE_DATABASE_URL.",
        ) from error


@dataclass(frozen=True, slots=True)
class Schema:
    """Of the migrations that stand here those that the database has not had; and those that it had and are not here."""

    missing: frozenset[tuple[str, str]]
    unknown: frozenset[tuple[str, str]]

    def refuse_newer(self) -> None:
        """Raises ServerFailed where a newer release has brought the database up to date: this one would read it wrongly."""
        if self.unknown:
            first = ".".join(sorted(self.unknown)[-1])
            raise ServerFailed(
                f"the service database is of a newer release of Patient Ladle: this one does not know its migration '{first}'.",
                "Start that release, or restore the dump that was taken before it was first started.",
            )

    def refuse_other(self) -> None:
        """Raises ServerFailed where it is of any other release."""
        self.refuse_newer()
        if self.missing:
            raise ServerFailed(
                "the service database is of an older release of Patient Ladle, or empty.",
                "Start the service of this release, which brings it up to date: ladle service start.",
            )


def schema_of(connection: Connection) -> Schema:
    """What of the migrations that stand here it has had."""
    here = _migrations_here()
    try:
        applied = frozenset(
            (str(app), str(name)) for app, name in connection.execute("select app, name from django_migrations")
        )
    except psycopg.errors.UndefinedTable:
        applied = frozenset()
    return Schema(here - applied, applied - here)


def _migrations_here() -> frozenset[tuple[str, str]]:
    places = [(_label(path.parent), path) for path in Path(__file__).parents[1].glob("*/migrations")]
    for name in ("auth", "contenttypes", "sessions"):
        spec = importlib.util.find_spec(f"django.contrib.{name}")
        places += [(name, Path(folder) / "migrations") for folder in (spec.submodule_search_locations or [] if spec else [])]
    return frozenset((app, file.stem) for app, folder in places for file in folder.glob("[0-9]*.py"))


def _label(room: Path) -> str:
    """The name under which a room's migrations are on record: its folder's, unless its ``apps.py`` gives another."""
    entry = room / "apps.py"
    given = re.search(r'^    label = "(\w+)"', entry.read_text(), re.MULTILINE) if entry.is_file() else None
    return given.group(1) if given else room.name


def is_ready(connection: Connection, schema: Schema) -> bool:
    """Nothing is to be migrated, and somebody can sign in."""
    return not schema.missing and connection.execute("select 1 from people_person limit 1").fetchone() is not None
