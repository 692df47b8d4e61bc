"""The descriptor beside every result: a Data Package (datapackage.org, version 2), as ``datapackage.json``.

What the standard has no word for stands under ``ladle``: rows, revision, source, environment, data date and values.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from .columns import Column
from .ports import StatementResult, StoredFile

PROFILE = "https://datapackage.org/profiles/2.0/datapackage.json"
_FIELD_TYPES = {
    "text": "string",
    "integer": "integer",
    "decimal": "number",
    "float": "number",
    "boolean": "boolean",
    "date": "date",
    "time": "time",
    "timestamp": "datetime",
    "zoned": "datetime",
    "binary": "string",
    "json": "object",
    "any": "any",
}


def _field(column: Column) -> dict[str, Any]:
    made: dict[str, Any] = {"name": column.name, "type": _FIELD_TYPES[column.kind]}
    if column.kind == "binary":
        made["format"] = "binary"
    if column.source_type:
        made["ladle"] = {"sourceType": column.source_type}
    return made


def describe_result(
    name: str,
    results: Sequence[StatementResult],
    files: Sequence[StoredFile],
    created: datetime,
    about: Mapping[str, Any],
    delivered_names: Mapping[str, str] | None = None,
) -> dict[str, Any]:
    """The descriptor's content. ``delivered_names`` maps stored to delivered names where they differ."""
    names = delivered_names or {}
    fields = [[_field(column) for column in result.columns] for result in results]
    several = len(results) > 1
    return {
        "$schema": PROFILE,
        "name": name.lower(),
        "created": created.isoformat(timespec="seconds").replace("+00:00", "Z"),
        "resources": [
            {
                "name": f"{name.lower()}-{file.statement + 1}-{file.format}" if several else f"{name.lower()}-{file.format}",
                **({"title": results[file.statement].title} if several else {}),
                "path": names.get(file.name, file.name),
                "format": file.format,
                "mediatype": file.media_type,
                "encoding": "utf-8",
                "bytes": file.bytes,
                "hash": f"sha256:{file.sha256}",
                "schema": {"fields": fields[file.statement], "missingValues": [""]},
                "ladle": {"rows": file.rows},
            }
            for file in files
        ],
        "ladle": dict(about),
    }
