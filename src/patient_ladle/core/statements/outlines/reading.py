"""A plain ``select`` by hand, read back into an outline: one level, joins, conditions, groups, order.

What an outline has no word for is refused, with what it is; so is a comment, which would be lost. A general parser of SQL takes
the text apart; the dialect's own forms (buckets, aggregates, periods) are known again by writing them and comparing.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any, NoReturn

import msgspec

from patient_ladle.lazily import lazily

from ...errors import BadInput
from ...values.parameters import Parameter
from ..dialects import Dialect
from ..lexing import scan
from ..parts import place
from .base import Table
from .compiling import ESCAPE, cast_type, like
from .expressions import reference
from .forms import EVERYWHERE, Forms
from .outline import BUCKETS, Condition, Given, Join, Operand, Outline, Pair, Place, Shown, Sorted, Term
from .parsing import Parser, Unread, bare
from .tables import Named, Tables
from .values import constant

if TYPE_CHECKING:
    import sqlglot
    from sqlglot import exp
else:
    sqlglot, exp = lazily("sqlglot"), lazily("sqlglot.expressions")

_SIGNS = {"EQ": "is", "NEQ": "is_not", "LT": "less", "LTE": "at_most", "GT": "more", "GTE": "at_least"}
"""By the name of a comparison's class."""
_TURNED = {"is": "is", "is_not": "is_not", "less": "more", "at_most": "at_least", "more": "less", "at_least": "at_most"}
_OPERATORS = {"is": "=", "is_not": "<>", "less": "<", "at_most": "<=", "more": ">", "at_least": ">="}
_KNOWN = {"expressions", "from", "from_", "joins", "where", "group", "having", "order", "limit", "distinct", "kind"}
_NO_WORDS = {
    "with": "a with clause", "with_": "a with clause", "qualify": "qualify", "offset": "an offset",
    "laterals": "a lateral join",
    "windows": "a named window", "pivots": "a pivot", "locks": "a lock", "sample": "a sample", "hint": "a hint",
}  # fmt: skip


def outline_of(
    text: str, dialect: Dialect, forms: Forms, catalogue: Sequence[Table] | None, declared: Sequence[Parameter]
) -> Outline:
    """Raises BadInput that says what an outline has no word for."""
    for token in scan(text, dialect):
        if token.kind == "comment" and text[token.start : token.end].strip():
            line, _ = place(text, token.start)
            _lost(f"the comment in line {line}", "Take it out, or put it into the notes.")
    try:
        trees = Parser(dialect, forms).trees(text)
    except Unread:
        raise BadInput("the statement cannot be read.", "See what is said of it in the editor first.") from None
    if len(trees) != 1 or not isinstance(trees[0], exp.Select):
        _lost("anything but one select", "Take one statement that begins with select.")
    return _Reader(dialect, forms, catalogue, declared).read(trees[0])


def _lost(what: str, hint: str = "Go on in the text.") -> NoReturn:
    raise BadInput(f"an outline has no place for {what}.", hint)


