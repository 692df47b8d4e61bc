"""``ladle source browse``: what a source holds, and a look into it."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Mapping, Sequence
from typing import Any

from rich.console import Console

from patient_ladle.cli.output import bars, moment, print_facts, print_json, print_rows_of, print_table
from patient_ladle.client import Ladle
from patient_ladle.client.errors import ClientError
from patient_ladle.client.records import Query
from patient_ladle.words import amount

from . import Noun, connected, listed, not_together
from .runs import conclude

TESTS = ("is not null", "is null", "is not", "is", "less", "at most", "more", "at least", "contains")
PERIODS = ("day", "week", "month", "quarter", "year")
PROFILE_HELP = "that column at a glance instead: least, greatest, mean, commonest values, how they spread"
WIDE = 60
"""Characters of a cell that a table on a terminal shows."""


def _filter(words: str) -> dict[str, str]:
    column, _, rest = words.partition(" ")
    for test in TESTS:
        if rest == test or rest.startswith(test + " "):
            return {"column": column, "test": test.replace(" ", "_"), "value": rest[len(test) :].strip()}
    raise ClientError(f"--where was given '{words}'.", f"Write: COLUMN TEST VALUE, with one of {', '.join(TESTS)}.")


def _looked(ladle: Ladle, args: argparse.Namespace, kind: str, **request: Any) -> Query:
    waiting = (
        Console(stderr=True).status(f"{kind} of {args.name} in {args.env}", spinner="line") if sys.stderr.isatty() else None
    )
    if waiting is None:
        return ladle.sources.run_query(args.name, args.env, kind, **request)
    with waiting:
        return ladle.sources.run_query(args.name, args.env, kind, **request)


def gathered(ladle: Ladle, source: str, environment: str) -> None:
    """Have the source's tables looked at, where nobody has."""
    if source and ladle.sources.catalogue(source, environment)["gathered_at"] is None:
        ladle.sources.run_query(source, environment, "catalogue")


def _cell(value: Any) -> str:
    if value is None:
        return "∅"
    if isinstance(value, dict):
        if "media" in value:
            return f"[{value['media']}, {value['bytes']:,} bytes]"
        value = value["text"]
    text = str(value).replace("\n", "⏎")
    return text if len(text) <= WIDE else f"{text[: WIDE - 1]}…"


def print_rows(found: Mapping[str, Any], counted_by: str = "--count") -> None:
    """Rows of a look or a preview, with where they were read and by which statement."""
    result, identity = found["result"], found["result"]["identity"]
    who = ", ".join(f"{key} {value}" for key, value in identity.items() if key != "session")
    print(" ".join(filter(None, [found["source"], f"in {found['environment']} ({who}), read-only"])))
    for each in found["active_filters"]:
        print(f"only where {each}")
    print(found["statement"].strip() + "\n")
    heads = [c["name"] for c in result["columns"]]
    rows: list[list[Any]] = [[_cell(v) for v in row] for row in result["rows"]]
    if found["kind"] == "counts" and rows:
        counts = [int(row[1]) for row in rows]
        heads = [*heads, ""]
        rows = [[row[0], count, bar] for row, count, bar in zip(rows, counts, bars(counts), strict=True)]
    print_rows_of(heads, rows, "no rows.")
    for note in result["notes"]:
        print(f"mind: {note}")
    for each in result.get("inputs") or ():
        print(f"input {each['name']}: {amount(each['rows'], 'row')}")
    if result.get("shaped"):
        print(f"\n{amount(result['shaped']['fetched'], 'row')} fetched")
        steps = [(step["number"], step["name"], step["rows_in"], step["rows_out"]) for step in result["shaped"]["steps"]]
        print_table(("STEP", "", "ROWS IN", "ROWS OUT"), steps, "")
    shown = len(result["rows"])
    print(
        f"\n{amount(shown, 'row')}"
        + (", all there are" if result["complete"] else f" shown, there are more: {counted_by} tells how many")
    )


