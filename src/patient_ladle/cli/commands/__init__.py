"""One module a noun; each adds its verbs to the parser. To add a verb: write its function, add one ``verb(...)`` line."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from patient_ladle.cli import config
from patient_ladle.cli.parsing import verbs_of
from patient_ladle.client import Ladle
from patient_ladle.client.errors import ClientError

Nouns = Any
Action = Callable[[argparse.Namespace], int | None]


def connected(args: argparse.Namespace) -> Ladle:
    """A client for the service the options name, with the token kept for it."""
    url = config.service_url(args.url)
    return Ladle(url, config.token_for(url))


class Noun:
    """Adds verbs to one noun."""

    def __init__(self, nouns: Nouns, common: argparse.ArgumentParser, name: str, words: str) -> None:
        self.common = common
        made = nouns.add_parser(name, help=words, description=words)
        self.verbs = made.add_subparsers(title="verbs", metavar="VERB", required=True, parser_class=type(made))

    def verb(self, name: str, action: Action, words: str, example: str = "") -> argparse.ArgumentParser:
        """One verb; its function gets the parsed arguments."""
        return add_verb(self.verbs, self.common, name, action, words, example)


def add_verb(
    verbs: Any, common: argparse.ArgumentParser, name: str, action: Action, words: str, example: str = ""
) -> argparse.ArgumentParser:
    """A verb with the common options, and an example below its help."""
    made: argparse.ArgumentParser = verbs.add_parser(
        name,
        parents=[common],
        help=words,
        description=words,
        epilog=f"example:\n  {example}" if example else None,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    made.set_defaults(action=action)
    return made


def pairs(given: list[str] | None, option: str) -> dict[str, Any]:
    """``name=value`` words as a dictionary; a name given twice becomes a list. Raises ClientError."""
    made: dict[str, Any] = {}
    for word in given or []:
        name, equals, value = word.partition("=")
        if not equals or not name:
            raise ClientError(f"{option} was given '{word}'.", f"Write {option} name=value.")
        if name in made:
            made[name] = [*(made[name] if isinstance(made[name], list) else [made[name]]), value]
        else:
            made[name] = value
    return made


def values_given(ladle: Ladle, extract: str, words: list[str] | None) -> dict[str, Any]:
    """``--set`` words as values: what a parameter that is a list was given once is parted at its commas."""
    return parted_values(pairs(words, "--set"), ladle.extracts.get(extract)["revision"]["parameters"])


def parted_values(values: Mapping[str, Any], parameters: Sequence[Mapping[str, Any]]) -> dict[str, Any]:
    """Values by name; that of a list which was given once is parted at its commas."""
    lists = {each.get("name") for each in parameters if each.get("is_list")}
    parted = {name: [part for part in value.split(",") if part] for name, value in values.items() if isinstance(value, str)}
    return {name: parted[name] if name in lists and name in parted else value for name, value in values.items()}


def not_together(args: argparse.Namespace, option: str, *others: str) -> None:
    """Refuse options that would be ignored beside one another. Raises ClientError."""
    given = [each for each in (option, *others) if getattr(args, each.strip("-").replace("-", "_")) not in (None, False)]
    if option in given and len(given) > 1:
        raise ClientError(f"{option} and {given[1]} do not go together.", "Give one of them.")


def environment_of(ladle: Ladle, given: str | None = None) -> str:
    """The one given, or the first there is."""
    return given or str(ladle.sources.environments()[0]["name"])


def listed(given: str | None) -> list[str] | None:
    """A comma-separated list, or None."""
    return [part.strip() for part in given.split(",") if part.strip()] if given else None


def add_sorting(verb: argparse.ArgumentParser, by: Sequence[str]) -> None:
    """The options that say in which order a list comes."""
    verb.add_argument("--sort", choices=by, help=f"by: {', '.join(by)}", metavar="BY")
    verb.add_argument("--descending", action="store_true", help="with --sort: the greatest first")


def sorting(args: argparse.Namespace) -> dict[str, Any]:
    """What ``add_sorting`` gave, for the client. Raises ClientError."""
    if args.descending and not args.sort:
        raise ClientError("--descending was given without --sort.", "Say by what: --sort BY.")
    return {"sort": args.sort, "descending": "true" if args.descending else None}


_NAMED_BY: dict[str, Callable[[Ladle], Sequence[Mapping[str, Any]]]] = {
    "source": lambda ladle: ladle.sources.list(),
    "extract": lambda ladle: ladle.extracts.list(),
    "lookup": lambda ladle: ladle.lookups.list(),
    "value": lambda ladle: ladle.values.list(),
    "schedule": lambda ladle: list(ladle.schedules.list()),
    "calendar": lambda ladle: ladle.schedules.calendars(),
    "channel": lambda ladle: ladle.alerts.channels(),
    "worker": lambda ladle: [{"name": w["id"]} for w in ladle.runs.workers()],
    "group": lambda ladle: ladle.people.groups(),
    "user": lambda ladle: ladle.people.list(),
    "member": lambda ladle: ladle.people.list(),
    "without": lambda ladle: ladle.people.list(),
    "depends_on": lambda ladle: ladle.extracts.list(),
    "env": lambda ladle: ladle.sources.environments(),
}
"""Argument to the list that its names are taken from."""


def complete_names(nouns: Any) -> None:
    """Give every argument that is a name its tab completion: the names that the service has."""
    for noun, parser in nouns.choices.items():
        for group in parser._subparsers._group_actions if parser._subparsers else ():
            for verb in group.choices.values():
                for argument in verb._actions:
                    kind = noun if argument.dest == "name" else argument.dest
                    if kind in _NAMED_BY:
                        argument.completer = _Names(kind)


class _Names:
    def __init__(self, kind: str) -> None:
        self.kind = kind

    def __call__(self, parsed_args: argparse.Namespace, **_: Any) -> list[str]:
        try:
            with connected(parsed_args) as ladle:
                return [item["name"] for item in _NAMED_BY[self.kind](ladle)]
        except ClientError:
            return []  # a service that is away offers nothing


_HELP = {
    "name": "name of the {noun}",
    "number": "number of the {noun}, as its list shows it",
    "extract": "name of the extract",
    "schedule": "name of the schedule",
    "worker": "the worker, as its list shows it",
    "phrase": "a date phrase, in quotes",
    "rule": "a rule in words or five crontab fields, in quotes",
    "id": "number of the {noun}, as its list shows it",
    "env": "name of the environment",
    "note": "words for people, kept with it",
    "source": "name of the source",
    "into": "folder to save files in",
    "folder": "folder of extracts, such as regulation/monthly",
    "tag": "only those with this tag",
    "most": "at most so many",
    "role": "what the person may do; each role may all that the ones before it may",
    "active": "whether the person may sign in",
    "password_stdin": "read the password from standard input",
    "reason": "why, for whoever wonders",
    "sort": "column to sort by",
    "descending": "largest first",
    "new_name": "name of the copy",
    "revision": "number of the revision",
    "no_wait": "do not wait until it has ended",
}
"""What arguments that mean the same everywhere are; one that means something of its own says so where it stands."""


def say_what_arguments_are(nouns: Any) -> None:
    """Give every argument that says nothing of itself its words."""
    for noun, parser in nouns.choices.items():
        for verb in (verbs_of(parser) or {"": parser}).values():
            for argument in verb._actions:
                if argument.help is None and argument.dest in _HELP:
                    argument.help = _HELP[argument.dest].format(noun=noun)
