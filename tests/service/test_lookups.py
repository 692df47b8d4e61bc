"""Lookups: what is read, kept, edited, compared; through the client and the command line."""

from __future__ import annotations

import csv
import io
import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.client import CallFailed, RunFailed
from patient_ladle.core.errors import BadInput, LadleError
from patient_ladle.core.steps.lookup_tables import as_csv, differences, edited, made, proven_kind, read_text
from patient_ladle.core.steps.lookups import allowing
from patient_ladle.core.values.parameters import SOME_DAY, Parameter
from tests.conftest import printed

TEXT = "code,name,limit\nN1,North,1.5\nS1,South,2.25\nW1,,0.5\n"
_CELLS = st.none() | st.text(st.characters(exclude_categories=("Cs", "Cc")), min_size=1, max_size=8)


@pytest.fixture(scope="module")
def author(service):
    with service.ladle("author") as ladle:
        yield ladle


@given(
    st.lists(st.tuples(st.integers(0, 99).map(str), _CELLS, _CELLS), max_size=20, unique_by=lambda row: row[0]),
    st.sampled_from(",;\t"),
)
def test_what_is_written_as_a_table_is_read_as_it_was(rows, delimiter):
    """Held against the standard library's own writer; an empty value is null."""
    out = io.StringIO()
    writer = csv.writer(out, delimiter=delimiter, quoting=csv.QUOTE_MINIMAL)
    writer.writerow(["key", "one", "two"])
    writer.writerows(rows)
    names, found = read_text(out.getvalue())
    assert names == ["key", "one", "two"]
    assert [tuple(row) for row in found] == rows
    kept = made("x", names, found, {}, [])
    assert [tuple(row) for row in read_text(as_csv(kept))[1]] == rows


@given(st.integers(0, 2**32), st.integers(0, 2**32))
def test_edits_and_differences_are_those_of_dictionaries(first, second):
    def table(seed):
        draw = random.Random(seed)
        return {str(k): draw.choice(["a", "b", None]) for k in draw.sample(range(12), draw.randint(1, 10))}

    before, after = table(first), table(second)
    was = made("x", ["k", "v"], [[k, v] for k, v in before.items()], {"k": "text"}, ["k"])
    now = edited(
        was, [{"k": k, "v": v} for k, v in after.items() if k not in before or before[k] != v], [k for k in before if k not in after]
    ) if after else was  # fmt: skip
    assert {row[0]: row[1] for row in now.rows} == after
    told = differences(was, now)
    assert {row[0] for row in told.added} == after.keys() - before.keys()
    assert {row[0] for row in told.removed} == before.keys() - after.keys()
    assert {row[0]: (row[1], new[1]) for row, new in told.changed} == {
        k: (before[k], after[k]) for k in before.keys() & after.keys() if before[k] != after[k]
    }


@pytest.mark.parametrize(
    ("values", "kind"),
    [
        (["1", "-20"], "integer"), (["1", "2.50"], "decimal"), (["007", "1"], "text"), (["2026-11-24"], "date"), (["2026-02-30"], "text"),
        (["true", "false"], "boolean"), (["2026-11-24 06:05:00"], "timestamp"), ([None, None], "text"), (["1e5"], "text"), ([None, "3"], "integer"),
        (["1" * 19], "decimal"), ([""], "text"),
    ],
)  # fmt: skip
def test_a_kind_is_what_all_values_prove(values, kind):
    assert proven_kind(values) == kind


