"""Which commands are sent, and what in them is refused: everything that writes, runs code, or looks after the server.

Commands, their fields, stages and operators are those that only read and compute, one by one: what is not known is refused,
wherever it stands.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from typing import Any

from ...errors import BadInput, StatementRefused, nearest
from ..parts import refused_at
from .operators import CODE, LISTED, OF_THE_SERVER, STAGES, VARIABLES, WRITES
from .reading import Node

ALWAYS = ("hint", "collation", "let", "allowDiskUse")
COMMANDS: Mapping[str, Collection[str]] = {
    "find": ("find", "filter", "projection", "sort", "skip", "limit", *ALWAYS),
    "aggregate": ("aggregate", "pipeline", *ALWAYS),
    "count": ("count", "query", "skip", "limit", "hint", "collation"),
    "distinct": ("distinct", "key", "query", "hint", "collation"),
}
"""By command, which is its first name: the fields it may have. The service adds time limit, batches and read concern."""
NEEDED = {"aggregate": "pipeline", "distinct": "key"}
KINDS = {"pipeline": "array"} | dict.fromkeys(("filter", "query", "projection", "sort", "let", "collation"), "object")


def judged(text: str, node: Node) -> str:
    """The name of a command that only reads. Raises StatementRefused, with line and column, for anything else."""
    first = next(node.pairs(), None)
    if first is None:
        raise refused_at(text, node.start, "a command is wanted", 'Write one: {"find": "contacts", "filter": {}}.')
    name = first[0].value
    if name not in COMMANDS:
        raise _unknown(text, first[0], COMMANDS, f"'{name}' is no command that only reads:")
    if first[1].kind not in ("string", "parameter"):
        raise refused_at(text, first[1].start, "the name of a collection is wanted", f'Write it as "{name}": "contacts".')
    for key, value in node.pairs():
        if key.value not in COMMANDS[name]:
            raise _unknown(text, key, COMMANDS[name], f"'{key.value}' is no field of {name}:")
        wanted = KINDS.get(key.value)
        if wanted and value.kind not in (wanted, "parameter"):
            raise refused_at(text, value.start, f"'{key.value}' is not {_A[wanted]}", f"Write {_A[wanted]} there.")
    needed = NEEDED.get(name)
    if needed and node.get(needed) is None:
        raise refused_at(text, node.start, f"{name} has no '{needed}'", f'Write it: "{needed}": …')
    _refuse_anywhere(text, node)
    pipeline = node.get("pipeline")
    if pipeline is not None:
        _pipeline(text, pipeline)
    refuse_of_the_server(text, [(each.value, each.start) for each in collections(node) if each.kind == "string"])
    return str(name)


_A = {"object": "an object", "array": "a list"}


def _unknown(text: str, key: Node, known: Collection[str], what: str) -> StatementRefused:
    close = nearest(str(key.value), known)
    hint = f"Did you mean '{close}'?" if close else f"Use one of: {', '.join(known)}."
    return refused_at(text, key.start, f"{what} it stands", hint)


def _refuse_anywhere(text: str, node: Node) -> None:
    left = [node]
    while left:
        here = left.pop()
        left += here.items()
        for key, value in here.pairs():
            if key.value in WRITES:
                raise refused_at(
                    text, key.start, f"'{key.value}' writes: it stands", "A source is only read. Have the result delivered."
                )
            if key.value in CODE:
                raise refused_at(text, key.start, f"'{key.value}' runs code: it stands", "Say the same with operators.")
            if key.value[:1] == "$" and key.value not in LISTED:
                raise _not_listed(text, key, f"'{key.value}' is no operator that only computes:")
            left.append(value)
        if here.kind == "string" and re.match(r"\$\$[A-Z]", here.value):
            name = here.value.partition(".")[0]
            if name not in VARIABLES:
                raise _not_listed(text, here, f"'{name}' is no variable that only tells of documents:")


def _not_listed(text: str, node: Node, what: str) -> StatementRefused:
    close = nearest(str(node.value).partition(".")[0], LISTED | VARIABLES)
    hint = f"Did you mean '{close}'?" if close else "Say the same with operators that docs/sources.md lists."
    return refused_at(text, node.start, f"{what} it stands", hint)


def refuse_of_the_server(text: str, named: Iterable[tuple[str, int]]) -> None:
    """Refuse collections, each with where it is named, that are the server's own. Raises StatementRefused."""
    for name, start in named:
        if name.startswith(OF_THE_SERVER):
            hint = "Name a collection that people fill."
            raise refused_at(text, start, f"'{name}' is the server's own: it stands", hint)


