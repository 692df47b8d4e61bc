"""A backup taken and restored elsewhere by the commands that the documents give, and what a start says where a part is missing."""

from __future__ import annotations

import os
import re
import shutil
import signal
import subprocess
import sys
from pathlib import Path

import httpx
import psycopg
import pytest

from patient_ladle.client import Ladle
from tests.command import PATIENCE
from tests.conftest import ADMINISTRATOR, PASSWORD, children_of, port_of_our_own, set_up, start_service, stop_service, until

DOCUMENT = Path(__file__).parents[2] / "docs" / "operations.md"
DATABASES = sorted(Path("/usr/lib/postgresql").glob("*/bin"))[-1]


def by_the_document(part, **folders):
    """The commands of that part, as somebody types them."""
    text = re.search(rf"<!-- {part} -->\n```sh\n(.*?)```", DOCUMENT.read_text(), re.DOTALL)[1]
    path = f"{Path(sys.executable).parent}:{DATABASES}:{os.environ['PATH']}"
    environment = os.environ | {name: str(folder) for name, folder in folders.items()} | {"PATH": path}
    text = "trap 'kill $(jobs -p) 2>/dev/null || true' EXIT\n" + text
    done = subprocess.run(["bash", "-ec", text], env=environment, capture_output=True, text=True, timeout=PATIENCE, check=False)
    assert done.returncode == 0, done.stderr


@pytest.fixture(scope="module")
def drilled(home, metering):
    """A data directory with a run in it, its backup, and what both know: (data, backup, run)."""
    data, backup = home / "drilled", home / "drill backup"
    backup.mkdir()
    service = start_service(data)
    with set_up(service, metering) as ladle:
        ladle.extracts.add("use", "metering", "select name from districts order by 1", formats=["csv"], deliver_into="use")
        run = ladle.runs.wait(ladle.runs.start("use")["id"], PATIENCE)
    stop_service(service)
    by_the_document("backup", D=data, B=backup)
    return data, backup, run


def refused(data, *words):
    """What a start that refuses says."""
    environment = os.environ | {"LADLE_DATA": str(data), "LADLE_PORT": str(port_of_our_own()), "LADLE_LOG_LEVEL": "WARNING"}
    command = [sys.executable, "-m", "patient_ladle.cli.main", "service", "start", *words]
    done = subprocess.run(command, env=environment, capture_output=True, text=True, timeout=PATIENCE, check=False)
    assert done.returncode == 1, done.stdout
    assert "Traceback" not in done.stderr
    return done.stderr


def test_a_backup_is_restored_elsewhere_with_its_secrets_and_goes_on(drilled, home):
    data, backup, run = drilled
    new = home / "restored"
    by_the_document("restore", B=backup, N=new)
    service = start_service(new)
    try:
        with Ladle.sign_in(service.url, ADMINISTRATOR, PASSWORD)[0] as ladle:
            [file] = ladle.runs.get(run["id"])["files"]
            assert (
                b"".join(ladle.runs.read(run["id"], file["name"]))
                == (data / "results" / str(run["id"]) / "1" / file["name"]).read_bytes()
            )
            again = ladle.runs.wait(ladle.runs.again(run["id"])["id"], PATIENCE)
            assert (again["id"] > run["id"], again["same_as_before"]) == (True, True), "the source's secret was restored too"
    finally:
        stop_service(service)


@pytest.mark.parametrize(
    ("missing", "says"),
    [("keys/secrets.key", "is not there: it holds those that the secrets"), ("results", "has no mark: it is empty, not mounted"),
     ("dump", "and the service database is empty"), ("database's folder", "is not there")],
)  # fmt: skip
def test_a_part_that_is_missing_is_named_by_the_start(drilled, home, missing, says):
    """And nothing is made in its place: with the part back, all is as it was."""
    _, backup, run = drilled
    new = home / f"without {missing.replace('/', ' ')}"
    if missing == "dump":
        new.mkdir(mode=0o711)
        for part in ("keys", "results"):
            shutil.copytree(backup / part, new / part)
        shutil.copy(backup / "ledger.id", new)
        (new / "keys" / "ledger.port").unlink()
        assert says in refused(new)
        assert not (new / "first-sign-in.txt").exists()
        return
    by_the_document("restore", B=backup, N=new)
    part = new / "ledger" if missing == "database's folder" else new / missing
    if missing == "database's folder":
        shutil.move(part, home / "aside")
        (new / "ledger-is-elsewhere.txt").write_text(f"{part}\n")
    else:
        shutil.move(part, home / "aside")
    try:
        assert says in refused(new)
        assert not part.exists()
    finally:
        shutil.move(home / "aside", part)
    service = start_service(new)
    try:
        with Ladle.sign_in(service.url, ADMINISTRATOR, PASSWORD)[0] as ladle:
            assert ladle.runs.get(run["id"])["files"][0]["sha256"] == run["files"][0]["sha256"]
    finally:
        stop_service(service)


def answers(ladle):
    try:
        return ladle.transport.http.get("/status", timeout=5).status_code == 200
    except httpx.TransportError:
        return False


def process_of(service, part):
    """Number of that part of the service; None while there is none."""
    for folder in Path("/proc").iterdir():
        try:
            command, above = (folder / "cmdline").read_text(), (folder / "stat").read_text().rpartition(")")[2].split()
        except (OSError, IndexError):
            continue
        if f"service\0{part}" in command and above[1] == str(service.process.pid) and above[0] != "Z":
            return int(folder.name)
    return None


def told(ladle):
    """Whether people were told that nobody carries out runs, and that nobody records due times."""
    causes = [alert["cause"] for alert in ladle.alerts.list() if alert["kind"] in ("nothing_runs", "changed")]
    words = ("no worker carries out runs since 20", "nothing records due times since 20")
    return all(any(each in cause for cause in causes) for each in words)


@pytest.mark.long  # it waits until what does nothing has done nothing for long enough, three times
def test_a_part_that_lives_and_does_nothing_is_told_of_and_started_anew(home):
    """Nobody is needed for it: its neighbours see that it hangs, and the web tells it, with no scheduler to do so."""
    service = start_service(home / "hanging", LADLE_STALE_SECONDS="5")
    password = (service.data / "first-sign-in.txt").read_text().split("password: ")[1].strip()
    ladle, _ = Ladle.sign_in(service.url, ADMINISTRATOR, password)
    try:
        with ladle:
            with psycopg.connect(service.database_url(), autocommit=True) as connection:
                until(lambda: connection.execute("select count(*) from runs_pulse").fetchone() == (2,))
            for parts in (*[("worker", "scheduler")] * 5, ("web",)):
                if parts[0] == "worker" and told(ladle):
                    continue  # on a slow day its end may come before anybody has looked: then once more
                until(lambda: answers(ladle) and not ladle.status()["nothing_runs"])
                frozen = {part: process_of(service, part) for part in parts}
                for part, pid in frozen.items():
                    for each in (*(children_of(pid) if part == "web" else ()), pid):
                        os.kill(each, signal.SIGSTOP)
                for part, pid in frozen.items():
                    until(lambda part=part, pid=pid: process_of(service, part) not in (None, pid))
                    assert any(f"{part} lives and has done nothing" in line for line in service.log)
            until(lambda: answers(ladle) and not ladle.status()["nothing_runs"])
            assert told(ladle)
            until(lambda: next(iter(ladle.alerts.list()))["kind"] == "recovered")
    finally:
        stop_service(service)
