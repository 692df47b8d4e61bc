"""Guards: bounds that a result must meet before it is delivered. Breaking one warns, or holds the delivery.

Rules and theory
----------------
* Guards on values (``not_null``, ``no_duplicate``) watch the rows as they pass; the others look at what came of the run
  and at earlier runs of the extract in the same environment.
* ``change`` needs some earlier runs to compare with; until there are so many it says that it was not judged.
* Duplicates are found by a hash of 64 bits of each key. Two different keys are taken for one with a chance of about
  n² / 2⁶⁵: one in three hundred thousand for ten million rows.
* All watch the first statement's rows, but for ``rows`` and ``not_empty``, which count all of them, and those on steps,
  which look at what a step of any statement did.
"""

from __future__ import annotations

from array import array
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from statistics import median
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ..errors import BadInput, StatementWrong, unknown_name
from .columns import Batch, Column

THEN = ("hold", "warn")
NO_KEYS: Mapping[str, Iterable[Sequence[str | None]]] = {}
_SAME = {"any": "", "weekday": " of the same weekday", "month_day": " of the same day of the month"}
"""Which earlier runs a change is measured against, in words."""
LEAST_EARLIER = 3
"""Earlier runs without which a change cannot be judged."""


def _whole(name: str, value: Any) -> int:
    if isinstance(value, str) and value.isascii() and value.isdigit():
        value = int(value)
    if not isinstance(value, int) or isinstance(value, bool) or value < 0:
        raise BadInput(f"'{name}' was given '{value}', which is not a number of rows or runs.", "Give a whole number from 0.")
    return value


def _percent(name: str, value: Any) -> float:
    try:
        found = float(value)
    except (TypeError, ValueError):
        found = -1.0
    if not 0 <= found <= 10_000:
        raise BadInput(f"'{name}' was given '{value}', which is not a percentage.", "Give a number such as 20.")
    return found


def _columns(name: str, value: Any) -> tuple[str, ...]:
    given = [value] if isinstance(value, str) else value
    if not isinstance(given, Sequence) or not given or not all(isinstance(each, str) and each for each in given):
        raise BadInput(f"'{name}' was given '{value}', which names no column.", "Give the names of some columns.")
    return tuple(given)


def _name(name: str, value: Any) -> str:
    if isinstance(value, bool) or not isinstance(value, (str, int)) or not str(value):
        raise BadInput(f"'{name}' was given '{value}', which is not a name.", "Give the name, or of a step its number.")
    return str(value)


def _one_of(known: Sequence[str]) -> Callable[[str, Any], str]:
    def check(name: str, value: Any) -> str:
        if value not in known:
            raise unknown_name(name, str(value), known)
        return str(value)

    return check


KINDS: dict[str, dict[str, Callable[[str, Any], Any]]] = {
    "rows": {"at_least": _whole, "at_most": _whole},
    "not_empty": {},
    "change": {"percent": _percent, "of_last": _whole, "same": _one_of(tuple(_SAME))},
    "columns": {},
    "not_null": {"columns": _columns},
    "no_duplicate": {"columns": _columns},
    "in_lookup": {"columns": _columns, "lookup": _name},
    "step_rows": {"step": _name, "at_least": _whole, "at_most": _whole},
    "same_rows": {"step": _name},
    "all_found": {"step": _name},
}
"""Kind to what it may be given, each with its check."""
_NEEDED = {
    "change": ("percent",), "not_null": ("columns",), "no_duplicate": ("columns",), "in_lookup": ("columns", "lookup"),
    "step_rows": ("step",), "same_rows": ("step",), "all_found": ("step",),
}  # fmt: skip
_DEFAULTS: dict[str, dict[str, Any]] = {"change": {"of_last": 8, "same": "any"}}
WATCHING = ("not_null", "no_duplicate", "in_lookup")
ON_STEPS = ("step_rows", "same_rows", "all_found")
"""Guards that name a step, by its name or its number from 1."""


