"""Whatever text somebody sends, working on it takes time that grows with the text only.

What was quadratic took minutes for a text of these sizes: the tests end it then, whatever the machine.
"""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.advice import of_text_and_parts, of_types
from patient_ladle.core.dialects import DIALECTS
from patient_ladle.core.differences import MOST_PAIRS, lines_between
from patient_ladle.core.errors import LadleError
from patient_ladle.core.filling import bring_back
from patient_ladle.core.parameters import Parameter
from patient_ladle.core.scanner import called_names, names_used

LENGTH = 128 << 10
PIECES = ["a;", ";", "[", "(", "()", "[]", "''", "'a',", "a ", "a+", "/*", "/**/", "--\n", ":a ", ":a,", "$$", "$a$", '""', "e''", "E'\\'", "1.", "1e", "u&",
          "select 1;", "'", '"', "`", "a$", "é", "for ", "for update ", "\r\n", "\n", "[:a]", "a[1:n]", "#", "#\n", "- ", "-", "/", "$1", "$a", "(a", "a(", "::",
          "1_", "x'a'", "'\\", "select (", "*,", "from a,", "join b ", "with a as (", "/* :a */ 1 /* : */ ", "(insert ", "a.", "\\", "?", "\u00a0"]  # fmt: skip
TABLE = {"schema": "", "name": "a", "columns": [{"name": "a", "kind": "date", "type": "date"}]}


@pytest.mark.parametrize("dialect", DIALECTS.values(), ids=DIALECTS)
@pytest.mark.parametrize("before", ["", "select "])
def test_no_text_takes_longer_than_its_length_says(dialect, before):
    declared = [Parameter("a", "integer")]
    for piece in PIECES:
        text = before + piece * (LENGTH // len(piece.encode()))
        for work in (names_used, called_names, bring_back):
            try:
                work(text, dialect)
            except LadleError as refused:
                assert refused.hint
        remarks, parts = of_text_and_parts(text, dialect, declared)
        assert remarks or parts
        if parts:
            of_types(text, dialect, declared, [TABLE])


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
