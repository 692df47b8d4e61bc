"""Small files that are written once, by whoever comes first, and read by everybody after."""

from __future__ import annotations

import os
import secrets
from pathlib import Path


def create_once(path: Path, make: str, mode: int) -> str:
    """The file's text; written with ``make`` and that mode when it is not there yet. Safe against two at once."""
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_name(f".{path.name}.{os.getpid()}.{secrets.token_hex(4)}")
    if not path.exists():
        descriptor = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL, mode)
        with os.fdopen(descriptor, "w") as file:
            file.write(make)
        try:
            os.link(part, path)
        except FileExistsError:
            pass  # another process was first: its text counts
        part.unlink()
    return path.read_text().strip()
