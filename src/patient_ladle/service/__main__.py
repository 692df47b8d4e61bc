"""``python -m patient_ladle.service …``: the service's own processes. People use ``ladle service start``."""

from __future__ import annotations

import argparse
import importlib.util
import json
import logging
import os
import sys
from pathlib import Path
from typing import cast

from patient_ladle import variables
from patient_ladle.core.errors import LadleError

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "patient_ladle.service.settings")


def _start(args: argparse.Namespace) -> int:
    from patient_ladle.service.common.keys import data_directory

    data = data_directory()
    try:
        data.mkdir(parents=True, exist_ok=True)
        (data / "keys").mkdir(exist_ok=True)
        _keep_private(data)
        from django.conf import settings

        from .processes.supervisor import Supervisor

        listen, port = settings.LISTEN, settings.PORT  # read now: the settings make the service's keys
    except OSError as error:
        return _unusable(data, error)
    if args.demo and listen not in ("127.0.0.1", "::1", "localhost"):
        print("the demo has a known login and listens on loopback only: unset LADLE_LISTEN.", file=sys.stderr)
        return 2
    if args.demo and importlib.util.find_spec("aiosmtpd") is None:
        print("the demo needs packages of its own: pip install 'patient-ladle[service,demo]'.", file=sys.stderr)
        return 2
    try:
        os.environ["LADLE_DATA"] = str(data)
        if args.demo:
            os.environ.setdefault("LADLE_SOURCE_ROOTS", str(data / "fennmoor" / "files"))
            # Its alerts go to its own test mailbox on this machine, and nowhere else.
            os.environ.setdefault("LADLE_WEBHOOK_PRIVATE", "yes")
            os.environ.setdefault("LADLE_WEBHOOK_HOSTS", "127.0.0.1")
        variables.log_misspelled(logging.getLogger("ladle.service"))
        return Supervisor(data, args.max_runs, args.demo, args.adopt).run(f"http://{listen}:{port}")
    except OSError as error:
        return _unusable(data, error)


def _database(_: argparse.Namespace) -> int:
    """The private server alone, until it is asked to stop: for dumps, and for putting one back before the first start."""
    import signal
    import threading

    from patient_ladle.service.common.keys import data_directory

    from .processes.cluster import Cluster
    from .processes.supervisor import taken_data_directory

    data, stop = data_directory(), threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: stop.set())
    try:
        data.mkdir(parents=True, exist_ok=True)
        (data / "keys").mkdir(exist_ok=True)
        _keep_private(data)
        lock = taken_data_directory(data)
        cluster = Cluster(data, "ledger")
        try:
            cluster.start()
            cluster.make_database("ladle")
            password = data / "keys" / "ledger.password"
            print(f"ready: postgresql://ladle@127.0.0.1:{cluster.port}/ladle (its password is in {password})", flush=True)
            stop.wait()
        finally:
            cluster.stop()
            lock.close()
    except OSError as error:
        return _unusable(data, error)
    return 0


def _settings(args: argparse.Namespace) -> int:
    """What is in effect where this is asked."""
    given = {each.name: "…" if each.secret and each.is_set() else each.text() for each in variables.SETTING.values()}
    if args.json:
        rows = [{"name": each.name, "value": given[each.name], "default": each.default, "note": each.note, "set": each.is_set()}
                for each in variables.SETTING.values()]  # fmt: skip
        print(json.dumps(rows, indent=2))
        return 0
    width = max(map(len, given))
    print(f"{'VARIABLE':{width}}  SET  VALUE")
    for name, each in variables.SETTING.items():
        print(f"{name:{width}}  {'set' if each.is_set() else '   '}  {given[name] or each.default or '-'}")
    for words in variables.misspelled(os.environ):
        print(f"ladle: {words}", file=sys.stderr)
    return 0


def _keep_private(data: Path) -> None:
    """Nobody else's account reads what lies there; the private servers' accounts walk through to what is theirs."""
    data.chmod(0o711 if os.geteuid() == 0 else 0o700)
    for path in data.iterdir():
        if path.is_file() and not path.is_symlink():
            path.chmod(0o600)
        elif path.name in ("keys", "results", "source-secrets"):
            path.chmod(0o700)


def _unusable(data: Path, error: OSError) -> int:
    print(f"ladle: the data directory '{data}' cannot be used: {error.strerror}. Choose another: LADLE_DATA=…", file=sys.stderr)
    return 1


def _belongs(adopt: bool = False) -> bool:
    """Ledger, keys, store and data directory belong together; where they do not, that is said."""
    from patient_ladle.core.errors import Conflict

    from .ledger.identity import check

    try:
        for words in check(adopt):
            print(f"ladle: {words}", file=sys.stderr)
    except Conflict as error:
        print(f"ladle: {error.message}\n{error.hint}", file=sys.stderr)
        return False
    return True


