"""Types of what the service answers, for the client library: made from the API's document.

.venv/bin/python scripts/records.py docs/openapi.json src/patient_ladle/client/records.py
"""

from __future__ import annotations

import json
import keyword
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

HEAD = '''"""What the service answers, by the name of each record. Made from the API's document: ./scripts/check --fix."""

from __future__ import annotations

from typing import Any, Literal, NotRequired, TypedDict
'''
PLAIN = {"string": "str", "integer": "int", "number": "float", "boolean": "bool", "null": "None"}
PREFIX = "#/components/schemas/"


def named(schema: str) -> str:
    """A record is called what it is, not how it is shown."""
    return schema.removesuffix("View")


def type_of(form: dict[str, Any]) -> str:
    """A schema as a type."""
    if "$ref" in form:
        return named(form["$ref"].removeprefix(PREFIX))
    for joined in ("oneOf", "anyOf", "allOf"):
        if joined in form:
            return " | ".join(dict.fromkeys(type_of(each) for each in form[joined]))
    if "enum" in form:
        known = ", ".join(json.dumps(each) for each in form["enum"] if each is not None)
        made = f"Literal[{known}]" if known else ""
        return " | ".join(filter(None, [made, "None" if None in form["enum"] or "null" in kinds_of(form) else ""]))
    return " | ".join(dict.fromkeys(plain(kind, form) for kind in kinds_of(form))) or "Any"


def kinds_of(form: dict[str, Any]) -> list[str]:
    """``type`` is one or several."""
    kinds = form.get("type", [])
    made = [kinds] if isinstance(kinds, str) else list(kinds)
    return [*made, "null"] if form.get("nullable") else made


def plain(kind: str, form: dict[str, Any]) -> str:
    """One kind of value."""
    if kind == "array":
        return f"list[{type_of(form.get('items', {}))}]"
    if kind == "object":
        inner = form.get("additionalProperties", {})
        return f"dict[str, {type_of(inner) if isinstance(inner, dict) and inner else 'Any'}]"
    return PLAIN[kind]


def refs_in(form: Any) -> Iterator[str]:
    """Names of the schemas that a piece of the document leads to."""
    if isinstance(form, dict):
        for key, value in form.items():
            if key == "$ref" and str(value).startswith(PREFIX):
                yield str(value).removeprefix(PREFIX)
            else:
                yield from refs_in(value)
    elif isinstance(form, list):
        for each in form:
            yield from refs_in(each)


def answered(document: dict[str, Any]) -> list[str]:
    """Schemas of good answers, and what they hold, in the order of their names."""
    wanted = {
        name
        for methods in document["paths"].values()
        for call in methods.values()
        for status, answer in call["responses"].items()
        if status.startswith("2")
        for name in refs_in(answer)
    }
    found: set[str] = set()
    while wanted:
        name = wanted.pop()
        found.add(name)
        wanted |= set(refs_in(document["components"]["schemas"][name])) - found
    return sorted(found)


def record(name: str, schema: dict[str, Any]) -> str:
    """One type, with what the document says of it."""
    if "properties" not in schema:
        return f"{named(name)} = {type_of(schema)}\n"
    required = set(schema.get("required", []))
    fields = {key: type_of(form) for key, form in schema["properties"].items()}
    fields = {key: kind if key in required else f"NotRequired[{kind}]" for key, kind in fields.items()}
    if any(keyword.iskeyword(key) or not key.isidentifier() for key in fields):
        inner = ", ".join(f'"{key}": "{kind}"' for key, kind in fields.items())
        return f'{named(name)} = TypedDict("{named(name)}", {{{inner}}})\n'
    lines = [f"    {key}: {kind}" for key, kind in fields.items()]
    return f"class {named(name)}(TypedDict):\n" + "\n".join(lines) + "\n"


def main(document: str, target: str) -> None:
    """Write the module."""
    read = json.loads(Path(document).read_text())
    schemas = read["components"]["schemas"]
    names = answered(read)
    plain_ones = [name for name in names if "properties" not in schemas[name]]
    made = [record(name, schemas[name]) for name in (*plain_ones, *(each for each in names if each not in plain_ones))]
    Path(target).write_text(HEAD + "\n\n" + "\n\n".join(made))


if __name__ == "__main__":
    main(*sys.argv[1:])
