"""From an outline to the statement of a SQL, laid out as a careful author would write it.

While it is put together, each piece of text is marked with the part of the outline that it comes from; ``Compiled.places`` are
these marks, so that what a database says of a line and column is shown at the field that caused it.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from ...values.parameters import Parameter
from ..dialects import Dialect
from .base import At, Compiled
from .expressions import Expression, expression
from .forms import EVERYWHERE, Forms
from .outline import Condition, Given, Join, Operand, Outline, Place, Shown, Sorted, Term, refused
from .parsing import Parser
from .tables import Tables
from .values import Parameters, constant, day_after, is_phrase, period

WIDTH = 100
"""Beyond which a list is written one to a line."""
_BEGIN, _MIDDLE, _END = "\x01", "\x02", "\x03"
_MARK = re.compile(f"{_BEGIN}(?P<path>[^{_MIDDLE}]*){_MIDDLE}|{_END}")
_SIGNS = {"is": "=", "is_not": "<>", "less": "<", "at_most": "<=", "more": ">", "at_least": ">="}
_JOINS = {"inner": "join", "left": "left join", "right": "right join", "full": "full join"}


def unmarked(text: str) -> tuple[str, tuple[At, ...]]:
    """The text without its marks, and where they were."""
    out: list[str] = []
    found: list[At] = []
    opened: list[tuple[str, int]] = []
    last = at = 0
    for mark in _MARK.finditer(text):
        piece = text[last : mark.start()]
        out.append(piece)
        at, last = at + len(piece), mark.end()
        if mark.group() == _END:
            path, start = opened.pop()
            found.append(At(path, start, at))
        else:
            opened.append((mark["path"], at))
    return "".join([*out, text[last:]]), tuple(found)


def marked(path: str, text: str) -> str:
    """The text, marked as that part's."""
    return f"{_BEGIN}{path}{_MIDDLE}{text}{_END}"


def _length(text: str) -> int:
    return len(_MARK.sub("", text))


