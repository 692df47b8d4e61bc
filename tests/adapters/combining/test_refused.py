"""What steps may not say: refused before a row is read, with the step, the field and what would be right; and what hostile
expressions reach, which is nothing."""

from __future__ import annotations

import pytest

from patient_ladle.core.errors import BadInput, LadleError, StatementFailed, StatementWrong
from patient_ladle.core.results.columns import Column
from patient_ladle.core.steps.declared import plain_steps, schema, steps_of
from patient_ladle.core.steps.lookups import Lookup
from patient_ladle.core.values.parameters import Parameter
from tests.profile import LONG

from .session import Rows, shaped

COLUMNS = [
    Column("district", "text"), Column("litres", "decimal", "numeric(10,2)"), Column("year", "integer"), Column("read_on", "date"),
]  # fmt: skip
ROWS = [["N1", "12.50", "2025", "2025-11-24"], ["S1", None, "2026", "2026-11-24"], ["S1", "3.00", "2026", None]]
NAMES = Lookup("names", 2, (Column("code", "text"), Column("name", "text")), ("code",), [["N1", "North"], ["S1", "South"]])
TWICE = Lookup("twice", 1, (Column("code", "text"), Column("kind", "text")), ("code", "kind"), [["N1", "a"], ["N1", "b"]])


def step(does, /, **told):
    return [{"step": does, **told}]


REFUSED = [
    (step("filter", where="litres"), "where", "no condition", "litres > 0"),
    (step("filter", where="liters > 0"), "where", "no column 'liters'", "'litres'"),
    (step("filter", where="litres > 'abc'"), "where", "'abc' is compared with 'litres'", "decimal"),
    (step("filter", where="read_on between '2026-01-01' and 'yesterday'"), "where", "'yesterday'", "date"),
    (step("filter", where="year in (2025, '20x6')"), "where", "'20x6'", "integer"),
    (step("filter", where="district = year"), "where", "the number 1 and the text '1'", "kind"),
    (step("filter", where="litres >"), "where", "cannot be read", "double quotes"),
    (step("filter", where="litres > 0) or (1 = 1"), None, "", ""),
    (step("compute", column="year", **{"as": "1"}), "column", "already", "another name"),
    (step("compute", column="x", **{"as": "sum(litres)"}), "as", "over many rows", "group"),
    (step("compute", column="x", **{"as": "now()"}), "as", "no function", ""),
    (step("compute", column="x", **{"as": "current_date"}), "as", "clock", ":data_date"),
    (step("compute", column="x", **{"as": ":since"}), "", "not declared", "Declare"),
    (step("compute", column="x", **{"as": "litres -- a comment )"}), None, "", ""),
    (step("group", by=["district"], columns={"x": "litres"}), "", "GROUP BY", ""),
    (step("group", by=["district"], columns={"District": "count(*)"}), "columns", "two columns", "another name"),
    (step("group"), "", "neither", "by"),
    (step("group", by=["district"], columns={"x": "median(litres)"}), "columns[0].as", "rounded", "cast(litres as double)"),
    (step("group", by=["district"], columns={"x": "string_agg(district, ',')"}), "columns[0].as", "no order", "order by"),
    (step("share_of_total", of="district", column="x"), "of", "where a number is wanted", "kind"),
    (step("running_total", of="litres", column="x", order=["readon"]), "order[0]", "no column 'readon'", "read_on"),
    (step("sort", order=["nowhere"]), "order[0]", "no column", ""),
    (step("fill_nulls", columns=["litres"], value="much"), "columns[0]", "does not fit", "decimal"),
    (step("fill_nulls", columns=["district"], value=3), "columns[0]", "does not fit", "text"),
    (step("rows_to_columns", names="year", values="district"), "values", "where a number is wanted", ""),
    (step("rows_to_columns", names="year", values="litres", rows=["read_on"], row_total="All"), "row_total", "no place for the word", "text"),
    (step("rows_to_columns", names="year", values="litres", known=["x"]), "known[0]", "does not fit", "integer"),
    (step("rows_to_columns", names="read_on", values="litres", rows=["district"], most=1), "names", "different values", "known"),
    (step("columns_to_rows", columns=["district", "year"]), "columns", "the number 1 and the text '1'", "kind"),
    (step("look_up", lookup="nmes", on={"district": "code"}, columns={"name": "name"}), "lookup", "no lookup 'nmes'", "names"),
    (step("look_up", lookup="names", on={"district": "cod"}, columns={"name": "name"}), "on[0].as", "no column of the lookup", "code"),
    (step("look_up", lookup="names", on={"year": "code"}, columns={"name": "name"}), "on", "the number 1 and the text '1'", "kind"),
    (step("look_up", lookup="names", on={"district": "code"}, columns={"year": "name"}), "columns", "already", ""),
    (step("look_up", lookup="twice", on={"district": "code"}, columns={"x": "kind"}), "on", "stands twice", "name more"),
    (step("split", column="year", at="-", into=["a", "b"]), "column", "no text", "kind"),
    (step("split", column="district", at="-", into=["a", "A"]), "into", "two columns", ""),
    (step("replace_values", column="year", values=[{"from": "x", "to": 1}]), "values[0].from", "does not fit", ""),
    (step("rename", columns={"district": "year"}), "columns", "already", ""),
    (step("reorder", columns=["year", "year"]), "columns", "named twice", ""),
    (step("drop", columns=["district", "litres", "year", "read_on"]), "columns", "no column would be left", ""),
]  # fmt: skip


