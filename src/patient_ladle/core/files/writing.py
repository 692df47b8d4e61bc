"""One format's files of one run: opened, fed, packed, measured and split, while the format's writer sees only its rows."""

from __future__ import annotations

import hashlib
import shutil
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import wait
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any, BinaryIO

from patient_ladle.proof.counting import Counted
from patient_ladle.proof.unpacking import unpacked
from patient_ladle.proof.verifying import DAMAGE
from patient_ladle.words import amount

from ..aside import aside
from ..errors import ProofFailed, StoreUnreadable
from ..ports import ResultFolder, StoredFile
from ..results.columns import Batch, Column
from .background import BackgroundWriter
from .compression import compressor, extension_of
from .formats.base import Format, FormatWriter, Target
from .output import OutputSettings


@contextmanager
def _read_back(name: str) -> Iterator[None]:
    """Faults of the store's disk, mount or server are its own, and say nothing of the file. Raises StoreUnreadable."""
    try:
        yield
    except (OSError, ProofFailed) as error:
        fault: BaseException | None = error
        while fault is not None and not (isinstance(fault, OSError) and fault.errno is not None):
            fault = fault.__cause__ or fault.__context__  # readers of some formats tell it as damage
        if fault is None:
            raise
        raise StoreUnreadable(
            f"{name} cannot be read back from the result store: {fault.strerror}.", "Look at the store's disk, mount or server."
        ) from error


class _Measured:
    """Takes size and SHA-256 of the bytes on their way into a file."""

    def __init__(self, file: BinaryIO) -> None:
        self.file, self.bytes, self.digest = file, 0, hashlib.sha256()

    def write(self, data: Any) -> int:
        self.file.write(data)
        self.digest.update(data)
        self.bytes += len(data)
        return len(data)


class _Outlet:
    """What a writer writes to: counts the bytes, and has them packed and stored in a thread of their own."""

    def __init__(self, compression: str, file: _Measured, name: str) -> None:
        self.bytes = 0
        self.compressor = compressor(compression, file, name)  # type: ignore[arg-type]  # compressors need write only
        self.background = BackgroundWriter(self.compressor.write)

    def write(self, data: Any) -> int:
        self.bytes += len(data)
        self.background.submit(data)
        return len(data)

    def close(self) -> None:
        self.background.close()
        self.compressor.close()


@dataclass(slots=True)
class WrittenFile:
    """One file, written and not yet proven. ``contents``: rows by statement, in order; ``widths``: columns of each."""

    name: str
    part: int | None
    measured: _Measured
    outlet: _Outlet
    writer: FormatWriter
    contents: list[tuple[int, int]] = field(default_factory=list)
    widths: list[int] = field(default_factory=list)

    def expected(self) -> list[int]:
        """Columns of each of the file's tables: the sheets of a workbook, or the one there is."""
        sheets = [place for _, place, _ in getattr(self.writer, "sheets", ())]
        return [self.widths[place] for place in sheets if place < len(self.widths)] or self.widths


