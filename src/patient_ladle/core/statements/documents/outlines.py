"""Outlines for document stores: a pipeline of stages, in the order of the outline.

What is joined lies in the document under its short name. As in SQL, what has no value passes no comparison, so negations are
carried inwards, and nothing is joined by a field that is not there.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from ...errors import BadInput, StatementRefused
from ...values.parameters import Parameter, Value
from ..outlines.base import Compiled, Counting, Outlines, Remark, Table, Words
from ..outlines.checking import OPERATORS, remarks_on
from ..outlines.compiling import marked, name_of, unmarked
from ..outlines.expressions import Expression
from ..outlines.forms import Forms
from ..outlines.outline import Condition, Given, Join, Operand, Outline, Shown, Sorted, Term, refused
from ..outlines.tables import Tables
from ..outlines.values import Parameters, constant, day_after, is_phrase, period
from .reading import reading

_FORMS = {"day": "%Y-%m-%d", "month": "%Y-%m-01", "year": "%Y-01-01"}
_SUMS = {"sum": "$sum", "mean": "$avg", "min": "$min", "max": "$max"}
_COMPARED = {"is": "$eq", "is_not": "$ne", "less": "$lt", "at_most": "$lte", "more": "$gt", "at_least": "$gte"}
_NEGATED = {"is": "is_not", "is_not": "is", "less": "at_least", "at_least": "less", "more": "at_most", "at_most": "more",
            "in_list": "not_in_list", "not_in_list": "in_list", "is_null": "is_not_null", "is_not_null": "is_null"}  # fmt: skip
_PLAIN = Forms(parser="")


@dataclass(frozen=True, slots=True)
class Raw:
    """Text that stands in a command as it is: a parameter, an expression of the author's."""

    text: str


def _told(value: Any) -> str:
    """JSON on one line, with raw text in it."""
    if isinstance(value, Raw):
        return value.text
    if isinstance(value, Mapping):
        return "{" + ", ".join(f"{json.dumps(key, ensure_ascii=False)}: {_told(each)}" for key, each in value.items()) + "}"
    if isinstance(value, list):
        return "[" + ", ".join(map(_told, value)) + "]"
    return json.dumps(value, ensure_ascii=False)


def _or_null(value: Any) -> Any:
    """To a group, what is not there and what is null are two things; to a reader they are one."""
    return {"$ifNull": [value, None]}


class DocumentOutlines(Outlines):
    """See Outlines. ``extended``: writes a value as extended JSON."""

    comment = "// "
    words = Words(
        {kind: [test for test in tests if test != "matches"] for kind, tests in OPERATORS.items()},
        ("count", "count_distinct", "sum", "mean", "min", "max"), tuple(_FORMS), ("inner", "left"),
    )  # fmt: skip

    def __init__(self, extended: Callable[[Value], Any]) -> None:
        self.extended = extended

    def remarks(self, outline: Outline, catalogue: Sequence[Table] | None, declared: Sequence[Parameter]) -> list[Remark]:
        tables = Tables(outline, catalogue)
        return remarks_on(outline, tables, Pipeline(outline, tables, self.extended, declared))

    def compiled(self, outline: Outline, catalogue: Sequence[Table] | None, declared: Sequence[Parameter]) -> Compiled:
        tables = Tables(outline, catalogue)
        tables.refuse_missing()
        return Pipeline(outline, tables, self.extended, declared).compiled()

    def counting(self, outline: Outline, catalogue: Sequence[Table] | None, declared: Sequence[Parameter]) -> Counting:
        raise BadInput("rows cannot be counted step by step in a document store.", "Look at the preview's total instead.")

    def band_of(self, column: str, bounds: Sequence[Decimal]) -> str:
        plain = [int(bound) if bound == int(bound) else float(bound) for bound in bounds]  # as documents have most numbers
        ways = [{"case": {"$lt": [f"${column}", bound]}, "then": at} for at, bound in enumerate(plain)]
        last = {"case": {"$gte": [f"${column}", None]}, "then": len(bounds)}
        return json.dumps({"$switch": {"branches": [*ways, last], "default": len(bounds)}}, ensure_ascii=False)

    def read(self, text: str, catalogue: Sequence[Table] | None, declared: Sequence[Parameter]) -> Outline:
        raise BadInput("a command of a document store cannot be read back into an outline.", "Go on in the text.")


