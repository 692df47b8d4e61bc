"""What is printed for a person, however wide the terminal."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.cells import cell_len
from rich.console import Console

from patient_ladle.cli import output
from tests.profile import examples

WORDS = st.text(st.sampled_from("ab é水-"), max_size=20).map(str.strip)


def printed(capsys, columns, rows, width):
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(output, "console", lambda needed=0: Console(width=width or max(240, needed), soft_wrap=True))
        output.print_rows_of(columns, rows, "no rows.")
    return capsys.readouterr().out.splitlines()


def test_many_columns_are_a_line_each_in_a_terminal_and_a_table_for_a_pipe(capsys):
    columns, row = [f"column_{n}" for n in range(29)], [f"value {n}" for n in range(29)]
    lines = printed(capsys, columns, [row, row], 100)
    assert lines[:3] == ["row 1", "  column_0   value 0", "  column_1   value 1"]
    assert (len(lines), lines[31]) == (2 * 30 + 1, "row 2")
    assert [line.split() for line in printed(capsys, columns, [row], 0)] == [columns, " ".join(row).split()]
    assert printed(capsys, columns[:3], [row[:3]], 100) == ["column_0  column_1  column_2", "value 0   value 1   value 2 "]
    assert printed(capsys, columns, [], 100) == ["no rows."]


@examples(1)
@given(data=st.data(), count=st.integers(1, 12), width=st.integers(20, 120))
def test_no_value_is_cut_and_none_is_broken_into_letters(capsys, data, count, width):
    columns = [f"c{n}" for n in range(count)]
    rows = data.draw(st.lists(st.lists(WORDS, min_size=count, max_size=count), min_size=1, max_size=3))
    lines = printed(capsys, columns, rows, width)
    letters = sorted("".join(cell for row in rows for cell in row).replace(" ", ""))
    if lines[0] == "row 1":
        values = [line[2 + max(map(len, columns)) :] for line in lines if line[:3] not in ("", "row")]
        assert sorted("".join(values).replace(" ", "")) == letters
        assert (
            sum(min(max(len(n), *(cell_len(r[p]) for r in rows)), output.READABLE) for p, n in enumerate(columns)) + 2 * count
            > width
        )
    else:
        assert sorted("".join(lines[1:]).replace(" ", "")) == letters
        assert max(map(cell_len, lines)) <= width
