"""Result store and delivery in folders of a file system.

Both steps go the same way: a temporary name in the same folder, flush, fsync, rename, fsync of the folder. A reader of
a name therefore finds the whole file or the one before it, never a part.
"""

from __future__ import annotations

import errno
import hashlib
import io
import json
import os
import secrets
import shutil
import tempfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any, BinaryIO

from patient_ladle.adapters.kept_files import kept_once
from patient_ladle.core.engine import DESCRIPTOR
from patient_ladle.core.errors import BadInput, DiskFull, Fenced, LadleError, NameTaken, NotFound, StoreUnwritable
from patient_ladle.core.ports import DeliveryPlan

PART = ".part"
SETTLED_BYTES = 32 << 20
"""Written, after which the disk is asked to take it, while more is fetched."""
FILE_MODE = 0o644
"""Result files are for readers; a delivery folder's own mode says who may enter."""


def _translate(error: OSError, path: Path) -> LadleError:
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return DiskFull(f"no space is left in '{path}'.", "Free some space there, then start the run again.")
    reason = os.strerror(error.errno) if error.errno else str(error)
    return StoreUnwritable(f"'{path}' cannot be written: {reason}.", "Check that the folder exists and its rights.")


@contextmanager
def _writing(path: Path) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise _translate(error, path) from error


