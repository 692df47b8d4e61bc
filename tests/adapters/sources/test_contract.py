"""The contract of every source engine, against the real thing: faithful, bound, read-only, stoppable, clear.

An engine that is registered and has no case file fails.
"""

from __future__ import annotations

import importlib
import io
import re
import socket
import threading
from datetime import date, datetime, timezone

import psycopg
import psycopg.sql
import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.adapters.sources import ENGINES, base, get_engine
from patient_ladle.adapters.sources.postgresql import PostgresqlSession
from patient_ladle.core.errors import (
    ConnectionLost,
    LadleError,
    RunCancelled,
    SourceDatabaseMissing,
    SourceNotReadable,
    SourceUnreachable,
    StatementRefused,
    StatementWrong,
)
from patient_ladle.core.files.formats import FORMATS, checked_options
from patient_ladle.core.files.formats.base import Target
from patient_ladle.core.ports import Reading, Statement
from patient_ladle.core.statements.catalogue import find_table
from patient_ladle.core.statements.languages.sql import SqlLanguage
from patient_ladle.core.statements.scanner import parameter_names, statements
from patient_ladle.core.statements.text_diagnostics import of_text
from patient_ladle.core.statements.views import Filter
from patient_ladle.core.values.parameters import BoundValues, Parameter, resolve, samples
from tests.profile import GATED_STEP, examples
from tests.traces import left

from . import corpus
from .cases.tables import DISTRICTS

CASES = {name: importlib.import_module(f"{__package__}.cases.{name}") for name in ENGINES}
SERVERS = sorted(name for name, words in CASES.items() if hasattr(words, "server_of_its_own"))


def test_every_registered_engine_has_a_case_file_of_its_own():
    assert all(words.built for words in CASES.values())
    assert len({words.__name__ for words in CASES.values()}) == len(ENGINES)


@pytest.fixture(params=sorted(name for name in CASES if isinstance(get_engine(name).language, SqlLanguage)))
def case(request, home):
    """An engine of SQL with its address, secret, cases and a look behind its back."""
    return Case(request.param, *CASES[request.param].built(home, request))


@pytest.fixture(params=sorted(CASES))
def any_case(request, home):
    """The same of any engine, whatever its language."""
    return Case(request.param, *CASES[request.param].built(home, request))


class Case:
    """One engine under test."""

    def __init__(self, name, address, secret, rows):
        self.engine, self.words = get_engine(name), CASES[name]
        self.address, self.secret, self.rows = address, secret, rows
        self.one = getattr(self.words, "ONE", "select name from districts where district_id = 1")

    def open(self):
        return self.engine.open(self.address, self.secret)

    def fetch(self, text, values=None, declared=(), soon=False):
        bound = resolve(declared, values or {}, date(2026, 11, 24), datetime(2026, 11, 24, 6, 5, tzinfo=timezone.utc))
        session = self.open()
        try:
            columns = session.describe(Statement(text, bound))
            rows = [row for b in session.batches(soon) for row in zip(*(cells.to_pylist() for cells in b.cells), strict=True)]
            return columns, rows
        finally:
            session.close()


def test_every_type_travels_in_its_canonical_text(case):
    expressions = [f"{expression} as c{n}" for n, (expression, _, _) in enumerate(case.words.TYPES)]
    columns, [row] = case.fetch("select " + ", ".join(expressions) + " -- the last line is a comment")
    for (expression, kind, text), column, found in zip(case.words.TYPES, columns, row, strict=True):
        assert (column.kind, found) == (kind, text), expression


def test_the_first_rows_are_the_same_on_their_own_lane(case):
    expressions = ", ".join(f"{expression} as c{n}" for n, (expression, _, _) in enumerate(case.words.TYPES))
    text = f"select {expressions} /* unfinished -- words */"
    assert case.fetch(text, soon=True) == case.fetch(text)
    declared, given = [Parameter("t"), Parameter("n", "integer", is_list=True)], {"t": "a'\\ \"$1 %s é", "n": [1, 3]}
    both = f"select :t as t, name from districts where district_id {case.words.IN_MEMBERS} order by 2"
    assert case.fetch(both, given, declared, soon=True) == case.fetch(both, given, declared)
    assert case.fetch(both, given, declared)[1][0][0] == given["t"]


def test_a_text_of_twenty_megabytes_arrives_whole(any_case):
    _, [(text, n)] = any_case.fetch(any_case.words.LONG_TEXT)
    assert (len(text), set(text), n) == (any_case.words.LONG_LENGTH, {"é"}, "1")


