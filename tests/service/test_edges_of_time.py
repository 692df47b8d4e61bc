"""The first and the last day that there is, and what is near them, in every field that takes a day or a moment."""

from __future__ import annotations

import json

import pytest

from tests.command import PATIENCE
from tests.service.test_requests import DOCUMENT, fault_of, filled, operations  # noqa: F401  # the fixture

DAYS = ("0001-01-01", "0001-01-02", "0999-12-31", "1000-01-01", "8999-12-31", "9000-01-01", "9999-12-30", "9999-12-31")
MOMENTS = (
    "0001-01-01T00:00:00Z", "0001-01-01T00:00:00+14:00", "9999-12-31T23:59:59.999999Z", "9999-12-31T23:59:59-12:00", "1000-01-01T00:00:00Z",
    "8999-12-31T23:00:00Z",
)  # fmt: skip
SCHEDULE = {"name": "at_the_edge", "extract": "use", "environment": "live", "rule": "06:30"}
TRIAL = {"source": "metering", "environment": "live", "statement": "select :data_date as d", "formats": ["csv"]}
ASKED = {
    "GET /date-phrases": [("?phrase=last%20month&", "data_date"), ("?phrase=0&", "phrase")],
    "POST /dry-runs": [({"extract": "use"}, "data_date")],
    "GET /last-night": [("?", "date")],
    "POST /pauses": [({"schedules": [{"name": "daily"}]}, "schedules.0.until")],
    "POST /previews": [({"source": "metering", "environment": "live", "statement": "select 1 as a"}, "data_date")],
    "GET /rule-times": [("?rule=06:30&zone=Europe/London&", name) for name in ("first_date", "last_date")],
    "GET /runs": [("?", "since"), ("?", "until")],
    "POST /runs": [({"extract": "use"}, "data_date")],
    "POST /schedules": [(SCHEDULE, "first_date"), (SCHEDULE, "last_date"), (SCHEDULE, "exceptions.0")],
    "PATCH /schedules/{name}": [({}, "first_date"), ({}, "last_date"), ({}, "exceptions.0")],
    "GET /schedules/{name}/backfill": [("?to=9999-12-31&", "from"), ("?from=0001-01-01&", "to"), ("?from=2026-11-24&", "to")],
    "POST /schedules/{name}/backfill": [({"to": "9999-12-31"}, "from"), ({"from": "0001-01-01"}, "to")],
    "GET /schedules/{name}/month": [("?", "date")],
    "POST /schedules/{name}/pause": [({}, "until")],
    "POST /unsaved-runs": [(TRIAL, "data_date")],
}
"""By call: what else is asked, and the field. A field of a list is said by its place."""


def fields_of(document):
    """Every parameter and every property of a body that takes a day or a moment, by its call, as the document has them."""

    def within(schema, path=()):
        if "$ref" in schema:
            schema = document["components"]["schemas"][schema["$ref"].rpartition("/")[2]]
        for each in [*schema.get("allOf", ()), *schema.get("anyOf", ()), *schema.get("oneOf", ())]:
            yield from within(each, path)
        if schema.get("format") in ("date", "date-time"):
            yield ".".join(path)
        if "items" in schema:
            yield from within(schema["items"], (*path, "0"))
        for name, each in schema.get("properties", {}).items():
            yield from within(each, (*path, name))

    for path, calls in document["paths"].items():
        for method, call in calls.items():
            label = f"{method.upper()} {path.removeprefix('/api/v1')}"
            for parameter in call.get("parameters", []):
                if parameter["schema"].get("format") in ("date", "date-time"):
                    yield label, parameter["name"]
            body = call.get("requestBody", {}).get("content", {}).get("application/json", {}).get("schema", {})
            for field in within(body):
                yield label, field


def test_every_field_that_takes_a_day_is_asked():
    known = {(label, field) for label, asked in ASKED.items() for _, field in asked}
    assert {*fields_of(json.loads(DOCUMENT.read_text()))} <= known


def put(body, field, value):
    """The body with the value at that place, which is made on the way."""
    first, _, rest = field.partition(".")
    if first == "0":
        return [put((body or [{}])[0], rest, value) if rest else value]
    return {**body, first: put(body.get(first, []), rest, value) if rest else value}


@pytest.mark.parametrize("label", sorted(ASKED))
def test_the_first_and_the_last_day_are_answered(filled, label):  # noqa: F811
    import httpx

    [operation] = [each for each in operations() if each.label.replace("/api/v1", "") == label]
    method, _, path = label.partition(" ")
    with httpx.Client(
        base_url=f"{filled.url}/api/v1", timeout=PATIENCE, headers={"Authorization": f"Bearer {filled.tokens['administrator']}"}
    ) as client:
        for base, field in ASKED[label]:
            for value in (*DAYS, *MOMENTS):
                address = path.replace("{name}", "daily")
                if isinstance(base, str):
                    answer = client.request(method, f"{address}{base}{field}={value.replace('+', '%2B')}")
                else:
                    answer = client.request(method, address, json=put(base, field, value))
                wrong = fault_of(operation, answer) if answer.status_code < 500 else f"{answer.status_code}"
                assert wrong == "", (base, field, value, answer.text[:300])
                if label == "POST /schedules" and answer.status_code < 300:
                    client.delete("/schedules/at_the_edge")
