"""Outlines: their schema, what is said of them, how they are laid out, what joins them, what is read back."""

from __future__ import annotations

import copy
import itertools
import json

import jsonschema
import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlglot import exp
from sqlglot.dialects.dialect import Dialect as Reader

from patient_ladle.core.errors import BadInput, UnknownName
from patient_ladle.core.statements.languages import LANGUAGES
from patient_ladle.core.statements.outlines.joins import proposals
from patient_ladle.core.statements.outlines.looks import label_of, of_look, whole_tables
from patient_ladle.core.statements.outlines.outline import Outline, schema
from patient_ladle.core.statements.outlines.parsing import Parser
from patient_ladle.core.statements.outlines.tables import Tables, repeats
from patient_ladle.core.statements.views import Filter
from patient_ladle.core.values.parameters import Parameter

from . import CATALOGUE, CONSUMPTION, POSTGRESQL, SQL, column, table

ONE = {"outline": 1, "from": {"table": "readings", "as": "r"}}
WITH_METERS = ONE | {"with": [{"table": "meters", "as": "m", "on": [{"left": "r.meter_id", "right": "m.meter_id"}]}]}
DECLARED = [Parameter("since", "date"), Parameter("some", "integer", is_list=True), Parameter("when", "period")]


def changed(before, /, **parts):
    return copy.deepcopy(before) | parts


def remarks(outline, language="postgresql", catalogue=CATALOGUE, declared=DECLARED):
    try:
        made = Outline.from_dict(outline)
    except BadInput as error:
        return [("error", error.facts["where"], error.message)]
    return [(each.severity, each.where, each.message) for each in SQL[language].remarks(made, catalogue, declared)]


def test_the_statement_is_laid_out_as_a_careful_author_would_write_it():
    assert POSTGRESQL.compiled(Outline.from_dict(CONSUMPTION), CATALOGUE, []).statement == (
        "select d.name as district,\n"
        "       cast(date_trunc('month', r.read_at) as date) as month,\n"
        "       sum(r.litres) as litres\n"
        "from readings r\n"
        "join meters m on m.meter_id = r.meter_id\n"
        "join districts d on d.district_id = m.district_id\n"
        "where r.read_at >= :read_at_period_from\n"
        "  and r.read_at < :read_at_period_to + 1\n"
        "  and r.estimated = false\n"
        "group by d.name, cast(date_trunc('month', r.read_at) as date)\n"
        "having sum(r.litres) > 500000\n"
        "order by district, month"
    )
    simple = {"outline": 1, "from": {"table": "meters", "as": "m"}, "show": [{"column": "m.serial"}], "first": 5}
    assert POSTGRESQL.compiled(Outline.from_dict(simple), CATALOGUE, []).statement == "select serial\nfrom meters\nlimit 5"


def test_every_part_of_the_text_is_known_to_come_from_a_part_of_the_outline():
    made = POSTGRESQL.compiled(Outline.from_dict(CONSUMPTION), CATALOGUE, [])
    for words, part in (("sum(r.litres) as", "show[2]"), ("join districts", "with[1]"), ("r.estimated", "where.all[1]"),
                        ("d.district_id =", "with[1].on[0]"), ("500000", "having"), ("order by district", "")):  # fmt: skip
        assert made.part_at(made.statement.index(words)) == part, words


@given(st.data())
def test_the_schema_takes_what_is_read_and_refuses_what_is_not(data):
    outline = copy.deepcopy(CONSUMPTION)
    places = [outline, outline["from"], *outline["with"], *outline["show"], *outline["where"]["all"], *outline["sorted"]]
    place = data.draw(st.sampled_from(places))
    key = data.draw(st.sampled_from([*sorted(place), "table", "column", "all", "reeds", "first"]))
    place[key] = data.draw(st.sampled_from([1, 0, True, "x", "first", [], {}, None, ["x"], "sum", {"parameter": "since"}]))
    validator = jsonschema.Draft202012Validator(schema())
    try:
        read = Outline.from_dict(outline)
    except BadInput as error:
        if "expected" in error.message or "unknown field" in error.message or "missing" in error.message:
            assert not validator.is_valid(outline), error.message
        return
    assert validator.is_valid(outline)
    assert Outline.from_dict(json.loads(json.dumps(read.to_dict()))) == read


