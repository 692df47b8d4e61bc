"""Bodies of requests: JSON as RFC 8259 has it, without what no field of ours can hold."""

from __future__ import annotations

import json
from typing import Any, NoReturn

from rest_framework.parsers import BaseParser

from patient_ladle.core.errors import BadInput
from patient_ladle.core.keepable import unfit

MOST_DEEP = 60
"""Objects and lists within each other."""
MOST_DIGITS = 400
"""Of one number; Python takes long over longer ones."""
_FREE = ("statement",)
"""Fields whose own check says line and column."""


class StrictJSONParser(BaseParser):
    """Refuses NUL, halves of characters, NaN, numbers without end and depths without end, with the field's name."""

    media_type = "application/json"

    def parse(self, stream: Any, media_type: str | None = None, parser_context: Any = None) -> Any:
        try:
            text = stream.read().decode()
        except UnicodeDecodeError as error:
            raise BadInput(f"the body is not UTF-8 at byte {error.start}.", "Send JSON encoded as UTF-8.") from None
        try:
            found = json.loads(text, parse_constant=_refuse_constant, parse_int=_integer, parse_float=_float)
        except json.JSONDecodeError as error:
            raise BadInput(
                f"the body is not JSON: {error.msg} at line {error.lineno}, column {error.colno}.",
                "Send a JSON object, encoded as UTF-8.",
            ) from None
        except RecursionError:
            raise _too_deep() from None
        _check(found, "", 0)
        return found


def _refuse_constant(word: str) -> NoReturn:
    raise BadInput(f"the body holds {word}, which is not a number of JSON.", "Send a number, or null.")


def _integer(text: str) -> int:
    if len(text) > MOST_DIGITS:
        raise BadInput(f"the body holds a number of {len(text)} digits.", "Send it as a text.")
    return int(text)


def _float(text: str) -> float:
    found = float(text)
    if found in (float("inf"), float("-inf")):
        raise BadInput(f"the number {text[:40]} is larger than can be kept.", "Send it as a text.")
    return found


def _too_deep() -> BadInput:
    return BadInput(f"the body is nested deeper than {MOST_DEEP} levels.", "Send a flatter one.")


def _check(value: Any, path: str, depth: int) -> None:
    if depth > MOST_DEEP:
        raise _too_deep()
    if isinstance(value, str):
        if path not in _FREE:
            refuse_unfit_text(path or "the body", value)
    elif isinstance(value, dict):
        for key, item in value.items():
            refuse_unfit_text("a name in the body", key)
            _check(item, f"{path}.{key}" if path else key, depth + 1)
    elif isinstance(value, list):
        for item in value:
            _check(item, path, depth + 1)


def refuse_unfit_text(what: str, text: str) -> None:
    """What the service database cannot keep. Raises BadInput."""
    if found := unfit(text):
        raise BadInput(f"{what} holds {found[1]}.", "Remove it.")
