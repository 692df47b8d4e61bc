"""Parameters are found where they are, and nowhere else; refusals say where."""

from __future__ import annotations

from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.errors import StatementRefused
from patient_ladle.core.statements.languages.postgresql import POSTGRESQL
from patient_ladle.core.statements.languages.sqlite import SQLITE
from patient_ladle.core.statements.lexing import scan
from patient_ladle.core.statements.parts import MAX_STATEMENT_BYTES, place
from patient_ladle.core.statements.scanner import one_reading_statement, parameter_names, replace_parameters, statements
from tests.core.languages.cases import SQL_LANGUAGES

FOUND = [
    (POSTGRESQL, "select :a, :b, :a", ["a", "b"]),
    (POSTGRESQL, "select ':a' || \":b\" || :c", ["c"]),
    (POSTGRESQL, "select 'it''s :a', E'\\':b', :c", ["c"]),
    (POSTGRESQL, "select x::int, :a::date, y := 3", ["a"]),
    (POSTGRESQL, "-- :a\nselect :b /* :c /* :d */ :e */", ["b"]),
    (POSTGRESQL, "select $$ :a $$, $t$ $$ :b $t$, :c", ["c"]),
    (POSTGRESQL, "select arr[1:n], arr[:n], (f())[:n], arr[(:i)]", ["i"]),
    (POSTGRESQL, "select array[:a, :b], array[array[:c]]", ["a", "b", "c"]),
    (POSTGRESQL, "select t.e, e'\\'' , eleven from e where e=:e", ["e"]),
    (POSTGRESQL, "select '{\"a\": 1}'::jsonb ? :k and a->>':x' = :v", ["k", "v"]),
    (SQLITE, "select [a :b], `c :d`, :e /* :f /* :g */, :h", ["e", "h"]),
    (SQLITE, "select 'a\\', :b", ["b"]),
    (SQLITE, "select :größe, ':x'", ["größe"]),
]


@pytest.mark.parametrize(("dialect", "text", "names"), FOUND)
def test_finds_parameters_and_leaves_everything_else_alone(dialect, text, names):
    assert parameter_names(text, dialect) == names


pieces = st.sampled_from(
    [
        "select ",
        "'a :b ''c'",
        '"q :r"',
        "/* :s */",
        "-- :t\n",
        "$$ :u $$",
        ":name",
        "::int",
        "[1:2]",
        "\n",
        "é🜁",
        ";",
        " from t ",
    ]
)


@given(st.lists(pieces).map("".join), st.sampled_from(list(SQL_LANGUAGES.values())))
def test_tokens_cover_the_text_without_a_gap(text, dialect):
    try:
        tokens = list(scan(text, dialect))
    except StatementRefused:
        return
    assert "".join(text[t.start : t.end] for t in tokens) == text
    assert replace_parameters(text, dialect, lambda name: f":{name}").text == text


@given(st.text(), st.sampled_from(list(SQL_LANGUAGES.values())))
def test_no_text_at_all_breaks_the_scanner(text, dialect):
    try:
        one_reading_statement(text, dialect)
    except StatementRefused as refused:
        assert refused.message
        assert refused.hint


@given(st.lists(st.sampled_from(["ab ", ":p ", "\n", ":longer_name\n", "x "])).map("".join))
def test_positions_lead_back_to_the_authors_text(text):
    rendered = replace_parameters(text, SQLITE, lambda name: f"<{name}!>")
    for at, char in enumerate(rendered.text):
        if char in "abx" and not any(s <= at < s + n for s, n, _, _ in rendered.spans):
            assert text[rendered.original(at)] == char


REFUSED = [
    ("update districts set name = 'x'", "begins with 'update' at line 1, column 1"),
    ("-- tidy up\n  delete from readings", "begins with 'delete' at line 2, column 3"),
    ("select 1;\ndrop table readings", "a second statement begins where one is wanted at line 2, column 1"),
    ("", "the statement is empty"),
    ("-- nothing\n;", "the statement is empty"),
    ("select 'a", "string that begins at line 1, column 8 is never closed"),
    ("select 1 /* x", "comment that begins at line 1, column 10"),
    ("select 1\0", "NUL character at line 1, column 9"),
    ("select '" + "x" * MAX_STATEMENT_BYTES + "'", "at most 262,144 are taken"),
]


@pytest.mark.parametrize(("text", "words"), REFUSED)
def test_refuses_what_is_not_one_reading_statement_and_says_where(text, words):
    with pytest.raises(StatementRefused) as refused:
        one_reading_statement(text, POSTGRESQL)
    assert words in refused.value.message
    assert refused.value.hint


@pytest.mark.parametrize(
    "text", ["select 1;", "(select 1) union (select 2)", "/* a */ WITH x AS (SELECT 1) SELECT * FROM x", "table t"]
)
def test_takes_one_reading_statement(text):
    assert one_reading_statement(text, POSTGRESQL).rstrip() == text.rstrip(";")


def test_a_place_counts_code_points():
    assert place("é🜁\nab", 4) == (2, 2)


def test_a_statement_of_the_largest_size_and_deep_parentheses_pass():
    deep = "select " + "(" * 600 + "1" + ")" * 600
    assert one_reading_statement(deep, POSTGRESQL) == deep
    large = "select '" + "x" * (MAX_STATEMENT_BYTES - 9) + "'"
    assert one_reading_statement(large, POSTGRESQL) == large


@pytest.mark.parametrize("dialect", SQL_LANGUAGES.values(), ids=SQL_LANGUAGES)
def test_several_statements_keep_their_titles_and_places(dialect):
    text = "-- First; of all\nselect ';' as a, 1 /* ; */;\n\n  select 2 as b;;\n-- Third\n-- more of it\nselect :c ; -- over\n"
    parts = statements(text, dialect)
    assert [part.title for part in parts] == ["First; of all", "statement 2", "Third"]
    for part, word in zip(parts, ("select ';'", "select 2", "select :c"), strict=True):
        assert place(part.text, part.text.index(word)) == place(text, text.index(word))
        assert part.text.strip() == text[part.start : part.end].strip()
        assert len(part.text) == part.end


@pytest.mark.parametrize(
    ("text", "line", "column"),
    [("select 1;\n delete from x", 2, 2), ("select 1; select\n 'a", 2, 2), ("select 1;\n\nselect 2 into x", 3, 10), ("select 1\0", 1, 9),
     ("select '\ud800'", 1, 9)],
)  # fmt: skip
def test_the_one_statement_that_does_not_read_is_named(text, line, column):
    with pytest.raises(StatementRefused) as refused:
        statements(text, POSTGRESQL)
    assert (refused.value.facts["line"], refused.value.facts["column"]) == (line, column)


@given(st.sampled_from(sorted(SQL_LANGUAGES)), st.text(st.sampled_from("select;'\"-/*$`#[]() \n:a1é\u202e"), max_size=60))
def test_any_text_is_parted_into_statements_or_refused(name, text):
    try:
        parts = statements(text, SQL_LANGUAGES[name])
    except StatementRefused as refused:
        assert refused.hint
        return
    assert parts
    for before, after in pairwise(parts):
        assert before.end <= after.start
