"""Names in commands held against the stored catalogue: collections, and fields that no document of the sample has."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ...errors import nearest
from ..diagnostics import Diagnostic, OtherCatalogue, Table, diagnostic_at
from .commands import collections
from .reading import Node

_SAME_FIELDS = ("$match", "$sort", "$limit", "$skip", "$sample")
"""Stages behind which documents have the fields they had."""


def of_collections(
    text: str, command: Node, catalogue: Sequence[Table], others: Sequence[OtherCatalogue]
) -> Iterator[Diagnostic]:
    """Collections that the catalogue does not know; warnings, for it may be old."""
    known = {table["name"] for table in catalogue}
    for node in collections(command):
        if node.kind == "string" and node.value not in known:
            message = f"the stored catalogue of this source has no collection '{node.value}'."
            hint = where_collection_is(node.value, catalogue, others)
            yield diagnostic_at(text, "warning", "table_missing", message, hint, node.start, node.end - node.start)


def where_collection_is(name: str, catalogue: Sequence[Table], others: Sequence[OtherCatalogue]) -> str:
    """In another source, or under a name that is near; empty where nobody knows."""
    there = [each.source for each in others if any(table["name"] == name for table in each.catalogue)]
    if there:
        return f"It is not in this source, but in source {' and in source '.join(there[:3])}."
    close = nearest(name, [table["name"] for table in catalogue])
    return f"Did you mean '{close}'?" if close else ""


def of_fields(text: str, command: Node, catalogue: Sequence[Table]) -> Iterator[Diagnostic]:
    """Fields that are asked about and that no document of the catalogue's sample has; each name once."""
    first = next(command.pairs(), None)
    if first is None or first[1].kind != "string":
        return
    table = next((table for table in catalogue if table["name"] == first[1].value), None)
    fields = [str(column["name"]) for column in table["columns"]] if table else []
    said: set[str] = set()
    for node, name in _asked(command) if fields else ():
        if name not in said and not _known(name, fields):
            said.add(name)
            close = nearest(name, fields)
            message = f"none of the sampled documents of '{first[1].value}' has a field '{name}'."
            hint = f"Did you mean '{close}'?" if close else "See its fields in the source."
            yield diagnostic_at(text, "warning", "column_missing", message, hint, node.start, node.end - node.start)


def _known(name: str, fields: Sequence[str]) -> bool:
    """Also an object that holds fields, what stands in one that stays JSON, and a member of a list."""
    return any(name == each or each.startswith(f"{name}.") or name.startswith(f"{each}.") for each in fields)


def _asked(command: Node) -> Iterator[tuple[Node, str]]:
    """Names of fields of the collection's own documents."""
    for key, value in command.pairs():
        if key.value in ("filter", "query"):
            yield from _of_filter(value)
        elif key.value == "sort":
            yield from _names(value)
        elif key.value == "projection":
            yield from ((name, path) for name, path in _names(value) if not _computed(value.get(name.value)))
        elif key.value == "key" and value.kind == "string":
            yield value, str(value.value)
        elif key.value == "pipeline":
            yield from _of_pipeline(value)


def _computed(value: Node | None) -> bool:
    return value is not None and value.kind in ("object", "string", "array", "parameter")


def _names(node: Node) -> Iterator[tuple[Node, str]]:
    for key, _ in node.pairs():
        if not str(key.value).startswith("$"):
            yield key, str(key.value).removesuffix(".$")


def _of_filter(node: Node) -> Iterator[tuple[Node, str]]:
    for key, value in node.pairs():
        if key.value in ("$and", "$or", "$nor"):
            for each in value.items():
                yield from _of_filter(each)
        elif key.value == "$expr":
            yield from _paths(value)
    yield from _names(node)


def _of_pipeline(node: Node) -> Iterator[tuple[Node, str]]:
    for stage in node.items():
        for name, body in stage.pairs():
            if name.value == "$match":
                yield from _of_filter(body)
            elif name.value == "$sort":
                yield from _names(body)
            elif name.value in ("$group", "$project"):
                yield from _paths(body)
            if name.value not in _SAME_FIELDS:
                return


def _paths(node: Node) -> Iterator[tuple[Node, str]]:
    """Texts such as ``$customer.town``."""
    left = [node]
    while left:
        here = left.pop()
        if here.kind == "string" and str(here.value).startswith("$") and not str(here.value).startswith("$$"):
            yield here, str(here.value)[1:]
        left += [value for key, value in here.pairs() if key.value != "$literal"]
        left += here.items()
