"""Combinations of inputs that lie in a store: held against a slow reckoning, and against what hostile statements try."""

from __future__ import annotations

import json
import os
from collections import defaultdict
from contextlib import closing
from decimal import Decimal

import duckdb
import pyarrow as pa
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from patient_ladle.adapters.combining.combined import CombinedSession, _judged, drawn_from
from patient_ladle.adapters.combining.shaped import ShapedSession
from patient_ladle.core.errors import (
    BadInput,
    InputDamaged,
    LadleError,
    ProofFailed,
    RunCancelled,
    StatementFailed,
    StatementWrong,
)
from patient_ladle.core.inputs.declared import Drawn
from patient_ladle.core.inputs.judging import TABLE_FUNCTIONS, judge
from patient_ladle.core.ports import Reading, Statement
from patient_ladle.core.results.columns import Batch, Column
from patient_ladle.core.steps.declared import numbered, steps_of
from patient_ladle.core.steps.lookups import Lookup
from patient_ladle.core.values.parameters import MAX_LIST_ITEMS, Parameter
from tests.profile import examples

from .inputs import combined, looked_up, stored
from .session import Rows, values_of

DISTRICTS = Lookup(
    "names", 3, (Column("code", "text"), Column("title", "text")), ("code",), [["N1", "North"], ["S1", "South"]]
)  # fmt: skip
METERS = [Column("district", "text"), Column("litres", "decimal", "numeric(10,2)"), Column("meter", "integer")]
CALLS = [Column("town", "text"), Column("minutes", "any"), Column("calls", "integer")]
_TEXT = st.none() | st.sampled_from(["N1", "S1", "W1", "", "N1 ", "n1", "é"])
_LITRES = st.none() | st.decimals("-99.99", "99.99", places=2).map(str)
_COUNT = st.none() | st.integers(-9, 9).map(str)


class Mixed(Rows):
    """A session whose column of any kind says which of its values are numbers, as a file database does."""

    def batches(self, soon=False):
        for batch in super().batches(soon):
            marks = pa.array([v and v.lstrip("-").isdigit() for v in batch.cells[1].to_pylist()], pa.bool_())
            yield Batch(batch.cells, [None, marks, None], batch.rows)


def by_key(rows, place=0):
    found = defaultdict(list)
    for row in rows:
        found[row[place]].append(row)
    return found


JOINS = {
    "inner": "select m.district, m.meter, c.calls from meters m join calls c on c.town = m.district",
    "left": "select m.district, m.meter, c.calls from meters m left join calls c on c.town = m.district",
    "full": "select m.district, m.meter, c.calls from meters m full join calls c on c.town = m.district",
    "without": "select m.district, m.meter, null::bigint from meters m anti join calls c on c.town = m.district",
    "grouped": "select district, sum(litres), count(*) from (select m.district, m.litres from meters m"
    " join calls c on c.town = m.district) group by district",
}


def reckoned(kind, meters, calls):
    """The same by loops: null meets nothing, and texts are equal letter by letter."""
    theirs = by_key([row for row in calls if row[0] is not None])
    pairs = [(m, c) for m in meters for c in (theirs.get(m[0], []) if m[0] is not None else [])]
    alone = [m for m in meters if m[0] is None or m[0] not in theirs]
    if kind == "grouped":
        sums, counts = defaultdict(list), defaultdict(int)
        for meter, _ in pairs:
            counts[meter[0]] += 1
            sums[meter[0]] += [] if meter[1] is None else [Decimal(meter[1])]
        return sorted(((d, f"{sum(sums[d], Decimal(0)):.2f}" if sums[d] else None, str(n)) for d, n in counts.items()), key=str)
    rows = [] if kind == "without" else [(m[0], m[2], c[2]) for m, c in pairs]
    rows += [(m[0], m[2], None) for m in alone] if kind in ("left", "full", "without") else []
    if kind == "full":
        mine = {m[0] for m in meters if m[0] is not None}
        rows += [(None, None, c[2]) for c in calls if c[0] is None or c[0] not in mine]
    return sorted(rows, key=str)


