"""Moments stay moments: one golden table, the same answers from every engine, whatever zone the session or the host has.

The judge is a slow reckoning by the zone database.
"""

from __future__ import annotations

import json
import os
import sqlite3
import subprocess
import sys
from datetime import datetime, timedelta, timezone

import duckdb
import psycopg
import pyarrow as pa
import pytest
from pyarrow import parquet

from tests.profile import LONG

from .test_contract import Case

HOSTS = ("Europe/London", "Asia/Kolkata") if LONG else ("Asia/Kolkata",)
"""Zones of the worker's host."""
NIGHTS = (datetime(2026, 3, 28, 22), datetime(2026, 10, 24, 22))
"""Clocks in London go forward at 01:00 UTC of the first, and back at 01:00 UTC of the second."""
ROWS = [night + n * timedelta(minutes=30) for night in NIGHTS for n in range(13)]
GIVEN = [
    "2026-10-25T01:30:00+01:00", "2026-10-25T01:30:00+00:00", "2026-10-25 00:30:00Z", "2026-10-25 01:00:00Z", "2026-03-29T00:59:59Z",
    "2026-03-29T02:00:00+01:00", "2026-03-29 01:30:00Z", "2026-10-25T07:00:00+05:30", "2026-10-25 03:15:00.500000+02:00",
    "2026-10-24 23:00:00-04:00", "2026-11-24 00:00:00Z",
]  # fmt: skip
PHRASES = ["today", "start of october + 24 days", "today - 30 days at 02:30"]
"""Without a zone: in that of the session, which is UTC unless set."""


@pytest.fixture(scope="module")
def sources(home, cluster, metering, maria, works):
    """Address, secret, name of the table, and the session zones to try; None: as the engine has it."""
    made = {}
    with psycopg.connect(cluster.url("metering"), autocommit=True) as connection:
        connection.execute("drop table if exists moments; create table moments (moment_at timestamptz)")
        with connection.cursor() as cursor:
            cursor.executemany("insert into moments values (%s)", [(at.replace(tzinfo=timezone.utc),) for at in ROWS])
        connection.execute("grant select on moments to reader")
    made["postgresql"] = (metering, "reading-only", ["UTC", "Europe/London", "Asia/Kolkata", "+05:30"])
    with maria.connect("works") as connection, connection.cursor() as cursor:
        cursor.execute("set time_zone = '+00:00'")
        cursor.execute("create or replace table moments (moment_at timestamp(6) not null)")
        cursor.executemany("insert into moments values (%s)", [(at,) for at in ROWS])
        connection.commit()
    made["mariadb"] = (works, "reading-only", [None, "+01:00", "+05:30", "-03:30"])
    path = home / "moments.db"
    with sqlite3.connect(path) as connection:
        connection.execute("create table moments (moment_at text)")
        connection.executemany("insert into moments values (?)", [(at.isoformat(sep=" "),) for at in ROWS])
    connection.close()
    made["sqlite"] = ({"path": str(path)}, "", [None])
    path = home / "moments.duckdb"
    with duckdb.connect(str(path)) as connection:
        connection.execute("create table moments (moment_at timestamptz)")
        connection.executemany("insert into moments values (?)", [(at.replace(tzinfo=timezone.utc),) for at in ROWS])
    made["duckdb"] = ({"path": str(path)}, "", [None, "Europe/London", "Asia/Kolkata"])
    folder = home / "moments-files"
    folder.mkdir(exist_ok=True)
    parquet.write_table(pa.table({"moment_at": pa.array(ROWS, pa.timestamp("us", "UTC"))}), folder / "moments.parquet")
    made["files"] = ({"folder": str(folder)}, "", [None, "Europe/London", "Asia/Kolkata"])
    yield made
    with psycopg.connect(cluster.url("metering"), autocommit=True) as connection:
        connection.execute("drop table moments")
    with maria.connect("works") as connection, connection.cursor() as cursor:
        cursor.execute("drop table moments")


def earlier(given: str) -> int:
    """So many rows are earlier than that."""
    moment = datetime.fromisoformat(given.replace("Z", "+00:00")).astimezone(timezone.utc).replace(tzinfo=None)
    return sum(at < moment for at in ROWS)


