"""Schedules that would deliver under one name are refused when one of them, or an extract of theirs, is saved."""

from __future__ import annotations

import pytest

from patient_ladle.core.errors import BadInput

ZONE = [{"name": "zone", "default": "N"}]


@pytest.fixture
def into(repository, tmp_path, monkeypatch):
    from django.conf import settings

    monkeypatch.setattr(settings, "DELIVERY_ROOTS", (tmp_path,))
    return tmp_path


@pytest.fixture
def extract(repository, into):
    """``made(name, **content)``: one that delivers into *out*, unless told otherwise."""
    from patient_ladle.service.extracts.services import add_extract

    def made(name="use", **content):
        given = {"statement": "select :zone as zone", "parameters": ZONE, "file_name": "use-{data_date}", "deliver_into": "out"}
        return add_extract(repository, name, "", "", **{**given, **content})

    return made


@pytest.fixture
def schedule(repository):
    from patient_ladle.service.schedules.services import add_schedule

    def made(name, extract="use", rule="daily 06:00", **given):
        return add_schedule(repository, name, extract=extract, rule=rule, **{"environment": "live", "zone": "UTC", **given})

    return made


@pytest.fixture
def rehearsal(repository):
    from patient_ladle.service.sources.models import Environment

    Environment.objects.get_or_create(name="rehearsal")


MEETINGS = {
    "another value": {"values": {"zone": "S"}},
    "other formats, one descriptor": {"formats": ["json"]},
    "another environment": {"environment": "rehearsal"},
    "some days of the week": {"values": {"zone": "S"}, "rule": "mondays 18:00"},
    "one day in a year": {"values": {"zone": "S"}, "rule": "1st of january 00:00"},
    "a zone in which the same day begins earlier": {"values": {"zone": "S"}, "zone": "Pacific/Auckland"},
}
APART = {
    "the same result": {},
    "the same result at another hour": {"rule": "daily 18:00"},
    "another folder": {"values": {"zone": "S"}, "deliver_into": "elsewhere"},
}


@pytest.mark.parametrize("how", MEETINGS)
def test_two_schedules_of_an_extract_that_would_meet_are_refused(extract, schedule, rehearsal, how):
    extract()
    schedule("first")
    with pytest.raises(
        BadInput, match=r"schedule 'first' delivers 'use-\{data_date\}' from live into the same folder: 'use-20"
    ):
        schedule("second", **MEETINGS[how])


@pytest.mark.parametrize("how", APART)
def test_schedules_that_do_not_meet_are_saved(extract, schedule, how):
    extract()
    schedule("first")
    schedule("second", **APART[how])


def test_days_that_never_meet_do_no_harm(extract, schedule):
    extract()
    schedule("first", rule="weekdays 06:00")
    schedule("second", rule="saturdays 06:00", values={"zone": "S"})
    with pytest.raises(BadInput, match="would be of both"):
        schedule("third", rule="mondays 06:00", values={"zone": "E"})


@pytest.mark.parametrize("name", ["use-{data_date}-{value.zone}", "use-{run}", "{environment}-{value.zone}"])
def test_a_name_that_tells_them_apart_is_enough(extract, schedule, name):
    extract(file_name=name)
    schedule("first")
    schedule("second", values={"zone": "S"})


def test_numbered_files_take_no_place(extract, schedule):
    extract(output={"files": {"if_exists": "rename"}})
    schedule("first")
    schedule("second", values={"zone": "S"})


def test_steps_and_folders_of_schedules_are_looked_at_as_well(extract, schedule):
    extract()
    extract("other", file_name="use-{data_date}", deliver_into="")
    schedule("first", "other", deliver_into="elsewhere")
    with pytest.raises(BadInput, match="schedule 'first' delivers"):
        schedule("second", deliver_into="elsewhere")
    with pytest.raises(BadInput, match="would be of both"):
        schedule("third", deliver_into="third", then=[{"extract": "other"}])


def test_an_edit_and_a_new_revision_are_looked_at_as_well(repository, extract, schedule):
    from patient_ladle.service.extracts.services import save_extract
    from patient_ladle.service.schedules.services import edit_schedule

    use = extract(file_name="use-{data_date}-{value.zone}")
    schedule("first")
    schedule("second", values={"zone": "S"})
    with pytest.raises(BadInput, match="would be of both"):
        edit_schedule("second", values={"zone": "N"}, formats=["json"])
    with pytest.raises(BadInput, match="would be of both"):
        save_extract(repository, use.name, None, "", file_name="use-{data_date}")
    save_extract(repository, use.name, None, "", notes="nothing that names a file")
