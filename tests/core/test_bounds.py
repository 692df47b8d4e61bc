"""Whatever text somebody sends, working on it takes time that grows with the text only.

What was quadratic took minutes for a text of these sizes: the tests end it then, whatever the machine.
"""

from __future__ import annotations

import sys

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.errors import LadleError
from patient_ladle.core.results.differences import MOST_PAIRS, lines_between
from patient_ladle.core.statements.filling import restore_parameters
from patient_ladle.core.statements.references import references
from patient_ladle.core.statements.text_diagnostics import of_text_and_parts, of_types
from patient_ladle.core.values.parameters import Parameter
from tests.core.languages.cases import SQL_LANGUAGES
from tests.profile import LONG

LENGTH = (20 if LONG else 6) << 10
PIECES = ["a;", ";", "[", "(", "()", "[]", "''", "'a',", "a ", "a+", "/*", "/**/", "--\n", ":a ", ":a,", "$$", "$a$", '""', "e''", "E'\\'", "1.", "1e", "u&",
          "select 1;", "'", '"', "`", "a$", "é", "for ", "for update ", "\r\n", "\n", "[:a]", "a[1:n]", "#", "#\n", "- ", "-", "/", "$1", "$a", "(a", "a(", "::",
          "1_", "x'a'", "'\\", "select (", "*,", "from a,", "join b ", "with a as (", "/* :a */ 1 /* : */ ", "(insert ", "a.", "\\", "?", "\u00a0"]  # fmt: skip
TABLE = {"schema": "", "name": "a", "columns": [{"name": "a", "kind": "date", "type": "date"}]}


def proposed_after(dialect, text):
    dialect.completion(text, len(text), [TABLE | {"kind": "table"}], ["a"], True)


@pytest.mark.parametrize("dialect", SQL_LANGUAGES.values(), ids=SQL_LANGUAGES)
def test_no_text_takes_longer_to_cut_than_its_length_says(dialect):
    for piece in PIECES:
        text = "select " + piece * (LENGTH // len(piece.encode()))
        for work in (type(dialect).names_used, references, restore_parameters, proposed_after):
            try:
                work(text, dialect) if work in (references, restore_parameters) else work(dialect, text)
            except LadleError as refused:
                assert refused.hint


def calls_of(work, *given):
    """How many calls of functions the work takes: no measure of time, and the same on every machine."""
    count = 0

    def seen(_frame, event, _argument):
        nonlocal count
        count += event in ("call", "c_call")

    sys.setprofile(seen)
    try:
        work(*given)
    finally:
        sys.setprofile(None)
    return count


def diagnostics_on(text, dialect):
    declared = [Parameter("a", "integer")]
    diagnostics, parts = of_text_and_parts(text, dialect, declared)
    assert diagnostics or parts
    if parts:
        of_types(text, dialect, declared, [TABLE])


@pytest.mark.parametrize("dialect", SQL_LANGUAGES.values(), ids=SQL_LANGUAGES)
def test_diagnostics_take_work_that_grows_with_the_text(dialect):
    for piece in PIECES:
        short, long = (calls_of(diagnostics_on, "select " + piece * count, dialect) for count in (100, 800))
        assert long < 9 * short + 3_000, f"{piece!r}: {short} calls for 100 of it, {long} for 800"


@pytest.mark.parametrize("lines", ["x\n", "x\ny\n", "a b\n\n"])
def test_differences_of_long_texts_are_bounded(lines):
    before, after = "start\n" + lines * 40_000 + "end\n", "begin\n" + lines * 41_000 + "finish\n"
    found = lines_between(before, after)
    assert [line.text for line in found if line.kind != "added"] == before.splitlines()
    assert [line.text for line in found if line.kind != "removed"] == after.splitlines()
    assert len(before.splitlines()) * len(after.splitlines()) > MOST_PAIRS


@given(st.lists(st.sampled_from("abcd"), max_size=12), st.lists(st.sampled_from("abcd"), max_size=12))
def test_differences_tell_both_texts_whole(before, after):
    found = lines_between("\n".join(before), "\n".join(after))
    assert [line.text for line in found if line.kind != "added"] == before
    assert [line.text for line in found if line.kind != "removed"] == after
    assert [line.before for line in found if line.before] == list(range(1, len(before) + 1))