@examples(0.6)
@given(
    st.sampled_from(sorted(JOINS)),
    st.lists(st.tuples(_TEXT, _LITRES, _COUNT), max_size=12),
    st.lists(st.tuples(_TEXT, _COUNT, _COUNT), max_size=12),
)
def test_a_join_gives_what_a_slow_reckoning_gives(tmp_path_factory, kind, meters, calls):
    """Through the store and its files, null and empty texts apart, from a database and from a file without types."""
    place = tmp_path_factory.mktemp("store")
    inputs = [
        stored(place, 1, "meters", METERS, meters),
        stored(place, 2, "calls", CALLS, calls, session=Mixed(CALLS, calls)),
    ]
    found = combined(inputs, JOINS[kind])
    assert sorted(map(tuple, found.rows), key=str) == reckoned(kind, meters, calls)
    assert [(each.name, each.rows) for each in found.loaded] == [("meters", len(meters)), ("calls", len(calls))]


def test_numbers_of_a_mixed_column_are_numbers_again(tmp_path):
    numbers = [("N1", "7", "1"), ("S1", "12", "2"), ("W1", None, "3")]
    job = stored(tmp_path, 1, "calls", CALLS, numbers, session=Mixed(CALLS, numbers))
    found = combined([job], "select sum(minutes) as m, max(typeof(minutes)) as t from calls")
    assert found.rows == [["19", "BIGINT"]]
    mixed = [("N1", "7", "1"), ("S1", "seven", "2")]
    job = stored(tmp_path, 2, "calls", CALLS, mixed, session=Mixed(CALLS, mixed))
    found = combined([job], "select minutes from calls where minutes = '7'")
    assert found.rows == [["7"]]
    assert "the number 1 and the text '1' are equal in it" in found.loaded[0].notes[0]


def test_an_input_with_two_columns_of_one_name_has_both(tmp_path):
    columns = [Column("n", "integer"), Column("N", "integer"), Column("", "text")]
    found = combined([stored(tmp_path, 1, "twice", columns, [("1", "2", "x")])], "from twice")
    assert len({name.lower() for name in found.names}) == 3
    assert found.rows == [["1", "2", "x"]]
    assert combined([stored(tmp_path, 2, "twice", columns, [("1", "2", "x")])], "select n_2 + n as s from twice").rows == [
        ["3"]
    ]


@pytest.mark.parametrize("rows", [[], [("N1", None, "1")]])
def test_a_mixed_column_without_values_goes_with_any_kind(tmp_path, rows):
    """A night without rows in a file database does not fail what joins by that column."""
    calls = stored(tmp_path, 1, "calls", CALLS, rows, session=Mixed(CALLS, rows))
    meters = stored(tmp_path, 2, "meters", METERS, [("N1", "1.50", "1")])
    for column in ("district", "meter"):
        joined = f"select m.meter, c.calls from meters m left join calls c on c.minutes = m.{column}"
        assert combined([calls, meters], joined).rows == [["1", None]]
    assert combined([calls], "select sum(minutes) as s, count(minutes) as n from calls").rows == [[None, "0"]]


FROM = (
    "meters m", "METERS m", "meters m(litres, district, x)", "meters m natural join others o", "meters m positional join others o",
    "meters m join others o using (district)", "meters m join others o on o.meter = m.meter", "(select * from meters) m",
    "(select district, litres from meters) m", "(from meters) m", "meters", "(select * exclude district from meters) m",
    "meters unpivot (litre for what in (meter)) m", "meters pivot (sum(litres) for meter in (1, 2)) m", "(select m from meters m) m", "others m, meters litres",
    "(select district from meters union by name select litres from others) m",
    "meters m, lateral (select max(o.litres) as most from others o where o.district = m.district) l",
)  # fmt: skip
SELECT = (
    "*", "m.*", "m", "litres", "m.litres", '"DISTRICT"', "count(*)", "count(m)", "to_json(m)", "unnest(m)", "(m).litres", "m::text",
    "columns('l.*')", "#2", "sum(litres) over (partition by district)", "first(m.meter order by m.litres)", "most", "meters",
    "max(columns(*))", "{'a': m}", "coalesce(null, m.litres)", "* like 'l%'", "others", "struct_extract(m, 'litres')",
)  # fmt: skip
REST = (
    "", "group by all", "order by all", "where exists (from others where others.district = m.district)", "order by 1",
    "qualify row_number() over (partition by district order by litres) = 1", "where m.litres > 1", "where m is not null",
)  # fmt: skip


