"""Tables that differ by a date in their names are one family."""

from __future__ import annotations

import pytest

from patient_ladle.core.statements.families import families_of


def tables(*names, rows=10):
    return [{"name": name, "rows_about": rows} for name in names]


@pytest.mark.parametrize(
    ("names", "family", "periods"),
    [
        (("contacts_2026_09", "contacts_2026_11", "contacts_2026_10"), "contacts_*", ["2026-09", "2026-10", "2026-11"]),
        (("log20261101", "log20261102", "log20261130"), "log*", ["2026-11-01", "2026-11-02", "2026-11-30"]),
        (("y2026-01.flow", "y2026-02.flow", "y2026-03.flow"), "y*.flow", ["2026-01", "2026-02", "2026-03"]),
        (
            ("a_2025_01_of_2026_09", "a_2025_01_of_2026_10", "a_2025_01_of_2026_11"),
            "a_2025_01_of_*",
            ["2026-09", "2026-10", "2026-11"],
        ),
    ],
)
def test_names_that_differ_by_a_date_are_one_family(names, family, periods):
    [found] = families_of(tables(*names, "others", "contacts_open"))
    assert (found.name, [member.period for member in found.members], found.rows_about) == (family, periods, 30)


@pytest.mark.parametrize(
    "names",
    [
        ("contacts_2026_10", "contacts_2026_11"),
        ("a_2026_13", "a_2026_00", "a_1826_01"),
        ("m120261101", "m220261101", "m320261101"),
        ("contacts_2026_10", "contacts_2026_11", "contacts_2026_11_05"),
    ],
)
def test_two_of_a_kind_and_what_is_no_date_are_none(names):
    assert families_of(tables(*names)) == []


def test_a_sum_is_told_only_where_every_count_is_known():
    [family] = families_of([*tables("a_2026_01", "a_2026_02"), {"name": "a_2026_03", "rows_about": None}])
    assert family.to_dict() == {
        "name": "a_*",
        "rows_about": None,
        "members": [
            {"name": "a_2026_01", "period": "2026-01", "rows_about": 10}, {"name": "a_2026_02", "period": "2026-02", "rows_about": 10},
            {"name": "a_2026_03", "period": "2026-03", "rows_about": None},
        ],
    }  # fmt: skip