def test_settings_of_the_login_and_of_the_query_do_not_change_how_values_are_written(cluster, metering, monkeypatch):
    with psycopg.connect(cluster.url("metering"), autocommit=True) as connection:
        for setting in (
            "datestyle = 'German'",
            "intervalstyle = 'sql_standard'",
            "bytea_output = 'escape'",
            "extra_float_digits = -10",
        ):
            connection.execute(f"alter role reader set {setting}")
        try:
            case = Case("postgresql", metering, "reading-only", None)
            hostile = (
                "select date '2026-11-24' as d, interval '1 day' as i, '\\x00ff'::bytea as b, 0.1::float8 + 0.2 as f, 'x' as x"
            )
            plain = ("2026-11-24", "P1D", "AP8=", "0.30000000000000004", "x")
            assert case.fetch(hostile)[1] == case.fetch(hostile, soon=True)[1] == [plain]
            monkeypatch.setattr(PostgresqlSession, "_refuse_what_is_not_allowed", lambda *_: None)
            with pytest.raises(StatementRefused, match="changed DateStyle"):
                _straight(case, "select date '2026-11-24', set_config('DateStyle', 'German', false)")
        finally:
            connection.execute("alter role reader reset all")


cells = st.one_of(
    st.none(),
    st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0"), max_size=20),
    st.sampled_from(["", "\\.", "\\N", '"', ",", "\r\n"]),
)


@given(rows=st.lists(st.tuples(cells, st.floats(), st.datetimes(), st.booleans()), max_size=12), alone=st.booleans())
@examples(0.4)
def test_lanes_give_the_same_bytes_for_anything(metering, rows, alone):
    parts = [
        "(null::text, null::float8, null::timestamptz, null::boolean)",
        *(
            f"({'null' if t is None else psycopg.sql.quote(t)}::text, '{f!r}'::float8, '{at.isoformat()}+00'::timestamptz, {b})"
            for t, f, at, b in rows
        ),
    ]
    text = f"select {'t' if alone else '*'} from (values {', '.join(parts)}) as v(t, f, at, b)"
    made = {}
    for soon in (False, True):
        session = get_engine("postgresql").open(metering, "reading-only")
        try:
            columns = session.describe(Statement(text))
            file = io.BytesIO()
            writer = FORMATS["csv"].writer(Target(file, io.BytesIO), checked_options("csv", {}))
            writer.begin("", columns)
            for batch in session.batches(soon):
                assert (batch.csv is None) == soon
                writer.write(batch)
            made[soon] = file.getvalue()
            assert writer.rows == len(rows) + 1
        finally:
            session.close()
    assert made[False] == made[True]
    assert FORMATS["csv"].read_back(io.BytesIO(made[True]), checked_options("csv", {})).rows == len(rows) + 1


def test_parameters_of_every_type_are_bound_not_pasted(any_case):
    declared = [
        Parameter("t"), Parameter("n", "integer"), Parameter("x", "decimal"), Parameter("b", "boolean"),
        Parameter("d", "date"), Parameter("w", "timestamp"),
    ]  # fmt: skip
    given = {"t": "it's :n", "n": 41, "x": "12.5", "b": True, "d": "2026-11-24", "w": "2026-11-24 06:05:00"}
    _, [row] = any_case.fetch(any_case.words.PARAMETERS, given, declared)
    assert list(row) == any_case.words.PARAMETER_TEXTS


@pytest.mark.parametrize(("ids", "count"), [([1, 3], 2), ([], 0), (list(range(2_000)), 3)])
def test_a_list_may_have_no_or_thousands_of_members(any_case, ids, count):
    _, rows = any_case.fetch(any_case.words.LIST, {"ids": ids}, [Parameter("ids", "integer", is_list=True)])
    assert len(rows) == count


def test_null_is_null(any_case):
    _, rows = any_case.fetch(any_case.words.ABSENT, {}, [Parameter("t", required=False)])
    assert rows == [("3",)]


def _fetched(case, text):
    case.fetch(text)


def _straight(case, text):
    """Past the gate in the core, as if it had missed something: the session must hold by itself."""
    session = case.open()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(base, "one_reading_statement", lambda statement, _: statement)
        try:
            session.describe(Statement(text))
            return [cell for batch in session.batches() for cells in batch.cells for cell in cells.to_pylist()]
        finally:
            session.close()