@pytest.mark.parametrize(
    ("given", "message", "hint"),
    [
        ({"text": ""}, "empty", "first line"),
        ({"text": "code,name\nN1,North,x\n"}, "line 2 has 3 values", "as many values"),
        ({"text": 'code,name\nN1,"North\n'}, "line", "quote"),
        ({"text": "code,code\nN1,x\n"}, "two columns are called 'code'", "another name"),
        ({"text": "code,\nN1,x\n"}, "column 2 has no name", "first line"),
        ({"text": "code,name\nN1,x\nN1,y\n"}, "row 2 has the key 'N1', which row 1 has too", "more columns"),
        ({"text": "code,name\n,x\n"}, "row 1 has no value in its key", "Give it one"),
        ({"text": TEXT, "key": ["cod"]}, "'cod'", "code"),
        ({"text": TEXT, "kinds": {"limit": "integer"}}, "row 1, column 'limit': '1.5' is not a value of kind integer", "text"),
        ({"text": TEXT, "kinds": {"limit": "money"}}, "money", ""),
        ({"columns": ["a", "b"], "rows": [["1"]]}, "as many values", "all of them"),
        ({}, "no rows", "text"),
        ({"text": "code\n" + "x" * 3_000}, "too long", "Correct"),
    ],
)
def test_what_cannot_be_a_lookup_is_refused_with_its_row_and_column(author, given, message, hint):
    with pytest.raises(CallFailed) as caught:
        author.lookups.add("never_kept", **given)
    assert message in caught.value.message + str(caught.value)
    assert hint in str(caught.value)
    assert "never_kept" not in [each["name"] for each in author.lookups.list()]


def test_a_lookup_is_kept_in_revisions(author):
    first = author.lookups.add("areas", text=TEXT, note="who is where")
    assert [(c["name"], c["kind"]) for c in first["revision"]["columns"]] == [
        ("code", "text"),
        ("name", "text"),
        ("limit", "decimal"),
    ]
    assert author.lookups.rows("areas")["rows"][2] == ["W1", None, "0.5"]
    second = author.lookups.put(
        "areas", {"code": "N1", "name": "Far North"}, {"code": "E1", "name": "East", "limit": 3}, change_note="east"
    )
    assert second["revision"]["number"] == 2
    assert author.lookups.put("areas", {"code": "E1", "name": "East"})["revision"]["number"] == 2  # nothing was changed
    author.lookups.remove_rows("areas", ["S1"])
    told = author.lookups.differences("areas", 1, 3)
    assert (told["added"], told["removed"]) == ([["E1", "East", "3"]], [["S1", "South", "2.25"]])
    assert told["changed"] == [{"before": ["N1", "North", "1.5"], "after": ["N1", "Far North", "1.5"]}]
    assert author.lookups.rows("areas", revision=1)["total"] == 3
    assert author.lookups.rows("areas", find="nort")["rows"] == [["N1", "Far North", "1.5"]]
    assert [each["number"] for each in author.lookups.revisions("areas")] == [3, 2, 1]
    with pytest.raises(CallFailed, match="is at revision 3"):
        author.lookups.save("areas", revision=2, text=TEXT)
    author.lookups.restore("areas", revision=1)
    assert author.lookups.file("areas") == TEXT
    assert author.lookups.rows("areas", offset=1, limit=1)["rows"] == [["S1", "South", "2.25"]]
    assert author.lookups.archive("areas")["archived_at"]
    assert "areas" in [each["name"] for each in author.lookups.list(archived=True)]
    with pytest.raises(CallFailed, match="is archived"):
        author.extracts.add(
            "on_archived", "metering", "select 1 as code",
            steps=[{"step": "look_up", "lookup": "areas", "on": {"code": "code"}, "columns": {"n": "name"}}],
        )  # fmt: skip
    author.lookups.restore("areas")


def test_a_file_for_a_spreadsheet_program_holds_no_formula(author, service):
    given = "=code,limit,words\n=1+1,-5,\"＝cmd|'/c x'!A1\"\n+2,-7,\n@x,1,'quoted\n"
    author.lookups.add("formulas", text=given)
    assert author.lookups.file("formulas") == given.replace('"', "")
    safe = given.replace('"', "").replace("=code", "'=code").replace("=1+1", "'=1+1").replace("＝cmd", "'＝cmd")
    safe = safe.replace("+2,", "'+2,").replace("@x", "'@x")
    assert author.lookups.file("formulas", escape_formulas=True) == safe
    assert service.command("lookup", "get", "formulas", "--escape-formulas").stdout == safe
    with pytest.raises(CallFailed, match="it takes true or false"):
        author.transport.call("GET", "/lookups/formulas/file?escape_formulas=yes")


