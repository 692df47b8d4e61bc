"""Brings up the demo's sources and repository, behind a service that is served already; ends its servers with it."""

from __future__ import annotations

import secrets
import signal
import threading
from concurrent.futures import ThreadPoolExecutor
from datetime import date, timedelta
from pathlib import Path
from typing import Any

from django.conf import settings
from django.utils import timezone

from patient_ladle import variables
from patient_ladle.service.alerts.models import Channel
from patient_ladle.service.alerts.services import add_channel, edit_channel
from patient_ladle.service.common.keys import kept_secret
from patient_ladle.service.extracts.models import Extract, SharedValue
from patient_ladle.service.extracts.services import add_extract, edit_extract
from patient_ladle.service.extracts.shared_values import set_shared_value
from patient_ladle.service.ledger.models import Run
from patient_ladle.service.lookups.models import Lookup
from patient_ladle.service.lookups.services import add_lookup
from patient_ladle.service.people.groups import add_group
from patient_ladle.service.people.models import Person, PersonGroup
from patient_ladle.service.people.services import add_person
from patient_ladle.service.processes.cluster import Cluster
from patient_ladle.service.runs.services import start_run
from patient_ladle.service.schedules.models import HolidayCalendar, Schedule
from patient_ladle.service.schedules.services import add_schedule, edit_schedule, save_calendar
from patient_ladle.service.sources.interactive import ask
from patient_ladle.service.sources.models import Address, Environment, InteractiveQuery, Source
from patient_ladle.service.sources.services import add_environment, add_source, edit_source

from . import data, field_data
from .contacts import contacts_server
from .document_server import DocumentServer
from .mailbox import RunningMailbox
from .maria_server import MariaServer
from .past import make_past
from .scenario import COMBINED, EXTRACTS, FIRST_RUNS, HOLIDAYS, LOOKUPS, SCHEDULES, SHAPED, SHARED_VALUES

PASSWORD = "fennmoor-demo"  # noqa: S105  # known on purpose: the demo listens on loopback only
GROUPS = {
    "analysts": ("author", "who write and look after extracts", ("amir",)),
    "control-room": ("runner", "on duty", ("rosa",)),
}
PEOPLE = {"rita": "administrator", "amir": "author", "rosa": "runner", "lena": "reader"}
ENVIRONMENTS = {"live": "the real thing, as far as Fennmoor is real", "rehearsal": "fewer rows, to try things on"}


_GROUPS = {"telemetry": "network", "works": "network", "laboratory": "quality"}


def _anchor(home: Path) -> date:
    """The day of the first start, unless LADLE_DEMO_DATE says another."""
    today = timezone.now().date().isoformat()
    return variables.DEMO_DATE.value() or date.fromisoformat(kept_secret(home / "anchor-date.txt", today))


NOTES = {
    "metering": ("postgresql", "Districts, premises, meters and their readings."),
    "works": ("mariadb", "Work orders, crews, leaks and their photographs."),
    "laboratory": ("sqlite", "Samples and their results."),
    "telemetry": ("files", "Pressure and flow, as the loggers sent them."),
    "contacts": ("documents", "What customers called, wrote and mailed about, a collection for each month."),
    "archive": ("postgresql", "Readings of earlier years. Its address is wrong on purpose: check it."),
}


def _password(home: Path) -> str:
    """Of the logins that may only read."""
    return kept_secret(home / "keys" / "reader.password", secrets.token_urlsafe(18))


