"""``ladle draft …``: one's own unsaved work in the console's editor."""

from __future__ import annotations

import argparse
from typing import Any

from patient_ladle.cli.output import confirmed, moment, print_done, print_json, print_table
from patient_ladle.client import Ladle
from patient_ladle.client.errors import ClientError
from patient_ladle.client.records import DraftLine

from . import Noun, connected


def draft_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.extracts.drafts()
    if args.json:
        return print_json(found)
    rows = [(_name_of(d), f"revision {d['base']}" if d["base"] else "new", moment(d["saved_at"])) for d in found]
    return print_table(("DRAFT OF", "BEGUN FROM", "WRITTEN"), rows, "you have no drafts: what you write in the console is one.")


def draft_show(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.extracts.draft(**_at(ladle, args.name))
    if args.json:
        return print_json(found)
    content = found["content"] or {}
    print(str(content.get("statement", "")).rstrip())
    return None


def draft_drop(args: argparse.Namespace) -> int:
    with connected(args) as ladle:
        at = _at(ladle, args.name)
        if not confirmed(f"Drop your draft of {args.name}? What it changes is lost.", args.yes):
            return 1
        ladle.extracts.drop_draft(**at)
    print_done(args, "dropped", "draft", args.name)
    return 0


def _name_of(draft: DraftLine) -> str:
    return draft["extract"] or f"new:{draft['key']}"


def _at(ladle: Ladle, name: str) -> dict[str, str]:
    """Where the draft lies that is listed by that name. Raises ClientError where none is."""
    for draft in ladle.extracts.drafts():
        if _name_of(draft) == name:
            return {"name": draft["extract"]} if draft["extract"] else {"key": draft["key"]}
    raise ClientError(f"you have no draft of '{name}'.", "List them: ladle draft list.")


def add_to(nouns: Any, common: argparse.ArgumentParser) -> None:
    """Register the commands."""
    draft = Noun(nouns, common, "draft", "Your unsaved work in the console's editor; nobody else sees it.")
    draft.verb("list", draft_list, "List your drafts, the newest first.", "ladle draft list")
    verb = draft.verb(
        "show", draft_show, "Print the statement of a draft; with --json all of it.", "ladle draft show night_flow"
    )
    verb.add_argument("name", help="name of the extract, or new:KEY, as listed")
    verb = draft.verb(
        "drop", draft_drop, "Drop a draft: the extract stays as it was saved.", "ladle draft drop night_flow --yes"
    )
    verb.add_argument("name", help="name of the extract, or new:KEY, as listed")
    verb.add_argument("--yes", action="store_true", help="do not ask")
