"""``ladle schedule …``."""

from __future__ import annotations

import argparse
from collections.abc import Mapping, Sequence
from itertools import islice
from typing import Any

from patient_ladle.cli.output import (
    confirmed,
    moment,
    print_done,
    print_facts,
    print_json,
    print_remarks,
    print_table,
    value_words,
)
from patient_ladle.client import Ladle
from patient_ladle.client.errors import ClientError

from . import Noun, add_sorting, connected, listed, not_together, pairs, sorting
from .runs import STRICT, conclude, run_state


def _paused(schedule: Mapping[str, Any]) -> str:
    if not schedule["paused_at"]:
        return ""
    until = f" until {moment(schedule['paused_until'])}" if schedule["paused_until"] else ""
    return f"by {schedule['paused_by']}{until}" + (f": {schedule['pause_reason']}" if schedule["pause_reason"] else "")


def schedule_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = list(ladle.schedules.list(args.search, environment=args.env, state=args.state, **sorting(args)))
    if args.json:
        return print_json(found)
    rows = [
        (s["name"], " → ".join([s["extract"], *(step["extract"] for step in s["then"])]), s["environment"], s["rule"],
         s["zone"], run_state(s["last_run"]) if s["last_run"] else "",
         f"paused {_paused(s)}" if s["paused_at"] else moment(s["next_due"][0]["at"]) if s["next_due"] else "never")
        for s in found
    ]  # fmt: skip
    headings = ("SCHEDULE", "EXTRACT", "ENVIRONMENT", "RULE", "ZONE", "LAST RUN", "NEXT DUE")
    return print_table(
        headings,
        rows,
        "nothing matches." if args.search or args.env or args.state else "there are no schedules yet: ladle schedule add.",
    )


def _moments(found: Sequence[Mapping[str, Any]]) -> str:
    return "\n".join(_moment(each) for each in found)


def _moment(found: Mapping[str, Any]) -> str:
    return moment(found["at"]) + (f"  ({found['note']})" if found["note"] else "")


def _catch_up(schedule: Mapping[str, Any]) -> str:
    hours = f", none older than {schedule['catch_up_hours']} h" if schedule["catch_up_hours"] is not None else ""
    most = f", no more than {schedule['catch_up_limit']}" if schedule["catch_up_limit"] is not None else ""
    return f"{schedule['catch_up']}{hours}{most}"


def _show(args: argparse.Namespace, made: Mapping[str, Any]) -> None:
    if args.json:
        return print_json(made)
    print_remarks(made)
    dates = " to ".join(filter(None, (made["first_date"] and f"from {made['first_date']}", made["last_date"])))
    return print_facts(
        [
            ("schedule", made["name"]),
            ("extract", f"{made['extract']} in {made['environment']}"),
            ("then", ", ".join(step["extract"] for step in made["then"])),
            ("rule", f"{made['rule']} ({made['zone']})"),
            ("dates", dates),
            ("not on", ", ".join(made["exceptions"])),
            ("holidays", f"{made['calendar']}, on one: {made['on_holiday']}" if made["calendar"] else ""),
            ("values", ", ".join(f"{k}={value_words(v)}" for k, v in made["values"].items())),
            ("formats", ", ".join(made["formats"])),
            ("catch up", f"{_catch_up(made)} of the due times missed while the service was down"),
            ("while running", made["while_running"]),
            ("spread over", f"{made['spread_seconds']} s" if made["spread_seconds"] else ""),
            ("attempts", f"{made['attempts']}, timeout {made['timeout_minutes']} minutes"),
            ("finish by", made["finish_by"]),
            ("priority", made["priority"]),
            ("into", made["deliver_into"] or "where the extract says"),
            ("paused", _paused(made)),
            ("next due", _moments(made["next_due"])),
            ("told", f"{', '.join(made['told'])}, when a run fails" if made.get("told") else ""),
        ]
    )


