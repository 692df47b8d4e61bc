"""What a source holds: tables and views with their columns, keys and indexes. Plain data, kept as JSON with its age."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from ..errors import UnknownName, unknown_name


@dataclass(slots=True)
class TableColumn:
    """A column of a table; ``kind`` is the canonical one (core.results.columns) as far as the type tells."""

    name: str
    type: str
    kind: str = "text"
    nullable: bool = True
    default: str | None = None
    comment: str = ""


@dataclass(slots=True)
class ForeignKey:
    """Columns of this table that name a row of another."""

    columns: list[str]
    schema: str
    table: str
    to_columns: list[str]


@dataclass(slots=True)
class Table:
    """A table or view. ``rows_about`` is the engine's own estimate; None where it has none."""

    schema: str
    name: str
    kind: str = "table"
    comment: str = ""
    rows_about: int | None = None
    columns: list[TableColumn] = field(default_factory=list)
    primary_key: list[str] = field(default_factory=list)
    unique_keys: list[list[str]] = field(default_factory=list)
    foreign_keys: list[ForeignKey] = field(default_factory=list)
    indexes: list[str] = field(default_factory=list)

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON. Written out, for a catalogue holds tens of thousands of columns."""
        made = {name: getattr(self, name) for name in self.__slots__}
        made["columns"] = [{name: getattr(column, name) for name in TableColumn.__slots__} for column in self.columns]
        made["foreign_keys"] = [{name: getattr(key, name) for name in ForeignKey.__slots__} for key in self.foreign_keys]
        return made


class CatalogueBuilder:
    """Builds tables from the rows of a database's own catalogue, in whatever order they come."""

    def __init__(self) -> None:
        self.tables: dict[tuple[str, str], Table] = {}

    def table(self, schema: str, name: str, **facts: Any) -> Table:
        """The table of that name, made when it is new."""
        found = self.tables.setdefault((schema, name), Table(schema, name))
        for key, value in facts.items():
            setattr(found, key, value)
        return found

    def key(
        self, schema: str, name: str, kind: str, columns: Sequence[str], target: tuple[str, str, Sequence[str]] | None
    ) -> None:
        """A key; ``kind`` is primary, unique or foreign. Keys of tables that were not named are left out."""
        found = self.tables.get((schema, name))
        if found is None:
            return
        if kind == "primary":
            found.primary_key = list(columns)
        elif kind == "unique":
            found.unique_keys.append(list(columns))
        elif target is not None:
            found.foreign_keys.append(ForeignKey(list(columns), target[0], target[1], list(target[2])))

    def to_list(self) -> list[dict[str, Any]]:
        """The catalogue, by schema and name."""
        return [self.tables[place].to_dict() for place in sorted(self.tables)]


def without_schema(catalogue: Iterable[dict[str, Any]], schema: str) -> list[dict[str, Any]]:
    """The catalogue with that schema left unsaid and first: its tables need no prefix, in no environment. They may be written
    with it all the same: ``unsaid_schema`` keeps it."""
    made = list(catalogue)
    for table in made:
        table["unsaid_schema"] = schema if table["schema"] == schema else ""
        for place in (table, *table["foreign_keys"]):
            place["schema"] = "" if place["schema"] == schema else place["schema"]
    return sorted(made, key=lambda table: (table["schema"], table["name"]))


def names_of(table: Mapping[str, Any]) -> str:
    """``schema.table``, or the table alone where the engine has no schemas."""
    return f"{table['schema']}.{table['name']}" if table["schema"] else str(table["name"])


def full_name_of(table: Mapping[str, Any]) -> str:
    """``schema.table``, also where the schema need not be said; a catalogue of an earlier release does not know it then."""
    unsaid = table.get("unsaid_schema")
    return f"{unsaid}.{table['name']}" if unsaid else names_of(table)


def find_table(catalogue: Sequence[Mapping[str, Any]], name: str) -> Mapping[str, Any]:
    """The table that ``name`` means: in full, or alone where only one schema has it. Raises UnknownName."""
    ways = [(table, (names_of(table), full_name_of(table))) for table in catalogue]
    exact = [table for table, names in ways if name in names]
    loose = [table for table, names in ways if name.lower() in map(str.lower, (table["name"], *names))]
    found = exact or loose
    if len(found) == 1:
        return found[0]
    if found:
        where = ", ".join(names_of(table) for table in found)
        raise UnknownName(f"'{name}' is in more than one schema.", f"Say which: {where}.", given=name)
    raise unknown_name("table", name, [names_of(table) for table in catalogue])


def references_to(catalogue: Iterable[Mapping[str, Any]], table: Mapping[str, Any]) -> list[dict[str, Any]]:
    """Foreign keys of other tables that point here."""
    return [
        {"schema": other["schema"], "table": other["name"], "columns": key["columns"], "to_columns": key["to_columns"]}
        for other in catalogue
        for key in other["foreign_keys"]
        if (key["schema"], key["table"]) == (table["schema"], table["name"])
    ]


def search(catalogue: Iterable[Mapping[str, Any]], word: str, most: int = 100) -> list[dict[str, str]]:
    """Tables and columns whose name or comment holds the word; names that begin with it come first."""
    wanted = word.lower()
    found: list[tuple[bool, dict[str, str]]] = []
    for table in catalogue:
        place = names_of(table)
        if wanted in table["name"].lower() or wanted in table["comment"].lower():
            found.append((table["name"].lower().startswith(wanted), {"table": place, "kind": table["kind"], "column": ""}))
        for column in table["columns"]:
            if wanted in column["name"].lower():
                starts = column["name"].lower().startswith(wanted)
                found.append((starts, {"table": place, "kind": "column", "column": column["name"]}))
    found.sort(key=lambda item: not item[0])
    return [item for _, item in found[:most]]
