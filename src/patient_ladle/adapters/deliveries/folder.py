"""Delivery into folders of a file system, local or mounted: prepared beside the delivered names, then renamed.

Nothing is renamed before everything is prepared in every folder. A reader of a name therefore finds the whole file or the
one before it, never a part.
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import os
import re
import shutil
from collections.abc import Callable, Collection, Mapping, Sequence
from pathlib import Path
from typing import Any, BinaryIO, ClassVar

from patient_ladle.adapters.disk import PART, DiskFile, as_json, make_folders, sync_folder, writing, written
from patient_ladle.core.errors import BadInput, DiskFull, LadleError, NameTaken, StoreUnwritable
from patient_ladle.core.ports import NOTHING_KNOWN, DeliveryPlan

from .base import IsOver, TargetKind

EARLIER = ".earlier"
"""Ending of the temporary second name of a file that is about to give way."""

MOST_BYTES = 200
"""Of one folder's name."""
_DEVICES = {"con", "prn", "aux", "nul", *(f"{kind}{number}" for kind in ("com", "lpt") for number in range(1, 10))}


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


def mount_of(path: Path) -> str:
    """The mount point that a path lies below, or is."""
    return str(next(each for each in (path, *path.parents) if os.path.ismount(each)))


def _refuse_unmounted(target: Path, before: str) -> None:
    """A folder that was on a share is not made on the disk below it. Raises StoreUnwritable."""
    if before and mount_of(target) != before and not os.path.ismount(before):
        raise StoreUnwritable(
            f"'{before}' is not mounted, and '{target}' was on it when something was delivered there before.",
            "Mount it. If that folder is to lie on this disk from now on, deliver into another name.",
        )


class FolderKind(TargetKind):
    """See TargetKind. A target is an absolute folder; of a plan, ``moves`` are (prepared path, delivered path, sha256),
    ``own`` says whether files at delivered names give way (``replaces``), and what each folder lay below (``mounts``), and
    which had gone since the last delivery (``anew``)."""

    name = "folder"

    def targets(self, wanted: Sequence[str], roots: Sequence[Path]) -> tuple[str, ...]:
        """Relative folders lie below the first root; none may lie outside the roots."""
        return tuple(_folder(roots, name) for name in wanted)

    def begin(self, mark: str, opened: Callable[[str], BinaryIO]) -> FolderDelivery:
        return FolderDelivery(mark, opened)

    def commit(self, plan: DeliveryPlan, resumed: bool = False, done: Collection[str] = ()) -> list[str]:
        return _renamed(plan, resumed, done)

    def sweep(self, plan: DeliveryPlan) -> None:
        _sweep(plan.moves)

    def clear(self, target: str, is_over: IsOver) -> bool:
        try:
            names = [each.name for each in os.scandir(target) if each.name.startswith(".")]
        except OSError:
            return False
        for name in names:
            found = _MARKED.search(name)
            if found and is_over(*map(int, found.groups())):
                _unlink(Path(target, name))
        return True

    def place(self, target: str, name: str) -> str:
        return f"{target}/{name}"

    def stands(self, place: str) -> bool:
        return os.path.lexists(place)

    def open_places(self, plan: DeliveryPlan) -> list[str]:
        return [final for part, final, _ in plan.moves if os.path.lexists(part)]

    def check(self, target: str, known: str = "") -> str:
        """``known``: the mount point that it lay below."""
        path = Path(target)
        try:
            _refuse_unmounted(path, known)
        except StoreUnwritable as error:
            return error.in_words()
        there = next(each for each in (path, *path.parents) if os.path.lexists(each))
        if not there.is_dir():
            return f"'{there}' is not a folder. Move that file away, or deliver into another folder."
        if not os.access(there, os.W_OK | os.X_OK):
            return f"the service's account may not write into '{there}'. Let it, or deliver into another folder."
        return ""

    def remarks(self, plan: DeliveryPlan) -> list[str]:
        words = "was not there any more though something had been delivered into it: it was made anew. Was it renamed or moved?"
        return [f"the folder '{folder}' {words}" for folder in plan.own.get("anew", [])]

    def learned(self, plan: DeliveryPlan) -> Mapping[str, str]:
        return dict(plan.own["mounts"])


class FolderDelivery:
    """See Delivery: what was prepared is remembered until it is delivered or swept."""

    kind: ClassVar[str] = FolderKind.name

    def __init__(self, mark: str, opened: Callable[[str], BinaryIO]) -> None:
        self.mark, self.opened = mark, opened
        self.prepared: list[tuple[str, str, str]] = []

    def prepare(
        self,
        targets: Sequence[str],
        names: Sequence[tuple[str, str]],
        manner: Mapping[str, Any],
        descriptor: Callable[[Mapping[str, str]], Any],
        known: Mapping[str, str] = NOTHING_KNOWN,
    ) -> DeliveryPlan:
        """``known``: mount points of folders as they were when something was delivered there before."""
        folders, if_exists = [Path(target) for target in targets], manner.get("if_exists", "overwrite")
        for folder in folders:
            _refuse_unmounted(folder, known.get(str(folder), ""))
        anew = [str(folder) for folder in folders if known.get(str(folder)) and not folder.is_dir()]
        for folder in folders:
            with writing(folder):
                make_folders(folder)
        mounts = {str(folder): mount_of(folder) for folder in folders}
        own = {"replaces": if_exists == "overwrite", "mounts": mounts, **({"anew": anew} if anew else {})}
        chosen = _free_names(folders, names, if_exists)
        self._mind_space(folders, [stored for stored, _ in names[:-1]])
        described = as_json(descriptor(dict(chosen[:-1])))
        moves = []
        for folder in folders:
            parts = [folder / f".{delivered}.{self.mark}{PART}" for _, delivered in chosen]
            self.prepared += [(str(part), str(folder / name), "") for part, (_, name) in zip(parts, chosen, strict=True)]
            sums = [self._copied(stored, part) for part, (stored, _) in zip(parts[:-1], chosen[:-1], strict=True)]
            sums.append(written(parts[-1], described))
            for part, (_, name), digest in zip(parts, chosen, sums, strict=True):
                _hand_over(part, manner)
                moves.append((str(part), str(folder / name), digest))
        return DeliveryPlan(self.kind, tuple(targets), tuple(moves), tuple(names), own)

    def drop(self) -> None:
        _sweep(self.prepared)

    def commit(self, plan: DeliveryPlan) -> None:
        _renamed(plan)

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


