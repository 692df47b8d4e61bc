"""Rows and cells counted by reading a file, apart from its writer: the standard library, one JSON parser and, where it is
installed, numpy for speed; no writer's code.

Every counter takes pieces of bytes in order and believes only them. Used by the run's proof, and by anybody who wants to
prove a file at any later time.
"""

from __future__ import annotations

import codecs
import re
import zipfile
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from operator import itemgetter, methodcaller
from typing import Any, BinaryIO
from xml.parsers import expat

import msgspec

_INSIDE = re.compile(rb'\\":')
_END_OF_NAME = int.from_bytes(b'":', "little")
READ_BYTES = 1 << 20
"""Bytes read at a time."""


class Damaged(ValueError):
    """The file is not well formed; the message says how."""


@dataclass(frozen=True, slots=True)
class Counted:
    """What a file was found to hold: its rows, and how many cells every row has, for each of its tables in order.

    A workbook has a table for each sheet, everything else one; ``widths`` has None where no row tells. Rows of one table with
    unlike numbers of cells are damage.
    """

    rows: int
    widths: Sequence[int | None]


class Counter(ABC):
    """Fed with a file's bytes, piece by piece."""

    width: int | None = None
    """Cells of every row, once one was seen."""

    @abstractmethod
    def feed(self, piece: bytes) -> None:
        """The next bytes. Raises Damaged."""

    @abstractmethod
    def rows(self) -> int:
        """Rows, once all was fed. Raises Damaged where the end is missing."""

    def mind(self, found: int, row: int) -> None:
        """So many cells in that row (1-based, the header's among them). Raises Damaged where others had more or less."""
        self.width = found if self.width is None else self.width
        if found != self.width:
            raise Damaged(f"line {row:,} has {found:,} cells, the first has {self.width:,}")


_DIRECT = ("utf-8", "ascii", "iso8859-1", "iso8859-15", "cp1252")
"""Encodings in which the bytes of a quote and a line end are nothing else."""
_MARK = b"\0"
_CELLS = methodcaller("count", b"<c")
_FIRST, _LAST = itemgetter(slice(0, 1)), itemgetter(slice(-1, None))


class DelimitedCounter(Counter):
    """Line ends and delimiters outside quotes. A doubled quote leaves and enters at once, so it needs no care.

    All but delimiters and line ends is dropped; what is left of a good piece is the same few signs again and again.
    """

    def __init__(self, encoding: str = "utf-8", header_lines: int = 1, delimiter: str = ",") -> None:
        plain = codecs.lookup(encoding).name in _DIRECT and len(delimiter.encode(encoding)) == 1
        self.decoder = None if plain else codecs.getincrementaldecoder(encoding)()
        self.header_lines, self.inside, self.lines = header_lines, False, 0
        self.delimiter = delimiter.encode(encoding if plain else "utf-8")
        self.sign = self.delimiter if len(self.delimiter) == 1 else _MARK
        self.others = bytes(set(range(256)) - {*self.sign, *b"\n"})
        self.before_quote, self.after_quote = {b"", self.sign, b"\n", b'"'}, {b"", self.sign, b"\r", b"\n", b'"'}
        self.returns = False
        self.rest, self.last, self.start = b"", b"\n", codecs.BOM_UTF8 if encoding.startswith("utf") else b""

    def feed(self, piece: bytes) -> None:
        try:
            text = self.decoder.decode(piece).encode() if self.decoder else piece
        except UnicodeError as error:
            raise Damaged(f"the text is not in its encoding: {error}") from error
        if self.start:
            text, self.start = text.removeprefix(self.start), b""
        if not text:
            return
        if len(self.delimiter) > 1:
            text = text.replace(_MARK, b" ").replace(self.delimiter, _MARK)
        self.returns = b"\r" in text or self.last == b"\r"
        if self.inside or self.last == b'"' or b'"' in text:
            text, last = self._outside(text.split(b'"'))
        else:
            last = text[-1:]
        if self.returns:
            self._mind_returns(text)
        self.last = last
        self._mind_lines(self.rest + text.translate(None, self.others))

    def _outside(self, pieces: Sequence[bytes]) -> tuple[bytes, bytes]:
        """What stands outside quotes, which open at the start of a cell and close at its end, or readers do not agree; and the
        sign before the next piece, a quote where that begins inside one.

        Joined, what stood apart makes no line end: the first half of one is no good sign before a quote.
        """
        inside, self.inside = self.inside, self.inside ^ (len(pieces) % 2 == 0)
        texts = pieces[1::2] if inside else pieces[0::2]
        between = texts[not inside : len(texts) - (not self.inside)]
        wrong = not ({*map(_FIRST, between)} <= self.after_quote and {*map(_LAST, between)} <= self.before_quote)
        if not inside:
            wrong |= self.last == b'"' and texts[0][:1] not in self.after_quote
            wrong |= len(pieces) > 1 and (texts[0][-1:] or self.last) not in self.before_quote
        if not self.inside and len(pieces) > 1:
            wrong |= texts[-1][:1] not in self.after_quote
        if wrong:
            raise Damaged(f"a quote stands in the middle of a cell, near line {self.lines + 1:,}")
        return b"".join(texts), b'"' if self.inside else texts[-1][-1:] or b'"'

    def _mind_returns(self, text: bytes) -> None:
        """No half of a line end, which some readers take for one."""
        halves = text.count(b"\r") - text.count(b"\r\n") if b"\r" in text else 0
        if halves > text.endswith(b"\r") or (self.last == b"\r" and text[:1] not in b"\n"):
            raise Damaged(f"half of a line end stands outside quotes, near line {self.lines + 1:,}")

    def _mind_lines(self, signs: bytes) -> None:
        whole, found, self.rest = signs.rpartition(b"\n")
        if not found:
            return
        whole += found
        if self.width is None:
            self.width = whole.index(b"\n") + 1
        count = whole.count(b"\n")
        if whole != (self.sign * (self.width - 1) + b"\n") * count:
            for number, line in enumerate(whole.split(b"\n")[:-1], self.lines + 1):
                self.mind(len(line) + 1, number)
        self.lines += count

    def rows(self) -> int:
        if self.inside or self.rest or self.last != b"\n" or self.lines < self.header_lines:
            raise Damaged("the text ends in the middle of a row")
        return self.lines - self.header_lines


