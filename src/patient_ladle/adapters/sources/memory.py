"""An engine whose tables lie in memory, with whatever query language it is given.

It ships for whoever writes a language, or tries the service without a database. It is none of ``ENGINES``: whoever wants one
makes it, with tables and a reader, and adds it there.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from patient_ladle.core.errors import StatementWrong
from patient_ladle.core.ports import Statement
from patient_ladle.core.results.columns import Batch, Column
from patient_ladle.core.runs.memory import MemorySession
from patient_ladle.core.statements.catalogue import CatalogueBuilder, TableColumn
from patient_ladle.core.statements.languages import QueryLanguage
from patient_ladle.core.values.parameters import Value

from .base import CONNECT_SECONDS, About, Engine, ProbingSession

Rows = Sequence[Sequence[Any]]
Tables = Mapping[str, tuple[Sequence[Column], Rows]]
"""By name, columns and rows of each."""
Reader = Callable[[str, Mapping[str, Value], Tables], tuple[Sequence[Column], Rows]]
"""What a statement means: its text as the language's gate gives it, values by parameter, and the tables. Raises
StatementWrong."""


class MemoryEngine(Engine):
    """See Engine. Its sessions read the very tables that it was made with; nothing of an address is asked."""

    takes_secret = False
    networked = False
    fields: Mapping[str, Any] = {}  # type: ignore[misc]  # declared once for a class, and there is none to declare

    def __init__(self, name: str, title: str, language: QueryLanguage, tables: Tables, reader: Reader) -> None:
        self.name, self.title, self.language = name, title, language  # type: ignore[misc]  # as above: each is its own
        self.tables, self.reader = tables, reader

    def place(self, address: Mapping[str, Any]) -> str:
        return "in memory"

    def open(self, address: Mapping[str, Any], secret: str, connect_timeout_seconds: float = CONNECT_SECONDS) -> ProbingSession:
        return MemoryTables(self)


class MemoryTables(ProbingSession):
    """See ProbingSession."""

    def __init__(self, engine: MemoryEngine) -> None:
        super().__init__()
        self.engine = engine
        self.found: MemorySession | None = None

    def identity(self) -> dict[str, str]:
        return {"server": "memory", "database": self.engine.name}

    def describe(self, statement: Statement) -> Sequence[Column]:
        text = self.engine.language.gate(statement.text)
        for name in self.engine.language.parameters(text):
            if name not in statement.values.parameters:
                raise StatementWrong(f"the statement uses ':{name}', which is not declared.", "Declare the parameter.")
        columns, rows = self.engine.reader(text, statement.values.values, self.engine.tables)
        self.found = MemorySession(columns, rows)
        return columns

    def batches(self, soon: bool = False) -> Iterator[Batch]:
        assert self.found is not None, "describe comes first"
        for batch in self.found.batches(soon):
            self.go_on()
            yield batch

    def stop(self) -> None:
        """Nothing of it runs elsewhere."""

    def end(self) -> None:
        self.found = None

    def probe(self) -> str:
        return f"read {len(self.engine.tables)} tables"

    def prove_read_only(self) -> str:
        return "there is nothing that writes"

    def about(self) -> About:
        return About("tables in memory")

    def catalogue(self) -> list[dict[str, Any]]:
        made = CatalogueBuilder()
        for name, (columns, rows) in self.engine.tables.items():
            made.table("", name, rows_about=len(rows)).columns += [
                TableColumn(c.name, c.source_type or c.kind, c.kind) for c in columns
            ]
        return made.to_list()
