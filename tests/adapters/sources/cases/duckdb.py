"""What the contract needs to know of DuckDB, and of the data files that are read through it."""

from __future__ import annotations

import duckdb

from tests.traces import placed

from .tables import DISTRICTS

IN_MEMBERS = "in (select unnest(:n))"
LONG_LENGTH = 10_485_760
HAS_KEYS = True
RUNS_WHEN_DESCRIBED = False
TELLS_COLUMNS = True
YES = "true"
NOT_IN_NOTHING = True
BEYOND_READING = ""


def built(home, request):
    path = home / "contract.duckdb"
    path.unlink(missing_ok=True)
    with duckdb.connect(str(path)) as connection:
        connection.execute("create table districts (district_id int primary key, name text not null, zone text)")
        connection.executemany("insert into districts values (?, ?, ?)", DISTRICTS)
    return {"path": str(path)}, "", lambda: (path.read_bytes(), sorted(p.name for p in home.glob("contract*")))


SLOW = "select count(*) from range(100000000) a, range(100000) b where hash(a.range, b.range) = 7"
SLOW_ROWS = "select a.range, b.range from range(100000000) a, range(100000) b"
UNKNOWN_TABLE = ("select 1\nfrom reedings r\nwhere r.x = :p", "line 2, column 6")
UNKNOWN_COLUMN = ("select d.name, d.nmae from districts d", "line 1, column 16")
AFTER_PARAMETER = ("select :p as a, nowhere from districts", "line 1, column 17")
LIST = "select name from districts where district_id = any(:ids) order by 1"
PARAMETERS = "select :t || '!' as t, :n + 1 as n, :x * 2 as x, :b and true as b, :d + 1 as d, :w as w"
PARAMETER_TEXTS = ["it's :n!", "42", "25.0000000000", "true", "2026-11-25", "2026-11-24 06:05:00"]
ABSENT = "select count(*) from districts where :t is null or name = :t"
LONG_TEXT = "select repeat('é', 10485760) as t, 1 as n"

HOSTILE = placed(
    [
        "insert into districts values (9, 'x', 'y')",
        "update districts set name = 'x'",
        "delete from districts",
        "drop table districts",
        "drop view districts",
        "create table t (a int)",
        "create or replace table districts as select 1",
        "select 1; drop table districts",
        "with x as (insert into districts values (9, 'x', 'y') returning *) select * from x",
        "with x as (delete from districts returning *) select * from x",
        "attach '/tmp/ladle-hostile.db' as other",
        "copy districts to '/tmp/ladle-stolen.csv'",
        "copy (select 1) to '/tmp/ladle-hostile'",
        "export database '/tmp/ladle-hostile'",
        "select * from read_csv('/etc/passwd')",
        "select * from read_text('/etc/passwd')",
        "select * from '/etc/passwd'",
        "from '/etc/passwd'",
        "select * from glob('/etc/*')",
        "install httpfs",
        "load httpfs",
        "set enable_external_access = true",
        "pragma enable_external_access = true",
        "reset enable_external_access",
        "set memory_limit = '90GB'",
        "begin transaction",
        "commit",
        "checkpoint",
        "force checkpoint",
        "vacuum",
        "call pragma_version()",
        "call force_checkpoint()",
        "prepare x as delete from districts",
        "use memory",
        "pragma create_fts_index('districts', 'district_id', 'name')",
        "select * from query('delete from districts')",
        "create secret s (type s3)",
        "create macro m() as 1",
        "detach districts",
        "explain analyze delete from districts",
    ]
)

