"""What every call has in common in the API's document: its error answers, which are all of one form, and its words.

``described.json`` says of each call, parameter and property what it is, once for all places of that name; where a name
means something else in one schema, it says so under the schema's. What a serializer or a view says itself stands.
"""

from __future__ import annotations

import json
from http import HTTPStatus
from importlib import resources
from typing import Any

PROBLEM = {
    "type": "object",
    "description": "Problem details (RFC 9457).",
    "properties": {
        "type": {"type": "string"},
        "title": {"type": "string", "description": "The status in words."},
        "status": {"type": "integer"},
        "detail": {"type": "string", "description": "Message and hint together."},
        "code": {"type": "string", "description": "Stays the same from release to release."},
        "message": {"type": "string", "description": "What is wrong, with what was given."},
        "hint": {"type": "string", "description": "The next step."},
        "transient": {"type": "boolean", "description": "The same call may work later."},
        "facts": {"type": "object", "additionalProperties": {}, "description": "Line and column, say, by name."},
        "request_id": {"type": "string", "description": "Under which the service's log has the details."},
    },
    "required": ["type", "title", "status", "detail", "code", "message", "hint", "transient", "facts", "request_id"],
}
_ALWAYS = (400, 401, 403, 404, 503)
_WITH_BODY = (409, 413, 429, 502, 504, 507)
_ALSO = {"save_extract": (412,), "keep_draft": (412,), "drop_draft": (412,), "keep_draft_of_extract": (412,),
         "drop_draft_of_extract": (412,), "table": (409,), "start_run": (422,), "run_file": (409, 416),
         "latest_result": (409, 416), "run_archive": (409,)}  # fmt: skip


def with_problems(result: dict[str, Any], **_: Any) -> dict[str, Any]:
    """Adds to every call the errors that it can answer with."""
    schemas = result["components"]["schemas"]
    schemas["Problem"] = PROBLEM
    for schema in schemas.values():
        if "* `` - " in schema.get("description", "") and "" not in schema["enum"]:
            schema["enum"].insert(0, "")  # a choice of nothing is one too
    content = {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}}
    for methods in result["paths"].values():
        for method, call in methods.items():
            wanted = {*_ALWAYS, *(_WITH_BODY if method != "get" else ()), *_ALSO.get(call["operationId"], ())}
            for status in sorted(wanted):
                call["responses"].setdefault(str(status), {"description": HTTPStatus(status).phrase, "content": content})
            call["responses"] = dict(sorted(call["responses"].items()))
    return result


def with_words(result: dict[str, Any], **_: Any) -> dict[str, Any]:
    """Adds to every call, parameter and property what it is."""
    words = json.loads(resources.files(__package__).joinpath("described.json").read_text(encoding="utf-8"))
    for methods in result["paths"].values():
        for call in methods.values():
            _say(call, words["calls"].get(call["operationId"]))
            for parameter in call.get("parameters", []):
                _say(parameter, words["parameters"].get(parameter["name"]))
    for name, schema in result["components"]["schemas"].items():
        for key, each in schema.get("properties", {}).items():
            said = words["properties"].get(key)
            _say(each, said.get(name, said[""]) if isinstance(said, dict) else said)
    return result


def _say(what: dict[str, Any], words: str | None) -> None:
    if words and "description" not in what:
        if "$ref" in what:
            what["allOf"] = [{"$ref": what.pop("$ref")}]  # beside a reference, words would not count
        what["description"] = words
