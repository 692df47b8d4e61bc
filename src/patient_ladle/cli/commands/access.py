"""``ladle sign-in``, ``ladle status``, ``ladle user …``, ``ladle token …``."""

from __future__ import annotations

import argparse
import getpass
import os
import socket
import sys
from collections.abc import Mapping, Sequence
from typing import Any

from patient_ladle.cli import config
from patient_ladle.cli.output import moment, print_done, print_json, print_table
from patient_ladle.client import CallFailed, Ladle
from patient_ladle.client.errors import ClientError
from patient_ladle.words import amount

from . import Noun, add_verb, connected

ROLES = ("reader", "runner", "author", "administrator")


def _password(args: argparse.Namespace, question: str) -> str:
    if getattr(args, "password_stdin", False):
        return sys.stdin.readline().rstrip("\n")
    if os.environ.get("LADLE_PASSWORD"):
        return os.environ["LADLE_PASSWORD"]
    if not sys.stdin.isatty():
        raise ClientError("no password was given.", "Use --password-stdin, or set LADLE_PASSWORD.")
    return getpass.getpass(question)


def sign_in(args: argparse.Namespace) -> None:
    """Ask for the password, keep the token."""
    url = config.service_url(args.url)
    name = args.name or input("name: ")
    client, token = Ladle.sign_in(url, name, _password(args, f"password of {name}: "), f"ladle on {socket.gethostname()}")
    with client:
        me = client.people.me()
    path = config.keep_token(url, token)
    if args.json:
        print_json(me | {"url": url})
    else:
        print(f"signed in to {url} as {me['name']} ({me['role']}); token kept in {path}")


def sign_out(args: argparse.Namespace) -> None:
    """End the token that is kept for the service, and forget it."""
    url = config.service_url(args.url)
    if config.kept_token(url) is None:
        raise ClientError(f"nobody is signed in to {url} from here.", "Sign in: ladle sign-in.")
    with Ladle(url, config.kept_token(url)) as ladle:
        try:
            ladle.sign_out()
        except CallFailed as error:
            if error.code != "not_signed_in":  # it had ended before
                raise
    path = config.forget_token(url)
    print_json({"url": url}) if args.json else print(f"signed out of {url}; its token is ended, and removed from {path}")


def status(args: argparse.Namespace) -> int:
    """Who one is, and how the last night went."""
    with connected(args) as ladle:
        night = ladle.last_night(args.night)
        now, me, url = ladle.status(), ladle.people.me(), ladle.transport.url
        found: dict[str, Any] = {**now, "me": me, "url": url, "last_night": night}
    if args.json:
        print_json(found)
        return _verdict(found)
    print(f"{found['url']} as {found['me']['name']} ({found['me']['role']}); {amount(found['workers'], 'worker')}")
    for words in found["nothing_runs"]:
        print(f"NOTHING RUNS: {words}. Look at the service's log, or start it again: ladle service start.")
    span = f"{moment(night['since'])} to {moment(night['until'])}" if night["is_over"] else f"since {moment(night['since'])}"
    print(f"{span}: {night['sentence']}")
    if night["needs"]:
        print(f"\n{night['needing']} {'needs' if night['needing'] == 1 else 'need'} attention:")
        rows = [
            (need["run"], len(need["others"]) or "", need["kind"], need["extract"], need["environment"], need["data_date"],
             need["cause"])
            for need in night["needs"]
        ]  # fmt: skip
        print_table(("RUN", "OTHERS", "WHAT", "EXTRACT", "ENVIRONMENT", "DATA DATE", "CAUSE"), rows, "")
        print("look at one: ladle run show RUN; its log: ladle run log RUN")
    else:
        print("nothing needs attention.")
    for due in night["next"][:1]:
        print(f"next: {due['schedule']} at {moment(due['due_at'])}")
    return _verdict(found)


def _verdict(found: Mapping[str, Any]) -> int:
    return 1 if found["nothing_runs"] else 0


def _print_people(args: argparse.Namespace, people: Sequence[Mapping[str, Any]]) -> None:
    if args.json:
        return print_json(people)
    rows = [
        (
            p["name"],
            _role(p),
            ", ".join(p["groups"]),
            "yes" if p["active"] else "no",
            moment(p["created_at"]),
            moment(p["seen_at"]),
            p["sign_ins"],
        )
        for p in people
    ]
    return print_table(("NAME", "ROLE", "GROUPS", "ACTIVE", "SINCE", "LAST SEEN", "SIGN-INS"), rows, "there is nobody.")


def _role(person: Mapping[str, Any]) -> str:
    return person["role"] if person["role"] == person["own_role"] else f"{person['role']} (alone: {person['own_role']})"


def user_password(args: argparse.Namespace) -> None:
    """One's own."""
    if args.password_stdin:
        old, new = (sys.stdin.readline().rstrip("\n") for _ in range(2))
    elif sys.stdin.isatty():
        old, new = getpass.getpass("your password: "), getpass.getpass("the new one: ")
        if getpass.getpass("the new one once more: ") != new:
            raise ClientError("the new password was given in two ways.", "Try again.")
    else:
        raise ClientError("no password was given.", "Use --password-stdin: the old one on a line, then the new one.")
    with connected(args) as ladle:
        me = ladle.people.change_password(old, new)
    if args.json:
        return print_json(me)
    print(f"the password of {me['name']} is changed; every other sign-in and token of {me['name']} has ended")
    return None


