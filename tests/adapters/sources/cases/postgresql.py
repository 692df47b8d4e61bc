"""What the contract needs to know of PostgreSQL: how to reach it, what to attack it with, what every type becomes."""

from __future__ import annotations

import base64

import psycopg

from patient_ladle.service.processes.cluster import Cluster
from tests.traces import placed

IN_MEMBERS = "= any(:n)"
LONG_LENGTH = 10_485_760
HAS_KEYS = True
RUNS_WHEN_DESCRIBED = False
TELLS_COLUMNS = True
YES = "true"
NOT_IN_NOTHING = True
BEYOND_READING = "the login may advance the sequence public.counter"
ALMIGHTY = ({"user": "ladle"}, "superuser")
"""A login that may do anything, and what is said of it."""
UNREADABLE = "select * from staff"
"""A table that the login may not read."""


def built(home, request):
    cluster = request.getfixturevalue("cluster")

    def rows():
        with psycopg.connect(cluster.url("metering")) as connection:
            tables = connection.execute(
                "select relname, relkind from pg_class where relnamespace = 'public'::regnamespace order by 1"
            )
            called = connection.execute("select is_called from counter").fetchone()
            objects = connection.execute("select count(*) from pg_largeobject_metadata").fetchone()
            return connection.execute("select * from districts order by 1").fetchall(), tables.fetchall(), called, objects

    return request.getfixturevalue("metering"), "reading-only", rows


def password_of_the_almighty(request):
    return request.getfixturevalue("cluster").password


def carry_out(request, statement):
    """As somebody who may write."""
    with psycopg.connect(request.getfixturevalue("cluster").url("metering"), autocommit=True) as connection:
        connection.execute(statement)


def kill(request, session):
    """The session's connection, from the server's side."""
    carry_out(request, "select pg_terminate_backend(pid) from pg_stat_activity where usename = 'reader'")


def server_of_its_own(folder):
    """One that runs, with an address and its secret."""
    server = Cluster(folder, "postgresql")
    server.start()
    return server, {"host": "127.0.0.1", "port": server.port, "database": "postgres", "user": "ladle"}, server.password


SLOW = "select pg_sleep(3600)"
WIDE_ROWS = "select n, repeat('fen', 300) as reeds from generate_series(1, 20000000) n"
SLOW_ROWS = "select n, pg_sleep(0.001) is null from generate_series(1, 1000000) n"
UNKNOWN_TABLE = ("select 1\nfrom reedings r\nwhere r.x = :p", "line 2, column 6")
UNKNOWN_COLUMN = ("select d.name, d.nmae from districts d", "line 1, column 16")
AFTER_PARAMETER = ("select :p as a, nowhere.b from districts", "line 1, column 17")
LIST = "select name from districts where district_id = any(:ids) order by 1"
PARAMETERS = "select :t || '!' as t, :n + 1 as n, :x * 2 as x, :b and true as b, :d + 1 as d, :w as w"
PARAMETER_TEXTS = ["it's :n!", "42", "25.0", "true", "2026-11-25", "2026-11-24 06:05:00"]
ABSENT = "select count(*) from districts where :t is null or name = :t"
LONG_TEXT = "select repeat('é', 10485760) as t, 1 as n"

HOSTILE = placed(
    [
        "insert into districts values (9, 'x', 'y')",
        "update districts set name = 'x'",
        "delete from districts",
        "drop table districts",
        "truncate districts",
        "create table t (a int)",
        "select 1; drop table districts",
        "select 1; commit; delete from districts",
        "with gone as (delete from districts returning *) select * from gone",
        "with x as (insert into districts values (9, 'x', 'y') returning *) select * from x",
        "select * into copied from districts",
        "select * from districts for update",
        "select set_config('transaction_read_only', 'off', false)",
        "select set_config('default_transaction_read_only', 'off', false), nextval('counter')",
        "set transaction read write",
        "begin",
        "commit",
        "rollback; delete from districts",
        "copy districts to '/tmp/ladle-stolen.csv'",
        "copy (select 1) to program 'touch /tmp/ladle-hostile'",
        "select pg_read_file('/etc/passwd')",
        "select lo_export(1, '/tmp/ladle-hostile')",
        "select lo_from_bytea(0, 'x')",
        "select * from dblink('dbname=metering', 'delete from districts') as t(a int)",
        "do $$ begin delete from districts; end $$",
        "call something()",
        "explain analyze delete from districts",
        "lock table districts in access exclusive mode",
        "listen x",
        "vacuum districts",
        "prepare x as delete from districts",
        "execute x",
        "select * from staff",
        "values (nextval('counter'))",
    ]
)

