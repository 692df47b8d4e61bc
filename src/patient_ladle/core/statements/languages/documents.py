"""Commands of document stores: JSON with comments, of which the four that read are sent."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import date, datetime, timezone
from decimal import Decimal
from typing import Any

from ...errors import LadleError, StatementRefused
from ...values.parameters import MASK, BoundValues, Parameter, Value
from .. import filling
from ..completion import Completion
from ..diagnostics import Diagnostic, OtherCatalogue, Table, of_refusal
from ..documents.commands import COMMANDS, EXPRESSION, PROJECTION, collections, counting, filled, judged, refuse_of_the_server
from ..documents.completing import completion_at
from ..documents.naming import of_collections, of_fields, where_collection_is
from ..documents.outlines import DocumentOutlines
from ..documents.reading import Node, Read, reading, tokens
from ..documents.views import CollectionViews
from ..parts import MAX_STATEMENTS, MAX_TITLE, FilledPart, Part, Rendered, refused_at, replaced
from ..views import TableViews
from .base import QueryLanguage

_INT32 = 2**31


def extended(value: Value) -> Any:
    """A value as the open standard for extended JSON has it. Moments without a zone are moments in UTC; to milliseconds."""
    match value:
        case tuple():
            return [extended(each) for each in value]
        case Decimal():
            return {"$numberDecimal": format(value, "f")}
        case datetime():
            at = value.replace(tzinfo=timezone.utc) if value.tzinfo is None else value.astimezone(timezone.utc)
            return {"$date": at.isoformat(timespec="milliseconds").replace("+00:00", "Z")}
        case date():
            return {"$date": f"{value.isoformat()}T00:00:00Z"}
        case bool() | None | str() | float():
            return value
        case int():
            return value if -_INT32 <= value < _INT32 else {"$numberLong": str(value)}
    return str(value)


_SHELL = {
    "db.runCommand(EJSON.deserialize(": "))",
    "db.runCommand({...EJSON.deserialize(": "), cursor: {}})",
}
"""Lines around a command in the shell; that of a pipeline asks for a cursor."""


def in_shell(text: str) -> str:
    """A command as the stores' shell runs it, with what the shell adds on lines of their own."""
    [read] = reading(text)
    command = next(read.node.pairs())[0].value
    opens, closes = list(_SHELL.items())[command == "aggregate"]
    return f"{opens}\n{text.rstrip()}\n{closes}"


def out_of_shell(text: str) -> str:
    """The text without those lines; what ended them with a semicolon stays."""
    kept = []
    for line in text.split("\n"):
        plain = line.strip()
        if plain.removesuffix(";") in _SHELL.values():
            kept += [";"] if plain.endswith(";") else []
        elif plain not in _SHELL:
            kept.append(line)
    return "\n".join(kept)


def _never_a_path(value: Any) -> Any:
    """In an expression a text that begins with a dollar sign would be the path of a field."""
    texts = value if isinstance(value, list) else [value]
    return {"$literal": value} if any(isinstance(each, str) and each.startswith("$") for each in texts) else value


