"""What a command prints: a table or sentences for a person, JSON for a program."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any

from rich.cells import cell_len
from rich.console import Console
from rich.table import Table
from rich.text import Text

STATE_STYLE = {"failed": "bold red", "running": "cyan", "cancelled": "yellow", "missed": "yellow", "finished": "green"}


READABLE = 14
"""Letters to a line of a cell below which a column is not made narrower."""


def console(needed: int = 0) -> Console:
    """Standard output; as wide as the text when nobody watches, so that nothing is cut."""
    return Console(width=None if sys.stdout.isatty() else max(240, needed), highlight=False, soft_wrap=True)


def print_remarks(made: Mapping[str, Any]) -> None:
    """What a person should know of what was saved, on standard error."""
    for words in made.get("remarks") or ():
        print(f"note: {words}", file=sys.stderr)


def value_words(value: Any) -> str:
    """A parameter's value as everybody writes it."""
    if isinstance(value, list):
        return ", ".join(map(value_words, value)) or "none"
    if value is None:
        return "null"
    return str(value).lower() if isinstance(value, bool) else str(value)


def print_json(value: Any) -> None:
    """One JSON document."""
    print(json.dumps(value, indent=2, ensure_ascii=False))


def print_done(args: argparse.Namespace, did: str, kind: str, name: str | int) -> None:
    """That something was done to a thing and there is nothing more to show: ``did`` such as removed, revoked."""
    print_json({did: name, "kind": kind}) if args.json else print(f"{kind} {name} is {did}")


def print_table(headings: Sequence[str], rows: Iterable[Sequence[Any]], empty: str, needed: int = 0) -> None:
    """A table; numbers stand right, states in their colour; ``empty`` says what to do when there is nothing."""
    made = [list(row) for row in rows]
    if not made:
        print(empty)
        return
    table = Table(box=None, pad_edge=False, header_style="bold")
    for number, heading in enumerate(headings):
        right = all(isinstance(row[number], int) or row[number] in ("", None) for row in made)
        table.add_column(heading, justify="right" if right else "left", overflow="fold")
    for row in made:
        table.add_row(*[_cell(value) for value in row])
    console(needed).print(table)


def print_rows_of(columns: Sequence[str], rows: Iterable[Sequence[Any]], empty: str) -> None:
    """Rows of data: a table, or where so many columns cannot stand side by side, a line for each value, row by row."""
    given = [list(row) for row in rows]
    made = [[_cell(value) for value in row] for row in given]
    heads = [cell_len(name) for name in columns]
    widths = [max([head, *(row[place].cell_len for row in made)]) for place, head in enumerate(heads)]
    needed, least = (sum(each) + 2 * len(heads) for each in (widths, [min(width, READABLE) for width in widths]))
    if not made or least <= console(needed).width:
        print_table(columns, given, empty, needed)
        return
    for number, row in enumerate(made, 1):
        print(f"{'' if number == 1 else chr(10)}row {number:,}")
        for name, head, value in zip(columns, heads, row, strict=True):
            print(f"  {name}{' ' * (max(heads) - head)}  {value.plain}")


def _cell(value: Any) -> Text:
    if value is None:
        return Text("")
    if isinstance(value, int) and not isinstance(value, bool):
        return Text(f"{value:,}")
    return Text(str(value), style=STATE_STYLE.get(str(value), ""))


def bars(counts: Sequence[int | None]) -> list[str]:
    """A bar for each, the longest for the most."""
    most = max([count or 0 for count in counts] + [1])
    return ["█" * round(40 * (count or 0) / most) for count in counts]


def print_facts(facts: Sequence[tuple[str, Any]]) -> None:
    """Name and value, a line each; nulls are left out."""
    shown = [(name, value) for name, value in facts if value not in (None, "", [], {})]
    width = max((len(name) for name, _ in shown), default=0)
    for name, value in shown:
        lines = str(value).splitlines() or [""]
        print(f"{name:<{width}}  {lines[0]}")
        for line in lines[1:]:
            print(f"{'':<{width}}  {line}")


def moment(text: str | None) -> str:
    """A time in this machine's zone, to the second."""
    return datetime.fromisoformat(text).astimezone().strftime("%Y-%m-%d %H:%M:%S") if text else ""


def took(started: str | None, ended: str | None) -> str:
    """How long, in words short enough for a table."""
    if not started or not ended:
        return ""
    seconds = (datetime.fromisoformat(ended) - datetime.fromisoformat(started)).total_seconds()
    return f"{seconds:.1f} s" if seconds < 60 else f"{int(seconds // 60)} min {int(seconds % 60):02} s"


def confirmed(question: str, yes: bool) -> bool:
    """Ask before something is lost; a program says ``--yes``."""
    if yes:
        return True
    if not sys.stdin.isatty():
        print(f"{question} Say --yes to do it.", file=sys.stderr)
        return False
    return input(f"{question} [y/N] ").strip().lower() in ("y", "yes")


def place_of(address: Mapping[str, Any]) -> str:
    """Where an address leads; that there is one, to those who may not see it."""
    return address["place"] or "(shown to authors)"
