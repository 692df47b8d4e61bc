"""``ladle backfill …``: runs for past due times of a schedule, as one thing."""

from __future__ import annotations

import argparse
from collections.abc import Mapping
from itertools import islice
from typing import Any

from patient_ladle.cli.output import confirmed, moment, print_facts, print_json, print_table
from patient_ladle.words import amount

from . import Noun, connected


def backfill_start(args: argparse.Namespace) -> int:
    """Says what it would do, asks, then does it."""
    wish = (args.schedule, args.first, args.last, args.again, not args.store_only)
    with connected(args) as ladle:
        plan = ladle.schedules.planned_backfill(*wish)
        wanted = [each for each in plan if each["runs"]]
        if not args.json:
            rows = [(moment(p["due_at"]), p["data_date"], "run" if p["runs"] else "leave", p["why"]) for p in plan]
            print_table(("DUE", "DATA DATE", "WOULD", "WHY"), rows, "no due time lies in those days.")
        if args.dry_run or not wanted:
            if args.json:
                print_json(plan)
            return 0
        if not confirmed(f"Start {amount(len(wanted), 'run')} of '{args.schedule}' at low priority?", args.yes):
            return 2
        made = ladle.schedules.backfill(*wish)
    _started(args, made)
    return 0


def _started(args: argparse.Namespace, made: Mapping[str, Any]) -> None:
    if args.json:
        return print_json(made)
    numbers = made["runs"]
    print(f"backfill {made['id']}: queued {amount(len(numbers), 'run')}, {numbers[0]} to {numbers[-1]}")
    print(f"follow it: ladle backfill show {made['id']}; end it: ladle backfill cancel {made['id']}")
    return None


def _counts(found: Mapping[str, Any]) -> str:
    return ", ".join(f"{count:,} {state}" for state, count in sorted(found["counts"].items()))


def backfill_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = list(islice(ladle.schedules.backfills(args.schedule), args.limit))
    if args.json:
        return print_json(found)
    rows = [(f["id"], f["schedule"], f["from"], f["to"], f["state"], _counts(f), f["started_by"]) for f in found]
    none = "there is no backfill yet: ladle backfill start SCHEDULE --from DATE --to DATE."
    return print_table(("BACKFILL", "SCHEDULE", "FROM", "TO", "STATE", "RUNS", "BY"), rows, none)


def _show(args: argparse.Namespace, found: Mapping[str, Any]) -> None:
    if args.json:
        return print_json(found)
    cancelled = f" by {found['cancelled_by']}" if found["cancelled_by"] else ""
    facts: list[tuple[str, Any]] = [
        ("backfill", found["id"]), ("schedule", found["schedule"]), ("days", f"{found['from']} to {found['to']}"),
        ("of", "all due times" if found["again"] else "due times that had not finished"),
        ("results", "delivered" if found["deliver"] else "kept in the store only"),
        ("state", found["state"] + cancelled), ("runs", _counts(found)),
        ("numbers", ", ".join(map(str, found["runs"]))), ("started", f"{moment(found['started_at'])} by {found['started_by']}"),
    ]  # fmt: skip
    return print_facts(facts)


def backfill_show(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        _show(args, ladle.schedules.get_backfill(args.number))


def backfill_cancel(args: argparse.Namespace) -> int:
    with connected(args) as ladle:
        found = ladle.schedules.get_backfill(args.number)
        words = f"Cancel what is left of backfill {args.number} of '{found['schedule']}' ({_counts(found)})?"
        if not confirmed(words, args.yes):
            return 2
        _show(args, ladle.schedules.cancel_backfill(args.number))
    return 0


def backfill_repeat(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        _started(args, ladle.schedules.repeat_backfill(args.number))


def _start_options(verb: argparse.ArgumentParser) -> None:
    verb.add_argument("schedule")
    verb.add_argument("--from", dest="first", required=True, metavar="YYYY-MM-DD", help="first local date")
    verb.add_argument("--to", dest="last", required=True, metavar="YYYY-MM-DD", help="last local date")
    verb.add_argument("--again", action="store_true", help="also those that have finished")
    verb.add_argument("--store-only", action="store_true", help="keep the results in the store, deliver none")
    verb.add_argument("--dry-run", action="store_true", help="only say what it would do")
    verb.add_argument("--yes", action="store_true", help="do not ask")


def add_to(nouns: Any, common: argparse.ArgumentParser) -> None:
    """Register the commands."""
    backfill = Noun(nouns, common, "backfill", "Runs for past due times of a schedule.")
    verb = backfill.verb(
        "start", backfill_start, "Run past due times: says what it would do, asks, then does it.",
        "ladle backfill start users-daily --from 2026-10-01 --to 2026-10-31",
    )  # fmt: skip
    _start_options(verb)
    verb = backfill.verb("list", backfill_list, "Backfills, newest first.", "ladle backfill list --schedule users-daily")
    verb.add_argument("--schedule", help="of that schedule only")
    verb.add_argument("--limit", type=int, default=20, help="how many (default 20)")
    verb = backfill.verb("show", backfill_show, "Show a backfill and how its runs stand.", "ladle backfill show 3")
    verb.add_argument("number", type=int)
    verb = backfill.verb("cancel", backfill_cancel, "Cancel all of its runs that have not ended.", "ladle backfill cancel 3")
    verb.add_argument("number", type=int)
    verb.add_argument("--yes", action="store_true", help="do not ask")
    verb = backfill.verb("repeat", backfill_repeat, "Run its days once more that have not finished.", "ladle backfill repeat 3")
    verb.add_argument("number", type=int)