def _sync_folder(path: Path) -> None:
    descriptor = os.open(path, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


class _StoreFile:
    """A file whose every write speaks our errors."""

    def __init__(self, path: Path) -> None:
        self.path = path
        with _writing(path.parent):
            self.file = io.BufferedWriter(io.FileIO(path, "w"), 1 << 20)
        self.loose = 0

    def write(self, data: bytes) -> int:
        with self._or_drop():
            self.loose += len(data)
            if self.loose >= SETTLED_BYTES:  # little is left to wait for at the end
                self.loose = 0
                self.file.flush()
                os.fdatasync(self.file.fileno())
            return self.file.write(data)

    def flush(self) -> None:
        with self._or_drop():
            self.file.flush()

    def settle(self) -> None:
        """Everything to the disk, then closed."""
        with self._or_drop():
            self.file.flush()
            os.fsync(self.file.fileno())
            self.file.close()

    def drop(self) -> None:
        """Closed, whatever is still unwritten; a full disk may refuse even the last flush."""
        try:
            self.file.close()
        except OSError:
            self.file.raw.close()

    @contextmanager
    def _or_drop(self) -> Iterator[None]:
        try:
            yield
        except OSError as error:
            self.drop()
            raise _translate(error, self.path.parent) from error


class FolderResult:
    """One attempt's folder in the store: ``<root>/<run>/<attempt>/``. See ResultFolder."""

    def __init__(self, root: Path, run: str, attempt: int) -> None:
        self.path = root / run / str(attempt)
        self.mark = f"{run}.{attempt}"
        self.open_files: dict[str, _StoreFile] = {}
        self.prepared: list[tuple[str, str, str]] = []
        with _writing(self.path):
            self.path.mkdir(parents=True, exist_ok=True)

    def create(self, name: str) -> BinaryIO:
        self.open_files[name] = _StoreFile(self.path / (name + PART))
        return self.open_files[name]  # type: ignore[return-value]  # write and flush are what the engine uses

    def scratch(self) -> BinaryIO:
        with _writing(self.path):
            return _Scratch(self.path)  # type: ignore[return-value]  # what a writer of formats uses of a file

    def free_bytes(self) -> int | None:
        with _writing(self.path):
            return shutil.disk_usage(self.path).free

    def finish(self, name: str) -> None:
        self.open_files.pop(name).settle()
        with _writing(self.path):
            os.chmod(self.path / (name + PART), FILE_MODE)
            os.rename(self.path / (name + PART), self.path / name)

    def open(self, name: str) -> BinaryIO:
        with _writing(self.path):
            return open(self.path / name, "rb")

    def seal(self, descriptor: dict[str, Any]) -> None:
        file = _StoreFile(self.path / (DESCRIPTOR + PART))
        file.write(_as_json(descriptor))
        file.settle()
        with _writing(self.path):
            os.chmod(file.path, FILE_MODE)
            os.rename(file.path, self.path / DESCRIPTOR)
            _sync_folder(self.path)

    def discard(self) -> None:
        for file in self.open_files.values():
            file.drop()
        sweep(self.prepared)
        _remove_attempt(self.path)

    def prepare_delivery(
        self,
        folder: str,
        names: Sequence[tuple[str, str]],
        manner: Mapping[str, Any],
        descriptor: Callable[[Mapping[str, str]], Any],
    ) -> DeliveryPlan:
        target, existing = Path(folder), manner.get("existing", "replace")
        with _writing(target):
            target.mkdir(parents=True, exist_ok=True)
        chosen = _free_names(target, names, existing)
        need = sum(file.stat().st_size for file in (self.path / stored for stored, _ in names[:-1]))
        with _writing(target):
            free = shutil.disk_usage(target).free
        if need > free:
            raise DiskFull(
                f"the delivery needs {need / 1e6:,.1f} MB, and '{target}' has {free / 1e6:,.1f} MB left.",
                "Free some space there, then start the run again.",
            )
        parts = [target / f".{delivered}.{self.mark}{PART}" for _, delivered in chosen]
        self.prepared = [(str(part), str(target / name), "") for part, (_, name) in zip(parts, chosen, strict=True)]
        sums = [_copied(self.path / stored, part) for part, (stored, _) in zip(parts[:-1], chosen[:-1], strict=True)]
        sums.append(_written(parts[-1], _as_json(descriptor(dict(chosen[:-1])))))
        for part in parts:
            _hand_over(part, manner)
        moves = [(part, final, digest) for (part, final, _), digest in zip(self.prepared, sums, strict=True)]
        return DeliveryPlan(folder, tuple(moves), existing == "replace", tuple(names))

    def deliver(self, plan: DeliveryPlan) -> None:
        deliver(plan)


class _Scratch:
    """A file without a name, whose every write speaks our errors."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.file: Any = tempfile.TemporaryFile(dir=folder)  # noqa: SIM115  # closed by whoever asked for it
        self.read, self.seek, self.tell = self.file.read, self.file.seek, self.file.tell

    def write(self, data: Any) -> int:
        with _writing(self.folder):
            return int(self.file.write(data))

    def close(self) -> None:
        self.file.close()

    @property
    def closed(self) -> bool:
        return bool(self.file.closed)

    def __enter__(self) -> _Scratch:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def __getattr__(self, name: str) -> Any:
        return getattr(self.file, name)


def _as_json(descriptor: Any) -> bytes:
    return json.dumps(descriptor, indent=2, ensure_ascii=False).encode()


def _free_names(target: Path, names: Sequence[tuple[str, str]], existing: str) -> list[tuple[str, str]]:
    """The names to deliver under: as wished, or all of a run numbered alike. Raises NameTaken."""
    if existing == "replace":
        return list(names)
    number = 1
    while True:
        chosen = [(stored, name if number == 1 else _numbered(name, number)) for stored, name in names]
        taken = next((name for _, name in chosen if os.path.lexists(target / name)), None)
        if taken is None:
            return chosen
        if existing == "refuse":
            raise name_taken(target / taken)
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
    with _writing(part):
        if manner.get("group"):
            try:
                shutil.chown(part, group=manner["group"])
            except (LookupError, PermissionError) as error:
                raise StoreUnwritable(
                    f"the file cannot be given to the group '{manner['group']}': {error}.",
                    "Name a group of this host that the service's account is a member of.",
                ) from error
        os.chmod(part, int(str(manner.get("mode", "0644")), 8))


def _written(path: Path, data: bytes) -> str:
    file = _StoreFile(path)
    file.write(data)
    file.settle()
    return hashlib.sha256(data).hexdigest()


def _remove_attempt(path: Path) -> None:
    shutil.rmtree(path, ignore_errors=True)
    try:
        path.parent.rmdir()
    except OSError:
        return  # another attempt's folder is there, or nothing was made


def _copied(source: Path, target: Path) -> str:
    digest = hashlib.sha256()
    file = _StoreFile(target)
    with open(source, "rb") as read:
        while chunk := read.read(1 << 20):
            digest.update(chunk)
            file.write(chunk)
    file.settle()
    with _writing(target):
        os.chmod(target, FILE_MODE)
    return digest.hexdigest()


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
        with _writing(Path(final)):
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
    if plan.moves:
        with _writing(Path(plan.folder)):
            _sync_folder(Path(plan.folder))


class FolderStore:
    """The result store below one root folder."""

    def __init__(self, root: Path) -> None:
        self.root = root

    def result(self, run: str, attempt: int) -> FolderResult:
        """The folder of one attempt, made if it is not there."""
        return FolderResult(self.root, run, attempt)

    def mark(self) -> str:
        """What tells this store from any other: written once by whoever comes first."""
        return kept_once(self.root / ".store", secrets.token_hex(8), FILE_MODE)

    def free_bytes(self) -> int:
        """Space left below the root."""
        self.root.mkdir(parents=True, exist_ok=True)
        return shutil.disk_usage(self.root).free

    def discard(self, run: str, attempt: int) -> None:
        """Remove what a lost attempt left behind."""
        _remove_attempt(self.root / run / str(attempt))

    def path_of(self, run: str, attempt: int, name: str) -> Path:
        """A stored file's path. Raises NotFound, also for a name that leads out of the folder."""
        if "/" in name or name in ("", ".", ".."):
            raise NotFound(f"there is no file '{name}'.", "Take a name from the run's list of files.")
        path = self.root / run / str(attempt) / name
        if not path.is_file():
            raise NotFound(f"the file '{name}' is not in the result store.", "Start the run again.")
        return path


def delivery_folder(roots: Sequence[Path], wanted: str) -> str:
    """The absolute folder for a delivery: relative ones lie below the first root. Raises BadInput outside the roots."""
    if not wanted:
        return ""
    path = Path(os.path.normpath(roots[0] / wanted))
    real = Path(os.path.realpath(path))
    if not any(real == root or real.is_relative_to(root) for root in (Path(os.path.realpath(r)) for r in roots)):
        raise BadInput(
            f"'{wanted}' is outside the delivery folders of this service.",
            f"Choose a folder below {', '.join(str(root) for root in roots)}.",
        )
    return str(path)