def _migrate(args: argparse.Namespace) -> int:
    from django.core.management import call_command
    from django.db import connection

    from .ledger.identity import STRANGER
    from .people.services import first_administrator

    # Without the limits of those who answer people: this may take as long as it takes.
    connection.settings_dict = connection.settings_dict | {"OPTIONS": {}}
    call_command("migrate", verbosity=0, interactive=False)
    if not _belongs(args.adopt):
        return STRANGER
    written = first_administrator()
    if written:
        print(f"first sign-in: name and password of the administrator are in {written}", flush=True)
    return 0


def _close_pool() -> None:
    """No connection is left for processes that are forked off to share: neither the pool's nor this thread's own, which a pool
    does not close. Two that write on one socket talk into each other's transactions."""
    from django.db import connection
    from django.db.backends.postgresql.base import DatabaseWrapper

    connection.close()
    cast(DatabaseWrapper, connection).close_pool()


def _web(args: argparse.Namespace) -> int:
    from django.conf import settings

    from .ledger.identity import STRANGER
    from .processes.private_server import ServerFailed
    from .processes.web import main
    from .runs import health

    if not _belongs(args.adopt):
        return STRANGER
    _close_pool()  # the processes that serve have connections of their own
    health.STARTED_AS = args.started_as
    try:
        main(settings.LISTEN, settings.PORT)
    except ServerFailed as error:
        print(f"ladle: {error.in_words()}", file=sys.stderr)
        return STRANGER
    return 0


def _worker(args: argparse.Namespace) -> int:
    from .ledger.identity import STRANGER
    from .processes.parent import end_with_parent
    from .processes.worker import WorkerProcess

    if not sys.stdin.isatty() and not args.alone:
        end_with_parent()
    if not _belongs():
        return STRANGER
    WorkerProcess(args.max_runs, args.after).main()
    return 0


def _scheduler(_: argparse.Namespace) -> int:
    from .ledger.identity import STRANGER
    from .processes.scheduler import main

    if not _belongs():
        return STRANGER
    _close_pool()  # a second process is forked off, which has connections of its own
    main()
    return 0


def _demo(_: argparse.Namespace) -> int:
    from .demo.main import main
    from .processes.parent import end_with_parent

    end_with_parent()
    return main()


def _manage(args: argparse.Namespace) -> int:
    from django.core.management import execute_from_command_line

    execute_from_command_line(["ladle-manage", *args.words])
    return 0


PARTS = {
    "start": _start, "database": _database, "settings": _settings, "migrate": _migrate, "web": _web, "worker": _worker,
    "scheduler": _scheduler, "demo": _demo, "manage": _manage,
}  # fmt: skip


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="python -m patient_ladle.service")
    verbs = parser.add_subparsers(required=True)
    parts = {name: verbs.add_parser(name) for name in PARTS}
    for name, verb in parts.items():
        verb.set_defaults(action=PARTS[name])
    for name in ("start", "worker"):
        parts[name].add_argument("--max-runs", type=int, default=2)
    for name in ("start", "migrate", "web"):
        parts[name].add_argument("--adopt", action="store_true", help="ledger, keys and store belong together from now on")
    parts["start"].add_argument("--demo", action="store_true")
    parts["settings"].add_argument("--json", action="store_true")
    parts["web"].add_argument(
        "--started-as", default="", help="what its answers about health say, so that they are known for its own"
    )
    parts["worker"].add_argument("--alone", action="store_true", help="not a child of the supervisor")
    parts["worker"].add_argument("--after", type=int, help="number of the process that it takes the place of")
    parts["manage"].add_argument("words", nargs=argparse.REMAINDER)
    return parser


def main() -> int:
    """Parse, set Django up, do it."""
    args = _parser().parse_args()
    os.umask(0o077)  # what the service writes is its own; deliveries say for themselves who may read them
    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(levelname)s %(name)s: %(message)s")
    try:
        variables.refuse_wrong()
        if args.action in (_web, _worker, _scheduler):
            _know_ledger()
        if args.action not in (_start, _database, _settings, _manage):
            import django

            django.setup()
        return int(args.action(args) or 0)
    except variables.WrongVariables as wrong:
        print("\n".join(f"ladle: {line}" for line in wrong.lines), file=sys.stderr)
        return 2
    except LadleError as error:
        print(f"ladle: {error.in_words()}", file=sys.stderr)
        return 1


def _know_ledger() -> None:
    """Every part is of the release that the service database is of. Raises ServerFailed."""
    from .processes import ledger_database

    with ledger_database.reached() as connection:
        ledger_database.schema_of(connection).refuse_other()


if __name__ == "__main__":
    sys.exit(main())
