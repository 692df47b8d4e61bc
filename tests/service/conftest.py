"""Calls on the wire."""

from __future__ import annotations

import httpx
import pytest

from tests.command import PATIENCE


@pytest.fixture
def http(service):
    """``http(method, path, name=…)`` on /api/v1 with that person's token."""

    def call(method, path, name="administrator", **given):
        service.ladle(name).close()
        headers = {"Authorization": f"Bearer {service.tokens[name]}"} | given.pop("headers", {})
        return httpx.request(method, f"{service.url}/api/v1{path}", headers=headers, timeout=PATIENCE, **given)

    return call


@pytest.fixture(scope="session")
def orm(cluster, home):
    """Django on a database of its own, in this process."""
    with pytest.MonkeyPatch.context() as environment:  # settings are read once: what tests start later must not inherit them
        environment.setenv("LADLE_DATABASE_URL", cluster.url("ladle"))
        environment.setenv("LADLE_DATA", str(home / "ledger"))
        environment.setenv("LADLE_SOURCE_ROOTS", str(home))
        environment.setenv("DJANGO_SETTINGS_MODULE", "patient_ladle.service.settings")
        import django
        from django.db import connections

        django.setup()
    (home / "ledger" / "results").mkdir(parents=True, exist_ok=True)
    yield
    connections["default"].close_pool()


@pytest.fixture
def repository(orm, home, monkeypatch):
    """An empty ledger with one extract on a source of three runs at once; ``person`` owns all of it."""
    from patient_ladle.service.extracts.services import add_extract
    from patient_ladle.service.people.models import Person
    from patient_ladle.service.processes import scheduler
    from patient_ladle.service.runs import recording
    from patient_ladle.service.schedules import services
    from patient_ladle.service.sources.services import add_environment, add_source

    now = scheduler.database_now()
    for module in (scheduler, services, recording):
        monkeypatch.setattr(module, "database_now", lambda: now)  # no minute begins while a test runs
    emptied()
    person = Person.objects.create(name="amir", own_role="author", role="author")
    add_environment("live", "")
    for name, max_runs in (("wide", 3), ("narrow", 1)):
        add_source(name, "sqlite", {"live": {"address": {"path": str(home / "x.db")}}}, max_runs=max_runs)
        add_extract(person, f"from_{name}", "", "", source=name, statement="select 1 as a")
    return person


@pytest.fixture
def combination(repository):
    """``made(inputs, name=…, **content)``: a combination of two extracts, or of what is given; removed again."""
    from patient_ladle.service.extracts.services import add_extract
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.schedules.models import DueTime, Schedule

    added = []

    def made(inputs=None, name="both", **content):
        inputs = inputs or [{"name": "w", "extract": "from_wide"}, {"name": "n", "extract": "from_narrow"}]
        statement = content.pop("statement", f"select * from {inputs[0]['name']}")
        added.append(add_extract(repository, name, "", "", inputs=inputs, statement=statement, **content))

    yield made
    Run.objects.update(again_of=None, member_of=None)
    Run.objects.all().delete()
    DueTime.objects.all().delete()
    Schedule.objects.all().delete()
    for extract in reversed(added):
        extract.revisions.all().delete()
        extract.delete()


EMPTYING = """
do $$ declare each text; begin
  set local session_replication_role = replica;
  for each in select format('%I', tablename) from pg_tables where schemaname = 'public' and tablename !~ '^(django|auth)_' loop
    execute 'delete from ' || each;
  end loop;
end $$
"""


def emptied():
    """No test sees what another left: every row of every table goes, but what migrations put there."""
    from django.db import connection

    with connection.cursor() as cursor:
        cursor.execute(EMPTYING)
