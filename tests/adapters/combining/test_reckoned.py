"""Random small tables through random chains of steps give what a slow reckoning in Python gives."""

from __future__ import annotations

from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.errors import StatementWrong
from patient_ladle.core.results.columns import Column, canonical
from patient_ladle.core.steps.lookups import Lookup
from tests.profile import examples

from . import chains
from .reckoning import Clash, do
from .session import shaped

_KINDS = {str: "text", int: "integer", Decimal: "decimal"}


def texts(rows):
    return [[canonical(value) for value in row] for row in rows]


def lookups():
    kinds = {"codes": ("text", "text", "integer"), "numbers": ("integer", "text")}
    return {
        name: Lookup(name, 1, tuple(map(Column, table.names, kinds[name])), (table.names[0],), texts(table.rows))
        for name, table in chains.LOOKUPS.items()
    }


def plain(value):
    """A canonical text as what it means: 1.50 and 1.5 are the same number."""
    try:
        return Decimal(value) if value not in (None, "") and value.lower() not in ("nan", "infinity", "-infinity") else value
    except ArithmeticError:
        return value


@examples(1.2)
@given(st.randoms(use_true_random=False))
def test_a_chain_gives_what_a_slow_reckoning_gives(random):
    kinds, table = chains.table(random)
    chain = chains.Chain(random, kinds)
    wanted, counts = table, []
    columns = [Column(name, kind, "numeric(8,2)" if kind == "decimal" else "") for name, kind in kinds.items()]
    for step in chain.steps:
        before = len(wanted.rows)
        try:
            wanted = do(step, wanted, chain.python, chains.LOOKUPS)
        except Clash:
            with pytest.raises(StatementWrong, match="two columns would be named"):
                shaped(columns, texts(table.rows), chain.steps, lookups())
            return
        counts.append((before, len(wanted.rows)))
    found = shaped(columns, texts(table.rows), chain.steps, lookups())
    assert found.names == wanted.names, chain.steps
    assert [list(map(plain, row)) for row in found.rows] == [list(map(plain, row)) for row in texts(wanted.rows)], chain.steps
    assert [(each.rows_in, each.rows_out) for each in found.steps] == counts
