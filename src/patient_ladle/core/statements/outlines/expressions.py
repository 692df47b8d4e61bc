"""Expressions that an author writes into an outline: each must be one expression, and its columns and aggregates are known."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import TYPE_CHECKING

from patient_ladle.lazily import lazily

from .outline import refused
from .parsing import Parser, Unread

if TYPE_CHECKING:
    from sqlglot import exp
else:
    exp = lazily("sqlglot.expressions")


@dataclass(frozen=True, slots=True)
class Expression:
    """What was read: ``columns`` as ``alias.column`` or ``column``, in their order; none of a select of its own."""

    text: str
    columns: tuple[str, ...]
    parameters: tuple[str, ...]
    aggregates: bool
    atomic: bool
    """It needs no parentheses beside an operator."""
    either: bool
    """It is one thing *or* another, and needs them beside *and*."""


def expression(text: str, parser: Parser, where: str) -> Expression:
    """Raises BadInput for what is not one expression."""
    try:
        found = parser.term(text)
    except Unread as error:
        tail = f": it cannot be read from character {error.at} on" if 0 < error.at <= len(text) else ""
        raise _not_one(text, tail, where) from None
    if isinstance(found, (exp.Alias, exp.Star, exp.Tuple)) or any(each.comments for each in found.walk()):
        raise _not_one(text, ": leave names and comments out", where)
    names = tuple(dict.fromkeys(each.name for each in found.find_all(exp.Placeholder) if each.name))
    own = [each for each in found.walk() if not isinstance(each.find_ancestor(exp.Select), exp.Select) or _outermost(each)]
    columns = tuple(dict.fromkeys(reference(each) for each in own if isinstance(each, exp.Column)))
    sums = any(isinstance(each, exp.AggFunc) and not each.find_ancestor(exp.Window) for each in own)
    return Expression(text.strip(), columns, names, sums, _atomic(found, text.strip()), isinstance(found, (exp.Or, exp.Xor)))


def _not_one(text: str, tail: str, where: str) -> Exception:
    return refused(where, f"'{text.strip()[:60]}' is not one expression{tail}", "Write one such as r.volume * 1000.")


def _outermost(node: exp.Expr) -> bool:
    """Whether the select around it is the one that the parser was given."""
    around = node.find_ancestor(exp.Select)
    return around is not None and around.parent is None


def _atomic(tree: exp.Expression, text: str) -> bool:
    if isinstance(tree, exp.Func) and not isinstance(tree, exp.Connector):
        return re.match(r"\w+\s*\(", text) is not None
    return isinstance(tree, (exp.Column, exp.Literal, exp.Paren, exp.Subquery)) or (text[:1], text[-1:]) == ("(", ")")


def reference(node: exp.Column) -> str:
    """``alias.column``."""
    return ".".join(part.name for part in node.parts)
