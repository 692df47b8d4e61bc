"""Hostile statements, and hostile values, through every way into a source that the service has, with logins that may do everything.

Saved, diagnosed, previewed, counted, as choices, dry-run and run. An effect is a changed row, object or file, and a word of
what is none of the source's data. The short form takes some texts, each engine beginning elsewhere, and some values: all texts
meet every engine in its contract test.
"""

from __future__ import annotations

import sqlite3
from contextlib import closing

import duckdb
import psycopg
import pytest

from patient_ladle.client import CallFailed, Ladle
from patient_ladle.client.errors import ClientError
from tests.adapters.sources.cases import documents, files, mariadb, postgresql, sqlite
from tests.adapters.sources.cases import duckdb as duckdb_cases
from tests.adapters.sources.cases.reads import READS, TOLD
from tests.command import PATIENCE
from tests.conftest import PASSWORD, first_password, start_service, stop_service, until
from tests.profile import HOSTILE_TEXT_STEP, HOSTILE_VALUE_STEP
from tests.traces import left, placed

CASES = {"postgresql": postgresql, "mariadb": mariadb, "sqlite": sqlite, "duckdb": duckdb_cases, "files": files,
         "documents": documents}  # fmt: skip
ECHO = {"documents": '{"aggregate": "districts", "pipeline": [{"$project": {"_id": 0, "p": :p, "name": 1}}]}'}
CHOOSING = {"documents": '{"find": "districts", "filter": {"name": :p}}'}
VALUES = placed([
    "'; drop table districts; --", "' || (select 1) || '", "\\'; delete from districts; -- ", "$$; commit; delete from districts; $$",
    "*/ ; delete from districts /*", '"; delete from districts; "', "\n; delete from districts", ") as q) to stdout; commit; delete from districts; --",
    "'); attach '/tmp/ladle-hostile.db' as x; --", "${jndi}", ":p", "%s", "{0}", "x' into outfile '/tmp/ladle-hostile' -- ",
])  # fmt: skip


@pytest.fixture(scope="module")
def sources(home, cluster, metering, maria, works):
    """For each engine: the address and secret of a login that may do everything, and a look behind its back."""
    lite, duck, folder = home / "hostile.db", home / "hostile.duckdb", home / "hostile-files"
    for path, connect in ((lite, sqlite3.connect), (duck, lambda path: duckdb.connect(str(path)))):
        with closing(connect(path)) as connection:
            connection.execute("create table districts (district_id int, name text, zone text)")
            connection.execute("insert into districts values (1, 'Alder Moor', 'North')")
            connection.commit()
    folder.mkdir()
    (folder / "districts.csv").write_text("district_id,name,zone\n1,Alder Moor,North\n")

    def in_postgresql():
        with psycopg.connect(cluster.url("metering")) as connection:
            asked = ("select * from districts order by 1", "select relname from pg_class where relnamespace = 'public'::regnamespace order by 1",
                     "select last_value, is_called from counter", "select count(*) from pg_largeobject_metadata", "select * from staff")  # fmt: skip
            return [connection.execute(each).fetchall() for each in asked]

    def in_mariadb():
        with maria.connect("works") as connection, connection.cursor() as cursor:
            seen = []
            for each in ("select * from districts order by 1", "show tables", "show grants for reader", "select @@global.max_connections",
                         "select next_not_cached_value from counter", "select is_used_lock('ladle')"):  # fmt: skip
                cursor.execute(each)
                seen.append(cursor.fetchall())
            return seen

    def in_files():
        return {path.name: path.read_bytes() for path in [lite, duck, *folder.iterdir()]}

    return {
        "postgresql": (metering | {"user": "ladle"}, cluster.password, in_postgresql),
        "mariadb": (works | {"user": "root"}, maria.password, in_mariadb),
        "sqlite": ({"path": str(lite)}, "", in_files),
        "duckdb": ({"path": str(duck)}, "", in_files),
        "files": ({"folder": str(folder)}, "", in_files),
        "documents": (documents.address_of(documents.server()) | {"user": "keeper"}, "all", documents.server().counts),
    }


@pytest.fixture(scope="module")
def attacked(home, sources):
    """A service with a source of every engine, signed in as its administrator."""
    made = start_service(home / "attacked")
    client, _ = Ladle.sign_in(made.url, "administrator", first_password(made.data))
    with client as ladle:
        ladle.people.edit("administrator", password=PASSWORD)
        ladle.sources.add_environment("live")
        for engine, (address, secret, _) in sources.items():
            ladle.sources.add(engine, engine, {"live": {"address": address, "secret": secret}})
        yield ladle
    stop_service(made)
    assert not [line for line in made.log if "Traceback" in line], "".join(made.log)


