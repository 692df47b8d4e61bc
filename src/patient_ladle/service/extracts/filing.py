"""Several extracts put elsewhere at once: folders, tags, archive. What they were before comes back, and can be put back."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from django.db import transaction

from patient_ladle.service.common.together import names_of

from .models import Extract
from .named import extract_named
from .services import archive_extract, edit_extract, move_extract, restore_extract


@transaction.atomic
def file_extracts(filings: Sequence[Mapping[str, Any]]) -> list[dict[str, Any]]:
    """Each ``name`` with ``folder``, ``tags``, ``archived`` as they are to be; what is not given stays. All of them, or none.

    What they were before, in the same form: handed in again, it undoes this. Raises BadInput, UnknownName.
    """
    names = names_of("extract", filings, lambda name: extract_named(name).name)
    # In the order of their keys: of two such calls at once, one waits for the other.
    list(Extract.objects.select_for_update().filter(name__in=names).order_by("pk"))
    return [_filed(name, each) for name, each in zip(names, filings, strict=True)]


def _filed(name: str, wanted: Mapping[str, Any]) -> dict[str, Any]:
    extract = extract_named(name)
    was = {"folder": extract.folder, "tags": extract.tags, "archived": extract.archived_at is not None}
    if "folder" in wanted:
        move_extract(name, wanted["folder"], None)
    if "tags" in wanted:
        edit_extract(name, wanted["tags"], None)
    if "archived" in wanted and wanted["archived"] != was["archived"]:
        archive_extract(name) if wanted["archived"] else restore_extract(extract.owner, name, None)
    return {"name": name, **{key: value for key, value in was.items() if key in wanted}}
