"""Names of what people make."""

from __future__ import annotations

import re

from patient_ladle.core.errors import BadInput

NAME = re.compile(r"[a-z][a-z0-9_-]{0,62}")


def check_name(kind: str, name: str) -> str:
    """A name that works in addresses, files and shells. Raises BadInput."""
    if not NAME.fullmatch(name):
        raise BadInput(
            f"'{name}' cannot be the name of a {kind}.",
            "Use small letters, digits, _ and -, beginning with a letter; at most 63.",
        )
    return name
