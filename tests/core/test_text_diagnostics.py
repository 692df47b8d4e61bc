"""Diagnostics: right where something can be known, silent where it cannot."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.errors import LadleError, StatementRefused, StatementWrong
from patient_ladle.core.statements import text_diagnostics
from patient_ladle.core.statements.diagnostics import OtherCatalogue
from patient_ladle.core.statements.languages.duckdb import DUCKDB
from patient_ladle.core.statements.languages.mariadb import MARIADB
from patient_ladle.core.statements.languages.postgresql import POSTGRESQL
from patient_ladle.core.statements.languages.sqlite import SQLITE
from patient_ladle.core.values.parameters import Parameter
from tests.core.languages.cases import SQL_LANGUAGES


def table(called, schema="", **columns):
    return {
        "schema": schema, "name": called, "kind": "table", "comment": "", "rows_about": None, "primary_key": [], "foreign_keys": [],
        "columns": [{"name": c, "kind": kind, "type": kind} for c, kind in columns.items()],
    }  # fmt: skip


CATALOGUE = [
    table("districts", district_id="integer", name="text", zone="text"),
    table("readings", reading_id="integer", district_id="integer", litres="decimal", read_at="zoned"),
    table("readings", "archive", reading_id="integer", litres="decimal"),
    table("staff", "people", name="text"),
]
OTHERS = [OtherCatalogue("works", [table("leaks", leak_id="integer")]), OtherCatalogue("laboratory", [table("samples")])]


def declared(**kinds):
    return [
        Parameter.from_dict({"name": name, **({"type": kind} if isinstance(kind, str) else kind)})
        for name, kind in kinds.items()
    ]


def codes(diagnostics):
    return [(r.code, r.line, r.column) for r in diagnostics]


@pytest.mark.parametrize(
    ("dialect", "text", "parameters", "found"),
    [
        (POSTGRESQL, "select name from districts", {}, []),
        (POSTGRESQL, "select name\nfrom districts where zone = :zne", {"zone": "text"},
         [("parameter_unused", 1, 1), ("parameter_undeclared", 2, 29)]),
        (POSTGRESQL, "select 1 where :span is null", {"span": "period"}, [("parameter_unused", 1, 1), ("parameter_undeclared", 1, 16)]),
        (POSTGRESQL, "select 1 where :data_date > date '2026-01-01' and :span_from < :span_to", {"span": "period"}, []),
        (POSTGRESQL, "select 1 where 'a' = any(:z)", {"z": "text"}, [("parameter_takes_one", 1, 26)]),
        (POSTGRESQL, "select 1 where 'a' in (:z)", {"z": {"is_list": True}}, [("list_in_parentheses", 1, 24)]),
        (POSTGRESQL, "select 1 where 'a' in (:z)", {"z": "text"}, []),
        (MARIADB, "select 1 where 'a' in :z", {"z": "text"}, [("parameter_takes_one", 1, 23)]),
        (MARIADB, "select 1 where 'a' in (:z)", {"z": {"is_list": True}}, [("list_in_parentheses", 1, 24)]),
        (SQLITE, "select 1 where 'a' in :z", {"z": {"is_list": True}}, []),
        (DUCKDB, "select 1 where 'a' = any(:z)", {"z": {"is_list": True}}, []),
        (POSTGRESQL, "select * from districts", {}, [("star", 1, 8)]),
        (POSTGRESQL, "select d.*, 1 from districts d", {}, [("star", 1, 10)]),
        (POSTGRESQL, "select count(*), 2 * 3 from districts", {}, []),
        (POSTGRESQL, "select * from (select name from districts) x", {}, []),
        (POSTGRESQL, "with x as (select name from districts) select * from x", {}, []),
        (POSTGRESQL, "select 1; select *\nfrom districts", {}, [("star", 1, 18)]),
        (POSTGRESQL, "select 1;\ndelete from districts", {}, [("statement_refused", 2, 1)]),
        (POSTGRESQL, "select 'open", {}, [("statement_refused", 1, 8)]),
        (POSTGRESQL, "", {}, [("statement_refused", 1, 1)]),
    ],
)  # fmt: skip
def test_what_the_text_alone_tells(dialect, text, parameters, found):
    diagnostics = sorted(text_diagnostics.of_text(text, dialect, declared(**parameters)), key=lambda r: (r.line, r.column))
    assert codes(diagnostics) == found
    assert all(r.hint and r.message for r in diagnostics)


@pytest.mark.parametrize(
    ("text", "missing", "name", "hint", "place"),
    [
        ("select name\nfrom distrcts", "table", "distrcts", "Did you mean districts?", (2, 6, 8)),
        ("select 1 from staff", "table", "staff", "It is in another schema: write people.staff.", (1, 15, 5)),
        ("select 1 from leaks", "table", "leaks", "It is not in this source, but in source works.", (1, 15, 5)),
        ("select 1 from archive.leaks", "table", "archive.leaks", "It is not in this source, but in source works.", (1, 23, 5)),
        ("select 1 from xyzzy", "table", "xyzzy", "as the database says", (1, 15, 5)),
        ("select d.nmae from districts d", "column", "d.nmae", "Did you mean d.name?", (1, 10, 4)),
        ("select nmae from districts", "column", "nmae", "Did you mean name?", (1, 8, 4)),
        (
            "select d.litres from districts d join readings r using (district_id)",
            "column",
            "d.litres",
            "Did you mean r.litres?",
            (1, 10, 6),
        ),
        ("select r.xyzzy from readings r", "column", "r.xyzzy", "as the database says", (1, 10, 5)),
        ("select nmae from (select 1 as a) q", "column", "nmae", "as the database says", (1, 8, 4)),
        ("select \"nmae\", 'nmae' from districts -- nmae", "column", "nmae", "Did you mean name?", (1, 8, 4)),
        ("select 'é', x.name from districts d", "column", "x.name", "Did you mean d.name?", (1, 15, 4)),
    ],
)
def test_a_missing_name_is_placed_and_looked_for(text, missing, name, hint, place):
    error = StatementWrong("no such thing.", "as the database says", missing=missing, name=name, line=1, column=1)
    diagnostic = text_diagnostics.of_error(error, text, text, POSTGRESQL, CATALOGUE, OTHERS)
    assert (diagnostic.hint, (diagnostic.line, diagnostic.column, diagnostic.length)) == (hint, place)
    assert text_diagnostics.of_error(error, text, text, POSTGRESQL, None, []).hint == "as the database says"


@pytest.mark.parametrize(
    ("text", "kind", "warned"),
    [
        ("select 1 from districts where zone = :p", "integer", True),
        ("select 1 from districts d where :p <> d.zone", "date", True),
        ("select 1 from readings where read_at >= :p", "date", False),
        ("select 1 from readings where read_at >= :p", "integer", True),
        ("select 1 from readings r where r.litres < :p", "integer", False),
        ("select 1 from districts where zone = :p::text", "integer", False),
        ("select 1 from districts where zone || 'x' = :p", "integer", False),
        ("select 1 from districts where length(zone) = :p", "integer", False),
        ("select 1 from (select 1 as zone) q, districts where zone = :p", "integer", False),
        ("with districts as (select 1 as zone) select 1 from districts where zone = :p", "integer", False),
        ("select 1 from districts d where d.zone = :p and exists (select 1 from readings d)", "integer", False),
        ("select 1 from districts, readings where district_id = :p", "date", False),
        ("select 1 from nowhere where zone = :p", "integer", False),
    ],
)
def test_a_type_is_compared_only_where_it_is_surely_that_column(text, kind, warned):
    found = POSTGRESQL.diagnostics_on_columns(text, declared(p=kind), CATALOGUE)
    assert [r.code for r in found] == (["other_type"] if warned else [])
    assert SQLITE.diagnostics_on_columns(text, declared(p=kind), CATALOGUE) == []


def test_names_by_the_stored_catalogue_when_the_source_is_silent():
    text = "with x as (select 1) select * from x, districts, lateral (select 1) y join leaks on a is distinct from b; select 1 from redings"
    found = text_diagnostics.of_names(text, POSTGRESQL, CATALOGUE, OTHERS)
    assert [(r.severity, r.hint) for r in found] == [("warning", "It is not in this source, but in source works."),
                                                    ("warning", "Did you mean readings?")]  # fmt: skip


PIECES = st.sampled_from(["select", "from", "join", "districts", "d", "as", "with", "x", "(", ")", ",", ".", ":p", "=", "any", "in", "*", "'a'", '"n"',
                          ";", "--", "\n", "::", "é", "\u202e", "\u0301", "1", "e'", "union", "lateral", "distinct"])  # fmt: skip


@given(st.sampled_from(sorted(SQL_LANGUAGES)), st.one_of(st.text(max_size=50), st.lists(PIECES, max_size=25).map(" ".join)))
def test_whatever_is_typed_gets_diagnostics_in_its_own_bounds(name, text):
    dialect, parameters = SQL_LANGUAGES[name], declared(p="date", q={"is_list": True})
    diagnostics = text_diagnostics.of_text(text, dialect, parameters)
    if not any(r.severity == "error" for r in diagnostics):
        diagnostics += text_diagnostics.of_types(text, dialect, parameters, CATALOGUE) + text_diagnostics.of_names(
            text, dialect, CATALOGUE, OTHERS
        )
    lines = text.split("\n")
    for diagnostic in diagnostics:
        assert 1 <= diagnostic.line <= len(lines)
        assert 1 <= diagnostic.column <= len(lines[diagnostic.line - 1]) + 1
    try:
        error = StatementWrong("no", "hint", missing="column", name="d.x", line=1, column=1)
        text_diagnostics.of_error(error, text, text, dialect, CATALOGUE, OTHERS)
    except LadleError as refused:
        assert isinstance(refused, StatementRefused)


def test_deep_wide_and_long_texts_are_answered():
    deep = "select " + "(" * 600 + "1" + ")" * 600
    wide = "select 1 from districts where zone in (" + ", ".join(f"'{n}'" for n in range(2_000)) + ")"
    for text in (deep, wide, "select 1 -- " + "x" * 250_000, "select " + ", ".join(f"d.c{n}" for n in range(8_000))):
        for dialect in SQL_LANGUAGES.values():
            text_diagnostics.of_text(text, dialect, [])
            text_diagnostics.of_types(text, dialect, [], CATALOGUE)
