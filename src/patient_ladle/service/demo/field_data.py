"""The made-up data of works and telemetry, by formula, as in ``data``."""

from __future__ import annotations

import shutil
import struct
import zlib
from datetime import date, datetime, timedelta
from pathlib import Path

import pyarrow as pa
from pyarrow import csv, parquet

from .maria_server import MariaServer

DISTRICTS = 24
_FIRST = ("Alder", "Birch", "Cowslip", "Dunlin", "Eyot", "Fescue", "Gorse", "Heron")
_LAST = ("Moor", "Fen", "Holt")
NAMES = [f"{_FIRST[n % 8]} {_LAST[n // 8]}" for n in range(DISTRICTS)]
_KINDS = ("burst", "leak", "meter", "valve", "leak")
_CREWS = ("Otter", "Heron", "Kestrel", "Badger", "Wren")

_TABLES = [
    "create table districts (district_id int primary key, name varchar(60) not null) comment 'as in metering'",
    "create table crews (crew_id int primary key, name varchar(40) not null unique, van varchar(12))",
    "create table work_orders (order_id int primary key, district_id int not null, crew_id int, kind varchar(20) not null,"
    " opened_at datetime not null, closed_at datetime, cost decimal(10,2), note text, key by_opening (opened_at),"
    " foreign key (district_id) references districts (district_id), foreign key (crew_id) references crews (crew_id))"
    " comment 'one order a job; open while closed_at is null'",
    "create table leaks (leak_id int primary key, order_id int not null, found_at timestamp not null, litres_an_hour float,"
    " pressure_metres double, foreign key (order_id) references work_orders (order_id))",
    "create table photographs (photograph_id int primary key, order_id int not null, taken_at datetime not null, picture mediumblob not null,"
    " foreign key (order_id) references work_orders (order_id)) comment 'as the crews sent them'",
]


def picture(seed: int, side: int = 48) -> bytes:
    """A small PNG (RFC 2083) of wet ground with a leak in it, each seed another."""
    rows = bytearray()
    for y in range(side):
        rows.append(0)
        for x in range(side):
            wet = (x - side // 2 - seed % 11) ** 2 + (y - side // 2 + seed % 7) ** 2 < (8 + seed % 9) ** 2
            shade = (x * 7 + y * 13 + seed * 31) % 40
            rows += bytes((40, 90 + shade, 150 + shade) if wet else (120 + shade, 96 + shade, 60))

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    head = chunk(b"IHDR", struct.pack(">IIBBBBB", side, side, 8, 2, 0, 0, 0))
    return b"\x89PNG\r\n\x1a\n" + head + chunk(b"IDAT", zlib.compress(bytes(rows))) + chunk(b"IEND", b"")


def make_works(server: MariaServer, database: str, reader: str, password: str, anchor: date, orders: int) -> None:
    """Tables, rows and a login that may only read, unless they are there already."""
    with server.connect() as connection, connection.cursor() as cursor:
        if cursor.execute("show databases like %s", [database]):
            return
        cursor.execute(f"create database {database} character set utf8mb4")
        cursor.execute(f"use {database}")
        for statement in _TABLES:
            cursor.execute(statement)
        cursor.executemany("insert into districts values (%s, %s)", [(n + 1, name) for n, name in enumerate(NAMES)])
        cursor.executemany(
            "insert into crews values (%s, %s, %s)", [(n + 1, c, f"FW {n + 1:02} VAN") for n, c in enumerate(_CREWS)]
        )
        start = datetime.combine(anchor, datetime.min.time()) - timedelta(days=120)
        jobs = []
        for n in range(1, orders + 1):
            opened = start + timedelta(minutes=n * 172_000 // orders)
            closed = None if n % 23 == 0 else opened + timedelta(hours=5 + n * 7 % 190)
            note = None if n % 3 else f"“{('lid stuck', 'traffic lights needed', 'customer out')[n % 7 % 3]}”, seen twice"
            jobs.append(
                (
                    n,
                    1 + n * 5 % DISTRICTS,
                    None if n % 17 == 0 else 1 + n % 5,
                    _KINDS[n % 5],
                    opened,
                    closed,
                    n * 37 % 90000 / 100,
                    note,
                )
            )
        cursor.executemany("insert into work_orders values (%s, %s, %s, %s, %s, %s, %s, %s)", jobs)
        leaks = [(j[0], j[0], j[4], j[0] * 13 % 4000 / 7, j[0] * 3 % 70 / 3) for j in jobs if j[3] in ("leak", "burst")]
        cursor.executemany("insert into leaks values (%s, %s, %s, %s, %s)", leaks)
        pictures = [(n, jobs[n * 9 % orders][0], jobs[n * 9 % orders][4], picture(n)) for n in range(1, 41)]
        cursor.executemany("insert into photographs values (%s, %s, %s, %s)", pictures)
        cursor.execute("create view open_orders as select * from work_orders where closed_at is null")
        cursor.execute("analyze table work_orders, leaks, photographs")
        cursor.execute(f"create user if not exists {reader} identified by %s", [password])
        cursor.execute(f"grant select on {database}.* to {reader}")


def make_telemetry(folder: Path, anchor: date, days: int) -> None:
    """A folder of Parquet files by day for pressure, and one CSV for flow, unless they are there already."""
    if folder.is_dir():
        return
    part = folder.with_name(folder.name + ".part")
    shutil.rmtree(part, ignore_errors=True)
    (part / "pressure").mkdir(parents=True)
    flow: list[dict[str, object]] = []
    for back in range(days, 0, -1):
        midnight = datetime.combine(anchor - timedelta(days=back), datetime.min.time())
        pressure = []
        for quarter in range(96):
            at, busy = midnight + timedelta(minutes=15 * quarter), abs(quarter - 48) / 48
            for n, name in enumerate(NAMES):
                head = 18 + n % 9 + 6 * busy + (quarter * n + back) % 7 / 10 - (12 if (n * back + quarter) % 997 == 0 else 0)
                pressure.append(
                    {"logger": f"PL-{n + 1:03}", "district": name, "measured_at": at, "metres_head": round(head, 2)}
                )
                if quarter % 4 == 0:
                    litres = (3 + n % 5) * (1.6 - busy) + (back * n + quarter) % 11 / 20
                    flow.append({"district": name, "measured_at": at, "litres_a_second": round(litres, 2)})
        name = (anchor - timedelta(days=back)).isoformat()
        parquet.write_table(pa.Table.from_pylist(pressure), part / "pressure" / f"{name}.parquet")
    csv.write_csv(pa.Table.from_pylist(flow), part / "flow.csv")
    part.rename(folder)