BAD = [
    ({}, "outline", "no version"),
    (changed(ONE, outline=0), "outline", "version 0"),
    (changed(ONE, shwo=[]), "", "'shwo'"),
    (changed(ONE, **{"from": {"table": "redings"}}), "from", "'redings'"),
    (changed(ONE, show=[{"column": "r.litters"}]), "show[0]", "no column 'litters'"),
    (changed(ONE, show=[{"column": "x.litres"}]), "show[0]", "no column 'x.litres'"),
    (changed(WITH_METERS, show=[{"column": "x.litres"}]), "show[0]", "no table 'x'"),
    (changed(WITH_METERS, show=[{"column": "meter_id"}]), "show[0]", "a column of several tables"),
    (changed(ONE, show=[{"column": "r.litres", "expression": "1"}]), "show[0]", "a column and an expression"),
    (changed(ONE, show=[{}]), "show[0]", "neither a column nor an expression"),
    (changed(ONE, show=[{"column": "r.litres"}, {"column": "r.meter_id", "name": "Litres"}]), "show[1]", "the name of show 1"),
    (changed(ONE, show=[{"expression": "r.litres * 2"}]), "show[0]", "needs a name"),
    (changed(ONE, show=[{"expression": "r.litres, 2", "name": "x"}]), "show[0]", "not one expression"),
    (changed(ONE, show=[{"expression": "1) from meters; select (2", "name": "x"}]), "show[0]", "not one expression"),
    (changed(ONE, show=[{"expression": "r.liters * 2", "name": "x"}]), "show[0]", "no column 'liters'"),
    (changed(ONE, show=[{"expression": "r.litres * :snice", "name": "x"}]), "show[0]", "':snice' is not declared"),
    (changed(ONE, show=[{"column": "r.estimated", "aggregate": "sum"}]), "show[0]", "there is no sum"),
    (changed(ONE, show=[{"column": "r.litres", "bucket": "month"}]), "show[0]", "there is no month"),
    (changed(ONE, show=[{"column": "r.litres", "aggregate": "last"}]), "show[0]", "which comes first"),
    (changed(ONE, show=[{"column": "r.meter_id"}, {"aggregate": "count"}]), "show[0]", "many values in a group"),
    (changed(ONE, show=[{"column": "r.read_at", "bucket": "day"}], grouped=[{"column": "r.meter_id"}]), "show[0]", "many values"),
    (changed(ONE, grouped=[{"column": "r.meter_id"}]), "show", "nothing says what is shown"),
    (changed(ONE, having={"column": "r.litres", "test": "more", "value": 1}), "having", "no groups"),
    (changed(ONE, where={"column": "r.litres", "aggregate": "sum", "test": "more", "value": 1}), "where", "cannot stand here"),
    (changed(ONE, where={"column": "r.litres", "test": "contains", "value": "1"}), "where", "never tested by 'contains'"),
    (changed(ONE, where={"column": "r.photo", "value": "x"}), "where", "never tested by 'is'"),
    (changed(ONE, where={"column": "r.litres", "value": "many"}), "where", "'many'"),
    (changed(ONE, where={"column": "r.litres", "test": "is"}), "where", "takes one value"),
    (changed(ONE, where={"column": "r.litres", "test": "is_null", "value": 1}), "where", "takes no value"),
    (changed(ONE, where={"column": "r.litres", "test": "between", "values": [1]}), "where", "takes two values"),
    (changed(ONE, where={"column": "r.litres", "test": "in_list", "value": 1}), "where", "takes values"),
    (changed(ONE, where={"column": "r.read_at", "test": "in_period", "value": "last fortnite"}), "where", "'last fortnite'"),
    (changed(ONE, where={"column": "r.meter_id", "value": {"parameter": "snice"}}), "where", "':snice' is not declared"),
    (changed(ONE, where={"column": "r.meter_id", "value": {"parameter": "some"}}), "where", "':some' is a list"),
    (changed(ONE, where={"column": "r.meter_id", "value": {"parameter": "since"}}), "where", "of type date"),
    (changed(ONE, where={"column": "r.litres", "value": {"column": "r.estimated"}}), "where", "is boolean"),
    (changed(ONE, where={"all": []}), "where", "nothing in 'all'"),
    (changed(ONE, where={"all": [{"any": [{"column": "r.nope", "value": 1}]}]}), "where.all[0].any[0]", "'nope'"),
    (changed(ONE, where={"test": "holds", "column": "r.estimated"}), "where", "takes an expression"),
    (changed(ONE, sorted=[{"by": "liters"}]), "sorted[0]", "neither shown nor a column"),
    (changed(ONE, show=[{"aggregate": "count"}], sorted=[{"by": "r.litres"}]), "sorted[0]", "many values in a group"),
    (changed(ONE, show=[{"column": "r.litres"}], distinct=True, sorted=[{"by": "r.read_at"}]), "sorted[0]", "is not shown"),
    (changed(ONE, first=0), "first", "expected"),
    (changed(ONE, **{"with": [{"table": "meters", "as": "r"}]}), "with[0]", "is called 'r' too"),
    (changed(ONE, **{"with": [{"table": "meters", "as": "m", "on": [{"left": "m.meter_id", "right": "m.district_id"}]}]}),
     "with[0].on[0]", "the joined table itself"),
    (changed(ONE, **{"with": [{"table": "meters", "as": "m", "on": [{"left": "d.district_id", "right": "m.district_id"}]},
                              {"table": "districts", "as": "d", "on": [{"left": "m.district_id", "right": "d.district_id"}]}]}),
     "with[0].on[0]", "is joined later"),
    (changed(ONE, **{"with": [{"table": "meters", "as": "m", "on": [{"left": "r.read_at", "right": "m.serial"}]}]}),
     "with[0].on[0]", "is timestamp and 'm.serial' is text"),
    (changed(ONE, **{"with": [{"table": "meters", "as": f"m{n}"} for n in range(40)]}), "", "41 tables"),
]  # fmt: skip


