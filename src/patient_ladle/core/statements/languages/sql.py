"""What the SQL languages have in common: one lexer, one gate, one way to fill in and take back; their facts are data."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from ...errors import LadleError
from ...values.parameters import BoundValues, Parameter, Value, as_text
from .. import browsing, filling, scanner, sql_completion, text_diagnostics
from ..completion import Completion
from ..diagnostics import Diagnostic, OtherCatalogue, Table
from ..dialects import Dialect
from ..outlines.forms import Forms
from ..outlines.sql import SqlOutlines
from ..parts import Part, Rendered
from .base import QueryLanguage

WORDS = """select from where group by order having limit offset join left right inner outer full cross on using as and or not in
is null like between exists case when then else end distinct union all intersect except with values asc desc nulls first last
over partition rows range current row count sum avg min max coalesce cast extract interval date timestamp true false any some
lateral fetch filter recursive"""
"""Proposed while one types, and shown as words of the language."""
TYPES = """bigint boolean char character date decimal double float integer int numeric real smallint text time timestamp
timestamptz varchar"""


def words(text: str) -> frozenset[str]:
    """The words of a text."""
    return frozenset(text.split())


def string(text: str) -> str:
    """A text between quotes (ISO 9075)."""
    return "'" + text.replace("'", "''") + "'"


def cast_literal(value: Value, cast: str, array: str = "array") -> str:
    """A value as text with its cast; ``array``: what stands before the brackets of a list."""
    if isinstance(value, tuple):
        return f"{array}[{', '.join(string(str(as_text(item))) for item in value)}]::{cast}"
    return f"null::{cast}" if value is None else f"{string(str(as_text(value)))}::{cast}"


def zoned_cast(value: Value) -> str:
    """``timestamptz`` for moments with a zone, which stay the moments they are; empty for other values."""
    sample = value[0] if isinstance(value, tuple) and value else value
    return "timestamptz" if isinstance(sample, datetime) and sample.tzinfo is not None else ""


@dataclass(frozen=True, eq=False, kw_only=True)
class SqlLanguage(Dialect, QueryLanguage):
    """See QueryLanguage; a Dialect's facts, and what is not about cutting a text."""

    name: str = field(kw_only=False)
    title: str
    literal: Callable[[Parameter, Value], str]
    """A value as a person would write it."""
    forms: Forms
    """The words that outlines need of it."""
    formatter: str = ""
    """What an editor's formatter calls the language."""
    own_words: str = ""
    """Words beyond those that all of them have."""

    def __reduce__(self) -> tuple[Any, ...]:
        """One that goes to another process is the one of that name there."""
        return _named, (self.name,)

    def parts(self, text: str) -> list[Part]:
        return scanner.statements(text, self)

    def parameters(self, text: str) -> list[str]:
        return scanner.parameter_names(text, self)

    def gate(self, text: str) -> str:
        return scanner.one_reading_statement(text, self)

    def refuse_misread(self, text: str, declared: Iterable[str]) -> None:
        scanner.refuse_slices(text, self, declared)

    def warm(self) -> None:
        self.gate("select 1")

    def fill_in(self, text: str, bound: BoundValues) -> Rendered:
        return filling.fill_in(text, self, self.literal, bound)

    def restore(self, text: str) -> str:
        return filling.restore_parameters(text, self)

    def total(self, text: str) -> str:
        return f"select count(*) as total from (\n{text}\n) as counted"

    def views(self, table: Table) -> browsing.SqlViews:
        return browsing.SqlViews(self, table)

    def outlines(self) -> SqlOutlines:
        return SqlOutlines(self, self.forms)

    def diagnostics(self, text: str, declared: Sequence[Parameter]) -> tuple[list[Diagnostic], list[Part]]:
        return text_diagnostics.of_text_and_parts(text, self, declared)

    def diagnostics_on_columns(self, text: str, declared: Sequence[Parameter], catalogue: Sequence[Table]) -> list[Diagnostic]:
        return text_diagnostics.of_types(text, self, declared, catalogue) if declared and self.typed_columns else []

    def diagnostics_on_names(self, text: str, catalogue: Sequence[Table], others: Sequence[OtherCatalogue]) -> list[Diagnostic]:
        return text_diagnostics.of_names(text, self, catalogue, others)

    def diagnostic_on_error(
        self, error: LadleError, text: str, part: str, catalogue: Sequence[Table] | None, others: Sequence[OtherCatalogue]
    ) -> Diagnostic:
        return text_diagnostics.of_error(error, text, part, self, catalogue, others)

    def completion(
        self, text: str, position: int, tables: Sequence[Table], parameters: Sequence[str], asked: bool
    ) -> Completion | None:
        proposed = (*WORDS.split(), *self.own_words.split())
        return sql_completion.completion_at(text, position, self, tables, parameters, proposed, asked)

    @property
    def editor(self) -> Mapping[str, Any]:
        """How an editor colours it: ``words`` and ``types``, which quotes mean what, and what its formatter is called."""
        return {
            "syntax": "sql",
            "words": [*WORDS.split(), *self.own_words.split()],
            "types": TYPES.split(),
            "name_quotes": '"' * (not self.double_quoted_strings) + "`" * self.backtick_names,
            "double_quoted_strings": self.double_quoted_strings,
            "backslash_escapes": self.backslash_escapes,
            "dollar_quoted_strings": self.dollar_quotes,
            "hash_comments": self.hash_comments,
            "formatter": self.formatter,
        }


def _named(name: str) -> QueryLanguage:
    from . import LANGUAGES  # it imports the members, and they this module

    return LANGUAGES[name]
