"""A private server that was made once for all tests of a run, with a migrated service database in it, and is copied."""

from __future__ import annotations

import fcntl
import os
import shutil
import subprocess
import sys
from pathlib import Path

from patient_ladle.service.processes.cluster import Cluster

from .janitor import MARK, template_of

NAME = "ledger"


def copied(home: Path, name: str = NAME) -> None:
    """Put it where the server ``name`` of ``home`` would be made: its database is ``ladle``."""
    template = template_of(os.environ[MARK])
    template.mkdir(mode=0o711, exist_ok=True)
    with open(template / "lock", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (template / "made").exists():
            _make(template)
    (home / "keys").mkdir(parents=True, exist_ok=True)
    home.chmod(0o711)
    shutil.copy(template / "keys" / f"{NAME}.password", home / "keys" / f"{name}.password")
    subprocess.run(["cp", "-a", template / NAME, home / name], check=True)


def _make(template: Path) -> None:
    server = Cluster(template, NAME)
    server.start()
    try:
        server.make_database("ladle")
        environment = os.environ | {"LADLE_DATABASE_URL": server.url("ladle"), "LADLE_DATA": str(template / "data")}
        migrate = [sys.executable, "-W", "ignore", "-m", "patient_ladle.service", "manage", "migrate", "--verbosity", "0"]
        subprocess.run(migrate, env=environment, check=True)
    finally:
        server.stop()
    (template / "made").touch()
