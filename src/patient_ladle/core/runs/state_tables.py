"""States as a table: what may become what, by which event, what each move sets, and which fields go with each state.

One function moves a row, so that nothing gets into a state without what belongs to it; a database can be given the same rules.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from ..errors import Conflict


@dataclass(frozen=True, slots=True)
class Fields:
    """What holds of the other fields of a row in a state: ``filled`` ones have a value, ``empty`` ones have none."""

    filled: tuple[str, ...] = ()
    empty: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Move:
    """By ``event``, rows in a state of ``before`` get into ``after``. ``needs`` are fields that are given with the event,
    ``resets`` those that get the same value each time."""

    event: str
    before: tuple[str, ...]
    after: str
    needs: tuple[str, ...] = ()
    resets: Mapping[str, Any] = field(default_factory=dict)


class StateTable:
    """All states and moves of one field of one kind of row."""

    def __init__(
        self, kind: str, field: str, first: Sequence[str], states: Mapping[str, Fields], moves: Sequence[Move]
    ) -> None:
        """``kind``: of the rows, for messages; ``first``: states that a new row may be in."""
        self.kind, self.field, self.first, self.states = kind, field, tuple(first), states
        self.moves = {(before, move.event): move for move in moves for before in move.before}
        self.events = tuple(dict.fromkeys(move.event for move in moves))

    def may(self, row: Any, event: str) -> bool:
        """Whether the event is possible in the row's state."""
        return (getattr(row, self.field), event) in self.moves

    def move(self, row: Any, event: str, **given: Any) -> tuple[str, ...]:
        """Change the row by the event; returns the fields that were set. The caller holds its lock, and saves it.

        Raises Conflict where the event is not possible in the row's state; the row is as it was then.
        """
        state = getattr(row, self.field)
        found = self.moves.get((state, event))
        if found is None:
            possible = [name for name in self.events if (state, name) in self.moves]
            raise Conflict(
                f"{self.kind} {getattr(row, 'pk', '')} is {state or 'not begun'}: '{event}' is not possible.",
                f"Possible is: {', '.join(possible)}." if possible else "That is its last state.",
            )
        if missing := set(found.needs) - given.keys():
            raise TypeError(f"'{event}' of a {self.kind} needs {', '.join(sorted(missing))}")
        changed = {self.field: found.after, **found.resets, **given}
        for name, value in changed.items():
            setattr(row, name, value)
        return tuple(changed)

    def faults(self, row: Any) -> list[str]:
        """What of the row does not go with its state, in words."""
        state = getattr(row, self.field)
        if state not in self.states:
            return [f"'{state}' is not a state of a {self.kind}"]
        rules = self.states[state]
        lacking = [f"{name} is empty" for name in rules.filled if getattr(row, name) is None]
        return lacking + [f"{name} is filled" for name in rules.empty if getattr(row, name) is not None]