@pytest.mark.parametrize("lane", [_fetched, _straight])
def test_nothing_hostile_changes_rows_or_files(any_case, lane):
    before = any_case.rows()
    for text in any_case.words.HOSTILE[:: GATED_STEP if lane is _fetched else 1]:
        if lane is _straight and text in getattr(any_case.words, "ONLY_THE_GATE", ()):
            continue
        try:
            lane(any_case, text)
        except LadleError as error:
            assert error.message, text
        assert any_case.rows() == before, text
        assert left() == [], text


def test_a_source_is_looked_around_in(any_case):
    session = any_case.open()
    catalogue = session.catalogue()
    session.close()
    found = find_table(catalogue, "districts")
    columns = {c["name"]: c["kind"] for c in found["columns"] if c["name"] != "_id"}
    assert (list(columns), columns["district_id"]) == (["district_id", "name", "zone"], "integer")
    if any_case.words.HAS_KEYS:
        assert (found["primary_key"], found["columns"][1]["nullable"]) == (["district_id"], False)
    browser = any_case.engine.language.views(found)
    for view in (
        browser.rows(
            [Filter("zone", "is", "North"), Filter("name", "contains", "MOOR"), Filter("zone", "is_not_null")], "name", True
        ),
        browser.rows([Filter("district_id", "at_most", "1")]),
    ):
        _, rows = any_case.fetch(view.statement, view.values, view.parameters)
        assert rows == [("1", "Alder Moor", "North")], view.statement
    assert any_case.fetch(browser.count([Filter("zone", "is_null")]).statement)[1] == [("1",)]
    assert sorted(any_case.fetch(browser.counts("zone", []).statement)[1], key=str) == sorted(
        [("North", "1"), ("South", "1"), (None, "1")], key=str
    )


@pytest.mark.parametrize("which", ["UNKNOWN_TABLE", "UNKNOWN_COLUMN", "AFTER_PARAMETER"])
def test_a_name_the_database_does_not_know_is_placed_in_the_authors_text(any_case, which):
    text, where = getattr(any_case.words, which, ("", ""))
    if not text:
        return  # of a store whose documents may have any field
    with pytest.raises(StatementWrong) as wrong:
        any_case.fetch(text, {"p": "x"}, [Parameter("p")])
    assert where in wrong.value.message


def test_an_undeclared_parameter_is_refused(any_case):
    with pytest.raises(StatementRefused, match="uses ':nobody', which is not declared"):
        any_case.fetch(any_case.one.replace("1", ":nobody"))


@pytest.mark.parametrize("which", ["SLOW", "SLOW_ROWS"])
def test_a_cancel_from_another_thread_stops_the_statement(any_case, which):
    session = any_case.open()
    threading.Timer(0.3, session.cancel).start()
    with pytest.raises(RunCancelled):
        session.describe(Statement(getattr(any_case.words, which)))
        for _ in session.batches():
            pass
    session.close()


@pytest.mark.parametrize("engine", sorted(name for name in CASES if get_engine(name).networked))
def test_a_session_that_nobody_minds_any_more_is_ended_from_outside(request, home, engine):
    """As one whose process was killed: the server would go on with its statement."""
    case = Case(engine, *CASES[engine].built(home, request))
    session, ended = case.open(), []

    def asks():
        try:
            session.describe(Statement(case.words.SLOW))
            list(session.batches())
        except LadleError as error:
            ended.append(error)

    asking = threading.Thread(target=asks)
    asking.start()
    number = session.identity()["session"]
    case.engine.end_left(case.address, case.secret, number, 10)
    asking.join(100)
    assert len(ended) == 1
    case.engine.end_left(case.address, case.secret, number, 10)  # of one that is over, nothing
    session.close()


@pytest.mark.parametrize("when", ["between them", "whenever it comes"])
def test_a_cancel_that_comes_between_two_statements_is_not_lost(any_case, when):
    session = any_case.open()
    session.describe(Statement(any_case.one if any_case.words.RUNS_WHEN_DESCRIBED else any_case.words.SLOW))
    cancelling = threading.Thread(target=session.cancel)
    cancelling.start()
    if when == "between them":
        cancelling.join()
    with pytest.raises(RunCancelled):
        if any_case.words.RUNS_WHEN_DESCRIBED:
            session.describe(Statement(any_case.words.SLOW))
        for _ in session.batches():
            pass
    cancelling.join()
    session.close()


def broken_off(session, text, breaks):
    """Fetches, and once the first rows are there, breaks what they come from."""
    done = []

    def look(*_):
        if not done:
            done.append(breaks())

    session.describe(Statement(text, reading=Reading(looked=look)))
    for batch in session.batches():
        assert batch.rows
        look()