TYPES = [
    ("null::varchar", "text", None),
    ("''", "text", ""),
    ("E'tab\\t \"q\", é🜁\\n'", "text", 'tab\t "q", é🜁\n'),
    ("9223372036854775807", "integer", "9223372036854775807"),
    ("12345678901234567890123456789::hugeint", "integer", "12345678901234567890123456789"),
    ("12345678901234567890.123456789012345678::decimal(38, 18)", "decimal", "12345678901234567890.123456789012345678"),
    ("0.00000001::decimal(18, 10)", "decimal", "0.0000000100"),
    ("0.1::double + 0.2::double", "float", "0.30000000000000004"),
    ("1.1::float", "float", "1.1"),
    ("true", "boolean", "true"),
    ("date '2028-02-29'", "date", "2028-02-29"),
    ("time '10:00:00.5'", "time", "10:00:00.5"),
    ("timestamp '2024-03-10 02:30:00.10'", "timestamp", "2024-03-10 02:30:00.1"),
    ("timestamptz '2024-03-10 02:30:00.123456+05:30'", "zoned", "2024-03-09T21:00:00.123456Z"),
    ("'\\x00\\xff\\x10'::blob", "binary", "AP8Q"),
    ("[1, null, 3]", "json", "[1,null,3]"),
    ("{'b': [1.50, null], 'c': date '2026-11-24'}", "json", '{"b":["1.50",null],"c":"2026-11-24"}'),
    ("map {'a': 1}", "json", '{"a":1}'),
    ("{'d': 'infinity'::date, 'x': 1.5::double, 't': '24:00:00'::time}", "json", '{"d":"infinity","x":1.5,"t":"24:00:00"}'),
    ("[{'at': '2026-11-24 06:05:00.25+01'::timestamptz}, null]", "json", '[{"at":"2026-11-24T05:05:00.25Z"},null]'),
    ("{'at': timestamp '2026-11-24 06:05:00.100', 'b': '\\xAA'::blob}", "json", '{"at":"2026-11-24 06:05:00.1","b":"qg=="}'),
    ("map {date '0044-03-15 (BC)': ['infinity'::timestamptz]}", "json", '{"0044-03-15 BC":["infinity"]}'),
    (
        "{'h': 170141183460469231731687303715884105727::hugeint, 'i': interval 3 months}",
        "json",
        '{"h":"170141183460469231731687303715884105727","i":"P3M"}',
    ),
    ("'a'::enum('a', 'b')", "text", "a"),
    ("interval '1 year 2 months 3 days 4.5 seconds'", "text", "P14M3DT4.5S"),
    ("'4ac7a9e9-607c-4c8a-84f3-843f0191e3fd'::uuid", "text", "4ac7a9e9-607c-4c8a-84f3-843f0191e3fd"),
    ("'infinity'::date", "date", "infinity"),
    ("'-infinity'::timestamp", "timestamp", "-infinity"),
    ("'infinity'::timestamptz", "zoned", "infinity"),
    ("'0044-03-15 (BC)'::date", "date", "0044-03-15 BC"),
    ("'0044-03-15 (BC) 06:05:00'::timestamp", "timestamp", "0044-03-15 06:05:00 BC"),
    ("'10000-01-01'::date", "date", "10000-01-01"),
    ("'24:00:00'::time", "time", "24:00:00"),
    ("'2026-11-24 06:05:00.123456789'::timestamp_ns", "timestamp", "2026-11-24 06:05:00.123456789"),
    ("'2026-11-24 08:05:00.5+02'::timestamptz", "zoned", "2026-11-24T06:05:00.5Z"),
    ("170141183460469231731687303715884105727::hugeint", "integer", "170141183460469231731687303715884105727"),
    ("340282366920938463463374607431768211455::uhugeint", "integer", "340282366920938463463374607431768211455"),
    ("18446744073709551615::ubigint", "integer", "18446744073709551615"),
    ("'NaN'::double", "float", "NaN"),
    ("'-inf'::float", "float", "-Infinity"),
    ("1e-5::double", "float", "1e-05"),
    ("16777216::float", "float", "1.6777216e+07"),
    ("-0.0::double", "float", "-0"),
    ("1e15::double", "float", "1e+15"),
    ("'101'::bit", "text", "101"),
    ("time with time zone '12:00:00+02'", "text", "12:00:00+02"),
    ("[1.50::decimal(38, 2)]", "json", '["1.50"]'),
    ("[1e20::double, 'nan'::double]", "json", '[1e+20,"NaN"]'),
    ("{'t': timestamp '2026-11-24 06:05:00', 'd': 'infinity'::date}", "json", '{"t":"2026-11-24 06:05:00","d":"infinity"}'),
    ("chr(1) || chr(133) || chr(65534)", "text", "\x01\x85\ufffe"),
    ("'x'::enum('x', 'y')", "text", "x"),
]