def print_profile(found: Mapping[str, Any], active: Sequence[str] = ()) -> None:
    """A column at a glance."""
    for each in active:
        print(f"only where {each}")
    rows, absent = found["rows"], found["absent"]
    share = f", {absent:,} of them without a value ({100 * absent / rows:.1f} %)" if absent else ", each with a value"
    print_facts([
        ("column", f"{found['column']} ({found['kind']})"),
        ("rows", f"{rows:,}{share if rows else ''}{'' if found['complete'] else '; there are more that were not looked at'}"),
        ("distinct", None if found["distinct"] is None else f"{found['distinct']:,}"),
        ("least", found["least"]), ("greatest", found["greatest"]), ("mean", found["mean"]),
        ("mind", "\n".join(found["notes"])),
    ])  # fmt: skip
    if found["commonest"] and found["distinct"] != rows - absent:
        print()
        print_table(("COMMONEST", "ROWS"), [(_cell(value) or '""', count) for value, count in found["commonest"]], "")
    if found["bars"]:
        print()
        numbers = found["bars_by"] == "number"
        head = ("FROM", "TO BELOW", "ROWS", "") if numbers else (found["bars_by"].upper(), "ROWS", "")
        drawn = zip(found["bars"], bars([bar["rows"] for bar in found["bars"]]), strict=True)
        lines = [(bar["from"], *([bar["to"]] if numbers else []), bar["rows"], line) for bar, line in drawn]
        print_table(head, lines, "")


def _print_table(table: Mapping[str, Any]) -> None:
    about = f"about {table['rows_about']:,}" if table["rows_about"] is not None else ""
    written = f"{table['name']}, or {table['full_name']}" if table["full_name"] != table["name"] else table["name"]
    print_facts([(table["kind"], written), ("comment", table["comment"]), ("rows", about)])
    rows = [
        (
            c["name"],
            c["type"],
            "" if c["nullable"] else "not null",
            "key" if c["name"] in table["primary_key"] else "",
            c["default"] or "",
            c["comment"],
        )
        for c in table["columns"]
    ]
    print()
    print_table(("COLUMN", "TYPE", "", "", "DEFAULT", "COMMENT"), rows, "no columns.")
    print()
    facts = [("unique", ", ".join(key)) for key in table["unique_keys"]]
    facts += [
        ("references", f"{', '.join(k['columns'])} → {k['table']} ({', '.join(k['to_columns'])})")
        for k in table["foreign_keys"]
    ]
    facts += [("referenced by", f"{k['table']} ({', '.join(k['columns'])})") for k in table["referenced_by"]]
    print_facts(facts + [("index", index) for index in table["indexes"]])


def _tables(ladle: Ladle, args: argparse.Namespace) -> None:
    found = ladle.sources.catalogue(args.name, args.env)
    if args.refresh or found["gathered_at"] is None:
        _looked(ladle, args, "catalogue")
        found = ladle.sources.catalogue(args.name, args.env)
    if args.json:
        return print_json(found)
    rows = [(t["name"], t["kind"], t["columns"], t["rows_about"], t["comment"]) for t in found["tables"]]
    print_table(("TABLE", "KIND", "COLUMNS", "ROWS, ABOUT", "COMMENT"), rows, "nothing can be seen there with this login.")
    for family in found["families"]:
        first, last = family["members"][0]["period"], family["members"][-1]["period"]
        rows_about = "" if family["rows_about"] is None else f", about {amount(family['rows_about'], 'row')}"
        print(f"\n{family['name']}: {amount(len(family['members']), 'table')} from {first} to {last}{rows_about}", end="")
    print(f"\n{len(rows)} tables and views, refreshed {moment(found['gathered_at'])}")
    return None