TYPES = [
    ("null::text", "text", None),
    ("''", "text", ""),
    ("E'tab\\t \"q\", é🜁\\n'", "text", 'tab\t "q", é🜁\n'),
    ("9223372036854775807::bigint", "integer", "9223372036854775807"),
    ("12345678901234567890.123456789012345678::numeric", "decimal", "12345678901234567890.123456789012345678"),
    ("1e20::numeric", "decimal", "100000000000000000000"),
    ("'NaN'::numeric", "decimal", "NaN"),
    ("0.1::float8 + 0.2::float8", "float", "0.30000000000000004"),
    ("1.1::real", "float", "1.1"),
    ("'-infinity'::float8", "float", "-Infinity"),
    ("true", "boolean", "true"),
    ("'2028-02-29'::date", "date", "2028-02-29"),
    ("'infinity'::date", "date", "infinity"),
    ("'0044-03-15 BC'::date", "date", "0044-03-15 BC"),
    ("'24:00'::time", "time", "24:00:00"),
    ("'2024-03-10 02:30:00.10'::timestamp", "timestamp", "2024-03-10 02:30:00.1"),
    ("'2024-03-10 02:30:00.123456+05:30'::timestamptz", "zoned", "2024-03-09T21:00:00.123456Z"),
    ("'10000-01-01 00:00+00'::timestamptz", "zoned", "10000-01-01T00:00:00Z"),
    ("'infinity'::timestamptz", "zoned", "infinity"),
    ("'1 year 2 mons 3 days 04:05:06.7'::interval", "text", "P1Y2M3DT4H5M6.7S"),
    ("'\\x00ff10'::bytea", "binary", "AP8Q"),
    ("decode(repeat('00', 100), 'hex')", "binary", "A" * 134 + "=="),
    ("'{\"b\": [1.50, null]}'::jsonb", "json", '{"b": [1.50, null]}'),
    ("array[1, null, 3]", "json", "[1,null,3]"),
    ("array['a,b', 'c\"d']", "json", '["a,b","c\\"d"]'),
    ("'ab'::char(5)", "text", "ab   "),
    ("'10.0.0.1/24'::inet", "text", "10.0.0.1/24"),
    ("row(1, 'x')::text", "text", "(1,x)"),
    ("int4range(1, 5)", "text", "[1,5)"),
    ("'Infinity'::numeric", "decimal", "Infinity"),
    ("0.00::numeric(38, 18)", "decimal", "0.000000000000000000"),
    ("-99999999999999999999.999999999999999999::numeric(38, 18)", "decimal", "-99999999999999999999.999999999999999999"),
    ("'5e-324'::float8", "float", "5e-324"),
    ("'1.7976931348623157e308'::float8", "float", "1.7976931348623157e+308"),
    ("'-0'::float8", "float", "-0"),
    ("1e15::float8", "float", "1e+15"),
    ("123456789012345::float8", "float", "123456789012345"),
    ("0.0001::float8", "float", "0.0001"),
    ("0.00001::float8", "float", "1e-05"),
    ("1e6::real", "float", "1e+06"),
    ("16777216::real", "float", "1.6777216e+07"),
    ("'-infinity'::date", "date", "-infinity"),
    ("'5874897-12-31'::date", "date", "5874897-12-31"),
    ("'0044-03-15 06:05:00 BC'::timestamp", "timestamp", "0044-03-15 06:05:00 BC"),
    ("'0044-03-15 06:05:00+00 BC'::timestamptz", "zoned", "0044-03-15T06:05:00Z BC"),
    ("'-infinity'::timestamptz", "zoned", "-infinity"),
    ("'294276-12-31 23:59:59.999999+00'::timestamptz", "zoned", "294276-12-31T23:59:59.999999Z"),
    ("'13:14:15+02'::timetz", "text", "13:14:15+02"),
    ("'-1 mons +2 days -00:00:01'::interval", "text", "P-1M2DT-1S"),
    ("'0'::interval", "text", "PT0S"),
    (
        "(select string_agg(set_byte('\\x00', 0, n), '' order by n) from generate_series(0, 255) n)",
        "binary",
        base64.b64encode(bytes(range(256))).decode(),
    ),
    ("E'\\u0001\\u0085\\u2028\\ufffe\\U0010ffff'", "text", "\x01\x85\u2028\ufffe\U0010ffff"),
    ('E\'{"a":\\n [1.0,\\n"x\\\\ny"]}\'::json', "json", '{"a":\n [1.0,\n"x\\ny"]}'),
    ("'{{1,2},{3,null}}'::int[]", "json", "[[1,2],[3,null]]"),
    ("array['2026-11-24 06:05:00+00'::timestamptz]::timestamptz[] is not null", "boolean", "true"),
    ("'{}'::text[]", "json", "[]"),
    (
        "array['2026-11-24 06:05:00.5+01', 'infinity', null]::timestamptz[]",
        "json",
        '["2026-11-24T05:05:00.5Z","infinity",null]',
    ),
    ("array['\\x00ff'::bytea, null]", "json", '["AP8=",null]'),
    ("array['2026-11-24 06:05:00'::timestamp]", "json", '["2026-11-24 06:05:00"]'),
    ("null::timestamptz[]", "json", None),
    ("'{}'::timestamptz[]", "json", "[]"),
    ("'{{2026-11-24,2026-11-25},{2026-11-26,null}}'::date[]", "json", '[["2026-11-24","2026-11-25"],["2026-11-26",null]]'),
    (
        "row('2026-11-24 06:05:00+01', '\\x00ff', '{infinity}', 'a')::stay",
        "json",
        '{"began":"2026-11-24T05:05:00Z","mark":"AP8=","hours":["infinity"],"Its name":"a"}',
    ),
    (
        "array[row('2026-11-24 06:05:00+01', null, null, null)::stay, null]::stays",
        "json",
        '[{"began":"2026-11-24T05:05:00Z","mark":null,"hours":null,"Its name":null},null]',
    ),
    ("null::stay", "json", None),
    ("row(1, 'a b')", "json", '{"f1":1,"f2":"a b"}'),
    ("(select r from (select 1 as a) r)", "json", '{"a":1}'),
    ("'a'::\"char\"", "text", "a"),
    ("b'1011'", "text", "1011"),
    ("'12.50'::numeric::money::numeric", "decimal", "12.50"),
    ("'<a>1</a>'::xml", "text", "<a>1</a>"),
    ("'(1.5,2)'::point", "text", "(1.5,2)"),
    ("'08:00:2b:01:02:03'::macaddr", "text", "08:00:2b:01:02:03"),
    ("'00000000-0000-0000-0000-000000000005'::uuid", "text", "00000000-0000-0000-0000-000000000005"),
    ("'[2026-01-01,)'::daterange", "text", "[2026-01-01,)"),
    (
        "array[array['2026-11-24 06:05:00+01', null], array['2026-11-24 06:05:00+00', 'infinity']]::timestamptz[]",
        "json",
        '[["2026-11-24T05:05:00Z",null],["2026-11-24T06:05:00Z","infinity"]]',
    ),
    ("'[0:1][5:5][1:2]={{{\\\\x00,\\\\xff}},{{\\\\x01,null}}}'::bytea[]", "json", '[[["AA==","/w=="]],[["AQ==",null]]]'),
    ("'[2026-11-24 06:05:00.5+01,infinity)'::tstzrange", "text", "[2026-11-24T05:05:00.5Z,infinity)"),
    ("'(,2026-11-24 06:05:00]'::tsrange", "text", "(,2026-11-24 06:05:00]"),
    ("'empty'::tstzrange", "text", "empty"),
    ("null::tstzrange", "text", None),
    (
        "'{[2026-11-24 06:05+01,2026-11-24 07:05+01), (2026-11-25 00:00+00,)}'::tstzmultirange",
        "text",
        "{[2026-11-24T05:05:00Z,2026-11-24T06:05:00Z),(2026-11-25T00:00:00Z,)}",
    ),
    ("'{}'::tstzmultirange", "text", "{}"),
    ("'{[1,3)}'::int4multirange", "text", "{[1,3)}"),
    ("array['[2026-11-24 06:05+01,)'::tstzrange]", "json", '["[2026-11-24T05:05:00Z,)"]'),
    ("to_tsvector('simple', 'moor fen')", "text", "'fen':2 'moor':1"),
    ("'metering'::name", "text", "metering"),
    ("1::oid", "integer", "1"),
]
