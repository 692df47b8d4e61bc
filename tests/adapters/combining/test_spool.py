"""Rows loaded into the private file come out as they went in, whatever their columns are said to be; and its bounds."""

from __future__ import annotations

import json
import secrets
import shutil
from contextlib import suppress
from decimal import Decimal
from types import SimpleNamespace

import duckdb
import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.adapters.combining import scratch as module
from patient_ladle.adapters.combining.scratch import Loading, Scratch
from patient_ladle.adapters.combining.shaped import ShapedSession
from patient_ladle.adapters.sources.duckdb_session import DuckdbSession
from patient_ladle.core.errors import DiskFull, LadleError, ResultTooLarge, RunCancelled, StatementFailed
from patient_ladle.core.ports import Statement
from patient_ladle.core.results.columns import Batch, Column, canonical
from patient_ladle.core.steps.declared import KINDS, numbered, steps_of
from tests.profile import examples

from .session import Rows, shaped, values_of

ALL = [{"step": "filter", "where": "v is null or v is not null"}]
"""Steps that change nothing."""
_WHOLE = st.integers(-(10**25), 10**25)
_TEXTS = st.text(st.characters(exclude_categories=("Cs",), exclude_characters="\0"), max_size=12)
VALUES = {
    "integer": st.one_of(st.integers(-(2**63), 2**63 - 1), _WHOLE).map(str),
    "decimal": st.one_of(
        st.decimals(allow_nan=False, allow_infinity=False, places=4, min_value=-(10**12), max_value=10**12),
        st.decimals(allow_nan=False, allow_infinity=False, places=18, min_value=-(10**22), max_value=10**22),
        st.integers(10**36, 10**45).map(Decimal),
    ).map(lambda v: format(v, "f")) | st.just("NaN"),
    "float": st.floats().map(canonical),
    "boolean": st.sampled_from(["true", "false"]),
    "date": st.dates().map(str) | st.sampled_from(["infinity", "0044-03-15 BC", "12026-01-01"]),
    "timestamp": st.datetimes().map(canonical) | st.sampled_from(["-infinity", "2026-11-24 06:05:00.1234567"]),
    "zoned": st.datetimes().map(lambda v: canonical(v).replace(" ", "T") + "Z") | st.just("infinity"),
    "time": st.times().map(canonical) | st.sampled_from(["24:00:00", "06:05:00.1234567", "06:05:00+01:00"]),
    "binary": st.binary(max_size=8).map(canonical),
    "json": st.recursive(st.none() | st.booleans() | st.integers() | _TEXTS, lambda c: st.lists(c, max_size=3), max_leaves=4).map(json.dumps),
    "text": _TEXTS,
}  # fmt: skip


def same(kind, was, now):
    """The same value: as it was, or, of a decimal, with more zeros behind the point."""
    if was == now or None in (was, now):
        return was == now
    return kind in ("decimal", "integer") and "NaN" not in (was, now) and Decimal(was) == Decimal(now)


@pytest.fixture(scope="module")
def memory():
    """What is loaded into, without a file: a file for each example would take most of the time."""
    connection = duckdb.connect(":memory:", config=module.SAFE)
    connection.execute("set TimeZone = 'UTC'")

    def append(name, rows):
        connection.from_arrow(rows).insert_into(name)

    yield SimpleNamespace(connection=connection, mind=lambda: None, execute=connection.execute, append=append)
    connection.close()


def back_and_forth(memory, kind, batches):
    """Column, texts and notes of what was loaded."""
    with suppress(duckdb.Error):
        memory.connection.execute("rollback")  # of an example that failed
    memory.connection.execute("drop table if exists r")
    loading = Loading(memory, "r", [Column("v", kind)])
    for batch in batches:
        loading.add(batch)
        loading._write()
    loading.end()
    session = DuckdbSession(memory.connection, {})
    [column] = session.describe(Statement("select * from r", values_of()))
    return column, [v for batch in session.batches() for v in batch.cells[0].to_pylist()], loading.notes()


