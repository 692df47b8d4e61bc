"""What formats of text share: the encoding, and finding the cell that does not fit it."""

from __future__ import annotations

import codecs
import re
from collections.abc import Mapping
from typing import Any

import pyarrow.compute as pc

from patient_ladle.core.errors import BadInput, ValueUnfit
from patient_ladle.core.results.columns import NUMERIC, Batch, Column

from ..options import Option
from .base import FormatWriter, Target, any_true
from .styles import one_line

_BOM = "utf-8-bom"


ENCODINGS = (
    "utf-8", _BOM, "utf-16", "utf-16-le", "utf-16-be", "utf-32", "us-ascii",
    *(f"windows-{number}" for number in range(1250, 1259)),
    *(f"iso-8859-{number}" for number in (1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 13, 14, 15, 16)),
    "cp437", "cp850", "cp852", "cp855", "cp858", "cp862", "cp866", "koi8-r", "koi8-u", "macintosh",
    "gb18030", "gbk", "big5", "shift_jis", "cp932", "euc-jp", "euc-kr", "cp037", "cp500", "cp1140",
)  # fmt: skip
"""Those that carry any line end, quote and digit to and fro, and that other programs know by these names (IANA's, mostly)."""
_BY_CODEC = {codecs.lookup(name).name: name for name in reversed(ENCODINGS) if name != _BOM}


_COMES_BACK_OTHERWISE = {"shift_jis": "¥‾", "cp932": "¢£¬‖−〜", "euc-jp": "¥‾", "euc-kr": "\u3164"}
"""Characters that such an encoding writes as another one: it lacks them as well."""


def listed_encoding(value: str) -> str:
    """The name in the list for any name of the same codec; what is not in the list comes back as it is."""
    if value.lower() in (_BOM, "utf-8-sig"):
        return _BOM
    try:
        return _BY_CODEC.get(codecs.lookup(value).name, value)
    except (LookupError, ValueError):
        return value


def plain_name(encoding: str) -> str:
    """The codec that reads the text, byte order mark aside."""
    return "utf-8" if encoding == _BOM else encoding


ENCODING_OPTIONS = (
    Option(
        "encoding",
        "utf-8",
        f"of the text: utf-8, {_BOM} (with byte order mark), utf-16, windows-1252, …",
        ENCODINGS,
        alias=listed_encoding,
    ),
    Option(
        "replacement",
        "",
        "what stands for a character that the encoding lacks; by default the run is refused, naming it",
        check=one_line,
    ),
)


_LIKE_VALUE = re.compile(r"[-+]?[\d.,:' \u202fTZe+-]*\d[\d.,:' \u202fTZe+-]*|[-+]?inf(inity)?|nan", re.IGNORECASE)
"""A text that a number, a date, a time or the double that is no number may look like."""


def checked_words(options: Mapping[str, Any]) -> None:
    """Refuse words that make a file ambiguous, or that its encoding lacks. Raises BadInput."""
    if options["decimal_separator"] == options["thousands_separator"]:
        raise BadInput("decimal_separator and thousands_separator are the same.", "Choose two that differ.")
    if options["true_as"] == options["false_as"]:
        raise BadInput(f"true_as and false_as are both '{options['true_as']}'.", "Choose two that differ.")
    for name in ("true_as", "false_as"):
        if options[name] == options["null_as"]:
            raise BadInput(
                f"{name} and null_as are both '{options['null_as']}': nobody could tell them apart.", "Choose two that differ."
            )
    if options["replacement"] and options["replacement"] in options["null_as"]:
        raise BadInput(
            "null_as holds what replacement puts into texts: nobody could tell them apart.", "Choose two that differ."
        )
    if _LIKE_VALUE.fullmatch(options["null_as"]):
        raise BadInput(
            f"null_as is '{options['null_as']}', which a value may look like.", "Take a text that no value is, such as NULL."
        )
    for name in ("delimiter", "null_as", "replacement", "true_as", "false_as", "decimal_separator", "thousands_separator"):
        value, encoding = options.get(name, ""), options["encoding"]
        try:
            Encoder({"encoding": encoding, "replacement": ""}).encoded(value.encode())
        except UnicodeEncodeError:
            raise BadInput(
                f"{name} is '{value}', which {encoding} lacks.", "Take another one, or the encoding utf-8."
            ) from None


_FORM_OPTIONS = {"date": "date_format", "time": "time_format", "timestamp": "timestamp_format", "zoned": "timestamp_format"}


def field_facts(column: Column, options: Mapping[str, Any]) -> dict[str, Any]:
    """How the styles have written a column's values, in the descriptor's words."""
    made: dict[str, Any] = {}
    form = column.pattern or options[_FORM_OPTIONS[column.kind]] if column.kind in _FORM_OPTIONS else ""
    if form:
        made["format"] = form
    if column.kind == "binary" and options["binary"] == "base64":
        made["format"] = "binary"
    if column.kind in NUMERIC and options["decimal_separator"] != ".":
        made["decimalChar"] = options["decimal_separator"]
    if column.kind in NUMERIC and options["thousands_separator"]:
        made["groupChar"] = options["thousands_separator"]
    if column.kind == "boolean" and (options["true_as"], options["false_as"]) != ("true", "false"):
        made |= {"trueValues": [options["true_as"]], "falseValues": [options["false_as"]]}
    return made


class Encoder:
    """Assembled UTF-8 text on its way to a file in another encoding."""

    def __init__(self, options: Mapping[str, Any]) -> None:
        encoding = options["encoding"]
        self.start = codecs.BOM_UTF8 if encoding == _BOM else b""
        self.plain = encoding in ("utf-8", _BOM)
        self.name, self.replacement = encoding, options["replacement"]
        self.replaced = 0
        self.encoder = None if self.plain else codecs.getincrementalencoder(encoding)(self._handler())

    def _handler(self) -> str:
        if not self.replacement:
            return "strict"
        name = f"ladle-stand-in-{id(self)}"

        def replace(error: UnicodeError) -> tuple[str, int]:
            assert isinstance(error, UnicodeEncodeError)
            self.replaced += error.end - error.start
            return self.replacement * (error.end - error.start), error.end

        codecs.register_error(name, replace)
        return name

    def encoded(self, text: Any) -> Any:
        """The bytes to write. Raises UnicodeEncodeError."""
        if self.encoder is None:
            return text
        plain = bytes(text).decode()
        for char in _COMES_BACK_OTHERWISE.get(self.name, ""):
            if char in plain:
                if not self.replacement:
                    at = plain.index(char)
                    raise UnicodeEncodeError(self.name, plain, at, at + 1, "would come back as another character")
                self.replaced += plain.count(char)
                plain = plain.replace(char, self.replacement)
        return self.encoder.encode(plain)


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
            self.warn(f"characters that {self.encoder.name} lacks: written as '{self.encoder.replacement}'")

    def _unfit(self, char: str, batch: Batch | None) -> ValueUnfit:
        what = f"the character '{char}' (U+{ord(char):04X}) is not in the encoding {self.encoder.name}"
        hint = "Choose utf-8, or a replacement for such characters."
        if batch is not None:
            for column, array in zip(self.columns, batch.cells, strict=True):
                found = pc.match_substring(array, char)
                if any_true(found):
                    return self.unfit(column, found, what, hint)
        return ValueUnfit(f"in a column's name or a word of the options: {what}.", hint)