class FilesOfFormat:
    """All files that a run writes in one format.

    ``name_of`` gives the stem of a file's name from the statement's number (None where the file holds several) and the
    part's (None where the result is not split). ``facts``: those of the run, and what the fields of a line stand for.
    """

    def __init__(
        self,
        member: Format,
        settings: OutputSettings,
        folder: ResultFolder,
        name_of: Callable[[int | None, int | None], str],
        facts: tuple[Mapping[str, Any], Mapping[str, Any]],
        several: bool,
    ) -> None:
        self.member, self.folder, self.name_of, self.facts = member, folder, name_of, facts
        self.options = settings.options_of(member.name)
        self.zone = str(self.options.get("zone", "UTC"))
        self.compression = str(settings.files["compression"])
        self.most_rows = int(settings.files["rows_per_file"])
        self.most_bytes = int(settings.files["bytes_per_file"])
        self.splits = bool(self.most_rows or self.most_bytes)
        self.gathers, self.several = member.gathers, several
        self.files: list[WrittenFile] = []
        self.open: WrittenFile | None = None
        self.part = 0
        self.statement = 0
        self.title, self.columns, self.before = "", list[Column](), 0

    def begin(self, number: int, title: str, columns: Sequence[Column]) -> None:
        """The result of a statement begins."""
        self.statement, self.title, self.columns = number, title, list(columns)
        if not self.gathers:
            self.part = 0
        if self.open is None:
            self._open()
        else:
            self._begin()

    def _open(self) -> None:
        self.part += 1
        number = None if self.gathers and self.several else self.statement
        part = self.part if self.splits else None
        plain = self.name_of(number, part) + self.member.extension
        name = plain + extension_of(self.compression)
        measured = _Measured(self.folder.create(name))
        outlet = _Outlet(self.compression, measured, plain)
        target = Target(outlet, self.folder.scratch, *self.facts)
        self.open = WrittenFile(name, part, measured, outlet, self.member.writer(target, self.options))
        self.files.append(self.open)
        self._begin()

    def _begin(self) -> None:
        assert self.open is not None
        self.before = self.open.writer.rows
        self.open.writer.begin(self.title if self.several else "", self.columns)

    def write(self, batch: Batch) -> None:
        """Append rows, to as many files as they take."""
        if not self.splits:
            assert self.open is not None
            self.open.writer.write(batch)
            return
        done = 0
        while done < batch.rows:
            file = self._with_room()
            room = self.most_rows - file.writer.rows if self.most_rows else batch.rows
            count = min(batch.rows - done, room)
            file.writer.write(batch if count == batch.rows else batch.slice(done, count))
            done += count

    def _with_room(self) -> WrittenFile:
        assert self.open is not None
        rows, size = self.open.writer.rows, self.open.outlet.bytes + self.open.writer.waiting_bytes()
        if (self.most_rows and rows >= self.most_rows) or (self.most_bytes and rows and size >= self.most_bytes):
            self._end()
            self._close()
            self._open()
        return self.open

    def end(self) -> None:
        """The statement's result is complete."""
        self._end()
        if not self.gathers:
            self._close()

    def _end(self) -> None:
        assert self.open is not None
        self.open.writer.end()
        self.open.contents.append((self.statement, self.open.writer.rows - self.before))
        self.open.widths.append(len(self.columns))

    def _close(self) -> None:
        if self.open is not None:
            self.open.writer.close()
            self.open.outlet.close()
            self.open = None

    def close(self) -> None:
        """Everything is written."""
        self._close()

    def abandon(self) -> None:
        """Let go of what is open; the run has failed."""
        if self.open is not None:
            self.open.writer.abandon()
            self.open.outlet.background.abort()
            self.open = None

    def rows_of(self, statement: int) -> int:
        """Rows written of one statement, over all files."""
        return sum(rows for file in self.files for number, rows in file.contents if number == statement)

    def prove(self, file: WrittenFile) -> StoredFile:
        """Read the file back, apart from its writer: rows and the cells of each by the format's own counter, bytes by checksum.

        Raises ProofFailed where either differs from what was written.
        """
        self.folder.finish(file.name)
        hashing = aside(lambda: self._hash(file.name))
        try:
            with _read_back(file.name), self.folder.open(file.name) as stored:
                found = self._counted(file.name, stored)
        finally:
            wait([hashing])
        digest = hashing.result()
        written = file.writer.rows
        if found.rows != written:
            raise ProofFailed(
                f"{file.name}: {amount(written, 'row')} written, {found.rows:,} read back.", "Start the run again."
            )
        expected = file.expected()
        if [w if seen is None else seen for w, seen in zip(expected, found.widths, strict=False)] != expected:
            raise ProofFailed(
                f"{file.name}: rows of {_in_words(expected)} cells written, of {_in_words(found.widths)} read back.",
                "Another reader would find other cells in this file: look at the options of its format.",
            )
        if digest != file.measured.digest.hexdigest():
            raise ProofFailed(
                f"{file.name}: the bytes on disk are not the bytes written.", "Check the disk of the result store."
            )
        return StoredFile(
            name=file.name,
            format=self.member.name,
            media_type=self.member.media_type,
            rows=found.rows,
            bytes=file.measured.bytes,
            sha256=digest,
            statement=file.contents[0][0],
            part=file.part,
            compression=self.compression,
            options=self.options,
            contents=tuple(file.contents),
            content=file.writer.content_mark() or digest,
            sheets=tuple(getattr(file.writer, "sheets", ())),
        )

    def _hash(self, name: str) -> str:
        with _read_back(name), self.folder.open(name) as stored:
            return hashlib.file_digest(stored, "sha256").hexdigest()  # type: ignore[arg-type]  # a binary file suffices

    def _counted(self, name: str, stored: BinaryIO) -> Counted:
        try:
            with unpacked(self.compression, stored) as content:
                if self.compression == "none" or not self.member.seeks:
                    return self.member.read_back(content, self.options)
                with self.folder.scratch() as whole:
                    shutil.copyfileobj(content, whole)
                    whole.seek(0)
                    return self.member.read_back(whole, self.options)
        except DAMAGE as error:
            raise ProofFailed(f"{name}: the packed file is damaged: {error}.", "Start the run again.") from error


def _in_words(widths: Sequence[int | None]) -> str:
    return ", ".join("no" if each is None else f"{each:,}" for each in widths) or "no"