@pytest.mark.parametrize(("outline", "where", "words"), BAD, ids=[words for _, _, words in BAD])
def test_what_is_wrong_is_said_at_the_part_that_is_wrong(outline, where, words):
    errors = [(place, said) for severity, place, said in remarks(outline) if severity == "error"]
    assert any(place == where and words in said for place, said in errors), errors


def test_what_an_engine_has_not_is_said_before_it_is_asked():
    median = changed(ONE, show=[{"column": "r.litres", "aggregate": "median"}])
    assert "cannot be told" in remarks(median, "mariadb")[0][2]
    assert remarks(median, "duckdb") == []
    full = changed(WITH_METERS)
    full["with"][0]["join"] = "full"
    assert remarks(full, "mariadb")[0][1:] == ("with[0]", "this database has no full join.")
    pattern = changed(ONE, where={"expression": "lower('x')", "test": "matches", "value": "x"})
    assert "no regular expressions" in remarks(pattern, "sqlite")[0][2]


def test_joins_that_make_more_rows_than_one_thinks_are_told():
    def joined(*tables):
        on = {"repairs": "r.meter_id", "meters": "r.meter_id"}
        joins = [{"table": t, "as": f"j{n}", "on": [{"left": on[t], "right": f"j{n}.meter_id"}]} for n, t in enumerate(tables)]
        return changed(ONE, **{"with": joins})

    assert remarks(joined("meters")) == []
    [(severity, where, said)] = remarks(joined("repairs"))
    assert (severity, where) == ("warning", "with[0]")
    assert "Each row of readings can appear several times" in said
    crossed = remarks(changed(ONE, **{"with": [{"table": "weather", "as": "w"}]}))
    assert crossed == [
        ("warning", "with[0]", "Nothing says which rows of w belong to which: each meets each, about 200,000,000 rows.")
    ]
    summed = changed(WITH_METERS, show=[{"column": "m.district_id", "aggregate": "sum"}])
    assert ("warning", "show[0]") in [each[:2] for each in remarks(summed)]


