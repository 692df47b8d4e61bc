"""Batches of documents taken apart, all of a batch at once: for each field and type, who has it and where it stands.

Documents of one collection look alike. What was learned of their fields and order is tried on all documents of a batch
together, field after field; whoever has another one next waits for its turn, and teaches it where it is not known yet.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from ..errors import ResultTooLarge
from .values import ARRAY, BINARY, OBJECT, ROOM, UUID, Bytes, Places, damaged, headers, is_uuid, sizes

MAX_FIELDS = 2_000
"""Columns of a result. Whose names are data needs another shape: an object that stays JSON."""
_LESSONS = 64
"""Documents that teach at once, where some have what is not known."""
Path = tuple[str, ...]
"""Names from a document down to one of its fields."""


class _Header:
    """What stands before a value: its type and its name; and the fields of the objects behind it."""

    __slots__ = ("code", "inside", "length", "name", "raw", "words")

    def __init__(self, raw: bytes) -> None:
        self.raw, self.length = raw, len(raw)
        self.code, self.name = raw[0], raw[1:-1].decode("utf-8", "backslashreplace")
        self.inside: list[_Header] = []
        padded = raw + bytes(-len(raw) % 8)
        masks = b"\xff" * len(raw) + bytes(-len(raw) % 8)
        pairs = zip(np.frombuffer(padded, "<u8"), np.frombuffer(masks, "<u8"), strict=True)
        self.words = [(8 * number, word, mask) for number, (word, mask) in enumerate(pairs)]

    def stands(self, source: Bytes, at: Places) -> np.ndarray[tuple[int], np.dtype[np.bool_]]:
        """At which of the places it stands."""
        words = source.words
        found: np.ndarray[tuple[int], np.dtype[np.bool_]] | None = None
        for shift, word, mask in self.words:
            place = at + shift if shift < ROOM - 8 else np.minimum(at + shift, len(words) - 1)
            here = words[place] & mask == word
            found = here if found is None else found & here
            if not found.any():
                break
        assert found is not None
        return found


@dataclass(slots=True)
class Found:
    """Where a field's values of one type stand: documents of the batch, by number, and places in its bytes."""

    documents: list[Places] = field(default_factory=list)
    places: list[Places] = field(default_factory=list)

    def in_order(self) -> tuple[Places, Places]:
        """By document; of a field that one has twice, the last counts."""
        documents, places = np.concatenate(self.documents), np.concatenate(self.places)
        if len(self.documents) > 1:
            order = np.lexsort((places, documents))
            documents, places = documents[order], places[order]
        if len(documents) > 1 and (documents[1:] == documents[:-1]).any():
            last = np.append(documents[1:] != documents[:-1], True)
            documents, places = documents[last], places[last]
        return documents, places


@dataclass(slots=True)
class Walked:
    """A batch taken apart. ``found``: by path and type. ``documents``: of each row, the document that it is of."""

    source: Bytes
    rows: int
    found: dict[tuple[Path, int], Found] = field(default_factory=dict)
    documents: Places | None = None
    """None: each row is a document. Else what is found at the elements' own paths is numbered by row, all other by document."""


