"""Out and back again: whatever the statement and its values, the parameters stand where they stood."""

from __future__ import annotations

from datetime import date, datetime, timezone

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.errors import BadInput, LadleError
from patient_ladle.core.statements.languages.mariadb import MARIADB
from patient_ladle.core.statements.languages.postgresql import POSTGRESQL
from patient_ladle.core.statements.parts import place
from patient_ladle.core.statements.scanner import parameter_names
from patient_ladle.core.values.parameters import Parameter, resolve
from tests.core.languages.cases import SQL_LANGUAGES

DECLARED = [
    {"name": "who"}, {"name": "day", "type": "date"}, {"name": "at", "type": "timestamp"}, {"name": "n", "type": "integer"},
    {"name": "rate", "type": "decimal", "required": False}, {"name": "on", "type": "boolean"}, {"name": "many", "is_list": True},
    {"name": "place", "type": "identifier", "allowed": ["a.b", 'q"`x']}, {"name": "secret", "sensitive": True},
]  # fmt: skip
TEXTS = st.text(st.characters(exclude_characters="\0", exclude_categories=["Cs"]), max_size=12)
PIECES = st.sampled_from(["select ", ":who", ":day", ":at", ":n", ":rate", ":on", ":many", ":place", ":secret", ":data_date", " and ", "'it''s'", '"n"',
                          "/* kept */", "-- line\n", "x::int", "\n", "(", ")", ", ", "é", " \u202e"])  # fmt: skip


def bound(who="x", many=("x",)):
    values = {
        "who": who,
        "day": "2026-11-01",
        "at": "2026-11-01 06:30",
        "n": 7,
        "on": True,
        "many": list(many),
        "place": 'q"`x',
        "secret": "hidden!",
    }
    declared = [Parameter.from_dict(d) for d in DECLARED]
    return resolve(declared, values, date(2026, 11, 24), datetime(2026, 11, 24, 6, 5, tzinfo=timezone.utc))


@given(st.sampled_from(sorted(SQL_LANGUAGES)), st.lists(PIECES, max_size=12).map(" ".join), TEXTS, st.lists(TEXTS, max_size=3))
def test_out_and_back_is_the_same_text(name, text, who, many):
    dialect = SQL_LANGUAGES[name]
    try:
        names = parameter_names(text, dialect)
    except LadleError:
        return
    filled = dialect.fill_in(text, bound(who, many))
    assert dialect.restore(filled.text) == text
    assert parameter_names(filled.text, dialect) == []
    assert "hidden!" not in filled.text
    for each in names:
        assert f"/* :{each} */" in filled.text


def test_text_and_values_may_change_outside_and_the_parameters_still_come_back():
    filled = POSTGRESQL.fill_in("select 1 where day > :day and name = :who", bound()).text
    assert filled == "select 1 where day > /* :day */ '2026-11-01'::date /* : */ and name = /* :who */ 'x'::text /* : */"
    changed = filled.replace("2026-11-01", "2020-01-01").replace("select 1", "select 2, ':no'").replace("/* : */", "/*:*/")
    assert POSTGRESQL.restore(changed) == "select 2, ':no' where day > :day and name = :who"
    assert MARIADB.fill_in(":who", bound("a\\'b")).text == "/* :who */ 'a\\\\''b' /* : */"


@pytest.mark.parametrize(
    ("text", "column"),
    [("a /* :who */ 1", 3), ("a /* : */", 3), ("/* :a */ /* :b */ 1 /* : */", 10), ("é /* :who */ '/* : */'", 3)],
)
def test_a_mark_without_its_other_is_placed(text, column):
    with pytest.raises(BadInput) as refused:
        POSTGRESQL.restore(text)
    assert place(text, column - 1) == (refused.value.facts["line"], refused.value.facts["column"])