@pytest.mark.parametrize(("steps", "field", "message", "hint"), REFUSED, ids=[str(n) for n in range(len(REFUSED))])
def test_a_step_that_cannot_be_done_is_refused_before_a_row_is_read(steps, field, message, hint):
    inner = Rows(COLUMNS, ROWS)
    inner.batches = lambda soon=False: pytest.fail("a row was read") if "most" not in steps[0] else iter([])
    if "most" in steps[0]:  # what is found in the rows is known once they are there
        inner = Rows(COLUMNS, ROWS)
    good = [{"step": "filter", "where": "litres is not null or litres is null"}]
    if field is None:
        assert shaped(COLUMNS, ROWS, steps).rows
        return
    with pytest.raises(StatementWrong) as caught:
        shaped(COLUMNS, ROWS, [*good, steps[0] | {"name": "the wrong one"}], {"names": NAMES, "twice": TWICE}, inner=inner)
    error = caught.value
    assert error.message.startswith("step 2 'the wrong one'"), error.message
    assert message in error.message
    assert hint in error.hint
    if field:
        assert error.facts["where"] == f"steps[1].{field}", error.facts


@pytest.mark.parametrize(
    ("given", "where", "hint"),
    [
        ([{"step": "fliter"}], "steps[0].step", "'filter'"),
        ([{"step": "filter", "were": "x"}], "steps[0]", "'where'"),
        ([{"step": "filter"}], "steps[0]", "schema"),
        ([{"step": "first_rows", "rows": 0}], "steps[0].rows", "schema"),
        ([{"where": "x"}], "steps[0]", "filter, compute"),
        (["filter"], "steps[0]", "filter, compute"),
        ("filter", "steps", "Such as"),
        ([{"step": "drop", "columns": ["a"], "name": "x"}] * 2, "steps[1].name", "its own"),
        ([{"step": "drop", "columns": ["a\x07"]}], "steps[0]", "Leave it out"),
        ([{"step": "drop", "columns": ["a"]}] * 101, "steps", "together"),
    ],
)
def test_what_is_no_declaration_is_refused_with_its_place(given, where, hint):
    with pytest.raises(BadInput) as caught:
        steps_of(given)
    assert caught.value.facts["where"] == where
    assert hint in caught.value.hint


def test_a_declaration_comes_back_as_it_was_and_the_schema_knows_it():
    given = [steps[0] for steps, *_ in REFUSED if len(steps) == 1]
    kept = plain_steps(steps_of(given))
    assert steps_of(kept) == steps_of(given)
    assert plain_steps(steps_of(kept)) == kept
    by_name = [{key: value for key, value in each.items() if key not in ("columns", "on")} for each in given]
    assert [{key: each[key] for key in want} for each, want in zip(kept, by_name, strict=True)] == by_name
    named = {each["properties"]["step"]["enum"][0] for each in schema()["$defs"].values() if "step" in each["properties"]}
    assert {each["step"] for each in given} <= named


