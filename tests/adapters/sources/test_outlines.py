"""Outlines made at random, carried out by five real engines, and held against a slow reckoning over the same rows in Python."""

from __future__ import annotations

import operator
from collections import Counter
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from decimal import Decimal
from itertools import product
from statistics import mean, median

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.errors import BadInput
from patient_ladle.core.statements.languages.sqlite import SQLITE
from patient_ladle.core.statements.outlines.outline import Outline
from patient_ladle.core.values.parameters import Parameter
from tests.adapters.sources.small_tables import DAY, KINDS, ROWS
from tests.profile import examples

COMPARES = {"is": operator.eq, "is_not": operator.ne, "less": operator.lt, "at_most": operator.le, "more": operator.gt,
            "at_least": operator.ge}  # fmt: skip
SIGNS = {"=": operator.eq, "<>": operator.ne, "<": operator.lt, "<=": operator.le, ">": operator.gt, ">=": operator.ge}


# An outline at random


@dataclass(frozen=True)
class Col:
    alias: str
    name: str
    kind: str

    @property
    def said(self):
        return f"{self.alias}.{self.name}"


def columns_of(alias, table):
    return [Col(alias, name, kind) for name, kind in KINDS[table].items()]


CONSTANTS = {
    "integer": [0, 1, 3, 7, -4], "decimal": ["1.50", "-2.25", 0, 10, "99.99"], "text": ["north", "ab_c", "50% it's", "back\\slash"],
    "date": ["2026-10-01", "2026-11-02", "2025-12-31", "start of last month"],
    "timestamp": ["2026-11-01 00:00:00", "2026-11-30 12:00:00", "2025-12-31 05:00:00", "yesterday"], "boolean": [True, False],
}  # fmt: skip
DECLARED = [
    Parameter("least", "integer", default=3), Parameter("some", "integer", is_list=True, default=[1, 3, 7]),
    Parameter("months", "period", default="2025-12-01 to 2026-10-31"), Parameter("word", "text", default="_C"),
]  # fmt: skip
PERIODS = ["last month", "this month", "2026-11-01 to 2026-11-09", "2025-12-31 to 2026-01-01"]


@st.composite
def outlines(draw, words):
    alias, taken = iter("abc"), []
    places = []
    for number in range(draw(st.integers(1, 3))):
        name, table = next(alias), draw(st.sampled_from(sorted(KINDS)))
        here = columns_of(name, table)
        place = {"table": table, "as": name}
        if number:
            place["join"] = draw(st.sampled_from(words.joins))
            pairs = [(left, right) for left in taken for right in here if left.kind == right.kind != "text"]
            one = "full" not in words.joins and "right" not in words.joins  # a document store joins by one pair
            pairs = [pair for pair in pairs if pair[0].kind == "integer"] if one else pairs
            chosen = draw(st.lists(st.sampled_from(pairs), min_size=int(one), max_size=2 - one)) if pairs else []
            full = place["join"] == "full"
            signs = st.just("=") if full or one else st.sampled_from(["=", "=", "=", "<>", "<=", ">"])
            place["on"] = [{"left": left.said, "is": draw(signs), "right": right.said} for left, right in chosen]
        taken += here
        places.append(place)
    made = {"outline": 1, "from": places[0], "with": places[1:]}
    if draw(st.booleans()):
        made["where"] = draw(conditions(taken, words, 2))
    grouped = draw(st.booleans())
    made |= draw(groups(taken, words)) if grouped else draw(plain(taken, words))
    names = [each["name"] for each in made["show"] if each.pop("sortable")]
    if names and draw(st.booleans()):
        chosen = draw(st.lists(st.sampled_from(names), unique=True, min_size=1))
        nulls = ["", "first", "last"] if len(words.joins) > 2 else [""]
        ways = st.fixed_dictionaries({"descending": st.booleans(), "nulls": st.sampled_from(nulls)})
        made["sorted"] = [{"by": name} | draw(ways) for name in chosen]
        made["first"] = draw(st.none() | st.integers(1, 9))
    return made


@st.composite
def terms(draw, columns, words):
    column = draw(st.sampled_from(columns))
    buckets = words.buckets if len(words.joins) > 2 else ()  # the stand-in knows no period of a date that is absent
    bucket = draw(st.sampled_from(["", "", *buckets])) if column.kind in ("date", "timestamp") else ""
    return {"column": column.said, "bucket": bucket}, "date" if bucket else column.kind


@st.composite
def plain(draw, columns, words):
    show = []
    for number in range(draw(st.integers(1, 4))):
        term, kind = draw(terms(columns, words))
        show.append(term | {"name": f"c{number}", "sortable": kind != "text"})
    return {"show": show, "distinct": draw(st.booleans())}


