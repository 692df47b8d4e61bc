"""A look at rows with *is* and the value that is shown finds those rows, for every type that a column can have."""

from __future__ import annotations

from contextlib import closing
from datetime import date, datetime, timezone

import duckdb
import psycopg

from patient_ladle.adapters.sources import get_engine
from patient_ladle.core.ports import Statement
from patient_ladle.core.statements.catalogue import find_table
from patient_ladle.core.statements.views import Filter
from patient_ladle.core.values.parameters import resolve
from tests.conftest import READER_PASSWORD

AT = datetime(2026, 11, 24, 6, 5, tzinfo=timezone.utc)
DAY = date(2026, 11, 24)
POSTGRESQL = {
    "bool": "true", "bytea": "\\x00ff", "char": "a", "name": "fen", "int8": "9007199254740993", "int2": "-3", "int2vector": "1 2", "int4": "42",
    "text": "it's", "oid": "26", "tid": "(0,1)", "xid": "7", "cid": "7", "oidvector": "1 2", "json": '{"a": 1}', "xml": "<a/>", "point": "(1,2)",
    "lseg": "[(0,0),(1,1)]", "path": "[(0,0),(1,1)]", "box": "(1,1),(0,0)", "polygon": "((0,0),(1,1),(1,0))", "line": "{1,-1,0}",
    "float4": "0.1", "float8": "0.1", "circle": "<(0,0),1>", "money": "12.50", "macaddr": "08:00:2b:01:02:03", "inet": "10.0.0.1/8",
    "cidr": "10.0.0.0/8", "macaddr8": "08:00:2b:01:02:03:04:05", "aclitem": "ladle=r/ladle", "bpchar": "ab", "varchar": "Moor", "date": "2026-11-24",
    "time": "06:05:01.25", "timestamp": "2026-11-24 06:05:01.25", "timestamptz": "2026-11-24 06:05:01.25+01", "interval": "1 day 02:00:00.5",
    "timetz": "06:05:01+02", "bit": "1", "varbit": "101", "numeric": "1.50", "refcursor": "c", "regproc": "now", "regprocedure": "abs(int4)",
    "regoper": "||/", "regoperator": "+(int4,int4)", "regclass": "pg_class", "regtype": "int4", "regrole": "ladle", "regnamespace": "pg_catalog",
    "regconfig": "simple", "regdictionary": "simple", "regcollation": '"C"', "uuid": "6f1c0f4e-0000-4000-8000-000000000001", "pg_lsn": "16/B374D848",
    "tsvector": "'fen':1", "tsquery": "'fen' & 'moor'", "jsonb": '{"a": [1]}', "txid_snapshot": "10:20:10", "pg_snapshot": "10:20:10",
    "int4range": "[1,5)", "numrange": "[1.5,2)", "tsrange": "[2026-11-24,2026-11-25)", "tstzrange": "[2026-11-24 00:00+00,2026-11-25 00:00+00)",
    "daterange": "[2026-11-24,2026-11-25)", "int8range": "[1,5)", "int4multirange": "{[1,5)}", "nummultirange": "{[1.5,2)}",
    "tsmultirange": "{[2026-11-24,2026-11-25)}", "tstzmultirange": "{[2026-11-24 00:00+00,2026-11-25 00:00+00)}",
    "datemultirange": "{[2026-11-24,2026-11-25)}", "int8multirange": "{[1,5)}", "xid8": "7", "jsonpath": "$.a",
}  # fmt: skip
"""A value of each type that can be written in; a type that is neither here nor below fails the walk."""
NO_INPUT = {
    "pg_node_tree", "pg_ndistinct", "pg_dependencies", "pg_mcv_list", "pg_brin_bloom_summary", "pg_brin_minmax_multi_summary", "gtsvector", "cstring",
}  # fmt: skip
OWN = {
    "mood": "create type {0} as enum ('wet', 'dry')",
    "litres": "create domain {0} as numeric(10, 2)",
    "tag": "create domain {0} as uuid",
}
OWN_VALUES = {"mood": "wet", "litres": "1.50", "tag": "6f1c0f4e-0000-4000-8000-000000000001"}


ASKED_OTHERWISE = {"P1D": "1 day"}
"""DuckDB reads no interval of ISO 8601, in which intervals are shown: it is asked for in the database's own words."""


def found_again(engine, address, secret, tables):
    """By table: what is wrong with asking for the value that its only row shows; empty where it is found."""
    engine = get_engine(engine)
    wrong = {}
    with closing(engine.open(address, secret)) as session:
        catalogue = session.catalogue()
    for name in tables:
        views = engine.language.views(find_table(catalogue, name))
        shown = rows_of(engine, address, secret, views.rows([]))
        value = next(cell for (cell,) in shown if cell is not None)
        for test, wanted in (("is", [(value,)]), ("is_not", []), ("contains", None)):
            try:
                asked = ASKED_OTHERWISE.get(value, value) if engine.name == "duckdb" else value
                found = rows_of(engine, address, secret, views.rows([Filter("c", test, str(asked))]))
            except Exception as error:  # noqa: BLE001  # whatever it is, it is told with its type
                wrong[name, test] = f"{value!r}: {error}"
                continue
            if wanted is not None and found != wanted:
                wrong[name, test] = f"{value!r} was asked for, {found} found"
    return wrong


def rows_of(engine, address, secret, view):
    bound = resolve(view.parameters, view.values, DAY, AT)
    with closing(engine.open(address, secret)) as session:
        session.describe(Statement(view.statement, bound))
        return [row for b in session.batches() for row in zip(*(cells.to_pylist() for cells in b.cells), strict=True)]


