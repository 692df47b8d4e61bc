"""Every line of both texts stands in the differences once, in order."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.results.differences import lines_between, settings_between

TEXTS = st.lists(st.sampled_from(["select 1", "from a", "", "where é", "  x"]), max_size=12).map("\n".join)


@given(TEXTS, TEXTS)
def test_both_texts_can_be_read_out_of_their_differences(before, after):
    lines = lines_between(before, after)
    assert [line.text for line in lines if line.kind != "added"] == before.splitlines()
    assert [line.text for line in lines if line.kind != "removed"] == after.splitlines()
    assert [line.before for line in lines if line.before] == list(range(1, len(before.splitlines()) + 1))
    assert [line.after for line in lines if line.after] == list(range(1, len(after.splitlines()) + 1))
    assert lines_between(before, before) == [line for line in lines_between(before, before) if line.kind == "same"]


def test_settings_differ_field_by_field_and_member_by_member():
    before = {"formats": ["csv"], "notes": "", "parameters": [{"name": "a", "type": "text"}, {"name": "b", "type": "date"}]}
    after = {
        "formats": ["csv", "json"],
        "notes": "",
        "parameters": [{"name": "a", "type": "date"}, {"name": "c", "type": "text"}],
    }
    assert list(settings_between(before, after)) == [
        {"field": "formats", "before": ["csv"], "after": ["csv", "json"]},
        {"field": "parameters: a, type", "before": "text", "after": "date"},
        {"field": "parameters: b", "before": {"name": "b", "type": "date"}, "after": None},
        {"field": "parameters: c", "before": None, "after": {"name": "c", "type": "text"}},
    ]
