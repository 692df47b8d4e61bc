"""``ladle schedule …``."""

from __future__ import annotations

import argparse
from itertools import islice
from typing import Any

from patient_ladle.cli.output import confirmed, moment, print_facts, print_json, print_table
from patient_ladle.client.errors import ClientError

from . import Noun, connected, listed, pairs


def schedule_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.schedules.list()
    if args.json:
        return print_json(found)
    rows = [
        (s["name"], s["extract"], s["environment"], s["rule"], s["zone"],
         f"paused by {s['paused_by']}" if s["paused_at"] else moment(s["next_due"][0]) if s["next_due"] else "never")
        for s in found
    ]  # fmt: skip
    headings = ("SCHEDULE", "EXTRACT", "ENVIRONMENT", "RULE", "ZONE", "NEXT DUE")
    return print_table(headings, rows, "there are no schedules yet: ladle schedule add.")


def _show(args: argparse.Namespace, made: dict[str, Any]) -> None:
    if args.json:
        return print_json(made)
    return print_facts(
        [
            ("schedule", made["name"]),
            ("extract", f"{made['extract']} in {made['environment']}"),
            ("rule", f"{made['rule']} ({made['zone']})"),
            ("values", ", ".join(f"{k}={v}" for k, v in made["values"].items())),
            ("formats", ", ".join(made["formats"])),
            ("paused", f"by {made['paused_by']}: {made['pause_reason']}" if made["paused_at"] else ""),
            ("next due", "\n".join(moment(text) for text in made["next_due"])),
        ]
    )


def _given(args: argparse.Namespace) -> dict[str, Any]:
    given = {"rule": args.rule, "zone": args.zone, "formats": listed(getattr(args, "as"))}
    if args.set is not None:
        given["values"] = pairs(args.set, "--set")
    return {key: value for key, value in given.items() if value is not None}


def schedule_add(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        _show(args, ladle.schedules.add(args.name, args.extract, args.env, **_given(args)))


def schedule_edit(args: argparse.Namespace) -> None:
    changes = _given(args) | {k: v for k, v in {"extract": args.extract, "environment": args.env}.items() if v is not None}
    if not changes:
        raise ClientError("nothing to change was given.", "Give --rule, --zone, --env, --extract, --set or --as.")
    with connected(args) as ladle:
        _show(args, ladle.schedules.edit(args.name, **changes))


def schedule_remove(args: argparse.Namespace) -> int:
    if not confirmed(f"Remove schedule '{args.name}'? The record of its due times stays.", args.yes):
        return 2
    with connected(args) as ladle:
        ladle.schedules.remove(args.name)
    print(f"schedule {args.name} is removed")
    return 0


def schedule_pause(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        _show(args, ladle.schedules.pause(args.name, args.reason))


def schedule_resume(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        _show(args, ladle.schedules.resume(args.name))


def schedule_next(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        schedule = ladle.schedules.get(args.name)
        past = list(islice(ladle.schedules.due_times(args.name), args.past))
    if args.json:
        return print_json({"next_due": schedule["next_due"], "past": past})
    rows = [(moment(d["due_at"]), d["data_date"], d["decision"], str(d["run"] or ""), d["reason"]) for d in reversed(past)]
    upcoming = "paused: will be skipped" if schedule["paused_at"] else "to come"
    rows += [(moment(text), "", upcoming, "", "") for text in schedule["next_due"]]
    return print_table(("DUE", "DATA DATE", "DECISION", "RUN", "REASON"), rows, "this schedule names no moments.")


def _options(verb: argparse.ArgumentParser) -> None:
    verb.add_argument("--zone", help="time zone, such as Europe/London (default UTC)")
    verb.add_argument("--set", action="append", metavar="NAME=VALUE", help="a parameter's value")
    verb.add_argument("--as", metavar="FORMATS", help="csv,xlsx,json (default: the extract's)")


def add_to(nouns: Any, common: argparse.ArgumentParser) -> None:
    """Register the commands."""
    schedule = Noun(nouns, common, "schedule", "When extracts run by themselves.")
    schedule.verb("list", schedule_list, "List schedules.")
    verb = schedule.verb(
        "add", schedule_add, "Add a schedule: minute, hour, day of month, month, day of week.",
        "ladle schedule add users-daily high_users --rule '30 6 * * 1-5' --zone Europe/London",
    )  # fmt: skip
    verb.add_argument("name")
    verb.add_argument("extract")
    verb.add_argument("--rule", required=True, help="five crontab fields")
    verb.add_argument("--env", default="live")
    _options(verb)
    verb = schedule.verb("edit", schedule_edit, "Change a schedule.", "ladle schedule edit users-daily --rule '0 7 * * *'")
    verb.add_argument("name")
    verb.add_argument("--extract")
    verb.add_argument("--rule")
    verb.add_argument("--env")
    _options(verb)
    verb = schedule.verb("remove", schedule_remove, "Remove a schedule.")
    verb.add_argument("name")
    verb.add_argument("--yes", action="store_true", help="do not ask")
    verb = schedule.verb(
        "pause",
        schedule_pause,
        "Record due times as skipped until resumed.",
        "ladle schedule pause users-daily --reason 'meter swap'",
    )
    verb.add_argument("name")
    verb.add_argument("--reason", default="")
    schedule.verb("resume", schedule_resume, "Run at due times again.").add_argument("name")
    verb = schedule.verb("next", schedule_next, "The next five due times, and what became of the last ones.")
    verb.add_argument("name")
    verb.add_argument("--past", type=int, default=5, help="past due times shown (default 5)")
