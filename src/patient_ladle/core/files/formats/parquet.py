"""Parquet: typed columns for programs that compute. Kinds without a type there (JSON, times, mixed ones) are texts; with
``types=text`` every column is one, exactly as it came, and mixed ones say of each value whether it is a number."""

from __future__ import annotations

import base64
import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, BinaryIO, ClassVar, cast

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

from patient_ladle.core.results.arrow_text import canonical_array, kind_of
from patient_ladle.core.results.columns import Batch, Column

from ..options import Option
from .base import Format, FormatWriter, Sink, Target
from .styles import NUMBER_FORM, rounded
from .tables import Table, columns_of, whole

_SCALED = re.compile(r"\((\d+), ?(-?\d+)\)")
_MOST_DIGITS = 38
"""Of a decimal of 128 bits."""
_PLAIN: dict[str, pa.DataType] = {
    "integer": pa.int64(), "float": pa.float64(), "boolean": pa.bool_(), "date": pa.date32(),
    "timestamp": pa.timestamp("us"), "zoned": pa.timestamp("us", "UTC"), "binary": pa.binary(),
}  # fmt: skip
READ_ROWS = 16_384
"""At once: each batch costs each column a look, and a row of long texts is no batch of its own."""
_GROUP_BYTES = 32 << 20
"""Texts gathered before a row group is written."""
_KEPT_GROUP_BYTES = 8 << 20
"""The same where all are texts: they are read again whole, and a reader holds a group of each column."""
OPTIONS = (
    Option("compression", "zstd", "how the columns are packed", ("zstd", "snappy", "gzip", "none")),
    Option("types", "typed", "each column in a type of its own, or as its text, whatever it holds", ("typed", "text")),
)
_MARKED = pa.struct([("text", pa.string()), ("number", pa.bool_())])
"""A value of a mixed column, where all are texts."""


def _type_of(column: Column) -> pa.DataType:
    if column.kind == "decimal":
        found = _SCALED.search(column.source_type)
        formed = NUMBER_FORM.fullmatch(column.pattern) if column.pattern else None
        if formed:
            return pa.decimal128(_MOST_DIGITS, len(formed.group(3) or ""))
        if found:
            digits, places = int(found.group(1)), int(found.group(2))
            digits, places = max(digits - min(places, 0), places), max(places, 0)
            if digits <= _MOST_DIGITS:
                return pa.decimal128(digits, places)
    return _PLAIN.get(column.kind, pa.string())


def _kept_type(column: Column) -> pa.DataType:
    """Where all are texts."""
    return _MARKED if column.kind == "any" else pa.string()


def _marked(array: pa.Array[Any], numbers: pa.Array[Any] | None) -> pa.Array[Any]:
    marks = pa.repeat(False, len(array)) if numbers is None else pc.fill_null(numbers, False)
    return pa.StructArray.from_arrays([array, marks], fields=list(_MARKED), mask=array.is_null())


def _typed(array: pa.Array[Any], wanted: pa.DataType) -> pa.Array[Any]:
    if wanted == pa.string():
        return array
    if wanted == pa.binary():
        return pa.array([None if v is None else base64.b64decode(v) for v in array.to_pylist()], pa.binary())
    if pa.types.is_timestamp(wanted):
        plain = pc.replace_substring(pc.replace_substring(array, "T", " "), "Z", "").cast(pa.timestamp("us"))
        return pc.assume_timezone(plain, "UTC") if wanted.tz else plain
    return array.cast(wanted)


class _Out:
    """The sink as a file that knows where it is."""

    closed = False

    def __init__(self, sink: Sink) -> None:
        self.sink, self.at = sink, 0

    def write(self, data: Any) -> int:
        self.sink.write(data)
        self.at += len(data)
        return len(data)

    def tell(self) -> int:
        return self.at

    def flush(self) -> None:
        return None

    def close(self) -> None:
        self.closed = True


