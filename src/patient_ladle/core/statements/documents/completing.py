"""What may stand at a position of a command: commands, their fields, stages, operators, collections, fields of documents."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from ..completion import MOST_PROPOSALS, Completion, Proposal
from ..diagnostics import Table
from .commands import COMMANDS
from .operators import STAGES

_QUERY = """$eq $ne $gt $gte $lt $lte $in $nin $exists $type $regex $options $not $all $size $elemMatch $mod"""
_EXPRESSIONS = """$sum $avg $min $max $first $last $push $addToSet $count $stdDevPop $add $subtract $multiply $divide $mod
$round $trunc $abs $concat $substrCP $toUpper $toLower $trim $split $regexMatch $cond $ifNull $switch $eq $ne $gt $gte $lt
$lte $and $or $not $in $size $filter $map $reduce $arrayElemAt $dateToString $dateTrunc $dateDiff $dateAdd $year $month
$dayOfMonth $toString $toInt $toLong $toDouble $toDecimal $toDate $convert $type $literal $mergeObjects $objectToArray"""
QUERY, EXPRESSIONS = _QUERY.split(), _EXPRESSIONS.split()
TOGETHER = ["$and", "$or", "$nor", "$expr"]
FIELDS_OF_STAGES = {
    "$lookup": ["from", "localField", "foreignField", "let", "pipeline", "as"],
    "$unwind": ["path", "preserveNullAndEmptyArrays", "includeArrayIndex"],
    "$unionWith": ["coll", "pipeline"],
    "$graphLookup": ["from", "startWith", "connectFromField", "connectToField", "as", "maxDepth"],
    "$bucket": ["groupBy", "boundaries", "default", "output"],
    "$bucketAuto": ["groupBy", "buckets", "output"],
    "$sample": ["size"],
    "$replaceRoot": ["newRoot"],
}
_PIECE = re.compile(
    r"""//[^\n]*|/\*(?:[^*]|\*(?!/))*(?:\*/|\Z)|(?P<string>"(?:[^"\\\n]|\\.)*(?P<end>"|\\?(?=\n|\Z)))|(?P<sign>[{}\[\],:;])""",
    re.VERBOSE,
)
_READS = re.compile(rf'"(?:{"|".join(COMMANDS)})"\s*:\s*"([^"]*)"')
_TYPED = re.compile(r":?[\w$]*\Z")


@dataclass(slots=True)
class _Open:
    """An object or a list that the position is in. ``key``: of the object, the one whose value is being written."""

    sign: str
    key: str = ""
    wants_value: bool = False
    first: str = ""
    """The first key of it, if there is one."""


@dataclass(frozen=True, slots=True)
class _Place:
    """Where the position is: what is open around it, the text begun there, and whether that stands between quotes."""

    around: list[_Open]
    typed: str
    quoted: bool

    @property
    def is_key(self) -> bool:
        return bool(self.around) and self.around[-1].sign == "{" and not self.around[-1].wants_value

    @property
    def keys(self) -> list[str]:
        """From the command down to what is being written; lists are without."""
        return [each.key for each in self.around if each.sign == "{" and (each.wants_value or each is not self.around[-1])]


def _place_at(text: str) -> _Place | None:
    """Of the end of a text that is a beginning; None within a comment."""
    around: list[_Open] = []
    last = 0
    for found in _PIECE.finditer(text):
        piece = found.group()
        last = found.end()
        if found["string"] is not None:
            if found["end"] != '"' and found.end() == len(text):
                return _Place(around, piece[1:], True)
            if around and around[-1].sign == "{" and not around[-1].wants_value:
                around[-1].key = piece[1:-1]
                around[-1].first = around[-1].first or piece[1:-1]
            continue
        if found["sign"] is None:
            if found.end() == len(text) and not piece.endswith("*/"):
                return None
            continue
        _met(around, piece, text, found.start())
    typed = _TYPED.search(text, last - (text[last - 1 : last] == ":" if last else 0))
    return _Place(around, typed.group() if typed else "", False)


def _met(around: list[_Open], sign: str, text: str, at: int) -> None:
    if sign in "{[":
        around.append(_Open(sign))
    elif sign in "}]":
        if around:
            around.pop()
    elif sign == ";":
        around.clear()
    elif around and around[-1].sign == "{":
        if sign == ",":
            around[-1].wants_value = False
        elif not around[-1].wants_value:
            around[-1].wants_value = True


