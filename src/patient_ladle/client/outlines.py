"""Outlines: statements put together by choosing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from .group import Group, Listed
from .records import Compiled, Counting, JoinProposal, Looked, OutlineRead


class Outlines(Group):
    """What an outline becomes, and what becomes an outline; nothing is saved by any of these calls."""

    def schema(self) -> dict[str, Any]:
        """What an outline may hold, as JSON Schema."""
        found: dict[str, Any] = self._get("/outline-schema")
        return found

    def compile(
        self,
        source: str,
        environment: str,
        outline: Mapping[str, Any],
        parameters: Sequence[Mapping[str, Any]] = (),
        ask: bool = False,
    ) -> Compiled:
        """Its statement and ``remarks``, each with the part that it is about; ``ask``: with the database's own word, too."""
        return self._post("/outlines/compile", self._body(source, environment, outline, parameters) | {"ask": ask})

    def joins(
        self, source: str, environment: str, outline: Mapping[str, Any], table: str, alias: str = ""
    ) -> Listed[JoinProposal]:
        """How a table may join those of an outline, the shortest ways first."""
        body = self._body(source, environment, outline, ()) | {"table": table, "alias": alias}
        return self._post("/outlines/joins", body)

    def read(self, source: str, environment: str, statement: str, parameters: Sequence[Mapping[str, Any]] = ()) -> OutlineRead:
        """A statement by hand as an outline. Raises CallFailed where something of it would be lost."""
        body = {"source": source, "environment": environment, "statement": statement, "parameters": [*parameters]}
        return self._post("/outlines/read", body)

    def counts(
        self, source: str, environment: str, outline: Mapping[str, Any], parameters: Sequence[Mapping[str, Any]] = ()
    ) -> Counting:
        """A statement that counts the rows after each table and each condition; preview it."""
        return self._post("/outlines/counts", self._body(source, environment, outline, parameters))

    def of_look(self, source: str, environment: str, table: str, **look: Any) -> Looked:
        """A look at a table's rows as an outline: ``filters``, ``sort``, ``descending``, ``columns``, ``as_parameters``."""
        body = {"source": source, "environment": environment, "table": table}
        return self._post("/outlines/look", body | {key: value for key, value in look.items() if value is not None})

    def whole_tables(self, source: str, environment: str, tables: Sequence[str], labels: bool = False) -> str:
        """A statement for each table as it is; ``labels``: beside each key of another table, what that one calls the row."""
        body = {"source": source, "environment": environment, "tables": [*tables], "labels": labels}
        found: str = self._post("/outlines/tables", body)["statement"]
        return found

    def _body(
        self, source: str, environment: str, outline: Mapping[str, Any], parameters: Sequence[Mapping[str, Any]]
    ) -> dict[str, Any]:
        return {"source": source, "environment": environment, "outline": dict(outline), "parameters": [*parameters]}
