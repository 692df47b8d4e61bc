"""CSV files as tables: nothing in them is changed.

A column is text unless its kind was declared, or every one of its values proves it: read as that kind and written again, each is
the text that stands in the file. ``007``, ``1.10`` beside ``1.1``, ``+44123`` and numbers beyond their type stay text.
Null is nothing between delimiters, or one of the null words where some were declared; a quoted text is never null.

Encoding, delimiter, header, null words and kinds are declared for all files of a source in its address, and for each file in a
``datapackage.json`` (datapackage.org, version 2) that lies in the folder, as results of ours have one beside them.
"""

from __future__ import annotations

import codecs
import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.dataset as datasets
from pyarrow import csv

from patient_ladle.core.errors import SourceNotReadable
from patient_ladle.words import listed

from .base import AddressField

KINDS = ("text", "integer", "decimal", "float", "boolean", "date", "timestamp", "zoned")
FIELDS = {
    "csv_encoding": AddressField(str, "encoding of CSV files, such as windows-1252; default utf-8"),
    "csv_delimiter": AddressField(str, "between the values of CSV files: one character, or tab; default comma"),
    "csv_header": AddressField(str, "whether the first line of CSV files has names: yes or no, default yes"),
    "csv_nulls": AddressField(str, "words for null in CSV files, separated by commas; default: nothing between delimiters"),
    "csv_kinds": AddressField(
        str,
        "kinds of columns of CSV files: exact (what all values prove; default) or text, then declared ones:"
        " exact, readings.litres=decimal, meters.serial=text",
    ),
}
_BLOCK = 4 << 20
HEAD_BYTES = 8 << 20
"""So much of a file is looked at for the catalogue, where a statement looks at all of it."""
_MOST_DESCRIPTOR_BYTES = 4 << 20
_DATE, _CLOCK = r"[0-9]{4}-[0-9]{2}-[0-9]{2}", r"[0-9]{2}:[0-9]{2}:[0-9]{2}(\.[0-9]{0,5}[1-9])?"
_PROOFS = {
    "boolean": "true|false",
    "integer": "0|-?[1-9][0-9]{0,17}",
    "decimal": r"-?(0|[1-9][0-9]*)(\.[0-9]+)?",
    "date": _DATE,
    "timestamp": f"{_DATE} {_CLOCK}",
    "zoned": f"{_DATE}T{_CLOCK}Z",
}
"""How every value must look to be written again as it was read."""
_TYPES: dict[str, pa.DataType] = {
    "text": pa.string(), "integer": pa.int64(), "float": pa.float64(), "boolean": pa.bool_(), "date": pa.date32(),
    "timestamp": pa.timestamp("us"), "zoned": pa.timestamp("us", "UTC"),
}  # fmt: skip
_STANDARD = {"string": "text", "integer": "integer", "number": "decimal", "boolean": "boolean", "date": "date", "any": ""}
"""Types of the descriptor's standard, written in its default way; all others are read as text."""


@dataclass(frozen=True, slots=True)
class Reading:
    """How files of a table are read. ``kinds``: by column; ``exact``: whether the others' may be proven."""

    encoding: str = "utf-8"
    delimiter: str = ","
    header: bool = True
    nulls: tuple[str, ...] = ("",)
    exact: bool = True
    kinds: Mapping[str, str] = field(default_factory=dict)

    def options(self, types: Mapping[str, pa.DataType], names: Sequence[str]) -> dict[str, Any]:
        """For the reader of CSV."""
        return {
            "read_options": csv.ReadOptions(
                encoding=self.encoding, block_size=_BLOCK, column_names=None if self.header else list(names), use_threads=False
            ),
            "parse_options": csv.ParseOptions(delimiter=self.delimiter, newlines_in_values=True, ignore_empty_lines=False),
            "convert_options": csv.ConvertOptions(
                column_types=dict(types), null_values=list(self.nulls), strings_can_be_null=True, quoted_strings_can_be_null=False,
                true_values=["true"], false_values=["false"],
            ),
        }  # fmt: skip