class AlignedCounter(Counter):
    """Lines that are all equally long, in characters."""

    def __init__(self, encoding: str = "utf-8", header_lines: int = 1) -> None:
        self.decoder = codecs.getincrementaldecoder("utf-8-sig" if encoding == "utf-8" else encoding)()
        self.header_lines, self.lines, self.length, self.rest = header_lines, 0, -1, ""

    def feed(self, piece: bytes) -> None:
        try:
            whole, found, self.rest = (self.rest + self.decoder.decode(piece)).rpartition("\n")
        except UnicodeError as error:
            raise Damaged(f"the text is not in its encoding: {error}") from error
        if not found:
            return
        whole += found
        if self.length < 0:
            self.length = whole.index("\n")
        lines = whole.count("\n")
        if whole[self.length :: self.length + 1] != "\n" * lines or len(whole) != lines * (self.length + 1):
            raise Damaged(f"lines of unlike lengths, near line {self.lines + 1:,}")
        self.lines += lines

    def rows(self) -> int:
        if self.rest or self.lines < self.header_lines:
            raise Damaged("the text ends in the middle of a row")
        return self.lines - self.header_lines


@cache
def whole_arrays() -> Any:
    """numpy, imported where it is first of use; None where it is not installed: whoever proves files need not have it."""
    try:
        import numpy
    except ImportError:
        return None
    return numpy