@dataclass(frozen=True, slots=True)
class Guard:
    """One bound and what breaking it does."""

    kind: str
    given: Mapping[str, Any] = field(default_factory=dict)
    then: str = "hold"

    @classmethod
    def from_dict(cls, data: Mapping[str, Any]) -> Guard:
        """From ``{"guard": "rows", "at_least": 10, "then": "warn"}``. Raises BadInput, UnknownName."""
        rest = dict(data)
        kind = str(rest.pop("guard", ""))
        if kind not in KINDS:
            raise unknown_name("guard", kind, KINDS)
        then = _one_of(THEN)("then", rest.pop("then", "hold"))
        made = dict(_DEFAULTS.get(kind, {}))
        for name, value in rest.items():
            if name not in KINDS[kind]:
                raise unknown_name(f"setting of the guard {kind}", name, [*KINDS[kind], "then"])
            made[name] = KINDS[kind][name](name, value)
        for name in _NEEDED.get(kind, ()):
            if name not in made:
                raise BadInput(f"the guard {kind} needs '{name}'.", f"Give it {name}.")
        if kind in ("rows", "step_rows"):
            _check_bounds(kind, {each: made[each] for each in ("at_least", "at_most") if each in made})
        return cls(kind, made, then)

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON."""
        given = {name: list(value) if isinstance(value, tuple) else value for name, value in self.given.items()}
        return {"guard": self.kind, **given, "then": self.then}

    def in_words(self) -> str:
        """What it asks for."""
        given = self.given
        match self.kind:
            case "rows" | "step_rows":
                least, most = given.get("at_least"), given.get("at_most")
                bounds = (f"at least {least:,}" if least is not None else "", f"at most {most:,}" if most is not None else "")
                after = f" after step {_step(given)}" if self.kind == "step_rows" else ""
                return " and ".join(filter(None, bounds)) + " rows" + after
            case "same_rows":
                return f"as many rows after step {_step(given)} as before"
            case "all_found":
                return f"a match for each row in step {_step(given)}"
            case "in_lookup":
                return f"{', '.join(given['columns'])} in the lookup {given['lookup']}"
            case "not_empty":
                return "some rows"
            case "change":
                share, runs = given["percent"], f"{given['of_last']} runs{_SAME[given['same']]}"
                return f"rows within {share:g} % of the median of the last {runs}"
            case "columns":
                return "columns as they were"
            case "not_null":
                return f"no null in {', '.join(given['columns'])}"
        return f"no duplicate of {', '.join(given['columns'])}"


def _step(given: Mapping[str, Any]) -> str:
    named: str = given["step"]
    return named if named.isdigit() else f"'{named}'"


def _check_bounds(kind: str, made: Mapping[str, Any]) -> None:
    if not made:
        raise BadInput(f"the guard {kind} needs a bound.", "Give it at_least, at_most or both.")
    if "at_least" in made and "at_most" in made and made["at_least"] > made["at_most"]:
        raise BadInput(f"no number of rows is at least {made['at_least']} and at most {made['at_most']}.", "Swap them.")


def checked_guards(given: Sequence[Any]) -> tuple[Guard, ...]:
    """Raises BadInput, UnknownName."""
    for item in given:
        if not isinstance(item, Mapping):
            raise BadInput(f"'{item}' is not a guard.", 'Write {"guard": "rows", "at_least": 10}.')
    return tuple(Guard.from_dict(item) for item in given)


@dataclass(frozen=True, slots=True)
class Finding:
    """A guard that was broken, or could not be judged (``then`` is ``warn``)."""

    text: str
    then: str

    def to_dict(self) -> dict[str, str]:
        """Plain JSON."""
        return {"text": self.text, "then": self.then}


class Watch:
    """Sees the rows of one statement pass, for the guards on values."""

    def __init__(
        self, guards: Sequence[Guard], columns: Sequence[Column], keys: Mapping[str, Iterable[Sequence[str | None]]] = NO_KEYS
    ) -> None:
        """``keys``: those of each lookup that a guard names. Raises StatementWrong where a guarded column is not there."""
        self.guards = [guard for guard in guards if guard.kind in WATCHING]
        places = {column.name: number for number, column in enumerate(columns)}
        for name in (name for guard in self.guards for name in guard.given["columns"]):
            if name not in places:
                found = unknown_name("column of the result", name, places)
                raise StatementWrong(found.message, found.hint + " A guard of the extract names it.")
        self.places = [[places[name] for name in guard.given["columns"]] for guard in self.guards]
        self.rows = 0
        self.nulls = [[0, 0] for _ in self.guards]
        """How many, and the first one's row."""
        self.known = [set(_joined(keys.get(guard.given.get("lookup", ""), ()))) for guard in self.guards]
        self.unknown: list[tuple[int, int, str]] = [(0, 0, "") for _ in self.guards]
        """How many values are not in the lookup, the first one's row, and what it is."""
        self.keys = [array("q") for _ in self.guards]

    def see(self, batch: Batch) -> None:
        """The next rows."""
        for number, (guard, places) in enumerate(zip(self.guards, self.places, strict=True)):
            if guard.kind == "not_null":
                self._count_nulls(number, [batch.cells[place] for place in places])
            elif guard.kind == "in_lookup":
                self._count_unknown(number, [batch.cells[place] for place in places])
            else:
                self.keys[number].extend(_keys([batch.cells[place] for place in places]))
        self.rows += batch.rows

    def _count_nulls(self, number: int, arrays: Sequence[pa.Array[Any]]) -> None:
        for cells in arrays:
            if cells.null_count:
                found = self.nulls[number]
                first = self.rows + pc.index(cells.is_null(), True).as_py() + 1
                found[0], found[1] = found[0] + cells.null_count, min(found[1] or first, first)

    def _count_unknown(self, number: int, arrays: Sequence[pa.Array[Any]]) -> None:
        """Rows with a null among the columns have nothing to be found."""
        joined = pc.binary_join_element_wise(*arrays, "\x1f")
        for place, text in enumerate(joined.to_pylist(), 1):
            if text is not None and text not in self.known[number]:
                count, row, shown = self.unknown[number]
                self.unknown[number] = (count + 1, row or self.rows + place, shown or text.replace("\x1f", ", "))

    def findings(self) -> list[Finding]:
        """What was broken."""
        made = []
        for number, guard in enumerate(self.guards):
            if guard.kind == "not_null" and self.nulls[number][0]:
                count, row = self.nulls[number]
                made.append(Finding(f"{guard.in_words()}: {count:,} found, the first in row {row:,}", guard.then))
            if guard.kind == "in_lookup" and self.unknown[number][0]:
                count, row, shown = self.unknown[number]
                made.append(Finding(f"{guard.in_words()}: {count:,} are not, '{shown}' in row {row:,} first", guard.then))
            if guard.kind == "no_duplicate" and (double := _first_double(self.keys[number])):
                count, first, second = double
                made.append(Finding(f"{guard.in_words()}: {count:,} found, rows {first:,} and {second:,} first", guard.then))
        return made