def test_a_hundred_thousand_rows_are_kept_and_one_more_is_not(author):
    text = "code,name\n" + "".join(f"C{n},name of {n}\n" for n in range(100_000))
    assert author.lookups.add("many", text=text)["revision"]["rows"] == 100_000
    assert author.lookups.rows("many", offset=99_999)["rows"] == [["C99999", "name of 99999"]]
    with pytest.raises(CallFailed, match="at most 100,000"):
        author.lookups.save("many", text=text + "C,one more\n")


@given(
    st.lists(st.tuples(_CELLS, _CELLS), max_size=12),
    st.sampled_from(["text", "integer", "date"]),
    st.none() | _CELLS.filter(lambda text: text),
    st.booleans(),
)
def test_a_parameter_takes_what_its_lookup_has_and_nothing_else(rows, kind, given_value, labelled):
    """Held against a set of the column's values."""
    rows = [(str(number), *row) for number, row in enumerate(rows)]
    table = made("areas", ["id", "code", "words"], rows, dict.fromkeys(["id", "code", "words"], "text"), ["id"])
    wanted = {code for _, code, _ in rows if code is not None}
    lookup = {"name": "areas", "column": "CODE", **({"label": "words"} if labelled else {})}
    parameter = Parameter.from_dict({"name": "p", "type": kind, "lookup": lookup})
    alike = Parameter("p", kind)
    try:
        [alike.read(each, SOME_DAY) for each in wanted]
    except LadleError:
        with pytest.raises(LadleError, match=r"lookup 'areas'|is not a"):
            allowing(parameter, table)
        return
    if not wanted:
        with pytest.raises(BadInput, match="has no values for it"):
            allowing(parameter, table)
        return
    allowed = allowing(parameter, table)
    assert set(allowed.labels) <= wanted
    assert all(labelled and allowed.labels[row[1]] for row in rows if row[1] in allowed.labels)
    for value in [*wanted, *([given_value] if given_value is not None else [])]:
        try:
            read = alike.read(value, SOME_DAY)
        except LadleError:
            continue
        if read in {alike.read(each, SOME_DAY) for each in wanted}:
            assert allowed.read(value, SOME_DAY) == read
        else:
            with pytest.raises(BadInput, match="not among its allowed values"):
                allowed.read(value, SOME_DAY)


DECLARED = [{"name": "zone", "lookup": {"name": "letters", "label": "title"}, "default": "N"}]


@pytest.fixture
def letters(author):
    text = "letter,title,sort\nN,North,1\nS,South,2\n"
    try:
        author.lookups.add("letters", text=text)
    except CallFailed:
        author.lookups.save("letters", text=text)


@pytest.mark.parametrize(
    ("more", "message"),
    [
        ({"lookup": {"name": "lettres"}}, "did you mean 'letters'"),
        ({"lookup": {"name": "letters", "column": "leter"}}, "has no column 'leter'"),
        ({"lookup": {"name": "letters", "label": "words"}}, "has no column 'words'"),
        ({"default": "W"}, "given 'W', which is not among its allowed values \\(values of the lookup 'letters'\\)"),
        ({"type": "date", "default": None}, "values of the lookup 'letters'"),
        ({"allowed": ["N"]}, "those of a lookup and given besides"),
    ],
)
def test_a_parameter_that_its_lookup_does_not_serve_is_not_saved(author, letters, more, message):
    with pytest.raises(CallFailed, match=rf"(?i){message}"):
        author.extracts.add("by_letter_wrong", "", "select :zone as zone", parameters=[DECLARED[0] | more])
    assert "by_letter_wrong" not in [each["name"] for each in author.extracts.list()]


