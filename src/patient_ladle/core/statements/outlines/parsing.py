"""A general parser of SQL, for advice: what an expression is made of, what a statement says. What may run, the gate decides."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import TYPE_CHECKING

from patient_ladle.lazily import lazily

from ...errors import StatementRefused
from ..dialects import Dialect
from ..lexing import scan
from .forms import Forms

if TYPE_CHECKING:
    import sqlglot
    from sqlglot import errors, exp
else:
    sqlglot, errors, exp = lazily("sqlglot"), lazily("sqlglot.errors"), lazily("sqlglot.expressions")


class Unread(Exception):
    """What cannot be read; ``at``: from which character on, from 1; 0 where nothing tells."""

    def __init__(self, at: int = 0) -> None:
        super().__init__(at)
        self.at = at


@dataclass(frozen=True, slots=True, eq=False)
class Parser:
    """Of one dialect."""

    dialect: Dialect
    forms: Forms

    def trees(self, text: str) -> list[exp.Expression]:
        """The statements of a text. Raises Unread."""
        return _trees(self._marked(text), self.forms.parser)

    def term(self, text: str) -> exp.Expression:
        """One expression, without parentheses around it. Raises Unread, also for what ends before its end."""
        trees = self.trees(f"select (\n{text}\n)")
        tree = trees[0] if len(trees) == 1 else None
        if not isinstance(tree, exp.Select) or len(tree.expressions) != 1:
            raise Unread
        if any(value for name, value in tree.args.items() if name != "expressions"):
            raise Unread
        outer = tree.expressions[0]
        if not isinstance(outer, (exp.Paren, exp.Subquery)) or outer.args.get("alias"):
            raise Unread
        return bare(outer)

    def said(self, node: exp.Expression) -> str:
        """The text of a part of what was read."""
        named = node.transform(lambda each: exp.Var(this=f":{each.name}") if isinstance(each, exp.Placeholder) else each)
        return named.sql(dialect=self.forms.parser, normalize_functions="lower")

    def _marked(self, text: str) -> str:
        """With parameters as the parser takes them."""
        if self.forms.parameter_mark == ":":
            return text
        try:
            found = [token for token in scan(text, self.dialect) if token.kind == "parameter"]
        except StatementRefused:
            raise Unread from None
        for token in reversed(found):
            text = f"{text[: token.start]}{self.forms.parameter_mark}{text[token.start + 1 :]}"
        return text


@lru_cache(maxsize=2048)
def _trees(text: str, parser: str) -> list[exp.Expression]:
    try:
        return [tree.transform(_plainly_negated) for tree in sqlglot.parse(text, dialect=parser) if tree is not None]
    except (errors.SqlglotError, RecursionError) as error:
        first = error.errors[0] if isinstance(error, errors.ParseError) and error.errors else {}
        raise Unread(int(first["col"]) if first.get("line") == 2 else 0) from None


def _plainly_negated(node: exp.Expression) -> exp.Expression:
    """``x is not null`` as the negation that it is: the parser says it in two ways."""
    if not node.args.get("negate"):
        return node
    node.set("negate", None)
    return exp.Not(this=node)


def bare(node: exp.Expression) -> exp.Expression:
    """Without parentheses around it."""
    while isinstance(node, exp.Paren):
        node = node.this
    return node
