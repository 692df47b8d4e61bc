"""``ladle result …``: files of finished runs."""

from __future__ import annotations

import argparse
from typing import Any

from patient_ladle.cli.output import print_json, print_table

from . import Noun, connected


def result_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found: list[dict[str, Any]] = []
        for file in ladle.runs.results(args.extract):
            found.append(file)
            if len(found) >= args.most:
                break
    if args.json:
        return print_json(found)
    rows = [(str(f["run"]), f["name"], f["rows"], f["bytes"], f["sha256"][:16] + "…", f["delivered_path"]) for f in found]
    return print_table(("RUN", "FILE", "ROWS", "BYTES", "SHA256", "DELIVERED AS"), rows, "there are no result files yet.")


def result_get(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        saved = ladle.runs.save_files(args.run, args.into, args.file)
    if args.json:
        return print_json([str(path) for path in saved])
    for path in saved:
        print(f"saved {path}")
    if not saved:
        print("no file was saved: see ladle result list.")
    return None


def add_to(nouns: Any, common: argparse.ArgumentParser) -> None:
    """Register the commands."""
    result = Noun(nouns, common, "result", "Result files.")
    verb = result.verb("list", result_list, "List result files, newest first.", "ladle result list --extract high_users")
    verb.add_argument("--extract")
    verb.add_argument("--most", type=int, default=25)
    verb = result.verb("get", result_get, "Save a run's files, proven by checksum.", "ladle result get 12 --into out")
    verb.add_argument("run", type=int, help="number of the run")
    verb.add_argument("--file", action="append", help="only this file (may be given again)")
    verb.add_argument("--into", default=".", metavar="DIR")
