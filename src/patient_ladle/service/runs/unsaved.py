"""Runs of what is not saved: a statement, or a look at a table, whose result is wanted as files."""

from __future__ import annotations

import re
from typing import Any

from django.db import transaction

from patient_ladle.service.extracts.services import unsaved_extract
from patient_ladle.service.ledger.models import Run
from patient_ladle.service.people.models import Person
from patient_ladle.service.sources.interactive import view_of
from patient_ladle.service.sources.queries import address_in, environment_named, source_named

from .services import default_environment, start_run

OF_A_LOOK = ("table", "filters", "sort", "descending")
OF_A_RUN = ("environment", "data_date", "values", "formats")


@transaction.atomic
def start_unsaved(person: Person, body: dict[str, Any]) -> Run:
    """A trial of a statement, or of a look at a table. Raises BadInput and its family, NotAllowed."""
    asked = body | {"environment": body.get("environment") or default_environment()}
    content = {
        key: asked[key]
        for key in ("statement", "inputs", "steps", "parameters", "formats", "file_name", "output")
        if asked.get(key)
    }
    if asked.get("table"):
        address = address_in(source_named(asked["source"]), environment_named(asked["environment"]))
        view = view_of(address, "rows", {key: asked[key] for key in OF_A_LOOK if key in asked})
        content |= {"statement": view.statement, "parameters": [each.to_dict() for each in view.parameters]}
        content.setdefault("file_name", _safe(asked["table"]) + "-{data_date}")
        asked["values"] = view.values
    extract = unsaved_extract(person, source=asked["source"], **content)
    wanted = {key: asked[key] for key in OF_A_RUN if key in asked}
    return start_run(person, {"extract": extract.name, "publish": False, **wanted})


def _safe(table: str) -> str:
    return re.sub(r"[^\w.-]+", "_", table).strip("._") or "table"
