"""The descriptor beside every result: a Data Package (datapackage.org, version 2), as ``datapackage.json``.

What the standard has no word for stands under ``ladle``: rows, revision, source, environment, data date, values, compression,
and that null is told from an empty text by its missing quotes.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from typing import Any

from ..ports import StatementResult, StoredFile
from ..results.columns import Column
from .formats import Format, checked_options, get_format

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


def _field(column: Column, member: Format, options: Mapping[str, Any]) -> dict[str, Any]:
    made = {"name": column.name, "type": _FIELD_TYPES[column.kind], **member.field_facts(column, options)}
    if column.source_type:
        made["ladle"] = {"sourceType": column.source_type}
    return made


def _resources(name: str, results: Sequence[StatementResult], file: StoredFile, path: str) -> Iterator[dict[str, Any]]:
    """One for each result in the file."""
    member = get_format(file.format)
    options = {**checked_options(file.format, {}), **file.options}
    several = len(results) > 1
    contents = file.contents or ((file.statement, file.rows),)
    for place, (statement, rows) in enumerate(contents):
        marks = [str(statement + 1)] if several else []
        marks += [file.format, *([f"{file.part:03d}"] if file.part is not None else [])]
        dialect = member.dialect(options)
        sheets = [sheet for sheet, of, _ in file.sheets if of == place]
        if sheets:
            dialect["sheetName"] = sheets[0]
        encoding = member.encoding(options)
        own: dict[str, Any] = {"rows": rows}
        if file.compression != "none":
            own["compression"] = file.compression
        if file.part is not None:
            own["part"] = file.part
        if len(sheets) > 1:
            own["sheets"] = sheets
        own |= member.facts(options)
        own["proof"] = {"counter": member.counter, **member.counter_facts(options)}
        yield {
            "name": "-".join([name.lower(), *marks]),
            **({"title": results[statement].title} if several else {}),
            "path": path,
            "format": file.format,
            "mediatype": file.media_type,
            **({"encoding": encoding} if encoding else {}),
            "bytes": file.bytes,
            "hash": f"sha256:{file.sha256}",
            **({"dialect": dialect} if dialect else {}),
            "schema": {
                "fields": [_field(column, member, options) for column in results[statement].columns],
                "missingValues": [member.null_as(options)],
            },
            "ladle": own,
        }


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
    return {
        "$schema": PROFILE,
        "name": name.lower(),
        "created": created.isoformat(timespec="seconds").replace("+00:00", "Z"),
        "resources": [made for file in files for made in _resources(name, results, file, names.get(file.name, file.name))],
        "ladle": {**about, **_shaped(results)},
    }


def _shaped(results: Sequence[StatementResult]) -> dict[str, Any]:
    """How rows went through steps, for each statement that has some."""
    told = [
        {"statement": number, "fetched": each.shaped.fetched, "steps": [step.to_dict() for step in each.shaped.steps]}
        for number, each in enumerate(results, 1)
        if each.shaped is not None
    ]
    return {"shaped": told} if told else {}