def test_values_are_looked_for_in_the_lookup_whatever_way_they_come(author, letters):
    """A run, a dry run, a preview, a schedule, a shared value, an input: none takes what is not in it, as it is now."""

    def start(values):
        return author.runs.start("by_letter", environment="live", values=values)

    author.extracts.add("by_letter", "", "select :zone as zone", parameters=DECLARED, formats=["csv"])
    taken = author.extracts.get("by_letter")["revision"]["parameters"][0]
    assert (taken["lookup"], taken["allowed"]) == (DECLARED[0]["lookup"], [])
    assert author.lookups.get("letters")["used_by"] == ["by_letter"]
    assert author.runs.wait(start({"zone": "S"})["id"])["state"] == "finished"
    refused = "was given 'W', which is not among its allowed values"
    ways = [
        lambda value: start({"zone": value}),
        lambda value: author.runs.dry_run("by_letter", environment="live", values={"zone": value}),
        lambda value: author.schedules.add("letter_nights", "by_letter", "live", "daily 03:00", values={"zone": value}),
        lambda value: author.extracts.start_preview(
            "", "live", "select :zone as zone", parameters=DECLARED, values={"zone": value}
        ),
        lambda value: author.extracts.add(
            "of_letters", "", "from a", inputs=[{"name": "a", "extract": "by_letter", "values": {"zone": value}}]
        ),
        lambda value: author.values.set("the_zone", {"live": value}),
    ]
    author.values.set("the_zone", {"live": "N"})
    author.extracts.add("by_shared_letter", "", "select :zone as zone", parameters=[DECLARED[0] | {"shared": "the_zone"}])
    for way in ways:
        with pytest.raises(CallFailed, match=refused):
            way("W")
    author.lookups.put("letters", {"letter": "W", "title": "West", "sort": "3"})
    for way in ways:
        way("W")
    with pytest.raises(CallFailed, match="is used by by_letter"):
        author.lookups.archive("letters")
    author.lookups.remove_rows("letters", ["N"])
    assert author.runs.wait(start({"zone": "S"})["id"])["state"] == "finished"
    with pytest.raises(CallFailed, match="given 'N', which is not among"):
        start({})
    author.schedules.remove("letter_nights")


def test_values_that_come_from_a_column_are_looked_for_too(author, letters):
    parameters = [{"name": "zones", "is_list": True, "lookup": {"name": "letters"}}]
    author.extracts.add("by_letters", "", "select unnest(:zones) as zone", parameters=parameters, formats=["csv"])
    author.extracts.add("some_letters", "", "select unnest(['S', 'W']) as letter")
    drawn = {"zones": {"input": "some", "column": "letter"}}
    author.extracts.add(
        "of_some_letters", "", "from b",
        inputs=[{"name": "some", "extract": "some_letters"}, {"name": "b", "extract": "by_letters", "values": drawn}],
    )  # fmt: skip
    with pytest.raises(RunFailed, match="'W', which is not among its allowed values"):
        author.runs.wait(author.runs.start("of_some_letters", environment="live")["id"])


def test_readers_look_and_do_not_change(service, author):
    author.lookups.add("for_readers", text="a,b\n1,2\n")
    with service.ladle("reader") as reader:
        assert reader.lookups.rows("for_readers")["rows"] == [["1", "2"]]
        with pytest.raises(CallFailed, match="author"):
            reader.lookups.put("for_readers", {"a": 1, "b": 3})


