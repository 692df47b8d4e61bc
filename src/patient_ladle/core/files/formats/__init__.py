"""The family of result formats.

A member owns all of itself: options, writer, counter, reader, and what descriptor, preview and proof must know of it. To add
one: copy ``json.py``, change it, add one line to ``FORMATS`` below and its case to ``tests/core/formats/cases.py``; a file of a
shape that no counter of ``proof.counting`` knows needs one there. Members do not know each other.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from patient_ladle.core.errors import unknown_name

from ..options import checked
from .aligned import AlignedFormat
from .base import Format
from .delimited import CsvFormat, TsvFormat
from .json import JsonFormat, JsonLinesFormat
from .parquet import ParquetFormat
from .xlsx import XlsxFormat

FORMATS: dict[str, Format] = {
    member.name: member
    for member in (
        CsvFormat(), TsvFormat(), XlsxFormat(), JsonFormat(), JsonLinesFormat(), ParquetFormat(), AlignedFormat(),
    )
}  # fmt: skip


def get_format(name: str) -> Format:
    """The format of that name. Raises UnknownName with the nearest right one."""
    if name not in FORMATS:
        raise unknown_name("format", name, FORMATS)
    return FORMATS[name]


def checked_options(name: str, given: Mapping[str, Any]) -> dict[str, Any]:
    """Every option of the format with its value. Raises BadInput and UnknownName."""
    member = get_format(name)
    options = checked(given, member.options, name)
    member.check(options)
    return options


__all__ = ["FORMATS", "Format", "checked_options", "get_format"]
