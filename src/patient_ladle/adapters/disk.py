"""Files on a disk: temporary name, flush, fsync, rename, and every fault told in our words."""

from __future__ import annotations

import errno
import hashlib
import io
import json
import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from patient_ladle.core.errors import DiskFull, LadleError, StoreUnreadable, StoreUnwritable

PART = ".part"
"""Ending of a temporary name."""
SETTLED_BYTES = 32 << 20
"""Written, after which the disk is asked to take it, while more is fetched."""
FILE_MODE = 0o600
"""Of what is stored: readers come through the service. A delivered file has the mode that its output says."""
FOLDER_MODE = 0o755
"""Of a delivery's folder that is made on the way: whoever takes the files must get there."""


def make_folders(path: Path) -> None:
    """The folder and those above it that are missing, for others to enter, whatever this process gives away otherwise."""
    missing = [each for each in (path, *path.parents) if not each.exists()]
    for each in reversed(missing):
        each.mkdir(exist_ok=True)
        os.chmod(each, FOLDER_MODE)


def disk_of(path: Path) -> str:
    """Which disk it lies on and how full that is, as a sentence goes on; nothing where the system does not say."""
    try:
        there = next(each for each in (path, *path.parents) if each.exists())
        mount = next(each for each in (there.resolve(), *there.resolve().parents) if os.path.ismount(each))
        room = shutil.disk_usage(there)
    except (OSError, StopIteration):
        return ""
    return f": the disk at '{mount}' has {room.free / 1e9:.1f} GB of {room.total / 1e9:,.0f} GB free"


def translate(error: OSError, path: Path) -> LadleError:
    """The one map from a disk's faults to ours."""
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return DiskFull(f"no space is left in '{path}'{disk_of(path)}.", "Free some space there, then start the run again.")
    reason = os.strerror(error.errno) if error.errno else str(error)
    return StoreUnwritable(f"'{path}' cannot be written: {reason}.", "Check that the folder exists and its rights.")


@contextmanager
def reading(path: Path) -> Iterator[None]:
    """Faults of the disk in here are told as a store that cannot be read at that path. Raises StoreUnreadable."""
    try:
        yield
    except OSError as error:
        raise unreadable(f"'{path}' cannot be read: {os.strerror(error.errno) if error.errno else error}.") from error


def unreadable(words: str) -> StoreUnreadable:
    """The error of a store that cannot be read."""
    return StoreUnreadable(
        words, "Try again in a while. If it stays away, look at the result store: its disk, mount or server."
    )


@contextmanager
def writing(path: Path) -> Iterator[None]:
    """Faults of the disk in here are told as faults at that path."""
    try:
        yield
    except OSError as error:
        raise translate(error, path) from error


def sync_folder(path: Path) -> None:
    """The folder's names to the disk."""
    descriptor = os.open(path, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


class DiskFile:
    """A file whose every write speaks our errors."""

    def __init__(self, path: Path) -> None:
        self.path = path
        with writing(path.parent):
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
            raise translate(error, self.path.parent) from error


class ScratchFile:
    """A file without a name, whose every write speaks our errors."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.file: Any = tempfile.TemporaryFile(dir=folder)  # noqa: SIM115  # closed by whoever asked for it
        self.read, self.seek, self.tell = self.file.read, self.file.seek, self.file.tell

    def write(self, data: Any) -> int:
        with writing(self.folder):
            return int(self.file.write(data))

    def close(self) -> None:
        self.file.close()

    @property
    def closed(self) -> bool:
        return bool(self.file.closed)

    def __enter__(self) -> ScratchFile:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def __getattr__(self, name: str) -> Any:
        return getattr(self.file, name)


def as_json(descriptor: Any) -> bytes:
    """A descriptor as it stands in its file."""
    return json.dumps(descriptor, indent=2, ensure_ascii=False).encode()


def written(path: Path, data: bytes) -> str:
    """The file with that content, on the disk; returns its SHA-256 in hex."""
    file = DiskFile(path)
    file.write(data)
    file.settle()
    return hashlib.sha256(data).hexdigest()
