"""What the contract needs to know of MariaDB: how to reach it, what to attack it with, what every type becomes."""

from __future__ import annotations

from patient_ladle.service.demo.maria_server import MariaServer
from tests.traces import placed

IN_MEMBERS = "in :n"
LONG_LENGTH = 7_340_032  # a server's packet holds 16 MB
HAS_KEYS = True
RUNS_WHEN_DESCRIBED = False
TELLS_COLUMNS = True
YES = "1"
NOT_IN_NOTHING = False
BEYOND_READING = "the login has INSERT on `works`.`counter`"
ALMIGHTY = ({"user": "root"}, "ALL PRIVILEGES, GRANT OPTION on *.*")
UNREADABLE = "select * from personnel.staff"


def built(home, request):
    server = request.getfixturevalue("maria")

    def rows():
        with server.connect("works") as connection, connection.cursor() as cursor:
            seen = []
            for query in (
                "select * from districts order by 1",
                "show tables",
                "show grants for reader",
                "select @@global.max_connections",
            ):
                cursor.execute(query)
                seen.append(cursor.fetchall())
            cursor.execute("select next_not_cached_value from counter")
            return seen, cursor.fetchall()

    return request.getfixturevalue("works"), "reading-only", rows


def password_of_the_almighty(request):
    return request.getfixturevalue("maria").password


def carry_out(request, statement):
    request.getfixturevalue("maria").carry_out([statement], "works")


def kill(request, session):
    request.getfixturevalue("maria").carry_out([f"kill {session.rows.thread}"])


def server_of_its_own(folder):
    server = MariaServer(folder, "mariadb")
    server.start()
    server.carry_out(["create database works", "create user reader identified by 'x'", "grant select on *.* to reader"])
    return server, {"host": "127.0.0.1", "port": server.port, "database": "works", "user": "reader"}, "x"


SLOW = "select sleep(3600)"
WIDE_ROWS = "select seq, repeat('fen', 300) as reeds from seq_1_to_20000000"
SLOW_ROWS = "select a.seq, sleep(0.001) from seq_1_to_1000000 a"
UNKNOWN_TABLE = ("select 1\nfrom reedings r\nwhere r.x = :p", "line 2, column 6")
UNKNOWN_COLUMN = ("select d.name, d.nmae from districts d", "line 1, column 16")
AFTER_PARAMETER = ("select :p as a, nowhere.b from districts", "line 1, column 17")
LIST = "select name from districts where district_id in :ids order by 1"
PARAMETERS = "select concat(:t, '!') as t, :n + 1 as n, :x * 2 as x, :b and true as b, :d + interval 1 day as d, :w as w"
PARAMETER_TEXTS = ["it's :n!", "42", "25.0", "1", "2026-11-25", "2026-11-24 06:05:00"]
ABSENT = "select count(*) from districts where :t is null or name = :t"
LONG_TEXT = "select repeat('é', 7340032) as t, 1 as n"

