"""What the contract needs to know of PostgreSQL: how to reach it, what to attack it with, what every type becomes."""

SLOW = "select pg_sleep(60)"
SLOW_ROWS = "select n, pg_sleep(0.001) is null from generate_series(1, 1000000) n"
UNKNOWN_TABLE = ("select 1\nfrom reedings r\nwhere r.x = :p", "line 2, column 6")
UNKNOWN_COLUMN = ("select d.name, d.nmae from districts d", "line 1, column 16")
AFTER_PARAMETER = ("select :p as a, nowhere.b from districts", "line 1, column 17")
LIST = "select name from districts where district_id = any(:ids) order by 1"
PARAMETERS = "select :t || '!' as t, :n + 1 as n, :x * 2 as x, :b and true as b, :d + 1 as d, :w as w"
PARAMETER_TEXTS = ["it's :n!", "42", "25.0", "true", "2026-11-25", "2026-11-24 06:05:00"]
ABSENT = "select count(*) from districts where :t is null or name = :t"

HOSTILE = [
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
]