class Attack:
    """Every way in for one text, with one value; ``said`` is all that came back."""

    def __init__(self, ladle, engine, number):
        self.ladle, self.engine, self.number = ladle, engine, number
        self.said, self.rows = [], []

    def tried(self, action):
        try:
            self.said.append(str(action()))
        except (CallFailed, ClientError) as error:
            self.said.append(str(getattr(error, "run", "")) + str(error))

    def looked(self, path, body):
        """A query, to its end."""
        made = self.ladle.transport.call("POST", path, json=body)
        return until(lambda: (i := self.ladle.sources.query(made["id"]))["state"] not in ("waiting", "running") and i)

    def by_every_way(self, text, values=None, parameters=()):
        name = f"hostile-{self.engine}-{self.number}"
        asked = {"source": self.engine, "environment": "live", "statement": text, "parameters": list(parameters)}
        self.tried(lambda: self.ladle.transport.call("POST", "/diagnostics", json=asked))
        for total in (False, True):
            self.tried(lambda total=total: self.looked("/previews", {**asked, "values": values or {}, "total": total}))
        self.tried(lambda: self.ladle.extracts.add(name, self.engine, text, formats=["csv"], parameters=list(parameters)))
        if "there is no extract" not in self.said[-1] and self.is_saved(name):
            self.tried(lambda: self.ladle.runs.dry_run(name, environment="live", values=values or {}))
            self.tried(lambda: self.run(name, values or {}))
        if not parameters:
            self.as_choices(f"{name}-choices", text)

    def is_saved(self, name):
        return name in [each["name"] for each in self.ladle.extracts.list(search=name)]

    def run(self, name, values):
        run = self.ladle.runs.wait(self.ladle.runs.start(name, values=values)["id"], PATIENCE)
        self.rows = list(self.ladle.runs.rows(run))
        return [run, *self.rows]

    def as_choices(self, name, text):
        parameter = {"name": "p", "required": False, "choices": {"source": self.engine, "statement": text}}
        self.tried(
            lambda: self.ladle.extracts.add(
                name,
                self.engine,
                CHOOSING.get(self.engine, "select name from districts where name = :p"),
                parameters=[parameter],
            )
        )
        if self.is_saved(name):
            body = {"parameter": "p", "environment": "live"}
            self.tried(lambda: self.looked(f"/extracts/{name}/choices", body))


def effects(attack, look, before):
    """What a text or a value did, in words."""
    found = [f"it told '{mark}'" for mark in TOLD for said in attack.said if mark in said]
    found += [f"it made {trace}" for trace in left()]
    return found + (["it changed the source"] if look() != before else [])


@pytest.mark.parametrize("engine", sorted(CASES))
def test_no_hostile_text_has_an_effect_by_any_way(attacked, sources, engine):
    look = sources[engine][2]
    before, texts = look(), [*CASES[engine].HOSTILE, *READS.get(engine, ())]
    for number, text in enumerate(texts):
        if (number + sorted(CASES).index(engine)) % HOSTILE_TEXT_STEP:
            continue
        attack = Attack(attacked, engine, number)
        attack.by_every_way(text)
        assert effects(attack, look, before) == [], text


@pytest.mark.parametrize("engine", sorted(CASES))
def test_no_hostile_value_has_an_effect_by_any_way(attacked, sources, engine):
    look = sources[engine][2]
    before = look()
    for number, value in enumerate(VALUES):
        if (number + sorted(CASES).index(engine)) % HOSTILE_VALUE_STEP:
            continue
        attack = Attack(attacked, engine, f"value-{number}")
        attack.by_every_way(ECHO.get(engine, "select :p as p, name from districts"), {"p": value}, [{"name": "p"}])
        assert effects(attack, look, before) == [], value
        assert {row["p"] for row in attack.rows} == {value}, "a value comes back as it was given"


def test_a_look_behind_the_back_sees_what_was_done(sources, cluster, monkeypatch):
    look = sources["postgresql"][2]
    before = look()
    with psycopg.connect(cluster.url("metering")) as connection:
        connection.execute("insert into districts values (9, 'Meanwhile', null)")
    assert effects(Attack(None, "postgresql", 0), look, before) == ["it changed the source"]
    with psycopg.connect(cluster.url("metering")) as connection:
        connection.execute("delete from districts where district_id = 9")
    assert effects(Attack(None, "postgresql", 0), look, before) == []
    told = Attack(None, "postgresql", 0)
    told.said.append("root:x:0:0:root:/root:/bin/bash")
    assert "it told 'root:x:0'" in effects(told, look, before)
