"""``ladle source …`` and ``ladle environment …``."""

from __future__ import annotations

import argparse
import getpass
import os
import sys
from collections.abc import Mapping
from typing import Any

from patient_ladle.cli.output import (
    confirmed,
    moment,
    place_of,
    print_done,
    print_facts,
    print_json,
    print_remarks,
    print_table,
)
from patient_ladle.client import Ladle
from patient_ladle.client.errors import ClientError
from patient_ladle.words import amount

from . import Noun, browsing, connected, pairs


def _verdict(address: Mapping[str, Any]) -> str:
    steps = address["last_check"]
    if steps is None:
        return "not checked"
    failed = [step["step"] for step in steps if not step["passed"]]
    return f"failed: {failed[0]}" if failed else "passed"


def source_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.sources.list()
    if args.json:
        return print_json(found)
    rows = [(s["name"], s["engine"], a["environment"], place_of(a), _verdict(a)) for s in found for a in s["addresses"]]
    rows += [(s["name"], s["engine"], "", "no address yet", "") for s in found if not s["addresses"]]
    return print_table(
        ("SOURCE", "ENGINE", "ENVIRONMENT", "ADDRESS", "LAST CHECK"), rows, "there are no sources yet: ladle source add."
    )


def _show(args: argparse.Namespace, source: Mapping[str, Any]) -> None:
    if args.json:
        return print_json(source)
    print_remarks(source)
    facts: list[tuple[str, Any]] = [("source", source["name"]), ("engine", source["engine"]), ("note", source["note"])]
    facts += [("group", source["group"]), ("max runs", f"{amount(source['max_runs'], 'run')} at once")]
    facts += [
        ("query timeout", f"{source['query_timeout_seconds']} s"),
        ("connect timeout", f"{source['connect_timeout_seconds']} s"),
    ]
    facts += [("quiet hours", f"{source['quiet_hours']} {source['quiet_zone']}".strip())]
    facts += [("not saved", "refused: it is asked for saved statements only" if source["saved_only"] else "")]
    permitted = [
        f"{each['name']} (by {each['by'] or 'the service'}, {moment(each['at'])})" for each in source["permitted"] or ()
    ]
    facts += [("permitted", "; ".join(permitted))]
    facts += [("most rows", source["max_rows"]), ("most bytes", source["max_bytes"])]
    for address in source["addresses"]:
        secret = ", password kept" if address["has_secret"] else ""
        facts.append((address["environment"], f"{place_of(address)}{secret}; {_verdict(address)}"))
    return print_facts(facts)


