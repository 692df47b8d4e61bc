"""Which fields a command's documents will have, as far as the command tells: for the order of columns and for empty results."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

_ID = "_id"


@dataclass(frozen=True, slots=True)
class Wanted:
    """Which columns are expected, in their order, without being the only ones; and whether the identifier is one of them."""

    columns: Sequence[str] = ()
    identifier: bool = False


def _of_groups(outputs: Mapping[str, Any]) -> tuple[list[str] | None, bool]:
    return [_ID, *(name for name in outputs if name != _ID)], True


_ANEW: Mapping[str, Callable[[Any], tuple[list[str] | None, bool]]] = {
    "$group": _of_groups,
    "$bucket": lambda body: _of_groups(body.get("output") or {"count": 1}),
    "$bucketAuto": lambda body: _of_groups(body.get("output") or {"count": 1}),
    "$sortByCount": lambda _: _of_groups({"count": 1}),
    "$count": lambda body: ([str(body)], False),
    "$facet": lambda body: (list(body), False),
    "$replaceRoot": lambda _: (None, False),
    "$replaceWith": lambda _: (None, False),
}
"""Stages behind which documents have other fields: which, as far as one can tell, and whether the identifier counts."""
_ADDS = {"$lookup": "as", "$graphLookup": "as", "$geoNear": "distanceField", "$unwind": "includeArrayIndex"}


def wanted(command: Mapping[str, Any]) -> Wanted:
    """Of a command without parameters. One that is not as the server wants it tells nothing: the server will say so."""
    try:
        return _wanted(command)
    except (AttributeError, TypeError, ValueError):
        return Wanted()


def _wanted(command: Mapping[str, Any]) -> Wanted:
    name = next(iter(command))
    if name == "count":
        return Wanted(("count",))
    if name == "distinct":
        return Wanted((str(command["key"]),), True)
    if name == "find":
        found = _Fields()
        found.project(command.get("projection") or {}, False)
        return found.wanted()
    found = _Fields()
    for stage in command.get("pipeline", ()):
        [(kind, body)] = stage.items()
        found.after(kind, body)
    return found.wanted()


class _Fields:
    """Names of the fields so far; None while they are whatever the documents have."""

    def __init__(self) -> None:
        self.names: list[str] | None = None
        self.identifier = False

    def wanted(self) -> Wanted:
        return Wanted(tuple(self.names or ()), self.identifier)

    def project(self, projection: Mapping[str, Any], keeps_identifier: bool) -> None:
        """``keeps_identifier``: it is one of the fields without being named."""
        others = [(name, value) for name, value in projection.items() if name != _ID]
        keeps = [name.removesuffix(".$") for name, value in others if _kept(value)]
        if _ID in projection:
            self.identifier = _kept(projection[_ID])
        if not keeps and others:
            self._drop([name for name, value in others if not isinstance(value, Mapping)])
            if self.names and not self.identifier:
                self._drop([_ID])
            return
        if not keeps and not (_ID in projection and self.identifier):
            if self.names and not self.identifier:
                self._drop([_ID])
            return
        named = [name.removesuffix(".$") for name in projection if name != _ID or self.identifier]
        first = [_ID] if keeps_identifier and self.identifier and _ID not in projection else []
        self.names = [*first, *named]

    def after(self, kind: str, body: Any) -> None:
        """The fields behind one stage more."""
        if kind == "$project":
            self.project(body, self.names is not None)
        elif kind in _ANEW:
            self.names, self.identifier = _ANEW[kind](body)
        elif kind == "$unset":
            self._drop([body] if isinstance(body, str) else body)
        elif kind in ("$addFields", "$set"):
            self.identifier = self.identifier or _ID in body
            self._add(body)
        elif kind == "$setWindowFields":
            self._add(body.get("output", {}))
        elif kind in _ADDS and isinstance(body, Mapping):
            self._add(filter(None, [body.get(_ADDS[kind])]))

    def _add(self, names: Iterable[str]) -> None:
        if self.names is not None:
            self.names += [name for name in names if name not in self.names]

    def _drop(self, names: Iterable[str]) -> None:
        gone = set(names)
        if _ID in gone:
            self.identifier = False
        if self.names is not None:
            self.names = [name for name in self.names if name not in gone]


def _kept(value: Any) -> bool:
    """Whether a projection takes a field in: by a number, by *true*, or by what is to be in its place."""
    if isinstance(value, Mapping):
        return "$slice" not in value
    return bool(value) if isinstance(value, (bool, int, float)) else value is not None
