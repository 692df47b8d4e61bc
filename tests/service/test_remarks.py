"""What is saved on a source that does not work, or with nobody told, says so: it is saved all the same."""

from __future__ import annotations

import pytest


@pytest.fixture
def keeper(service, metering):
    """Two sources: one whose password is right, and one that was given none."""
    with service.ladle() as ladle:
        right = {key: str(value) for key, value in metering.items() if key != "secret"}
        for name, secret in (("remarked", "wrong"), ("unlocked", "")):
            ladle.sources.add(name, "postgresql", {"live": {"address": right, "secret": secret}})
        yield ladle
        ladle.sources.remove("unlocked")


def test_a_source_that_is_given_no_password_or_fails_its_check_is_told_of(service, keeper):
    assert keeper.sources.get("unlocked")["remarks"] == [
        "source 'unlocked' in live is given no password: ladle source edit unlocked --secret-stdin",
        "source 'unlocked' in live has not been checked: ladle source check unlocked",
    ]
    [unchecked] = keeper.sources.get("remarked")["remarks"]
    assert unchecked == "source 'remarked' in live has not been checked: ladle source check remarked"
    keeper.sources.check("remarked")
    [failed] = keeper.sources.get("remarked")["remarks"]
    assert failed.startswith("source 'remarked' in live did not pass its last check, at 20")
    assert "login: " in failed
    with service.ladle("author") as author:
        made = author.extracts.add("on_remarked", "remarked", "select 1 as a", formats=["csv"])
        assert made["remarks"] == [failed]
        scheduled = author.schedules.add("remarked-daily", "on_remarked", "live", "daily 03:00")
        others = scheduled["told"]  # of tests that share the service
        nobody = "nobody is told when its runs fail: no channel takes alerts of failures. Add one: ladle channel add"
        assert scheduled["remarks"] == ([failed] if others else [nobody, failed])
        said = service.command("schedule", "edit", "remarked-daily", "--rule", "daily 04:00", name="author")
        assert f"note: {failed}" in said.stderr
        saved = service.command("extract", "save", "on_remarked", "--notes", "still wrong", name="author")
        assert saved.stderr.splitlines() == [f"note: {failed}"]
    keeper.alerts.add_channel("duty-of-failures", "webhook", {"url": "https://alerts.fennmoor.example/x"})
    with service.ladle("author") as author:
        scheduled = author.schedules.get("remarked-daily")
        assert (scheduled["told"], scheduled["remarks"]) == (sorted([*others, "duty-of-failures"]), [failed])
        assert (
            "duty-of-failures, when a run fails" in service.command("schedule", "show", "remarked-daily", name="author").stdout
        )
        author.schedules.remove("remarked-daily")
    with service.ladle("reader") as reader:
        assert reader.extracts.get("on_remarked").get("remarks") == []
    keeper.alerts.remove_channel("duty-of-failures")