def _joined(keys: Iterable[Sequence[str | None]]) -> Iterator[str]:
    return ("\x1f".join("" if each is None else each for each in key) for key in keys)


def _keys(arrays: Sequence[pa.Array[Any]]) -> list[int]:
    """A hash of each row's cells, nulls apart from empty ones."""
    whole = [pc.fill_null(pc.binary_join_element_wise("=", cells, ""), "-") for cells in arrays]
    return [hash(text) for text in pc.binary_join_element_wise(*whole, "\x1f").to_pylist()]


def _first_double(keys: array[int]) -> tuple[int, int, int] | None:
    """How many rows repeat an earlier one, and the first such pair of rows."""
    values = pa.Array.from_buffers(pa.int64(), len(keys), [None, pa.py_buffer(keys)])
    if len(values) < 2:
        return None
    order = pc.array_sort_indices(values)
    ranked = values.take(order)
    same = pc.equal(ranked.slice(1), ranked.slice(0, len(ranked) - 1))
    count = pc.sum(same).as_py() or 0
    if not count:
        return None
    second = pc.min(order.slice(1).filter(same)).as_py()
    return count, pc.index(values, values[second]).as_py() + 1, second + 1


@dataclass(frozen=True, slots=True)
class Earlier:
    """What is known of the runs before: rows of each that counts, newest first, and the last one's columns."""

    rows: Sequence[int] = ()
    columns: Sequence[str] | None = None


def judged(
    guard: Guard, rows: int, columns: Sequence[str], earlier: Earlier, steps: Sequence[Mapping[str, Any]] = ()
) -> Finding | None:
    """What a guard on the whole, or on one of the ``steps`` as the run tells of them, finds; None where it is met or watches
    values."""
    given, words = guard.given, guard.in_words()
    if guard.kind in ON_STEPS:
        return _judged_step(guard, next((step for step in steps if is_named(step, given["step"])), None))
    match guard.kind:
        case "rows" if rows < given.get("at_least", 0) or rows > given.get("at_most", rows):
            return Finding(f"{words}: there are {rows:,}", guard.then)
        case "not_empty" if not rows:
            return Finding(f"{words}: there is none", guard.then)
        case "columns" if earlier.columns is not None and list(earlier.columns) != list(columns):
            return Finding(f"{words}: {_changed(earlier.columns, columns)}", guard.then)
        case "change":
            if len(earlier.rows) < min(LEAST_EARLIER, given["of_last"]):
                return Finding(f"{words}: not judged, for there are {len(earlier.rows)} earlier runs to compare with", "warn")
            middle = median(earlier.rows)
            if abs(rows - middle) > middle * given["percent"] / 100:
                return Finding(f"{words}: there are {rows:,}, and the median is {middle:,g}", guard.then)
    return None


def is_named(step: Mapping[str, Any], name: str) -> bool:
    """Whether a step, as a run tells of it, is the one that a guard names."""
    return name in (str(step.get("name", "")), str(step.get("number", "")))


def _judged_step(guard: Guard, step: Mapping[str, Any] | None) -> Finding | None:
    given, words = guard.given, guard.in_words()
    if step is None:
        return Finding(f"{words}: not judged, for there is no such step, or it is off", "warn")
    before, after = step["rows_in"], step["rows_out"]
    match guard.kind:
        case "step_rows" if after < given.get("at_least", 0) or after > given.get("at_most", after):
            return Finding(f"{words}: there are {after:,}", guard.then)
        case "same_rows" if before != after:
            return Finding(f"{words}: {before:,} before, {after:,} after", guard.then)
        case "all_found" if step.get("unmatched"):
            return Finding(f"{words}: {step['unmatched']:,} have none", guard.then)
    return None


def _changed(before: Sequence[str], now: Sequence[str]) -> str:
    gone, new = [n for n in before if n not in now], [n for n in now if n not in before]
    said = [f"gone: {', '.join(gone)}" if gone else "", f"new: {', '.join(new)}" if new else ""]
    return "; ".join(filter(None, said)) or "they stand in another order"