@st.composite
def groups(draw, columns, words):
    keys = [draw(terms(columns, words)) for _ in range(draw(st.integers(0, 2)))]
    show = [term | {"name": f"k{number}", "sortable": kind != "text"} for number, (term, kind) in enumerate(keys)]
    for number in range(draw(st.integers(1, 3))):
        aggregate = draw(st.sampled_from(words.aggregates))
        wants = {"sum": ("integer", "decimal"), "mean": ("integer", "decimal"), "median": ("integer", "decimal")}
        fit = [each for each in columns if each.kind in wants.get(aggregate, ("integer", "decimal", "date", "timestamp"))]
        keyed = [each for each in columns if each.name == "read_id"]
        if aggregate in ("first", "last") and (not keyed or len({each.alias for each in columns}) > 1):
            aggregate = "count"
        column = {} if aggregate == "count" and draw(st.booleans()) else {"column": draw(st.sampled_from(fit)).said}
        by = {"by": keyed[0].said} if aggregate in ("first", "last") else {}
        show.append({"aggregate": aggregate, **column, **by, "name": f"v{number}", "sortable": False})
    made = {"show": show, "grouped": [term for term, _ in keys]}
    if draw(st.booleans()):
        numbers = [each for each in columns if each.kind == "integer"]
        term = {
            "column": draw(st.sampled_from(numbers)).said,
            "aggregate": draw(st.sampled_from([a for a in ("count", "count_distinct", "min", "max") if a in words.aggregates])),
        }
        made["having"] = term | {"test": draw(st.sampled_from(sorted(COMPARES))), "value": draw(st.integers(0, 4))}
    return made


@st.composite
def conditions(draw, columns, words, depth):
    if depth and draw(st.booleans()):
        word = draw(st.sampled_from(["all", "any", "none"]))
        return {word: draw(st.lists(conditions(columns, words, depth - 1), min_size=1, max_size=3))}
    term, kind = draw(terms(columns, words))
    column = next(each for each in columns if each.said == term["column"])
    tests = (
        set(words.tests[kind]) - {"matches"} - ({"less", "at_most", "more", "at_least", "between"} if kind == "text" else set())
    )
    test = draw(st.sampled_from(sorted(tests)))
    values = st.sampled_from(CONSTANTS[kind])
    if test in ("is_null", "is_not_null"):
        return term | {"test": test}
    if test == "between":
        return term | {"test": test, "values": [draw(values), draw(values)]}
    if test in ("in_list", "not_in_list"):
        if kind == "integer" and draw(st.booleans()):
            return term | {"test": test, "value": {"parameter": "some"}}
        return term | {"test": test, "values": draw(st.lists(values, min_size=1, max_size=3))}
    if test == "in_period":
        return term | {"test": test, "value": draw(st.sampled_from([*PERIODS, {"parameter": "months"}]))}
    if test in ("contains", "begins_with"):
        texts = ["50%", "_", "A", "\\", "'", "r", "back", *([{"parameter": "word"}] if len(words.joins) > 2 else [])]
        return term | {"test": test, "value": draw(st.sampled_from(texts))}
    others = [each.said for each in columns if each.kind == kind and each != column]
    kinds = [values, *([st.sampled_from(others).map(lambda said: {"column": said})] if others else [])]
    if kind == "integer":
        kinds.append(st.just({"parameter": "least"}))
    return term | {"test": test, "value": draw(st.one_of(kinds))}


# The slow reckoning


def reckoned(outline, source):
    """Its rows, sorted. A document store's sum of nothing is 0, and absent values are the least there."""
    language = source.engine.language
    nulls_are = getattr(language, "forms", SQLITE.forms).nulls_are
    rows = where(outline, joined(outline))
    if outline.get("grouped") or any("aggregate" in each for each in outline["show"]):
        made = grouped(outline, rows, 0 if language.gives_documents else None)
    else:
        made = [tuple(value_of(each, row) for each in outline["show"]) for row in rows]
        made = list(dict.fromkeys(made)) if outline.get("distinct") else made
    names = [each["name"] for each in outline["show"]]
    for each in reversed(outline.get("sorted", [])):
        at, nulls = names.index(each["by"]), each["nulls"] or nulls_are[each["descending"]]
        absent = [row for row in made if row[at] is None]
        present = sorted((row for row in made if row[at] is not None), key=operator.itemgetter(at), reverse=each["descending"])
        made = absent + present if nulls == "first" else present + absent
    return made