@pytest.mark.parametrize("engine", SERVERS)
def test_a_connection_that_is_killed_in_mid_fetch_is_lost_and_may_pass(request, engine):
    case = Case(engine, *CASES[engine].built(request.getfixturevalue("home"), request))
    session = case.open()
    with pytest.raises(ConnectionLost) as lost:
        broken_off(session, case.words.WIDE_ROWS, lambda: case.words.kill(request, session))
    session.close()
    assert (lost.value.transient, "connection to the source broke" in lost.value.message) == (True, True)
    assert case.fetch(case.one)[1] == [("Alder Moor",)]


@pytest.mark.parametrize("engine", SERVERS)
def test_a_server_restarted_in_mid_fetch_and_between_uses(home, engine):
    server, address, secret = CASES[engine].server_of_its_own(home / "restarted")
    session = get_engine(engine).open(address, secret)
    with pytest.raises(ConnectionLost) as lost:
        broken_off(session, CASES[engine].WIDE_ROWS, server.stop)
    assert lost.value.transient
    session.close()
    with pytest.raises(SourceUnreachable) as away:
        get_engine(engine).open(address, secret)
    assert "nothing listens" in away.value.message
    server.start()
    try:
        assert get_engine(engine).check(address, secret)[-1].passed
    finally:
        server.stop()


def test_a_statement_is_understood_without_being_run(case):
    session = case.open()
    session.release_snapshot()
    for text, missing, name in (
        ("select district_id, nmae from districts", "column", "nmae"),
        ("select 1 as one from distrcts", "table", "distrcts"),
        ("select d.nmae from districts d", "column", "nmae"),
    ):
        with pytest.raises(StatementWrong) as wrong:
            session.understand(Statement(text))
        assert wrong.value.facts["missing"] == missing
        assert wrong.value.facts["name"].rpartition(".")[2] == name
    with pytest.raises(StatementWrong):
        session.understand(Statement("select name frm districts order order"))
    parameters = [{"name": "since", "type": "date"}, {"name": "ids", "type": "integer", "is_list": True}, {"name": "rate", "type": "decimal"},
                  {"name": "place", "type": "identifier", "allowed": ["districts"]}]  # fmt: skip
    values = samples([Parameter.from_dict(p) for p in parameters])
    session.understand(Statement(case.words.SLOW))
    listed = case.words.LIST.replace("where", "where :since is null and :rate is null and").replace(
        "from districts", "from :place"
    )
    assert [c.name for c in session.understand(Statement(listed, values))] == (["name"] if case.words.TELLS_COLUMNS else [])
    session.close()


def test_statements_that_are_easily_taken_for_wrong_are_right(case):
    session, dialect = case.open(), case.engine.language
    session.release_snapshot()
    declared = [Parameter.from_dict(p) for p in corpus.PARAMETERS]
    given = {
        "zone": "North",
        "low": 1,
        "high": 3,
        "names": ["a", "b"],
        "since": "today",
        "select": "s",
        "from": "f",
        "order": 1,
        "end": "e",
    }
    values = resolve(declared, given, date(2026, 11, 24), datetime(2026, 11, 24, tzinfo=timezone.utc))
    for text in [*corpus.EVERYWHERE, *corpus.OWN[case.engine.language.name]]:
        [part] = statements(text, dialect)
        used = parameter_names(text, dialect)
        assert [r for r in of_text(text, dialect, [p for p in declared if p.name in used]) if r.severity == "error"] == [], text
        filled = dialect.fill_in(text, values).text
        assert dialect.restore(filled) == text
        for each, bound in ((part.text, samples(declared)), (part.text, values), (filled, BoundValues())):
            session.understand(Statement(each, bound))
    session.close()


