"""``ladle find``: one search over everything that has a name."""

from __future__ import annotations

import argparse
from typing import Any

from patient_ladle.cli.output import print_json, print_table
from patient_ladle.client.errors import ClientError

from . import add_verb, connected


def find(args: argparse.Namespace) -> int:
    """What has such a name, the best first."""
    text = " ".join(args.text)
    if not text.strip():
        raise ClientError("nothing to search for was given.", "Give a word: ladle find readings")
    with connected(args) as ladle:
        found = ladle.find(text, args.limit)
        url = ladle.transport.url
    if args.json:
        print_json(found)
    else:
        rows = [(each["kind"], each["name"], each["within"], each["detail"], url + each["link"]) for each in found]
        print_table(("KIND", "NAME", "IN", "", "PAGE"), rows, f"nothing is called '{text}'. Try a part of the name.")
    return 0 if found else 1


def add_to(nouns: Any, common: argparse.ArgumentParser) -> None:
    """Register the command."""
    verb = add_verb(
        nouns, common, "find", find,
        "Find extracts, schedules, runs, sources, tables, columns and result files by name.", "ladle find readings",
    )  # fmt: skip
    verb.add_argument("text", nargs="+", help="words; all are met by a name and where it belongs. A number is a run's")
    verb.add_argument("--limit", type=int, default=20, help="how many (default 20)")