def schedule_show(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        _show(args, ladle.schedules.get(args.name))


_GIVEN = (
    "rule", "zone", "first_date", "last_date", "on_holiday", "catch_up", "catch_up_hours", "catch_up_limit", "while_running",
    "spread_seconds", "attempts", "timeout_minutes", "finish_by", "priority", "deliver_into", "calendar",
)  # fmt: skip
_NONE = "none"
"""The word that takes a setting away again."""
_MAY_GO = ("first_date", "last_date", "catch_up_hours", "catch_up_limit", "finish_by", "calendar")


def _given(args: argparse.Namespace) -> dict[str, Any]:
    given = {key: getattr(args, key) for key in _GIVEN} | {"formats": listed(args.formats)}
    if args.set is not None:
        given["values"] = pairs(args.set, "--set")
    if args.exceptions is not None:
        given["exceptions"] = [] if args.exceptions == _NONE else listed(args.exceptions)
    if args.then is not None:
        given["then"] = [] if args.then == _NONE else [{"extract": name} for name in listed(args.then) or []]
    said = {key: value for key, value in given.items() if value is not None}
    return {key: None if key in _MAY_GO and value == _NONE else value for key, value in said.items()}


def schedule_add(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        _show(args, ladle.schedules.add(args.name, args.extract, args.env, **_given(args)))


def schedule_edit(args: argparse.Namespace) -> None:
    changes = _given(args) | {k: v for k, v in {"extract": args.extract, "environment": args.env}.items() if v is not None}
    if not changes:
        raise ClientError("nothing to change was given.", "Give --rule, --zone, --env, --extract, --set or --formats.")
    with connected(args) as ladle:
        _show(args, ladle.schedules.edit(args.name, **changes))


_TIMING = ("zone", "calendar", "on_holiday", "exceptions", "first_date", "last_date")


def schedule_times(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.schedules.times(args.rule, count=args.limit, **{key: getattr(args, key) for key in _TIMING})
    if args.json:
        return print_json(found)
    rows = [(moment(each["at"]), each["local"][:16].replace("T", " "), each["note"]) for each in found]
    return print_table(
        ("DUE", f"IN {args.zone}" if args.zone else "IN THE SERVICE'S ZONE", "NOTE"), rows, "this rule names no moments."
    )


def schedule_remove(args: argparse.Namespace) -> int:
    if not confirmed(f"Remove schedule '{args.name}'? The record of its due times stays.", args.yes):
        return 2
    with connected(args) as ladle:
        ladle.schedules.remove(args.name)
    print_done(args, "removed", "schedule", args.name)
    return 0


def schedule_pause(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        if len(args.name) == 1:
            return _show(args, ladle.schedules.pause(args.name[0], args.reason, args.until))
        ladle.schedules.pause_several(args.name, args.reason, args.until)
        return _show_several(args, ladle, "paused")


def schedule_resume(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        if len(args.name) == 1:
            return _show(args, ladle.schedules.resume(args.name[0]))
        ladle.schedules.resume_several(args.name)
        return _show_several(args, ladle, "resumed")


def _show_several(args: argparse.Namespace, ladle: Ladle, done: str) -> None:
    if args.json:
        return print_json([ladle.schedules.get(name) for name in args.name])
    return print(f"{len(args.name)} schedules are {done}: {', '.join(args.name)}")


def schedule_run(args: argparse.Namespace) -> int:
    not_together(args, "--no-wait", "--into", "--strict")
    with connected(args) as ladle:
        made = ladle.schedules.run(args.name)
        if args.no_wait:
            print_json(made) if args.json else print(f"runs {', '.join(map(str, made['runs']))} of {args.name} are queued")
            return 0
        return max([conclude(args, ladle, ladle.runs.get(number)) for number in made["runs"]])


def schedule_month(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.schedules.month(args.name, f"{args.month}-01" if args.month else None)
    if args.json:
        return print_json(found)
    rows = [
        (day["date"], ", ".join(f"{count} {state.replace('_', ' ')}" for state, count in day["counts"].items()),
         day["to_come"] or "", day["holiday"])
        for day in found["days"] if day["counts"] or day["to_come"] or day["holiday"]
    ]  # fmt: skip
    print_table(("DAY", "WHAT BECAME OF IT", "TO COME", "HOLIDAY"), rows, "nothing is due in this month.")
    if not found["complete"]:
        print("and more are to come than were counted")
    return None


def schedule_next(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        schedule = ladle.schedules.get(args.name)
        past = list(islice(ladle.schedules.due_times(args.name), args.past))
    if args.json:
        return print_json({"next_due": schedule["next_due"], "past": past})
    rows: list[tuple[str, str, str, str, str]] = [
        (moment(d["due_at"]), d["data_date"], d["decision"], ", ".join(map(str, d["runs"])), d["reason"])
        for d in reversed(past)
    ]
    upcoming = "paused: will be skipped" if schedule["paused_at"] else "to come"
    rows += [(moment(each["at"]), "", upcoming, "", each["note"]) for each in schedule["next_due"]]
    return print_table(("DUE", "DATA DATE", "DECISION", "RUN", "REASON"), rows, "this schedule names no moments.")


def _timing(verb: argparse.ArgumentParser) -> None:
    verb.add_argument("--zone", help="time zone, such as Europe/London (default: the service's)")
    verb.add_argument("--from", dest="first_date", metavar="YYYY-MM-DD", help="first date; none takes it away")
    verb.add_argument("--to", dest="last_date", metavar="YYYY-MM-DD", help="last date; none takes it away")
    verb.add_argument("--except", dest="exceptions", metavar="DATES", help="dates on which nothing is due, separated by commas")
    verb.add_argument("--calendar", help="calendar of holidays; none takes it away")
    verb.add_argument("--on-holiday", choices=("run", "skip", "next_working_day"), help="what a holiday does (default run)")


def _options(verb: argparse.ArgumentParser) -> None:
    _timing(verb)
    verb.add_argument(
        "--then", metavar="EXTRACTS", help="extracts to run after it, in order, each when the one before finished"
    )
    verb.add_argument("--set", action="append", metavar="NAME=VALUE", help="a parameter's value")
    verb.add_argument("--formats", metavar="FORMATS", help="csv,xlsx,json (default: the extract's)")
    verb.add_argument(
        "--catch-up",
        choices=("latest", "all", "none"),
        help="which due times missed while the service was down run (default latest)",
    )
    verb.add_argument("--catch-up-hours", metavar="N", help="but none older than so many hours")
    verb.add_argument("--catch-up-limit", metavar="N", help="catch up with no more than the last so many")
    verb.add_argument(
        "--while-running", choices=("wait", "skip", "parallel"), help="while an earlier run is running (default wait)"
    )
    verb.add_argument("--spread", dest="spread_seconds", type=int, metavar="SECONDS", help="start somewhere in so many seconds")
    verb.add_argument("--attempts", type=int, help="how often a run is tried on temporary errors (default 3)")
    verb.add_argument("--timeout-minutes", type=int, metavar="N", help="a run fails after so many minutes (default 1440)")
    verb.add_argument("--finish-by", metavar="HH:MM", help="flag a run that has not finished by then as late")
    verb.add_argument(
        "--deliver-into", metavar="FOLDERS", help="instead of the extract's; several: 'a, b'; '': the extract's again"
    )
    verb.add_argument("--priority", choices=("low", "normal", "high"), help="which runs start first when runs queue")


def add_to(nouns: Any, common: argparse.ArgumentParser) -> None:
    """Register the commands."""
    schedule = Noun(nouns, common, "schedule", "When extracts run by themselves.")
    verb = schedule.verb("list", schedule_list, "List schedules.", "ladle schedule list --search district")
    verb.add_argument("--search", help="in names, and in names and folders of what they run")
    verb.add_argument("--env", help="only those in that environment")
    verb.add_argument(
        "--state", help="active or paused; or of its last run: waiting, queued, running, finished, failed, cancelled, not_run,"
        " held, not_delivered, late, warned, empty",
    )  # fmt: skip
    add_sorting(verb, ("name", "extract", "environment", "next_due", "last_due"))
    schedule.verb("show", schedule_show, "Show a schedule.", "ladle schedule show users-daily").add_argument("name")
    verb = schedule.verb(
        "add", schedule_add, "Add a schedule: a rule in words, or five crontab fields.",
        "ladle schedule add users-daily high_users --rule 'weekdays 06:30' --zone Europe/London --finish-by 08:00",
    )  # fmt: skip
    verb.add_argument("name")
    verb.add_argument("extract")
    verb.add_argument("--rule", required=True, help="'weekdays 06:30', '3rd working day 07:00', … or five crontab fields")
    verb.add_argument("--env", default="live")
    _options(verb)
    verb = schedule.verb("edit", schedule_edit, "Change a schedule.", "ladle schedule edit users-daily --rule 'daily 07:00'")
    verb.add_argument("name")
    verb.add_argument("--extract")
    verb.add_argument("--rule")
    verb.add_argument("--env")
    _options(verb)
    verb = schedule.verb("remove", schedule_remove, "Remove a schedule.", "ladle schedule remove users-daily --yes")
    verb.add_argument("name")
    verb.add_argument("--yes", action="store_true", help="do not ask")
    verb = schedule.verb(
        "pause",
        schedule_pause,
        "Record due times as skipped until resumed, or until a moment.",
        "ladle schedule pause users-daily --reason 'meter swap' --until 2026-12-01T06:00Z",
    )
    verb.add_argument("name", nargs="+", help="several: they are paused together, or none is")
    verb.add_argument("--reason", default="")
    verb.add_argument("--until", metavar="MOMENT", help="2026-12-01T06:00Z")
    verb = schedule.verb(
        "run",
        schedule_run,
        "Run what a schedule runs now, paused or not, and wait for its end.",
        "ladle schedule run users-daily",
    )
    verb.add_argument("name")
    verb.add_argument("--into", metavar="DIR", help="save the files here too, proven by checksum")
    verb.add_argument("--no-wait", action="store_true")
    verb.add_argument("--strict", action="store_true", help=f"exit status {STRICT} if held, warned, empty or late")
    verb = schedule.verb(
        "month", schedule_month, "What became of each day of a month, and what is to come.",
        "ladle schedule month users-daily --month 2026-11",
    )  # fmt: skip
    verb.add_argument("name")
    verb.add_argument("--month", metavar="YYYY-MM", help="default: this one")
    schedule.verb("resume", schedule_resume, "Run at due times again.", "ladle schedule resume users-daily").add_argument(
        "name", nargs="+", help="several: they are resumed together, or none is"
    )
    verb = schedule.verb(
        "next",
        schedule_next,
        "The next five due times, and what became of the last ones.",
        "ladle schedule next users-daily --past 10",
    )
    verb.add_argument("name")
    verb.add_argument("--past", type=int, default=5, help="past due times shown (default 5)")
    verb = schedule.verb(
        "times", schedule_times, "The next due times of any rule, with the days on which clocks change.",
        "ladle schedule times 'last working day 16:00' --zone Europe/London --calendar england",
    )  # fmt: skip
    verb.add_argument("rule")
    _timing(verb)
    verb.add_argument("--limit", type=int, default=10, metavar="N", help="how many (default 10)")