class ParquetWriter(FormatWriter):
    """See FormatWriter."""

    def begin(self, title: str, columns: Sequence[Column]) -> None:
        self.columns = columns
        self.as_text = self.options["types"] == "text"
        self.types = [_kept_type(column) if self.as_text else _type_of(column) for column in columns]
        for column, wanted in zip(columns, self.types, strict=True):
            if column.kind in ("decimal", "any") and wanted == pa.string() and not self.as_text:
                self.warn(f"column '{column.name}' has no one type with known digits: written as text")
        self.schema = pa.schema([pa.field(c.name, t) for c, t in zip(columns, self.types, strict=True)])
        compression: Any = None if self.options["compression"] == "none" else self.options["compression"]
        self.made = pq.ParquetWriter(
            pa.PythonFile(cast("Any", _Out(self.target.file)), mode="w"), self.schema, compression=compression
        )
        self.waiting: list[pa.RecordBatch] = []
        self.size = 0

    def _cast(self, column: Column, array: pa.Array[Any], numbers: pa.Array[Any] | None, wanted: pa.DataType) -> pa.Array[Any]:
        if self.as_text:
            return _marked(array, numbers) if wanted == _MARKED else array
        if column.kind == "decimal" and column.pattern:
            array = rounded(array, column.pattern)
        try:
            return _typed(array, wanted)
        except (pa.ArrowInvalid, ValueError):
            bad = pa.array([not _fits(array.slice(n, 1), wanted) for n in range(len(array))])
            hint = "Set the column's type to text for this output, or change the statement."
            raise self.unfit(column, bad, f"the value is no {wanted}", hint) from None

    def write(self, batch: Batch) -> None:
        given = zip(self.columns, batch.cells, batch.numbers, self.types, strict=True)
        cells = [self._cast(column, array, numbers, wanted) for column, array, numbers, wanted in given]
        self.waiting.append(pa.record_batch(cells, schema=self.schema))
        self.size += batch.bytes
        self.rows += batch.rows
        if self.size >= (_KEPT_GROUP_BYTES if self.as_text else _GROUP_BYTES):
            self._put_group()

    def _put_group(self) -> None:
        if self.waiting:
            self.made.write_table(pa.Table.from_batches(self.waiting, self.schema))
        self.waiting, self.size = [], 0

    def waiting_bytes(self) -> int:
        return self.size

    def end(self) -> None:
        self._put_group()
        self.made.close()


def _fits(one: pa.Array[Any], wanted: pa.DataType) -> bool:
    try:
        _typed(one, wanted)
    except (pa.ArrowInvalid, ValueError):
        return False
    return True


def _opened(file: BinaryIO) -> pq.ParquetFile:
    """Read piece by piece: what is fetched ahead would be held until the whole file was read."""
    return pq.ParquetFile(whole(file), pre_buffer=False)


def _batches(content: pq.ParquetFile, names: list[str] | None = None) -> Iterator[Batch]:
    """``names``: of the columns that are wanted, all of them where it is None."""
    for batch in content.iter_batches(batch_size=READ_ROWS, columns=names):
        marked = [column.type == _MARKED for column in batch.columns]
        cells = [_field(c, 0) if m else canonical_array(c) for c, m in zip(batch.columns, marked, strict=True)]
        numbers = [_field(c, 1) if m else None for c, m in zip(batch.columns, marked, strict=True)]
        yield Batch(cells, numbers, batch.num_rows)


def _field(values: pa.Array[Any], place: int) -> pa.Array[Any]:
    """One half of a mixed column's values."""
    found: pa.Array[Any] = pc.struct_field(values, [place])
    return found


class ParquetFormat(Format):
    """See Format."""

    name = "parquet"
    counter = "parquet"
    lines = False
    extension = ".parquet"
    media_type = "application/vnd.apache.parquet"
    note = "typed columns, for programs"
    options: ClassVar = OPTIONS
    seeks = True

    def writer(self, target: Target, options: Mapping[str, Any]) -> FormatWriter:
        return ParquetWriter(target, options)

    def read(self, file: BinaryIO, options: Mapping[str, Any], columns: Sequence[Sequence[Column]] = ()) -> Iterator[Table]:
        content = _opened(file)
        schema = content.schema_arrow
        known = columns[0] if columns else [Column(f.name, "any" if f.type == _MARKED else kind_of(f.type)) for f in schema]
        yield Table("", columns_of(schema.names, known), _batches(content))

    def read_picked(
        self, file: BinaryIO, options: Mapping[str, Any], columns: Sequence[Column], places: Sequence[int]
    ) -> Iterator[Batch]:
        content = _opened(file)
        names = content.schema_arrow.names
        return _batches(content, [names[place] for place in places])

    def keeps_all(self, options: Mapping[str, Any], columns: Sequence[Column]) -> bool:
        return options.get("types") == "text" or all(column.kind != "any" for column in columns)

    def encoding(self, options: Mapping[str, Any]) -> str:
        return ""
