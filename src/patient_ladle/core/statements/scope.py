"""Which tables a SQL statement names, and what it makes itself."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from .words import Word

ENDS_FROM = (
    "where", "group", "order", "having", "limit", "union", "intersect", "except", "window", "fetch", "offset", "on", "using",
    "join", "left", "right", "inner", "outer", "full", "cross", "natural", "lateral", "set", "values", "select", "qualify",
    "tablesample", "straight_join", "for",
)  # fmt: skip
"""Words that follow a table and are no alias of it."""


@dataclass(slots=True)
class Scope:
    """Tables that a statement names after from and join, by alias, and the names that it makes itself."""

    tables: dict[str, str] = field(default_factory=dict)
    """Alias, or last part of the name, in small letters → name as written, parts joined by dots; empty where not sure."""
    made: set[str] = field(default_factory=set)
    """Names of common table expressions, in small letters."""
    simple: bool = True
    """No derived tables or table functions: a column without a table in front belongs to one of ``tables``."""
    places: list[tuple[str, int, int]] = field(default_factory=list)
    """Name, start and end of each table named."""


def scope_of(words: Sequence[Word]) -> Scope:
    """What stands in the from clauses, at any depth. Careful rather than clever: what is not surely a table is left out."""
    scope = Scope()
    for before, word, after, then in zip(words, words[1:], words[2:], words[3:], strict=False):
        begins = before.is_word("with", "recursive") or before.text == ","
        if begins and word.kind in ("word", "name") and after.is_word("as") and then.text == "(":
            scope.made.add(word.text.lower())
    at = 0
    while at < len(words):
        if not words[at].is_word("from", "join"):
            at += 1
            continue
        is_test = words[at].is_word("from") and at > 0 and words[at - 1].is_word("distinct")
        at += 1
        if is_test:
            continue  # is distinct from
        at = _table_at(words, at, scope)
        while at < len(words) and words[at].text == ",":
            at = _table_at(words, at + 1, scope)
    return scope


def _table_at(words: Sequence[Word], at: int, scope: Scope) -> int:
    if at >= len(words) or words[at].kind not in ("word", "name") or words[at].is_word("lateral", "select", "unnest"):
        scope.simple = False
        return at
    first, parts = at, [words[at].text]
    while at + 2 < len(words) and words[at + 1].text == "." and words[at + 2].kind in ("word", "name"):
        parts.append(words[at + 2].text)
        at += 2
    name, end = ".".join(parts), words[at].end
    at += 1
    if at < len(words) and words[at].text == "(":
        scope.simple = False  # a function that gives rows
        return at
    if len(parts) == 1 and parts[0].lower() in scope.made:
        scope.simple = False
    else:
        scope.places.append((name, words[first].start, end))
    alias = parts[-1]
    if at < len(words) and words[at].is_word("as"):
        at += 1
    if at < len(words) and words[at].kind in ("word", "name") and not words[at].is_word(*ENDS_FROM):
        alias = words[at].text
        at += 1
    if len(parts) == 1 and parts[0].lower() in scope.made:
        return at
    known = scope.tables.get(alias.lower())
    scope.tables[alias.lower()] = name if known in (None, name) else ""  # one alias for two tables: neither is sure
    return at
