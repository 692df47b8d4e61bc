"""docs/benchmarks.md as parts: whoever measures one puts it in, and the others stay as they stand."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

TITLE = "# Benchmarks"


class BenchPage:
    """The page in a file, which need not be there. A part is known by its ``## `` heading; what stands before all is ""."""

    def __init__(self, path: Path) -> None:
        self.path = path
        text = path.read_text() if path.is_file() else TITLE
        pieces = re.split(r"^## (.*)$", text, flags=re.MULTILINE)
        self.parts = {
            "": pieces[0].strip(),
            **{head: body.strip() for head, body in zip(pieces[1::2], pieces[2::2], strict=True)},
        }

    def lines(self, head: str) -> dict[str, str]:
        """Of that part's table: line by its first cell."""
        rows = [line for line in self.parts.get(head, "").splitlines() if line.startswith("| ")][1:]
        return {line.split("|")[1].strip(): line for line in rows}

    def put(self, head: str, lines: Sequence[str]) -> None:
        """That part is these lines from now on; a new one comes last. Written at once."""
        self.parts[head] = "\n".join(lines).strip()
        text = "\n\n".join((f"## {head}\n\n{body}" if head else body) for head, body in self.parts.items())
        self.path.write_text(text + "\n")