def pairs_at(text: bytes, pair: bytes) -> list[Any]:
    """Where two bytes stand, in arrays that are each in order: those at even places, those at odd ones. Needs numpy."""
    numpy, number = whole_arrays(), int.from_bytes(pair, "little")
    starts = (start for start in (0, 1) if len(text) > start + 1)
    return [numpy.flatnonzero(numpy.frombuffer(text, "<u2", (len(text) - at) // 2, at) == number) * 2 + at for at in starts]


def cells_by_row(text: bytes) -> list[int]:
    """Cells of each row of a piece of a sheet's XML, which begins and ends between rows, or before the first.

    By the places of their tags where numpy is installed, which is twice as fast; the same is found without.
    """
    numpy = whole_arrays()
    if numpy is None:
        return list(map(_CELLS, text.split(b"<row")[1:]))
    rows = numpy.sort(numpy.concatenate([*pairs_at(text, b"<r"), [len(text)]]))
    counts: list[int] = numpy.diff(sum(numpy.searchsorted(cells, rows) for cells in pairs_at(text, b"<c"))).tolist()
    return counts


def names_in(text: bytes) -> int:
    """How many times a quote and a colon end a name in a JSON text: with a backslash before them they stand inside a text.

    By pairs of bytes at even and at odd places where numpy is installed, which is thrice as fast; the same is found without.
    """
    inside = len(_INSIDE.findall(text)) if b"\\" in text else 0
    numpy = whole_arrays()
    if numpy is None:
        return text.count(b'":') - inside
    pairs = (numpy.frombuffer(text, "<u2", (len(text) - start) // 2, start) for start in (0, 1) if len(text) > start + 1)
    return sum(int(numpy.count_nonzero(each == _END_OF_NAME)) for each in pairs) - inside


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
        whole = b"".join((b"[", body, b"]")) if self.array else bytes(body)
        try:
            values = self.values(whole) if self.array else self.lines(whole)
            self._mind_members(whole, values)
        except msgspec.DecodeError as error:
            raise Damaged(f"not JSON: {error}") from error
        self.found += len(values)

    def _mind_members(self, whole: bytes, values: Sequence[msgspec.Raw]) -> None:
        """As many members in every row. A quote and a colon end a name, and inside a text a backslash stands before them: so
        names are counted all at once, and row by row only where rows hold objects of their own, or odd names."""
        if values and self.width is None:
            self.width = len(_ROW(values[0]))
        if names_in(whole) != len(values) * (self.width or 0):
            for number, value in enumerate(values, self.found + 1):
                self.mind(len(_ROW(value)), number)

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


_ROW = msgspec.json.Decoder(dict[str, msgspec.Raw]).decode


def counted(file: BinaryIO, counter: Counter) -> Counted:
    """Rows and cells of a whole file. Raises Damaged."""
    while piece := file.read(READ_BYTES):
        counter.feed(piece)
    return Counted(counter.rows(), [counter.width])


ORIGIN_SHEET = "Origin"


def workbook_counted(file: BinaryIO, head_rows: int, titles: int) -> Counted:
    """Rows of all sheets but the one of the origin, less the head rows of each, and the cells of each one's rows.

    ``titles``: those of the head rows that are no names of columns. The archive's checksums and the XML's form are proven on
    the way. Raises Damaged.
    """
    try:
        with zipfile.ZipFile(file) as archive:
            found = [_rows_of(archive, path, titles) for name, path in _sheets(archive) if name != ORIGIN_SHEET]
    except (zipfile.BadZipFile, KeyError, EOFError, expat.ExpatError, zipfile.LargeZipFile) as error:
        raise Damaged(f"the workbook is damaged: {error}") from error
    return Counted(sum(rows - head_rows for rows, _ in found), [width for _, width in found])


def _sheets(archive: zipfile.ZipFile) -> Iterator[tuple[str, str]]:
    names: list[str] = []
    parser = expat.ParserCreate()
    parser.StartElementHandler = lambda tag, told: names.append(told["name"]) if tag == "sheet" else None
    parser.Parse(archive.read("xl/workbook.xml"), True)
    for number, name in enumerate(names, 1):
        yield name, f"xl/worksheets/sheet{number}.xml"


class SheetCounter(Counter):
    """Cells of a sheet's rows. Its XML is well formed and escaped, so its tags are found as bytes."""

    def __init__(self, titles: int) -> None:
        self.titles, self.found, self.rest = titles, 0, b""

    def feed(self, piece: bytes) -> None:
        text = self.rest + piece
        cut = text.rfind(b"</row>") + 1
        self.rest = text[cut:]
        if not cut:
            return
        rows = cells_by_row(text[:cut])
        counts = rows[max(self.titles - self.found, 0) :]
        if self.width is None and counts:
            self.width = counts[0]
        if {*counts} - {self.width}:
            for number, count in enumerate(counts, max(self.titles, self.found) + 1):
                self.mind(count, number)
        self.found += len(rows)

    def rows(self) -> int:
        return self.found


def _rows_of(archive: zipfile.ZipFile, path: str, titles: int) -> tuple[int, int | None]:
    parser, rows = expat.ParserCreate(), SheetCounter(titles)
    with archive.open(path) as sheet:
        while chunk := sheet.read(READ_BYTES):
            parser.Parse(chunk)
            rows.feed(chunk)
    parser.Parse(b"", True)
    return rows.rows(), rows.width


@dataclass(frozen=True, slots=True)
class Counting:
    """How files of one shape are counted, from facts that the descriptor has. ``seeks``: it moves about in the file."""

    count: Callable[[BinaryIO, Mapping[str, Any]], Counted]
    seeks: bool = False


def _parquet_counted(file: BinaryIO, _: Mapping[str, Any]) -> Counted:
    """Every value is read: pages are unpacked and decoded, not only the file's own word taken. Raises ImportError where there
    is no reader."""
    import pyarrow
    import pyarrow.parquet

    try:
        made = pyarrow.parquet.ParquetFile(file, pre_buffer=False)  # else all that was read is held to the end
        return Counted(sum(batch.num_rows for batch in made.iter_batches()), [len(made.schema_arrow)])
    except (pyarrow.ArrowException, OSError) as error:
        raise Damaged(str(error).splitlines()[0]) from error


COUNTERS: Mapping[str, Counting] = {
    "delimited": Counting(lambda file, of: counted(file, DelimitedCounter(of["encoding"], of["headRows"], of["delimiter"]))),
    "aligned": Counting(lambda file, of: counted(file, AlignedCounter(of["encoding"], of["headRows"]))),
    "json": Counting(lambda file, of: counted(file, JsonCounter(of["array"]))),
    "workbook": Counting(lambda file, of: workbook_counted(file, of["headRows"], of["titleRows"]), seeks=True),
    "parquet": Counting(_parquet_counted, seeks=True),
}
"""By the name that a format, and the descriptor of its files, says."""