def user_sessions(args: argparse.Namespace) -> None:
    """One's own sign-ins of browsers."""
    with connected(args) as ladle:
        found = ladle.people.sessions()
    if args.json:
        return print_json(found)
    rows = [(str(s["id"]), s["browser"], s["address"], moment(s["made_at"]), moment(s["seen_at"])) for s in found]
    return print_table(("SIGN-IN", "BROWSER", "FROM", "SINCE", "LAST SEEN"), rows, "you are signed in in no browser.")


def user_end_session(args: argparse.Namespace) -> None:
    """One of them, or all."""
    if args.all == (args.number is not None):
        raise ClientError("which sign-in is to end was not said.", "Give its number, or --all; see ladle user sessions.")
    with connected(args) as ladle:
        ladle.people.end_other_sessions() if args.all else ladle.people.end_session(args.number)
    said = "every browser is signed out" if args.all else f"sign-in {args.number} has ended"
    print_json({"ended": "all" if args.all else args.number}) if args.json else print(said)


def user_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        _print_people(args, ladle.people.list())


def user_add(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        _print_people(args, [ladle.people.add(args.name, _password(args, f"password for {args.name}: "), args.role)])


def user_edit(args: argparse.Namespace) -> None:
    changes: dict[str, Any] = {}
    if args.role:
        changes["role"] = args.role
    if args.active:
        changes["active"] = args.active == "yes"
    if args.password or args.password_stdin:
        changes["password"] = _password(args, f"new password for {args.name}: ")
    if not changes:
        raise ClientError("nothing to change was given.", "Give --role, --active or --password.")
    with connected(args) as ladle:
        _print_people(args, [ladle.people.edit(args.name, **changes)])
        made = ladle.schedules.list() if args.active == "no" else ()
        theirs = [each["name"] for each in made if each["created_by"] == args.name]
    if theirs:
        print(f"schedules that {args.name} made go on: {', '.join(theirs)}", file=sys.stderr)


def token_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = list(ladle.people.tokens())
    if args.json:
        return print_json(found)
    rows = [
        (str(t["id"]), t["name"], t["person"], t["role"], t["prefix"] + "…", moment(t["expires_at"]), moment(t["last_used_at"]),
         "revoked" if t["revoked_at"] else "")
        for t in found
    ]  # fmt: skip
    return print_table(("ID", "NAME", "PERSON", "ROLE", "BEGINS", "EXPIRES", "LAST USED", ""), rows, "there are no tokens.")


def token_add(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        made = ladle.people.add_token(args.name, args.role, args.days)
    if args.json:
        return print_json(made)
    print(made["secret"])
    print("This is the only time it is shown. Keep it as LADLE_TOKEN.", file=sys.stderr)
    return None


def token_revoke(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        ladle.people.revoke_token(args.id)
    print_done(args, "revoked", "token", args.id)


def add_to(nouns: Any, common: argparse.ArgumentParser) -> None:
    """Register the commands."""
    verb = add_verb(nouns, common, "sign-in", sign_in, "Sign in and keep a token.", "ladle sign-in rita")
    verb.add_argument("name", nargs="?", help="your name")
    verb.add_argument("--password-stdin", action="store_true", help="read the password from standard input")
    add_verb(nouns, common, "sign-out", sign_out, "End the token that is kept here, and forget it.", "ladle sign-out")
    verb = add_verb(
        nouns,
        common,
        "status",
        status,
        "Who am I, how did the last night go, and what needs attention.",
        "ladle status",
    )
    verb.add_argument("--night", metavar="YYYY-MM-DD", help="the night before that morning (default: the last one)")

    user = Noun(nouns, common, "user", "People and their roles (administrators).")
    user.verb("list", user_list, "List people.", "ladle user list")
    verb = user.verb("add", user_add, "Add a person.", "ladle user add lena --role reader")
    verb.add_argument("name")
    verb.add_argument("--role", choices=ROLES, default="reader")
    verb.add_argument("--password-stdin", action="store_true")
    verb = user.verb(
        "edit", user_edit, "Change role, password or whether somebody may sign in.", "ladle user edit lena --role author"
    )
    verb.add_argument("name")
    verb.add_argument("--role", choices=ROLES)
    verb.add_argument("--active", choices=("yes", "no"))
    verb.add_argument("--password", action="store_true", help="ask for a new password")
    verb.add_argument("--password-stdin", action="store_true")

    verb = user.verb("password", user_password, "Change your own password.", "ladle user password")
    verb.add_argument("--password-stdin", action="store_true", help="read the old one, then the new one, a line each")

    user.verb("sessions", user_sessions, "Browsers in which you are signed in.", "ladle user sessions")
    verb = user.verb("end-session", user_end_session, "Sign one of your browsers out.", "ladle user end-session 3")
    verb.add_argument("number", type=int, nargs="?", help="as ladle user sessions shows it")
    verb.add_argument("--all", action="store_true", help="all of them")

    token = Noun(nouns, common, "token", "Tokens with which programs sign in.")
    token.verb("list", token_list, "List tokens.", "ladle token list")
    verb = token.verb(
        "add", token_add, "Make a token; it is shown once.", "ladle token add nightly-job --role runner --days 365"
    )
    verb.add_argument("name", help="what it is for")
    verb.add_argument("--role", choices=ROLES, help="at most your own, which is the default")
    verb.add_argument("--days", type=int, help="days until it expires (default: never)")
    verb = token.verb("revoke", token_revoke, "End a token.", "ladle token revoke 3")
    verb.add_argument("id", type=int)