def test_rows_that_a_condition_leaves_out_unseen_are_told():
    negated = changed(ONE, where={"all": [{"column": "r.estimated", "test": "is_not", "value": True}]})
    assert remarks(negated) == [("note", "where.all[0]", "Rows without a value in estimated are left out too.")]
    optional = changed(WITH_METERS, where={"all": [{"column": "m.serial", "value": "x"}]})
    optional["with"][0]["join"] = "left"
    assert [each[:2] for each in remarks(optional)] == [("note", "where.all[0]")]


def test_without_a_catalogue_names_are_taken_as_they_are_and_that_is_said():
    assert remarks(changed(ONE, show=[{"column": "r.anything"}]), catalogue=None) == [
        ("note", "", "The source's tables have not been looked at: no name is checked.")
    ]


def test_three_hundred_columns_and_forty_tables_are_compiled():
    wide = [table(f"t{n}", [column(f"c{m}", "integer") for m in range(8)], "c0") for n in range(40)]
    outline = {
        "outline": 1, "from": {"table": "t0"},
        "with": [{"table": f"t{n}", "on": [{"left": f"t{n - 1}.c0", "right": f"t{n}.c0"}]} for n in range(1, 40)],
        "show": [{"column": f"t{n // 8}.c{n % 8}", "name": f"x{n}"} for n in range(320)],
    }  # fmt: skip
    for each in SQL.values():
        made = Outline.from_dict(outline)
        assert each.remarks(made, wide, []) == []
        assert each.compiled(made, wide, []).statement.count("\n") == 319 + 40


JOINED = [
    ("meters", "readings", [["meters"]]),
    ("readings", "meters", [["readings"]]),
    ("readings", "districts", [["meters", "districts"]]),
    ("repairs", "readings", [["meters", "readings"]]),
    ("meters", "meters", [["meters"], ["meters"]]),
    ("districts", "tariffs", [["tariffs"]]),
    ("readings", "weather", []),
]


@pytest.mark.parametrize(("first", "wanted", "ways"), JOINED)
def test_joins_are_proposed_the_shortest_ways_first(first, wanted, ways):
    found = proposals(Outline.from_dict({"outline": 1, "from": {"table": first}}), wanted, CATALOGUE)
    tables = [[join.table for join in each.joins] for each in found]
    assert tables == [[wanted] if way == [first] else way for way in ways]
    for each in found:
        made = msgspec.structs.replace(Outline.from_dict({"outline": 1, "from": {"table": first}}), with_=each.joins)
        assert [r for r in POSTGRESQL.remarks(made, CATALOGUE, []) if r.severity == "error"] == []


def test_a_join_of_an_unknown_table_names_the_nearest():
    with pytest.raises(UnknownName, match="'distrcts'") as caught:
        proposals(Outline.from_dict(ONE), "distrcts", CATALOGUE)
    assert "districts" in caught.value.hint


def small(number):
    """A table of two columns, of which none, one, or the pair is a key."""
    return [
        table(f"t{number}", [column("a", "integer"), column("b", "integer")], None)
        | {"unique_keys": [list(key)] if key else []}
        for key in ((), ("a",), ("b",), ("a", "b"))
    ]


