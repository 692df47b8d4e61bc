"""How a run gets at what it reads: its job carries a reader as plain JSON, and the child opens it.

A reader of a *source* has an engine, an address and a secret. A reader of *values* has nothing: what it opens computes in
memory and reaches no table and no file. One of *inputs* has what it combines: stored results, lookups, other readers. To add
one: a class with ``kind``, ``language`` and ``open``, and one line in
``READERS``.
"""

from __future__ import annotations

import tempfile
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from typing import Any, ClassVar

import duckdb

from patient_ladle.core.errors import unknown_name
from patient_ladle.core.ports import SourceSession
from patient_ladle.core.statements.languages import QueryLanguage
from patient_ladle.core.steps.lookups import Lookup

from .combining.combined import CombinedSession
from .combining.shaped import ShapedSession
from .sources import get_engine
from .sources.duckdb_session import DuckdbSession, secured, spilling_into


class Reader(ABC):
    """One member of the family."""

    kind: ClassVar[str]

    @abstractmethod
    def language(self, job: Mapping[str, Any]) -> QueryLanguage:
        """What statements for it are written in."""

    @abstractmethod
    def open(self, job: Mapping[str, Any]) -> SourceSession:
        """A read-only session. Raises as ``Engine.open`` does."""


class SourceReader(Reader):
    """A database or a folder of files, at an address."""

    kind = "source"

    def language(self, job: Mapping[str, Any]) -> QueryLanguage:
        return get_engine(job["engine"]).language

    def open(self, job: Mapping[str, Any]) -> SourceSession:
        return get_engine(job["engine"]).open(job["address"], job["secret"], job["connect_timeout_seconds"])


class ValuesReader(Reader):
    """Nothing but the values that are bound."""

    kind = "values"
    engine: ClassVar[str] = "duckdb"
    """The engine whose language it takes."""

    def job(self) -> dict[str, Any]:
        """What a job carries."""
        return {"kind": self.kind}

    def language(self, job: Mapping[str, Any]) -> QueryLanguage:
        return get_engine(self.engine).language

    def open(self, job: Mapping[str, Any]) -> SourceSession:
        own = tempfile.TemporaryDirectory(prefix="ladle-values-")
        connection = duckdb.connect(":memory:", config=spilling_into(own.name))
        secured(connection, "")
        return DuckdbSession(connection, {"server": "computed by the service, without a source"}, own)


class InputsReader(Reader):
    """Results and lookups that a statement combines."""

    kind = "inputs"

    def job(self, inputs: Sequence[Mapping[str, Any]], statement: str = "") -> dict[str, Any]:
        """What a job carries: of each input what it is loaded from, in the order in which they are; and all that will be asked
        of them, where that is known."""
        return {"kind": self.kind, "inputs": list(inputs), "statement": statement}

    def language(self, job: Mapping[str, Any]) -> QueryLanguage:
        return get_engine(VALUES.engine).language

    def open(self, job: Mapping[str, Any]) -> SourceSession:
        return CombinedSession(job["inputs"], opened, job["statement"])


VALUES = ValuesReader()
INPUTS = InputsReader()
READERS: dict[str, Reader] = {member.kind: member for member in (SourceReader(), VALUES, INPUTS)}


def reader_of(job: Mapping[str, Any]) -> Reader:
    """The member that opens what a job carries. Raises UnknownName."""
    if job["kind"] not in READERS:
        raise unknown_name("kind of reader", str(job["kind"]), READERS)
    return READERS[job["kind"]]


def opened(job: Mapping[str, Any], statements: int = 1) -> SourceSession:
    """A session for the statements of a job; where it has steps, their rows go through them. Raises as ``Engine.open`` does."""
    inner = reader_of(job["reader"]).open(job["reader"])
    return with_steps(inner, job, statements)


def with_steps(inner: SourceSession, job: Mapping[str, Any], statements: int = 1) -> SourceSession:
    """The session itself where the job has no steps."""
    if not job.get("steps"):
        return inner
    lookups = {each["name"]: Lookup.from_dict(each) for each in job["lookups"]}
    return ShapedSession(inner, lookups, max(statements, 1))
