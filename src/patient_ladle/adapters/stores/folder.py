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
import shutil
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any, BinaryIO

from patient_ladle.core.engine import DESCRIPTOR
from patient_ladle.core.errors import BadInput, DiskFull, Fenced, LadleError, NotFound, StoreUnwritable
from patient_ladle.core.ports import DeliveryPlan

PART = ".part"
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

    def write(self, data: bytes) -> int:
        with self._or_drop():
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

    def finish(self, name: str) -> BinaryIO:
        self.open_files.pop(name).settle()
        with _writing(self.path):
            os.chmod(self.path / (name + PART), FILE_MODE)
            os.rename(self.path / (name + PART), self.path / name)
            return open(self.path / name, "rb")

    def seal(self, descriptor: dict[str, Any]) -> None:
        file = _StoreFile(self.path / (DESCRIPTOR + PART))
        file.write(json.dumps(descriptor, indent=2, ensure_ascii=False).encode())
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

    def prepare_delivery(self, folder: str, names: Sequence[tuple[str, str]]) -> DeliveryPlan:
        target = Path(folder)
        parts = [target / f".{delivered}.{self.mark}{PART}" for _, delivered in names]
        self.prepared = [(str(part), str(target / name), "") for part, (_, name) in zip(parts, names, strict=True)]
        with _writing(target):
            target.mkdir(parents=True, exist_ok=True)
        sums = [_copied(self.path / stored, part) for part, (stored, _) in zip(parts, names, strict=True)]
        moves = [(part, final, digest) for (part, final, _), digest in zip(self.prepared, sums, strict=True)]
        return DeliveryPlan(folder, tuple(moves))

    def deliver(self, plan: DeliveryPlan) -> None:
        deliver(plan)


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


def deliver(plan: DeliveryPlan) -> None:
    """Rename prepared files to their delivered names, the descriptor last; rolls on where an earlier try stopped.

    Raises Fenced where neither the prepared nor the delivered file is the one that was planned.
    """
    for part, final, sha256 in plan.moves:
        with _writing(Path(final)):
            try:
                os.rename(part, final)
            except FileNotFoundError:
                if not Path(final).is_file() or _digest(Path(final)) != sha256:
                    raise Fenced(
                        f"'{final}' is no longer this attempt's to deliver.", "Look at the run's later attempt."
                    ) from None
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