class Pipeline:
    """Writes one outline as a command. Raises BadInput, with the part at fault, for what cannot be written."""

    joins: Sequence[str] = ("inner", "left")
    has_patterns = False
    typed_columns = True

    def __init__(
        self, outline: Outline, tables: Tables, extended: Callable[[Value], Any], declared: Sequence[Parameter]
    ) -> None:
        self.outline, self.tables, self.extended = outline, tables, extended
        self.parameters = Parameters(declared)

    def read(self, term: Term, where: str) -> Expression:
        """Its expression, whose fields are not looked at. Raises BadInput."""
        text = self.expression(term.expression, where)
        return Expression(text, (), (), aggregates=False, atomic=True, either=False)

    def compiled(self) -> Compiled:
        """The whole command."""
        name = self.tables.name(self.outline.from_)[-1]
        stages = [marked(where, _told(stage)) for where, stage in self._stages()]
        head = f'{{"aggregate": {_told(Raw(marked("from", json.dumps(name, ensure_ascii=False))))},\n "pipeline": ['
        text, places = unmarked(head + (",\n              ").join(stages) + "]}")
        return Compiled(text, tuple(self.parameters.brought.values()), places)

    def _stages(self) -> Iterator[tuple[str, Any]]:
        outline = self.outline
        for number, join in enumerate(outline.with_):
            for stage in self._join(join, f"with[{number}]"):
                yield f"with[{number}]", stage
        if outline.where is not None:
            yield "where", {"$match": self._matching(outline.where, "where", False)}
        if outline.grouped or any(each.aggregate for each in outline.show):
            yield from self._groups()
        else:
            yield from self._shown()
        if outline.sorted:
            ways = enumerate(outline.sorted)
            yield "sorted", {"$sort": {self._by(each, f"sorted[{n}]"): -1 if each.descending else 1 for n, each in ways}}
        if outline.first is not None:
            yield "first", {"$limit": outline.first}

    def _join(self, join: Join, where: str) -> Iterator[Any]:
        if join.join not in ("inner", "left"):
            raise refused(where, f"a document store has no {join.join} join", "Join the other way round, or in two statements.")
        if len(join.on) != 1 or join.on[0].is_ != "=":
            raise refused(where, "documents are joined by one pair of fields that are the same", "Give one pair.")
        pair, name = join.on[0], self.tables.name(join)[-1]
        local, foreign = self.path(pair.left, where), self.tables.column(pair.right, where).name
        if join.join == "inner":
            yield {"$match": {local: {"$ne": None}}}
        yield {"$lookup": {"from": name, "localField": local, "foreignField": foreign, "as": join.alias}}
        if join.join == "inner":
            yield {"$unwind": f"${join.alias}"}
        else:
            kept = {"$cond": [{"$gt": [f"${local}", None]}, f"${join.alias}", []]}
            yield {"$addFields": {join.alias: kept}}
            yield {"$unwind": {"path": f"${join.alias}", "preserveNullAndEmptyArrays": True}}

    def path(self, reference: str, where: str) -> str:
        """Where a field lies in the document."""
        found = self.tables.column(reference, where)
        return found.name if found.alias == self.outline.from_.alias else f"{found.alias}.{found.name}"

    def value(self, term: Term, where: str) -> Any:
        """A term as an expression, without its aggregate."""
        made: Any = Raw(self.expression(term.expression, where)) if term.expression else f"${self.path(term.column, where)}"
        if not term.bucket:
            return made
        if term.bucket not in _FORMS:
            raise refused(where, f"a document store has no {term.bucket}", f"Take {', '.join(_FORMS)}.")
        return {"$dateToString": {"date": made, "format": _FORMS[term.bucket]}}

    def expression(self, text: str, where: str) -> str:
        """An expression of the author's: one value of JSON. Raises BadInput."""
        try:
            found = reading(f'{{"find": "x", "filter": {text}}}')
            if len(found) != 1 or len(list(found[0].node.pairs())) != 2:
                raise StatementRefused("it goes on behind its end.", "")
        except StatementRefused as error:
            raise refused(where, f"'{text.strip()[:60]}' is no expression: {error.message.removesuffix('.')}",
                          'Write JSON such as {"$multiply": ["$litres", 1000]}.') from None  # fmt: skip
        return text.strip()

    def _shown(self) -> Iterator[tuple[str, Any]]:
        outline = self.outline
        if not outline.show:
            return
        fields = {
            name_of(each, self.tables, f"show[{n}]"): self._field(each, f"show[{n}]") for n, each in enumerate(outline.show)
        }
        if outline.distinct:
            yield "show", {"$group": {"_id": {name: _or_null(value) for name, value in fields.items()}}}
            fields = {name: f"$_id.{name}" for name in fields}
        yield "show", {"$project": self._project(fields)}

    def _project(self, fields: dict[str, Any]) -> dict[str, Any]:
        for name in fields:
            if "." in name or name.startswith("$"):
                raise refused("show", f"'{name}' cannot be the name of a field", 'Give it one without a dot: "name": "town".')
        return {**({} if "_id" in fields else {"_id": 0}), **fields}

    def _field(self, shown: Shown, where: str) -> Any:
        made = self.value(shown, where)
        return Raw(marked(where, _told(made)))

    def _groups(self) -> Iterator[tuple[str, Any]]:
        outline = self.outline
        keys = {f"k{n}": _or_null(self.value(each, f"grouped[{n}]")) for n, each in enumerate(outline.grouped)}
        group: dict[str, Any] = {"_id": keys or None}
        project: dict[str, Any] = {}
        for number, shown in enumerate(outline.show):
            where = f"show[{number}]"
            name = name_of(shown, self.tables, where)
            if shown.aggregate:
                group[f"v{number}"] = self._sum(shown, where)
                project[name] = self._after(shown, f"v{number}")
                continue
            at = next((n for n, key in enumerate(outline.grouped) if self._same(key, shown, where)), None)
            if at is None:
                raise refused(where, "has many values in a group", "Group by it too.")
            project[name] = f"$_id.k{at}"
        having = self._one_of_groups()
        if having is not None:
            group["h"] = self._sum(having, "having")
        yield "grouped", {"$group": group}
        if having is not None:
            value = self._operand(having.value, having, self.tables.kind(having, "having"), "having")
            compared = {"$nin": [value, None]} if having.test == "is_not" else {_COMPARED[having.test]: value}
            if having.aggregate == "count_distinct":
                yield "having", {"$match": {"$expr": {_COMPARED[having.test]: [self._after(having, "h"), value]}}}
            else:
                yield "having", {"$match": {"h": compared}}
        yield "show", {"$project": self._project(project)}

    def _one_of_groups(self) -> Condition | None:
        """The one condition on groups that there may be; a form has it within a group."""
        having = self.outline.having
        while having is not None and having.group is not None and having.group[0] != "none" and len(having.group[1]) == 1:
            [having] = having.group[1]
        if having is not None and (having.group is not None or not having.aggregate or having.test not in _COMPARED):
            raise refused("having", "groups of documents take one comparison of an aggregate", "Leave the others out.")
        return having

    def _same(self, key: Term, shown: Term, where: str) -> bool:
        return _told(self.value(key, where)) == _told(self.value(shown, where))

    def _sum(self, term: Term, where: str) -> Any:
        if term.aggregate == "count" and not term.column and not term.expression:
            return {"$sum": 1}
        made = self.value(term, where)
        if term.aggregate == "count":
            return {"$sum": {"$cond": [{"$gt": [made, None]}, 1, 0]}}
        if term.aggregate == "count_distinct":
            return {"$addToSet": made}
        if term.aggregate not in _SUMS:
            raise refused(
                where,
                f"'{term.aggregate}' cannot be told by a document store",
                f"It has count, count_distinct, {', '.join(_SUMS)}.",
            )
        return {_SUMS[term.aggregate]: made}

    def _after(self, term: Term, name: str) -> Any:
        if term.aggregate == "count_distinct":
            there = {"input": f"${name}", "as": "each", "cond": {"$ne": ["$$each", None]}}
            return {"$size": {"$filter": there}}
        return f"${name}"

    def _by(self, each: Sorted, where: str) -> str:
        by = each.by
        if each.nulls not in ("", "last" if each.descending else "first"):
            what = "documents without a value are the least in a document store"
            raise refused(where, what, "Leave nulls out: they come first, or last when descending.")
        names = [name_of(each, self.tables, f"show[{n}]") for n, each in enumerate(self.outline.show)]
        if by in names or not names:
            return by if names else self.path(by, where)
        raise refused(where, f"'{by}' is not shown", "Sort by what is shown.")

    def _matching(self, condition: Condition, where: str, negated: bool) -> Any:
        if condition.group is None:
            return self._test(condition, where, negated)
        word, members = condition.group
        inner = negated != (word == "none")
        every = (word == "all") != inner if word == "all" else inner
        parts = [self._matching(each, f"{where}.{word}[{n}]", inner) for n, each in enumerate(members)]
        return parts[0] if len(parts) == 1 else {"$and" if every else "$or": parts}

    def _test(self, condition: Condition, where: str, negated: bool) -> Any:
        if condition.test == "holds":
            return {"$expr": {"$not": [Raw(self.expression(condition.expression, where))]} if negated
                    else Raw(self.expression(condition.expression, where))}  # fmt: skip
        if condition.expression or condition.bucket:
            raise refused(where, "documents are tested by their fields", "Name a field, or write a condition that holds.")
        path, kind = self.path(condition.column, where), self.tables.kind(condition, where)
        test = condition.test
        if test == "in_period":
            return self._in_period(condition, path, kind, where, negated)
        if test == "between":
            low, high = (self._operand(each, condition, kind, where) for each in condition.values)
            return {"$or": [{path: {"$lt": low}}, {path: {"$gt": high}}]} if negated else {path: {"$gte": low, "$lte": high}}
        if test in ("contains", "begins_with"):
            return self._search(condition, path, where, negated)
        test = _NEGATED[test] if negated else test  # type: ignore[assignment]  # one of them
        if test in ("is_null", "is_not_null"):
            return {path: None if test == "is_null" else {"$ne": None}}
        if test in ("in_list", "not_in_list"):
            return {path: self._in_list(condition, kind, where, test == "not_in_list")}
        value = condition.value
        if isinstance(value, Given) and value.column:
            other = f"${self.path(value.column, where)}"
            both = [{"$gt": [f"${path}", None]}, {"$gt": [other, None]}]
            return {"$expr": {"$and": [*both, {_COMPARED[test]: [f"${path}", other]}]}}
        said = self._operand(value, condition, kind, where)
        if test == "is_not":
            return {path: {"$nin": [said, None]}}
        return {path: said if test == "is" else {_COMPARED[test]: said}}

    def _in_list(self, condition: Condition, kind: str, where: str, no: bool) -> Any:
        if isinstance(condition.value, Given):
            name = self.parameters.named(condition.value.parameter, kind, "list", where).name
            return {"$nin": Raw(f":{name}"), "$ne": None} if no else {"$in": Raw(f":{name}")}
        values = [self._operand(each, condition, kind, where) for each in condition.values]
        return {"$nin": [*values, None]} if no else {"$in": values}

    def _search(self, condition: Condition, path: str, where: str, negated: bool) -> Any:
        if isinstance(condition.value, Given):
            raise refused(where, f"a document store is asked '{condition.test}' with a text", "Give the text itself.")
        text = str(constant(condition.value, "text", where, _PLAIN))  # type: ignore[arg-type]  # there is one
        made = {"$regex": ("^" if condition.test == "begins_with" else "") + re.escape(text), "$options": "i"}
        return {"$and": [{path: {"$ne": None}}, {"$nor": [{path: made}]}]} if negated else {path: made}

    def _in_period(self, condition: Condition, path: str, kind: str, where: str, negated: bool) -> Any:
        value = condition.value
        if isinstance(value, Given):
            name = self.parameters.named(value.parameter, kind, "period", where).name
        elif condition.values:
            raise refused(where, "a document store takes a period in words", 'Such as "value": "2026-01-01 to 2026-03-31".')
        else:
            days = period(str(value), where)
            if days is not None:
                first, after = self.extended(days[0]), self.extended(day_after(days[1]))
                return (
                    {"$or": [{path: {"$lt": first}}, {path: {"$gte": after}}]}
                    if negated
                    else {path: {"$gte": first, "$lt": after}}
                )
            name = self.parameters.bring("period", str(value), condition.column).name
        day = {"$dateToString": {"date": f"${path}", "format": _FORMS["day"]}}
        last = {"$dateToString": {"date": Raw(f":{name}_to"), "format": _FORMS["day"]}}
        begun = {path: {"$gte": Raw(f":{name}_from")}}
        if negated:
            later = {"$and": [begun, {"$expr": {"$gt": [day, last]}}]}
            return {"$or": [{path: {"$lt": Raw(f":{name}_from")}}, later]}
        return {"$and": [begun, {"$expr": {"$lte": [day, last]}}]}

    def _operand(self, value: Operand | None, condition: Condition, kind: str, where: str) -> Any:
        assert value is not None
        if isinstance(value, Given):
            if value.column:
                raise refused(
                    where, "another field can be compared with by is, is_not, less, more and so on only", "Give a value."
                )
            return Raw(f":{self.parameters.named(value.parameter, kind, 'one', where).name}")
        if is_phrase(value, kind):
            return Raw(f":{self.parameters.bring('timestamp', str(value), condition.column).name}")
        found = constant(value, kind, where, _PLAIN)
        if isinstance(found, Decimal) and kind != "decimal":  # a double is never the same as a decimal that looks like it
            return int(found) if found == int(found) else float(found)
        return self.extended(found)
