"""What the scanner must know of a database's way of writing text; one entry an engine."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Dialect:
    """Lexical facts only; nothing here is about what a statement means."""

    name: str
    nested_comments: bool = False
    """``/* a /* b */ c */`` is one comment (PostgreSQL; not the SQL standard)."""
    dollar_quotes: bool = False
    """``$tag$ … $tag$`` is a string."""
    escape_strings: bool = False
    """``E'\\''`` is a string with backslash escapes."""
    subscripts: bool = False
    """``a[1:n]`` is a slice, so a colon inside a subscript is no parameter."""
    bracket_names: bool = False
    """``[a name]`` is a quoted identifier."""
    backtick_names: bool = False
    reading_words: tuple[str, ...] = ("select", "with", "values")
    """The words a statement that only reads may begin with."""


POSTGRESQL = Dialect(
    "postgresql",
    nested_comments=True,
    dollar_quotes=True,
    escape_strings=True,
    subscripts=True,
    reading_words=("select", "with", "values", "table"),
)
SQLITE = Dialect("sqlite", bracket_names=True, backtick_names=True)

DIALECTS = {dialect.name: dialect for dialect in (POSTGRESQL, SQLITE)}