class _Reader:
    def __init__(
        self, dialect: Dialect, forms: Forms, catalogue: Sequence[Table] | None, declared: Sequence[Parameter]
    ) -> None:
        self.dialect, self.forms, self.catalogue = dialect, forms, catalogue
        self.parser = Parser(dialect, forms)
        self.periods = {each.name for each in declared if each.type == "period"}
        self.tables: Tables | None = None
        self.shown: list[Shown] = []

    def read(self, tree: exp.Select) -> Outline:
        for name, value in tree.args.items():
            if value and name not in _KNOWN:
                _lost(_NO_WORDS.get(name, name.rstrip("_").replace("_", " ")))
        source = tree.args.get("from_") or tree.args.get("from")
        if source is None:
            _lost("a select that reads no table")
        first = self._place(source.this)
        outline = Outline(from_=first)
        for join in tree.args.get("joins") or ():
            outline = self._with(outline, join)
        self.tables = Tables(outline, self.catalogue)
        self.tables.refuse_missing()
        show = self._show(tree.expressions)
        made = msgspec.structs.replace(
            outline, show=tuple(show), distinct=self._distinct(tree), where=self._where(tree.args.get("where")),
            grouped=tuple(self._grouped(tree.args.get("group"))), having=self._where(tree.args.get("having")),
            sorted=tuple(self._sorted(tree.args.get("order"))), first=self._first(tree.args.get("limit")),
        )  # fmt: skip
        return Outline.from_dict(made.to_dict())

    def _place(self, node: exp.Expression) -> Place:
        if not isinstance(node, exp.Table) or not isinstance(node.this, exp.Identifier):
            _lost(f"'{self.parser.said(node)[:40]}' in place of a table")
        if node.args.get("catalog"):
            _lost("the name of a database before a table's")
        if any(node.args.get(name) for name in ("pivots", "sample", "hints", "when", "version", "only", "partition")):
            _lost(f"what stands behind the table '{node.name}'")
        alias = node.args.get("alias")
        if alias is not None and alias.args.get("columns"):
            _lost("names for a table's columns")
        name = f"{node.db}.{node.name}" if node.db else node.name
        return Place(table=name, as_=alias.name if alias is not None and alias.name != node.name else "")

    def _with(self, outline: Outline, node: exp.Join) -> Outline:
        here = self._place(node.this)
        kind, side = (node.args.get("kind") or "").lower(), (node.args.get("side") or "").lower()
        if node.args.get("method") or kind not in ("", "inner", "cross", "outer"):
            _lost(f"a {node.args.get('method') or kind} join".lower())
        join: Any = side or "inner"
        made = Join(table=here.table, as_=here.as_, join=join)
        both = msgspec.structs.replace(outline, with_=(*outline.with_, made))
        tables = Tables(both, self.catalogue)
        pairs: list[Pair] = []
        for column in node.args.get("using") or ():
            pairs.append(self._using(outline, tables, made, column.name))
        on = node.args.get("on")
        if on is not None and not (isinstance(on, exp.Boolean) and on.this):
            pairs += [self._pair(each, tables, made) for each in _all_of(on)]
        return msgspec.structs.replace(outline, with_=(*outline.with_, msgspec.structs.replace(made, on=tuple(pairs))))

    def _using(self, outline: Outline, tables: Tables, join: Join, name: str) -> Pair:
        for earlier in outline.places:
            try:
                left = tables.column(f"{earlier.alias}.{name}", "")
            except BadInput:
                continue
            return Pair(left=left.written, right=f"{join.alias}.{name}")
        raise BadInput(f"no table before has a column '{name}'.", "Correct the statement first.")

    def _pair(self, node: exp.Expression, tables: Tables, join: Join) -> Pair:
        sign = _SIGNS.get(type(node).__name__)
        sides = [side for side in (node.args.get("this"), node.args.get("expression")) if isinstance(side, exp.Column)]
        if sign is None or len(sides) != 2:
            _lost(f"the condition '{self.parser.said(node)[:60]}' of a join", "Move it into where, if that is the same.")
        left, right = (tables.column(reference(side), "") for side in sides)
        if left.alias == join.alias:
            left, right, sign = right, left, _TURNED[sign]
        operator: Any = _OPERATORS[sign]
        return Pair(left=left.written, is_=operator, right=right.written)

    def _distinct(self, tree: exp.Select) -> bool:
        found = tree.args.get("distinct")
        if found is not None and found.args.get("on"):
            _lost("distinct on")
        return found is not None

    def _show(self, nodes: Sequence[exp.Expression]) -> list[Shown]:
        if len(nodes) == 1 and isinstance(nodes[0], exp.Star) and not nodes[0].args.get("except_"):
            return []
        for node in nodes:
            if node.is_star:
                _lost("a star beside other columns", "Name the columns.")
            name = node.alias if isinstance(node, exp.Alias) else ""
            inner = node.this if isinstance(node, exp.Alias) else node
            term = self._term(inner)
            own = _fields(term)
            if not name and (term.expression or term.aggregate or term.bucket):
                _lost(f"'{self.parser.said(inner)[:60]}' without a name", "Give it one: as name.")
            self.shown.append(Shown(**own, name="" if not name or self._has_name(term, name) else name))
        return self.shown

    def _has_name(self, term: Term, name: str) -> bool:
        return bool(term.column and not term.aggregate and not term.bucket and self._of(term.column).name == name)

    def _of(self, reference: str) -> Named:
        assert self.tables is not None
        return self.tables.column(reference, "")

    def _column(self, node: exp.Column) -> str:
        found = self._of(reference(node))
        assert self.tables is not None
        return found.name if self.tables.one else found.written

    def _term(self, node: exp.Expression) -> Term:
        node = bare(node)
        if isinstance(node, exp.Column):
            return Term(column=self._column(node))
        if isinstance(node, exp.Count) and isinstance(node.this, exp.Star) and not node.args.get("distinct"):
            return Term(aggregate="count")
        for inner in self._columns_in(node):
            for aggregate, bucket, by, form in self._forms(inner):
                if node == self.parser.term(form):
                    made: Any = {"aggregate": aggregate, "bucket": bucket}
                    return Term(column=self._column(inner), by=self._column(by) if by is not None else "", **made)
        return Term(expression=self.parser.said(node))

    def _columns_in(self, node: exp.Expression) -> list[exp.Column]:
        """The different columns of an expression; of one with many, none is all that it is about."""
        found = {self.parser.said(each): each for each in node.find_all(exp.Column)}
        return list(found.values()) if len(found) <= 2 else []

    def _forms(self, inner: exp.Column) -> Iterator[tuple[str, str, exp.Column | None, str]]:
        """Every way to write something of one column: aggregate, bucket, by what, text."""
        said = self.parser.said(inner)
        root = inner.root()
        others = list(root.find_all(exp.Column))
        for bucket in ("", *BUCKETS):
            of = self.dialect.periods[bucket].format(column=said) if bucket else said
            if bucket:
                yield "", bucket, None, of
            for aggregate, form in {**EVERYWHERE, **self.forms.aggregates}.items():
                type_ = cast_type(self._of(reference(inner)).known)
                if "{by}" not in form:
                    yield aggregate, bucket, None, form.format(e=of)
                    continue
                for by in {self.parser.said(each): each for each in others}.values():
                    yield aggregate, bucket, by, form.format(e=of, by=self.parser.said(by), type=type_)

    def _where(self, node: exp.Expression | None) -> Condition | None:
        if node is None:
            return None
        parts = self._all(_all_of(node.this))
        return parts[0] if len(parts) == 1 and parts[0].group is not None else Condition(all_=tuple(parts))

    def _all(self, nodes: list[exp.Expression]) -> list[Condition]:
        """Of what holds together; two neighbours that are the ends of a period are one test."""
        made: list[Condition] = []
        skip = False
        for number, node in enumerate(nodes):
            if skip:
                skip = False
                continue
            period = self._period(node, nodes[number + 1]) if number + 1 < len(nodes) else None
            skip = period is not None
            made.append(period if period is not None else self._condition(node))
        return made

    def _period(self, one: exp.Expression, other: exp.Expression) -> Condition | None:
        if not isinstance(one, exp.GTE) or not isinstance(other, exp.LT) or one.this != other.this:
            return None
        for name in self.periods:
            after = self.parser.term(self.forms.day_after.format(v=f":{name}_to"))
            if one.expression == self.parser.term(f":{name}_from") and other.expression == after:
                return self._tested(one.this, "in_period", value=Given(parameter=name))
        return None

    def _condition(self, node: exp.Expression) -> Condition:
        unknown = {name for name, value in node.args.items() if value} - _SAYS.get(type(node).__name__, _TWO)
        if unknown:
            return self._holds(node)
        if isinstance(node, exp.Paren):
            return self._condition(node.this)
        if isinstance(node, exp.And):
            return Condition(all_=tuple(self._all(_all_of(node))))
        if isinstance(node, exp.Or):
            return Condition(any_=tuple(self._grouped_ways(node)))
        if isinstance(node, exp.Not):
            return self._negated(node.this)
        return self._test(node)

    def _grouped_ways(self, node: exp.Or) -> list[Condition]:
        return [self._condition(each) for each in _flat(node, exp.Or)]

    def _negated(self, node: exp.Expression) -> Condition:
        inner = node
        if isinstance(inner, exp.Is) and isinstance(inner.expression, exp.Null):
            return self._tested(inner.this, "is_not_null")
        if isinstance(inner, exp.In):
            return self._in(inner, "not_in_list")
        if isinstance(inner, exp.Column):
            return self._tested(inner, "is", value=False)
        inner = bare(node)
        if isinstance(inner, exp.Or):
            return Condition(none=tuple(self._grouped_ways(inner)))
        return Condition(none=(self._condition(inner),))

    def _test(self, node: exp.Expression) -> Condition:
        if isinstance(node, exp.Is) and isinstance(node.expression, exp.Null):
            return self._tested(node.this, "is_null")
        if isinstance(node, exp.Between):
            return self._between(node)
        if isinstance(node, exp.In):
            return self._in(node, "in_list")
        if isinstance(node, exp.Column):
            return self._tested(node, "is", value=True)
        if type(node).__name__ in _SIGNS:
            return self._compared(node)
        return self._search(node) or self._holds(node)

    def _holds(self, node: exp.Expression) -> Condition:
        """A condition in the source's own words."""
        return Condition(expression=self.parser.said(node), test="holds")

    def _compared(self, node: exp.Expression) -> Condition:
        sign, left, right = _SIGNS[type(node).__name__], node.this, node.expression
        for test, form in (("in_list", self.forms.in_list), ("not_in_list", self.forms.not_in_list)):
            for each in node.find_all(exp.Placeholder):
                if node == self.parser.term(form.format(e=self.parser.said(left), v=f":{each.name}")):
                    return self._tested(left, test, value=Given(parameter=each.name))
        for test, tail in (("contains", "> 0"), ("begins_with", "= 1")):
            for each in node.find_all(exp.Placeholder):
                for column in self._columns_in(node):
                    said = f"lower({self.parser.said(column)})"
                    text = f"{self.forms.position.format(e=said, v=f'lower(:{each.name})')} {tail}"
                    if node == self.parser.term(text):
                        return self._tested(column, test, value=Given(parameter=each.name))
        if self._operand(left) is not None and self._operand(right) is None:
            left, right, sign = right, left, _TURNED[sign]
        value = self._operand(right, columns=True)
        if value is None:
            return self._holds(node)
        return self._if_it_fits(self._tested(left, sign, value=value), node)

    def _between(self, node: exp.Between) -> Condition:
        low, high = node.args["low"], node.args["high"]
        for name in self.periods:
            if (low, high) == tuple(self.parser.term(f":{name}_{end}") for end in ("from", "to")):
                return self._tested(node.this, "in_period", value=Given(parameter=name))
        values = [self._operand(each, columns=True) for each in (low, high)]
        if None in values or node.args.get("symmetric"):
            return self._holds(node)
        return self._if_it_fits(self._tested(node.this, "between", values=tuple(values)), node)

    def _in(self, node: exp.In, test: str) -> Condition:
        field = node.args.get("field")
        if isinstance(field, exp.Placeholder):
            return self._tested(node.this, test, value=Given(parameter=field.name))
        values = [self._operand(each) for each in node.expressions]
        if not values or None in values:
            return self._holds(node if test == "in_list" else exp.Not(this=node.copy()))
        negated = node if test == "in_list" else exp.Not(this=node.copy())
        return self._if_it_fits(self._tested(node.this, test, values=tuple(values)), negated)

    def _search(self, node: exp.Expression) -> Condition | None:
        inner = node.this if isinstance(node, exp.Escape) else node
        if isinstance(inner, exp.Like) and isinstance(inner.this, exp.Lower) and isinstance(inner.expression, exp.Literal):
            for test in ("contains", "begins_with"):
                pattern = inner.expression.this
                text = re.sub("!(.)", r"\1", pattern.removeprefix("%" if test == "contains" else "").removesuffix("%"))
                found, escapes = like(text, test == "begins_with")
                said = f"x like {self.forms.string(found)}{ESCAPE if escapes else ''}"
                like_it = f"x like {self.forms.string(pattern)}{ESCAPE if inner is not node else ''}"
                if said == like_it and text == text.lower():
                    return self._tested(inner.this.this, test, value=text)
        if self.forms.matches:
            for operand in [*node.find_all(exp.Literal), *node.find_all(exp.Placeholder)]:
                for column in self._columns_in(node):
                    text = self.forms.matches.format(e=self.parser.said(column), v=self.parser.said(operand))
                    if node == self.parser.term(text):
                        return self._tested(column, "matches", value=self._operand(operand))
        return None

    def _tested(self, node: exp.Expression, test: str, value: Any = None, values: Any = ()) -> Condition:
        term = self._term(node)
        own = _fields(term)
        made: Any = {"test": test}
        return Condition(**own, **made, value=value, values=values)

    def _if_it_fits(self, condition: Condition, node: exp.Expression) -> Condition:
        """The condition where its constants are of the column's kind, else the text as it is."""
        assert self.tables is not None
        kind = self.tables.kind(condition, "")
        try:
            for each in (condition.value, *condition.values):
                if each is not None and not isinstance(each, Given):
                    constant(each, kind, "", self.forms)
        except BadInput:
            return self._holds(node)
        return condition

    def _operand(self, node: exp.Expression, columns: bool = False) -> Operand | None:
        """A constant, a parameter, a column; None for anything else."""
        node = bare(node)
        if isinstance(node, exp.Placeholder) and node.name:
            return Given(parameter=node.name)
        if isinstance(node, exp.Column):
            return Given(column=self._column(node)) if columns else None
        if isinstance(node, exp.Boolean):
            return bool(node.this)
        if isinstance(node, exp.Neg) and isinstance(node.this, exp.Literal) and not node.this.is_string:
            return _number("-" + node.this.this)
        if isinstance(node, exp.Literal):
            return node.this if node.is_string else _number(node.this)
        if isinstance(node, exp.Cast) and isinstance(node.this, exp.Literal) and _is_of_a_moment(node.to):
            return str(node.this.this).removesuffix("+00") + ("Z" if str(node.this.this).endswith("+00") else "")
        return None

    def _grouped(self, node: exp.Group | None) -> list[Term]:
        if node is None:
            return []
        sets = any(isinstance(each, (exp.Rollup, exp.Cube, exp.GroupingSets)) for each in node.expressions)
        if sets or any(value for name, value in node.args.items() if name != "expressions"):
            _lost("groups of groups")
        return [self._by_number(each) or self._term(each) for each in node.expressions]

    def _by_number(self, node: exp.Expression) -> Term | None:
        if not isinstance(node, exp.Literal) or node.is_string:
            return None
        at = int(node.this) - 1
        if not 0 <= at < len(self.shown):
            _lost(f"the number {node.this} in place of a column")
        return Term(**_fields(self.shown[at]))

    def _sorted(self, node: exp.Order | None) -> Iterator[Sorted]:
        nodes = list(node.expressions) if node is not None else []
        last: tuple[exp.Expression, str] | None = None
        for each in nodes:
            if not isinstance(each, exp.Ordered) or each.args.get("with_fill"):
                _lost(f"'{self.parser.said(each)[:60]}' to sort by")
            inner = bare(each.this)
            nulls = self._nulls_before(inner)
            if nulls is not None and not each.args.get("desc") and each is not nodes[-1]:
                last = nulls
                continue
            nulls_word: Any = last[1] if last is not None and last[0] == inner else self._nulls_of(each)
            last = None
            yield Sorted(by=self._by(inner), descending=bool(each.args.get("desc")), nulls=nulls_word)

    def _nulls_before(self, node: exp.Expression) -> tuple[exp.Expression, str] | None:
        """Of a dialect that sorts by *is null* first: what it is about."""
        if " nulls " in self.forms.nulls["last"]:
            return None
        inner, word = (node.this, "first") if isinstance(node, exp.Not) else (node, "last")
        return (inner.this, word) if isinstance(inner, exp.Is) and isinstance(inner.expression, exp.Null) else None

    def _nulls_of(self, node: exp.Ordered) -> str:
        """What is said of rows without a value: the parser fills in what the dialect does by itself."""
        plain = sqlglot.parse_one(f"select 1 order by x{' desc' if node.args.get('desc') else ''}", dialect=self.forms.parser)
        usual = plain.args["order"].expressions[0].args.get("nulls_first")
        found = node.args.get("nulls_first")
        return "" if bool(found) == bool(usual) else "first" if found else "last"

    def _by(self, node: exp.Expression) -> str:
        names = [shown.name or (self._of(shown.column).name if shown.column else "") for shown in self.shown]
        if isinstance(node, exp.Literal) and not node.is_string and 0 < int(node.this) <= len(names):
            return names[int(node.this) - 1]
        if isinstance(node, exp.Column):
            if not node.table and node.name in names:
                return node.name
            return self._column(node)
        term = self._term(node)
        for shown, name in zip(self.shown, names, strict=True):
            if term == Term(**_fields(shown)):
                return name
        _lost(f"'{self.parser.said(node)[:60]}' to sort by", "Show it under a name, and sort by that.")

    def _first(self, node: exp.Expression | None) -> int | None:
        if node is None:
            return None
        count = node.args.get("expression") or node.args.get("count")
        if not isinstance(count, exp.Literal) or count.is_string or node.args.get("offset"):
            _lost("a limit that is no plain number")
        return int(count.this)