@pytest.mark.parametrize("kind", VALUES)
@examples(0.6)
@given(data=st.data())
def test_what_is_loaded_comes_out_as_it_went_in(memory, kind, data):
    pieces = data.draw(st.lists(st.lists(VALUES[kind] | st.none(), min_size=1, max_size=5), max_size=3))
    column, found, notes = back_and_forth(memory, kind, [Batch.of_texts([piece], len(piece)) for piece in pieces])
    was = [value for piece in pieces for value in piece]
    assert len(found) == len(was)
    assert all(same(kind, *both) for both in zip(was, found, strict=True)), (was, found)
    assert column.kind in (kind, "decimal", "text")
    assert (column.kind == "text" and kind != "text") == any("text here" in note for note in notes)


@given(
    st.lists(
        st.one_of(
            st.none(),
            st.integers(-(10**20), 10**20),
            st.floats(allow_nan=False, allow_infinity=False),
            st.text("ab1", max_size=3),
        ),
        max_size=10,
    )
)
def test_values_of_any_type_keep_what_they_are(memory, values):
    """As SQLite has them: numbers where all are, else text, which says that 1 and '1' are the same in it."""
    column, found, notes = back_and_forth(memory, "any", [Batch.of_values([[(v,)]], 1) for v in values])
    for value, now in zip(values, found, strict=True):
        assert now == canonical(value) or (isinstance(value, int | float) and float(now) == value)
    kinds = {type(value) for value in values} - {type(None)}
    if str in kinds and kinds - {str}:
        assert column.kind == "text"
        assert "are equal in it" in notes[0]


@pytest.mark.parametrize(
    ("kind", "value"),
    [
        ("float", "0.10000000000000000555"),
        ("float", "1e400"),
    ],
)
def test_a_value_that_a_cast_would_change_is_cast_back_and_seen(kind, value):
    found = shaped([Column("v", kind)], [[value]], ALL)
    assert (found.rows, found.columns[0].kind) == ([[value]], "text")
    assert "text here" in found.notes[0]


def test_widening_keeps_the_rows_before():
    values = ["1.5"] * 5 + ["1.2345", "99999999999999999999.25", "x"]
    found = shaped([Column("v", "decimal")], [[v] for v in values], ALL)
    assert [row[0] for row in found.rows][-1] == "x"
    assert [Decimal(row[0]) for row in found.rows[:-1]] == [Decimal(v) for v in values[:-1]]


def test_pieces_of_many_batches_are_loaded_whole(monkeypatch):
    monkeypatch.setattr(module, "PIECE_ROWS", 7)
    found = shaped([Column("v", "integer")], [[str(n)] for n in range(100)], ALL)
    assert [row[0] for row in found.rows] == [str(n) for n in range(100)]


def test_scratch_space_has_a_limit_that_is_minded():
    small = Scratch(most_bytes=1 << 20)
    loading = Loading(small, "r", [Column("v", "text")])
    with pytest.raises(ResultTooLarge, match="1 MB of scratch space"):
        for _ in range(25):
            loading.add(Batch.of_texts([[secrets.token_hex(60) for _ in range(20_000)]], 20_000))
    small.close()
    assert not small.path.exists()


@pytest.mark.parametrize(("most", "enough"), [(60, False), (2_000, True)])
def test_what_statements_spill_has_a_limit_too(monkeypatch, most, enough):
    """A sort of more than memory holds is spilled into the scratch folder, and stops where that has no more room."""
    monkeypatch.setitem(module.SAFE, "memory_limit", "100MB")
    scratch = Scratch(most_bytes=most << 20)
    scratch.connection.execute(
        "create table r as select i, md5(i::varchar) || md5((i + 1)::varchar) as t from range(1500000) r(i)"
    )
    session = scratch.reopened({})
    try:
        asked = Statement("select * from r order by t", values_of())
        session.describe(asked)
        if enough:
            assert sum(batch.rows for batch in session.batches()) == 1_500_000
        else:
            with pytest.raises(StatementFailed, match="memory") as caught:
                list(session.batches())
            assert "scratch space" in caught.value.message
        assert scratch.bytes() <= most << 20
    finally:
        session.close()
        scratch.close()