def _free_names(targets: Sequence[Path], names: Sequence[tuple[str, str]], if_exists: str) -> list[tuple[str, str]]:
    """The names to deliver under: as wished, or all of a run numbered alike. Raises NameTaken."""
    if if_exists == "overwrite":
        return list(names)
    number = 1
    while True:
        chosen = [(stored, name if number == 1 else _numbered(name, number)) for stored, name in names]
        places = (target / name for target in targets for _, name in chosen)
        taken = next((place for place in places if os.path.lexists(place)), None)
        if taken is None:
            return chosen
        if if_exists == "fail":
            raise name_taken(taken)
        number += 1


def _numbered(name: str, number: int) -> str:
    stem, dot, extension = name.partition(".")
    return f"{stem} ({number}){dot}{extension}"


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


def _sweep(moves: Sequence[Sequence[str]]) -> None:
    for part, _, _ in moves:
        _unlink(Path(part))


_MARKED = re.compile(rf"\.([0-9]+)-([0-9]+)-([0-9]+)(?:{re.escape(PART)}|{re.escape(EARLIER)})$")


def _renamed(plan: DeliveryPlan, resumed: bool = False, done: Collection[str] = ()) -> list[str]:
    """Rename prepared files to their delivered names, the descriptor last: all of them or none. See TargetKind.commit.

    All folders are looked at before the first rename, and what was renamed before a fault is put back.
    """
    replaces = bool(plan.own["replaces"])
    _sweep([move for move in plan.moves if move[1] in done])
    taken, left = _looked_at(plan, resumed, done)
    renamed: list[tuple[str, str, bool | None]] = []
    try:
        for part, final, sha256 in left:
            with writing(Path(final)):
                earlier = _keep_earlier(part, final) if replaces else None
                if replaces:
                    os.rename(part, final)
                else:
                    _put_where_nothing_is(part, final, sha256)
                renamed.append((part, final, earlier))
        for folder in plan.targets:
            with writing(Path(folder)):
                sync_folder(Path(folder))
    except LadleError as error:
        for part, final, earlier in reversed(renamed):
            with contextlib.suppress(OSError):
                _put_back(part, final, earlier)
        stands = [final for part, final, _ in renamed if not os.path.lexists(part)]
        error.facts = {**error.facts, "delivered": [*taken, *stands]}
        raise
    finally:
        for part, _, _ in plan.moves:
            _unlink(_earlier_name(part))
    return taken


def _earlier_name(part: str) -> Path:
    return Path(part.removesuffix(PART) + EARLIER)


def _looked_at(plan: DeliveryPlan, resumed: bool, done: Collection[str]) -> tuple[list[str], list[tuple[str, str, str]]]:
    """Names whose files somebody has taken since an earlier try, and the moves that are left."""
    taken, left, replaces = [], [], bool(plan.own["replaces"])
    for part, final, sha256 in plan.moves:
        folder = Path(final).parent
        with writing(folder):
            os.stat(folder)
            if not os.access(folder, os.W_OK | os.X_OK):
                raise PermissionError(errno.EACCES, os.strerror(errno.EACCES))
            there = os.path.lexists(part)
            ours = (not there or not replaces) and os.path.isfile(final) and _digest(Path(final)) == sha256
        if os.path.isdir(final):
            raise StoreUnwritable(f"a folder stands at '{final}', where a file is to be delivered.", "Move that folder away.")
        if there and not replaces and os.path.lexists(final) and not ours:
            raise name_taken(Path(final))
        if there:
            left.append((part, final, sha256))
        elif not ours and not resumed and final not in done:
            raise StoreUnwritable(
                f"what was prepared as '{part}' is not there any more.", "Let nothing remove hidden files from that folder."
            )
        elif not ours:
            taken.append(final)
    return taken, left


def _keep_earlier(part: str, final: str) -> bool | None:
    """Keep what stands at the name until all is renamed: None where nothing does, False where it cannot be kept."""
    try:
        os.link(final, _earlier_name(part), follow_symlinks=False)
    except FileNotFoundError:
        return None
    except FileExistsError:
        return True  # an earlier try was lost just here
    except OSError:
        return False  # a file system without second names
    return True


def _put_back(part: str, final: str, earlier: bool | None) -> None:
    """The earlier file at its name again, unless somebody has taken the new one."""
    if earlier is False or not os.path.isfile(final):
        return
    if earlier is None:
        os.rename(final, part)
    else:
        os.link(final, part)
        os.rename(_earlier_name(part), final)


def _put_where_nothing_is(part: str, final: str, sha256: str) -> None:
    """Raises NameTaken where another file stands; an earlier try's own file is left as it is."""
    try:
        os.link(part, final)
    except FileExistsError:
        if _digest(Path(final)) != sha256:
            raise name_taken(Path(final)) from None
    os.unlink(part)
