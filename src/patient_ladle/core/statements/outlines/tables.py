"""The tables of an outline, as a stored catalogue describes them: what each name means, of what kind it is, what is a key."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from ...errors import BadInput, LadleError, nearest
from ..catalogue import find_table, names_of
from .outline import Join, Outline, Place, Term, refused

Table = Mapping[str, Any]
UNKNOWN = "any"
"""The kind of what no catalogue tells."""


@dataclass(frozen=True, slots=True)
class Named:
    """A column that is meant. ``known``: the catalogue's word on it; None where the catalogue has none."""

    alias: str
    name: str
    known: Mapping[str, Any] | None = None

    @property
    def kind(self) -> str:
        """As ``core.results.columns`` has it."""
        return str(self.known["kind"]) if self.known else UNKNOWN

    @property
    def written(self) -> str:
        """``alias.column``."""
        return f"{self.alias}.{self.name}"


class Tables:
    """What an outline's names mean. ``catalogue``: None where none was gathered; then every name is taken as it is."""

    def __init__(self, outline: Outline, catalogue: Sequence[Table] | None) -> None:
        self.outline = outline
        self.catalogue = catalogue
        self.tables: dict[str, Table | None] = {}
        self.faults: list[tuple[str, BadInput]] = []
        """Tables that are not there, with the path of their part."""
        for number, place in enumerate(outline.places):
            self.tables[place.alias] = None
            try:
                self.tables[place.alias] = self._found(place, f"with[{number - 1}]" if number else "from")
            except BadInput as error:
                self.faults.append((str(error.facts["where"]), error))

    def _found(self, place: Place, where: str) -> Table | None:
        if self.catalogue is None:
            return None
        try:
            return find_table(self.catalogue, place.table)
        except LadleError as error:
            hint = error.hint if error.hint else "Look at the source's tables; look at the source anew if it has them by now."
            raise refused(where, error.message.removesuffix("."), hint) from None

    def refuse_missing(self) -> None:
        """Raises BadInput for the first table that is not there."""
        for _, fault in self.faults:
            raise fault

    @property
    def one(self) -> bool:
        """Whether there is no other table, so that columns need not be told apart."""
        return len(self.tables) == 1

    def name(self, place: Place) -> tuple[str, ...]:
        """Schema and table, or the table alone."""
        table = self.tables[place.alias]
        if table is None:
            return tuple(place.table.split("."))
        return (table["schema"], table["name"]) if table["schema"] else (table["name"],)

    def column(self, reference: str, where: str) -> Named:
        """What ``alias.column`` or ``column`` means. Raises BadInput with the nearest right name."""
        alias, dot, name = reference.partition(".")
        places = {key.lower(): key for key in self.tables}
        if dot and alias.lower() in places:
            return self._of(places[alias.lower()], name, reference, where)
        if self.one:
            return self._of(next(iter(self.tables)), reference, reference, where)
        if dot:
            close = nearest(alias, self.tables)
            said = ", ".join(self.tables)
            raise refused(where, f"there is no table '{alias}' in '{reference}'", f"{_mean(close)}The tables are {said}.")
        owners = [alias for alias, table in self.tables.items() if table and reference in _columns(table)]
        if len(owners) == 1:
            return self._of(owners[0], reference, reference, where)
        if owners:
            said = ", ".join(f"{alias}.{reference}" for alias in owners)
            raise refused(where, f"'{reference}' is a column of several tables", f"Say which: {said}.")
        known = [name for table in self.tables.values() if table for name in _columns(table)]
        close = nearest(reference, known)
        raise refused(where, f"no table has a column '{reference}'", f"{_mean(close)}Name it as alias.column.")

    def _of(self, alias: str, name: str, reference: str, where: str) -> Named:
        table = self.tables[alias]
        if table is None:
            return Named(alias, name)
        columns = _columns(table)
        if name in columns:
            return Named(alias, name, columns[name])
        loose = [each for each in columns if each.lower() == name.lower()]
        if len(loose) == 1:
            return Named(alias, loose[0], columns[loose[0]])
        close = nearest(name, columns)
        hint = f"{_mean(close)}Its columns are {_some(columns)}."
        raise refused(where, f"'{names_of(table)}' has no column '{name}'", hint)

    def all_columns(self) -> list[Named]:
        """Every column of every table, in order; none of tables that no catalogue tells of."""
        return [
            Named(alias, name, column)
            for alias, table in self.tables.items()
            if table
            for name, column in _columns(table).items()
        ]

    def kind(self, term: Term, where: str) -> str:
        """Of what kind a term's values are. Raises BadInput for a column that is not there."""
        if term.aggregate in ("count", "count_distinct"):
            return "integer"
        kind = self.column(term.column, where).kind if term.column else UNKNOWN
        if term.bucket:
            kind = "date"
        return {"mean": "decimal", "median": "decimal"}.get(term.aggregate, kind)

    def nullable(self, term: Term, where: str) -> bool:
        """Whether a term may be without a value, as far as the catalogue tells: *no* only where it is sure."""
        if term.aggregate in ("count", "count_distinct"):
            return False
        if not term.column:
            return True
        found = self.column(term.column, where)
        return found.known is None or bool(found.known["nullable"]) or found.alias in self.optional()

    def optional(self) -> set[str]:
        """Short names of tables whose columns are null in rows that met none of theirs."""
        found: set[str] = set()
        before: list[str] = [self.outline.from_.alias]
        for join in self.outline.with_:
            if join.join in ("right", "full"):
                found |= set(before)
            if join.join in ("left", "full"):
                found.add(join.alias)
            before.append(join.alias)
        return found

    def is_key(self, alias: str, columns: Iterable[str]) -> bool | None:
        """Whether at most one row of a table has the same values there; None where no catalogue tells."""
        table = self.tables[alias]
        if table is None:
            return None
        held = set(columns)
        keys = [table["primary_key"], *table["unique_keys"]]
        return any(key and set(key) <= held for key in keys)