def joined(outline):
    start = outline["from"]
    rows = [record(start["as"], start["table"], values) for values in ROWS[start["table"]]]
    before = [start]
    for join in outline["with"]:
        others = [record(join["as"], join["table"], values) for values in ROWS[join["table"]]]
        pairs = [
            (left, right)
            for left, right in product(range(len(rows)), range(len(others)))
            if met(join, rows[left] | others[right])
        ]
        made = [rows[left] | others[right] for left, right in pairs]
        if join["join"] in ("left", "full"):
            lone = set(range(len(rows))) - {left for left, _ in pairs}
            made += [rows[left] | nothing(join) for left in lone]
        if join["join"] in ("right", "full"):
            lone = set(range(len(others))) - {right for _, right in pairs}
            absent = {key: None for each in before for key in nothing(each)}
            made += [absent | others[right] for right in lone]
        rows = made
        before.append(join)
    return rows


def record(alias, table, values):
    return {f"{alias}.{name}": value for name, value in zip(KINDS[table], values, strict=True)}


def nothing(place):
    return record(place["as"], place["table"], [None] * len(KINDS[place["table"]]))


def met(join, row):
    return all(compared(SIGNS[pair["is"]], row[pair["left"]], row[pair["right"]]) for pair in join["on"])


def compared(sign, one, other):
    return None if one is None or other is None else sign(*alike(one, other))


def alike(one, other):
    if isinstance(one, datetime) != isinstance(other, datetime) and isinstance(one, date) and isinstance(other, date):
        return tuple(each if isinstance(each, datetime) else datetime(each.year, each.month, each.day) for each in (one, other))
    return one, other


def where(outline, rows):
    return [row for row in rows if "where" not in outline or holds(outline["where"], row) is True]


def holds(condition, row):
    """True, False, or None: what is compared with nothing is neither."""
    for word in ("all", "any", "none"):
        if word in condition:
            found = [holds(each, row) for each in condition[word]]
            if word == "all":
                return False if False in found else None if None in found else True
            either = True if True in found else None if None in found else False
            return either if word == "any" else None if either is None else not either
    return passes(condition, value_of(condition, row), row)


def passes(condition, value, row):
    test, given_ = condition["test"], condition.get("value")
    if test in ("is_null", "is_not_null"):
        return (value is None) == (test == "is_null")
    if value is None:
        return None
    read = [constant(each, value) for each in condition.get("values", [])]
    if isinstance(given_, dict):
        name = given_.get("parameter")
        given_ = (
            row[given_["column"]]
            if "column" in given_
            else {p.name: p for p in DECLARED}[name].read({p.name: p for p in DECLARED}[name].default, DAY)
        )
    elif test == "in_period":
        given_ = Parameter("p", "period").read(given_, DAY)
    elif test not in ("contains", "begins_with"):
        given_ = None if given_ is None else constant(given_, value)
    if test in ("in_list", "not_in_list"):
        return (value in (read or given_)) == (test == "in_list")
    if test == "between":
        return read[0] <= value <= read[1]
    if test == "in_period":
        day = value.date() if isinstance(value, datetime) else value
        return given_[0] <= day <= given_[1]
    if test == "contains":
        return given_.lower() in value.lower()
    if test == "begins_with":
        return value.lower().startswith(given_.lower())
    return compared(COMPARES[test], value, given_)


def constant(given_, like):
    types = {bool: "boolean", int: "integer", Decimal: "decimal", datetime: "timestamp", date: "date", str: "text"}
    return Parameter("p", types[type(like)]).read(given_, DAY)


