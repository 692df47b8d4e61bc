"""Inputs from three databases at once: whatever the engines make of values, a join gives what loops over them give."""

from __future__ import annotations

import pytest
from hypothesis import Phase, given
from hypothesis import strategies as st

from patient_ladle.adapters.readers import INPUTS, opened
from patient_ladle.core.ports import Statement
from tests.conftest import READER_PASSWORD
from tests.profile import examples

from .session import values_of

_KEY = st.none() | st.sampled_from(["N1", "S1", "", "n1", "N1 ", "é", "1", "a'b"])
_NUMBER = st.none() | st.integers(-(10**15), 10**15)
ROWS = st.lists(st.tuples(_KEY, _NUMBER), max_size=6)
KINDS = {"postgresql": ("text", "bigint"), "mariadb": ("char", "signed"), "sqlite": ("text", "integer")}
JOINED = """select a.k, a.n, b.n, c.n from a join b on b.k = a.k left join c on c.k = a.k"""


def selecting(engine, rows):
    """A statement that gives these rows, in the engine's own words."""
    key, number = KINDS[engine]

    def cast(value, kind):
        text = "null" if value is None else "'" + value.replace("'", "''") + "'" if isinstance(value, str) else str(value)
        return f"cast({text} as {kind})"

    none = f"select {cast(None, key)} as k, {cast(None, number)} as n from (select 1 as one) as blank where 1 = 0"
    return " union all ".join([none, *(f"select {cast(k, key)}, {cast(n, number)}" for k, n in rows)])


@pytest.fixture
def places(metering, works, laboratory):
    return {"postgresql": metering, "mariadb": works, "sqlite": {"path": str(laboratory)}}


def live(name, engine, place, rows):
    return {
        "kind": "live", "name": name, "statement": selecting(engine, rows), "statement_number": 1, "title": "",
        "reader": {"kind": "source", "engine": engine, "address": place, "secret": READER_PASSWORD, "connect_timeout_seconds": 60},
        "parameters": [], "values": {}, "drawn": {}, "steps": [], "lookups": [], "output": {},
        "data_date": "2026-11-24", "due_at": "2026-11-24T06:00:00+00:00",
    }  # fmt: skip


@examples(0.1, phases=[Phase.explicit, Phase.generate])  # fmt: skip
@given(ROWS, ROWS, ROWS, st.permutations(sorted(KINDS)))
def test_a_join_across_three_engines_gives_what_loops_give(places, first, second, third, engines):
    inputs = [
        live(name, engine, places[engine], rows)
        for name, engine, rows in zip("abc", engines, (first, second, third), strict=True)
    ]
    session = opened({"reader": INPUTS.job(inputs)})
    try:
        session.describe(Statement(JOINED, values_of()))
        found = [row for batch in session.batches() for row in zip(*(c.to_pylist() for c in batch.cells), strict=True)]
    finally:
        session.close()
    wanted = []
    for key, number in first:
        pairs = [other for k, other in second if key is not None and k == key]
        met = [other for k, other in third if key is not None and k == key] or [None]
        wanted += [(key, number, pair, last) for pair in pairs for last in met]
    texts = [tuple(None if value is None else str(value) for value in row) for row in wanted]
    assert sorted(found, key=str) == sorted(texts, key=str)
