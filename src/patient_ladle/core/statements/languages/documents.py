"""Commands of document stores: JSON with comments, of which the four that read are sent."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from datetime import date, datetime, timezone
from decimal import Decimal
from typing import Any

from ...errors import BadInput, StatementRefused
from ...values.parameters import MASK, BoundValues, Parameter, Value
from ..documents.commands import filled, judged
from ..documents.reading import Node, Read, reading, tokens
from ..parts import MAX_STATEMENTS, MAX_TITLE, Part, Rendered, place, refused_at
from .base import QueryLanguage

_OPENS = re.compile(r"/\*\s*:([a-z_][a-z0-9_]*)\s*\*/")
_CLOSES = re.compile(r"/\*\s*:\s*\*/")
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


def _never_a_path(value: Any) -> Any:
    """In an expression a text that begins with a dollar sign would be the path of a field."""
    texts = value if isinstance(value, list) else [value]
    return {"$literal": value} if any(isinstance(each, str) and each.startswith("$") for each in texts) else value


class DocumentCommands(QueryLanguage):
    """See QueryLanguage."""

    name = "documents"
    title = "commands of document stores"

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
        out: list[str] = []
        spans: list[tuple[int, int, int, int]] = []
        at = last = 0
        for node in _parameters(text):
            parameter, value = _bound(bound, node.value)
            plain = MASK if parameter.sensitive and value is not None else extended(value)
            piece = f"/* :{node.value} */ {json.dumps(plain, ensure_ascii=False)} /* : */"
            before = text[last : node.start]
            spans.append((at + len(before), len(piece), node.start, node.end - node.start))
            out += [before, piece]
            at, last = at + len(before) + len(piece), node.end
        return Rendered("".join([*out, text[last:]]), tuple(spans))

    def restore(self, text: str) -> str:
        out: list[str] = []
        at = 0
        opened: tuple[str, int] | None = None
        for token in _comments(text):
            piece = text[token[0] : token[1]]
            opens, closes = _OPENS.fullmatch(piece), _CLOSES.fullmatch(piece)
            if (opens and opened) or (closes and not opened):
                raise _unpaired(text, token[0], piece)
            if opens:
                out.append(text[at : token[0]])
                opened = opens.group(1), token[0]
            elif closes and opened:
                out.append(f":{opened[0]}")
                at, opened = token[1], None
        if opened:
            raise _unpaired(text, opened[1], f"/* :{opened[0]} */")
        return "".join([*out, text[at:]])

    def command(self, text: str, bound: BoundValues) -> dict[str, Any]:
        """What is sent for one statement, as extended JSON: values as typed values. Raises StatementRefused."""
        [read] = self._read(self.gate(text))

        def put(node: Node, computed: bool) -> Any:
            _, value = _bound(bound, node.value)
            plain = extended(value)
            return _never_a_path(plain) if computed else plain

        return filled(read.node, put)


def _bound(bound: BoundValues, name: str) -> tuple[Parameter, Value]:
    if name not in bound.parameters:
        raise BadInput(f"the statement uses ':{name}', which is not declared.", "Declare the parameter.")
    return bound.parameters[name], bound.values[name]


def _parameters(text: str) -> Iterator[Node]:
    """In the order of the text."""
    for each in reading(text):
        left = [each.node]
        while left:
            node = left.pop()
            if node.kind == "parameter":
                yield node
            left += reversed([value for _, value in node.pairs()] or list(node.items()))


def _comments(text: str) -> Iterator[tuple[int, int]]:
    for token in tokens(text):
        if token.kind == "comment":
            yield token.start, token.end


def _unpaired(text: str, position: int, piece: str) -> BadInput:
    line, column = place(text, position)
    return BadInput(
        f"the mark {piece} at line {line}, column {column} has no other that belongs to it.",
        "Put the value back between its two comments, or write the parameter there yourself.",
        line=line,
        column=column,
    )


DOCUMENTS = DocumentCommands()
