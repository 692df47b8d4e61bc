"""What is proposed at a position of a statement: by scope, in every SQL, also of texts that are not finished."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.statements.completion import MOST_PROPOSALS
from patient_ladle.core.statements.languages.duckdb import DUCKDB
from patient_ladle.core.statements.languages.mariadb import MARIADB
from patient_ladle.core.statements.languages.postgresql import POSTGRESQL
from patient_ladle.core.statements.languages.sqlite import SQLITE
from tests.core.languages.cases import SQL_LANGUAGES


def table(name, *columns, schema="", kind="table"):
    return {"schema": schema, "name": name, "kind": kind, "columns": [{"name": c, "type": t} for c, t in columns]}


TABLES = [
    table("districts", ("district_id", "integer"), ("name", "text"), ("zone", "text")),
    table("readings", ("reading_id", "bigint"), ("district_id", "integer"), ("litres", "numeric")),
    table("readings", ("old_id", "bigint"), schema="archive", kind="view"),
    table("Odd Name", ("Mixed Case", "text")),
]
DISTRICTS, READINGS = ["district_id", "name", "zone"], ["reading_id", "district_id", "litres"]


def found(marked, language=POSTGRESQL, asked=True, tables=TABLES):
    return language.completion(marked.replace("|", ""), marked.index("|"), tables, ["since", "zones"], asked)


def at(marked, kind="column", **more):
    """Labels of a kind that are proposed at the bar in the text."""
    made = found(marked, **more)
    return [each.label for each in made.proposals if each.kind == kind] if made else None


@pytest.mark.parametrize(
    ("marked", "columns"),
    [
        ("select | from districts", DISTRICTS),
        ("select d.| from districts d join readings r using (district_id)", DISTRICTS),
        ("select r.l| from districts d, readings as r", READINGS),
        ("select 1 from districts d where exists (select 1 from readings r where r.| = d.district_id)", READINGS),
        ("select x.| from (select name as n, zone, litres + 1 as more from districts, readings) x", ["n", "zone", "more"]),
        ("select x.| from (select * from districts) x", DISTRICTS),
        ("select x.| from (select r.* from districts d, readings r) x", READINGS),
        ("with u as (select district_id, sum(litres) as used from readings group by 1) select u.| from u", ["district_id", "used"]),
        ("with u (a, b) as (select 1, 2), v as (select a as c from u) select v.| from v", ["c"]),
        ("select name from districts union select | from readings", READINGS),
        ("select name from districts; select | from readings", READINGS),
        ("select r.| from archive.readings r", ["old_id"]),
        ("select R.| from Readings r", READINGS),
        ('select "r".| from readings as "r"', READINGS),
        ("select d.| from districts d where name = 'not closed", DISTRICTS),
        ("select d.| from districts d where name = : and ? (", DISTRICTS),
        ("select ':x', d.| /* from readings d */ from districts d -- x", DISTRICTS),
        ("select r.| from districts d cross join lateral (select 1) z left outer join readings r on d.zone = z.zone", READINGS),
        ("select nothing.| from districts d", None),
        ("select '|' from districts", None),
        ("select 'it''s |", None),
        ('select "na|', None),
        ("select /* | */ 1", None),
        ("select 1 -- |\nfrom districts", None),
        ("select $x$ |", None),
    ],
)  # fmt: skip
def test_columns_are_those_that_are_in_sight(marked, columns):
    assert at(marked) == columns


def test_tables_and_names_made_by_with_come_after_from_and_parameters_after_a_colon():
    made = found("with u as (select 1 as one) select * from |")
    assert [each.label for each in made.proposals] == ["u", "districts", "readings", "archive.readings", "Odd Name"]
    assert [each.apply or each.label for each in made.proposals][-1] == '"Odd Name"'
    assert at("select 1 where x > :|", "parameter") == at("select 1 where x > :si|", "parameter") == ["since", "zones"]
    assert not at("select x::|", "parameter")
    assert at("select archive.| from x", "table") == ["readings"]


def test_the_inner_tables_come_first_and_the_outer_ones_stay_in_sight():
    marked = "select 1 from districts d where exists (select 1 from readings r where |)"
    assert at(marked, "alias") == ["r", "d"]


@pytest.mark.parametrize(
    ("language", "name", "written"),
    [
        (POSTGRESQL, "Odd Name", '"Odd Name"'),
        (POSTGRESQL, "Mixed", '"Mixed"'),
        (DUCKDB, "Mixed", "Mixed"),
        (MARIADB, "a b", "`a b`"),
        (MARIADB, "1st", "`1st`"),
        (SQLITE, "archive.x", "archive.x"),
        (SQLITE, 'a"b', '"a""b"'),
    ],
)
def test_names_are_written_as_the_language_needs_them(language, name, written):
    assert language.written(name) == written


def test_nothing_is_proposed_at_a_blank_unless_somebody_asks():
    assert found("select | from districts", asked=False) is None
    assert at("select nam| from districts", asked=False) == DISTRICTS
    assert "name" not in at("select name| from districts", asked=False), "it stands there already"


def test_words_of_the_language_and_of_the_text_are_proposed_once():
    made = found("select meter_reading, METER_reading, zone from districts where |")
    labels = [each.label.lower() for each in made.proposals]
    assert labels.count("meter_reading") == 1
    assert [each.kind for each in made.proposals if each.label == "zone"] == ["column"]
    assert "ilike" in labels
    assert "rlike" in [each.label for each in found("select |", MARIADB).proposals]


def test_of_many_tables_the_likeliest_are_told_and_typing_on_asks_anew():
    many = [table(f"t{n}", ("c", "text")) for n in range(2_000)] + [table("zones", ("c", "text"))]
    made = found("select 1 from zo|", tables=many)
    assert ([each.label for each in made.proposals], made.typed, made.complete) == (["zones"], "zo", False)
    assert len(found("select 1 from |", tables=many).proposals) == MOST_PROPOSALS


PIECES = st.sampled_from(["select", "from", "with", "a as (", "(", ")", ",", ".", "districts", "d", "'", '"', "/*", "--", "\n",
                          ";", ":", "::", "$x$", "[", "union", "é\u202e", "\U0001f4a7", "`", "#", "*", "join", "on", "1e"])  # fmt: skip


@given(st.sampled_from(sorted(SQL_LANGUAGES)), st.lists(PIECES, max_size=14), st.sampled_from(["", " "]), st.data())
def test_any_text_is_answered_at_any_place(name, pieces, between, data):
    text = between.join(pieces)
    position = data.draw(st.integers(0, len(text)))
    made = SQL_LANGUAGES[name].completion(text, position, TABLES, ["since"], True)
    if made is not None:
        assert text[:position].endswith(made.typed)


def test_deep_and_long_texts_are_answered():
    assert len(at("select " + "(" * 600 + "|", "table")) == 4
    assert at("select d.| from districts d" + ", x" * 20_000) == DISTRICTS
    nested = "(select *, *, * from " * 500 + "districts" + ") x" * 500
    assert at(f"select d.| from districts d, {nested}") == DISTRICTS
    assert len(at("select x.| from " + "(select *, *, * from " * 12 + "districts" + ") x" * 12)) <= MOST_PROPOSALS
