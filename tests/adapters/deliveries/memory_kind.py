"""A second kind of target, which shares nothing with folders: a shelf in memory, written as ``shelf:name``."""

from __future__ import annotations

from patient_ladle.adapters.deliveries import TargetKind
from patient_ladle.core.errors import BadInput, NameTaken, StoreUnwritable
from patient_ladle.core.runs.memory import MemoryDelivery


class ShelfDelivery(MemoryDelivery):
    kind = "shelf"

    def __init__(self, shelves, mark, opened):
        super().__init__(mark, opened, shelves.prepared, shelves.seen)
        self.shelves = shelves

    def prepare(self, targets, names, manner, descriptor, known=None):
        self.shelves.refuse_away(targets)
        for place in (f"{target}/{name}" for target in targets for _, name in names):
            if place in self.delivered and manner.get("if_exists") == "fail":
                raise NameTaken(f"'{place}' is there already.", "Take it away.")
        return super().prepare(targets, names, manner, descriptor)

    def commit(self, plan):
        self.shelves.commit(plan)


class Shelves(TargetKind):
    name, prefix = "shelf", "shelf:"

    def __init__(self):
        self.prepared, self.seen, self.away = {}, {}, set()

    def refuse_away(self, targets):
        if self.away & {*targets}:
            raise StoreUnwritable(f"'{min(self.away)}' is away.", "Bring it back.")

    def targets(self, wanted, roots):
        for name in wanted:
            if not name.removeprefix(self.prefix).isidentifier():
                raise BadInput(f"'{name}' is not a shelf.", "Name one: shelf:regulator.")
        return tuple(wanted)

    def begin(self, mark, opened):
        return ShelfDelivery(self, mark, opened)

    def commit(self, plan, resumed=False, done=()):
        self.refuse_away(plan.targets)
        left = [(kept, place) for kept, place, _ in plan.moves if place not in done]
        lost = [kept for kept, place in left if kept not in self.prepared and not (resumed or place in self.seen)]
        if lost:
            raise StoreUnwritable(f"what was prepared as '{lost[0]}' is not there any more.", "Deliver it again.")
        taken = [place for kept, place in left if kept not in self.prepared and place not in self.seen]
        self.seen.update({place: self.prepared.pop(kept) for kept, place in left if kept in self.prepared})
        return taken

    def sweep(self, plan):
        for kept, _, _ in plan.moves:
            self.prepared.pop(kept, None)

    def clear(self, target, is_over):
        if target in self.away:
            return False
        for kept in list(self.prepared):
            if kept.startswith(f"{target}/") and is_over(*map(int, kept.rpartition(".")[2].split("-"))):
                del self.prepared[kept]
        return True

    def place(self, target, name):
        return f"{target}/{name}"

    def stands(self, place):
        return place in self.seen

    def open_places(self, plan):
        return [place for kept, place, _ in plan.moves if kept in self.prepared]

    def check(self, target, known=""):
        return f"'{target}' is away. Bring it back." if target in self.away else ""

    def learned(self, plan):
        return dict.fromkeys(plan.targets, "seen before")
