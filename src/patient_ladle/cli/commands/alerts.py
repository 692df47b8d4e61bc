"""``ladle alert …`` and ``ladle channel …``."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Mapping
from itertools import islice
from typing import Any

from patient_ladle.cli.output import confirmed, moment, print_done, print_facts, print_json, print_table
from patient_ladle.client.errors import ClientError

from . import Noun, connected, listed, pairs


def alert_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = list(islice(ladle.alerts.list(), args.limit))
        bell = ladle.alerts.bell()
        ladle.alerts.mark_seen()
    if args.json:
        return print_json({"open_problems": bell["open_problems"], "alerts": found})
    for problem in bell["open_problems"]:
        times = f", seen {problem['count']} times" if problem["count"] > 1 else ""
        print(f"open: {problem['title']}, since {moment(problem['began_at'])}{times}")
    rows = [(moment(n["at"]), n["kind"], n["title"], n["cause"].split("\n")[0]) for n in found]
    return print_table(("AT", "KIND", "ALERT", "CAUSE"), rows, "there are no alerts yet.")


def alert_sent(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = list(islice(ladle.alerts.sendings(), args.limit))
    if args.json:
        return print_json(found)
    rows = [
        (str(s["id"]), s["alert"]["title"], s["channel"], s["state"], str(s["attempts"]),
         moment(s["sent_at"]) if s["sent_at"] else "", s["response"])
        for s in found
    ]  # fmt: skip
    return print_table(("SENDING", "ALERT", "CHANNEL", "STATE", "ATTEMPTS", "SENT", "RESPONSE"), rows, "nothing was sent yet.")


def alert_own(args: argparse.Namespace) -> None:
    changes = {"own_runs": args.runs, "mail": args.mail}
    changes = {key: value for key, value in changes.items() if value is not None}
    with connected(args) as ladle:
        own = ladle.alerts.choose_own(**changes) if changes else ladle.alerts.own()
    if args.json:
        return print_json(own)
    told = {"nothing": "never", "failed": "when they fail", "ended": "when they end"}[own["own_runs"]]
    print_facts([("told of your runs", told), ("by mail to", own["mail"] or "nobody")])
    if own["mail"] and not own["by_mail"]:
        words = "no channel takes alerts to people yet: ladle channel edit NAME --for-people yes (administrators)"
        print(words, file=sys.stderr)
    return None


def alert_resend(args: argparse.Namespace) -> int:
    with connected(args) as ladle:
        made = ladle.alerts.send_again(args.number)
    print_json(made) if args.json else print(f"sending {made['id']} is tried again")
    return 0


def channel_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.alerts.channels()
    if args.json:
        return print_json(found)
    rows = [
        (c["name"], c["kind"], c["settings"].get("url") or c["settings"].get("to", ""), ", ".join(c["kinds"]) or "all",
         "" if c["active"] else "off")
        for c in found
    ]  # fmt: skip
    return print_table(("CHANNEL", "KIND", "TO", "ALERTS", ""), rows, "alerts go nowhere yet: ladle channel add.")


def _show(args: argparse.Namespace, made: Mapping[str, Any]) -> None:
    if args.json:
        return print_json(made)
    facts: list[tuple[str, Any]] = [("channel", made["name"]), ("kind", made["kind"])]
    facts += list(made["settings"].items())
    facts += [("secret", "kept" if made["has_secret"] else ""), ("alerts", ", ".join(made["kinds"]) or "all")]
    facts += [("for people", "yes" if made["for_people"] else "no")]
    return print_facts([*facts, ("active", "yes" if made["active"] else "no")])


def channel_show(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        _show(args, ladle.alerts.channel(args.name))


def channel_kinds(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.alerts.channel_kinds()
    if args.json:
        return print_json(found)
    rows = [
        (kind["name"], setting["name"], "needed" if setting["required"] else setting["default"], setting["note"])
        for kind in found
        for setting in [*kind["settings"], {"name": "secret", "required": False, "default": "", "note": kind["secret"]}]
    ]
    return print_table(("KIND", "SETTING", "DEFAULT", "WHAT"), rows, "")


def _given(args: argparse.Namespace) -> dict[str, Any]:
    given: dict[str, Any] = {"kinds": listed(args.only)}
    if args.set is not None:
        given["settings"] = pairs(args.set, "--set")
    if args.secret_stdin:
        given["secret"] = sys.stdin.readline().rstrip("\n")
    if args.for_people:
        given["for_people"] = args.for_people == "yes"
    return {key: value for key, value in given.items() if value is not None}


def channel_add(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        given = {"settings": {}, **_given(args)}
        _show(args, ladle.alerts.add_channel(args.name, args.kind, **given))


def channel_edit(args: argparse.Namespace) -> None:
    changes = _given(args) | ({"active": args.active == "yes"} if args.active else {})
    if not changes:
        raise ClientError("nothing to change was given.", "Give --set, --only, --secret-stdin, --for-people or --active.")
    with connected(args) as ladle:
        if "settings" in changes:
            changes["settings"] = ladle.alerts.channel(args.name)["settings"] | changes["settings"]
        _show(args, ladle.alerts.edit_channel(args.name, **changes))


def channel_remove(args: argparse.Namespace) -> int:
    if not confirmed(f"Remove channel '{args.name}' and the log of what was sent on it?", args.yes):
        return 2
    with connected(args) as ladle:
        ladle.alerts.remove_channel(args.name)
    print_done(args, "removed", "channel", args.name)
    return 0


def channel_test(args: argparse.Namespace) -> int:
    with connected(args) as ladle:
        ended = ladle.alerts.test_channel(args.name)
    if args.json:
        print_json(ended)
    else:
        print(f"{ended['state']}: {ended['response'] or 'no response yet; look again: ladle alert sent'}")
    return 0 if ended["state"] == "sent" else 1


def _settings(verb: argparse.ArgumentParser) -> None:
    verb.add_argument("--set", action="append", metavar="SETTING=VALUE", help="see ladle channel kinds")
    verb.add_argument("--only", metavar="KINDS", help="failed,held,… (default: all alerts)")
    verb.add_argument("--secret-stdin", action="store_true", help="read its secret from standard input")
    verb.add_argument("--for-people", choices=("yes", "no"), help="yes: also takes alerts for single people to their addresses")


def add_to(nouns: Any, common: argparse.ArgumentParser) -> None:
    """Register the commands."""
    alert = Noun(nouns, common, "alert", "Alerts: what went wrong and what came right again.")
    verb = alert.verb("list", alert_list, "Open problems, and alerts, newest first.", "ladle alert list --limit 5")
    verb.add_argument("--limit", type=int, default=20, help="how many (default 20)")
    verb = alert.verb("sent", alert_sent, "What was sent on which channel, and what came back.", "ladle alert sent --limit 20")
    verb.add_argument("--limit", type=int, default=20, help="how many (default 20)")
    verb = alert.verb(
        "own", alert_own, "What you are told of runs that you start yourself, by hand or with a token.",
        "ladle alert own --runs ended --mail amir@fennmoor.example",
    )  # fmt: skip
    verb.add_argument("--runs", choices=("nothing", "failed", "ended"), help="when you are told (at first: failed)")
    verb.add_argument("--mail", metavar="ADDRESS", help="also by mail; '' for not")
    verb = alert.verb("resend", alert_resend, "Send again what failed.", "ladle alert resend 7")
    verb.add_argument("number", type=int)
    channel = Noun(nouns, common, "channel", "Channels on which alerts are sent.")
    channel.verb("list", channel_list, "List channels.", "ladle channel list")
    channel.verb("show", channel_show, "Show a channel.", "ladle channel show duty").add_argument("name")
    channel.verb("kinds", channel_kinds, "Kinds of channels and their settings.", "ladle channel kinds")
    verb = channel.verb(
        "add", channel_add, "Add a channel.",
        "ladle channel add duty --kind mail --set host=mail.fennmoor.example --set sender=ladle@fennmoor.example "
        "--set to=duty@fennmoor.example --only failed,held",
    )  # fmt: skip
    verb.add_argument("name")
    verb.add_argument("--kind", required=True, help="mail or webhook")
    _settings(verb)
    verb = channel.verb("edit", channel_edit, "Change a channel.", "ladle channel edit duty --only failed,held,late")
    verb.add_argument("name")
    _settings(verb)
    verb.add_argument("--active", choices=("yes", "no"), help="no: nothing is sent on it")
    verb = channel.verb("remove", channel_remove, "Remove a channel.", "ladle channel remove duty --yes")
    verb.add_argument("name")
    verb.add_argument("--yes", action="store_true", help="do not ask")
    verb = channel.verb("test", channel_test, "Send a test alert on it and show the response.", "ladle channel test duty")
    verb.add_argument("name")
