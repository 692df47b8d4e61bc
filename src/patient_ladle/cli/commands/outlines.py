"""``ladle outline …``: statements put together by choosing, as JSON in a file."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Mapping, Sequence
from typing import Any

from patient_ladle.cli.output import print_json, print_table
from patient_ladle.client import Ladle
from patient_ladle.client.errors import ClientError

from . import Noun, connected, environment_of, pairs, parted_values
from .browsing import gathered
from .unsaved import read_outline, read_parameters, remarked


def outline_compile(args: argparse.Namespace) -> int:
    outline = read_outline(args.file)
    parameters = read_parameters(args.parameters) if args.parameters else []
    with connected(args) as ladle:
        environment = environment_of(ladle, args.env)
        gathered(ladle, args.source, environment)
        made = ladle.outlines.compile(args.source, environment, outline, parameters, ask=True)
        counts = _counted(ladle, args, environment, outline, parameters) if args.counts and made["statement"] else None
    if args.json:
        print_json({**made, "counts": counts} if args.counts else made)
    else:
        remarked(made["remarks"])
        if counts is not None:
            print_table(("AFTER", "ROWS", ""), counts, "")
        elif made["statement"]:
            print(made["statement"])
    return 1 if any(each["severity"] == "error" for each in made["remarks"]) else 0


def _counted(
    ladle: Ladle, args: argparse.Namespace, environment: str, outline: Mapping[str, Any], parameters: Sequence[Any]
) -> list[tuple[str, Any, str]]:
    """After each part how many rows there are; after a join that has no key, how often at most one row is met."""
    told = ladle.outlines.counts(args.source, environment, outline, parameters)
    values = parted_values(pairs(args.set, "--set"), told["parameters"])
    query = ladle.extracts.start_preview(
        args.source, environment, told["statement"], parameters=told["parameters"], values=values, data_date=args.data_date
    )
    [row] = ladle.sources.wait_for_query(query)["result"]["rows"]
    found = {step["name"]: int(str(cell or 0)) for step, cell in zip(told["steps"], row, strict=True)}
    made: list[tuple[str, Any, str]] = []
    for step in told["steps"]:
        if step["what"] == "rows":
            made.append((_named(step, outline), found[step["name"]], ""))
        else:
            part, rows, _ = made[-1]
            made[-1] = (part, rows, f"each row before meets up to {found[step['name']]:,}")
    return made


def _named(step: Mapping[str, Any], outline: Mapping[str, Any]) -> str:
    """A step with the table that it brings in."""
    place = outline["from"] if step["where"] == "from" else None
    if step["where"].startswith("with["):
        place = outline["with"][int(step["where"][5:-1])]
    return f"{step['part']}: {place['table']}" if place else str(step["part"])


def outline_start(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        environment = environment_of(ladle, args.env)
        gathered(ladle, args.source, environment)
        outline: dict[str, Any] = {"outline": 1, "from": {"table": args.table[0]}}
        for table in args.table[1:]:
            ways = ladle.outlines.joins(args.source, environment, outline, table)
            if not ways:
                known = ", ".join(args.table[: args.table.index(table)])
                raise ClientError(
                    f"nothing tells how '{table}' belongs to {known}: there is no key, and no column of one name and kind.",
                    'Write the join into the file: "on": [{"left": "a.column", "right": "b.column"}].',
                )
            outline["with"] = [*outline.get("with", []), *ways[0]["joins"]]
            if len(ways) > 1 or ways[0]["why"] == "equal_names":
                _say_ways(table, ways)
    print(json.dumps(outline, indent=1, ensure_ascii=False))


def _say_ways(table: str, ways: Sequence[Mapping[str, Any]]) -> None:
    """The choice that there was, and which way was taken."""
    why = "by columns of equal names" if ways[0]["why"] == "equal_names" else "by keys"
    for number, way in enumerate(ways):
        joins = "; ".join(
            f"{join['table']} on " + " and ".join(f"{on['left']} = {on['right']}" for on in join["on"]) for join in way["joins"]
        )
        print(f"{table} {why}, {'taken' if number == 0 else 'or'}: {joins}", file=sys.stderr)


def outline_show(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.extracts.get(args.name)
        wanted = args.revision or found["outline_revision"]
        if wanted is None:
            raise ClientError(
                f"'{args.name}' was written by hand.", f"See if it can be an outline: ladle outline read {args.name}"
            )
        kept = {each["number"]: each["outline"] for each in ladle.extracts.revisions(args.name)}
    if wanted not in kept:
        raise ClientError(f"'{args.name}' has no revision {wanted}.", f"Its revisions are 1 to {max(kept)}.")
    if kept[wanted] is None:
        raise ClientError(
            f"revision {wanted} of '{args.name}' was written by hand.",
            f"See if it can be an outline: ladle outline read {args.name}",
        )
    if wanted != found["revision"]["number"]:
        print(f"from revision {wanted}; the statement was edited by hand since: ladle extract diff {args.name} --from {wanted}",
              file=sys.stderr)  # fmt: skip
    print(json.dumps(kept[wanted], indent=1, ensure_ascii=False))


def outline_read(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        revision = ladle.extracts.get(args.name)["revision"]
        environment = environment_of(ladle, args.env)
        found = ladle.outlines.read(revision["source"], environment, revision["statement"], revision["parameters"])
    print_json(found) if args.json else print(json.dumps(found["outline"], indent=1, ensure_ascii=False))


def outline_schema(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        print(json.dumps(ladle.outlines.schema(), indent=1, ensure_ascii=False))


def add_to(nouns: Any, common: argparse.ArgumentParser) -> None:
    """Register the commands."""
    outline = Noun(nouns, common, "outline", "Statements put together by choosing, as JSON.")
    verb = outline.verb(
        "start", outline_start, "An outline of some tables, joined by their keys, to go on from.",
        "ladle outline start metering readings districts > consumption.json",
    )  # fmt: skip
    verb.add_argument("source")
    verb.add_argument(
        "table", nargs="+", help="the statement is from the first; others are joined, by way of more where needed"
    )
    verb.add_argument("--env", help="environment (default: the first one)")
    verb = outline.verb(
        "compile", outline_compile, "The statement of an outline, and what is to be said of it; nothing is saved.",
        "ladle outline compile consumption.json --source metering\n"
        "  ladle outline compile consumption.json --source metering --counts",
    )  # fmt: skip
    verb.add_argument("file", help="JSON of the outline; - for standard input")
    verb.add_argument("--source", required=True, help="what the statement reads")
    verb.add_argument("--env", help="environment (default: the first one)")
    verb.add_argument("--parameters", metavar="FILE", help="JSON list of parameters that the outline uses")
    verb.add_argument("--counts", action="store_true", help="count the rows after each table and each condition, instead")
    verb.add_argument("--set", action="append", metavar="NAME=VALUE", help="with --counts: a parameter's value")
    verb.add_argument("--data-date", metavar="YYYY-MM-DD", help="with --counts: the data date (default: today)")
    verb = outline.verb(
        "show", outline_show, "The outline that an extract was put together from.", "ladle outline show monthly_consumption"
    )
    verb.add_argument("name", help="name of the extract")
    verb.add_argument("--revision", type=int, metavar="N", help="default: the newest that has one")
    verb = outline.verb(
        "read", outline_read, "The statement of an extract as an outline, where nothing of it is lost.",
        "ladle outline read high_users > high_users.json",
    )  # fmt: skip
    verb.add_argument("name", help="name of the extract")
    verb.add_argument("--env", help="environment (default: the first one)")
    outline.verb("schema", outline_schema, "What an outline may hold, as JSON Schema.", "ladle outline schema")
