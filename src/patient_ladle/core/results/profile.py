"""A column at a glance: how many rows, how many without a value, which values, how they spread.

Two ways lead to one: ``of_cells`` reckons from texts at hand (a preview, a stored file); ``source_profile`` asks the source.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from datetime import date, timedelta
from decimal import ROUND_FLOOR, Context, Decimal, InvalidOperation
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ..statements.views import PERIODS
from .columns import NUMERIC

MOST_COMMON = 10
BARS = 20
"""Of numbers at most, give or take what round bounds need."""
MOST_PERIODS = 400
"""Periods that are drawn with those between them that have no rows; of more, only those that have some."""
MOMENTS = ("date", "timestamp", "zoned")
NEITHER = ("binary", "json")
"""Kinds of which nothing is told but how many there are."""
_DAYS = {"day": 45, "week": 200, "month": 1_500, "quarter": 4_000}
"""Days that a period serves for; beyond, the next one."""
_NUMBER = r"^-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?$"
_DAY = r"^[0-9]{4}-[0-9]{2}-[0-9]{2}([T ][0-9:.]+(Z|[+-][0-9:]+)?)?$"
_LOOKS = {"integer": r"^-?(0|[1-9][0-9]*)$", "decimal": _NUMBER, "date": r"^[0-9]{4}-[0-9]{2}-[0-9]{2}$", "timestamp": _DAY}
"""Of what texts look like whose kind is not known, the strictest first."""
_KNOWN_NUMBER = r"^-?[0-9]+(\.[0-9]+)?([eE][+-]?[0-9]+)?$"
NO_BOUNDS = "no bars: the values lie too close together or too far apart"
NO_CALENDAR = "no bars: some days are none that a calendar has"
_FAR = Decimal("1e30")
_EXACT = Context(prec=100)


@dataclass(frozen=True, slots=True)
class Bar:
    """Rows whose value is at least ``from_``, and less than ``to``: two numbers, or two days."""

    from_: str
    to: str
    rows: int


@dataclass(frozen=True, slots=True)
class Profile:
    """``distinct``, ``least``, ``greatest``, ``mean`` are None where they mean nothing or were refused; ``commonest``: values
    and their rows; ``bars_by``: number, or the period that each bar is; ``complete``: of all the rows there are."""

    column: str
    kind: str
    rows: int
    absent: int
    distinct: int | None = None
    least: str | None = None
    greatest: str | None = None
    mean: str | None = None
    commonest: tuple[tuple[str, int], ...] = ()
    bars: tuple[Bar, ...] = ()
    bars_by: str = ""
    complete: bool = True
    notes: tuple[str, ...] = ()

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON."""
        bars = [{"from": bar.from_, "to": bar.to, "rows": bar.rows} for bar in self.bars]
        return asdict(self) | {"bars": bars, "commonest": [list(each) for each in self.commonest], "notes": list(self.notes)}


def of_cells(column: str, kind: str, cells: pa.ChunkedArray[Any], complete: bool = True) -> Profile:
    """From canonical texts, null where there is no value. A kind that is not known is that of all the values."""
    values = cells.drop_null()
    made = Profile(column, kind, len(cells), cells.null_count, complete=complete)
    if kind in NEITHER:
        return made
    counted = values.value_counts()
    texts, numbers = counted.field("values"), counted.field("counts")
    kind = _kind_of(kind, texts)
    order = sorted(zip(_list(texts), _list(numbers), strict=True), key=lambda pair: (-pair[1], pair[0]))
    made = replace(made, kind=kind, distinct=len(texts), commonest=tuple(order[:MOST_COMMON]))
    if not order:
        return made
    if kind in NUMERIC:
        return _of_numbers(made, texts, numbers)
    least, greatest = pc.min_max(texts)["min"].as_py(), pc.min_max(texts)["max"].as_py()
    made = replace(made, least=least, greatest=greatest)
    if kind not in MOMENTS or not _all(texts, _DAY):
        return made
    days = (
        pa.table({"day": pc.utf8_slice_codeunits(texts, 0, 10), "rows": numbers}).group_by("day").aggregate([("rows", "sum")])
    )
    try:
        period = period_for(least, greatest)
        found: dict[str, int] = {}
        for day, rows in zip(_list(days["day"]), _list(days["rows_sum"]), strict=True):
            start = start_of(period, date.fromisoformat(day)).isoformat()
            found[start] = found.get(start, 0) + rows
    except ValueError:
        return made  # days before 1583 as some databases count them, or after 9999
    return with_periods(made, period, found)


