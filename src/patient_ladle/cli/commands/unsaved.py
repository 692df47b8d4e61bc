"""What is previewed or run without being saved: a statement from a file, from standard input, or typed as an option."""

from __future__ import annotations

import argparse
import json
import re
import sys
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from patient_ladle.client import Ladle
from patient_ladle.client.errors import ClientError

from . import environment_of, pairs, parted_values

_LOOKS = (
    ("integer", r"[+-]?\d+"),
    ("decimal", r"[+-]?\d+\.\d+"),
    ("date", r"\d{4}-\d\d-\d\d"),
    ("boolean", "true|false"),
)
"""Type to what a value of it looks like; the first that fits is taken."""


@dataclass(frozen=True, slots=True)
class Asked:
    """A statement with what it is given; ``stem``: of the file's name, empty where it came from none."""

    source: str
    statement: str
    parameters: Sequence[Mapping[str, Any]]
    values: Mapping[str, Any]
    stem: str = ""


def add_text_options(verb: argparse.ArgumentParser) -> None:
    """Options that give a statement instead of the name of an extract."""
    verb.add_argument("--statement", metavar="FILE", help="a statement that is not saved, from a file; - for standard input")
    verb.add_argument("--text", metavar="TEXT", help="the same, typed here")
    verb.add_argument("--outline", metavar="FILE", help="JSON of an outline that the statement is put together from, instead")
    verb.add_argument("--source", help="what that statement reads; '' for one that reads nothing")
    add_inputs_option(verb)
    verb.add_argument("--steps", metavar="FILE", help="JSON or TOML of steps on its result; none for none")
    verb.add_argument(
        "--parameters", metavar="FILE", help="JSON list of its parameters; default: those that --set names, typed by their look"
    )


def add_inputs_option(verb: argparse._ActionsContainer) -> None:
    """Of a combination."""
    verb.add_argument(
        "--inputs", metavar="FILE",
        help="JSON or TOML of the inputs that the statement combines, without a source: results of extracts, and lookups;"
        " none for none",
    )  # fmt: skip


def saved_or_asked(args: argparse.Namespace, ladle: Ladle, name: str | None) -> Asked | None:
    """What was given to be read; None: it is the extract of that name. Raises ClientError."""
    text = "" if args.outline else _text(args)
    others = [option for option, given in _ONLY_OF_TEXTS.items() if getattr(args, given, None) is not None]
    if name and (text is not None or others):
        of_text = "--text" if args.text is not None else "--statement"
        given = "--outline" if args.outline else of_text if text is not None else others[0]
        raise ClientError(f"the extract '{name}' and {given} do not go together.", "Give one of them.")
    if name:
        return None
    if text is None:
        raise ClientError(
            "nothing to run was given.", "Give the name of an extract, or a statement: --statement FILE --source NAME."
        )
    if args.source is None and args.inputs is not None:
        args.source = ""
    if args.source is None:
        known = ", ".join(each["name"] for each in ladle.sources.list())
        raise ClientError("it is not said what the statement reads.", f"Give --source with one of: {known}.")
    values = pairs(args.set, "--set")
    if args.outline:
        return _outlined(args, ladle, values)
    parameters = read_parameters(args.parameters) if args.parameters else [_by_look(*each) for each in values.items()]
    stem = Path(args.statement).stem if args.statement and args.statement != "-" else ""
    return Asked(args.source, text, parameters, parted_values(values, parameters), stem)


def _outlined(args: argparse.Namespace, ladle: Ladle, values: Mapping[str, Any]) -> Asked:
    """What an outline compiles to. Raises ClientError with its first error."""
    if args.statement is not None or args.text is not None:
        raise ClientError("--outline and a statement do not go together.", "Give one of them.")
    environment = environment_of(ladle, args.env)
    declared = read_parameters(args.parameters) if args.parameters else []
    made = ladle.outlines.compile(args.source, environment, read_outline(args.outline), declared)
    remarked([each for each in made["remarks"] if each["severity"] != "error"])
    for each in made["remarks"]:
        if each["severity"] == "error":
            raise ClientError(f"the outline: {each['part']}: {each['message']}", each["hint"])
    stem = Path(args.outline).stem if args.outline != "-" else ""
    return Asked(args.source, made["statement"], made["parameters"], parted_values(values, made["parameters"]), stem)


def read_outline(path: str) -> dict[str, Any]:
    """An outline from a file of JSON; - for standard input. Raises ClientError."""
    hint = 'Write {"outline": 1, "from": {"table": "meters"}}, or begin with: ladle outline start SOURCE TABLE'
    if path == "-":
        try:
            found = json.loads(sys.stdin.read())
        except ValueError as error:
            raise ClientError(f"standard input is not JSON: {error}.", hint) from None
    else:
        found = _json_in(path, hint)
    if not isinstance(found, dict):
        raise ClientError(f"{path} holds no outline.", hint)
    return found