def source_show(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        _show(args, ladle.sources.get(args.name))


def _address_body(args: argparse.Namespace) -> dict[str, Any]:
    body: dict[str, Any] = {"address": pairs(args.address, "--address")}
    if args.url_stdin:
        return body | {"url": sys.stdin.readline().strip()}
    if args.secret_stdin or args.secret_from:
        body["secret"] = _new_secret(args)
    elif os.environ.get("LADLE_SOURCE_PASSWORD"):
        body["secret"] = os.environ["LADLE_SOURCE_PASSWORD"]
    elif sys.stdin.isatty() and "user" in body["address"]:
        body["secret"] = getpass.getpass("password of the source's login (empty for none): ")
    return body


def _new_secret(args: argparse.Namespace) -> str:
    return sys.stdin.readline().rstrip("\n") if args.secret_stdin else str(args.secret_from)


def _address_now(ladle: Ladle, args: argparse.Namespace) -> Mapping[str, Any]:
    """The address to which a new password belongs. Raises ClientError."""
    known = {each["environment"]: each["address"] for each in ladle.sources.get(args.name)["addresses"]}
    if args.env not in known:
        has = ", ".join(known) or "none"
        words = f"source '{args.name}' has no address in '{args.env}'; it has {has}."
        raise ClientError(words, "Say which with --env, or give an address: --address.")
    return known[args.env]


def _settings(args: argparse.Namespace) -> dict[str, Any]:
    given = {
        "note": args.note, "group": args.group, "max_runs": args.max_runs, "query_timeout_seconds": args.query_timeout,
        "connect_timeout_seconds": args.connect_timeout, "max_rows": args.max_rows, "max_bytes": args.max_bytes,
        "quiet_hours": args.quiet, "quiet_zone": args.quiet_zone,
        "saved_only": None if args.unsaved is None else args.unsaved == "no",
    }  # fmt: skip
    return {key: value for key, value in given.items() if value is not None}


def source_add(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        addresses = {args.env: _address_body(args)} if args.address or args.url_stdin else {}
        permitted = {"permitted": args.permit} if args.permit else {}
        _show(args, ladle.sources.add(args.name, args.engine, addresses, **permitted, **_settings(args)))


def source_edit(args: argparse.Namespace) -> None:
    changes = _settings(args)
    with connected(args) as ladle:
        if args.address or args.url_stdin:
            changes["addresses"] = {args.env: _address_body(args)}
        elif args.secret_stdin or args.secret_from:
            changes["addresses"] = {args.env: {"address": _address_now(ladle, args), "secret": _new_secret(args)}}
        if args.remove_address:
            changes["addresses"] = {args.env: None}
        if args.permit or args.permit_no_longer:
            gone = {name.lower() for name in args.permit_no_longer}
            held = [each["name"] for each in ladle.sources.get(args.name)["permitted"] or ()]
            changes["permitted"] = [name for name in dict.fromkeys([*held, *args.permit]) if name.lower() not in gone]
        if not changes:
            raise ClientError("nothing to change was given.", "Give --address, --secret-stdin, --note, --permit or --max-runs.")
        _show(args, ladle.sources.edit(args.name, **changes))


def source_remove(args: argparse.Namespace) -> int:
    if not confirmed(f"Remove source '{args.name}' and its addresses?", args.yes):
        return 2
    with connected(args) as ladle:
        ladle.sources.remove(args.name)
    print_done(args, "removed", "source", args.name)
    return 0


def source_check(args: argparse.Namespace) -> int:
    with connected(args) as ladle:
        names = [args.name] if args.name else [s["name"] for s in ladle.sources.list()]
        found = {name: ladle.sources.check(name, args.env) for name in names}
    good = all(step["passed"] for addresses in found.values() for a in addresses for step in a["last_check"] or [])
    if args.json:
        print_json(found)
        return 0 if good else 1
    for name, addresses in found.items():
        for address in addresses:
            print(f"{name} in {address['environment']} ({place_of(address)}), {moment(address['last_check_at'])}")
            for step in address["last_check"] or []:
                mark = "passed" if step["passed"] else "FAILED"
                print(f"  {step['step']:<10} {mark}  {step['seconds']:6.3f} s  {step['detail']}")
                if step["warning"]:
                    print(f"  {'':<10} {'mind':<6}            {step['warning']}")
                if step["hint"]:
                    print(f"  {'':<10} {'next':<6}            {step['hint']}")
    return 0 if good else 1


def source_engines(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.sources.engines()
    if args.json:
        return print_json(found)
    rows = [
        (
            e["name"] if not n else "",
            f["name"],
            "needed" if f["required"] else "",
            f["note"] + (f": {', '.join(f['choices'])}" if f["choices"] else ""),
        )
        for e in found
        for n, f in enumerate(e["address_fields"])
    ]
    return print_table(("ENGINE", "FIELD", "", "WHAT IT IS"), rows, "there are no engines.")


def environment_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.sources.environments()
    if args.json:
        return print_json(found)
    rows = [(e["name"], e["note"]) for e in found]
    return print_table(("ENVIRONMENT", "NOTE"), rows, "there are no environments yet: ladle environment add live.")


def environment_add(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        made = ladle.sources.add_environment(args.name, args.note)
    print_json(made) if args.json else print(f"environment {made['name']} is added")


def environment_edit(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        made = ladle.sources.edit_environment(args.name, args.note)
    print_json(made) if args.json else print(f"environment {made['name']}: {made['note'] or 'no note'}")


def environment_remove(args: argparse.Namespace) -> int:
    if not confirmed(f"Remove environment '{args.name}'?", args.yes):
        return 2
    with connected(args) as ladle:
        ladle.sources.remove_environment(args.name)
    print_done(args, "removed", "environment", args.name)
    return 0


def _address_options(verb: argparse.ArgumentParser) -> None:
    verb.add_argument("--env", default="live", help="environment of the address (default live)")
    verb.add_argument(
        "--address",
        nargs="+",
        metavar="FIELD=VALUE",
        help="host= port= database= user=, or path=, or folder=; see ladle source engines",
    )
    verb.add_argument("--url-stdin", action="store_true", help="read a connection URL, its password in it, from standard input")
    verb.add_argument("--secret-stdin", action="store_true", help="read the login's password from standard input")
    verb.add_argument("--secret-from", metavar="REF", help="env:LADLE_SOURCE_… or file:NAME, resolved by the service")
    verb.add_argument("--note")
    verb.add_argument("--group", help="group of sources that it belongs to")
    verb.add_argument("--connect-timeout", type=int, metavar="SECONDS", help="longest wait for a connection (default 10)")
    verb.add_argument("--max-rows", type=int, help="refuse results of more rows")
    verb.add_argument("--max-bytes", type=int, help="refuse results of more bytes")
    verb.add_argument("--quiet", metavar="HOURS", help="when no run reads it: '07:00 to 09:30 and 22:00 to 02:00'")
    verb.add_argument("--quiet-zone", metavar="ZONE", help="whose clocks count for --quiet (default: the service's)")
    verb.add_argument(
        "--unsaved", choices=("yes", "no"), help="whether statements that are not saved may be previewed and run (default yes)"
    )
    verb.add_argument(
        "--permit", action="append", default=[], metavar="NAME",
        help="a function, type or relation that its statements may use beyond what every source allows; may be repeated",
    )  # fmt: skip
    verb.add_argument("--max-runs", type=int, help="runs that may read it at once")
    verb.add_argument("--query-timeout", type=int, metavar="SECONDS", help="longest time of one statement")


def add_to(nouns: Any, common: argparse.ArgumentParser) -> None:
    """Register the commands."""
    source = Noun(nouns, common, "source", "Databases that extracts read.")
    source.verb("list", source_list, "List sources and their addresses.", "ladle source list")
    source.verb("show", source_show, "Show one source.", "ladle source show metering").add_argument("name")
    verb = source.verb(
        "add", source_add, "Add a source (administrators).",
        "ladle source add metering postgresql --address host=db1 port=5432 database=metering user=reports",
    )  # fmt: skip
    verb.add_argument("name")
    verb.add_argument("engine", help="postgresql, mariadb, sqlite, duckdb, files or documents: ladle source engines")
    _address_options(verb)
    verb = source.verb(
        "edit", source_edit, "Change a source, or one of its addresses.", "ladle source edit metering --max-runs 4"
    )
    verb.add_argument("name")
    _address_options(verb)
    verb.add_argument(
        "--permit-no-longer", action="append", default=[], metavar="NAME", help="take a permission back; may be repeated"
    )
    verb.add_argument("--remove-address", action="store_true", help="remove the address in --env")
    verb = source.verb("remove", source_remove, "Remove a source that nothing uses.", "ladle source remove old --yes")
    verb.add_argument("name")
    verb.add_argument("--yes", action="store_true", help="do not ask")
    verb = source.verb(
        "check",
        source_check,
        "Every step from name to read-only, with its time and the next step. All sources without a name.",
        "ladle source check metering",
    )
    verb.add_argument("name", nargs="?")
    verb.add_argument("--env", help="only this environment")
    source.verb("engines", source_engines, "The engines there are, and the fields of their addresses.", "ladle source engines")
    browsing.add_to(source)
    environment = Noun(nouns, common, "environment", "Environments: live, rehearsal, …")
    environment.verb("list", environment_list, "List environments.", "ladle environment list")
    verb = environment.verb("add", environment_add, "Add an environment.", "ladle environment add rehearsal")
    verb.add_argument("name")
    verb.add_argument("--note", default="")
    verb = environment.verb(
        "edit",
        environment_edit,
        "Change the note of an environment.",
        "ladle environment edit rehearsal --note 'copies of live'",
    )
    verb.add_argument("name")
    verb.add_argument("--note", required=True, help="what it is for")
    verb = environment.verb(
        "remove", environment_remove, "Remove an environment that nothing has used.", "ladle environment remove rehearsal --yes"
    )
    verb.add_argument("name")
    verb.add_argument("--yes", action="store_true", help="do not ask")