class Walker:
    """``depth``: levels of objects that are entered. ``rows_of``: the path of an array, each of whose elements is a row."""

    def __init__(self, depth: int, rows_of: Path = ()) -> None:
        self.depth, self.rows_of = depth, rows_of
        self.known: list[_Header] = []
        self.known_of_elements: list[_Header] = []
        self.count = 0

    def walk(self, raw: bytes) -> Walked:
        """Raises ResultTooLarge for more fields than a table may have columns, and whatever damaged bytes bring about."""
        source = Bytes.of(raw)
        at = source.beginnings()
        made = Walked(source, len(at))
        self._enter(made, self.known, np.arange(len(at)), at, (), self.depth)
        if self.rows_of:
            self._unfold(made)
        return made

    def paths(self) -> dict[Path, int]:
        """Of all fields known by now, their place in the order in which documents have them."""
        found: dict[Path, int] = {}

        def note(known: list[_Header], path: Path) -> None:
            for header in known:
                own = (*path, header.name)
                found.setdefault(own, len(found))
                note(header.inside, own)
                if own == self.rows_of:
                    for each in self.known_of_elements:
                        note(each.inside, own)

        note(self.known, ())
        return found

    def _enter(self, made: Walked, known: list[_Header], documents: Places, starts: Places, path: Path, depth: int) -> None:
        source, at = made.source, starts + 4
        while len(at):
            number = 0
            while number < len(known) and len(at):
                header = known[number]
                number += 1
                here = header.stands(source, at)
                if here.all():
                    value_at, those = at + header.length, documents
                    at = value_at + self._taken(made, header, those, value_at, path, depth)
                elif here.any():
                    value_at, those = at[here] + header.length, documents[here]
                    at[here] = value_at + self._taken(made, header, those, value_at, path, depth)
            if at.max() >= source.end:
                raise damaged()
            left = source.data[at] != 0
            if not left.all():
                documents, starts, at = documents[left], starts[left], at[left]
            for start in starts[:_LESSONS].tolist():
                self._learn(source, known, start, path)

    def _taken(self, made: Walked, header: _Header, documents: Places, at: Places, path: Path, depth: int) -> Places | int:
        """Notes values where they stand; their sizes."""
        size = sizes(made.source, header.code, at)
        own = (*path, header.name)
        if header.code == OBJECT and (depth > 0 or self._leads(own)):
            filled = made.source.short[at] > 5
            if filled.any():
                self._enter(made, header.inside, documents[filled], at[filled], own, depth - 1)
            documents, at = documents[~filled], at[~filled]
            if not len(at):
                return size
        if header.code == BINARY:
            uuids = np.array([is_uuid(made.source.whole, each) == UUID for each in at.tolist()], bool)
            _note(made, own, UUID, documents[uuids], at[uuids])
            documents, at = documents[~uuids], at[~uuids]
        _note(made, own, header.code, documents, at)
        return size

    def _leads(self, path: Path) -> bool:
        """Whether an object is on the way to the array whose elements are rows, or stands there as if it were the only one."""
        return len(path) <= len(self.rows_of) and self.rows_of[: len(path)] == path

    def _learn(self, source: Bytes, known: list[_Header], start: int, path: Path) -> None:
        """What a document has that nobody had before, put where it stands among what others have."""
        places = {header.raw: number for number, header in enumerate(known)}
        behind = 0
        for head, at in headers(source.whole, start):
            raw = source.whole[head:at]
            here = places.get(raw)
            if here is None:
                self.count += 1
                if self.count > MAX_FIELDS:
                    under = f" of '{'.'.join(path)}'" if path else ""
                    raise ResultTooLarge(
                        f"the documents{under} have more than {MAX_FIELDS:,} fields.",
                        "Project the fields that are wanted, or keep objects as JSON: set depth to 0.",
                    )
                header = _Header(raw)
                same = [number for number, each in enumerate(known) if each.name == header.name]
                here = same[-1] + 1 if same else behind
                known.insert(here, header)
                places = {each.raw: number for number, each in enumerate(known)}
            behind = here + 1

    def _unfold(self, made: Walked) -> None:
        """Elements of the one array as rows; a document without any stays a row."""
        found = made.found.pop((self.rows_of, ARRAY), None)
        arrays, places = found.in_order() if found else (np.empty(0, np.int64), np.empty(0, np.int64))
        those: list[tuple[int, Places, Places, Places]] = list(_elements(made.source, arrays, places))
        counts = np.ones(made.rows, np.int64)
        if those:
            every = np.concatenate([documents for _, documents, _, _ in those])
            held = np.bincount(every, minlength=made.rows)
            counts = np.maximum(held, 1)
        made.documents = np.repeat(np.arange(made.rows), counts)
        first = np.cumsum(counts) - counts
        made.rows = len(made.documents)
        for (path, _), each in made.found.items():  # what stands there without a list is a row of its own
            if self.of_elements(path):
                each.documents = [first[documents] for documents in each.documents]
        for code, documents, numbers, at in those:
            header = next((each for each in self.known_of_elements if each.code == code), None)
            if header is None:
                header = _Header(bytes([code]) + self.rows_of[-1].encode() + b"\0")
                self.known_of_elements.append(header)
            rows = first[documents] + numbers
            order = np.argsort(at)  # in the order of the batch's bytes, as everybody expects places
            self._taken(made, header, rows[order], at[order], self.rows_of[:-1], max(self.depth, 1))

    def of_elements(self, path: Path) -> bool:
        """Whether what stands at the path is of an element, not of the document as a whole."""
        return bool(self.rows_of) and path[: len(self.rows_of)] == self.rows_of


def _note(made: Walked, path: Path, code: int, documents: Places, at: Places) -> None:
    if len(at):
        found = made.found.setdefault((path, code), Found())
        found.documents.append(documents)
        found.places.append(at)


def _elements(source: Bytes, documents: Places, starts: Places) -> Iterator[tuple[int, Places, Places, Places]]:
    """Of arrays: type, document, number from 0 and place of their elements, those of one type together."""
    gathered: dict[int, list[tuple[Places, Places, Places]]] = {}
    at, number = starts + 4, 0
    while len(at):
        if at.max() >= source.end:
            raise damaged()
        codes = source.data[at]
        left = codes != 0
        documents, at, codes = documents[left], at[left], codes[left]
        value_at = at + 2 + len(str(number))
        at = value_at.copy()
        for code in np.unique(codes).tolist():
            here = codes == code
            gathered.setdefault(code, []).append((documents[here], np.full(int(here.sum()), number, np.int64), value_at[here]))
            at[here] += sizes(source, code, value_at[here])
        number += 1
    for code, pieces in gathered.items():
        every, numbers, places = (np.concatenate(each) for each in zip(*pieces, strict=True))
        yield code, every, numbers, places
