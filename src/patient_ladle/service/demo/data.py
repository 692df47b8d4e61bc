"""The made-up data, by formula: the same rows for the same anchor date, on every machine."""

from __future__ import annotations

import sqlite3
from datetime import date, timedelta
from pathlib import Path

import psycopg

READER = "fennmoor_reader"
SIZES = {"live": (4_000, 125), "rehearsal": (400, 70)}
"""Meters and days by environment: half a million daily readings in live; in rehearsal always the whole month before."""

_METERING = """
create table districts (district_id int primary key, name text not null, zone text not null);
create table premises (premise_id int primary key, district_id int not null references districts,
  address text not null, occupied boolean not null);
create table meters (meter_id int primary key, premise_id int not null references premises,
  serial text not null unique, fitted_on date not null, bore_mm smallint not null, details jsonb);
create table readings (reading_id bigint not null, meter_id int not null,
  read_at timestamptz not null, index_m3 numeric(12,3) not null, litres int not null,
  estimated boolean not null, note text);
comment on table readings is 'one reading a meter and day; litres since the reading before';
insert into districts select d, (array['Alder','Birch','Cowslip','Dunlin','Eyot','Fescue','Gorse','Heron'])[1 + (d - 1) % 8]
  || ' ' || (array['Moor','Fen','Holt'])[1 + (d - 1) / 8], (array['North','South','Coast'])[1 + d % 3] from generate_series(1, 24) d;
insert into premises select p, 1 + p % 24, (1 + p % 180) || ' ' || (array['Sluice','Weir','Ladle','Spring','Conduit'])[1 + p % 5]
  || ' ' || (array['Lane','Road','Rise'])[1 + p % 3], p % 19 <> 0 from generate_series(1, {meters}) p;
insert into meters select m, m, 'FW-' || lpad(m::text, 6, '0'), date '2012-01-01' + (m * 37) % 4700, (array[15,15,15,20,25,40])[1 + m % 6],
  jsonb_build_object('maker', (array['Tarn','Beck'])[1 + m % 2], 'dials', 5 + m % 2) from generate_series(1, {meters}) m;
insert into readings select (d::bigint - 1) * {meters} + m, m,
  ({anchor}::date - {days} + d)::timestamp at time zone 'UTC' - interval '1 day' + make_interval(hours => 2, mins => m % 60),
  round((m % 900) + d * 0.31 + (m % 7) * 0.013, 3), 120 + (m * 13 + d * 7) % 410 + case when m % 331 = 0 then 4000 else 0 end,
  guessed, case when guessed then 'no access, "estimated"' end
  from generate_series(1, {days}) d, generate_series(1, {meters}) m, lateral (select (m + d) % 29 = 0 or (m % 97 = 0 and d % 4 = 0)) g(guessed);
alter table readings add primary key (reading_id), add foreign key (meter_id) references meters;
create index on readings (read_at);
analyze;
"""

_LABORATORY = """
create table sample_points (point_id integer primary key, name text not null, zone text not null, kind text not null);
create table determinands (code text primary key, name text not null, unit text not null, limit_value real not null);
create table samples (sample_id integer primary key, point_id integer not null references sample_points,
  taken_at text not null, sampler text not null);
create table results (sample_id integer not null references samples, code text not null references determinands,
  value real, remark text, primary key (sample_id, code));
"""
_DETERMINANDS = [
    ("CL2", "Free chlorine", "mg/l", 0.5), ("TURB", "Turbidity", "NTU", 1.0), ("PB", "Lead", "µg/l", 10.0),
    ("NO3", "Nitrate", "mg/l", 50.0), ("FE", "Iron", "µg/l", 200.0), ("MN", "Manganese", "µg/l", 50.0),
    ("ECOLI", "E. coli", "per 100 ml", 0.0), ("PH", "pH", "pH", 9.5),
]  # fmt: skip
_SAMPLERS = ("A. Thorne", "B. Quill", "C. Marsh", "D. Yarrow")


def make_metering(url: str, reader_url_password: str, anchor: date, meters: int, days: int) -> None:
    """Tables, rows and a login that may only read, unless they are there already."""
    with psycopg.connect(url) as connection:
        if connection.execute("select to_regclass('public.readings')").fetchone() != (None,):
            return
        settings = {"meters": str(meters), "days": str(days), "anchor": f"'{anchor.isoformat()}'"}
        script = _METERING
        for key, value in settings.items():
            script = script.replace(f"{{{key}}}", value)
        connection.execute(script.encode())
        if not connection.execute("select 1 from pg_roles where rolname = %s", [READER]).fetchone():
            connection.execute(f"create role {READER} login password '{reader_url_password}'")
        connection.execute(f"grant select on all tables in schema public to {READER}")


def make_laboratory(path: Path, anchor: date, days: int) -> None:
    """The laboratory's file, unless it is there already."""
    if path.is_file():
        return
    part = path.with_suffix(".part")
    part.unlink(missing_ok=True)
    connection = sqlite3.connect(part)
    connection.executescript(_LABORATORY)
    zones = ("North", "South", "Coast")
    kinds = ("works outlet", "reservoir", "customer tap")
    connection.executemany(
        "insert into sample_points values (?, ?, ?, ?)",
        [(n, f"SP-{n:03} {('Alder', 'Birch', 'Heron')[n % 3]} tap {n}", zones[n % 3], kinds[n % 3]) for n in range(1, 61)],
    )
    connection.executemany("insert into determinands values (?, ?, ?, ?)", _DETERMINANDS)
    samples, results, number = [], [], 0
    for back in range(days, 0, -1):
        day = anchor - timedelta(days=back)
        for point in range(1 + back % 3, 61, 3):
            number += 1
            samples.append(
                (number, point, f"{day.isoformat()} {7 + point % 9:02}:{(point * 7) % 60:02}:00", _SAMPLERS[number % 4])
            )
            for place, (code, _, _, limit) in enumerate(_DETERMINANDS):
                share = ((number * 31 + place * 17) % 97) / 100
                over = (number + place * 11) % 211 == 0
                value = (
                    None
                    if (number + place) % 173 == 0
                    else round(limit * (1.2 if over else share), 3) + (1.0 if over and not limit else 0)
                )
                results.append((number, code, value, "sample spilled" if value is None else None))
    connection.executemany("insert into samples values (?, ?, ?, ?)", samples)
    connection.executemany("insert into results values (?, ?, ?, ?)", results)
    connection.commit()
    connection.close()
    part.rename(path)
