"""What formats of text share: the encoding, and finding the cell that does not fit it."""

from __future__ import annotations

import codecs
from collections.abc import Mapping
from typing import Any

import pyarrow.compute as pc

from ..columns import Batch
from ..errors import BadInput, ValueUnfit
from ..options import Option
from .base import FormatWriter, Target, any_true

_BOM = "utf-8-bom"


def checked_encoding(value: str) -> str:
    """The codec's own name. Raises BadInput."""
    if value.lower() in (_BOM, "utf-8-sig"):
        return _BOM
    try:
        found = codecs.lookup(value)
        found.encode("a\n")
    except (LookupError, UnicodeError, TypeError, ValueError):
        raise BadInput(
            f"'{value}' is not an encoding.",
            f"Take utf-8, {_BOM}, utf-16, windows-1252, iso-8859-1, iso-8859-15 or another codec.",
        ) from None
    return value.lower()


def plain_name(encoding: str) -> str:
    """The codec that reads the text, byte order mark aside."""
    return "utf-8" if encoding == _BOM else encoding


ENCODING_OPTIONS = (
    Option(
        "encoding",
        "utf-8",
        f"of the text: utf-8, {_BOM} (with byte order mark), utf-16, windows-1252, …",
        check=checked_encoding,
    ),
    Option("stand_in", "", "what stands for a character that the encoding lacks; unless set the run is refused, naming it"),
)


class Encoder:
    """Assembled UTF-8 text on its way to a file in another encoding."""

    def __init__(self, options: Mapping[str, Any]) -> None:
        encoding = options["encoding"]
        self.start = codecs.BOM_UTF8 if encoding == _BOM else b""
        self.plain = encoding in ("utf-8", "utf8", _BOM)
        self.name, self.stand_in = encoding, options["stand_in"]
        self.replaced = 0
        self.encoder = None if self.plain else codecs.getincrementalencoder(encoding)(self._handler())

    def _handler(self) -> str:
        if not self.stand_in:
            return "strict"
        name = f"ladle-stand-in-{id(self)}"

        def replace(error: UnicodeError) -> tuple[str, int]:
            assert isinstance(error, UnicodeEncodeError)
            self.replaced += error.end - error.start
            return self.stand_in * (error.end - error.start), error.end

        codecs.register_error(name, replace)
        return name

    def encoded(self, text: Any) -> Any:
        """The bytes to write. Raises UnicodeEncodeError."""
        if self.encoder is None:
            return text
        return self.encoder.encode(bytes(text).decode())


class TextWriter(FormatWriter):
    """What writers of lines of text share: the encoding, and finding the cell that does not fit it."""

    def __init__(self, target: Target, options: Mapping[str, Any]) -> None:
        super().__init__(target, options)
        self.encoder = Encoder(options)
        if self.encoder.start:
            target.file.write(self.encoder.start)

    def put(self, text: Any, batch: Batch | None = None) -> None:
        """Write assembled UTF-8. ``batch``: the rows it was made of, to name the one that does not fit."""
        try:
            self.target.file.write(self.encoder.encoded(text))
        except UnicodeEncodeError as error:
            raise self._unfit(error.object[error.start], batch) from error
        if self.encoder.replaced:
            self.warn(f"characters that {self.encoder.name} lacks: written as '{self.encoder.stand_in}'")

    def _unfit(self, char: str, batch: Batch | None) -> ValueUnfit:
        what = f"the character '{char}' (U+{ord(char):04X}) is not in the encoding {self.encoder.name}"
        hint = "Choose utf-8, or a stand_in for such characters."
        if batch is not None:
            for column, array in zip(self.columns, batch.cells, strict=True):
                found = pc.match_substring(array, char)
                if any_true(found):
                    return self.unfit(column, found, what, hint)
        return ValueUnfit(f"in a column's name or a word of the options: {what}.", hint)