def _family(ladle: Ladle, args: argparse.Namespace) -> None:
    """The tables of a family, a bar for each. Raises ClientError."""
    found = {family["name"]: family for family in ladle.sources.catalogue(args.name, args.env)["families"]}
    if args.table not in found:
        known = f"There is: {', '.join(found)}." if found else "Leave the table away to see what there is."
        raise ClientError(f"there is no family of tables '{args.table}' in {args.name}.", known)
    family = found[args.table]
    if args.json:
        return print_json(family)
    drawn = zip(family["members"], bars([member["rows_about"] for member in family["members"]]), strict=True)
    rows = [(member["period"], member["name"], member["rows_about"], line) for member, line in drawn]
    print_table(("PERIOD", "TABLE", "ROWS, ABOUT", ""), rows, "")
    return None


def _refuse_together(args: argparse.Namespace) -> None:
    """What would be ignored beside what was given. Raises ClientError."""
    not_together(args, "--count", "--by", "--rows", "--sort", "--into", "--formats")
    not_together(args, "--by", "--rows", "--sort", "--into", "--formats")
    not_together(args, "--profile", "--count", "--by", "--rows", "--sort", "--into", "--formats")
    not_together(args, "--rows", "--into", "--formats")
    not_together(args, "--save", "--count", "--by", "--profile", "--rows", "--into")
    with_save = [(option, "--save") for option in ("--folder", "--columns", "--as-parameters")]
    for option, needed in (("--period", "--by"), ("--descending", "--sort"), *with_save):
        if getattr(args, option[2:].replace("-", "_")) and not getattr(args, needed[2:]):
            example = {"--save": "NAME"}.get(needed, "COLUMN")
            raise ClientError(f"{option} was given without {needed}.", f"Give {needed} {example} with it.")
    of_a_table = [each for each in _OF_A_TABLE if getattr(args, each[2:])]
    if of_a_table and not args.table:
        raise ClientError(f"{of_a_table[0]} was given without a table.", "Name the table after the source.")


_OF_A_TABLE = ("--where", "--sort", "--count", "--by", "--profile", "--rows", "--into", "--formats", "--save")


def source_browse(args: argparse.Namespace) -> int | None:
    with connected(args) as ladle:
        if args.search:
            found = ladle.sources.search(args.search, args.env if args.env_given else None)
            rows = [(f["source"], f["environment"], f["table"], f["column"], f["kind"]) for f in found]
            headings = ("SOURCE", "ENVIRONMENT", "TABLE", "COLUMN", "KIND")
            print_json(found) if args.json else print_table(headings, rows, "nothing of that name was found.")
            return None
        _refuse_together(args)
        if not args.name:
            raise ClientError("no source was named.", "Give its name, or --search WORD for all of them.")
        if not args.table:
            _tables(ladle, args)
            return None
        if ladle.sources.catalogue(args.name, args.env)["gathered_at"] is None or args.refresh:
            _looked(ladle, args, "catalogue")
        if "*" in args.table and not any(getattr(args, each[2:]) for each in _OF_A_TABLE):
            _family(ladle, args)
            return None
        filters = [_filter(words) for words in args.where or []]
        if args.save or args.into or args.formats:
            return _kept(args, ladle, filters)
        seen = _seen(ladle, args, filters)
        if seen is None:
            table = ladle.sources.table(args.name, args.env, args.table)
            print_json(table) if args.json else _print_table(table)
            return None
    if args.json:
        print_json(seen)
    elif args.profile:
        print_profile(seen["result"]["profile"], seen["active_filters"])
    else:
        print_rows(seen)
    return None


def _seen(ladle: Ladle, args: argparse.Namespace, filters: list[dict[str, str]]) -> Query | None:
    """What the options ask of a table; None where they ask only what it is."""
    look: dict[str, Any] = {"table": args.table, "filters": filters}
    if args.count:
        return _looked(ladle, args, "count", **look)
    if args.by:
        return _looked(ladle, args, "counts", **look, column=args.by, period=args.period)
    if args.profile:
        return _looked(ladle, args, "profile", **look, column=args.profile)
    if args.rows or filters or args.sort:
        return _looked(ladle, args, "rows", **look, rows=args.rows or 20, sort=args.sort, descending=args.descending)
    return None