class Writer:
    """Writes one outline in one SQL. Raises BadInput, with the part at fault, for what cannot be written."""

    def __init__(self, outline: Outline, tables: Tables, dialect: Dialect, forms: Forms, declared: Sequence[Parameter]) -> None:
        self.outline, self.tables, self.dialect, self.forms = outline, tables, dialect, forms
        self.parser = Parser(dialect, forms)
        self.joins: Sequence[str] = forms.joins
        self.has_patterns, self.typed_columns = bool(forms.matches), dialect.typed_columns
        self.parameters = Parameters(declared)
        said = " ".join(term.expression for _, term in outline.terms())
        alone = outline.from_.said_as and re.search(rf"\b{re.escape(outline.from_.said_as)}\s*\.", said)
        self.short_names = not tables.one or bool(alone)

    def of(self, outline: Outline) -> Writer:
        """One that writes another outline of the same tables, or fewer."""
        tables = Tables(outline, self.tables.catalogue)
        return Writer(outline, tables, self.dialect, self.forms, self.parameters.declared)

    def compiled(self) -> Compiled:
        """The whole statement."""
        text, places = unmarked("\n".join(self._clauses()))
        return Compiled(text, tuple(self.parameters.brought.values()), places)

    def _clauses(self) -> list[str]:
        outline = self.outline
        made = [self._select(), f"from {marked('from', self._place(outline.from_))}"]
        made += [marked(f"with[{number}]", self._join(number, join)) for number, join in enumerate(outline.with_)]
        made += self._conditions("where")
        if outline.grouped:
            terms = [self.term(term, f"grouped[{number}]") for number, term in enumerate(outline.grouped)]
            made.append("group by " + _listed(terms, "group by "))
        made += self._conditions("having")
        if outline.sorted:
            ways = [self._sorted(each, f"sorted[{number}]") for number, each in enumerate(outline.sorted)]
            made.append("order by " + _listed(ways, "order by "))
        if outline.first is not None:
            made.append(marked("first", f"limit {outline.first}"))
        return made

    def _select(self) -> str:
        head = "select distinct " if self.outline.distinct else "select "
        shown = [self._shown(each, f"show[{number}]") for number, each in enumerate(self.outline.show)] or self._everything()
        return head + _listed(shown, head)

    def _everything(self) -> list[str]:
        columns = self.tables.all_columns()
        if not columns or any(table is None for table in self.tables.tables.values()):
            return ["*"]
        taken: set[str] = set()
        made = []
        for each in columns:
            said = self._column(each.alias, each.name)
            name = each.name if each.name.lower() not in taken else f"{each.alias}_{each.name}"
            taken.add(name.lower())
            made.append(said if name == each.name else f"{said} as {self.dialect.identifier(name)}")
        return made

    def _shown(self, shown: Shown, where: str) -> str:
        said, name = self.term(shown, where), name_of(shown, self.tables, where)
        plain = shown.column and not shown.bucket and not shown.aggregate
        if plain and self.tables.column(shown.column, where).name == name:
            return said
        return said + marked(where, f" as {self.dialect.identifier(name)}")

    def _place(self, place: Place) -> str:
        name = ".".join(self.dialect.identifier(part) for part in self.tables.name(place))
        return f"{name} {self.dialect.identifier(place.said_as)}" if place.said_as and self.short_names else name

    def _join(self, number: int, join: Join) -> str:
        head = f"{_JOINS[join.join]} {self._place(join)}"
        if not join.on:
            return f"cross join {self._place(join)}" if join.join == "inner" else f"{head} on true"
        pairs = [
            marked(
                f"with[{number}].on[{at}]", f"{self.column(pair.right, '')} {_TURNED[pair.is_]} {self.column(pair.left, '')}"
            )
            for at, pair in enumerate(join.on)
        ]
        return f"{head} on {' and '.join(pairs)}"

    def _column(self, alias: str, name: str) -> str:
        said = self.dialect.identifier(name)
        return f"{self.dialect.identifier(alias)}.{said}" if self.short_names else said

    def column(self, reference: str, where: str) -> str:
        """A column as it is written."""
        found = self.tables.column(reference, where)
        return self._column(found.alias, found.name)

    def read(self, term: Term, where: str) -> Expression:
        """Its expression. Raises BadInput."""
        return expression(term.expression, self.parser, where)

    def term(self, term: Term, where: str, beside: bool = False) -> str:
        """A term as it is written; ``beside`` an operator, in parentheses where it needs them."""
        if term.column:
            said = self.column(term.column, where)
        elif term.expression:
            read = self.read(term, where)
            said = read.text if read.atomic or not (beside or term.bucket) or term.aggregate else f"({read.text})"
        else:
            said = "*"
        if term.bucket:
            said = self.dialect.periods[term.bucket].format(column=said)
        if term.aggregate:
            said = self._aggregate(term, said, where)
        return marked(where, said)

    def _aggregate(self, term: Term, said: str, where: str) -> str:
        form = EVERYWHERE.get(term.aggregate) or self.forms.aggregates.get(term.aggregate)
        if form is None:
            known = ", ".join([*EVERYWHERE, *self.forms.aggregates])
            raise refused(where, f"'{term.aggregate}' cannot be told in this SQL", f"It has {known}.")
        by = self.column(term.by, where) if term.by else ""
        type_ = ""
        if "{type}" in form:
            known_column = self.tables.column(term.column, where).known if term.column else None
            type_ = cast_type(known_column)
            if not type_:
                raise refused(where, f"'{term.aggregate}' needs a column whose type is known", "Name a column of a table.")
        return form.format(e=said, by=by, type=type_)

    def _conditions(self, name: str) -> list[str]:
        condition: Condition | None = getattr(self.outline, name)
        if condition is None:
            return []
        top = condition.group
        members = (
            [(f"{name}.all[{at}]", each) for at, each in enumerate(top[1])] if top and top[0] == "all" else [(name, condition)]
        )
        each_said = [self._tests(each, path) for path, each in members]
        parts = [part for parts in each_said for part in parts]
        return [f"{name} " + "\n  and ".join(parts)]

    def _tests(self, condition: Condition, where: str) -> list[str]:
        """What holds together, without parentheses around all."""
        if condition.group is None:
            return [marked(where, part) for part in self._test(condition, where)]
        word, members = condition.group
        if word == "all":
            return [part for at, each in enumerate(members) for part in self._tests(each, f"{where}.all[{at}]")]
        sets = [self._tests(each, path) for path, each in _ways(condition, where)]
        ways = [parts[0] if len(parts) == 1 else f"({' and '.join(parts)})" for parts in sets]
        if len(ways) == 1 and word == "any":
            return sets[0]
        inner = " or ".join(ways)
        if _length(inner) > WIDTH:
            inner = "\n       or ".join(ways)
        return [f"not ({inner})" if word == "none" else f"({inner})"]

    def _test(self, condition: Condition, where: str) -> list[str]:
        test = condition.test
        if test == "holds":
            read = self.read(condition, where)
            return [read.text if read.atomic or not read.either else f"({read.text})"]
        said = self.term(condition, where, beside=True)
        kind = self.tables.kind(condition, where)
        if test in ("is_null", "is_not_null"):
            return [f"{said} is {'not ' * (test == 'is_not_null')}null"]
        if test == "in_period":
            return self._in_period(condition, said, kind, where)
        if test in ("in_list", "not_in_list"):
            return [self._in_list(condition, said, kind, where)]
        if test == "between":
            low, high = (self._operand(each, condition, kind, where) for each in condition.values)
            return [f"{said} between {low} and {high}"]
        assert condition.value is not None
        if test in ("contains", "begins_with"):
            return [self._text_test(condition, self._as_text(condition, said, where), where)]
        value = self._operand(condition.value, condition, kind, where)
        if test == "matches":
            return [self.forms.matches.format(e=self._as_text(condition, said, where), v=value)]
        if isinstance(condition.value, Given) and condition.value.parameter:
            said = self._as_text(condition, said, where)
        return [f"{said} {_SIGNS[test]} {value}"]

    def _as_text(self, term: Term, said: str, where: str) -> str:
        """A text for operators that take nothing else: some types are shown as texts and are none."""
        known = self.tables.column(term.column, where).known if term.column and not term.bucket else None
        if not self.forms.as_text or known is None or known["kind"] != "text" or re.match(_TEXTS, known["type"].lower()):
            return said
        return self.forms.as_text.format(e=said)

    def _text_test(self, condition: Condition, said: str, where: str) -> str:
        value, begins = condition.value, condition.test == "begins_with"
        if isinstance(value, Given):
            place = self.forms.position.format(e=f"lower({said})", v=f"lower({self._operand(value, condition, 'text', where)})")
            return f"{place} {'= 1' if begins else '> 0'}"
        pattern, escapes = like(str(constant(value, "text", where, self.forms)).lower(), begins)  # type: ignore[arg-type]  # there is one
        return f"lower({said}) like {self.forms.string(pattern)}{ESCAPE if escapes else ''}"

    def _in_list(self, condition: Condition, said: str, kind: str, where: str) -> str:
        no = condition.test == "not_in_list"
        if isinstance(condition.value, Given):
            name = self.parameters.named(condition.value.parameter, kind, "list", where).name
            form = self.forms.not_in_list if no else self.forms.in_list
            return form.format(e=self._as_text(condition, said, where), v=f":{name}")
        values = ", ".join(self._operand(each, condition, kind, where) for each in condition.values)
        return f"{said} {'not ' * no}in ({values})"

    def _in_period(self, condition: Condition, said: str, kind: str, where: str) -> list[str]:
        value = condition.value
        if isinstance(value, Given):
            name = self.parameters.named(value.parameter, kind, "period", where).name
        elif condition.values:
            first, last = (self._operand(each, condition, "date", where) for each in condition.values)
            return self._between_days(said, kind, first, last, self.forms.day_after.format(v=last))
        else:
            days = period(str(value), where)
            if days is not None:
                first, last, after = map(self.forms.constant, (*days, day_after(days[1])))
                return self._between_days(said, kind, first, last, after)
            name = self.parameters.bring("period", str(value), condition.column).name
        after = self.forms.day_after.format(v=f":{name}_to")
        return self._between_days(said, kind, f":{name}_from", f":{name}_to", after)

    def _between_days(self, said: str, kind: str, first: str, last: str, after: str) -> list[str]:
        if kind == "date":
            return [f"{said} between {first} and {last}"]
        return [f"{said} >= {first}", f"{said} < {after}"]

    def _operand(self, value: Operand, condition: Condition, kind: str, where: str) -> str:
        if isinstance(value, Given):
            if value.column:
                return self.column(value.column, where)
            return f":{self.parameters.named(value.parameter, kind, 'one', where).name}"
        if is_phrase(value, kind):
            type_ = "date" if kind == "date" else "timestamp"
            return f":{self.parameters.bring(type_, str(value), condition.column).name}"
        return self.forms.constant(constant(value, kind, where, self.forms))

    def _sorted(self, each: Sorted, where: str) -> str:
        names = {name_of(shown, self.tables, f"show[{at}]"): shown for at, shown in enumerate(self.outline.show)}
        said = self.dialect.identifier(each.by) if each.by in names else self.column(each.by, where)
        way = " desc" if each.descending else ""
        usual = each.nulls in ("", self.forms.nulls_are[each.descending])
        return marked(where, said + way if usual else self.forms.nulls[each.nulls].format(e=said, way=way))