def answers(asked, host):
    """Those of a process whose host is in that zone."""
    done = subprocess.run([sys.executable, "-m", "tests.adapters.sources.instants"], input=json.dumps(asked), text=True,
                          capture_output=True, env=os.environ | {"TZ": host}, check=False)  # fmt: skip
    assert done.returncode == 0, done.stderr
    return json.loads(done.stdout)


@pytest.mark.parametrize("host", HOSTS)
def test_every_engine_gives_the_same_answers_about_moments_whatever_the_zones_are(sources, host):
    asked, expected, of = [], [], []
    for engine, (address, secret, zones) in sources.items():
        for zone in zones:
            where = address | ({"time_zone": zone} if zone else {})
            for given in GIVEN:
                utc = given.replace("Z", "+00:00")
                asked.append((engine, where, secret, "select count(*) as n from moments where moment_at < :moment", given, utc))
                asked.append(
                    (engine, where, secret, "select count(*) as n from moments where moment_at < :due_time", None, utc)
                )
                expected += [[[str(earlier(given))]]] * 2
                of += [(engine, zone, given, by) for by in ("value", "due_time")]
        plain = address | ({"time_zone": "UTC"} if engine == "postgresql" else {})
        for phrase, utc in zip(PHRASES, ("2026-11-24 00:00Z", "2026-10-25 00:00Z", "2026-10-25 02:30Z"), strict=True):
            text = "select count(*) as n from moments where moment_at < :moment"
            asked.append((engine, plain, secret, text, phrase, "2026-11-24T06:00:00+00:00"))
            expected.append([[str(earlier(utc))]])
            of.append((engine, None, phrase, "phrase"))
    found = answers(asked, host)
    wrong = [(which, was, wanted) for which, was, wanted in zip(of, found, expected, strict=True) if was != wanted]
    assert wrong == []
    print(f"\n{len(found)} answers of {len(sources)} engines with a host in {host}")


@pytest.mark.parametrize("zone", ["Europe/London", "Asia/Kolkata"])
@pytest.mark.parametrize("engine", ["postgresql", "duckdb", "files"])
def test_moments_are_read_as_moments_in_any_session(sources, engine, zone):
    address, secret, _ = sources[engine]
    text = "select moment_at from moments order by 1"
    asked = [(engine, address | {"time_zone": zone}, secret, text, None, "2026-11-24T06:00:00+00:00")]
    assert answers(asked, "America/New_York") == [[[at.isoformat() + "Z"] for at in ROWS]]


def test_a_moment_that_mariadb_could_not_tell_apart_is_refused(sources, maria):
    """A named zone of the session, which comes to the same hour twice: London is filled in, as a host's package would."""
    address, secret, _ = sources["mariadb"]
    maria.carry_out([
        "replace into mysql.time_zone values (901, 'N')", "replace into mysql.time_zone_name values ('Fennmoor/London', 901)",
        "replace into mysql.time_zone_transition_type values (901, 0, 0, 0, 'GMT'), (901, 1, 3600, 1, 'BST')",
        "replace into mysql.time_zone_transition values (901, 1774746000, 1), (901, 1792890000, 0)",
    ])  # fmt: skip
    where = address | {"time_zone": "Fennmoor/London"}
    text = "select count(*) as n from moments where moment_at < :moment"
    asked = [("mariadb", where, secret, text, given, "2026-11-24T06:00:00+00:00") for given in GIVEN]
    found = answers(asked, "UTC")
    twice = [g for g in GIVEN if "2026-10-25 00:00" <= datetime.fromisoformat(g.replace("Z", "+00:00")).astimezone(timezone.utc).isoformat(sep=" ") < "2026-10-25 02:00"]  # fmt: skip
    for given, was in zip(GIVEN, found, strict=True):
        assert was == ("value_wrong" if given in twice else [[str(earlier(given))]]), given
    for zone, kind, told in (("+01:00", "timestamp", "clocks of +01:00"), ("+00:00", "zoned", "")):
        [column], _ = Case("mariadb", address | {"time_zone": zone}, secret, None).fetch("select moment_at from moments")
        assert (column.kind, told in column.note, bool(told)) == (kind, True, bool(column.note))