@pytest.mark.parametrize("tables", FROM)
@examples(0.08)
@given(items=st.lists(st.sampled_from(SELECT), min_size=1, max_size=2), rest=st.sampled_from(REST))
def test_a_statement_gives_the_same_whether_all_columns_were_loaded_or_those_that_it_may_read(two_inputs, tables, items, rest):
    statement = f"select {', '.join(items)} from {tables} {rest}"

    def outcome(asked):
        try:
            found = combined(two_inputs, statement, session=CombinedSession(two_inputs, None, asked))
        except LadleError as error:
            return error.code
        return found.names, sorted(found.rows, key=str)

    assert outcome(statement) == outcome("")


@pytest.fixture(scope="module")
def two_inputs(tmp_path_factory):
    place = tmp_path_factory.mktemp("store")
    rows = [("N1", "1.50", "1"), ("S1", "2.25", "2"), (None, "0.10", "3")]
    return [
        stored(place, 1, "meters", METERS, rows),
        stored(place, 2, "others", METERS, [("N1", "1.50", "9"), ("W1", None, "2")]),
    ]


@pytest.mark.parametrize(
    ("asked", "loaded"),
    [
        ("select sum(LITRES) from meters", ["litres"]),
        ("select 1 from meters; select sum(meter) from meters", ["meter"]),
        ("select count(*) from meters", ["district"]),
        ("select litres from meters; from meters", ["district", "litres", "meter"]),
    ],
)
def test_only_columns_that_are_read_are_loaded(two_inputs, asked, loaded):
    session = CombinedSession(two_inputs[:1], None, asked)
    found = combined(two_inputs[:1], asked.split(";")[-1], session=session)
    assert [field.name for field in session.fields["meters"]] == loaded
    assert found.loaded[0].rows == 3


def test_a_lookup_a_parameter_and_the_data_date_are_there(tmp_path):
    job = stored(tmp_path, 1, "meters", METERS, [("N1", "1.50", "1"), ("S1", "2.25", "2"), ("W1", None, "3")])
    statement = """select n.title, m.litres, :data_date as day from meters m join names n on n.code = m.district
                   where m.litres > :least order by 1"""
    least = Parameter("least", "decimal")
    found = combined([job, looked_up(DISTRICTS)], statement, [least], {"least": "2"})
    assert found.rows == [["South", "2.25", "2026-11-24"]]
    assert [(each.name, each.rows) for each in found.loaded] == [("meters", 3), ("names", 2)]


def test_steps_go_on_with_what_was_combined(tmp_path):
    job = stored(tmp_path, 1, "meters", METERS, [("N1", "1.50", "1"), ("S1", "2.25", "2")])
    session = ShapedSession(CombinedSession([job], None), {})
    told = []
    steps = numbered(steps_of([{"step": "filter", "where": "litres > 2"}]))
    session.describe(Statement("from meters", values_of(), reading=Reading(loaded=told.append), steps=steps))
    assert [batch.rows for batch in session.batches()] == [1]
    assert told[0].rows == 2
    session.close()