def test_a_statement_filled_in_gives_the_same_rows_as_with_bound_values(case):
    parameters = [{"name": "who"}, {"name": "day", "type": "date"}, {"name": "at", "type": "timestamp"}, {"name": "n", "type": "integer"},
                  {"name": "rate", "type": "decimal"}, {"name": "none", "type": "integer", "required": False},
                  {"name": "ids", "type": "integer", "is_list": True}, {"name": "empty", "type": "integer", "is_list": True},
                  {"name": "place", "type": "identifier", "allowed": ["districts"]}]  # fmt: skip
    given = {"who": "it's \\ \"x\" é", "day": "2026-11-01", "at": "2026-11-01 06:30:15", "n": -7, "rate": "12.50", "ids": [1, 3], "empty": [],
             "place": "districts"}  # fmt: skip
    values = resolve(
        [Parameter.from_dict(p) for p in parameters], given, date(2026, 11, 24), datetime(2026, 11, 24, 6, tzinfo=timezone.utc)
    )
    test = "= any(:{})" if case.engine.language.list_test == "= any(…)" else "in :{}"
    text = (f"select name, :who as who, :day as day, :at as at_time, :n + 1 as n, :rate as rate, :none as none, :due_time as due from :place"
            f" where district_id {test.format('ids')} and not (district_id {test.format('empty')} and 1 = 1) order by name")  # fmt: skip
    seen = []
    for statement in (Statement(text, values), Statement(case.engine.language.fill_in(text, values).text)):
        session = case.open()
        session.describe(statement)
        seen.append([cells for b in session.batches() for cells in zip(*(a.to_pylist() for a in b.cells), strict=True)])
        session.close()
    if case.words.NOT_IN_NOTHING:
        assert [row[:2] for row in seen[0]] == [(name, given["who"]) for name in ("Alder Moor", 'Heron "Holt", old')]
    assert seen[0] == seen[1]


def test_several_statements_in_one_session_each_with_its_columns(case):
    text = "-- all\nselect name from districts order by name;\nselect count(*) as n, 'x' as x from districts where district_id > 1;select 3 as three"
    text = "select 1 = 1 as yes, 2 as two;\n" + text
    session, seen = case.open(), []
    for part in case.engine.language.parts(text):
        columns = session.describe(Statement(part.text))
        seen.append(
            (
                [c.name for c in columns],
                [cells for b in session.batches() for cells in zip(*(a.to_pylist() for a in b.cells), strict=True)],
            )
        )
    session.close()
    assert seen.pop(0) == (["yes", "two"], [(case.words.YES, "2")])
    assert seen == [(["name"], [(n,) for _, n, _ in DISTRICTS]), (["n", "x"], [("2", "x")]), (["three"], [("3",)])]


@pytest.mark.parametrize("engine", [name for name in SERVERS if hasattr(CASES[name], "carry_out")])
def test_several_statements_read_one_snapshot(request, engine, home):
    case = Case(engine, *CASES[engine].built(home, request))
    session, counts = case.open(), []
    try:
        for _ in range(3):
            session.describe(Statement("select count(*) as n from districts"))
            [batch] = session.batches()
            counts += batch.cells[0].to_pylist()
            case.words.carry_out(request, f"insert into districts values ({90 + len(counts)}, 'Meanwhile', null)")
    finally:
        session.close()
        case.words.carry_out(request, "delete from districts where district_id > 90")
    assert counts == ["3", "3", "3"]


def test_an_identifier_stands_quoted_in_the_statement(any_case):
    table = Parameter.from_dict({"name": "place", "type": "identifier", "allowed": ["districts", "no such; --"]})
    for place, works in (("districts", True), ("no such; --", False)):
        values = resolve([table], {"place": place}, date(2026, 11, 24), datetime(2026, 11, 24, tzinfo=timezone.utc))
        session = any_case.open()
        try:
            session.describe(Statement(getattr(any_case.words, "PLACED", "select name from :place order by name"), values))
            assert works
            assert len([1 for batch in session.batches() for _ in range(batch.rows)]) == 3
        except LadleError as refused:
            assert not works
            assert "no such; --" in refused.message
        finally:
            session.close()


def test_a_check_that_passes_names_every_step(any_case):
    steps = any_case.engine.check(any_case.address, any_case.secret)
    reached = ["name", "port", "login", "database"] if any_case.engine.networked else ["file"]
    assert [(s.step, s.passed) for s in steps] == [
        (name, True) for name in [*reached, "may read", "read-only", "rights", "about"]
    ]
    said = {s.step: s for s in steps}
    assert "refused" in said["read-only"].detail
    assert said["rights"].warning == any_case.words.BEYOND_READING
    assert re.search(r"\d", said["about"].detail)


@pytest.mark.parametrize("engine", SERVERS)
def test_a_login_that_could_do_harm_is_warned_of(request, home, engine):
    words = CASES[engine]
    address, (almighty, said) = words.built(home, request)[0], words.ALMIGHTY
    steps = {s.step: s for s in get_engine(engine).check(address | almighty, words.password_of_the_almighty(request))}
    assert said in steps["rights"].warning
    assert steps["read-only"].passed