def _ways(condition: Condition, where: str) -> Iterator[tuple[str, Condition]]:
    """The members of an *any* or a *none*; those of an *any* among them are as good as its own."""
    assert condition.group is not None
    word, members = condition.group
    for at, each in enumerate(members):
        path = f"{where}.{word}[{at}]"
        yield from _ways(each, path) if each.group and each.group[0] == "any" else [(path, each)]


_TURNED = {"=": "=", "<>": "<>", "<": ">", "<=": ">=", ">": "<", ">=": "<="}
_TEXTS = r"(text|char|character|varchar|bpchar|name|citext|string|longtext|mediumtext|tinytext)\b"


ESCAPE = " escape '!'"


def like(text: str, begins: bool) -> tuple[str, bool]:
    """The pattern that finds a text, and whether it escapes what would mean something in one."""
    escaped = re.sub("[%_!]", lambda found: "!" + found.group(), text)
    return f"{'' if begins else '%'}{escaped}%", escaped != text or "\\" in text


def name_of(shown: Shown, tables: Tables, where: str) -> str:
    """The name of a shown column in the result. Raises BadInput for an expression without one."""
    if shown.name:
        return shown.name
    if shown.aggregate == "count" and not shown.column and not shown.expression:
        return "row_count"
    if not shown.column:
        raise refused(where, "an expression needs a name", 'Give it one: "name": "cost".')
    column = tables.column(shown.column, where).name.rpartition(".")[2]
    if shown.aggregate:
        return f"{shown.aggregate}_{shown.bucket or column}"
    return shown.bucket or column


def _listed(parts: Sequence[str], head: str) -> str:
    """On one line where it fits, else one below the other."""
    width = len(head) + sum(_length(part) + 2 for part in parts)
    return ", ".join(parts) if width <= WIDTH else (",\n" + " " * len(head)).join(parts)


def cast_type(known: Mapping[str, Any] | None) -> str:
    """The type to which MariaDB casts a text of a column's value; empty where it is not known."""
    if known is None:
        return ""
    made: Mapping[str, Callable[[str], str]] = {
        "integer": lambda type_: "unsigned" if "unsigned" in type_ else "signed",
        "decimal": lambda type_: re.sub(r" unsigned| zerofill", "", type_),
        "float": lambda _: "double", "date": lambda _: "date", "text": lambda _: "char", "boolean": lambda _: "signed",
        "timestamp": lambda _: "datetime(6)", "zoned": lambda _: "datetime(6)",
    }  # fmt: skip
    return made[known["kind"]](known["type"].lower()) if known["kind"] in made else ""