@examples(0.4)
@given(
    st.lists(st.tuples(_TEXT, _LITRES, _COUNT), max_size=8),
    st.lists(st.tuples(_TEXT, _COUNT, _COUNT), max_size=6),
    st.sampled_from(["null", "drop", "fail"]),
)
def test_a_step_looks_up_in_an_input_as_loops_do(tmp_path_factory, meters, calls, missing):
    """In rows that the statement itself does not read; a key that stands twice there, and one that is missed, fail the run."""
    place = tmp_path_factory.mktemp("store")
    inputs = [
        stored(place, 1, "meters", METERS, meters),
        stored(place, 2, "Calls", CALLS, calls, session=Mixed(CALLS, calls)),
    ]
    step = {"step": "look_up", "input": "calls", "on": {"district": "town"}, "columns": {"n": "calls", "m": "MINUTES"}}
    statement = Statement("from meters", values_of(), steps=numbered(steps_of([step | {"missing": missing}])))
    session = ShapedSession(CombinedSession(inputs, None), {})
    theirs = by_key([row for row in calls if row[0] is not None])
    try:
        session.describe(statement)
        found = [row for batch in session.batches() for row in zip(*(c.to_pylist() for c in batch.cells), strict=True)]
    except StatementFailed as error:
        twice = any(len(rows) > 1 for rows in theirs.values())
        assert ("stands twice in the input 'calls'" in error.message) == twice
        assert twice or ("without a match in the input 'calls'" in error.message and missing == "fail")
        assert twice or any(meter[0] not in theirs for meter in meters)
        return
    finally:
        session.close()
    met = [(*m, *([theirs[m[0]][0][2], theirs[m[0]][0][1]] if m[0] in theirs else [None, None])) for m in meters]
    assert found == [row for row in met if missing == "null" or row[0] in theirs]


REFUSED = [
    ("select * from metres", "there is no input 'metres'", "'meters'"),
    ("select * from main.meters", "inputs stand in no schema", "meters"),
    ("select * from results.main.meters", "inputs stand in no schema", "meters"),
    ("select * from information_schema.tables", "inputs stand in no schema", ""),
    ("with duckdb_settings as (select 1) select 2", "", ""),
    ("with duckdb_columns as (select 1) select * from duckdb_columns", "name of the engine", ""),
    ("select * from (with pragma_x as (select 1) select 1) a, pragma_x", "name of the engine", ""),
    ("pivot meters on district using sum(litres)", "selects, and does nothing else", "select"),
    ("describe meters", "", ""), ("summarize meters", "", ""), ("show tables", "", ""),
    ("select now()", "the clock", ":data_date"), ("select current_date", "the clock", ":data_date"),
    ("select m.current_user from meters m", "", ""), ("select random()", "chance", ""),
    ("select reservoir_quantile(litres, 0.5) from meters", "chance", ""),
    ("select age(timestamp '2026-01-01')", "the clock", ""),
    ("from meters using sample 1", "a sample is of chance", "condition"), ("from meters tablesample 5%", "of chance", ""),
    ("select * from repeat_row(1, num_rows = 9)", "gives no table here", "unnest"),
    ("select * from system.main.range(3)", "gives no table here", ""), ("select main.abs(1)", "by a path", ""),
    ("select * from meters m join calls c on c.calls = m.district", "calls.calls is integer and meters.district is text", "cast("),
    ("select * from meters join calls using (meter)", "", ""),
    ("select nothing from meters", "\"nothing\" not found", ""),
    ("select 1; select 2", "", ""), ("delete from meters", "", ""), ("select :unknown", "unknown", ""),
]  # fmt: skip


_NAMES = st.sampled_from(["meters", '"nowhere.csv"', "q", "r"])
_QUERIES = st.recursive(
    _NAMES.map(lambda name: f"select 1 as x from {name}"),
    lambda inner: st.one_of(
        st.builds("with {} as ({}) {}".format, _NAMES, inner, inner),
        st.builds("with {} as ({}), {} as ({}) {}".format, _NAMES, inner, _NAMES, inner, inner),
        st.builds("with recursive {} as ({} union all {}) {}".format, _NAMES, inner, inner, inner),
        st.builds("select 1 as x from ({}) s, {}".format, inner, _NAMES),
        st.builds("select (select max(x) from ({}) s) as x from {}".format, inner, _NAMES),
        st.builds("({}) union all ({})".format, inner, inner),
        st.builds("select 1 as x from {} where exists ({})".format, _NAMES, inner),
    ),
    max_leaves=6,
)