FAILED = [
    (step("compute", column="x", **{"as": "litres / (year - 2025)"}), "a division by zero", "nullif"),
    (step("compute", column="x", **{"as": "year // (year - 2025)"}), "a division by zero", "nullif"),
    (step("compute", column="x", **{"as": "year * 9000000000000000000"}), "grows beyond", "double"),
    (step("change_kind", column="district", kind="integer"), "step 1: 'N1' is not a value of kind integer", "null"),
    (step("change_kind", column="litres", kind="integer"), "'12.50' is not a value of kind integer", "null"),
    (step("change_kind", column="litres", kind="decimal", places=0), "'12.50' is not a value", "null"),
    (step("look_up", lookup="names", on={"district": "code"}, columns={"name": "name"}, missing="fail"), "2 rows without a match", "Add it"),
]  # fmt: skip


@pytest.mark.parametrize(("steps", "message", "hint"), FAILED)
def test_what_shows_itself_in_the_rows_fails_with_words_that_help(steps, message, hint):
    only_north = Lookup("names", 3, NAMES.columns, ("code",), [["N1", "North"]])
    with pytest.raises(StatementFailed) as caught:
        shaped(COLUMNS, ROWS, steps, {"names": only_north})
    assert message in caught.value.message
    assert hint in caught.value.hint


def test_a_sum_of_large_numbers_is_exact_or_refused():
    rows = [["99999999999999999999999999999999999999"]] * 3
    with pytest.raises(LadleError, match="grows beyond"):
        shaped([Column("n", "decimal")], rows, step("group", columns={"s": "sum(n)"}))
    assert shaped([Column("n", "integer")], [["9223372036854775807"]] * 3, step("group", columns={"s": "sum(n)"})).rows == [
        ["27670116110564327421"]
    ]


def test_five_thousand_values_do_not_become_columns():
    rows = [[str(n), "1"] for n in range(5_000)]
    with pytest.raises(StatementWrong, match="more than 1,600 different values"):
        shaped([Column("k", "integer"), Column("v", "integer")], rows, step("rows_to_columns", names="k", values="v"))


def test_names_of_null_and_of_nothing_do_not_meet_a_value():
    columns, rows = (
        [Column("r", "text"), Column("k", "text"), Column("v", "integer")],
        [["a", None, "1"], ["a", "", "2"], ["a", "x", "3"]],
    )
    across = {"step": "rows_to_columns", "names": "k", "values": "v"}
    assert shaped(columns, rows, [across]).names == ["r", "empty", "x", "null"]
    with pytest.raises(StatementWrong, match="which is a value too"):
        shaped(columns, [*rows, ["a", "null", "4"]], [across])
    assert shaped(columns, [*rows, ["a", "null", "4"]], [across | {"null_name": "(none)"}]).names == [
        "r",
        "empty",
        "null",
        "x",
        "(none)",
    ]


def test_values_of_parameters_and_the_data_date_are_bound():
    over = Parameter("least", "decimal")
    found = shaped(
        COLUMNS, ROWS, step("filter", where="litres > :least and read_on < :data_date"), None, [over], {"least": "3"}
    )
    assert [row[0] for row in found.rows] == ["N1"]
    with pytest.raises(LadleError):
        shaped(
            COLUMNS, ROWS, step("filter", where="district = :x"), None, [Parameter("x", "decimal")], {"x": "1); select 1 --"}
        )


def test_what_is_private_to_the_service_is_no_column():
    with pytest.raises(StatementWrong, match="ladle row"):
        shaped([Column("Ladle Row", "text")], [["x"]], step("sort", order=["Ladle Row"]))
    with pytest.raises(StatementWrong, match="a name of the service's own"):
        shaped(COLUMNS, ROWS, step("rename", columns={"year": "Ladle Row"}))
    with pytest.raises(StatementWrong, match="no column 'ladle row'"):
        shaped(COLUMNS, ROWS, step("filter", where='"ladle row" > 0'))


