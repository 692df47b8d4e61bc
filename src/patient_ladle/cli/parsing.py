"""A parser that says what was meant: a wrong command, verb, option or value gets the right one, by the trade's words too."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Iterable, Mapping
from difflib import get_close_matches
from typing import Any, ClassVar, NoReturn

from .synonyms import COMMANDS, ELSEWHERE, OPTIONS, VERBS

USAGE = 2
_CLOSE = 0.7


def close_to(given: str, known: Iterable[str]) -> str:
    """The known word most like the given one; empty where none is close."""
    words = list(known)
    begun = [word for word in words if len(given) > 2 and word.startswith(given.lower())]
    found = begun if len(begun) == 1 else get_close_matches(given.lower(), words, n=1, cutoff=_CLOSE)
    return found[0] if found else ""


def error_as_json(code: str, message: str, hint: str, status: int, request: str = "") -> str:
    """What a program is told of an error, on one line. ``request``: the service's id of the call, where its log is needed."""
    told = {"code": code, "message": message, "hint": hint, "exit_status": status}
    return json.dumps({"error": told | ({"request_id": request} if request else {})}, ensure_ascii=False)


class Once(argparse.Action):
    """A value that is given twice is an error, and not the last one in silence."""

    def __call__(
        self, parser: argparse.ArgumentParser, namespace: argparse.Namespace, values: Any, option: str | None = None
    ) -> None:
        given = namespace.__dict__.setdefault("_given", set())
        if option and (self.dest, id(self)) in given:
            parser.error(f"{option} was given twice. Give it once; a list is written a,b,c.")
        given.add((self.dest, id(self)))
        setattr(namespace, self.dest, values)


class Parser(argparse.ArgumentParser):
    """Says what is wrong first, then what was meant and where the help of that very command is."""

    as_json: ClassVar[bool] = False
    deepest: ClassVar[argparse.ArgumentParser | None] = None
    """The parser of the command that the words name so far."""

    def __init__(self, *given: Any, **more: Any) -> None:
        super().__init__(*given, **{"allow_abbrev": False} | more)  # a new option must not change what a script says
        for kind in (None, "store"):
            self.register("action", kind, Once)

    def parse_args(self, args: Any = None, namespace: Any = None) -> Any:
        """As the standard's, with a proposal for what it does not know."""
        made, unknown = self.parse_known_args(args, namespace)
        if unknown:
            command = Parser.deepest or self
            command.error(_unknown(command, unknown[0]))
        return made

    def parse_known_args(self, args: Any = None, namespace: Any = None) -> Any:
        Parser.deepest = self
        return super().parse_known_args(args, namespace)

    def error(self, message: str) -> NoReturn:
        if Parser.as_json:
            whole = message if message[-1:] in ".?" else f"{message}."
            print(error_as_json("usage", whole, f"See: {self.prog} --help", USAGE), file=sys.stderr)
        else:
            print(f"ladle: {message}\nSee: {self.prog} --help", file=sys.stderr)
        sys.exit(USAGE)

    def _check_value(self, action: argparse.Action, value: Any) -> None:
        if action.choices is None or value in action.choices:
            return
        known = [str(each) for each in action.choices]
        if isinstance(action, argparse._SubParsersAction):
            self.error(_wrong_command(self, str(value), action.choices))
        close = close_to(str(value), known)
        meant = f" Did you mean '{close}'?" if close else ""
        self.error(f"{_name_of(action)} was given '{value}'.{meant} Choose from: {', '.join(known)}.")

    def _get_value(self, action: argparse.Action, arg_string: str) -> Any:
        try:
            return super()._get_value(action, arg_string)
        except argparse.ArgumentError:
            if action.type is not int:
                raise
            self.error(f"{_name_of(action)} was given '{arg_string}', which is not a whole number.")


def _name_of(argument: argparse.Action) -> str:
    """As one types it, or as the help names its place."""
    return argument.option_strings[-1] if argument.option_strings else str(argument.metavar or argument.dest).upper()


def _wrong_command(parser: argparse.ArgumentParser, given: str, choices: Mapping[str, Any]) -> str:
    """For a noun, or a verb of one."""
    words = parser.prog.split()
    if len(words) == 1:
        singular = given.removesuffix("s")
        if given in VERBS or given in COMMANDS or singular in COMMANDS:
            meant = COMMANDS.get(given) or COMMANDS.get(singular) or ""
        else:
            meant = singular if singular in choices else ""
        meant = meant or next((f"{noun} {given}" for noun, made in choices.items() if given in verbs_of(made)), "")
        meant = meant or close_to(given, choices)
        hint = f" Did you mean 'ladle {meant}'?" if meant else f" There is: {', '.join(choices)}."
        return f"'{given}' is not a command.{hint}"
    noun = words[-1]
    meant = ELSEWHERE.get(f"{noun}-{given}", "")
    if not meant:
        verb = next((verb for verb in VERBS.get(given, ()) if verb in choices), "") or close_to(given, choices)
        alone = COMMANDS.get(given, "")
        meant = f"{noun} {verb}" if verb else alone if alone.startswith(f"{noun} ") else ""
    hint = f" Did you mean 'ladle {meant}'?" if meant else f" There is: {', '.join(choices)}."
    return f"'{given}' is not a command of 'ladle {noun}'.{hint}"


def verbs_of(parser: argparse.ArgumentParser) -> Mapping[str, argparse.ArgumentParser]:
    """The verbs of a noun; none for a command without any."""
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            return action.choices
    return {}


def _unknown(parser: argparse.ArgumentParser, word: str) -> str:
    """An option that the command has not, or a word too many."""
    known = [option for action in parser._actions for option in action.option_strings if option.startswith("--")]
    name, equals, _ = word.partition("=")
    if not word.startswith("-"):
        return f"'{word}' is a word too many."
    places = [_name_of(action) for action in parser._actions if not action.option_strings]
    meant = next((each for each in OPTIONS.get(name, ()) if each in known or each in places), "") or close_to(name, known)
    if meant in places:
        return f"'{name}' is not an option: give {meant} as a word, without an option."
    hint = f" Did you mean '{meant}{equals and '='}'?" if meant else f" There is: {', '.join(known)}."
    return f"'{name}' is not an option of '{parser.prog}'.{hint}"
