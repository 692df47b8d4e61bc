"""Delivery into folders of a file system, local or mounted: prepared beside the delivered names, then renamed.

Nothing is renamed before everything is prepared in every folder. A reader of a name therefore finds the whole file or the
one before it, never a part.
"""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any, BinaryIO

from patient_ladle.adapters.disk import PART, DiskFile, as_json, make_folders, sync_folder, writing, written
from patient_ladle.core.errors import BadInput, DiskFull, Fenced, NameTaken, StoreUnwritable
from patient_ladle.core.ports import DeliveryPlan

SEPARATOR = ";"
"""Between folders where several are named."""


MOST_BYTES = 200
"""Of one folder's name."""
_DEVICES = {"con", "prn", "aux", "nul", *(f"{kind}{number}" for kind in ("com", "lpt") for number in range(1, 10))}


def folders_named(wanted: str) -> list[str]:
    """Each folder of a text that names one or several."""
    return list(dict.fromkeys(name for name in map(str.strip, wanted.split(SEPARATOR)) if name))


def delivery_folders(roots: Sequence[Path], wanted: str) -> tuple[str, ...]:
    """The absolute folders of a delivery: relative ones lie below the first root. Raises BadInput outside the roots."""
    return tuple(dict.fromkeys(_folder(roots, name) for name in folders_named(wanted)))


def _folder(roots: Sequence[Path], wanted: str) -> str:
    for part in Path(wanted).parts:
        stem = part.partition(".")[0].strip().lower()
        if not part.isprintable() or "\\" in part or stem in _DEVICES or len(part.encode()) > MOST_BYTES:
            raise BadInput(
                f"{part[:60]!r} cannot be a folder of a delivery: other systems could not enter it, or take it for a device.",
                "Use letters, digits, spaces, dots and dashes, in parts of at most 200 bytes.",
            )
    path = Path(os.path.normpath(roots[0] / wanted))
    real = Path(os.path.realpath(path))
    if not any(real == root or real.is_relative_to(root) for root in (Path(os.path.realpath(r)) for r in roots)):
        raise BadInput(
            f"'{wanted}' is outside the delivery folders of this service.",
            f"Choose a folder below {', '.join(str(root) for root in roots)}.",
        )
    return str(path)


class Delivery:
    """One attempt's delivery, from whatever store: what was prepared is remembered until it is delivered or swept."""

    def __init__(self, mark: str, opened: Callable[[str], BinaryIO]) -> None:
        """``mark``: unique to the attempt; ``opened``: gives a stored file."""
        self.mark, self.opened = mark, opened
        self.prepared: list[tuple[str, str, str]] = []

    def prepare(
        self,
        folders: Sequence[str],
        names: Sequence[tuple[str, str]],
        manner: Mapping[str, Any],
        descriptor: Callable[[Mapping[str, str]], Any],
    ) -> DeliveryPlan:
        """See ResultFolder.prepare_delivery."""
        targets, existing = [Path(folder) for folder in folders], manner.get("existing", "replace")
        for target in targets:
            with writing(target):
                make_folders(target)
        chosen = _free_names(targets, names, existing)
        self._mind_space(targets, [stored for stored, _ in names[:-1]])
        described = as_json(descriptor(dict(chosen[:-1])))
        moves = []
        for target in targets:
            parts = [target / f".{delivered}.{self.mark}{PART}" for _, delivered in chosen]
            self.prepared += [(str(part), str(target / name), "") for part, (_, name) in zip(parts, chosen, strict=True)]
            sums = [self._copied(stored, part) for part, (stored, _) in zip(parts[:-1], chosen[:-1], strict=True)]
            sums.append(written(parts[-1], described))
            for part, (_, name), digest in zip(parts, chosen, sums, strict=True):
                _hand_over(part, manner)
                moves.append((str(part), str(target / name), digest))
        return DeliveryPlan(tuple(folders), tuple(moves), existing == "replace", tuple(names))

    def drop(self) -> None:
        """Remove what was prepared and will not be delivered."""
        sweep(self.prepared)

    def _mind_space(self, targets: Sequence[Path], stored: Sequence[str]) -> None:
        size = sum(_size(self.opened(name)) for name in stored)
        need: dict[int, int] = {}
        for target in targets:
            with writing(target):
                disk, free = os.stat(target).st_dev, shutil.disk_usage(target).free
            need[disk] = need.get(disk, 0) + size
            if need[disk] > free:
                raise DiskFull(
                    f"the delivery needs {need[disk] / 1e6:,.1f} MB, and '{target}' has {free / 1e6:,.1f} MB left.",
                    "Free some space there, then start the run again.",
                )

    def _copied(self, stored: str, part: Path) -> str:
        digest = hashlib.sha256()
        file = DiskFile(part)
        with self.opened(stored) as read:
            while chunk := read.read(1 << 20):
                digest.update(chunk)
                file.write(chunk)
        file.settle()
        return digest.hexdigest()


