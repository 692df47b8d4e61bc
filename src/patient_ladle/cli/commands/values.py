"""``ladle value …`` and ``ladle phrase …``: shared values, and dates in words."""

from __future__ import annotations

import argparse
import json
from collections.abc import Mapping, Sequence
from typing import Any

from patient_ladle.cli.output import confirmed, moment, print_done, print_facts, print_json, print_table
from patient_ladle.client.errors import ClientError

from . import Noun, connected


def _plain(value: Any) -> str:
    return ", ".join(map(str, value)) if isinstance(value, list) else str(value)


def _read(word: str, as_json: bool) -> Any:
    if not as_json:
        return word
    try:
        return json.loads(word)
    except ValueError as error:
        raise ClientError(
            f"'{word}' is not JSON: {error}.", 'Write a list such as ["N1", "N2"], or leave out --list.'
        ) from None


def value_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.values.list()
    if args.json:
        return print_json(found)
    rows = [
        (v["name"], "; ".join(f"{env}: {_plain(value)}" for env, value in v["values"].items()),
         ", ".join(sorted({use["extract"] for use in v["used_by"]})), v["note"][:50])
        for v in found
    ]  # fmt: skip
    return print_table(("VALUE", "IN", "USED BY", "NOTE"), rows, "there are no shared values yet: ladle value set.")


def value_show(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.values.get(args.name)
    if args.json:
        return print_json(found)
    uses = [f"{use['extract']} (:{use['parameter']})" for use in found["used_by"]]
    print_facts(
        [
            ("shared value", found["name"]),
            *((f"in {env}", _plain(value)) for env, value in found["values"].items()),
            ("note", found["note"]),
            ("changed", f"{moment(found['changed_at'])} by {found['changed_by']}"),
            ("used by", "\n".join(uses) or "nothing yet: name it in a parameter as shared"),
        ]
    )
    return None


def value_set(args: argparse.Namespace) -> None:
    value = None if args.value is None else _read(args.value, args.list)
    if args.value is not None and not args.env:
        raise ClientError("it was not said in which environment.", "Give --env NAME; give it again for further ones.")
    with connected(args) as ladle:
        found = ladle.values.set(args.name, dict.fromkeys(args.env or [], value), args.note)
    where = "; ".join(f"{env}: {_plain(v)}" for env, v in found["values"].items()) or "nowhere"
    print_json(found) if args.json else print(f"{found['name']} is now {where}; used by {len(found['used_by'])} parameters")


def value_remove(args: argparse.Namespace) -> int:
    if not confirmed(f"Remove the shared value '{args.name}' in every environment?", args.yes):
        return 2
    with connected(args) as ladle:
        ladle.values.remove(args.name)
    print_done(args, "removed", "shared value", args.name)
    return 0


def _meanings(args: argparse.Namespace, found: Sequence[Mapping[str, Any]]) -> None:
    if args.json:
        return print_json(found)
    rows = [(p["phrase"], p["means"].replace("T", " ").removesuffix(" 00:00:00")) for p in found]
    return print_table(("PHRASE", f"ON {found[0]['data_date']} MEANS"), rows, "")


def phrase_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        _meanings(args, ladle.values.phrases(data_date=args.on))


def phrase_show(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        _meanings(args, ladle.values.phrases(args.phrase, args.on))


def add_to(nouns: Any, common: argparse.ArgumentParser) -> None:
    """Register the commands."""
    value = Noun(nouns, common, "value", "Shared values: kept once, by environment, used in many extracts.")
    value.verb("list", value_list, "List shared values and who uses them.", "ladle value list")
    value.verb("show", value_show, "Show a shared value.", "ladle value show leak_rate").add_argument("name")
    verb = value.verb(
        "set", value_set, "Set a shared value in one environment or several.", "ladle value set leak_rate 0.25 --env live"
    )
    verb.add_argument("name")
    verb.add_argument("value", nargs="?", help="left out: removed there")
    verb.add_argument("--env", action="append", metavar="NAME", help="environment; may be given again")
    verb.add_argument("--list", action="store_true", help='the value is JSON, such as ["N1", "N2"]')
    verb.add_argument("--note", help="what it is")
    verb = value.verb(
        "remove", value_remove, "Remove a shared value that nothing uses.", "ladle value remove leak_threshold --yes"
    )
    verb.add_argument("name")
    verb.add_argument("--yes", action="store_true", help="do not ask")
    phrase = Noun(nouns, common, "phrase", "Dates in words, such as: start of last month.")
    verb = phrase.verb("list", phrase_list, "Examples, and what each means.", "ladle phrase list --on 2028-02-29")
    verb.add_argument("--on", metavar="YYYY-MM-DD", help="the data date (default: today)")
    verb = phrase.verb("show", phrase_show, "What a phrase means.", 'ladle phrase show "3rd working day of this month"')
    verb.add_argument("phrase")
    verb.add_argument("--on", metavar="YYYY-MM-DD", help="the data date (default: today)")
