"""What an administrator permits a source beyond what every source allows: refused before, called with it, on record."""

from __future__ import annotations

import psycopg
import pytest

from patient_ladle.client import CallFailed, QueryFailed
from tests.conftest import ADMINISTRATOR

TEXT = "select sqlite_source_id() as built"


def previewed(service, source, text, name="author"):
    with service.ladle(name) as ladle:
        made = ladle.extracts.start_preview(source, "live", text)
        return ladle.sources.wait_for_query(made)["result"]


def test_a_function_is_refused_until_an_administrator_permits_it_and_it_is_told_who_did(service):
    with pytest.raises(QueryFailed) as told:
        previewed(service, "laboratory", TEXT)
    assert "a call of 'sqlite_source_id'" in str(told.value)
    assert "--permit sqlite_source_id" in told.value.hint
    assert service.command("source", "edit", "laboratory", "--permit", "sqlite_source_id", name="author").returncode == 4
    done = service.command("source", "edit", "laboratory", "--permit", "sqlite_source_id")
    assert f"sqlite_source_id (by {ADMINISTRATOR}, " in done.stdout, done.stdout + done.stderr
    try:
        assert len(previewed(service, "laboratory", TEXT)["rows"]) == 1
        service.command("source", "edit", "laboratory", "--permit", "fts5_source_id", "--note", "x")
        with service.ladle() as ladle:
            held = ladle.sources.get("laboratory")["permitted"]
            assert [(each["name"], each["by"]) for each in held] == [
                (name, ADMINISTRATOR) for name in ("sqlite_source_id", "fts5_source_id")
            ]
        with service.ladle("reader") as ladle:
            assert not ladle.sources.get("laboratory")["permitted"]
    finally:
        service.command(
            "source", "edit", "laboratory", "--permit-no-longer", "SQLITE_SOURCE_ID", "--permit-no-longer", "fts5_source_id"
        )
    with pytest.raises(QueryFailed, match="does more than read"):
        previewed(service, "laboratory", TEXT)


def test_a_name_that_is_none_is_refused(service):
    with service.ladle() as ladle, pytest.raises(CallFailed, match="is no name of a function") as told:
        ladle.sources.edit("laboratory", permitted=["drop table x; --"])
    assert "public.similarity" in told.value.hint


def test_a_remark_on_a_function_of_peoples_own_stands_in_the_preview(service, cluster):
    with psycopg.connect(cluster.url("metering"), autocommit=True) as connection:
        connection.execute("create function of_own(a int) returns int language sql security definer as 'select a'")
    try:
        notes = previewed(service, "metering", "select of_own(1) as a")["notes"]
        assert any("function public.of_own has its owner's rights" in note for note in notes), notes
    finally:
        with psycopg.connect(cluster.url("metering"), autocommit=True) as connection:
            connection.execute("drop function of_own(int)")