def completion_at(
    text: str, position: int, tables: Sequence[Table], parameters: Sequence[str], asked: bool
) -> Completion | None:
    """See QueryLanguage.completion."""
    place = _place_at(text[:position])
    if place is None or (not place.typed and not place.quoted and not asked):
        return None
    if not place.quoted and (place.typed.startswith(":") or _value_wanted(place)):
        typed = place.typed if place.typed.startswith(":") else ""
        found = [Proposal(f":{name}", "parameter", boost=1) for name in parameters]
        if typed:
            return Completion(typed, tuple(each for each in found if each.label.startswith(typed)))
        return Completion(place.typed, (*found, *_quoted(_strings(place, text, position, tables), text[position:], True)))
    proposals = _strings(place, text, position, tables)
    return Completion(place.typed, tuple(_quoted(proposals, text[position:], not place.quoted))[:MOST_PROPOSALS])


def _value_wanted(place: _Place) -> bool:
    return bool(place.around) and not place.is_key


def _quoted(proposals: Iterable[Proposal], after: str, whole: bool) -> Iterable[Proposal]:
    """With the quotes that are still to be written. ``whole``: none of them is there yet."""
    for each in proposals:
        name = json.dumps(each.apply or each.label, ensure_ascii=False)
        written = name if whole else name[1:-1] if after.startswith('"') else name[1:]
        yield Proposal(each.label, each.kind, each.detail, each.boost, written)


def _strings(place: _Place, text: str, position: int, tables: Sequence[Table]) -> list[Proposal]:
    keys = place.keys
    if place.is_key:
        return _keys(place, keys, _collection(text, position, tables))
    if not place.around:
        return []
    if keys and ((len(keys) == 1 and keys[0] in COMMANDS) or keys[-1] in ("from", "coll", "$unionWith")):
        return [Proposal(str(table["name"]), "table", str(table.get("kind", "")), 2) for table in tables]
    fields = _fields(_collection(text, position, tables))
    if keys and keys[-1] in ("key", "localField", "foreignField", "connectFromField", "connectToField", "$unset"):
        return fields
    return [Proposal(f"${each.label}", each.kind, each.detail, each.boost) for each in fields]


def _keys(place: _Place, keys: Sequence[str], collection: Table | None) -> list[Proposal]:
    here = place.around[-1]
    if len(place.around) == 1:
        if not here.first:
            return [Proposal(name, "keyword", "reads documents", 2) for name in COMMANDS]
        known = COMMANDS.get(here.first, ())
        return [Proposal(name, "keyword", f"of {here.first}") for name in known if name != here.first]
    if keys and keys[-1] in FIELDS_OF_STAGES:
        return [Proposal(name, "keyword", f"of {keys[-1]}", 2) for name in FIELDS_OF_STAGES[keys[-1]]]
    within = place.around[-2]
    if keys and within.sign == "[" and (keys[-1] == "pipeline" or keys[-2:-1] == ["$facet"]):
        return [Proposal(name, "keyword", "stage", 1) for name in sorted(STAGES)]
    fields = _fields(collection)
    filters = [n for n, key in enumerate(keys) if key in ("filter", "query", "$match")]
    if filters:
        inner = [key for key in keys[filters[-1] + 1 :] if key not in TOGETHER]
        operators = QUERY if inner else TOGETHER
        return [*([] if inner else fields), *(Proposal(name, "keyword", "operator") for name in operators)]
    operators = [] if keys[-1:] == ["sort"] or "$sort" in keys else EXPRESSIONS
    return [*fields, *(Proposal(name, "keyword", "expression") for name in operators)]


def _collection(text: str, position: int, tables: Sequence[Table]) -> Table | None:
    """The one that the command around the position reads."""
    named = [(found.start(), found.group(1)) for found in _READS.finditer(text)]
    before = [name for start, name in named if start < position] or [name for _, name in named[:1]]
    return next((table for table in tables if before and table["name"] == before[-1]), None)


def _fields(collection: Table | None) -> list[Proposal]:
    return [Proposal(str(c["name"]), "column", str(c["type"]), 3) for c in (collection or {}).get("columns", ())]
