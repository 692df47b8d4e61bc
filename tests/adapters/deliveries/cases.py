"""What the contract asks of each kind of target: where its targets are, and a look at them that goes past the kind."""

from __future__ import annotations

import os
from contextlib import contextmanager
from pathlib import Path

from patient_ladle.adapters.deliveries import kind_named

from .memory_kind import Shelves


class Folders:
    def __init__(self, below):
        self.kind, self.roots, self.wrong = kind_named("folder"), [below], "../elsewhere"

    def wanted(self, name):
        return name

    def files(self, target, unseen=False):
        names = sorted(os.listdir(target)) if os.path.isdir(target) else []
        return {name: Path(target, name).read_bytes() for name in names if name.startswith(".") == unseen}

    def take(self, target, name):
        Path(target, name).unlink()

    @contextmanager
    def away(self, target):
        """A file stands where the folder was."""
        there, aside = os.path.isdir(target), f"{target}-aside"
        if there:
            os.rename(target, aside)
        Path(target).write_text("in the way")
        yield
        os.unlink(target)
        if there:
            os.rename(aside, target)


class OnShelves:
    def __init__(self, below):
        self.kind, self.roots, self.wrong = Shelves(), [], "shelf:a b"

    def wanted(self, name):
        return f"shelf:{name}"

    def files(self, target, unseen=False):
        there = self.kind.prepared if unseen else self.kind.seen
        return {place.rpartition("/")[2]: data for place, data in there.items() if place.startswith(f"{target}/")}

    def take(self, target, name):
        del self.kind.seen[f"{target}/{name}"]

    @contextmanager
    def away(self, target):
        self.kind.away.add(target)
        yield
        self.kind.away.discard(target)


CASES = {"folder": Folders, "shelf": OnShelves}