def _kind_of(kind: str, texts: pa.Array[Any]) -> str:
    if kind in ("integer", "decimal"):
        return kind if _all(texts, _KNOWN_NUMBER) else "text"
    if kind != "any":
        return kind
    found = next((each for each, pattern in _LOOKS.items() if _all(texts, pattern)), "text")
    return found if len(texts) else "any"


def _list(array: pa.Array[Any] | pa.ChunkedArray[Any]) -> list[Any]:
    return array.to_pylist()


def _all(texts: pa.Array[Any], pattern: str) -> bool:
    return bool(pc.all(pc.match_substring_regex(texts, pattern)).as_py())


def _of_numbers(made: Profile, texts: pa.Array[Any], counts: pa.Array[Any]) -> Profile:
    usual = pc.match_substring_regex(texts, _KNOWN_NUMBER)
    odd = _list(texts.filter(pc.invert(usual)))
    numbers = [Decimal(text) for text in _list(texts.filter(usual))]
    rows = _list(counts.filter(usual))
    if not numbers:
        return replace(made, notes=(f"no number among them: {', '.join(sorted(odd)[:3])}",))
    least, greatest = min(numbers), max(numbers)
    total = math.fsum(float(number) * times for number, times in zip(numbers, rows, strict=True))
    mean = None if odd or not math.isfinite(total) else in_short(total / sum(rows))
    made = replace(made, least=format(least, "f"), greatest=format(greatest, "f"), mean=mean)
    if odd:
        return replace(made, notes=(f"{', '.join(sorted(odd)[:3])} among them: no mean, no bars",))
    bounds = bounds_for(made.kind, least, greatest)
    if bounds is None:
        return replace(made, notes=(NO_BOUNDS,))
    found = [0] * (len(bounds) - 1)
    step = bounds[1] - bounds[0]
    for number, times in zip(numbers, rows, strict=True):
        found[int(_EXACT.divide(_EXACT.subtract(number, bounds[0]), step).to_integral_value(ROUND_FLOOR, _EXACT))] += times
    return with_numbers(made, bounds, found)


def in_short(number: float | Decimal) -> str:
    """A mean with as many digits as say something."""
    said = format(Decimal(f"{number:.10g}"), "f")
    return said.rstrip("0").rstrip(".") if "." in said else said


def bounds_for(kind: str, least: Decimal, greatest: Decimal) -> list[Decimal] | None:
    """Round bounds of bars, the first at most the least, the last beyond the greatest. None where no bars can be drawn."""
    whole = kind != "float" and least == int(least) and greatest == int(greatest)
    if max(abs(least), abs(greatest)) >= _FAR:
        return None
    span = _EXACT.subtract(greatest, least)
    size = _EXACT.divide(span, BARS) if span else Decimal(1)
    if size < Decimal("1e-12"):
        return None
    ten = Decimal(1).scaleb(size.adjusted())
    step = next(each * ten for each in (Decimal(1), Decimal(2), Decimal(5), Decimal(10)) if each * ten >= size)
    step = max(step, Decimal(1)) if whole else step
    try:
        first = _EXACT.multiply(_EXACT.divide(least, step).to_integral_value(ROUND_FLOOR, _EXACT), step)
    except InvalidOperation:
        return None
    bounds = [first]
    while bounds[-1] <= greatest:
        bounds.append(_EXACT.add(bounds[-1], step))
    return bounds