def reading_of(address: Mapping[str, Any], table: str, descriptors: Mapping[Path, Mapping[str, Any]], path: Path) -> Reading:
    """What the address declares, and over it what a descriptor says of the table's first file. Raises SourceNotReadable."""
    word, *declared = listed(str(address.get("csv_kinds") or "exact"))
    kinds = {}
    for each in filter(None, declared):
        name, _, kind = (part.strip() for part in each.partition("="))
        if kind not in KINDS or "." not in name:
            raise _wrong(
                f"'{each}' of csv_kinds is not a declaration", f"Write readings.litres=decimal; kinds are {', '.join(KINDS)}."
            )
        of, _, column = name.partition(".")
        if of.lower() == table.lower():
            kinds[column] = kind
    if word.strip() not in ("exact", "text"):
        raise _wrong(f"csv_kinds begins with '{word.strip()}'", "Write exact or text, then declarations, separated by commas.")
    header = str(address.get("csv_header") or "yes").lower()
    if header not in ("yes", "no"):
        raise _wrong(f"csv_header is '{header}'", "Write yes or no.")
    nulls = tuple(listed(str(address.get("csv_nulls") or "")))
    made = Reading(
        str(address.get("csv_encoding") or "utf-8"),
        _delimiter(str(address.get("csv_delimiter") or ",")),
        header == "yes",
        tuple(dict.fromkeys(("", *nulls))),
        word.strip() == "exact",
        kinds,
    )
    made = _described(made, descriptors.get(path, {}))
    try:
        codecs.lookup(made.encoding)
    except LookupError:
        raise _wrong(f"'{made.encoding}' is not an encoding", "Declare utf-8, windows-1252, iso-8859-1 or another.") from None
    return made


def _delimiter(given: str) -> str:
    made = {"tab": "\t", "comma": ",", "semicolon": ";", "pipe": "|"}.get(given.lower(), given)
    if len(made) != 1 or made in '"\r\n' or not made.isascii():
        raise _wrong(f"'{given}' cannot be a delimiter", "Declare one character, or tab.")
    return made


def _described(made: Reading, resource: Mapping[str, Any]) -> Reading:
    """``made`` with what a descriptor says of the file; a type that it writes in a way of its own is read as text."""
    if not resource:
        return made
    dialect, schema = resource.get("dialect") or {}, resource.get("schema") or {}
    kinds = dict(made.kinds)
    for each in schema.get("fields") or ():
        if made.kinds.get(each["name"]) is None:
            usual = each.get("format") in (None, "default") and not {"decimalChar", "groupChar", "trueValues"} & each.keys()
            kinds[each["name"]] = _STANDARD.get(each.get("type", "any"), "text") if usual else "text"
            if usual and each.get("type") == "datetime":
                kinds[each["name"]] = ""  # with a zone or without one: its values prove it
    return replace(
        made,
        encoding=str(resource.get("encoding") or made.encoding),
        delimiter=_delimiter(str(dialect.get("delimiter") or made.delimiter)),
        header=bool(dialect.get("header", made.header)),
        nulls=tuple(dict.fromkeys(("", *map(str, schema.get("missingValues") or made.nulls)))),
        kinds=kinds,
    )


def descriptors_in(folder: Path) -> dict[Path, Mapping[str, Any]]:
    """What descriptors in the folder say, by file. Raises SourceNotReadable for one that is none."""
    found: dict[Path, Mapping[str, Any]] = {}
    for path in sorted(folder.glob("*datapackage.json")):
        try:
            if path.stat().st_size > _MOST_DESCRIPTOR_BYTES:
                raise ValueError("it is longer than 4 MB")
            for resource in json.loads(path.read_bytes())["resources"]:
                paths = resource["path"] if isinstance(resource["path"], list) else [resource["path"]]
                found |= {folder / each: resource for each in paths}
        except (ValueError, KeyError, TypeError, OSError) as error:
            raise _wrong(f"'{path.name}' is not a data package: {error}", "Correct or remove it.") from error
    return found


def _wrong(what: str, hint: str) -> SourceNotReadable:
    return SourceNotReadable(f"{what}.", hint)


@contextmanager
def readable(path: Path) -> Iterator[None]:
    """A file that is not what its name, or its declaration, says ends in SourceNotReadable with its name."""
    try:
        yield
    except (pa.ArrowException, OSError, UnicodeError, ValueError) as error:
        said = str(error).splitlines()[0]
        hint = "Correct or remove the file."
        if isinstance(error, UnicodeError) or "UTF8" in said.upper():
            said, hint = "its text is not in the encoding declared", "Declare the encoding: csv_encoding=windows-1252, say."
        raise SourceNotReadable(f"'{path.name}' cannot be read: {said}.", hint) from error