_TWO = frozenset({"this", "expression"})
_SAYS = {
    "In": frozenset({"this", "expressions", "field"}), "Between": frozenset({"this", "low", "high"}),
    "Column": frozenset({"this", "table", "db", "catalog"}),
}  # fmt: skip
"""The fields of conditions that are understood; one with another says more than an outline has words for."""
_MOMENT_TYPES = ("DATE", "TIMESTAMP", "TIMESTAMPTZ", "TIMESTAMPNTZ", "DATETIME")


def _is_of_a_moment(to: exp.DataType) -> bool:
    return any(to.this == exp.DataType.Type[name] for name in _MOMENT_TYPES)


def _fields(term: Term) -> dict[str, Any]:
    """What makes a term, also of one that is more: shown under a name, tested."""
    return {each: getattr(term, each) for each in Term.__struct_fields__}


def _flat(node: exp.Expression, kind: type[exp.Expression]) -> list[exp.Expression]:
    return [*_flat(node.this, kind), *_flat(node.expression, kind)] if isinstance(node, kind) else [node]


def _all_of(node: exp.Expression) -> list[exp.Expression]:
    return _flat(bare(node), exp.And)


def _number(said: str) -> Operand:
    if re.fullmatch(r"-?\d+", said):
        return int(said)
    return float(said) if repr(float(said)) == said else said