@examples(4)
@example('select * from (with "nowhere.csv" as (select 1) select 1) q, "nowhere.csv"')
@example('with "nowhere.csv" as (select * from "nowhere.csv") select * from "nowhere.csv"')
@example(
    'with recursive "nowhere.csv" as (select 1 as x from "nowhere.csv" union all select 1 as x from meters) select * from "nowhere.csv"'
)
@given(_QUERIES)
def test_what_the_judge_lets_pass_reads_no_file_also_where_the_engine_would(statement):
    """Of names that *with* gives: where they hold, the engine says, which has no switch turned here, and no such file."""
    with closing(duckdb.connect()) as engine:
        engine.execute("create table meters as select 1 as x")
        try:
            _judged(engine, statement, ["meters"])
        except BadInput:
            return
        try:
            engine.execute(f"explain {statement}")
        except duckdb.Error as error:
            assert "nowhere" not in str(error), statement


@pytest.mark.parametrize(("statement", "message", "hint"), REFUSED, ids=[str(n) for n in range(len(REFUSED))])
def test_what_a_combining_statement_may_not_say_is_refused_with_what_to_do(tmp_path, statement, message, hint):
    inputs = [stored(tmp_path, 1, "meters", METERS, []), stored(tmp_path, 2, "calls", CALLS, [("N1", "1", "1")])]
    with pytest.raises((BadInput, StatementWrong)) as refused:
        combined(inputs, statement)
    assert message in refused.value.message
    assert hint in refused.value.hint


def test_a_refusal_names_line_and_column(tmp_path):
    inputs = [stored(tmp_path, 1, "meters", METERS, [])]
    with pytest.raises(StatementWrong, match=r"there is no input 'metres' \(line 3, column 6\)"):
        combined(inputs, "select *\n-- ü\nfrom metres")
    with pytest.raises(StatementWrong, match=r"\(line 2, column 8\)"):
        combined(inputs, "select 1,\n       now() from meters")


def test_columns_of_one_kind_compare_whatever_their_digits_are(tmp_path):
    inputs = [
        stored(tmp_path, 1, "meters", METERS, [("N1", "1.00", "1")]),
        stored(tmp_path, 2, "calls", CALLS, [("1", "1", "1")]),
    ]
    assert combined(inputs, "select count(*) from meters m join calls c on c.calls = m.litres").rows == [["1"]]


def test_every_function_that_gives_another_result_tomorrow_is_refused():
    """The engine's own list of functions is the judge: volatile ones, and all that give tables but those that are listed."""
    connection = duckdb.connect()
    functions = connection.execute(
        "select distinct function_name, function_type, stability from duckdb_functions() where function_type <> 'pragma'"
    ).fetchall()
    calls = {name for name, kind, stability in functions if kind in ("scalar", "macro") and stability == "VOLATILE"}
    tables = {name for name, kind, _ in functions if kind.startswith("table")} - set(TABLE_FUNCTIONS)
    assert (len(calls) > 10, len(tables) > 60) == (True, True)
    for statement in [*(f'select "{name}"()' for name in calls), *(f'select * from "{name}"()' for name in tables)]:
        [(tree,)] = connection.execute("select json_serialize_sql(?)", [statement]).fetchall()
        with pytest.raises(BadInput):
            judge(json.loads(tree), ["meters"])


