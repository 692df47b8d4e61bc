"""What formats of text share: the encoding, and finding the cell that does not fit it."""

from __future__ import annotations

import codecs
import re
from collections.abc import Mapping
from typing import Any

import pyarrow.compute as pc

from ..columns import NUMERIC, Batch, Column
from ..errors import BadInput, ValueUnfit
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
        "stand_in",
        "",
        "what stands for a character that the encoding lacks; unless set the run is refused, naming it",
        check=one_line,
    ),
)


_LIKE_VALUE = re.compile(r"[-+]?[\d.,:' \u202fTZe+-]*\d[\d.,:' \u202fTZe+-]*|[-+]?inf(inity)?|nan", re.IGNORECASE)
"""A text that a number, a date, a time or the double that is no number may look like."""


def checked_words(options: Mapping[str, Any]) -> None:
    """Refuse words that make a file ambiguous, or that its encoding lacks. Raises BadInput."""
    if options["decimal_sign"] == options["thousands_sign"]:
        raise BadInput("decimal_sign and thousands_sign are the same.", "Choose two that differ.")
    if options["true_word"] == options["false_word"]:
        raise BadInput(f"true_word and false_word are both '{options['true_word']}'.", "Choose two that differ.")
    for name in ("true_word", "false_word"):
        if options[name] == options["absent"]:
            raise BadInput(
                f"{name} and absent are both '{options['absent']}': nobody could tell them apart.", "Choose two that differ."
            )
    if options["stand_in"] and options["stand_in"] in options["absent"]:
        raise BadInput("absent holds what stand_in puts into texts: nobody could tell them apart.", "Choose two that differ.")
    if _LIKE_VALUE.fullmatch(options["absent"]):
        raise BadInput(
            f"absent is '{options['absent']}', which a value may look like.", "Take a text that no value is, such as NULL."
        )
    for name in ("delimiter", "absent", "stand_in", "true_word", "false_word", "decimal_sign", "thousands_sign"):
        value, encoding = options.get(name, ""), options["encoding"]
        try:
            Encoder({"encoding": encoding, "stand_in": ""}).encoded(value.encode())
        except UnicodeEncodeError:
            raise BadInput(
                f"{name} is '{value}', which {encoding} lacks.", "Take another one, or the encoding utf-8."
            ) from None


_FORM_OPTIONS = {"date": "date_form", "time": "time_form", "timestamp": "timestamp_form", "zoned": "timestamp_form"}


def field_facts(column: Column, options: Mapping[str, Any]) -> dict[str, Any]:
    """How the styles have written a column's values, in the descriptor's words."""
    made: dict[str, Any] = {}
    form = column.form or options[_FORM_OPTIONS[column.kind]] if column.kind in _FORM_OPTIONS else ""
    if form:
        made["format"] = form
    if column.kind == "binary" and options["binary"] == "base64":
        made["format"] = "binary"
    if column.kind in NUMERIC and options["decimal_sign"] != ".":
        made["decimalChar"] = options["decimal_sign"]
    if column.kind in NUMERIC and options["thousands_sign"]:
        made["groupChar"] = options["thousands_sign"]
    if column.kind == "boolean" and (options["true_word"], options["false_word"]) != ("true", "false"):
        made |= {"trueValues": [options["true_word"]], "falseValues": [options["false_word"]]}
    return made


class Encoder:
    """Assembled UTF-8 text on its way to a file in another encoding."""

    def __init__(self, options: Mapping[str, Any]) -> None:
        encoding = options["encoding"]
        self.start = codecs.BOM_UTF8 if encoding == _BOM else b""
        self.plain = encoding in ("utf-8", _BOM)
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
        plain = bytes(text).decode()
        for char in _COMES_BACK_OTHERWISE.get(self.name, ""):
            if char in plain:
                if not self.stand_in:
                    at = plain.index(char)
                    raise UnicodeEncodeError(self.name, plain, at, at + 1, "would come back as another character")
                self.replaced += plain.count(char)
                plain = plain.replace(char, self.stand_in)
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
