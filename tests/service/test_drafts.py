"""Drafts: kept for one person, written one after the other, gone once they are saved."""

from __future__ import annotations

import json

import pytest

from patient_ladle.client import CallFailed
from patient_ladle.core.errors import BadInput, Conflict

CONTENT = {
    "statement": "select secret_word from districts",
    "parameters": [{"name": "pin", "sensitive": True, "default": "hush"}],
}


@pytest.fixture(scope="module")
def drafted(service):
    with service.ladle("author") as ladle:
        ladle.extracts.add("drafted", "metering", "select 1 as a")
        for each in ladle.extracts.drafts():  # of other tests
            ladle.extracts.drop_draft(each["extract"], each["key"])
    return service


def test_a_draft_is_its_authors_alone_and_on_every_machine(drafted):
    with drafted.ladle("author") as ladle, drafted.ladle("author") as elsewhere, drafted.ladle() as other:
        none = ladle.extracts.draft("drafted")
        assert (none["version"], none["content"], none["saved_at"]) == (0, None, None)
        made = ladle.extracts.keep_draft(CONTENT, 0, "drafted", base=1)
        assert (made["version"], made["base"], made["extract"]) == (1, 1, "drafted")
        assert elsewhere.extracts.draft("drafted")["content"] == CONTENT
        assert other.extracts.draft("drafted")["version"] == 0
        assert "drafted" in [each["extract"] for each in ladle.extracts.drafts()]
        assert "drafted" not in [each["extract"] for each in other.extracts.drafts()]
        ladle.extracts.move("drafted", new_name="drafted_anew")
        assert ladle.extracts.draft("drafted_anew")["content"] == CONTENT
        ladle.extracts.move("drafted_anew", new_name="drafted")
        with drafted.ladle("reader") as reader, pytest.raises(CallFailed, match="this needs author"):
            reader.extracts.draft("drafted")


def test_of_two_windows_the_second_is_told_and_nothing_is_overwritten(drafted):
    with drafted.ladle("author") as one, drafted.ladle("author") as two:
        version = one.extracts.draft("drafted")["version"]
        first = one.extracts.keep_draft({"statement": "select 1"}, version, "drafted")
        for late in (
            lambda: two.extracts.keep_draft({"statement": "select 2"}, version, "drafted"),
            lambda: two.transport.call("DELETE", "/extracts/drafted/draft", params={"version": version}),
        ):
            with pytest.raises(CallFailed, match="changed in another window of yours") as told:
                late()
            assert (told.value.status, told.value.code) == (412, "edited_meanwhile")
        assert two.extracts.draft("drafted")["content"] == {"statement": "select 1"}
        two.extracts.keep_draft({"statement": "select 2"}, first["version"], "drafted")
        two.extracts.drop_draft("drafted")
        with pytest.raises(CallFailed, match="you have no draft of 'drafted'"):
            two.extracts.drop_draft("drafted")


def test_what_is_saved_is_no_draft_any_more_and_what_somebody_else_saves_leaves_it(drafted):
    with drafted.ladle("author") as ladle, drafted.ladle() as other:
        ladle.extracts.keep_draft({"statement": "select 3 as c"}, 0, "drafted", base=1)
        other.extracts.save("drafted", statement="select 4 as d")
        assert ladle.extracts.draft("drafted")["content"] == {"statement": "select 3 as c"}
        ladle.extracts.save("drafted", statement="select 5 as e")
        assert ladle.extracts.draft("drafted")["version"] == 1, "another text was saved, not the draft's"
        ladle.extracts.save("drafted", statement="select 3 as c")
        assert ladle.extracts.draft("drafted")["version"] == 0


def test_a_text_that_is_no_extract_yet_has_a_key_and_becomes_one(drafted):
    with drafted.ladle("author") as ladle:
        ladle.extracts.keep_draft({"name": "from_draft", "statement": "select 6 as f"}, 0, key="a1-b2")
        ladle.extracts.keep_draft({"name": "other_draft", "statement": "select 6 as f"}, 0, key="c3")
        assert {(each["key"], each["extract"]) for each in ladle.extracts.drafts()} == {("a1-b2", ""), ("c3", "")}
        ladle.extracts.add("from_draft", "metering", "select 6 as f")
        assert [each["key"] for each in ladle.extracts.drafts()] == ["c3"]
        ladle.extracts.drop_draft(key="c3")
        for key in ("A", "ä", "x" * 65, "a.b"):
            with pytest.raises(CallFailed, match="cannot be the key of a draft"):
                ladle.extracts.draft(key=key)


def test_the_command_line_lists_shows_and_drops_them(drafted):
    with drafted.ladle("author") as ladle:
        ladle.extracts.keep_draft(CONTENT, 0, "drafted", base=1)
        ladle.extracts.keep_draft({"statement": "select 7 as g"}, 0, key="k7")
    listed = drafted.command("draft", "list", name="author").stdout
    assert all(word in listed for word in ("drafted", "revision 1", "new:k7"))
    assert drafted.command("draft", "show", "new:k7", name="author").stdout == "select 7 as g\n"
    assert json.loads(drafted.command("draft", "show", "drafted", "--json", name="author").stdout)["content"] == CONTENT
    kept = drafted.command("draft", "drop", "drafted", name="author")
    assert (kept.returncode, "Say --yes" in kept.stderr) == (1, True)
    for name in ("drafted", "new:k7"):
        assert f"draft {name} is dropped" in drafted.command("draft", "drop", name, "--yes", name="author").stdout
    assert "you have no drafts" in drafted.command("draft", "list", name="author").stdout
    assert "you have no draft of 'drafted'" in drafted.command("draft", "show", "drafted", name="author").stderr


def test_a_draft_stands_encrypted_and_is_bounded(repository, monkeypatch):
    from django.db import connection

    from patient_ladle.service.extracts import drafts
    from patient_ladle.service.extracts.models import Draft, Extract

    Draft.objects.all().delete()
    extract = Extract.objects.get(name="from_wide")
    drafts.keep_draft(repository, extract, "", 0, 1, CONTENT)
    with connection.cursor() as cursor:
        cursor.execute("select content from extracts_draft")
        [(stands,)] = cursor.fetchall()
    assert "secret_word" not in stands
    assert "hush" not in stands
    assert drafts.content_of(drafts.draft_of(repository, extract)) == CONTENT
    with pytest.raises(BadInput, match="a draft may have 600,000 characters"):
        drafts.keep_draft(repository, extract, "", 1, 1, {"statement": "x" * 600_000})
    monkeypatch.setattr(drafts, "MOST", 2)
    drafts.keep_draft(repository, None, "one", 0, None, {})
    with pytest.raises(Conflict, match="you have 2 drafts"):
        drafts.keep_draft(repository, None, "two", 0, None, {})
    Draft.objects.filter(extract=extract).update(content="")
    with connection.cursor() as cursor:
        cursor.execute("update extracts_draft set content = 'written with other keys'")
    assert drafts.content_of(drafts.draft_of(repository, extract)) is None, "it is shown as none, and no fault"
    Draft.objects.all().delete()