def _pipeline(text: str, node: Node) -> None:
    """Stages, and those of pipelines in them."""
    if node.kind != "array":
        raise refused_at(text, node.start, "a pipeline is not a list", "Write its stages between [ and ].")
    for stage in node.items():
        pairs = list(stage.pairs())
        if len(pairs) != 1:
            raise refused_at(text, stage.start, "a stage has not exactly one name", 'Write each as {"$match": …}.')
        [(name, body)] = pairs
        if name.value not in STAGES:
            raise _unknown(text, name, sorted(STAGES), f"'{name.value}' is no stage that only reads:")
        for inner in _pipelines_in(str(name.value), body):
            _pipeline(text, inner)


def _pipelines_in(stage: str, body: Node) -> Iterator[Node]:
    if stage in ("$lookup", "$unionWith"):
        inner = body.get("pipeline")
        if inner is not None:
            yield inner
    elif stage == "$facet":
        for _, inner in body.pairs():
            yield inner


def collections(node: Node) -> Iterator[Node]:
    """Where a command's collections are named, its own first."""
    first = next(node.pairs(), None)
    if first is not None:
        yield first[1]
    left = [node.get("pipeline")]
    while left:
        pipeline = left.pop()
        for stage in pipeline.items() if pipeline is not None else ():
            for name, body in stage.pairs():
                from_ = body if name.value == "$unionWith" and body.kind != "object" else body.get(_FROM.get(name.value, ""))
                if from_ is not None:
                    yield from_
                left += _pipelines_in(str(name.value), body)


_FROM = {"$lookup": "from", "$graphLookup": "from", "$unionWith": "coll"}


def counting(text: str, node: Node) -> str:
    """A command that gives the number of documents that another gives. Raises BadInput for one that gives a number itself."""

    def said(part: Node | None, otherwise: str = "") -> str:
        return text[part.start : part.end] if part is not None else otherwise

    [(command, collection), *_] = node.pairs()
    if command.value in ("count", "distinct"):
        raise BadInput(f"{command.value} is short: its rows are not counted.", "Look at the preview.")
    stages = [said(stage) for stage in (node.get("pipeline") or node).items()]
    if command.value == "find":
        stages = [f'{{"$match": {said(node.get("filter"), "{}")}}}']
        stages += [f'{{"${part}": {said(node.get(part))}}}' for part in ("skip", "limit") if node.get(part) is not None]
    stages.append('{"$count": "total"}')
    more = "".join(f', "{part}": {said(node.get(part))}' for part in ALWAYS if node.get(part) is not None)
    return f'{{"aggregate": {said(collection)}, "pipeline": [{", ".join(stages)}]{more}}}'


FILTER, EXPRESSION, PROJECTION = "filter", "expression", "projection"
"""What a value stands in. In an expression a text that begins with ``$`` is the path of a field; in a projection a number, or
*true*, says besides that a field is kept."""
Put = Callable[[Node, str], Any]


def filled(node: Node, put: Put) -> dict[str, Any]:
    """The command as plain JSON, with ``put(parameter, place)`` in place of each parameter."""
    made = {}
    for key, value in node.pairs():
        if key.value == "pipeline":
            made[key.value] = _stages(value, put)
        else:
            made[key.value] = _plain(value, put, {"projection": PROJECTION, "let": EXPRESSION}.get(key.value, FILTER))
    return made


def _plain(node: Node, put: Put, place: str) -> Any:
    match node.kind:
        case "object":
            return {key.value: _plain(value, put, _inside(key.value, place)) for key, value in node.pairs()}
        case "array":
            return [_plain(each, put, EXPRESSION if place == PROJECTION else place) for each in node.items()]
        case "parameter":
            return put(node, place)
    return node.value


def _inside(key: str, place: str) -> str:
    """What a value of that key stands in, within something of another."""
    if key in ("$literal", "$elemMatch"):  # taken as they are
        return FILTER
    if key == "$expr":
        return EXPRESSION
    return EXPRESSION if place == PROJECTION and key.startswith("$") else place


def _stages(node: Node, put: Put) -> Any:
    if node.kind != "array":
        return _plain(node, put, FILTER)
    return [{name.value: _stage(str(name.value), body, put) for name, body in stage.pairs()} for stage in node.items()]


def _stage(name: str, body: Node, put: Put) -> Any:
    if name == "$match":
        return _plain(body, put, FILTER)
    if name == "$facet" and body.kind == "object":
        return {key.value: _stages(value, put) for key, value in body.pairs()}
    if name in ("$lookup", "$unionWith", "$graphLookup", "$geoNear") and body.kind == "object":
        return {
            key.value: _stages(value, put)
            if key.value == "pipeline"
            else _plain(value, put, EXPRESSION if key.value in ("let", "startWith") else FILTER)
            for key, value in body.pairs()
        }
    return _plain(body, put, PROJECTION if name == "$project" else EXPRESSION)