def _kept(args: argparse.Namespace, ladle: Ladle, filters: list[dict[str, str]]) -> int | None:
    """The look as a new extract, or as files."""
    if args.save:
        _saved(args, ladle, filters)
        return None
    look = {"table": args.table, "filters": filters, "sort": args.sort, "descending": args.descending or None}
    run = ladle.runs.start_unsaved(args.name, environment=args.env, formats=listed(args.formats), **look)
    return conclude(args, ladle, run)


def _saved(args: argparse.Namespace, ladle: Ladle, filters: list[dict[str, str]]) -> None:
    """The look as a new extract."""
    look = {
        "filters": filters, "sort": args.sort, "descending": args.descending or None, "columns": listed(args.columns),
        "as_parameters": args.as_parameters or None,
    }  # fmt: skip
    made = ladle.outlines.of_look(args.name, args.env, args.table, **look)
    content = {"outline": made["outline"], "parameters": made["parameters"], "folder": args.folder or ""}
    if args.formats:
        content["formats"] = listed(args.formats)
    found = ladle.extracts.add(args.save, args.name, made["statement"], **content)
    print_json(found) if args.json else print(f"saved {found['name']}; run it: ladle run start {found['name']}")


class _Given(argparse.Action):
    """Keeps the environment, and that it was given."""

    def __call__(self, parser: Any, namespace: argparse.Namespace, values: Any, option: Any = None) -> None:
        namespace.env, namespace.env_given = values, True


def add_to(source: Noun) -> None:
    """Register the verb."""
    verb = source.verb(
        "browse", source_browse, "What a source holds: its tables, one table, its first rows, exact counts.",
        "ladle source browse metering public.readings --where 'estimated is true' --sort read_at --descending --rows 5\n"
        "  ladle source browse metering public.readings --where 'estimated is true' --formats xlsx --into out\n"
        "  ladle source browse metering public.readings --where 'estimated is true' --save estimated --as-parameters\n"
        "  ladle source browse contacts 'contacts_*'",
    )  # fmt: skip
    verb.set_defaults(env_given=False)
    verb.add_argument("name", nargs="?")
    verb.add_argument(
        "table",
        nargs="?",
        help="a table of it, with its schema where the name alone is not enough; or a family, such as 'contacts_*'",
    )
    verb.add_argument("--env", action=_Given, default="live", help="environment (default live)")
    verb.add_argument("--search", metavar="WORD", help="tables and columns by name, in all sources")
    verb.add_argument("--refresh", action="store_true", help="gather the catalogue anew")
    verb.add_argument("--rows", type=int, metavar="N", help="the first N rows (20 with --where or --sort, at most 1,000)")
    verb.add_argument(
        "--where", action="append", metavar="FILTER", help="'COLUMN TEST VALUE', such as 'zone is North'; may be given again"
    )
    verb.add_argument("--sort", metavar="COLUMN")
    verb.add_argument("--descending", action="store_true")
    verb.add_argument("--count", action="store_true", help="how many rows there are, exactly")
    verb.add_argument("--by", metavar="COLUMN", help="how many rows by the values of a column")
    verb.add_argument("--period", choices=PERIODS, help="with --by: by the period of a date column")
    verb.add_argument("--profile", metavar="COLUMN", help=PROFILE_HELP)
    verb.add_argument("--formats", metavar="FORMATS", help="all rows that match, as files: csv,xlsx,json (default csv)")
    verb.add_argument("--into", metavar="DIR", help="save those files here; - for standard output")
    verb.add_argument("--save", metavar="NAME", help="make a new extract of what is looked at, instead")
    verb.add_argument("--folder", help="with --save: where it goes")
    verb.add_argument("--columns", metavar="A,B", help="with --save: only these, in this order")
    verb.add_argument("--as-parameters", action="store_true", help="with --save: each run may give --where other values")
    verb.set_defaults(no_wait=False, strict=False)
