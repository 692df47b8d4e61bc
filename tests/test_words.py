"""Words and lists as people write them."""

from __future__ import annotations

import pytest

from patient_ladle.words import listed


@pytest.mark.parametrize(
    ("text", "members"),
    [("a, b,c", ["a", "b", "c"]), ("a,1; b", ["a,1", "b"]), ("a", ["a"]), ("", [""]), ("north, south;", ["north, south", ""])],
)
def test_a_list_is_separated_by_commas_unless_it_has_a_semicolon(text, members):
    assert listed(text) == members
