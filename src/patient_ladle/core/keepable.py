"""Texts of drivers, files and people, made fit for the record: the one place where that is done.

The record keeps every text that Unicode has but two: NUL, and halves of surrogate pairs. They are shown by a mark, so that
nothing that a source says can keep a run from ending. Errors and lines of a log are bounded besides.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from typing import Any

NUL_MARK = "\u2400"
"""SYMBOL FOR NULL."""
HALF_MARK = "\ufffd"
"""REPLACEMENT CHARACTER."""
MOST_CHARACTERS = 4_000
"""Of an error's message or hint, and of a line of a log."""
_HALF = re.compile("[\ud800-\udfff]")
_UNFIT = re.compile("[\0\ud800-\udfff]")
_MAY_BE_UNFIT = re.compile(rb"\\u(?:0000|[dD][89a-fA-F])")
_BOUNDED = ("failed", "log")


def keepable_text(text: str) -> str:
    """The text with marks for what the record cannot keep."""
    return _HALF.sub(HALF_MARK, text.replace("\0", NUL_MARK))


def unfit(text: str) -> tuple[int, str] | None:
    """Where the first thing stands that cannot be kept, and what it is in words; what people write is refused for it."""
    found = _UNFIT.search(text)
    return (found.start(), "a NUL character" if found.group() == "\0" else "half of a character") if found else None


def keepable(value: Any) -> Any:
    """Plain JSON with the same done to every text in it, names among them."""
    return _with_texts(value, keepable_text)


def _with_texts(value: Any, made: Callable[[str], str]) -> Any:
    """Plain JSON with every text in it made another."""
    if isinstance(value, str):
        return made(value)
    if isinstance(value, list):
        return [_with_texts(each, made) for each in value]
    if isinstance(value, dict):
        return {made(key): _with_texts(each, made) for key, each in value.items()}
    return value


def bounded(text: str) -> str:
    """No longer than a person reads; says how much is left out."""
    if len(text) <= MOST_CHARACTERS:
        return text
    return f"{text[:MOST_CHARACTERS]} … ({len(text) - MOST_CHARACTERS:,} more characters)"


def said(line: bytes) -> dict[str, Any]:
    """What a child said in one line of JSON, fit to be kept."""
    made: dict[str, Any] = json.loads(line, parse_constant=str)  # JSON has no NaN and no Infinity, and nor has the record
    if _MAY_BE_UNFIT.search(line):
        made = keepable(made)
    if made.get("kind") in _BOUNDED:
        made = _with_texts(made, bounded)
    return made
