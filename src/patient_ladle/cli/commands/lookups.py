"""``ladle lookup …``: small tables kept in the repository."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from patient_ladle.cli.output import confirmed, moment, print_facts, print_json, print_rows_of, print_table
from patient_ladle.client import CallFailed, Ladle
from patient_ladle.client.errors import ClientError

from . import Noun, connected, listed, pairs

SHOWN = 40
"""Rows of ``show`` unless more are asked for."""


def lookup_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.lookups.list(args.archived)
    if args.json:
        return print_json(found)
    rows = [
        (each["name"], each["revision"]["rows"], ", ".join(c["name"] for c in each["revision"]["columns"]),
         ", ".join(each["revision"]["key"]), each["revision"]["number"], moment(each["revision"]["saved_at"])[:16],
         ", ".join(each["used_by"]))
        for each in found
    ]  # fmt: skip
    empty = "there are no lookups yet: ladle lookup save NAME --file codes.csv"
    return print_table(("LOOKUP", "ROWS", "COLUMNS", "KEY", "REVISION", "SAVED", "USED BY"), rows, empty)


def lookup_show(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.lookups.get(args.name)
        rows = ladle.lookups.rows(args.name, args.revision, args.find, limit=args.rows)
    if args.json:
        return print_json({**found, "rows": rows})
    revision = found["revision"]
    print_facts([
        ("lookup", found["name"] + (" (archived)" if found["archived_at"] else "")),
        ("note", found["note"]),
        ("owner", found["owner"]),
        ("used by", ", ".join(found["used_by"])),
        ("revision", f"{revision['number']} by {revision['author']}, {moment(revision['saved_at'])}"),
        ("changed", revision["change_note"]),
        ("columns", ", ".join(f"{c['name']} ({c['kind']})" for c in rows["columns"])),
        ("key", ", ".join(rows["key"])),
    ])  # fmt: skip
    print()
    print_rows_of([c["name"] for c in rows["columns"]], rows["rows"], "no row has that text." if args.find else "no rows.")
    left = rows["total"] - len(rows["rows"])
    if left:
        print(f"\n{left:,} more: --rows N shows them, ladle lookup get {found['name']} writes them all")
    return None


def _given(args: argparse.Namespace) -> dict[str, Any]:
    made: dict[str, Any] = {}
    if args.file:
        try:
            made["text"] = sys.stdin.read() if args.file == "-" else Path(args.file).read_text(encoding="utf-8-sig")
        except UnicodeDecodeError:
            raise ClientError(f"{args.file} is not UTF-8 text.", "Save it as CSV in UTF-8.") from None
    kinds = pairs(args.kind, "--kind")
    more = {"key": listed(args.key), "kinds": kinds or None, "note": args.note, "change_note": args.change_note}
    return made | {key: value for key, value in more.items() if value is not None}


def lookup_save(args: argparse.Namespace) -> None:
    given = _given(args)
    with connected(args) as ladle:
        before = _revision(ladle, args.name)
        if before is None and "text" not in given:
            raise ClientError(f"'{args.name}' is a new lookup.", "Give its rows: --file codes.csv, or - for standard input.")
        found = (
            ladle.lookups.add(args.name, **given) if before is None else ladle.lookups.save(args.name, args.revision, **given)
        )
    _said(args, found, before)


def _revision(ladle: Ladle, name: str) -> int | None:
    try:
        return int(ladle.lookups.get(name)["revision"]["number"])
    except CallFailed as error:
        if error.code != "unknown_name":
            raise
        return None


def _said(args: argparse.Namespace, found: Mapping[str, Any], before: int | None) -> None:
    number, rows = found["revision"]["number"], found["revision"]["rows"]
    kinds = ", ".join(f"{c['name']} ({c['kind']})" for c in found["revision"]["columns"])
    words = f"saved {found['name']}, revision {number}: {rows:,} rows of {kinds}"
    same = f"nothing is changed: {found['name']} stays at revision {number}"
    print_json(found) if args.json else print(same if number == before else words)


def lookup_set(args: argparse.Namespace) -> None:
    row = pairs(args.values, "the row")
    with connected(args) as ladle:
        before = _revision(ladle, args.name)
        found = ladle.lookups.put(args.name, {k: v or None for k, v in row.items()}, change_note=args.change_note or "")
    _said(args, found, before)


def lookup_unset(args: argparse.Namespace) -> int:
    if not confirmed(f"Take the row {', '.join(args.key)} out of '{args.name}'?", args.yes):
        return 2
    with connected(args) as ladle:
        found = ladle.lookups.remove_rows(args.name, [args.key], args.change_note or "")
    _said(args, found, None)
    return 0


def lookup_get(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        text = ladle.lookups.file(args.name, args.revision, args.escape_formulas)
    if args.into:
        path = Path(args.into) / f"{args.name}.csv"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
        return print_json({"file": str(path)}) if args.json else print(path)
    return print_json(text) if args.json else print(text, end="")


def lookup_revisions(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.lookups.revisions(args.name)
    if args.json:
        return print_json(found)
    rows = [(r["number"], moment(r["saved_at"]), r["author"], r["rows"], r["change_note"]) for r in found]
    return print_table(("REVISION", "SAVED", "AUTHOR", "ROWS", "CHANGE"), rows, "there are none.")


def lookup_diff(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        after = args.after or ladle.lookups.get(args.name)["revision"]["number"]
        before = args.before or max(after - 1, 1)
        found = ladle.lookups.differences(args.name, before, after)
    if args.json:
        return print_json(found)
    print(f"revision {before} to {after}")
    for words in found["settings"]:
        print(words)
    changed = [row for each in found["changed"] for row in (("-", *each["before"]), ("+", *each["after"]))]
    rows = [*(("-", *row) for row in found["removed"]), *changed, *(("+", *row) for row in found["added"])]
    print_table(("", *found["columns"]), rows, "no row differs.")
    return None


def lookup_archive(args: argparse.Namespace) -> int:
    if not confirmed(f"Archive '{args.name}'? No extract can use it until it is restored.", args.yes):
        return 2
    with connected(args) as ladle:
        found = ladle.lookups.archive(args.name)
    print_json(found) if args.json else print(f"{args.name} is archived; bring it back with: ladle lookup restore {args.name}")
    return 0


def lookup_restore(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.lookups.restore(args.name, args.revision)
    print_json(found) if args.json else print(f"{args.name} is back, at revision {found['revision']['number']}")


def _named(verb: argparse.ArgumentParser) -> argparse.ArgumentParser:
    verb.add_argument("name")
    return verb


def add_to(nouns: Any, common: argparse.ArgumentParser) -> None:
    """Register the commands."""
    lookup = Noun(nouns, common, "lookup", "Lookups: small tables of codes and names, limits, exclusions, kept in revisions.")
    verb = lookup.verb("list", lookup_list, "List lookups and which extracts use them.", "ladle lookup list")
    verb.add_argument("--archived", action="store_true", help="those out of sight instead")
    verb = _named(lookup.verb("show", lookup_show, "Show a lookup and its rows.", "ladle lookup show districts --find north"))
    verb.add_argument("--find", metavar="TEXT", help="only rows with such a text in any column")
    verb.add_argument("--rows", type=int, default=SHOWN, metavar="N", help=f"so many (default {SHOWN}, at most 1,000)")
    verb.add_argument("--revision", type=int, metavar="N", help="default: the newest")
    verb = _named(
        lookup.verb(
            "save", lookup_save, "Save a lookup from a CSV file, or from what was copied out of a spreadsheet.",
            "ladle lookup save districts --file districts.csv --key code\n"
            "  ladle lookup save limits --kind limit=decimal --note 'as of the new directive'",
        )
    )  # fmt: skip
    verb.add_argument(
        "--file", metavar="FILE", help="its first line the names; commas, semicolons or tabs; - for standard input"
    )
    verb.add_argument("--key", metavar="A,B", help="columns in which no two rows are equal (default: the first)")
    verb.add_argument("--kind", action="append", metavar="COLUMN=KIND", help="default: what all values of the column prove")
    verb.add_argument("--note", help="what it is")
    verb.add_argument("--change-note", metavar="TEXT", help="why it changes")
    verb.add_argument("--revision", type=int, metavar="N", help="refuse when somebody saved after this one")
    verb = _named(
        lookup.verb(
            "set", lookup_set, "Change or add one row, found by its key.", "ladle lookup set districts code=N1 name=North"
        )
    )
    verb.add_argument("values", nargs="+", metavar="COLUMN=VALUE", help="nothing behind the sign: null")
    verb.add_argument("--change-note", metavar="TEXT", help="why it changes")
    verb = _named(lookup.verb("unset", lookup_unset, "Take one row out.", "ladle lookup unset districts N1 --yes"))
    verb.add_argument("key", nargs="+", metavar="VALUE", help="of its key, in the order of the key's columns")
    verb.add_argument("--change-note", metavar="TEXT", help="why it changes")
    verb.add_argument("--yes", action="store_true", help="do not ask")
    verb = _named(lookup.verb("get", lookup_get, "The whole lookup as CSV.", "ladle lookup get districts > districts.csv"))
    verb.add_argument("--into", metavar="FOLDER", help="write it there as NAME.csv")
    verb.add_argument("--revision", type=int, metavar="N", help="default: the newest")
    escapes = "an apostrophe before texts that a spreadsheet takes for a formula; not to be saved again"
    verb.add_argument("--escape-formulas", action="store_true", help=escapes)
    _named(lookup.verb("revisions", lookup_revisions, "List the revisions of a lookup.", "ladle lookup revisions districts"))
    verb = _named(
        lookup.verb("diff", lookup_diff, "Rows that differ between two revisions.", "ladle lookup diff districts --from 1")
    )
    verb.add_argument("--from", dest="before", type=int, metavar="N", help="default: the one before")
    verb.add_argument("--to", dest="after", type=int, metavar="N", help="default: the newest")
    verb = _named(lookup.verb("archive", lookup_archive, "Put a lookup out of sight.", "ladle lookup archive districts --yes"))
    verb.add_argument("--yes", action="store_true", help="do not ask")
    verb = _named(
        lookup.verb(
            "restore",
            lookup_restore,
            "Back from the archive, or an old revision made the newest.",
            "ladle lookup restore districts --revision 2",
        )
    )
    verb.add_argument("--revision", type=int)
