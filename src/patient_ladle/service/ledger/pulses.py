"""Whether anything runs at all: said by the web, which needs no scheduler and no worker to say it."""

from __future__ import annotations

import logging
import threading
import time

from django.conf import settings
from django.db import connection, transaction

from patient_ladle.service.alerts import courier
from patient_ladle.service.alerts.services import open_problem, resolve_problem
from patient_ladle.service.common.alone import guarded
from patient_ladle.service.common.clock import database_now

from .models import Pulse, Worker

log = logging.getLogger("ladle.web")

POLL_SECONDS = 10.0
WATCH_LOCK = 0x1AD1E03
"""Advisory lock of the look: the web processes take turns."""
_BEGAN = time.monotonic()


def what_does_not_run() -> list[str]:
    """In words, what should be there and is not; empty where all is well, and while the service has just been started."""
    if time.monotonic() - _BEGAN < settings.STALE_SECONDS:
        return []
    now = database_now()
    words = []
    for name, does in (("scheduler", "records due times"), ("upkeep", "looks after space and old results")):
        pulse = Pulse.objects.filter(pk=name).first()
        most = settings.STALE_SECONDS if name == "scheduler" else 60 * settings.STALE_SECONDS
        if pulse is None or (now - pulse.at).total_seconds() > most:
            since = f"since {pulse.at:%Y-%m-%d %H:%M:%S} UTC" if pulse else "so far"
            words.append(f"nothing {does} {since}")
    beats = Worker.objects.filter(gone_at=None, beat_at__isnull=False).values_list("beat_at", "draining")
    fresh = [draining for at, draining in beats if at and (now - at).total_seconds() <= settings.STALE_SECONDS]
    if not fresh:
        last = Worker.objects.filter(beat_at__isnull=False).order_by("-beat_at").values_list("beat_at", flat=True).first()
        words.append("no worker carries out runs" + (f" since {last:%Y-%m-%d %H:%M:%S} UTC" if last else ""))
    elif all(fresh):
        words.append("every worker is draining, so that queued runs wait")
    return words


def watch(stop: threading.Event) -> None:
    """Runs in a thread of a web process: tells people when nothing runs, and takes that to its channels itself."""
    while not stop.wait(min(POLL_SECONDS, settings.STALE_SECONDS)):
        with guarded("looking whether anything runs", log):
            look()


def look() -> None:
    """One look; the web process that has the lock tells."""
    with transaction.atomic():
        with connection.cursor() as cursor:
            cursor.execute("select pg_try_advisory_xact_lock(%s)", [WATCH_LOCK])
            if cursor.fetchone() != (True,):
                return
        words = what_does_not_run()
        if words:
            hint = "Look at the service's log; start it again if that does not say why: ladle service start."
            cause = f"{'; '.join(words)}."
            open_problem("nothing-runs", "nothing_runs", "the service does not run everything", cause, hint, "/", mark=cause)
        else:
            resolve_problem("nothing-runs", "the service runs everything again", "", "/")
    if words:
        courier.send_due()