def read_steps(path: str) -> list[dict[str, Any]]:
    """Steps from a file of JSON or TOML; - for standard input; ``none``: none. Raises ClientError."""
    hint = 'Write {"steps": [{"step": "filter", "where": "litres > 0"}]}'
    return _listed_in(path, "steps", f"{hint}, or the same as TOML; see ladle extract steps --schema.")


def read_inputs(path: str) -> list[dict[str, Any]]:
    """Inputs of a combination, in the same way. Raises ClientError."""
    hint = 'Write {"inputs": [{"name": "meters", "extract": "meters_by_district"}]}'
    return _listed_in(path, "inputs", f"{hint}, or the same as TOML; see ladle extract inputs --schema.")


def _listed_in(path: str, what: str, hint: str) -> list[dict[str, Any]]:
    if path == "none":
        return []
    text = sys.stdin.read() if path == "-" else Path(path).read_text(encoding="utf-8")
    try:
        found = tomllib.loads(text) if path.endswith(".toml") else json.loads(text)
    except (ValueError, tomllib.TOMLDecodeError) as error:
        kind = "TOML" if path.endswith(".toml") else "JSON"
        raise ClientError(f"{path} is not {kind}: {error}.", hint) from None
    listed = found.get(what) if isinstance(found, dict) else found
    if not isinstance(listed, list):
        raise ClientError(f"{path} holds no list of {what}.", hint)
    return json.loads(json.dumps(listed, default=str))  # type: ignore[no-any-return]  # days of TOML as their texts


def remarked(remarks: Sequence[Mapping[str, Any]]) -> None:
    """Remarks on an outline, each at its part, on standard error."""
    for each in remarks:
        at = f" at {each['part']}" if each["part"] else ""
        print(f"{each['severity']}{at}: {each['message']} {each['hint']}".rstrip(), file=sys.stderr)


_ONLY_OF_TEXTS = {"--source": "source", "--inputs": "inputs", "--parameters": "parameters", "--file-name": "file_name"}


def _text(args: argparse.Namespace) -> str | None:
    if args.text is not None and args.statement is not None:
        raise ClientError("--text and --statement do not go together.", "Give one of them.")
    if args.statement is None:
        found: str | None = args.text
        return found
    return sys.stdin.read() if args.statement == "-" else Path(args.statement).read_text(encoding="utf-8")


def read_parameters(path: str) -> list[dict[str, Any]]:
    """Declarations from a file of JSON. Raises ClientError."""
    hint = 'Write a list: [{"name": "since", "type": "date"}]'
    found = _json_in(path, hint)
    if not isinstance(found, list) or not all(isinstance(each, dict) for each in found):
        raise ClientError(f"{path} holds no list of declarations.", hint)
    return found


def _json_in(path: str, hint: str) -> Any:
    try:
        return json.loads(Path(path).read_text(encoding="utf-8"))
    except ValueError as error:
        raise ClientError(f"{path} is not JSON: {error}.", hint) from None


def _by_look(name: str, value: Any) -> dict[str, Any]:
    given = value if isinstance(value, list) else [value]
    kinds = (kind for kind, look in _LOOKS if all(re.fullmatch(look, each) for each in given))
    return {"name": name, "type": next(kinds, "text"), "is_list": isinstance(value, list)}


def output_of(args: argparse.Namespace) -> dict[str, Any] | None:
    """The settings of the file given, with single options put into them; None where none was given. Raises ClientError."""
    made: dict[str, Any] | None = None
    if args.output:
        hint = 'Write {"formats": {"csv": {"delimiter": ";"}}}'
        made = _json_in(args.output, hint)
        if not isinstance(made, dict):
            raise ClientError(f"{args.output} holds no object of settings.", hint)
    for word, value in pairs(args.option, "--option").items():
        form, dot, name = word.partition(".")
        if not dot:
            hint = "Write --option csv.delimiter=semicolon; see ladle format show csv."
            raise ClientError(f"--option was given '{word}'.", hint)
        made = made or {}
        of_all = form in ("files", "documents")
        place = made.setdefault(form, {}) if of_all else made.setdefault("formats", {}).setdefault(form, {})
        place[name] = value
    return made


def add_output_options(verb: argparse._ActionsContainer) -> None:
    """Options of how files are written."""
    verb.add_argument("--output", metavar="FILE", help="JSON of output settings: formats, columns, files, documents")
    verb.add_argument(
        "--option", action="append", metavar="FORMAT.NAME=VALUE",
        help="one option, such as csv.delimiter=semicolon, files.compression=gzip or documents.depth=0",
    )  # fmt: skip
