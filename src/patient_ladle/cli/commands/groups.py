"""``ladle group …``."""

from __future__ import annotations

import argparse
from collections.abc import Mapping, Sequence
from typing import Any

from patient_ladle.cli.output import confirmed, moment, print_done, print_json, print_table
from patient_ladle.client.errors import ClientError

from . import Noun, connected
from .access import ROLES


def _print_groups(args: argparse.Namespace, found: Sequence[Mapping[str, Any]]) -> None:
    if args.json:
        return print_json(found)
    rows = [(g["name"], g["role"], ", ".join(g["members"]), moment(g["created_at"]), g["note"]) for g in found]
    return print_table(
        ("GROUP", "ROLE", "MEMBERS", "SINCE", "NOTE"), rows, "there are no groups yet: ladle group add analysts --role author."
    )


def group_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        _print_groups(args, ladle.people.groups())


def group_add(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        _print_groups(args, [ladle.people.add_group(args.name, args.role, note=args.note, members=args.member or [])])


def group_edit(args: argparse.Namespace) -> None:
    changes: dict[str, Any] = {key: value for key in ("role", "note") if (value := getattr(args, key)) is not None}
    come, go = set(args.member or ()), set(args.without or ())
    if come & go:
        raise ClientError(f"'{min(come & go)}' is to be in the group, and not.", "Name a person after one of the two options.")
    if not changes and not come and not go:
        raise ClientError("nothing to change was given.", "Give --role, --note, --member or --without.")
    with connected(args) as ladle:
        if come or go:
            there = set(ladle.people.group(args.name)["members"])
            if go - there:
                raise ClientError(
                    f"'{min(go - there)}' is not in group '{args.name}'.", f"In it are: {', '.join(sorted(there))}."
                )
            changes["members"] = sorted((there | come) - go)
        _print_groups(args, [ladle.people.edit_group(args.name, **changes)])


def group_remove(args: argparse.Namespace) -> int:
    if not confirmed(f"Remove group '{args.name}'? Its members keep their own roles.", args.yes):
        return 2
    with connected(args) as ladle:
        ladle.people.remove_group(args.name)
    print_done(args, "removed", "group", args.name)
    return 0


def add_to(nouns: Any, common: argparse.ArgumentParser) -> None:
    """Register the commands."""
    group = Noun(nouns, common, "group", "Groups of people, who have at least the group's role (administrators).")
    group.verb("list", group_list, "List groups with their members.", "ladle group list")
    verb = group.verb("add", group_add, "Add a group.", "ladle group add analysts --role author --member rosa --member lena")
    _describe(verb, "reader")
    verb.add_argument("--member", action="append", metavar="PERSON", help="who is in it; may be given several times")
    verb = group.verb(
        "edit", group_edit, "Change a group's role, note or members.", "ladle group edit analysts --member amir --without lena"
    )
    _describe(verb, None)
    verb.add_argument("--member", action="append", metavar="PERSON", help="who comes into it; may be given several times")
    verb.add_argument("--without", action="append", metavar="PERSON", help="who leaves it; may be given several times")
    verb = group.verb(
        "remove", group_remove, "Remove a group; its members keep their own roles.", "ladle group remove analysts --yes"
    )
    verb.add_argument("name")
    verb.add_argument("--yes", action="store_true", help="do not ask")


def _describe(verb: argparse.ArgumentParser, role: str | None) -> None:
    verb.add_argument("name")
    verb.add_argument("--role", choices=ROLES, default=role, help="what every member may do at least")
    verb.add_argument("--note", default=None if role is None else "")
