"""The family of result formats.

To add one: copy ``csv.py``, change it, add one line to ``FORMATS`` below and one case file under
``tests/core/formats/cases``. Members do not know each other.
"""

from __future__ import annotations

from ..errors import unknown_name
from .base import Format
from .csv import CsvFormat
from .json import JsonFormat
from .xlsx import XlsxFormat

FORMATS: dict[str, Format] = {member.name: member for member in (CsvFormat(), XlsxFormat(), JsonFormat())}


def get_format(name: str) -> Format:
    """The format of that name. Raises UnknownName with the nearest right one."""
    if name not in FORMATS:
        raise unknown_name("format", name, FORMATS)
    return FORMATS[name]


__all__ = ["FORMATS", "Format", "get_format"]
