"""Names of delivered files, from a template such as ``{extract}-{data_date}``."""

from __future__ import annotations

import re
from collections.abc import Mapping

from .errors import BadInput, unknown_name

DEFAULT_TEMPLATE = "{extract}-{data_date}"
FIELDS = ("extract", "data_date", "environment", "run")
MAX_NAME_BYTES = 200
"""Below the 255 that file systems take, with room for an ending and a temporary mark."""
_FIELD = re.compile(r"\{([^{}]*)\}")
_UNSAFE = re.compile(r"[^\w.,+=@() -]|^[. ]+|[. ]+$")


def check_template(template: str) -> None:
    """Refuse a template that names an unknown field, holds a folder, or leaves no name. Raises BadInput."""
    for name in _FIELD.findall(template):
        if name not in FIELDS:
            raise unknown_name("field of a file name", name, FIELDS)
    rest = _FIELD.sub("x", template)
    if _UNSAFE.search(rest) or not rest:
        raise BadInput(
            f"'{template}' cannot be a file name.",
            "Use letters, digits, spaces and . , + = @ ( ) _ - and the fields " + ", ".join(f"{{{f}}}" for f in FIELDS) + ".",
        )
    if len(template.encode()) > MAX_NAME_BYTES:
        raise BadInput(f"a file name may have {MAX_NAME_BYTES} bytes at most.", "Shorten it.")


def stem(template: str, values: Mapping[str, str]) -> str:
    """The name without its ending; characters that a value brings and a name cannot hold become ``_``."""
    check_template(template)
    made = _FIELD.sub(lambda found: _UNSAFE.sub("_", values[found.group(1)]), template)
    return made.encode()[:MAX_NAME_BYTES].decode(errors="ignore")


def slug(title: str) -> str:
    """A title as a part of a file name: letters and digits, the rest as underscores, at most 40 bytes."""
    made = re.sub(r"[\W_]+", "_", title).strip("_").lower()
    return made.encode()[:40].decode(errors="ignore").rstrip("_") or "statement"