def with_numbers(made: Profile, bounds: Sequence[Decimal], rows: Sequence[int]) -> Profile:
    """The profile with a bar between each two bounds."""
    texts = [_plain(bound) for bound in bounds]
    bars = tuple(Bar(a, b, count) for a, b, count in zip(texts[:-1], texts[1:], rows, strict=True))
    return replace(made, bars=bars, bars_by="number")


def _plain(number: Decimal) -> str:
    said = format(number.normalize(_EXACT), "f")
    return "0" if said == "-0" else said


def period_for(least: str, greatest: str, known: Sequence[str] = PERIODS) -> str:
    """By which period a span of days is told. Raises ValueError for what are no days."""
    span = (date.fromisoformat(greatest[:10]) - date.fromisoformat(least[:10])).days
    return next((period for period, days in _DAYS.items() if period in known and span <= days), "year")


def start_of(period: str, day: date) -> date:
    """The first day of the period that a day lies in; weeks begin on Monday."""
    if period == "week":
        return date.fromordinal(max(day.toordinal() - day.weekday(), 1))
    if period == "month":
        return day.replace(day=1)
    if period == "quarter":
        return day.replace(month=(day.month - 1) // 3 * 3 + 1, day=1)
    return day.replace(month=1, day=1) if period == "year" else day


def next_after(period: str, start: date) -> date:
    """The first day of the period after one that starts on that day. Raises ValueError after the last there is."""
    if period in ("day", "week"):
        try:
            return start + timedelta(days=7 if period == "week" else 1)
        except OverflowError:
            raise ValueError(start) from None
    if period == "year":
        return start.replace(year=start.year + 1)
    months = start.month - 1 + (3 if period == "quarter" else 1)
    return start.replace(year=start.year + months // 12, month=months % 12 + 1)


def with_periods(made: Profile, period: str, found: Mapping[str, int]) -> Profile:
    """The profile with a bar for each period; ``found``: rows by the first day of those that have some."""
    try:
        starts, note = _starts(period, sorted(date.fromisoformat(text[:10]) for text in found))
        bars = tuple(Bar(str(start), str(next_after(period, start)), found.get(str(start), 0)) for start in starts)
    except ValueError:
        return replace(made, notes=(*made.notes, NO_CALENDAR))
    return replace(made, bars=bars, bars_by=period, notes=(*made.notes, *note))


def _starts(period: str, known: Sequence[date]) -> tuple[Sequence[date], tuple[str, ...]]:
    if not known:
        return (), ()
    made = [known[0]]
    while made[-1] < known[-1] and len(made) <= MOST_PERIODS:
        made.append(next_after(period, made[-1]))
    if made[-1] == known[-1]:
        return made, ()
    return known[:MOST_PERIODS], (f"only {period}s with rows are drawn: there are too many without between them",)


def with_gaps(rows: Iterable[Sequence[Any]], period: str) -> tuple[list[list[Any]], int]:
    """Rows of a count by period, ascending, with those between that have none, and how many they are. Texts keep their form."""
    given = [list(row) for row in rows]
    try:
        days = {_day_of(str(row[0])): row for row in given if row[0] is not None}
        starts, cut = _starts(period, sorted(days))
    except ValueError:
        return given, 0
    if cut or not days:
        return given, 0
    width = len(str(next(iter(days.values()))[0]))
    none = [row for row in given if row[0] is None]
    made = [days.get(start) or [start.isoformat()[:width], "0"] for start in starts]
    return none + made, len(starts) - len(days)


def _day_of(text: str) -> date:
    """Of *2026*, *2026-11*, *2026-11-24*, or of a moment."""
    found = re.match(r"(\d{4})(?:-(\d\d))?(?:-(\d\d))?", text)
    if not found:
        raise ValueError(text)
    return date(int(found[1]), int(found[2] or 1), int(found[3] or 1))
