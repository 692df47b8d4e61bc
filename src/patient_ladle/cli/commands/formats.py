"""``ladle format …``: the formats of result files and their options."""

from __future__ import annotations

import argparse
from typing import Any

from patient_ladle.cli.output import print_json, print_table
from patient_ladle.client.errors import ClientError

from . import Noun, connected


def format_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.formats()["formats"]
    if args.json:
        return print_json(found)
    return print_table(("FORMAT", "EXTENSION", "WHAT IT IS"), [(f["name"], f["extension"], f["note"]) for f in found], "")


def format_show(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        told = ladle.formats()
    by_name = {f["name"]: f["options"] for f in told["formats"]} | {part: told[part] for part in ("files", "documents")}
    if args.name not in by_name:
        raise ClientError(f"there is no format '{args.name}'.", f"There is: {', '.join(by_name)}.")
    options = by_name[args.name]
    if args.json:
        return print_json(options)
    rows = [
        (o["name"], _shown(o["default"]), " | ".join(_shown(c) for c in o["choices"]) or o["kind"], o["note"]) for o in options
    ]
    return print_table(("OPTION", "DEFAULT", "ALLOWED", "WHAT IT IS"), rows, "the format has no options.")


def _shown(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    return repr(value) if value in ("", " ", "\t", "'") else ", ".join(value) if isinstance(value, list) else str(value)


def add_to(nouns: Any, common: argparse.ArgumentParser) -> None:
    """Register the commands."""
    form = Noun(nouns, common, "format", "Formats of result files and their options.")
    form.verb("list", format_list, "List the formats.", "ladle format list")
    verb = form.verb("show", format_show, "The options of a format, or of all files.", "ladle format show csv")
    verb.add_argument(
        "name",
        help="csv, tsv, xlsx, json, jsonl, parquet, text; files for those of all files; documents for how those become rows",
    )
