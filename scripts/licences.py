"""docs/licences.md: the packages that the service is installed with, and under what licences, as they say themselves.

.venv/bin/python scripts/licences.py > docs/licences.md
"""

from __future__ import annotations

import re
from importlib.metadata import metadata
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PARTS = {"service": "the service, its client and its command line", "bucket": "results in a bucket", "demo": "the demo"}


def licence_of(package: str) -> str:
    """By its expression, else its trove classifiers, else the first line of its own words."""
    told = metadata(package)
    if told.get("License-Expression"):
        return str(told["License-Expression"])
    classes = [each.rpartition(" :: ")[2] for each in told.get_all("Classifier") or [] if each.startswith("License ::")]
    said = str(told.get("License") or "").strip().splitlines()
    return ", ".join(classes) or (said[0] if said else "see its files")


def made() -> str:
    """The page."""
    lines = [
        "# Licences of dependencies",
        "",
        "Patient Ladle itself is under the MIT licence. Made by `scripts/licences.py` from what each package says of itself.",
    ]
    for part, words in PARTS.items():
        lines += ["", f"## For {words}", "", "| package | version | licence |", "|---|---|---|"]
        for line in (ROOT / "requirements" / f"{part}.txt").read_text().splitlines():
            found = re.match(r"([\w.-]+)==([\w.]+)", line)
            if found:
                lines.append(f"| {found.group(1)} | {found.group(2)} | {licence_of(found.group(1))} |")
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    print(made(), end="")