@given(st.data())
def test_a_row_that_is_said_to_appear_once_never_appears_twice(data):
    tables = [data.draw(st.sampled_from(small(number))) for number in range(3)]
    outline = {"outline": 1, "from": {"table": "t0"}, "with": []}
    rows = {}
    for number, each in enumerate(tables):
        drawn = data.draw(st.lists(st.tuples(st.integers(0, 2), st.integers(0, 2)), max_size=5))
        keys = each["unique_keys"]
        kept = {}
        for row in drawn:
            kept.setdefault(tuple(row["ab".index(c)] for c in keys[0]) if keys else len(kept), row)
        rows[number] = list(kept.values())
        if number:
            pairs = data.draw(
                st.lists(st.tuples(st.integers(0, number - 1), st.sampled_from("ab"), st.sampled_from("ab")), max_size=2)
            )
            on = [{"left": f"t{left}.{one}", "right": f"t{number}.{other}"} for left, one, other in pairs]
            outline["with"].append({"table": f"t{number}", "on": on})
    made = [dict(enumerate(chosen)) for chosen in itertools.product(*(range(len(rows[n])) for n in range(3)))]
    for number in (1, 2):
        for pair in outline["with"][number - 1]["on"]:
            (left, one), (_, other) = pair["left"].split("."), pair["right"].split(".")
            made = [
                m
                for m in made
                if rows[int(left[1])][m[int(left[1])]]["ab".index(one)] == rows[number][m[number]]["ab".index(other)]
            ]
    found = repeats(Tables(Outline.from_dict(outline), tables))
    for number in range(3):
        if f"t{number}" not in found.often:
            seen = [m[number] for m in made]
            assert len(seen) == len(set(seen)), (number, outline)


READ = [
    ("select * from meters", {"from": {"table": "meters"}}),
    ("select serial from meters m where m.fitted_on between date '2026-01-01' and :since",
     {"from": {"table": "meters", "as": "m"}, "show": [{"column": "serial"}], "where": {"all": [
         {"column": "fitted_on", "test": "between", "values": ["2026-01-01", {"parameter": "since"}]}]}}),
    ("select serial from meters where not (serial like 'A%' or meter_id in (1, 2)) and serial is not null",
     {"from": {"table": "meters"}, "show": [{"column": "serial"}], "where": {"all": [
         {"none": [{"expression": "serial LIKE 'A%'", "test": "holds"}, {"column": "meter_id", "test": "in_list", "values": [1, 2]}]},
         {"column": "serial", "test": "is_not_null"}]}}),
    ("select district_id, count(*) as n from meters group by 1 order by 2 desc nulls last limit 3",
     {"from": {"table": "meters"}, "show": [{"column": "district_id"}, {"aggregate": "count", "name": "n"}],
      "grouped": [{"column": "district_id"}], "sorted": [{"by": "n", "descending": True, "nulls": "last"}], "first": 3}),
    ("select d.name from meters join districts d using (district_id)",
     {"from": {"table": "meters"}, "with": [{"table": "districts", "as": "d", "on": [
         {"left": "meters.district_id", "right": "d.district_id"}]}], "show": [{"column": "d.name"}]}),
    ("select serial from meters where 5 < meter_id and serial not like '%x%'",
     {"from": {"table": "meters"}, "show": [{"column": "serial"}], "where": {"all": [
         {"column": "meter_id", "test": "more", "value": 5}, {"none": [{"expression": "serial LIKE '%x%'", "test": "holds"}]}]}}),
]  # fmt: skip


@pytest.mark.parametrize(("text", "outline"), READ, ids=[text for text, _ in READ])
def test_a_plain_select_is_read_back(text, outline):
    assert POSTGRESQL.read(text, CATALOGUE, DECLARED).to_dict() == {"outline": 1} | outline


LOST = [
    ("select 1", "reads no table"), ("with x as (select 1) select * from x", "a with clause"),
    ("select serial -- the label\nfrom meters", "comment in line 1"), ("select serial from meters offset 3", "an offset"),
    ("select serial from (select serial from meters) x", "in place of a table"), ("select distinct on (serial) serial from meters", "distinct on"),
    ("select serial from meters union select 'x'", "one select"), ("select serial from meters; select 1", "one select"),
    ("select count(*) from meters", "without a name"), ("select serial, * from meters", "a star beside"),
    ("select serial from meters natural join districts", "natural join"), ("select serial from meters order by lower(serial)", "to sort by"),
    ("select m.serial from meters m join districts d on d.name = lower(m.serial)", "of a join"),
    ("select zone, count(*) as n from districts group by rollup (zone)", "groups of groups"),
    ("select serial from meters limit :n", "a limit"), ("select serial from meters for update", "a lock"),
    ("select nope from meters", "'nope'"), ("selec serial", "one select"), ("select serial from meters tablesample system (1)", "meters"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "words"), LOST, ids=[text for text, _ in LOST])
