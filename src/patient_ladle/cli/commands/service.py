"""``ladle service start`` and ``ladle worker start``: hand over to the service's own process."""

from __future__ import annotations

import argparse
import importlib.util
import os
import sys
from typing import Any

from patient_ladle.cli.output import moment, print_json, print_table
from patient_ladle.client.errors import ClientError

from . import Noun, connected


def _become(words: list[str]) -> int:
    if importlib.util.find_spec("django") is None:
        raise ClientError(
            "the service is not installed here, only the client.", "Install it: pip install 'patient-ladle[service]'"
        )
    sys.stdout.flush()
    os.execv(sys.executable, [sys.executable, "-m", "patient_ladle.service", *words])  # noqa: S606  # nothing to escape


def service_start(args: argparse.Namespace) -> int:
    """Never returns: the process becomes the supervisor."""
    return _become(
        ["start", "--max-runs", str(args.max_runs), *(["--demo"] if args.demo else []), *(["--adopt"] if args.adopt else [])]
    )


def service_database(_: argparse.Namespace) -> int:
    """Never returns: the process becomes the one that minds the private server."""
    return _become(["database"])


def service_settings(args: argparse.Namespace) -> int:
    """Never returns: the process becomes the one that tells."""
    return _become(["settings", *(["--json"] if args.json else [])])


def worker_start(args: argparse.Namespace) -> int:
    """Never returns: the process becomes a worker."""
    if not os.environ.get("LADLE_DATABASE_URL"):
        raise ClientError("LADLE_DATABASE_URL is not set.", "Set it to the service database that the worker shall join.")
    return _become(["worker", "--alone", "--max-runs", str(args.max_runs)])


def worker_list(args: argparse.Namespace) -> None:
    with connected(args) as ladle:
        found = ladle.runs.workers()
    if args.json:
        return print_json(found)
    rows = [
        (w["id"], w["host"], f"{w['running']} of {w['max_runs']}", "draining" if w["draining"] else "",
         w["version"], f"{w['clock_seconds']:+.1f} s", moment(w["started_at"]))
        for w in found
    ]  # fmt: skip
    headings = ("WORKER", "HOST", "RUNNING", "", "VERSION", "CLOCK", "SINCE")
    return print_table(headings, rows, "no worker is there: queued runs wait until one starts.")


def worker_drain(args: argparse.Namespace) -> int:
    with connected(args) as ladle:
        made = ladle.runs.drain(args.worker, not args.undo)
    said = "takes no more runs; running ones finish" if made["draining"] else "takes runs again"
    print_json(made) if args.json else print(f"worker {made['id']} {said}")
    return 0


def add_to(nouns: Any, common: argparse.ArgumentParser) -> None:
    """Register the commands."""
    service = Noun(nouns, common, "service", "The service on this machine.")
    verb = service.verb(
        "start",
        service_start,
        "Start web, worker and scheduler; ends on Ctrl+C. LADLE_DATA, LADLE_PORT, LADLE_LISTEN, LADLE_DATABASE_URL "
        "and LADLE_TIME_ZONE are honoured.",
        "LADLE_DATA=/srv/ladle ladle service start",
    )
    verb.add_argument("--max-runs", type=int, default=2, help="runs that this machine's worker carries out at once")
    verb.add_argument("--demo", action="store_true", help="with Fennmoor Water's made-up sources, extracts and schedules")
    verb.add_argument(
        "--adopt", action="store_true", help="take ledger, keys, result store and data directory for one from now on"
    )
    service.verb(
        "database",
        service_database,
        "Start the private database server alone, to take or put back a dump while the service is stopped; ends on Ctrl+C.",
        "LADLE_DATA=/srv/ladle ladle service database",
    )
    service.verb(
        "settings",
        service_settings,
        "Tell what the service's variables say here, and whether all of them can be: what is wrong is told by name.",
        "ladle service settings",
    )
    worker = Noun(nouns, common, "worker", "Workers beside the service's own.")
    verb = worker.verb(
        "start", worker_start, "Join the ledger that LADLE_DATABASE_URL names.", "ladle worker start --max-runs 4"
    )
    verb.add_argument("--max-runs", type=int, default=2, help="runs at once")
    worker.verb("list", worker_list, "Workers that are there.", "ladle worker list")
    verb = worker.verb("drain", worker_drain, "Let a worker take no more runs.", "ladle worker drain HOST-12-ab34cd")
    verb.add_argument("worker")
    verb.add_argument("--undo", action="store_true", help="let it take runs again")