def test_a_disk_that_is_nearly_full_is_not_filled(monkeypatch):
    monkeypatch.setattr(shutil, "disk_usage", lambda path: shutil._ntuple_diskusage(100, 99, 1))
    with pytest.raises(DiskFull, match="temporary files"):
        shaped([Column("v", "integer")], [["1"]], ALL)


def test_every_kind_of_step_is_reckoned():
    from .chains import MAKERS

    assert set(MAKERS) == set(KINDS)


class Stopped(Rows):
    """Cancels whoever reads it, after so many batches."""

    session = None

    def batches(self, soon=False):
        for batch in super().batches():
            yield batch
            self.session.cancel()


@pytest.mark.parametrize("stage", ["loading", "reopening", "giving"])
def test_a_cancel_is_heard_at_every_stage(monkeypatch, stage):
    inner = (Stopped if stage == "loading" else Rows)([Column("v", "integer")], [[str(n)] for n in range(20)])
    session = inner.session = ShapedSession(inner, {})
    reopened = Scratch.reopened

    def met(scratch, who):
        made = reopened(scratch, who)
        if stage == "reopening":
            session.cancel()  # there is no reader yet that could be told
        return made

    monkeypatch.setattr(Scratch, "reopened", met)
    with pytest.raises(RunCancelled):
        session.describe(Statement("select", values_of(), steps=numbered(steps_of(ALL))))
        assert stage == "giving"
        session.cancel()
        list(session.batches())
    session.close()
    assert inner.closed


def test_a_file_that_cannot_be_written_is_told_as_a_disk():
    scratch = Scratch()

    def full(query):
        raise duckdb.IOException("IO Error: Could not write file: No space left on device")

    scratch.close()
    scratch.connection = SimpleNamespace(execute=full, close=lambda: None)
    with pytest.raises(DiskFull, match="No space left on device"):
        Loading(scratch, "r", [Column("v", "integer")])


_PASSING = st.lists(
    st.one_of(
        st.builds(lambda a, b: {"step": "rename", "columns": {a: b}}, st.sampled_from("abcABx"), st.sampled_from("abcdeE")),
        st.builds(
            lambda names: {"step": "reorder", "columns": names}, st.lists(st.sampled_from("abcDE"), min_size=1, max_size=3)
        ),
        st.builds(lambda names: {"step": "drop", "columns": names}, st.lists(st.sampled_from("abcD"), min_size=1, max_size=2)),
    ),
    min_size=1,
    max_size=4,
)


@examples(1.2)
@given(_PASSING, st.lists(st.tuples(*[st.none() | st.text("xyz", max_size=3)] * 3), max_size=7))
def test_steps_that_need_no_whole_result_give_the_same_to_batches_as_they_pass(steps, rows):
    """Held against the engine, which loads all rows when another step, one that keeps them all, comes first."""
    columns = [Column("a"), Column("b"), Column("c")]

    def outcome(first):
        try:
            found = shaped(columns, rows, [*first, *steps])
        except LadleError as error:
            return error.code, error.message.partition(": ")[2].partition(" (")[0]
        counts = [(step.kind, step.rows_in, step.rows_out) for step in found.steps][len(first) :]
        return found.names, found.rows, counts, found.fetched

    assert outcome([]) == outcome([{"step": "filter", "where": "1 = 1"}])


def test_what_passes_keeps_its_kind_and_its_digits():
    columns = [Column("v", "decimal", "numeric(10,4)"), Column("w", "any")]
    found = shaped(columns, [("1.50", "7"), ("2.2500", "seven")], [{"step": "rename", "columns": {"v": "litres"}}])
    assert [(c.name, c.kind, c.source_type) for c in found.columns] == [
        ("litres", "decimal", "numeric(10,4)"),
        ("w", "any", ""),
    ]
    assert found.rows == [["1.50", "7"], ["2.2500", "seven"]]