HOSTILE = placed(
    [
        "insert into districts values (9, 'x', 'y')",
        "update districts set name = 'x'",
        "delete from districts",
        "drop table districts",
        "truncate table districts",
        "create table t (a int)",
        "create temporary table t (a int)",
        "select 1; drop table districts",
        "select 1; commit; delete from districts",
        "with x as (select 1) delete from districts",
        "replace into districts values (1, 'x', 'y')",
        "select * into outfile '/tmp/ladle-stolen.csv' from districts",
        "select * from districts into outfile '/tmp/ladle-stolen.csv'",
        "select name into dumpfile '/tmp/ladle-hostile' from districts limit 1",
        "select name into @name from districts limit 1",
        "select load_file('/etc/passwd')",
        "select `load_file`('/etc/passwd')",
        "select load_file/**/('/etc/passwd')",
        "select /*!50000 1 into outfile '/tmp/ladle-hostile' */",
        "select 1 /*M! into outfile '/tmp/ladle-hostile' */",
        "/*! delete from districts */",
        "select * from districts for update",
        "select * from districts lock in share mode",
        "select get_lock('ladle', 0)",
        "select release_all_locks()",
        "select benchmark(1000000000, sha2('x', 512))",
        "select nextval(counter)",
        "select next value for counter",
        "values (nextval(counter))",
        "handler districts open",
        "lock tables districts write",
        "unlock tables",
        "flush tables",
        "kill 1",
        "set global max_connections = 1",
        "set session transaction read write",
        "set sql_mode = 'NO_BACKSLASH_ESCAPES'",
        "start transaction read write",
        "commit",
        "begin",
        "xa start 'x'",
        "prepare p from 'delete from districts'",
        "execute immediate 'delete from districts'",
        "call something()",
        "do sleep(0)",
        "load data infile '/etc/passwd' into table districts",
        "analyze table districts",
        "optimize table districts",
        "grant all on *.* to reader",
        "install soname 'x'",
        "shutdown",
        "select * from districts procedure analyse()",
        "select 'a\\' ; delete from districts; -- '",
        "select * from personnel.staff",
    ]
)
ONLY_THE_GATE = ["select benchmark(1000000000, sha2('x', 512))"]
"""Changes nothing, but would keep the server busy for longer than a test may take; a run's deadline stops it."""

TYPES = [
    ("cast(null as char)", "text", None),
    ("''", "text", ""),
    ("'tab\t \"q\", é🜁\n'", "text", 'tab\t "q", é🜁\n'),
    ("9223372036854775807", "integer", "9223372036854775807"),
    ("cast(18446744073709551615 as unsigned)", "integer", "18446744073709551615"),
    (
        "cast('12345678901234567890.123456789012345678' as decimal(38, 18))",
        "decimal",
        "12345678901234567890.123456789012345678",
    ),
    ("cast(0.1 as double) + cast(0.2 as double)", "float", "0.30000000000000004"),
    ("true", "integer", "1"),
    ("date'2028-02-29'", "date", "2028-02-29"),
    ("cast('838:59:59' as time)", "time", "838:59:59"),
    ("timestamp'2024-03-10 02:30:00.100000'", "timestamp", "2024-03-10 02:30:00.1"),
    ("from_unixtime(1710037800)", "timestamp", "2024-03-10 02:30:00"),
    ("x'00ff10'", "binary", "AP8Q"),
    ("cast(repeat(char(0), 100) as binary)", "binary", "A" * 134 + "=="),
    ("json_object('b', json_array(1.50, null))", "text", '{"b": [1.50, null]}'),
    ("b'101'", "binary", "BQ=="),
    ("cast('ab' as char(5))", "text", "ab"),
    ("cast(0.00001 as double)", "float", "1e-05"),
    ("cast(1e20 as double)", "float", "1e+20"),
    ("cast(5e-324 as double)", "float", "5e-324"),
    ("cast(1.7976931348623157e308 as double)", "float", "1.7976931348623157e+308"),
    ("cast(123456789012345 as double)", "float", "123456789012345"),
    ("cast(1e15 as double)", "float", "1e+15"),
    ("cast(repeat('9', 65) as decimal(65, 0))", "decimal", "9" * 65),
    ("cast(-1e-30 as decimal(38, 30))", "decimal", "-0.000000000000000000000000000001"),
    ("cast('-838:59:59' as time)", "time", "-838:59:59"),
    ("timestamp'9999-12-31 23:59:59.999999'", "timestamp", "9999-12-31 23:59:59.999999"),
    ("cast(uuid() as char) is not null", "integer", "1"),
    ("cast('fe80::1' as inet6)", "text", "fe80::1"),
    ("concat(char(1 using utf8mb4), convert(x'C285E280A8' using utf8mb4), '\U0001f4a7')", "text", "\x01\x85\u2028\U0001f4a7"),
]