def test_lookups_from_the_command_line(service, author, tmp_path):
    def said(*words, status=0):
        done = service.command("lookup", *words, name="author")
        assert done.returncode == status, (done.stdout, done.stderr)
        return done.stdout + done.stderr

    path = tmp_path / "zones.csv"
    path.write_text("zone;title\nN;North\nS;South\n", encoding="utf-8-sig")
    assert "saved zones, revision 1: 2 rows of zone (text), title (text)" in said(
        "save", "zones", "--file", str(path), "--note", "by letter"
    )
    assert "nothing is changed: zones stays at revision 1" in said("save", "zones", "--file", str(path))
    assert "zones" in said("list")
    assert "by letter" in said("show", "zones")
    assert "no row has that text" in said("show", "zones", "--find", "west")
    assert "3 rows" in said("set", "zones", "zone=W", "title=West", "--change-note", "as asked")
    assert "+  W     West" in said("diff", "zones")
    assert "as asked" in said("revisions", "zones")
    assert "no row of 'zones' has the key X" in said("unset", "zones", "X", "--yes", status=2)
    assert "2 rows" in said("unset", "zones", "W", "--yes")
    assert said("get", "zones") == "zone,title\nN,North\nS,South\n"
    assert said("get", "zones", "--into", str(tmp_path / "o")).strip() == str(tmp_path / "o" / "zones.csv")
    assert printed(service.command("lookup", "show", "zones", "--json", name="author"))["rows"]["total"] == 2
    assert "is archived; bring it back with" in said("archive", "zones", "--yes")
    assert "is back" in said("restore", "zones", "--revision", "2")
    assert "is a new lookup" in said("save", "nowhere", status=2)
    path.write_bytes(b"zone\n\xff\n")
    assert "is not UTF-8 text" in said("save", "zones", "--file", str(path), status=2)


def test_a_lookup_is_found_by_its_name_and_what_it_is(author):
    author.lookups.add("findable_codes", text="a\n1\n", note="pump stations of the fen")
    found = author.find("pump fen")
    assert [(each["kind"], each["name"], each["link"]) for each in found if each["kind"] == "lookup"] == [
        ("lookup", "findable_codes", "/lookups/findable_codes")
    ]


def test_text_with_a_column_too_many_in_a_later_line_says_which():
    with pytest.raises(BadInput) as caught:
        read_text("a\tb\n1\t2\n\n3\n")
    assert caught.value.facts["line"] == 4


def test_a_column_that_is_used_is_not_lost_whatever_way_it_would_be(author):
    """By a step, a parameter's words, a combination's statement; one that nobody names may go."""
    whole = "code,title,words,used,free\nA,Alder,w,1,x\n"
    author.lookups.add("kept_columns", text=whole)
    author.extracts.add("names_title", "metering", "select 'A' as c", formats=["csv"], steps=[
        {"step": "look_up", "lookup": "kept_columns", "on": {"c": "code"}, "columns": {"area": "title"}}])  # fmt: skip
    author.extracts.add("names_words", "", "select :p as p", formats=["csv"], parameters=[
        {"name": "p", "default": "A", "lookup": {"name": "kept_columns", "label": "words"}}])  # fmt: skip
    author.extracts.add(
        "names_used", "", "select l.used from l", formats=["csv"], inputs=[{"name": "l", "lookup": "kept_columns"}]
    )
    users = {"title": "names_title (step 1)", "code": "names_title (step 1)", "words": "names_words (parameter p)",
             "used": "names_used (its statement)"}  # fmt: skip
    for column, user in users.items():
        with pytest.raises(CallFailed, match="would lose columns that are used") as refused:
            author.lookups.save("kept_columns", text=whole.replace(column, f"{column}_new"))
        assert f"'{column}' by {user}" in refused.value.message
    author.lookups.save("kept_columns", text="code,title,words,used\nA,Alder,w,1\n")
    author.lookups.save("kept_columns", text="code,title,words,used,more\nA,Alder,w,1,2\n")
    author.extracts.save("names_used", statement="select l.more from l")
    with pytest.raises(CallFailed, match=r"'more' by names_used \(its statement\)"):
        author.lookups.restore("kept_columns", 2)
    assert author.lookups.file("kept_columns").startswith("code,title,words,used,more")