@dataclass(frozen=True, slots=True)
class Repeats:
    """What joins do to how often a row appears: of which tables it may appear several times after all of them."""

    often: frozenset[str]
    by: Mapping[int, tuple[str, ...]]
    """Joins, by number, after which no table is left each of whose rows appears once; and the tables that repeat through it."""


def repeats(tables: Tables) -> Repeats:
    """Which tables' rows may appear several times, told by keys alone."""
    outline = tables.outline
    often: set[str] = set()
    before = [outline.from_.alias]
    found: dict[int, tuple[str, ...]] = {}
    for number, join in enumerate(outline.with_):
        here, there = _joined(tables, join)
        key_here = tables.is_key(join.alias, here) if join.on else False
        keys_there = {alias for alias, columns in there.items() if tables.is_key(alias, columns)}
        once = tuple(alias for alias in before if alias not in often)
        if key_here is False:  # each row so far may meet several
            if not any(alias in keys_there and alias not in often for alias in there):
                often.add(join.alias)
            often |= set(before)
        elif not any(alias in keys_there and alias not in often for alias in there):
            often.add(join.alias)
        before.append(join.alias)
        if key_here is False and once and join.on and often.issuperset(before):
            found[number] = once
    return Repeats(frozenset(often), found)


def _joined(tables: Tables, join: Join) -> tuple[set[str], dict[str, set[str]]]:
    """The columns that a join compares for being the same: its own, and those of the tables before."""
    here: set[str] = set()
    there: dict[str, set[str]] = {}
    for pair in join.on:
        if pair.is_ == "=":
            try:
                left, right = tables.column(pair.left, ""), tables.column(pair.right, "")
            except BadInput:
                continue
            here.add(right.name)
            there.setdefault(left.alias, set()).add(left.name)
    return here, there


def _columns(table: Table) -> dict[str, Mapping[str, Any]]:
    return {column["name"]: column for column in table["columns"]}


def _mean(close: str | None) -> str:
    return f"Did you mean '{close}'? " if close else ""


def _some(names: Iterable[str]) -> str:
    listed = list(names)
    return ", ".join(listed[:12]) + (", …" if len(listed) > 12 else "")
