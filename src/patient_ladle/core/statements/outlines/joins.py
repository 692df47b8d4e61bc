"""Which tables belong together: by foreign keys in both directions, over others too; else by columns of equal name and kind."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import msgspec

from ...errors import nearest
from ..catalogue import find_table, names_of
from .outline import Join, Outline, Pair, plain, refused

Table = Mapping[str, Any]
_VAGUE = frozenset({"id", "name", "note", "notes", "comment", "created_at", "updated_at", "kind", "type", "status", "state"})
"""Names that many tables have for things of their own."""
MOST = 12


@dataclass(frozen=True, slots=True)
class Proposal:
    """Joins that bring a table in, one or more; ``why``: foreign_key, or equal_names."""

    joins: tuple[Join, ...]
    why: str

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON."""
        return {"joins": plain(self.joins), "why": self.why}


@dataclass(frozen=True, slots=True)
class _Edge:
    """Columns of one table beside those of another."""

    to: int
    columns: tuple[str, ...]
    to_columns: tuple[str, ...]


class Graph:
    """The tables of a catalogue and what joins them."""

    def __init__(self, catalogue: Sequence[Table]) -> None:
        self.catalogue = catalogue
        self.numbers = {(table["schema"], table["name"]): number for number, table in enumerate(catalogue)}
        self.edges: list[list[_Edge]] = [[] for _ in catalogue]
        for number, table in enumerate(catalogue):
            for key in table["foreign_keys"]:
                other = self.numbers.get((key["schema"], key["table"]))
                if other is not None and len(key["columns"]) == len(key["to_columns"]):
                    here, there = tuple(key["columns"]), tuple(key["to_columns"])
                    self.edges[number].append(_Edge(other, here, there))
                    self.edges[other].append(_Edge(number, there, here))

    def number(self, name: str) -> int:
        """Of a table. Raises UnknownName."""
        table = find_table(self.catalogue, name)
        return self.numbers[table["schema"], table["name"]]

    def ways(self, starts: Sequence[int], to: int) -> list[list[tuple[int, _Edge]]]:
        """The shortest ways along foreign keys from any of the tables: steps of a table and what leads on; empty if none."""
        before: dict[int, list[tuple[int, _Edge]]] = {}
        depth = dict.fromkeys(starts, 0)
        left = deque(starts)
        while left:
            here = left.popleft()
            if depth[here] >= depth.get(to, len(self.catalogue)) and here != to:
                break
            for edge in self.edges[here]:
                if edge.to not in depth:
                    depth[edge.to] = depth[here] + 1
                    left.append(edge.to)
                if depth[edge.to] == depth[here] + 1:
                    before.setdefault(edge.to, []).append((here, edge))
        return list(self._back(to, before, set(starts)))[:MOST]

    def _back(
        self, to: int, before: Mapping[int, list[tuple[int, _Edge]]], starts: set[int]
    ) -> Iterator[list[tuple[int, _Edge]]]:
        if to in starts:
            yield []
            return
        for here, edge in before.get(to, ()):
            for way in self._back(here, before, starts):
                yield [*way, (here, edge)]

    def equal_names(self, one: int, other: int) -> list[_Edge]:
        """Columns that two tables share by name and kind, keys first."""
        there = {column["name"].lower(): column for column in self.catalogue[other]["columns"]}
        keys = {name for at in (one, other) for name in self.catalogue[at]["primary_key"]}
        found = [
            (column["name"] not in keys, column["name"], there[column["name"].lower()]["name"])
            for column in self.catalogue[one]["columns"]
            if column["name"].lower() in there
            and column["name"].lower() not in _VAGUE
            and column["kind"] == there[column["name"].lower()]["kind"]
            and column["kind"] in ("integer", "text", "any")
        ]
        return [_Edge(other, (here,), (name,)) for _, here, name in sorted(found)]


def proposals(outline: Outline, table: str, catalogue: Sequence[Table], alias: str = "") -> list[Proposal]:
    """How a table may join an outline's: the shortest ways first. Empty where nothing tells. Raises UnknownName."""
    graph = Graph(catalogue)
    to = graph.number(table)
    present = [(place.alias, graph.number(place.table)) for place in outline.places]
    made: list[Proposal] = []
    for start_alias, start in present:
        itself = [[(start, edge)] for edge in graph.edges[start] if edge.to == to]
        ways = itself if start == to else graph.ways([start], to)
        made += [Proposal(_joins(graph, outline, start_alias, way, alias), "foreign_key") for way in ways]
    made.sort(key=lambda proposal: len(proposal.joins))
    if made:
        shortest = len(made[0].joins)
        made = [each for each in made if len(each.joins) == shortest]
    else:
        made = [
            Proposal(_joins(graph, outline, start_alias, [(start, edge)], alias), "equal_names")
            for start_alias, start in present
            for edge in graph.equal_names(start, to)
        ]
    unique = {each.joins: each for each in made}
    return list(unique.values())[:MOST]


def joined(outline: Outline, table: str, catalogue: Sequence[Table]) -> Outline:
    """The outline with a table joined as is nearest at hand. Raises BadInput where nothing tells how."""
    found = proposals(outline, table, catalogue)
    if not found:
        names = [names_of(each) for each in catalogue]
        close = nearest(table, names)
        hint = f"Did you mean '{close}'? " if close and close != table else ""
        raise refused("with", f"no key leads from these tables to '{table}'", f"{hint}Say which columns must be the same.")
    made: Outline = msgspec.structs.replace(outline, with_=(*outline.with_, *found[0].joins))
    return made


def _joins(graph: Graph, outline: Outline, alias: str, way: Sequence[tuple[int, _Edge]], last_alias: str) -> tuple[Join, ...]:
    taken = {place.alias.lower() for place in outline.places}
    made: list[Join] = []
    for number, (_, edge) in enumerate(way):
        table = graph.catalogue[edge.to]
        wanted = last_alias if last_alias and number == len(way) - 1 else short_name(table["name"], taken)
        taken.add(wanted.lower())
        pairs = tuple(
            Pair(left=f"{alias}.{here}", right=f"{wanted}.{there}")
            for here, there in zip(edge.columns, edge.to_columns, strict=True)
        )
        own = "" if wanted == table["name"] else wanted
        made.append(Join(table=names_of(table), as_=own, on=pairs))
        alias = wanted
    return tuple(made)


def short_name(name: str, taken: set[str]) -> str:
    """The first letters of a name's words; with a number where they are taken."""
    words = [word for word in name.lower().replace("-", "_").split("_") if word and word[0].isalpha()]
    stem = "".join(word[0] for word in words) or "t"
    made, number = stem, 2
    while made in taken:
        made, number = f"{stem}{number}", number + 1
    return made
