"""What a query language does with outlines: says what is wrong with one, compiles it, reads a statement back into one."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from ...errors import BadInput
from ...values.parameters import Parameter
from .outline import Outline, path_of

Table = Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class Remark:
    """One remark. ``severity``: error (there is no statement then), warning or note; ``where``: the part's path."""

    severity: str
    code: str
    message: str
    hint: str
    where: str

    @classmethod
    def of(cls, error: BadInput, where: str = "") -> Remark:
        """Of a refusal, whose words need not name the part."""
        place = str(error.facts.get("where") or where)
        said = error.message.removeprefix(f"{path_of(place)}: ")
        return cls("error", error.code, said, error.hint, place)

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON, with the part in words."""
        made = {name: getattr(self, name) for name in self.__slots__}
        return made | {"part": path_of(self.where)}


@dataclass(frozen=True, slots=True)
class At:
    """Where in the text a part of the outline stands; in code points, from 0."""

    path: str
    start: int
    end: int


@dataclass(frozen=True, slots=True)
class Compiled:
    """A statement, the parameters that the outline brings, and what of the text comes from where."""

    statement: str
    parameters: tuple[Parameter, ...]
    places: tuple[At, ...]

    def part_at(self, position: int) -> str:
        """The path of the smallest part around a position; empty where it is of none."""
        around = [each for each in self.places if each.start <= position < max(each.end, each.start + 1)]
        return min(around, key=lambda each: each.end - each.start).path if around else ""


@dataclass(frozen=True, slots=True)
class Step:
    """What a column of a counting statement tells. ``what``: rows, how many there are after that part; or times, how often at
    most the same values stand where that table is joined by."""

    name: str
    where: str
    what: str

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON, with the part in words."""
        return {"name": self.name, "where": self.where, "what": self.what, "part": path_of(self.where)}


@dataclass(frozen=True, slots=True)
class Counting:
    """A statement of one row, with a column for each step."""

    statement: str
    parameters: tuple[Parameter, ...]
    steps: tuple[Step, ...]


@dataclass(frozen=True, slots=True)
class Words:
    """What outlines may say in a language: tests by the kind of the column, aggregates, buckets, kinds of join."""

    tests: Mapping[str, Sequence[str]]
    aggregates: Sequence[str]
    buckets: Sequence[str]
    joins: Sequence[str]

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON."""
        tests = {kind: list(tests) for kind, tests in self.tests.items()}
        return {"tests": tests} | {name: list(getattr(self, name)) for name in ("aggregates", "buckets", "joins")}


class Outlines(ABC):
    """``catalogue``: of the source, None where none was gathered; ``declared``: the extract's parameters."""

    words: Words
    comment = "-- "
    """What begins a line that is not read, and titles a statement."""

    @abstractmethod
    def remarks(self, outline: Outline, catalogue: Sequence[Table] | None, declared: Sequence[Parameter]) -> list[Remark]:
        """What is to be said of it, errors first."""

    @abstractmethod
    def compiled(self, outline: Outline, catalogue: Sequence[Table] | None, declared: Sequence[Parameter]) -> Compiled:
        """The statement. Raises BadInput; its fact ``where`` says at which part."""

    @abstractmethod
    def counting(self, outline: Outline, catalogue: Sequence[Table] | None, declared: Sequence[Parameter]) -> Counting:
        """A statement that counts the rows after each table and each condition. Raises BadInput."""

    @abstractmethod
    def band_of(self, column: str, bounds: Sequence[Decimal]) -> str:
        """An expression of a column that is never null: 0 below the first bound, 1 below the second, and so on."""

    def together(self, titled: Sequence[tuple[str, Outline]], catalogue: Sequence[Table] | None) -> str:
        """One text of several statements, each under its title. Raises BadInput."""
        return ";\n\n".join(
            f"{self.comment}{title}\n{self.compiled(outline, catalogue, ()).statement}" for title, outline in titled
        )

    @abstractmethod
    def read(self, text: str, catalogue: Sequence[Table] | None, declared: Sequence[Parameter]) -> Outline:
        """The outline of one statement, where nothing of it is lost. Raises BadInput that says what would be."""
