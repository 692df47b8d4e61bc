"""Rows counted by reading a file, apart from whoever wrote it: the standard library and one JSON parser, no writer's code.

Every counter takes pieces of bytes in order and believes only them. Used by the run's proof, and by anybody who wants to
prove a file at any later time.
"""

from __future__ import annotations

import codecs
import zipfile
from abc import ABC, abstractmethod
from collections.abc import Iterator
from typing import Any, BinaryIO
from xml.parsers import expat

import msgspec

READ_BYTES = 1 << 20
"""Bytes read at a time."""


class Damaged(ValueError):
    """The file is not well formed; the message says how."""


class Counter(ABC):
    """Fed with a file's bytes, piece by piece."""

    @abstractmethod
    def feed(self, piece: bytes) -> None:
        """The next bytes. Raises Damaged."""

    @abstractmethod
    def rows(self) -> int:
        """Rows, once all was fed. Raises Damaged where the end is missing."""


class DelimitedCounter(Counter):
    """Line ends outside quotes. A doubled quote leaves and enters at once, so it needs no care."""

    def __init__(self, encoding: str = "utf-8", header_lines: int = 1, quoted: bool = True) -> None:
        plain = codecs.lookup(encoding).name in ("utf-8", "ascii", "iso8859-1", "iso8859-15", "cp1252")
        self.decoder = None if plain else codecs.getincrementaldecoder(encoding)()
        self.header_lines, self.quoted = header_lines, quoted
        self.lines, self.inside, self.last = 0, False, "\n"

    def feed(self, piece: bytes) -> None:
        if self.decoder is None:
            self._count(piece, b'"', b"\n")
        else:
            try:
                self._count(self.decoder.decode(piece), '"', "\n")
            except UnicodeError as error:
                raise Damaged(f"the text is not in its encoding: {error}") from error

    def _count(self, text: Any, quote: Any, line_end: Any) -> None:
        if not text:
            return
        if self.quoted and (self.inside or quote in text):
            pieces = text.split(quote)
            outside = pieces[1::2] if self.inside else pieces[0::2]
            self.lines += quote.join(outside).count(line_end)
            self.inside ^= len(pieces) % 2 == 0
        else:
            self.lines += text.count(line_end)
        self.last = "\n" if text[-1:] == line_end else "x"

    def rows(self) -> int:
        if self.inside or self.last != "\n" or self.lines < self.header_lines:
            raise Damaged("the text ends in the middle of a row")
        return self.lines - self.header_lines


class JsonCounter(Counter):
    """Values of an array (or of lines), each parsed for its form.

    A raw line end cannot stand inside a JSON string, and the values of an array here are parted by a comma and a line end;
    the file's first line opens the array and its last line closes it. What follows the last comma waits for the end.
    """

    def __init__(self, array: bool = True) -> None:
        self.array, self.found, self.rest = array, 0, b""
        self.head: bytes | None = None if array else b""
        self.parted = b",\n" if array else b"\n"
        self.values = msgspec.json.Decoder(list[msgspec.Raw]).decode
        self.lines = msgspec.json.Decoder(msgspec.Raw).decode_lines

    def feed(self, piece: bytes) -> None:
        text = self.rest + piece
        if self.head is None:
            self.head, found, text = text.partition(b"\n")
            if not found:
                self.rest, self.head = self.head, None
                return
        cut = text.rfind(self.parted)
        if cut >= 0:
            self._count(memoryview(text)[:cut])
            text = text[cut + len(self.parted) :]
        self.rest = text

    def _count(self, body: bytes | memoryview) -> None:
        try:
            self.found += len(self.values(b"".join((b"[", body, b"]"))) if self.array else self.lines(body))
        except msgspec.DecodeError as error:
            raise Damaged(f"not JSON: {error}") from error

    def rows(self) -> int:
        if not self.array:
            if self.rest:
                raise Damaged("the text ends in the middle of a line")
            return self.found
        last, _, end = (b"\n" + self.rest).rpartition(b"\n]")
        if self.found and not last.strip():
            raise Damaged("nothing follows the last comma")
        self._count(last)
        try:
            msgspec.json.decode((self.head or b"") + b"]" + end, type=msgspec.Raw)
        except msgspec.DecodeError as error:
            raise Damaged(f"the array is not closed: {error}") from error
        return self.found


def counted(file: BinaryIO, counter: Counter) -> int:
    """Rows of a whole file. Raises Damaged."""
    while piece := file.read(READ_BYTES):
        counter.feed(piece)
    return counter.rows()


ORIGIN_SHEET = "Origin"


def workbook_rows(file: BinaryIO, head_rows: int) -> int:
    """Rows of all sheets but the one that says where the workbook came from, less the head rows of each.

    The archive's checksums and the XML's form are proven on the way. Raises Damaged.
    """
    try:
        with zipfile.ZipFile(file) as archive:
            sheets = dict(_sheets(archive))
            return sum(_tags(archive, path) - head_rows for name, path in sheets.items() if name != ORIGIN_SHEET)
    except (zipfile.BadZipFile, KeyError, EOFError, expat.ExpatError, zipfile.LargeZipFile) as error:
        raise Damaged(f"the workbook is damaged: {error}") from error


def _sheets(archive: zipfile.ZipFile) -> Iterator[tuple[str, str]]:
    names: list[str] = []
    parser = expat.ParserCreate()
    parser.StartElementHandler = lambda tag, told: names.append(told["name"]) if tag == "sheet" else None
    parser.Parse(archive.read("xl/workbook.xml"), True)
    for number, name in enumerate(names, 1):
        yield name, f"xl/worksheets/sheet{number}.xml"


def _tags(archive: zipfile.ZipFile, path: str) -> int:
    parser, rows, rest = expat.ParserCreate(), 0, b""
    with archive.open(path) as sheet:
        while chunk := sheet.read(READ_BYTES):
            parser.Parse(chunk)
            text = rest + chunk
            rows += text.count(b"<row>")
            rest = text[-4:]
    parser.Parse(b"", True)
    return rows