def _size(file: BinaryIO) -> int:
    with file:
        return file.seek(0, os.SEEK_END)


def _free_names(targets: Sequence[Path], names: Sequence[tuple[str, str]], existing: str) -> list[tuple[str, str]]:
    """The names to deliver under: as wished, or all of a run numbered alike. Raises NameTaken."""
    if existing == "replace":
        return list(names)
    number = 1
    while True:
        chosen = [(stored, name if number == 1 else _numbered(name, number)) for stored, name in names]
        places = (target / name for target in targets for _, name in chosen)
        taken = next((place for place in places if os.path.lexists(place)), None)
        if taken is None:
            return chosen
        if existing == "refuse":
            raise name_taken(taken)
        number += 1


def _numbered(name: str, number: int) -> str:
    stem, dot, ending = name.partition(".")
    return f"{stem} ({number}){dot}{ending}"


def name_taken(path: Path) -> NameTaken:
    """The error for a delivered name at which a file stands already."""
    return NameTaken(
        f"'{path}' is there already, and this output does not replace files.",
        "Move that file away, give the output a name with data_date or run in it, or let it number or replace files.",
    )


def _hand_over(part: Path, manner: Mapping[str, Any]) -> None:
    """Mode and group of a file about to be delivered."""
    with writing(part):
        if manner.get("group"):
            try:
                shutil.chown(part, group=manner["group"])
            except (LookupError, PermissionError) as error:
                raise StoreUnwritable(
                    f"the file cannot be given to the group '{manner['group']}': {error}.",
                    "Name a group of this host that the service's account is a member of.",
                ) from error
        os.chmod(part, int(str(manner.get("mode", "0644")), 8))


def _digest(path: Path) -> str:
    with open(path, "rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _unlink(path: Path) -> None:
    try:
        path.unlink(missing_ok=True)
    except OSError:
        return


def sweep(moves: Sequence[Sequence[str]]) -> None:
    """Remove prepared files that will never be delivered."""
    for part, _, _ in moves:
        _unlink(Path(part))


def _put_where_nothing_is(part: str, final: str, sha256: str) -> None:
    """Raises NameTaken where another file stands; an earlier try's own file is left as it is."""
    try:
        os.link(part, final)
    except FileExistsError:
        if _digest(Path(final)) != sha256:
            raise name_taken(Path(final)) from None
    os.unlink(part)


def deliver(plan: DeliveryPlan) -> None:
    """Rename prepared files to their delivered names, the descriptor last; rolls on where an earlier try stopped.

    Raises Fenced where neither the prepared nor the delivered file is the one that was planned.
    """
    linked: list[str] = []
    for part, final, sha256 in plan.moves:
        with writing(Path(final)):
            try:
                if plan.replaces:
                    os.rename(part, final)
                else:
                    _put_where_nothing_is(part, final, sha256)
                    linked.append(final)
            except FileNotFoundError:
                if not Path(final).is_file() or _digest(Path(final)) != sha256:
                    raise Fenced(
                        f"'{final}' is no longer this attempt's to deliver.", "Look at the run's later attempt."
                    ) from None
            except NameTaken:
                for mine in linked:
                    _unlink(Path(mine))
                raise
    for folder in plan.folders:
        with writing(Path(folder)):
            sync_folder(Path(folder))
