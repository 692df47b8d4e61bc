"""Of each format, readers of another hand: what went in is found by them, whatever the options."""

from __future__ import annotations

import csv
import io
import json
import math
import re
import warnings
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from functools import partial

import openpyxl
import pyarrow as pa
import pyarrow.parquet as pq

from patient_ladle.core.results.columns import canonical


def read_csv(file, delimiter=","):
    lines = list(csv.reader(io.StringIO(file.getvalue().decode(), newline=""), strict=True, delimiter=delimiter))
    return lines[0], lines[1:]


def check_csv(columns, rows, file, delimiter=","):
    header, lines = read_csv(file, delimiter)
    assert header == [c.name for c in columns]
    expected = [[canonical(v) or "" for v in row] for row in rows]
    assert [line or [""] for line in lines] == expected


def check_json(columns, rows, file, text=None):
    found = json.loads(text or file.getvalue(), parse_float=str, parse_int=str)
    assert [list(r) for r in found] == [[c.name for c in columns]] * len(rows)
    for record, row in zip(found, rows, strict=True):
        for value, original in zip(record.values(), row, strict=True):
            assert value == (original if isinstance(original, bool) else canonical(original))


def check_jsonl(columns, rows, file):
    check_json(columns, rows, file, b"[" + b",".join(file.getvalue().splitlines()) + b"]")


def check_text(columns, rows, file):
    lines = file.getvalue().decode().split("\n")[:-1]
    assert len(lines) - 2 == len(rows)
    starts = [found.start() for found in re.finditer("-+", lines[1])]
    ends = [found.end() for found in re.finditer("-+", lines[1])]
    for line, row in zip(lines[2:], rows, strict=True):
        cells = [line[a:b].strip() for a, b in zip(starts, ends, strict=True)]
        assert cells == [re.sub("[\t\n\r\x0b\x0c\x85\u2028\u2029]", " ", canonical(v) or "").strip() for v in row]


def check_parquet(columns, rows, file):
    table = pq.read_table(io.BytesIO(file.getvalue()))
    assert (table.column_names, table.num_rows) == ([c.name for c in columns], len(rows))
    for column, values in zip(columns, table.columns, strict=True):
        original = [row[columns.index(column)] for row in rows]
        found = values.to_pylist()
        if pa.types.is_string(values.type):
            assert found == [canonical(v) for v in original]
        else:
            assert found == original


def check_xlsx(columns, rows, file):
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        sheet = openpyxl.load_workbook(file)["Result"]
    lines = list(sheet.iter_rows(values_only=True))
    assert [_unescaped(name) for name in lines[0]] == [c.name for c in columns]
    assert len(lines) - 1 == len(rows)
    for line, row in zip(lines[1:], rows, strict=True):
        for column, value, original in zip(columns, line, row, strict=True):
            assert _same_cell(column, value, original), (column, value, original)


def _unescaped(value):
    return openpyxl.utils.escape.unescape(value) if isinstance(value, str) else value


def _same_cell(column, value, original):
    if original is None or original == "":
        return value in (None, "")
    if isinstance(value, str) and column.kind != "text":
        return _unescaped(value).replace("\r\n", "\n") == canonical(original).replace("\r\n", "\n")
    if isinstance(original, datetime):
        return abs(value - original.replace(tzinfo=None)) < timedelta(milliseconds=2)
    if isinstance(original, date):
        return value == datetime(original.year, original.month, original.day)
    if isinstance(original, str):
        return _unescaped(value) == original
    return value == original or math.isclose(float(value), float(original), rel_tol=1e-15)


def read_delimited(data, options, columns, rows):
    encoding = {"utf-8-bom": "utf-8-sig"}.get(options["encoding"], options["encoding"])
    text = data.decode(encoding)
    found = list(csv.reader(io.StringIO(text, newline=""), strict=True, delimiter=options["delimiter"]))
    head = found[: options["header"]]
    assert [len(line) for line in found] == [len(columns)] * (len(rows) + len(head))
    if head and not options["replacement"] and not options["escape_formulas"]:
        assert head[0] == columns
    return found[len(head) :]


def read_aligned(data, options, columns, rows):
    text = data.decode({"utf-8-bom": "utf-8-sig"}.get(options["encoding"], options["encoding"]))
    lines = text.split("\n")
    assert len({len(line) for line in lines[:-1]}) <= 1
    assert len(lines) - 1 == len(rows) + 2 * options["header"]


def read_json(data, options, columns, rows):
    found = json.loads(data)
    found = found["rows"] if options["envelope"] else found
    assert [list(row) for row in found] == [columns] * len(rows)


def read_lines(data, options, columns, rows):
    found = [json.loads(line) for line in data.decode().split("\n")[:-1]]
    assert [list(row) for row in found] == [columns] * len(rows)


def read_workbook(data, options, columns, rows):
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        sheet = openpyxl.load_workbook(io.BytesIO(data)).worksheets[0]
    lines = list(sheet.iter_rows(values_only=True))[len(options["title_rows"]) :]
    assert len(lines) == len(rows) + options["header"] or not any(any(line) for line in lines)
    assert {len(line) for line in lines} <= {len(columns)} or not options["header"]


def read_parquet(data, options, columns, rows):
    table = pq.read_table(io.BytesIO(data))
    assert (table.column_names, table.num_rows) == (columns, len(rows))


@dataclass(frozen=True)
class Case:
    """``check(columns, rows, file)`` with the options as they are at first, ``read(data, options, names, rows)`` with any;
    ``held``: a value as the format holds it at all."""

    check: Callable
    read: Callable
    held: Callable = lambda kind, value: value


CASES = {
    "csv": Case(check_csv, read_delimited),
    "tsv": Case(partial(check_csv, delimiter="\t"), read_delimited),
    "json": Case(check_json, read_json),
    "jsonl": Case(check_jsonl, read_lines),
    "xlsx": Case(check_xlsx, read_workbook),
    "parquet": Case(check_parquet, read_parquet, lambda kind, value: value % 2**62 if kind == "integer" else value),
    "text": Case(check_text, read_aligned),
}