def test_every_type_of_postgresql_is_looked_for_as_itself(cluster, metering):
    cluster.make_database("any_types")
    with psycopg.connect(cluster.url("any_types"), autocommit=True) as connection:
        for name, made in OWN.items():
            connection.execute(made.format(name))
        known = connection.execute(
            "select typname from pg_type where typtype in ('b', 'e', 'r', 'm') and typcategory not in ('A', 'P')"
            " and typnamespace = 'pg_catalog'::regnamespace"
        ).fetchall()
        names = {name for (name,) in known}
        assert names - NO_INPUT <= POSTGRESQL.keys(), sorted(names - NO_INPUT - POSTGRESQL.keys())
        values = {name: value for name, value in POSTGRESQL.items() if name in names} | OWN_VALUES
        tables = {f"t_{name}": (f'"{name}"', value) for name, value in values.items()}
        arrays = ("text", "int4", "numeric", "uuid", "mood", "timestamptz", "date", "float4")
        tables |= {f"a_{name}": (f'"{name}"[]', f'{{"{values[name]}",null}}') for name in arrays}
        tables |= {"v_varchar": ("varchar(9)", "Moor"), "v_bit": ("bit(3)", "101"), "v_numeric": ("numeric(9,3)", "1.500")}
        for name, (type_, value) in tables.items():
            connection.execute(f'create table "{name}" (c {type_})')
            connection.execute(f'insert into "{name}" values (%s::text::{type_}), (null)', [value])
        connection.execute("grant select on all tables in schema public to reader")
    assert found_again("postgresql", metering | {"database": "any_types"}, READER_PASSWORD, tables) == {}


DUCKDB = {
    "boolean": "true", "tinyint": "1", "smallint": "1", "integer": "1", "bigint": "1", "hugeint": "170141183460469231731687303715884105727", "utinyint": "1",
    "usmallint": "1", "uinteger": "1", "ubigint": "18446744073709551615", "uhugeint": "1", "float": "0.1", "double": "0.1", "decimal(9,2)": "1.50",
    "decimal(38,10)": "1.5", "varchar": "it's", "blob": "\\xAA", "bit": "101", "uuid": "6f1c0f4e-0000-4000-8000-000000000001", "date": "2026-11-24", "time": "06:05:01",
    "timestamp": "2026-11-24 06:05:01.25", "timestamptz": "2026-11-24 06:05:01.25+00", "timestamp_s": "2026-11-24 06:05:01", "timestamp_ms": "2026-11-24 06:05:01.25",
    "timestamp_ns": "2026-11-24 06:05:01.25", "interval": "1 day", "enum('wet','dry')": "wet", "integer[]": "[1, 2]", "struct(a integer)": "{'a': 1}",
    "map(varchar, integer)": "{a=1}", "timetz": "06:05:01+02",
}  # fmt: skip


def test_every_type_of_duckdb_is_looked_for_as_itself(home):
    path = home / "any_types.duckdb"
    path.unlink(missing_ok=True)
    tables = [f"t_{number}" for number in range(len(DUCKDB))]
    with duckdb.connect(str(path)) as connection:
        for name, (type_, value) in zip(tables, DUCKDB.items(), strict=True):
            connection.execute(f"create table {name} (c {type_})")
            connection.execute(f"insert into {name} values (cast($1 as {type_})), (null)", [value])
    wrong = found_again("duckdb", {"path": str(path)}, "", tables)
    assert {[*DUCKDB][int(name[2:])]: said for (name, _), said in wrong.items()} == {}


MARIADB = {
    "tinyint": "1", "bigint unsigned": "18446744073709551615", "decimal(10,2)": "1.50", "float": "0.5", "double": "0.1", "bit(3)": "5", "char(3)": "ab",
    "varchar(20)": "it's", "binary(3)": "abc", "varbinary(9)": "ab", "tinyblob": "ab", "longblob": "ab", "text": "Moor", "enum('wet','dry')": "wet",
    "set('a','b')": "a,b", "date": "2026-11-24", "time": "06:05:01", "time(3)": "06:05:01.250", "datetime": "2026-11-24 06:05:01",
    "datetime(6)": "2026-11-24 06:05:01.250000", "timestamp null": "2026-11-24 06:05:01", "year": "2026", "json": '{"a": 1}',
    "uuid": "6f1c0f4e-0000-4000-8000-000000000001", "inet6": "fe80::1", "inet4": "10.0.0.1", "boolean": "1",
}  # fmt: skip


def test_every_type_of_mariadb_is_looked_for_as_itself(maria, works):
    tables = [f"t_{number}" for number in range(len(MARIADB))]
    maria.carry_out(
        [
            "create database any_types",
            "create user typist identified by 'reading-only'",
            "grant select on any_types.* to typist",
        ]
    )
    for name, (type_, value) in zip(tables, MARIADB.items(), strict=True):
        maria.carry_out([f"create table {name} (c {type_})", f"insert into {name} values ('{value.replace(chr(39), chr(39) * 2)}'), (null)"
                         if not type_.startswith("bit") else f"insert into {name} values ({value}), (null)"], "any_types")  # fmt: skip
    wrong = found_again("mariadb", works | {"database": "any_types", "user": "typist"}, READER_PASSWORD, tables)
    assert {[*MARIADB][int(name[2:])]: said for (name, _), said in wrong.items()} == {}
