"""Three small tables with nulls, the same in six engines, for what is held against a slow reckoning in Python."""

from __future__ import annotations

import csv
import sqlite3
from dataclasses import replace
from datetime import date, datetime, timezone
from decimal import Decimal

import duckdb
import psycopg

from patient_ladle.adapters.sources import get_engine
from patient_ladle.core.ports import Statement
from patient_ladle.core.values.parameters import resolve
from patient_ladle.service.demo.document_server import DocumentServer, Login
from tests.conftest import READER_PASSWORD

DAY = date(2026, 11, 24)
KINDS = {
    "zones": {"zone_id": "integer", "name": "text"},
    "meters": {"meter_id": "integer", "zone_id": "integer", "order": "text", "fitted_on": "date"},
    "reads": {
        "read_id": "integer", "meter_id": "integer", "amount": "decimal", "n": "integer", "read_at": "timestamp", "late": "boolean",
    },
}  # fmt: skip
ROWS = {
    "zones": [(1, "north"), (2, "south"), (3, "hill")],
    "meters": [
        (1, 1, "ab_c", date(2026, 10, 1)), (2, 1, None, date(2026, 11, 2)), (3, 2, "50% it's", None), (4, None, "plain", date(2025, 12, 31)),
        (5, 9, "back\\slash", date(2026, 11, 30)),
    ],
    "reads": [
        (1, 1, Decimal("1.50"), 3, datetime(2026, 10, 31, 23, 59, 59), True), (2, 1, None, 0, datetime(2026, 11, 1), False),
        (3, 2, Decimal("-2.25"), None, datetime(2026, 11, 30, 12), None), (4, 3, Decimal("1.50"), 7, datetime(2026, 9, 30, 1), False),
        (5, None, Decimal("10.00"), 7, datetime(2026, 11, 8), True), (6, 8, Decimal("0.00"), -4, datetime(2025, 12, 31, 5), None),
        (7, 3, Decimal("99.99"), 3, datetime(2026, 11, 9, 0, 0, 1), True), (8, 4, None, 3, datetime(2026, 1, 1), False),
    ],
}  # fmt: skip
"""Text values differ in more than case or accents, for engines do not agree whether these differ."""
KEYS = {"zones": "zone_id", "meters": "meter_id", "reads": "read_id"}
TYPES = {"integer": "int", "text": "varchar(20)", "date": "date", "decimal": "decimal(10, 2)", "timestamp": "timestamp",
         "boolean": "boolean"}  # fmt: skip
ENGINES = ("postgresql", "mariadb", "sqlite", "duckdb", "files", "documents")


def statements(types=None, tail="", quote='"'):
    for table, kinds in KINDS.items():
        columns = ", ".join(
            f"{quote}{name}{quote} {(types or TYPES)[kind]}{' primary key' * (name == KEYS[table])}"
            for name, kind in kinds.items()
        )
        yield f"create table {quote}{table}{quote} ({columns}){tail}"


def literal(value):
    return "null" if value is None else str(value) if isinstance(value, bool | int | Decimal) else f"'{value!s}'"


def inserts(escape=False):
    for table, rows in ROWS.items():
        for row in rows:
            said = ", ".join("'" + v.replace("'", "''") + "'" if isinstance(v, str) else literal(v) for v in row)
            yield f"insert into {'`' * escape}{table}{'`' * escape} values ({said.replace(chr(92), chr(92) * 2) if escape else said})"


def postgresql(home, request):
    cluster = request.getfixturevalue("cluster")
    address = request.getfixturevalue("metering") | {"database": "outlines"}
    cluster.make_database("outlines")
    with psycopg.connect(cluster.url("outlines"), autocommit=True) as connection:
        for text in (*statements(), *inserts(), "grant select on all tables in schema public to reader"):
            connection.execute(text)
    return address, READER_PASSWORD


def mariadb(home, request):
    server = request.getfixturevalue("maria")
    own = ["create user outliner identified by 'reading-only'", "grant select on outlines.* to outliner"]
    server.carry_out(["create database outlines character set utf8mb4", *own])
    types = TYPES | {"timestamp": "datetime"}
    server.carry_out([*statements(types, quote="`"), *inserts(escape=True)], "outlines")
    return request.getfixturevalue("works") | {"database": "outlines", "user": "outliner"}, READER_PASSWORD


def sqlite(home, request):
    path = home / "outlines.db"
    path.unlink(missing_ok=True)
    with sqlite3.connect(path) as connection:
        for text in (*statements(), *inserts()):
            connection.execute(text)
    connection.close()
    return {"path": str(path)}, ""


def duckdb_file(home, request):
    path = home / "outlines.duckdb"
    with duckdb.connect(str(path)) as connection:
        for text in (*statements(), *inserts()):
            connection.execute(text)
    return {"path": str(path)}, ""


def files(home, request):
    folder = home / "outline-files"
    folder.mkdir(exist_ok=True)
    for table, kinds in KINDS.items():
        with (folder / f"{table}.csv").open("w", newline="", encoding="utf-8") as file:
            writer = csv.writer(file)
            writer.writerow(kinds)
            writer.writerows(
                [["" if v is None else str(v).lower() if isinstance(v, bool) else v for v in row] for row in ROWS[table]]
            )
    return {"folder": str(folder)}, ""


def documents(home, request):
    """The same rows in a document store; a value that is absent is null in some documents, and not there in others."""
    collections = {
        table: [
            {"_id": n} | {key: stored(value) for key, value in zip(kinds, row, strict=True) if value is not None or n % 2}
            for n, row in enumerate(ROWS[table])
        ]
        for table, kinds in KINDS.items()
    }
    server = DocumentServer({"reader": Login("x", {"outlines": "read"})}, {"outlines": collections})
    server.start()
    request.addfinalizer(server.stop)
    return {"host": "127.0.0.1", "port": server.port, "database": "outlines", "user": "reader"}, "x"


def stored(value):
    if isinstance(value, Decimal):
        return float(value)
    plain_day = isinstance(value, date) and not isinstance(value, datetime)
    return datetime(value.year, value.month, value.day) if plain_day else value


BUILT = {
    "documents": documents,
    "postgresql": postgresql,
    "mariadb": mariadb,
    "sqlite": sqlite,
    "duckdb": duckdb_file,
    "files": files,
}


class Source:
    """One engine with the rows above."""

    def __init__(self, name, address, secret):
        self.name, self.engine = name, get_engine(name)
        self.address, self.secret = address, secret
        self.outlines = self.engine.language.outlines()
        known = self.outlines.words.aggregates
        if name == "documents":  # the stand-in's library takes a zero for nothing there; see the test of its own below
            known = [each for each in known if each != "count_distinct"]
        self.words = replace(self.outlines.words, aggregates=known)
        session = self.engine.open(address, secret)
        try:
            self.catalogue = session.catalogue()
        finally:
            session.close()

    def rows(self, statement, parameters):
        bound = resolve(parameters, {}, DAY, datetime(2026, 11, 24, 6, 5, tzinfo=timezone.utc))
        session = self.engine.open(self.address, self.secret)
        try:
            session.describe(Statement(statement, bound))
            return [row for b in session.batches() for row in zip(*(cells.to_pylist() for cells in b.cells), strict=True)]
        finally:
            session.close()
