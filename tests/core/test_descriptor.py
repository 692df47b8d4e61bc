"""The descriptor as the Data Package standard (version 2) wants it; the schema below is written by us from its text."""

from __future__ import annotations

import json
from datetime import date, datetime, timezone

import jsonschema
import pytest

from patient_ladle.core.files.descriptor import describe_result
from patient_ladle.core.files.formats import FORMATS
from patient_ladle.core.ports import Statement, StatementResult, StoredFile
from patient_ladle.core.results.columns import KINDS, Column
from patient_ladle.core.runs.engine import RunJob, run_extract
from patient_ladle.core.runs.memory import ManualClock, MemoryFolder, MemoryLedger, MemorySession
from patient_ladle.core.values.parameters import Parameter, resolve

FIELD_TYPES = ["string", "number", "integer", "boolean", "object", "array", "list", "datetime", "date", "time", "year", "yearmonth",
               "duration", "geopoint", "geojson", "any"]  # fmt: skip
FIELD = {
    "type": "object",
    "required": ["name"],
    "properties": {"name": {"type": "string", "minLength": 1}, "type": {"enum": FIELD_TYPES}, "format": {"type": "string"}},
}
RESOURCE = {
    "type": "object",
    "required": ["name", "path"],
    "properties": {
        "name": {"type": "string", "minLength": 1},
        "path": {"type": "string", "pattern": r"^(?!/)(?!.*\.\./).+$"},
        "format": {"type": "string"},
        "mediatype": {"type": "string", "pattern": r"^.+/.+$"},
        "encoding": {"type": "string"},
        "bytes": {"type": "integer", "minimum": 0},
        "hash": {"type": "string", "pattern": r"^([^:]+:[a-fA-F0-9]+|[a-fA-F0-9]{32})$"},
        "schema": {
            "type": "object",
            "required": ["fields"],
            "properties": {
                "fields": {"type": "array", "minItems": 1, "items": FIELD},
                "missingValues": {"type": "array", "items": {"type": ["string", "object"]}},
            },
        },
    },
}
PACKAGE = {
    "type": "object",
    "required": ["resources"],
    "properties": {
        "$schema": {"type": "string"},
        "name": {"type": "string", "pattern": r"^[a-z0-9._-]+$"},
        "created": {"type": "string", "pattern": r"^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ$"},
        "resources": {"type": "array", "minItems": 1, "items": RESOURCE},
    },
}


def conforms(descriptor):
    jsonschema.validate(json.loads(json.dumps(descriptor)), PACKAGE)
    names = [resource["name"] for resource in descriptor["resources"]]
    assert len(set(names)) == len(names), "resource names must be unique in a package"
    return descriptor


@pytest.mark.parametrize("kind", KINDS)
def test_every_kind_has_a_type_of_the_standard(kind):
    file = StoredFile("x.csv", "csv", "text/csv", 1, 2, "ab" * 32)
    column = Column("a column", kind, "its own type")
    made = describe_result(
        "Readings", [StatementResult("", [column], 1)], [file], datetime(2026, 11, 24, 6, 5, tzinfo=timezone.utc), {}
    )
    [field] = conforms(made)["resources"][0]["schema"]["fields"]
    assert field["ladle"] == {"sourceType": "its own type"}


def test_a_run_in_every_format_is_described_with_what_the_standard_has_no_word_for():
    declared = [Parameter("zone", default="Coast"), Parameter("since", "date", required=False)]
    values = resolve(declared, {}, date(2026, 11, 24), datetime(2026, 11, 24, 6, 5, tzinfo=timezone.utc))
    about = {"extract": "readings", "revision": 3, "environment": "live", "values": values.as_text()}
    job = RunJob("readings", "readings-2026-11-24", Statement("select 1", values), tuple(FORMATS), ("out",), about)
    columns, rows = [Column("id", "integer"), Column("id", "text"), Column("", "date")], [(1, "x", date(2026, 11, 24))]
    folder = MemoryFolder()
    run_extract(job, lambda: MemorySession(columns, rows), folder, MemoryLedger(), ManualClock())
    made = conforms(folder.descriptor)
    assert [r["path"] for r in made["resources"]] == [f"readings-2026-11-24{f.extension}" for f in FORMATS.values()]
    for resource in made["resources"]:
        assert resource["bytes"] == len(folder.files[resource["path"]].getvalue())
        assert [f["name"] for f in resource["schema"]["fields"]] == ["id", "id_2", "column_3"]
    assert made["ladle"]["values"] == {
        "zone": "Coast",
        "since": None,
        "data_date": "2026-11-24",
        "due_time": "2026-11-24 06:05:00Z",
    }
    assert made["ladle"]["rows"] == 1
    assert made["ladle"]["warnings"] == [
        "column renamed, for its name stands twice or is missing: id → id_2",
        "column renamed, for its name stands twice or is missing: (no name) → column_3",
    ]
