"""The descriptor beside every result: a Data Package (datapackage.org, version 2), as ``datapackage.json``.

What the standard has no word for stands under ``ladle``: rows, revision, source, environment, data date, values, packing,
and that an absent value is told from an empty text by its missing quotes.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from typing import Any

from .columns import NUMERIC, Column
from .formats import checked_options, get_format
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
_FORM_OPTIONS = {"date": "date_form", "time": "time_form", "timestamp": "timestamp_form", "zoned": "timestamp_form"}


def _field(column: Column, options: Mapping[str, Any], is_text: bool) -> dict[str, Any]:
    made: dict[str, Any] = {"name": column.name, "type": _FIELD_TYPES[column.kind]}
    if column.kind == "binary" and options.get("binary", "base64") == "base64":
        made["format"] = "binary"
    if is_text:
        form = column.form or options.get(_FORM_OPTIONS.get(column.kind, ""), "")
        if column.kind in _FORM_OPTIONS and form:
            made["format"] = form
        if column.kind in NUMERIC and options.get("decimal_sign", ".") != ".":
            made["decimalChar"] = options["decimal_sign"]
        if column.kind in NUMERIC and options.get("thousands_sign"):
            made["groupChar"] = options["thousands_sign"]
        if column.kind == "boolean" and (options.get("true_word"), options.get("false_word")) not in (
            (None, None),
            ("true", "false"),
        ):
            made |= {"trueValues": [options["true_word"]], "falseValues": [options["false_word"]]}
    if column.source_type:
        made["ladle"] = {"sourceType": column.source_type}
    return made


def _resources(name: str, results: Sequence[StatementResult], file: StoredFile, path: str) -> Iterator[dict[str, Any]]:
    """One for each result in the file."""
    member = get_format(file.format)
    options = {**checked_options(file.format, {}), **file.options}
    several = len(results) > 1
    contents = file.contents or ((file.statement, file.rows),)
    is_text = "absent" in options
    for place, (statement, rows) in enumerate(contents):
        marks = [str(statement + 1)] if several else []
        marks += [file.format, *([f"{file.part:03d}"] if file.part is not None else [])]
        dialect = member.dialect(options)
        sheets = [sheet for sheet, of, _ in file.sheets if of == place]
        if sheets:
            dialect["sheetName"] = sheets[0]
        encoding = member.encoding(options)
        own: dict[str, Any] = {"rows": rows}
        if file.packing != "none":
            own["packing"] = file.packing
        if file.part is not None:
            own["part"] = file.part
        if len(sheets) > 1:
            own["sheets"] = sheets
        if is_text and options.get("quoting") and not options["absent"]:
            own["absent"] = "nothing between delimiters; an empty text stands in quotes"
        if options.get("guard_formulas"):
            own["guardedFormulas"] = "an apostrophe stands before texts that begin like a formula"
        if options.get("title_rows"):
            own["titleRows"] = len(options["title_rows"])
        if "header" in options:
            own["headRows"] = len(options.get("title_rows", ())) + options["header"] * (2 if member.name == "text" else 1)
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
                "fields": [_field(column, options, is_text) for column in results[statement].columns],
                "missingValues": [options.get("absent", "")],
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
        "ladle": dict(about),
    }