def names_in(path: Path, reading: Reading) -> list[str]:
    """Names of a file's columns: those of its header, or ``column_1`` and so on. Raises SourceNotReadable."""
    with readable(path):
        if path.stat().st_size == 0:
            return []
        first = replace(reading, header=True).options({}, ())
        with csv.open_csv(str(path), **first) as reader:
            names = [str(name) for name in reader.schema.names]
    if not reading.header:
        return [f"column_{number}" for number in range(1, len(names) + 1)]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        raise _wrong(f"'{path.name}' has two columns named '{twice}'", "Rename one in the file.")
    return names


class _Column:
    """What a column can still be, after the values seen so far."""

    def __init__(self, declared: str, exact: bool) -> None:
        self.declared = declared
        self.left = set(_PROOFS) if exact and not declared else set()
        self.seen = False
        self.places: set[int] = set()
        self.digits = 0

    def see(self, values: pa.Array[Any]) -> None:
        values = values.drop_null()
        if not len(values):
            return
        self.seen = True
        for kind in sorted(self.left):
            if not pc.all(pc.match_substring_regex(values, f"^(?:{_PROOFS[kind]})$")).as_py() or not _held(values, kind):
                self.left.discard(kind)
        if "decimal" in self.left or self.declared == "decimal":
            point = pc.find_substring(values, ".")
            lengths = pc.binary_length(values)
            places = pc.if_else(pc.less(point, 0), 0, pc.subtract(pc.subtract(lengths, point), 1))
            self.places |= set(pc.unique(places).to_pylist())
            self.digits = max(self.digits, pc.max(lengths).as_py())
            if len(self.places) > 1 or pc.any(pc.match_substring_regex(values, r"^-0(\.0+)?$")).as_py():
                self.left.discard("decimal")

    def type(self) -> pa.DataType:
        """What it is read as."""
        if self.declared == "decimal" or (self.seen and self.left == {"decimal"}):
            places = max(self.places, default=0)
            return pa.decimal128(38, places) if self.digits <= 37 else pa.string()
        if self.declared:
            return _TYPES[self.declared]
        kinds = self.left - {"decimal"} if self.seen else set()
        return _TYPES[kinds.pop()] if len(kinds) == 1 else pa.string()


def _held(values: pa.Array[Any], kind: str) -> bool:
    if kind not in ("date", "timestamp", "zoned"):
        return True
    plain = pc.replace_substring(pc.replace_substring(values, "T", " "), "Z", "")
    try:
        plain.cast(_TYPES["date" if kind == "date" else "timestamp"])
    except pa.ArrowInvalid:
        return False
    return not pc.any(pc.starts_with(values, "0000")).as_py()


def types_of(paths: Iterable[Path], reading: Reading, most_bytes: int | None = None) -> dict[str, pa.DataType]:
    """Types of all columns that the files have, in their order; from the first bytes alone where ``most_bytes`` is given.

    Raises SourceNotReadable.
    """
    found: dict[str, _Column] = {}
    for path in paths:
        names = names_in(path, reading)
        for name in names:
            found.setdefault(name, _Column(reading.kinds.get(name, ""), reading.exact))
        wanted = [name for name in names if found[name].left or found[name].declared == "decimal"]
        if not wanted:
            continue
        with readable(path), csv.open_csv(str(path), **reading.options(dict.fromkeys(names, pa.string()), names)) as reader:
            read = 0
            for batch in reader:
                for name in wanted:
                    if found[name].left or found[name].declared:
                        found[name].see(batch.column(batch.schema.get_field_index(name)))
                read += batch.nbytes
                if most_bytes is not None and read > most_bytes:
                    break
    return {name: column.type() for name, column in found.items()}


def dataset_of(paths: Sequence[Path], reading: Reading) -> datasets.Dataset:
    """The files as one table with all columns that any of them has. Raises SourceNotReadable."""
    paths = [path for path in paths if path.stat().st_size]
    types = types_of(paths, reading)
    if not types:
        raise _wrong("the files of this table are empty", "Put a header into them, or remove them.")
    names = list(types) if not reading.header else ()
    given = datasets.CsvFileFormat(**reading.options(types, names))
    with readable(paths[0]):
        return datasets.dataset([str(path) for path in paths], schema=pa.schema(list(types.items())), format=given)