def test_the_result_is_that_of_one_moment(metering, cluster):
    session = get_engine("postgresql").open(metering, "reading-only")
    session.describe(Statement("select count(*) from readings"))
    with psycopg.connect(cluster.url("metering"), autocommit=True) as writer:
        writer.execute("insert into readings select 0, 1, now(), 1, false")
        [batch] = session.batches()
        writer.execute("delete from readings where reading_id = 0")
    session.close()
    assert batch.cells[0].to_pylist() == ["20000"]


@pytest.mark.parametrize("engine", SERVERS)
@pytest.mark.parametrize(
    ("change", "secret", "step", "words"),
    [
        ({"host": "no-such-host.invalid"}, "reading-only", "name", "is not known"),
        ({"host": "169.254.1.1"}, "reading-only", "name", "link-local"),
        ({"port": 1}, "reading-only", "port", "nothing listens at 127.0.0.1:1"),
        ({}, "wrong", "login", "refused the login 'reader'"),
        ({"user": "nobody"}, "reading-only", "login", "refused the login 'nobody'"),
        ({"database": "nowhere"}, "reading-only", "database", "'nowhere'"),
        ({"ssl_mode": "verify-full"}, "reading-only", "encryption", "no encrypted connection"),
    ],
)
def test_a_check_stops_at_the_step_that_fails_and_tells_the_causes_apart(request, home, engine, change, secret, step, words):
    address = CASES[engine].built(home, request)[0] | change
    last = get_engine(engine).check(address, secret, 8)[-1]
    assert (last.step, last.passed, words in last.detail, bool(last.hint)) == (step, False, True, True), last
    assert secret not in last.detail + last.hint or secret == "wrong"
    if step == "database":
        assert "There is: " in last.hint
        assert address["user"] == "reader"


@pytest.mark.parametrize("engine", SERVERS)
def test_a_server_that_accepts_and_says_nothing_is_told_within_the_connect_timeout(request, home, engine):
    address = CASES[engine].built(home, request)[0]
    with socket.create_server(("127.0.0.1", 0)) as mute:
        last = get_engine(engine).check(address | {"port": mute.getsockname()[1]}, "reading-only", 2)[-1]
    assert (last.step, "says nothing within 2 s" in last.detail) == ("login", True)


@pytest.mark.parametrize("engine", SERVERS)
def test_no_right_to_read_is_told(request, home, engine):
    words = CASES[engine]
    with pytest.raises(SourceNotReadable, match="may not read"):
        Case(engine, *words.built(home, request)).fetch(words.UNREADABLE)


def test_session_settings_are_in_effect(metering, works):
    settings = metering | {"search_path": "pg_catalog, public", "time_zone": "Europe/London", "role": "reader"}
    query = "select current_setting('search_path') as a, current_setting('TimeZone') as b, current_user as c"
    assert Case("postgresql", settings, "reading-only", None).fetch(query)[1] == [
        ("pg_catalog, public", "Europe/London", "reader")
    ]
    assert Case("mariadb", works | {"time_zone": "+01:00"}, "reading-only", None).fetch("select @@session.time_zone as z")[
        1
    ] == [("+01:00",)]


def test_sqlite_tells_faults_of_a_path_apart(home):
    engine = get_engine("sqlite")
    (home / "not.db").write_text("this is no database, only text of some length" * 40)
    for path, error in [
        (home / "no" / "x.db", SourceUnreachable),
        (home / "x.db", SourceDatabaseMissing),
        (home / "not.db", LadleError),
    ]:
        with pytest.raises(error) as refused:
            engine.open({"path": str(path)}, "")
        assert refused.value.hint
    assert not (home / "x.db").exists()


@pytest.mark.parametrize(
    ("address", "words"),
    [
        ({"hots": "a"}, "Did you mean 'host'?"),
        ({"host": "a", "port": "many"}, "'many' is not a port"),
        ({"host": "a", "port": "5432"}, "needs 'database'"),
    ],
)
def test_an_address_that_is_not_one_is_refused(address, words):
    with pytest.raises(LadleError) as refused:
        get_engine("postgresql").checked_address(address)
    assert words in refused.value.in_words()


def test_rows_without_a_type_of_their_own_are_told_of(metering):
    columns, _ = Case("postgresql", metering, "reading-only", None).fetch("select row(now()), array[row(1)], array[now()]")
    assert [column.note.partition(":")[0] for column in columns] == ["rows without a type of their own"] * 2 + [""]