def value_of(term, row):
    value = row[term["column"]]
    if value is None or not term.get("bucket"):
        return value
    day = value.date() if isinstance(value, datetime) else value
    return {
        "day": day, "week": day - timedelta(days=day.weekday()), "month": day.replace(day=1),
        "quarter": day.replace(month=(day.month - 1) // 3 * 3 + 1, day=1), "year": day.replace(month=1, day=1),
    }[term["bucket"]]  # fmt: skip


def grouped(outline, rows, sum_of_nothing):
    sets = {}
    for row in rows:
        sets.setdefault(tuple(value_of(each, row) for each in outline["grouped"]), []).append(row)
    if not outline["grouped"]:
        sets.setdefault((), [])
    made = []
    for key, members in sets.items():
        having = outline.get("having")
        if having and compared(COMPARES[having["test"]], aggregated(having, members), having["value"]) is not True:
            continue
        values = [(each["aggregate"], aggregated(each, members)) for each in outline["show"] if "aggregate" in each]
        made.append((*key, *(sum_of_nothing if name == "sum" and value is None else value for name, value in values)))
    return made


def aggregated(term, rows):
    name = term["aggregate"]
    if name == "count" and "column" not in term:
        return len(rows)
    if name in ("first", "last"):
        ordered = sorted(rows, key=lambda row: row[term["by"]])
        return ordered[-1 if name == "last" else 0][term["column"]] if ordered else None
    values = [row[term["column"]] for row in rows if row[term["column"]] is not None]
    if name in ("count", "count_distinct"):
        return len(set(values) if name == "count_distinct" else values)
    if not values:
        return None
    if name in ("mean", "median"):
        return (mean if name == "mean" else median)(map(Decimal, values))
    return {"sum": sum, "min": min, "max": max}[name](values)


def told(value, like):
    """A value as it is compared: engines say the same in different ways."""
    if value is None:
        return None
    if isinstance(like, bool):
        return {"true": 1, "false": 0, "1": 1, "0": 0, True: 1, False: 0}[value]
    if isinstance(like, (int, Decimal)):
        return Decimal(value).quantize(Decimal("0.0001"))
    if isinstance(like, datetime):
        return str(value)[:19].replace("T", " ")
    return str(value)[:10] if isinstance(like, date) else str(value)


def all_told(rows, kinds):
    return [tuple(told(value, like) for value, like in zip(row, kinds, strict=True)) for row in rows]


@examples(0.8)  # of more, run at random, none failed in SQL; the stand-in knows less
@given(st.data())
def test_an_outline_gives_the_rows_that_a_slow_reckoning_gives(source, data):
    outline = data.draw(outlines(source.words))
    made = Outline.from_dict(outline)
    remarks = source.outlines.remarks(made, source.catalogue, DECLARED)
    assert [each for each in remarks if each.severity == "error"] == []
    compiled = source.outlines.compiled(made, source.catalogue, DECLARED)
    used = set(source.engine.language.names_used(compiled.statement))
    parameters = [p for p in [*DECLARED, *compiled.parameters] if {part.name for part in p.parts()} & used]
    expected = reckoned(outline, source)
    kinds = [next((row[at] for row in expected if row[at] is not None), "") for at in range(len(outline["show"]))]
    rows = source.rows(compiled.statement, parameters)
    found, wanted = all_told(rows, kinds), all_told(expected, kinds)
    first = outline.get("first")
    if first is None:
        assert Counter(found) == Counter(wanted), compiled.statement
    else:
        assert len(found) == min(first, len(wanted)), compiled.statement
        assert not Counter(found) - Counter(wanted), compiled.statement
    ways = [[each["name"] for each in outline["show"]].index(each["by"]) for each in outline.get("sorted", [])]
    keys = [[tuple(row[at] for at in ways) for row in each] for each in (found, wanted[: len(found)])]
    assert keys[0] == keys[1], compiled.statement

    if source.name == "documents":
        return
    back = source.outlines.read(compiled.statement, source.catalogue, parameters)
    assert source.outlines.compiled(back, source.catalogue, parameters).statement == compiled.statement


@pytest.mark.parametrize("source", ["documents"], indirect=True)
def test_different_values_are_counted_in_a_document_store(source):
    outline = {"outline": 1, "from": {"table": "meters"}, "show": [{"column": "zone_id", "aggregate": "count_distinct"}]}
    made = source.outlines.compiled(Outline.from_dict(outline), source.catalogue, [])
    assert source.rows(made.statement, []) == [("3",)]


def test_an_outline_that_no_part_of_can_be_written_is_refused_before_it_is_sent(source):
    made = Outline.from_dict({"outline": 1, "from": {"table": "reeds"}})
    with pytest.raises(BadInput, match="'reeds'"):
        source.outlines.compiled(made, source.catalogue, [])


KEYWORDS = {
    "postgresql": "select word from pg_get_keywords()", "duckdb": "select keyword_name from duckdb_keywords()",
    "mariadb": "select lower(word) from information_schema.keywords where word rlike '^[a-z]'",
}  # fmt: skip


def test_words_that_the_server_reserves_are_quoted_where_they_are_names(source):
    """The server's own list of its words, each used as the name of a column; SQLite has none to ask for, and takes
    *true* and *false* for values even in quotes."""
    dialect = source.engine.language
    if source.name == "documents":
        assert source.rows('{"find": "zones", "projection": {"select": 1}}', []) != []
        return
    query = KEYWORDS.get(source.name)
    words = [row[0] for row in source.rows(query, [])] if query else sorted(dialect.reserved - {"true", "false"})
    made = ", ".join(f"1 as {dialect.quoted(word)}" for word in words)
    plain = ", ".join(f"t.{dialect.identifier(word)}" for word in words)
    alone = ", ".join(dialect.identifier(word) for word in words)
    for said in (plain, alone):
        assert len(source.rows(f"select {said} from (select {made}) as t", [])[0]) == len(words)
    assert len(words) > 50