@pytest.mark.parametrize(
    ("statement", "message", "hint"),
    [
        ("select litres / (meter - meter) from meters", "a division by zero", "nullif"),
        (
            "select sum(99999999999999999999999999999999999999::decimal(38,0)) from meters, range(9)",
            "beyond what its kind",
            "double",
        ),
        ("select cast(district as bigint) from meters", "", ""),
    ],
)
def test_what_shows_itself_in_the_rows_fails_with_words_that_help(tmp_path, statement, message, hint):
    job = stored(tmp_path, 1, "meters", METERS, [("N1", "1.50", "1"), ("S1", "2.25", "2")])
    with pytest.raises(StatementFailed) as failed:
        combined([job], statement)
    assert message in failed.value.message
    assert hint in failed.value.hint


def test_a_file_that_is_not_what_was_proven_is_not_loaded(tmp_path):
    job = stored(tmp_path, 1, "meters", METERS, [("N1", "1.50", "1")])
    [path] = tmp_path.rglob("*.parquet")
    path.chmod(0o644)
    path.write_bytes(path.read_bytes()[:-1] + b"!")
    with pytest.raises(InputDamaged, match=r"input 'meters'.*its bytes are not those that were proven"):
        combined([job], "from meters")


def test_rows_loaded_are_those_that_were_fetched(tmp_path):
    job = stored(tmp_path, 1, "meters", METERS, [("N1", "1.50", "1")]) | {"rows": 2}
    with pytest.raises(ProofFailed, match="2 rows fetched, 1 loaded"):
        combined([job], "from meters")


@pytest.mark.parametrize("stage", ["before", "loading", "between", "reading"])
def test_a_cancel_is_heard_at_every_stage(tmp_path, stage, monkeypatch):
    rows = [("N1", "1.50", str(number)) for number in range(40_000)]
    inputs = [stored(tmp_path, n, f"m{n}", METERS, rows, size=10_000) for n in (1, 2)]
    session = CombinedSession(inputs, None)
    if stage == "before":
        session.cancel()
    looked = []

    def look(count, _):
        looked.append(count)
        if stage == "loading" and len(looked) == 2:
            session.cancel()

    def loaded(each):
        if stage == "between" and each.name == "m1":
            session.cancel()

    with pytest.raises(RunCancelled):
        session.describe(Statement("select * from m1, m2", values_of(), reading=Reading(looked=look, loaded=loaded)))
        for _ in session.batches():
            session.cancel()
    assert stage != "loading" or len(looked) == 2
    session.close()
    assert not os.path.exists(session.scratch.own.name)


@given(st.lists(st.tuples(_TEXT, _LITRES, _COUNT), max_size=20))
@examples(0.25)
def test_values_of_a_column_are_the_different_ones_without_null(tmp_path_factory, rows):
    job = stored(tmp_path_factory.mktemp("store"), 1, "meters", METERS, rows)
    wanted = sorted({row[0] for row in rows if row[0] is not None})
    assert drawn_from(job, Drawn("meters", "DISTRICT"), "codes") == wanted
    assert drawn_from(looked_up(DISTRICTS), Drawn("names", "code"), "codes") == ["N1", "S1"]


def test_a_column_of_more_values_than_a_list_takes_is_refused(tmp_path):
    rows = [(str(number), None, None) for number in range(MAX_LIST_ITEMS + 1)]
    job = stored(tmp_path, 1, "meters", METERS, rows, size=1_000)
    with pytest.raises(BadInput, match="more than the 10,000 different values that the parameter 'codes' can take"):
        drawn_from(job, Drawn("meters", "district"), "codes")
    job = stored(tmp_path, 2, "meters", METERS, rows[1:], size=1_000)
    assert len(drawn_from(job, Drawn("meters", "district"), "codes")) == MAX_LIST_ITEMS
    with pytest.raises(BadInput, match="input 'meters' has no column 'distrikt'") as refused:
        drawn_from(job, Drawn("meters", "distrikt"), "codes")
    assert "district, litres, meter" in refused.value.hint