def test_what_would_be_lost_is_said(text, words):
    with pytest.raises(BadInput) as caught:
        POSTGRESQL.read(text, CATALOGUE, DECLARED)
    assert words in caught.value.message


def test_a_look_becomes_an_outline_with_its_values_fixed_or_as_parameters():
    filters = [Filter("litres", "at_least", "2.5"), Filter("estimated", "is_null")]
    outline, parameters = of_look(CATALOGUE[2], filters, "read_at", True, ["meter_id", "litres"])
    assert (POSTGRESQL.compiled(outline, CATALOGUE, parameters).statement, parameters) == (
        "select meter_id, litres\nfrom readings\nwhere litres >= 2.5\n  and estimated is null\norder by read_at desc", []
    )  # fmt: skip
    outline, parameters = of_look(CATALOGUE[2], filters[:1] * 2, as_parameters=True)
    assert [(p.name, p.type, p.default) for p in parameters] == [("litres", "decimal", "2.5"), ("litres_2", "decimal", "2.5")]
    with pytest.raises(UnknownName, match="'litters'"):
        of_look(CATALOGUE[2], [], "litters")


def test_whole_tables_have_a_statement_each_with_labels_beside_their_keys():
    text = POSTGRESQL.together(whole_tables(["meters", "districts", "meters"], CATALOGUE, labels=True), CATALOGUE)
    assert [part.title for part in LANGUAGES["postgresql"].parts(text)] == ["meters", "districts"]
    assert "d.name as district_name" in text
    assert "left join meters m on m.meter_id = meters.replaces" in text
    assert [label_of(each) for each in CATALOGUE] == ["name", "serial", None, None, "station", "zone"]
    with pytest.raises(BadInput, match="no table is named"):
        whole_tables([], CATALOGUE)


def test_rows_are_counted_after_each_table_and_each_condition():
    outline = changed(
        CONSUMPTION, **{"with": [{"table": "repairs", "as": "p", "on": [{"left": "r.meter_id", "right": "p.meter_id"}]}]}
    )
    made = POSTGRESQL.counting(Outline.from_dict(changed(outline, show=[{"aggregate": "count"}], grouped=[])), CATALOGUE, [])
    steps = [(each.where, each.what) for each in made.steps]
    assert steps == [
        ("from", "rows"),
        ("with[0]", "rows"),
        ("with[0]", "times"),
        ("where.all[0]", "rows"),
        ("where.all[1]", "rows"),
    ]
    assert made.statement.count(" as step_") == 5


PLACES = (
    "{name}", "case when {name} < 8 then 0 else 1 end", "{name} + 1", "{name} is not null", "cast({name} as text)", "sum({name})",
    "{name} between 1 and 2", "t.{name} < 2", "{name} = 'a'", "{name} in (1, 2)", "x and {name}", "{name} like 'a'",
    "count(distinct {name})", "{name} || 'a'", "({name}) * 2", "not {name}",
)  # fmt: skip


@pytest.mark.parametrize("language", [*SQL])
def test_every_word_that_a_reader_knows_is_a_column_where_it_is_written_as_one(language):
    """All keywords and functions of four dialects, wherever in an expression."""
    outlines = SQL[language]
    parser = Parser(outlines.dialect, outlines.forms)
    known = set()
    for each in map(Reader.get_or_raise, ("postgres", "mysql", "sqlite", "duckdb")):
        of = each.parser_class
        known |= {*each.tokenizer_class.KEYWORDS, *of.FUNCTIONS, *of.FUNCTION_PARSERS, *of.NO_PAREN_FUNCTION_PARSERS}
    words = sorted({word.lower() for word in known if word.isidentifier()})
    assert len(words) > 1000
    for word in words:
        name = outlines.dialect.identifier(word)
        for place in PLACES if name == word else PLACES[:2]:
            text = place.format(name=name)
            assert word in {found.name.lower() for found in parser.term(text).find_all(exp.Column)}, (word, text)
