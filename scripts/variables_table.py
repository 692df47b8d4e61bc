"""The table of the service's variables in docs/reference.md, made from ``patient_ladle.variables``.

.venv/bin/python scripts/variables_table.py          fails where it is out of date
.venv/bin/python scripts/variables_table.py --fix    writes it
"""

from __future__ import annotations

import re
import sys
from pathlib import Path

from patient_ladle.variables import SETTING, Variable

PAGE = Path(__file__).resolve().parent.parent / "docs" / "reference.md"
HEAD = "| variable | default | meaning |\n|---|---|---|\n"


def default_of(variable: Variable[object]) -> str:
    """A text is code; words stand as they are."""
    words = variable.default
    if not words.startswith("("):
        return f"`{words}`" if words else ""
    words = words.strip("()")
    return words if " " in words else f"`{words}`"


def main() -> int:
    """See above."""
    rows = [f"| `{each.name}` | {default_of(each)} | {each.note} |\n" for each in SETTING.values()]
    page = PAGE.read_text()
    made = re.sub(rf"{re.escape(HEAD)}(\|.*\n)+", lambda _: HEAD + "".join(rows), page)
    if "--fix" in sys.argv:
        PAGE.write_text(made)
    return int(PAGE.read_text() != made)


if __name__ == "__main__":
    sys.exit(main())
