"""The family of source engines.

To add one: copy ``sqlite.py``, change it, add one line to ``ENGINES`` below, its dialect to ``core.statements.dialects`` and one
case file under ``tests/adapters/sources``. Members do not know each other.
"""

from __future__ import annotations

from patient_ladle.core.errors import unknown_name

from .base import CheckStep, Engine
from .documents import DocumentsEngine
from .duckdb import DuckdbEngine
from .files import FilesEngine
from .mariadb import MariadbEngine
from .postgresql import PostgresqlEngine
from .sqlite import SqliteEngine

ENGINES: dict[str, Engine] = {
    member.name: member
    for member in (PostgresqlEngine(), MariadbEngine(), SqliteEngine(), DuckdbEngine(), FilesEngine(), DocumentsEngine())
}


def get_engine(name: str) -> Engine:
    """The engine of that name. Raises UnknownName with the nearest right one."""
    if name not in ENGINES:
        raise unknown_name("engine", name, ENGINES)
    return ENGINES[name]


__all__ = ["ENGINES", "CheckStep", "Engine", "get_engine"]
