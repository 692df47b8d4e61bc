"""Result store in a folder of a file system, local or mounted: ``<root>/<run>/<attempt>/``."""

from __future__ import annotations

import os
import secrets
import shutil
from collections.abc import Iterable
from pathlib import Path
from typing import Any, BinaryIO

from patient_ladle.adapters.created_once import create_once
from patient_ladle.adapters.disk import (
    FILE_MODE,
    PART,
    DiskFile,
    ScratchFile,
    as_json,
    disk_of,
    reading,
    sync_folder,
    writing,
    written,
)
from patient_ladle.core.ports import ResultFolder
from patient_ladle.core.runs.engine import DESCRIPTOR

from .base import Store, checked_name, not_stored


class FolderResult(ResultFolder):
    """See ResultFolder."""

    def __init__(self, root: Path, run: str, attempt: int) -> None:
        self.path = root / run / str(attempt)
        self.open_files: dict[str, DiskFile] = {}
        with writing(self.path):  # the root is made with its mark: one that is away is not made anew
            self.path.parent.mkdir(exist_ok=True)
            self.path.mkdir(exist_ok=True)

    def create(self, name: str) -> BinaryIO:
        self.open_files[name] = DiskFile(self.path / (name + PART))
        return self.open_files[name]  # type: ignore[return-value]  # write and flush are what the engine uses

    def scratch(self) -> BinaryIO:
        with writing(self.path):
            return ScratchFile(self.path)  # type: ignore[return-value]  # what a writer of formats uses of a file

    def free_bytes(self) -> int | None:
        with writing(self.path):
            return shutil.disk_usage(self.path).free

    def place(self) -> str:
        return f" in '{self.path.parents[1]}'{disk_of(self.path)}"

    def finish(self, name: str) -> None:
        self.open_files.pop(name).settle()
        with writing(self.path):
            os.chmod(self.path / (name + PART), FILE_MODE)
            os.rename(self.path / (name + PART), self.path / name)

    def open(self, name: str) -> BinaryIO:
        with reading(self.path):
            return open(self.path / name, "rb")

    def seal(self, descriptor: dict[str, Any]) -> None:
        part = self.path / (DESCRIPTOR + PART)
        written(part, as_json(descriptor))
        with writing(self.path):
            os.chmod(part, FILE_MODE)
            os.rename(part, self.path / DESCRIPTOR)
            sync_folder(self.path)

    def discard(self) -> None:
        for file in self.open_files.values():
            file.drop()
        _remove_attempt(self.path)


def _remove_attempt(path: Path) -> None:
    shutil.rmtree(path, ignore_errors=True)
    try:
        path.parent.rmdir()
    except OSError:
        return  # another attempt's folder is there, or nothing was made


class FolderStore(Store):
    """See Store."""

    def __init__(self, root: Path) -> None:
        self.root = root

    def result(self, run: str, attempt: int) -> FolderResult:
        return FolderResult(self.root, run, attempt)

    def mark(self, make: bool = True) -> str:
        path = self.root / ".store"
        with writing(self.root):
            if not make and not path.is_file():
                return ""
            return create_once(path, secrets.token_hex(8), FILE_MODE)

    def runs(self) -> Iterable[int]:
        with writing(self.root):
            return [int(each.name) for each in os.scandir(self.root) if each.name.isdecimal()] if self.root.exists() else []

    def free_bytes(self) -> int | None:
        with writing(self.root):
            return shutil.disk_usage(self.root).free

    def discard(self, run: str, attempt: int, surely: bool = False) -> None:
        path = self.root / run / str(attempt)
        if surely:
            with writing(path):
                os.stat(self.root)
                if path.exists():
                    shutil.rmtree(path)
        _remove_attempt(path)

    def open(self, run: str, attempt: int, name: str) -> BinaryIO:
        path = self.root / run / str(attempt) / checked_name(name)
        with reading(path):
            try:
                return path.open("rb")
            except (FileNotFoundError, NotADirectoryError):
                if not self.root.is_dir():
                    raise
                raise not_stored(name) from None
