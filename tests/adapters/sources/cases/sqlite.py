"""What the contract needs to know of SQLite."""

from __future__ import annotations

import sqlite3

from tests.traces import placed

from .tables import DISTRICTS

IN_MEMBERS = "in :n"
"""How a value is one of a list parameter's."""
LONG_LENGTH = 10_485_760
"""Characters of LONG_TEXT."""
HAS_KEYS = True
"""Whether the catalogue knows keys, and which columns may be null."""
RUNS_WHEN_DESCRIBED = True
"""Whether the statement begins to run with its description."""
TELLS_COLUMNS = False
"""Whether columns are known without running it."""
YES = "1"
"""The text of a comparison that holds."""
NOT_IN_NOTHING = True
"""Whether a value that is not among none passes."""
BEYOND_READING = ""
"""What the login of the tests may do beyond reading."""


def built(home, request):
    path = home / "contract.db"
    path.unlink(missing_ok=True)
    with sqlite3.connect(path) as connection:
        connection.execute("create table districts (district_id integer primary key, name text not null, zone text)")
        connection.executemany("insert into districts values (?, ?, ?)", DISTRICTS)
    connection.close()
    return {"path": str(path)}, "", lambda: (path.read_bytes(), sorted(p.name for p in home.glob("contract*")))


SLOW = "with recursive n(i) as (select 1 union all select i + 1 from n) select count(*) from n"
SLOW_ROWS = "with recursive n(i) as (select 1 union all select i + 1 from n) select i from n"
UNKNOWN_TABLE = ("select 1\nfrom reedings r\nwhere r.x = :p", "line 2, column 6")
UNKNOWN_COLUMN = ("select d.name, d.nmae from districts d", "line 1, column 18")
AFTER_PARAMETER = ("select :p as a, nowhere from districts", "line 1, column 17")
LIST = "select name from districts where district_id in :ids order by 1"
PARAMETERS = "select :t || '!' as t, :n + 1 as n, :x * 2 as x, :b and 1 as b, date(:d, '+1 day') as d, :w as w"
PARAMETER_TEXTS = ["it's :n!", "42", "25", "1", "2026-11-25", "2026-11-24 06:05:00"]
ABSENT = "select count(*) from districts where :t is null or name = :t"
LONG_TEXT = "select replace(hex(zeroblob(5242880)), '0', 'é') as t, 1 as n"

HOSTILE = placed(
    [
        "insert into districts values (9, 'x', 'y')",
        "update districts set name = 'x'",
        "delete from districts",
        "drop table districts",
        "create table t (a)",
        "create temp table t as select 1",
        "select 1; drop table districts",
        "with x as (select 1) delete from districts",
        "with x as (select 1) insert into districts select 9, 'x', 'y'",
        "attach database '/tmp/ladle-hostile.db' as other",
        "vacuum into '/tmp/ladle-hostile.db'",
        "vacuum",
        "pragma query_only = off",
        "pragma writable_schema = on",
        "select * from pragma_query_only",
        "select load_extension('/tmp/evil.so')",
        "begin immediate",
        "commit",
        "replace into districts values (1, 'x', 'y')",
        "reindex",
        "analyze",
        "select writefile('/tmp/ladle-hostile', 'x')",
    ]
)

TYPES = [
    ("null", "any", None),
    ("''", "any", ""),
    ("'tab\t \"q\", é🜁\n'", "any", 'tab\t "q", é🜁\n'),
    ("9223372036854775807", "any", "9223372036854775807"),
    ("0.1 + 0.2", "any", "0.30000000000000004"),
    ("1e22", "any", "1e+22"),
    ("x'00ff10'", "any", "AP8Q"),
    ("date('2028-02-29')", "any", "2028-02-29"),
    ("-9223372036854775808", "any", "-9223372036854775808"),
    ("5e-324", "any", "5e-324"),
    ("1.7976931348623157e308", "any", "1.7976931348623157e+308"),
    ("9e999", "any", "Infinity"),
    ("1e15", "any", "1e+15"),
    ("0.1 + 0.2", "any", "0.30000000000000004"),
    ("char(1, 133, 8232, 65534, 1114111)", "any", "\x01\x85\u2028\ufffe\U0010ffff"),
]