class DocumentCommands(QueryLanguage):
    """See QueryLanguage."""

    name = "documents"
    title = "commands of document stores"
    gives_documents = True

    def parts(self, text: str) -> list[Part]:
        found: list[Part] = []
        for each in self._read(text):
            judged(text, each.node)
            title = each.title[:MAX_TITLE] or f"statement {len(found) + 1}"
            blank = re.sub(r"[^\n]", " ", text[: each.start])
            found.append(Part(title, blank + text[each.start : each.end], each.start, each.end))
        return found

    def _read(self, text: str) -> list[Read]:
        found = reading(text)
        if not found:
            raise StatementRefused("the statement is empty.", 'Write a command: {"find": "contacts", "filter": {}}.')
        if len(found) > MAX_STATEMENTS:
            what = f"there are more than {MAX_STATEMENTS} statements: the next begins"
            raise refused_at(text, found[MAX_STATEMENTS].start, what, "Save some of them as extracts of their own.")
        return found

    def parameters(self, text: str) -> list[str]:
        return list(dict.fromkeys(node.value for node in _parameters(text)))

    def fill_in(self, text: str, bound: BoundValues) -> Rendered:
        def put(name: str) -> str:
            parameter, value = filling.declared(bound, name)
            plain = MASK if parameter.sensitive and value is not None else extended(value)
            return filling.marked(name, json.dumps(plain, ensure_ascii=False))

        return replaced(text, ((node.start, node.end) for node in _parameters(text)), put)

    def restore(self, text: str) -> str:
        text = out_of_shell(text)
        return filling.restored(text, ((token.start, token.end) for token in tokens(text) if token.kind == "comment"))

    def filled_parts(self, text: str, bound: BoundValues) -> tuple[list[Part], list[FilledPart]]:
        """As the stores' own shell takes them: it knows dates and other values of extended JSON by a function."""
        parts, made = super().filled_parts(text, bound)
        return parts, [replace(each, filled_in=in_shell(each.filled_in)) for each in made]

    def command(self, text: str, bound: BoundValues) -> dict[str, Any]:
        """What is sent for one statement, as extended JSON: values as typed values. Raises StatementRefused."""
        [read] = self._read(self.gate(text))
        refuse_of_the_server(text, self.collections(text, bound))  # a parameter may have named one

        def put(node: Node, where: str) -> Any:
            _, value = filling.declared(bound, node.value)
            plain = extended(value)
            if where == PROJECTION:
                return {"$literal": plain}
            return _never_a_path(plain) if where == EXPRESSION else plain

        return filled(read.node, put)

    def collections(self, text: str, bound: BoundValues) -> list[tuple[str, int]]:
        """The collections that one statement reads, and where each is named: also those of stages that fetch from others."""
        [read] = self._read(self.gate(text))

        def said(node: Node) -> str | None:
            value = filling.declared(bound, node.value)[1] if node.kind == "parameter" else node.value
            return value if isinstance(value, str) else None

        return [(name, node.start) for node in collections(read.node) if (name := said(node)) is not None]

    def total(self, text: str) -> str:
        [read] = self._read(self.gate(text))
        return counting(text, read.node)

    def diagnostics_on_columns(self, text: str, declared: Sequence[Parameter], catalogue: Sequence[Table]) -> list[Diagnostic]:
        return [each for read in self._read(text) for each in of_fields(text, read.node, catalogue)]

    def diagnostics_on_names(self, text: str, catalogue: Sequence[Table], others: Sequence[OtherCatalogue]) -> list[Diagnostic]:
        return [each for read in self._read(text) for each in of_collections(text, read.node, catalogue, others)]

    def diagnostic_on_error(
        self, error: LadleError, text: str, part: str, catalogue: Sequence[Table] | None, others: Sequence[OtherCatalogue]
    ) -> Diagnostic:
        found = of_refusal(error)
        if error.facts.get("missing") != "table":
            return found
        name = str(error.facts["name"])
        hint = where_collection_is(name, catalogue or [], others) or found.hint
        return Diagnostic("error", "table_missing", found.message, hint, found.line, found.column, len(name) + 2)

    def completion(
        self, text: str, position: int, tables: Sequence[Table], parameters: Sequence[str], asked: bool
    ) -> Completion | None:
        return completion_at(text, position, tables, parameters, asked)

    @property
    def editor(self) -> Mapping[str, Any]:
        """JSON with comments; its ``words`` are those that texts of it may begin with a dollar sign for."""
        return {
            "syntax": "json", "words": [*COMMANDS], "types": [], "name_quotes": "", "double_quoted_strings": True,
            "backslash_escapes": True, "dollar_quoted_strings": False, "hash_comments": False, "formatter": "",
        }  # fmt: skip

    def views(self, table: Table) -> TableViews:
        return CollectionViews(table)

    def outlines(self) -> DocumentOutlines:
        return DocumentOutlines(extended)


def _parameters(text: str) -> Iterator[Node]:
    """In the order of the text."""
    for each in reading(text):
        left = [each.node]
        while left:
            node = left.pop()
            if node.kind == "parameter":
                yield node
            left += reversed([value for _, value in node.pairs()] or list(node.items()))


DOCUMENTS = DocumentCommands()