def _sources(home: Path, cluster: Cluster, maria: MariaServer, store: DocumentServer) -> None:
    anchor, password = _anchor(home), _password(home)
    addresses: dict[str, dict[str, Any]] = {name: {} for name in NOTES}
    for environment, (meters, days) in data.SIZES.items():
        database = f"metering_{environment}"
        cluster.make_database(database)
        data.make_metering(cluster.url(database), password, anchor, meters, days)
        files = home / "files"  # apart from the keys of the demo's servers: a source may read what lies here
        files.mkdir(exist_ok=True)
        laboratory, telemetry = files / f"laboratory-{environment}.db", files / f"telemetry-{environment}"
        data.make_laboratory(laboratory, anchor, days + 60)
        reader = f"{data.READER}_{environment}"  # one for each: a login sees every database that it may read
        field_data.make_works(maria, f"works_{environment}", reader, password, anchor, meters // 2)
        field_data.make_telemetry(telemetry, anchor, days // 3)
        login = {"host": "127.0.0.1", "user": data.READER}
        address = login | {"port": cluster.port, "database": database}
        addresses["metering"][environment] = {"address": address, "secret": password}
        address = login | {"port": maria.port, "database": f"works_{environment}", "user": reader}
        addresses["works"][environment] = {"address": address, "secret": password}
        addresses["laboratory"][environment] = {"address": {"path": str(laboratory)}}
        address = login | {"port": store.port, "database": f"contacts_{environment}", "user": reader}
        addresses["contacts"][environment] = {"address": address, "secret": password}
        kinds = "exact, flow.litres_a_second=decimal, flow.measured_at=timestamp"
        addresses["telemetry"][environment] = {"address": {"folder": str(telemetry), "csv_kinds": kinds}}
    wrong = {"host": "127.0.0.1", "user": data.READER, "port": cluster.port, "database": "metering_archiv"}
    addresses["archive"]["live"] = {"address": wrong, "secret": password}
    for name, (engine, note) in NOTES.items():
        if Source.objects.filter(name=name).exists():
            edit_source(name, {"addresses": addresses[name]})
        else:
            add_source(name, engine, addresses[name], note=note, group=_GROUPS.get(name, "customers"))


def _people_and_environments() -> None:
    for name, role in PEOPLE.items():
        if not Person.objects.filter(name=name).exists():
            add_person(name, PASSWORD, role)
    for name, (role, note, members) in GROUPS.items():
        if not PersonGroup.objects.filter(name=name).exists():
            add_group(name, role, note, members)
    for name, note in ENVIRONMENTS.items():
        if not Environment.objects.filter(name=name).exists():
            add_environment(name, note)


def _extracts(author: Person) -> None:
    for shared in SHARED_VALUES:
        if not SharedValue.objects.filter(name=shared["name"]).exists():
            set_shared_value(author, **shared)
    for lookup in LOOKUPS:
        if not Lookup.objects.filter(name=lookup["name"]).exists():
            given: dict[str, Any] = {key: lookup[key] for key in ("columns", "rows", "kinds") if key in lookup}
            add_lookup(author, lookup["name"], lookup["note"], "", given)
    for content in (*EXTRACTS, *SHAPED, *COMBINED):
        if not Extract.objects.filter(name=content["name"]).exists():
            rest = {key: value for key, value in content.items() if key != "tags"}
            add_extract(author, change_note="first save", **{"folder": "", **rest})
            edit_extract(content["name"], content.get("tags", []), None)


def _repository() -> None:
    author, runner = Person.objects.get(name="amir"), Person.objects.get(name="rosa")
    _extracts(author)
    if not HolidayCalendar.objects.exists():
        save_calendar(author, "fennmoor", text=HOLIDAYS)
    for schedule in SCHEDULES:
        if not Schedule.objects.filter(name=schedule["name"]).exists():
            add_schedule(author, environment="live", zone=settings.TIME_ZONE, **schedule)
    make_past()
    soon = timezone.now() + timedelta(seconds=75)
    edit_schedule("exceedances-hourly", rule=f"{soon.minute} * * * *")
    if not Run.objects.filter(due_time=None, again_of=None).exists():
        for body in FIRST_RUNS:
            start_run(runner, dict(body))


def _channels(mailbox: RunningMailbox) -> None:
    """Mail to whoever is on duty, and a webhook, both into the test mailbox."""
    duty = {"host": "127.0.0.1", "port": str(mailbox.mail.port), "security": "none",
            "sender": "ladle@fennmoor.example", "to": "duty@fennmoor.example"}  # fmt: skip
    for name, kind, given, kinds in (
        ("duty", "mail", duty, ["failed", "not_run", "late", "held", "missed", "source_unreachable", "recovered", "summary"]),
        ("control-room", "webhook", {"url": f"{mailbox.url}/control-room"}, ["failed", "source_unreachable", "recovered"]),
    ):
        if Channel.objects.filter(name=name).exists():
            edit_channel(name, {"settings": given})
        else:
            add_channel(name, kind, given, "control-room-demo" if kind == "webhook" else "", kinds, kind == "mail")


def _look_around(stop: threading.Event) -> None:
    """Gather what the sources hold, one after the other, so that an author finds names completed at the first letter."""
    author = Person.objects.get(name="amir")
    for address in Address.objects.filter(catalogue_at=None, environment__name="live").exclude(source__name="archive"):
        asked = ask(author, address.source.name, {"kind": "catalogue", "environment": "live"})
        while not stop.wait(0.3) and InteractiveQuery.objects.filter(pk=asked.pk, ended_at=None).exists():
            continue


def main() -> int:
    """Entry point of the demo process."""
    stop = threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: stop.set())
    home: Path = settings.DATA / "fennmoor"
    home.mkdir(parents=True, exist_ok=True)
    _people_and_environments()
    login = settings.DATA / "demo-login.txt"
    login.write_text("".join(f"{name} ({role}), password {PASSWORD}\n" for name, role in PEOPLE.items()))
    print(f"demo login: rita, password {PASSWORD} (all logins: {login})", flush=True)
    mailbox = RunningMailbox()
    mailbox.start()
    print(f"demo mailbox: {mailbox.url}", flush=True)
    cluster, maria = Cluster(home, "metering"), MariaServer(home, "works")
    store = contacts_server(_anchor(home), {name: f"{data.READER}_{name}" for name in ENVIRONMENTS}, _password(home))
    store.start()
    try:
        with ThreadPoolExecutor(2) as pool:
            list(pool.map(lambda server: server.start(), (cluster, maria)))
        _sources(home, cluster, maria, store)
        _repository()
        _channels(mailbox)  # now: what lies behind us has been told
        print(f"demo sources: {', '.join(NOTES)} are up (archive's address is wrong on purpose)", flush=True)
        _look_around(stop)
        stop.wait()
    finally:
        mailbox.stop()
        cluster.stop()
        maria.stop()
        store.stop()
    return 0
