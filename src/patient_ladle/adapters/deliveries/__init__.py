"""The family of targets: where proven results are delivered to.

To add one: copy ``folder.py``, change it, add one line to ``KINDS`` below and its case to
``tests/adapters/deliveries/cases.py``. Members do not know each other.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import BinaryIO

from patient_ladle.core.errors import BadInput, unknown_name
from patient_ladle.core.ports import Delivery
from patient_ladle.words import listed

from .base import IsOver, TargetKind, mark_of
from .folder import FolderKind

KINDS: dict[str, TargetKind] = {member.name: member for member in (FolderKind(),)}


def kind_named(name: str) -> TargetKind:
    """The kind of that name, as plans have it. Raises UnknownName."""
    if name not in KINDS:
        raise unknown_name("kind of target", name, KINDS)
    return KINDS[name]


def kind_of(target: str) -> TargetKind:
    """The kind that a target is of."""
    plain = next(kind for kind in KINDS.values() if not kind.prefix)
    return next((kind for kind in KINDS.values() if kind.prefix and target.startswith(kind.prefix)), plain)


def delivery_targets(roots: Sequence[Path], wanted: str) -> tuple[str, ...]:
    """The targets of a delivery in the form that is recorded, each once. Raises BadInput, also for targets of two kinds: one
    delivery is all or nothing, and no two kinds can promise that together."""
    named = [name for name in listed(wanted) if name]
    kinds = {kind_of(name).name: name for name in named}
    if len(kinds) > 1:
        raise BadInput(
            f"one delivery cannot go to targets of two kinds: {' and '.join(repr(name) for name in kinds.values())}.",
            "Let two extracts, or two schedules, deliver them.",
        )
    return tuple(dict.fromkeys(kind_of(named[0]).targets(named, roots))) if named else ()


def begun(targets: Sequence[str], mark: str, opened: Callable[[str], BinaryIO]) -> Delivery | None:
    """A try to deliver to these targets, all of one kind; None where there are none."""
    return kind_of(targets[0]).begin(mark, opened) if targets else None


def in_words(targets: Sequence[str]) -> str:
    """Where a delivery goes."""
    return kind_of(targets[0]).describe(targets) if targets else "nowhere"


__all__ = ["KINDS", "IsOver", "TargetKind", "begun", "delivery_targets", "in_words", "kind_named", "kind_of", "mark_of"]