def test_a_preview_asks_the_sources_and_hands_on_what_it_found():
    """The second input is asked for the values of the first one's column."""
    asked = []
    sessions = {
        "meters": Rows(METERS, [("N1", "1.50", "1"), ("S1", "2.25", "2"), ("N1", None, "3")]),
        "calls": Rows(CALLS, [("N1", "1", "4")]),
    }

    def opened(job):
        session = sessions[job["name"]]
        describe = session.describe

        def noted(statement):
            asked.append((job["name"], statement.values.as_text().get("towns")))
            return describe(statement)

        session.describe = noted
        return session

    live = {
        "kind": "live", "statement": "select", "statement_number": 1, "title": "", "parameters": [], "values": {}, "drawn": {},
        "data_date": "2026-11-24", "due_at": "2026-11-24T06:00:00+00:00", "steps": [], "lookups": [], "output": {},
    }  # fmt: skip
    towns = Parameter("towns", "text", is_list=True).to_dict()
    inputs = [
        live | {"name": "meters", "output": {"columns": [{"name": "district", "as": "d"}, "litres"]}},
        live | {"name": "calls", "parameters": [towns], "drawn": {"towns": {"input": "meters", "column": "d"}}},
    ]
    found = combined(
        inputs, "select m.d, m.litres, c.calls from meters m left join calls c on c.town = m.d order by 1, 2", opened=opened
    )
    assert found.rows == [["N1", "1.50", "4"], ["N1", None, "4"], ["S1", "2.25", None]]
    assert asked == [("meters", None), ("calls", ["N1", "S1"])]
    assert all(session.closed for session in sessions.values())


HOSTILE = """
select * from read_text('{secret}') | select content from read_text('{secret}') | from read_csv('{secret}') | from '{secret}' | table '{secret}'
select * from "{secret}" | from read_csv_auto('{secret}') | from read_blob('{secret}') | from read_json('{secret}') | from read_parquet('{secret}')
from glob('{folder}/*') | from sniff_csv('{secret}') | select (select content from read_text('{secret}')) | select * from query('from read_text(''{secret}'')')
select * from query_table('{secret}') | from read_duckdb('{secret}') | select * from meters where district in (select content from read_text('{secret}'))
with x as (from read_text('{secret}')) from x | with recursive x as (select 1 union all select 2 from read_text('{secret}')) from x
copy meters to '{folder}/out.csv' | copy (select 1) to '{folder}/out.csv' | attach '{folder}/new.db' | attach '{secret}' as s | install httpfs | load httpfs
load '{folder}/x' | export database '{folder}/all' | import database '{folder}' | create table t as select 1 | create view v as select 1 | create macro m() as 1
insert into meters values ('x', 1, 1) | update meters set litres = 0 | delete from meters | drop table meters | truncate meters | alter table meters add column x int
set enable_external_access = true | set memory_limit = '99GB' | reset all | pragma database_list | pragma version | call pragma_version() | checkpoint
set lock_configuration = false | set temp_directory = '{folder}' | set variable x = 1 | select getvariable('x') | select current_setting('temp_directory')
select * from duckdb_settings() | from duckdb_databases() | from duckdb_secrets() | from duckdb_temporary_files() | from duckdb_logs() | from duckdb_tables()
from duckdb_settings | from duckdb_columns | from sqlite_master | from pg_catalog.pg_class | from information_schema.columns | from pragma_database_list()
select pg_sleep(0.01) | select sleep_ms(10) | select write_log('x') | select version() | select user | select current_user | select session_user | select pg_typeof(1)
select now() | select current_timestamp | select today() | select localtime | select get_current_timestamp() | select transaction_timestamp() | select uuid()
select random() | select gen_random_uuid() | select nextval('s') | select txid_current() | select current_query() | select inet_server_addr() | select has_schema_privilege('main', 'x')
select getenv('HOME') | select * from which_secret('x', 'y') | select json_serialize_plan('select 1') | from json_execute_serialized_sql('x') | explain select 1 | explain analyze select 1
begin | commit | rollback | use main | vacuum | analyze | execute x | prepare x as select 1 | deallocate x | detach results | comment on table meters is 'x'
select 1; copy meters to '{folder}/out.csv' | select * from meters; attach '{folder}/new.db' | with x as (insert into meters values ('a', 1, 1) returning *) from x
select columns(*) from read_text('{secret}') | select unnest(string_split((select content from read_text('{secret}')), '\\n')) | from test_all_types() | from summary(meters)
select * from (values ('{secret}')) f(p), lateral (select content from read_text(f.p)) | select list_transform(['{secret}'], x -> read_text(x)) | from parquet_metadata('{secret}')
select * from meters union all by name select content, null, null from read_text('{secret}') | from read_ndjson_objects('{secret}') | from arrow_scan(1, 2, 3) | from pandas_scan(1)
from python_map_function('x') | select '{secret}'::blob | select error('x') | from enable_logging() | from duckdb_extensions() | from force_checkpoint() | select in_search_path('main', 'main')
"""
HOSTILE = [each.strip() for line in HOSTILE.splitlines() for each in line.split(" | ") if each.strip()]


