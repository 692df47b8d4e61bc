"""SQL of DuckDB, which is near PostgreSQL's; its decimals keep 38 digits."""

from __future__ import annotations

import re
from decimal import Decimal

from ...errors import ValueWrong
from ...values.parameters import Parameter, Value
from ..outlines.forms import Forms
from .sql import SqlLanguage, cast_literal, words, zoned_cast

_CASTS = {"text": "varchar", "integer": "bigint", "boolean": "boolean", "date": "date", "timestamp": "timestamp"}
_MOST_DIGITS = 38
_USUAL_PLACES = 10
"""Decimal places that a value is given at least, so that the results of reckoning with it keep some."""


_KINDS = (
    (r"\[|STRUCT|MAP|UNION|JSON", "json"),
    (r"^(U?(TINY|SMALL|BIG|HUGE)INT|U?INTEGER)$", "integer"), (r"^DECIMAL", "decimal"), (r"^(FLOAT|DOUBLE|REAL)$", "float"),
    (r"^BOOLEAN$", "boolean"), (r"^DATE$", "date"), (r"^TIME$", "time"), (r"^TIMESTAMP WITH TIME ZONE$", "zoned"),
    (r"^TIMESTAMP", "timestamp"), (r"^BLOB$", "binary"),
)  # fmt: skip


def kind_named(kind: str) -> str:
    """The canonical kind of a type, from the engine's name for it."""
    return next((ours for form, ours in _KINDS if re.search(form, kind)), "text")


_LARGEST = 2**63 - 1


def cast_of(parameter: Parameter, value: Value) -> str:
    """The type of a value; of decimals one that holds each of its digits. Raises ValueWrong where there is none."""
    return f"{_cast_of_one(parameter, value)}{'[]' if parameter.is_list else ''}"


def _cast_of_one(parameter: Parameter, value: Value) -> str:
    items = value if isinstance(value, tuple) else (value,)
    if parameter.type == "integer":
        return "hugeint" if any(isinstance(item, int) and abs(item) > _LARGEST for item in items) else _CASTS["integer"]
    if parameter.type != "decimal":
        return zoned_cast(value) or _CASTS[parameter.type]
    parts = [item.as_tuple() for item in items if isinstance(item, Decimal)]
    places = max([0, *(-int(part.exponent) for part in parts)])
    whole = max([1, *(len(part.digits) + int(part.exponent) for part in parts)])
    if whole + places > _MOST_DIGITS:
        raise ValueWrong(
            f"parameter '{parameter.name}' has more than the {_MOST_DIGITS} digits that DuckDB's decimals keep.",
            "Give a number of fewer digits.",
            parameter=parameter.name,
        )
    return f"decimal({_MOST_DIGITS}, {max(places, min(_USUAL_PLACES, _MOST_DIGITS - whole))})"


def _literal(parameter: Parameter, value: Value) -> str:
    return cast_literal(value, cast_of(parameter, value), array="")


DUCKDB = SqlLanguage(
    "duckdb",
    title="SQL of DuckDB",
    formatter="duckdb",
    literal=_literal,
    own_words="ilike qualify pivot unpivot exclude asof",
    nested_comments=True,
    dollar_quotes=True,
    escape_strings=True,
    subscripts=True,
    double_colon_casts=True,
    assignments=True,
    loose_colons=True,
    marks="@^#{}",
    reading_words=("select", "with", "values", "table", "from"),
    refused_calls=words(
        """nextval pg_notify checkpoint force_checkpoint read_blob read_text read_csv read_csv_auto sniff_csv read_json
        read_json_auto read_json_objects read_json_objects_auto read_ndjson read_ndjson_auto read_ndjson_objects read_parquet
        parquet_scan parquet_metadata parquet_schema parquet_file_metadata parquet_kv_metadata parquet_bloom_probe glob
        read_duckdb query query_table json_execute_serialized_sql from_substrait duckdb_settings duckdb_databases
        duckdb_secrets which_secret duckdb_extensions duckdb_temporary_files duckdb_logs duckdb_log_contexts
        pragma_database_list pragma_storage_info pragma_user_agent pragma_platform current_setting getenv getvariable write_log
        enable_logging disable_logging set_config sleep_ms arrow_scan arrow_scan_dumb pandas_scan python_map_function
        parse_duckdb_log_message"""
    ),
    refused_names=words("duckdb_settings duckdb_databases duckdb_secrets duckdb_extensions pg_settings"),
    refused_words=frozenset({"into"}),
    forms=Forms(
        nulls_are=("last", "last"),
        parser="duckdb",
        parameter_mark="$",
        aggregates={
            "median": "median(cast({e} as double))",
            "first": "first({e} order by {by})",
            "last": "first({e} order by {by} desc nulls last)",
        },
        matches="regexp_matches({e}, {v})",
        as_text="cast({e} as varchar)",
    ),
    reserved=words(
        """all analyse analyze and anti any array as asc asof asymmetric at authorization binary both by case cast
        check collate collation column concurrently constraint create cross default deferrable desc describe distinct
        do else end except false fetch for foreign freeze from full glob group having ilike in initially inner
        intersect into is isnull join lambda lateral leading left like limit natural not notnull null offset on only
        or order outer overlaps pivot pivot_longer pivot_wider placing positional primary qualify recursive references
        returning right select semi show similar some summarize symmetric table tablesample then to trailing true
        union unique unpack unpivot using variadic verbose when where window with"""
    ),
    periods={
        period: f"cast(date_trunc('{period}', {{column}}) as date)" for period in ("day", "week", "month", "quarter", "year")
    },
    text_types=r"(VARCHAR|CHAR|TEXT|STRING)(\(\d+\))?",
    nested_from_json="cast({parameter} as json)",
    from_base64="from_base64({parameter})",
    contains_test="cast({column} as varchar) ilike '%' || {parameter} || '%'",
)