HOSTILE = """
read_text('{secret}') | content from read_text('{secret}') | (select content from read_text('{secret}')) | (from read_text('{secret}'))
exists (select 1 from read_csv('{secret}')) | district in (select content from read_text('{secret}')) | (table "ladle result")
(with x as (select 1) select * from x) | (values (1)) | values (1) | from duckdb_settings() | (from duckdb_settings()) | *
getenv('HOME') | current_setting('memory_limit') | version() | current_database() | current_schema() | current_user | user | session_user
now() | today() | current_date | current_timestamp | localtime | get_current_time() | transaction_timestamp() | random() | uuid()
gen_random_uuid() | setseed(0.5) | pg_sleep(1) | sleep_ms(1000) | txid_current() | nextval('s') | currval('s') | query('select 1')
query_table('t') | json_execute_serialized_sql('x') | json_serialize_sql('select 1') | glob('/*') | list_aggregate([1], 'sum')
list_transform([1], x -> x) | [x for x in [1]] | {{'a': 1}} | row(1, 2) | struct_pack(a := 1) | map([1], [2]) | unnest([1, 2]) | generate_series(1, 9)
range(1000000000) | repeat('x', 3000000000) | try(litres / 0) | cast(district as json) | district::blob | litres::bit
main.abs(litres) | "main"."abs"(litres) | system.main.abs(litres) | "ladle result".district | t.district | district[1] | district[1:2]
array_agg(district) | list(district) | histogram(district) | first(district) | any_value(district) | row_number() over () | sum(litres) over ()
lag(litres) over (order by year) | litres as x | litres x | litres, year | litres; select 1 | litres from x | litres where 1 = 1 | litres limit 1
litres order by 1 | distinct litres | all litres | litres union select 1 | litres) , (litres | litres) from read_text('{secret}') where (1 = 1
litres) as x, (select content from read_text('{secret}') | 1) union (select 1 | /* | litres /* ( | 'litres | "litres | $$ litres | $1 | ? | @1
enum_range(null) | getvariable('x') | write_log('x') | parse_duckdb_log_message('a', 'b') | icu_sort_key('a', 'de') | hash(district) | md5(district)
columns('.*') | columns(*) | rowid | alias(litres) | typeof(litres) | stats(litres) | in_search_path('a', 'b') | format('{{}}', litres) | printf('%s', district)
regexp_split_to_table(district, 'x') | string_to_array(district, 'x') | lower(read_text('{secret}')) | case when true then getenv('HOME') end
coalesce(litres, (select 1)) | litres between 1 and (select 2) | litres in (1, (select 2)) | not exists (select 1) | litres = any(select 1)
x'00' || getenv('A') | concat(district, getenv('HOME')) | if(true, getenv('HOME'), 'a') | nullif(getenv('HOME'), 'a') | cast(getenv('HOME') as varchar)
""".strip()
HOSTILE = [each.strip() for line in HOSTILE.splitlines() for each in line.split(" | ")]


@pytest.mark.parametrize("hostile", HOSTILE)
def test_hostile_expressions_read_nothing_and_change_nothing(tmp_path, hostile):
    """Through each place where an expression stands: refused before a row is read, whatever it is."""
    secret = tmp_path / "secret.csv"
    secret.write_text("Fennmoor-secret-4711\n")
    text = hostile.format(secret=secret)
    places = [
        step("compute", column="x", **{"as": text}), step("filter", where=text), step("filter", where=f"{text} is null"),
        step("group", by=["district"], columns={"x": f"max({text})"}), step("group", columns={"x": text}),
    ]  # fmt: skip
    for steps in places if LONG else (places[0], places[1 + HOSTILE.index(hostile) % 4]):
        inner = Rows(COLUMNS, ROWS)
        try:
            found = shaped(COLUMNS, ROWS, steps, inner=inner)
        except LadleError as error:
            assert "4711" not in error.message
            assert isinstance(error, StatementWrong), (steps, error.message)
        else:
            assert found.rows == [] or "4711" not in str(found.rows)
            assert text in ("litres", "all litres", "list(district)") or "max(" in str(steps), (steps, found.rows)
    assert secret.read_text() == "Fennmoor-secret-4711\n"
    assert [path.name for path in tmp_path.iterdir()] == ["secret.csv"]
