"""Words that every part of the program says alike."""

from __future__ import annotations


def amount(number: int, noun: str) -> str:
    """``1 row``, ``20,000 rows``: of nouns whose plural takes an s."""
    return f"{number:,} {noun}{'' if number == 1 else 's'}"


def spaced(code: str) -> str:
    """``not run`` for ``not_run``: a code as a sentence has it."""
    return code.replace("_", " ")


def listed(text: str) -> list[str]:
    """The members of a list as people write it, separated by commas; where there is a semicolon, by semicolons, so that
    members may hold commas."""
    return [part.strip() for part in text.split(";" if ";" in text else ",")]
