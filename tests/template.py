"""Database servers that are made once for all tests of a run, with what belongs in them, and are copied."""

from __future__ import annotations

import fcntl
import os
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import psycopg

from patient_ladle.service.demo.maria_server import MariaServer
from patient_ladle.service.processes.cluster import Cluster
from patient_ladle.service.processes.private_server import PrivateServer

from .janitor import MARK, template_of

LEDGER, METERING, WORKS = "ledger", "metering", "works"
"""A service's database server, with the migrated database ``ladle``; the same with ``metering`` beside it; a MariaDB server."""
KINDS: dict[str, type[PrivateServer]] = {LEDGER: Cluster, METERING: Cluster, WORKS: MariaServer}
UNSYNCED = "\nfsync = off\nfull_page_writes = off\n"
"""Tests kill processes and never the machine: what a process gave to the system is not lost."""

METERING_TABLES = """
create table districts (district_id int primary key, name text not null, zone text);
insert into districts values (1, 'Alder Moor', 'North'), (2, 'Birch Fen', 'South'), (3, 'Heron "Holt", old', null);
create table readings as select n as reading_id, 1 + n % 3 as district_id, timestamptz '2026-11-01 00:00+00' + n * interval '1 minute'
  as read_at, (n % 500)::numeric(10,3) as litres, n % 29 = 0 as estimated from generate_series(1, 20000) n;
create sequence counter;
create type stay as (began timestamptz, mark bytea, hours timestamptz[], "Its name" text);
create domain stays as stay[];
create role reader login password 'reading-only';
grant select on all tables in schema public to reader;
grant usage, select on all sequences in schema public to reader;
create table staff (name text, salary int);
insert into staff values ('M. Brook', 1);
"""
_WORKS = [
    "create database works character set utf8mb4",
    "create table works.districts (district_id int primary key, name varchar(60) not null, zone varchar(20)) comment 'where things are'",
    "insert into works.districts values (1, 'Alder Moor', 'North'), (2, 'Birch Fen', 'South'), (3, 'Heron \"Holt\", old', null)",
    "create table works.orders (order_id int primary key auto_increment, district_id int not null references districts (district_id),"
    " opened_at datetime not null, photo mediumblob, unique key one_a_moment (district_id, opened_at))",
    "create database personnel",
    "create table personnel.staff (name varchar(60), salary int)",
    "create sequence works.counter",
    "create user reader identified by 'reading-only'",
    "grant select on works.* to reader",
    "grant insert on works.counter to reader",
]


def copied(home: Path, kind: str = LEDGER, name: str = "") -> PrivateServer:
    """A server ``name`` of ``home`` that is a copy of the one made for all, not started."""
    name = name or kind
    template = template_of(os.environ[MARK])
    template.mkdir(mode=0o711, exist_ok=True)
    with open(template / f"{kind}.lock", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (template / f"{kind}.made").exists():
            _MAKERS[kind](template)
            (template / f"{kind}.made").touch()
    (home / "keys").mkdir(parents=True, exist_ok=True)
    home.chmod(0o711)
    shutil.copy(template / "keys" / f"{kind}.password", home / "keys" / f"{name}.password")
    subprocess.run(["cp", "-a", template / kind, home / name], check=True)
    return KINDS[kind](home, name)


def _make_ledger(template: Path) -> None:
    server = Cluster(template, LEDGER)
    server.make()
    with open(server.data / "postgresql.conf", "a") as settings:
        settings.write(UNSYNCED)
    server.start()
    try:
        server.make_database("ladle")
        environment = os.environ | {"LADLE_DATABASE_URL": server.url("ladle"), "LADLE_DATA": str(template / "data")}
        migrate = [sys.executable, "-W", "ignore", "-m", "patient_ladle.service", "manage", "migrate", "--verbosity", "0"]
        subprocess.run(migrate, env=environment, check=True)
    finally:
        server.stop()


def _make_metering(template: Path) -> None:
    server = copied(template, LEDGER, METERING)
    assert isinstance(server, Cluster)
    server.start()
    try:
        server.make_database("metering")
        with psycopg.connect(server.url("metering")) as connection:
            connection.execute(METERING_TABLES)
    finally:
        server.stop()


def _make_works(template: Path) -> None:
    server = MariaServer(template, WORKS)
    server.start()
    try:
        server.carry_out(_WORKS)
    finally:
        server.stop()


_MAKERS: dict[str, Callable[[Path], None]] = {LEDGER: _make_ledger, METERING: _make_metering, WORKS: _make_works}