@pytest.mark.parametrize("lane", ["statement", "past the gate", "preview", "steps"])
def test_hostile_statements_read_nothing_and_change_nothing(tmp_path, lane):
    """Each is refused or harmless: a secret file is in no row and in no error, and the folder stays as it was."""
    secret = tmp_path / "secret.csv"
    secret.write_text("Fennmoor-secret-4711\n")
    (tmp_path / "store").mkdir()
    inputs = [stored(tmp_path / "store", 1, "meters", METERS, [("N1", "1.50", "1")])]
    before = sorted(tmp_path.rglob("*"))
    assert len(HOSTILE) >= 100
    session = CombinedSession(inputs, None)
    session.describe(Statement("from meters", values_of()))
    for hostile in HOSTILE:
        text = hostile.format(secret=secret, folder=tmp_path)
        try:
            if lane == "past the gate":
                said = repr(session.reader.connection.execute(text).fetchmany(50))
            elif lane == "steps":
                found = ShapedSession(CombinedSession(inputs, None), {})
                steps = numbered(steps_of([{"step": "compute", "column": "x", "as": f"({text})"}]))
                try:
                    found.describe(Statement("from meters", values_of(), steps=steps))
                    said = repr([c.to_pylist() for batch in found.batches() for c in batch.cells])
                finally:
                    found.close()
            else:
                session.describe(Statement(text, values_of(), reading=Reading(first=9 if lane == "preview" else 0)))
                said = repr([c.to_pylist() for batch in session.batches() for c in batch.cells])
        except (LadleError, duckdb.Error) as error:
            said = str(error)
        else:
            harmless = ("pg_typeof", "::blob")
            assert lane == "past the gate" or any(word in text for word in harmless), text
        assert "4711" not in said, text
    session.close()
    assert sorted(tmp_path.rglob("*")) == before
    assert secret.read_text() == "Fennmoor-secret-4711\n"


@pytest.mark.parametrize("way", ["combined", "steps"])
def test_a_statement_that_is_short_of_memory_is_asked_once_more_with_more(tmp_path, monkeypatch, way):
    """What cannot be spilled, a list of all values, needs more than the first session has."""
    from patient_ladle.adapters.combining import scratch

    monkeypatch.setattr(scratch, "FIRST_MEMORY", "24MB")
    rows = [(f"{number:07d}" * 12, None, str(number)) for number in range(120_000)]
    job = stored(tmp_path, 1, "meters", METERS, rows, size=10_000)
    statement = "select length(string_agg(district, '' order by meter)) as n from meters"
    if way == "combined":
        session = CombinedSession([job], None)
        session.describe(Statement(statement, values_of()))
    else:
        session = ShapedSession(CombinedSession([job], None), {})
        group = {"step": "group", "columns": {"n": "length(string_agg(district, '' order by meter))"}}
        session.describe(Statement("from meters", values_of(), steps=numbered(steps_of([group]))))
    found = [batch.cells[0].to_pylist() for batch in session.batches()]
    roomy = session.reader.roomy
    session.close()
    assert (found, roomy) == ([[str(120_000 * 84)]], True)
