"""Writes what is declared of outlines into docs: their schema, and which test, aggregate and join each language has."""

from __future__ import annotations

import json
import sys
from pathlib import Path

from patient_ladle.adapters.sources import ENGINES
from patient_ladle.core.statements.outlines.outline import AGGREGATES, BUCKETS, TESTS, schema

DOCS = Path(__file__).resolve().parents[1] / "docs"
BEGIN, END = "<!-- declared -->", "<!-- end -->"
KINDS = ("integer", "decimal", "float", "boolean", "date", "timestamp", "zoned", "time", "text", "binary", "json", "any")


def table() -> str:
    """Two tables in Markdown: tests by kind and engine; aggregates, buckets and joins by engine."""
    words = {name: engine.language.outlines().words for name, engine in ENGINES.items()}
    lines = [f"| test | {' | '.join(KINDS)} |", "|---|" + "---|" * len(KINDS)]
    for test in TESTS:
        cells = []
        for kind in KINDS:
            has = [name for name, each in words.items() if test in each.tests[kind]]
            cells.append("all" if len(has) == len(words) else ", ".join(has) or "–")
        lines.append(f"| `{test}` | {' | '.join(cells)} |")
    lines += ["", f"| | {' | '.join(words)} |", "|---|" + "---|" * len(words)]
    for field, all_of in (("aggregates", AGGREGATES), ("buckets", BUCKETS), ("joins", ("inner", "left", "right", "full"))):
        for each in all_of:
            has_it = ["yes" if each in getattr(own, field) else "–" for own in words.values()]
            what = {"aggregates": "aggregate", "buckets": "bucket", "joins": "join"}[field]
            lines.append(f"| {what} `{each}` | {' | '.join(has_it)} |")
    return "\n".join(lines)


def documents() -> dict[Path, str]:
    """Each file and what it is to be."""
    page = DOCS / "outlines.md"
    text = page.read_text(encoding="utf-8")
    head, rest = text.split(BEGIN, 1)
    return {
        page: f"{head}{BEGIN}\n{table()}\n{END}{rest.split(END, 1)[1]}",
        DOCS / "outline-schema.json": json.dumps(schema(), indent=1, ensure_ascii=False) + "\n",
    }


def main() -> int:
    """Writes them."""
    for path, text in documents().items():
        path.write_text(text, encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
