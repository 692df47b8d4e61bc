"""``ladle calendar …``."""

from __future__ import annotations

import argparse
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from patient_ladle.cli.output import confirmed, print_done, print_facts, print_json, print_table
from patient_ladle.client.errors import ClientError

from . import Noun, connected


def calendar_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.schedules.calendars()
    if args.json:
        return print_json(found)
    rows = [(c["name"], _origin(c), str(len(c["days"])), ", ".join(c["used_by"])) for c in found]
    return print_table(
        ("CALENDAR", "OF", "DAYS", "MINDED BY"), rows, "there are no calendars of holidays yet: ladle calendar add."
    )


def _origin(calendar: Mapping[str, Any]) -> str:
    return " ".join(filter(None, (calendar["country"], calendar["region"]))) or "an iCalendar file"


def calendar_show(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        _show(args, ladle.schedules.calendar(args.name))


def _show(args: argparse.Namespace, found: Mapping[str, Any]) -> None:
    if args.json:
        return print_json(found)
    days = "\n".join(f"{day}  {name}" for day, name in found["days"].items())
    return print_facts([("calendar", found["name"]), ("of", _origin(found)), ("holidays", days)])


def calendar_add(args: argparse.Namespace) -> None:
    if bool(args.country) == bool(args.file):
        raise ClientError("a calendar is a country's or a file's.", "Give --country GB, or --file days.ics; not both.")
    try:
        text = Path(args.file).read_text("utf-8") if args.file else ""
    except (OSError, UnicodeDecodeError) as error:
        raise ClientError(f"'{args.file}' cannot be read: {error}.", "Give an iCalendar file.") from None
    with connected(args) as ladle:
        _show(args, ladle.schedules.save_calendar(args.name, args.country, args.region, text))


def calendar_remove(args: argparse.Namespace) -> int:
    if not confirmed(f"Remove calendar '{args.name}'?", args.yes):
        return 2
    with connected(args) as ladle:
        ladle.schedules.remove_calendar(args.name)
    print_done(args, "removed", "calendar", args.name)
    return 0


def add_to(nouns: Any, common: argparse.ArgumentParser) -> None:
    """Register the commands."""
    calendar = Noun(nouns, common, "calendar", "Calendars of holidays, which schedules mind.")
    calendar.verb("list", calendar_list, "List calendars.", "ladle calendar list")
    calendar.verb(
        "show", calendar_show, "Show a calendar's holidays, this year's and the next's.", "ladle calendar show england"
    ).add_argument("name")
    verb = calendar.verb(
        "add",
        calendar_add,
        "Add a calendar, or give one that is there other days.",
        "ladle calendar add england --country GB --region ENG",
    )
    verb.add_argument("name")
    verb.add_argument("--country", default="", help="ISO 3166-1 code, such as GB")
    verb.add_argument("--region", default="", help="ISO 3166-2 code, such as ENG")
    verb.add_argument("--file", help="an iCalendar file instead")
    verb = calendar.verb(
        "remove", calendar_remove, "Remove a calendar that no schedule uses.", "ladle calendar remove england --yes"
    )
    verb.add_argument("name")
    verb.add_argument("--yes", action="store_true", help="do not ask")
