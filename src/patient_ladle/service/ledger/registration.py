"""What a worker makes sure of before it takes runs: the same keys, the same store, the same version, about the same clock."""

from __future__ import annotations

from django.utils import timezone

from patient_ladle import __version__
from patient_ladle.core.errors import BadInput, Conflict, StoreUnwritable, unknown_name
from patient_ladle.service.alerts.services import open_problem, resolve_problem
from patient_ladle.service.common.clock import database_now
from patient_ladle.service.common.fields import UnreadableSecret
from patient_ladle.service.sources.models import Address

from .models import Identity, Worker
from .stores import store

CLOCK_SECONDS = 5.0
"""A host whose clock is further from the database's is told of it."""


def join(row: Worker) -> list[str]:
    """Fill in what the worker's row says of it; returns what is out of the ordinary. Raises Conflict, BadInput."""
    _check_keys()
    row.version, words = __version__, []
    row.store_mark = Identity.objects.values_list("store_mark", flat=True).first() or ""
    try:
        row.store_mark = row.store_mark or store().mark()
    except StoreUnwritable as error:
        words.append(f"the result store cannot be written: {error.message}")
    others = Worker.objects.filter(gone_at=None).exclude(pk=row.pk)
    strange = others.exclude(store_mark__in=("", row.store_mark)).first()
    if row.store_mark and strange is not None:
        raise Conflict(
            f"this host's result store is another one than that of worker {strange.pk}.",
            "Aim LADLE_RESULT_STORE at the folder or bucket that all workers share.",
        )
    row.clock_seconds = _clock_seconds()
    if abs(row.clock_seconds) > CLOCK_SECONDS:
        words.append(_of_clock(row))
    versions = set(others.exclude(version__in=("", __version__)).values_list("version", flat=True))
    if versions:
        words.append(f"this worker is of version {__version__}, others of {', '.join(sorted(versions))}: upgrade them together")
    return words


def _clock_seconds() -> float:
    return round((timezone.now() - database_now()).total_seconds(), 2)


def _of_clock(row: Worker) -> str:
    return f"the clock of this host is {row.clock_seconds:+.1f} s from the service database's: set it right"


def mind_clock(row: Worker) -> None:
    """Clocks jump while a worker runs, too: that is told once, and when it is right again."""
    seconds = _clock_seconds()
    was_wrong, wrong = abs(row.clock_seconds) > CLOCK_SECONDS, abs(seconds) > CLOCK_SECONDS
    if abs(seconds - row.clock_seconds) > 1 or wrong != was_wrong:
        row.clock_seconds = seconds
        Worker.objects.filter(pk=row.pk).update(clock_seconds=seconds)
    key = f"clock:{row.host}"[:200]
    if wrong and not was_wrong:
        open_problem(
            key,
            "clock",
            f"the clock of {row.host} is wrong",
            f"{_of_clock(row)}.",
            "Let it follow a time server.",
            "/workers",
            mark="wrong",
        )
    elif was_wrong and not wrong:
        resolve_problem(key, f"the clock of {row.host} is right again", "", "/workers")


def _check_keys() -> None:
    """Secrets that are kept can be read with this host's keys. Raises Conflict."""
    some = Address.objects.exclude(secret="").values_list("secret", flat=True)[:20]
    if some and all(isinstance(secret, UnreadableSecret) for secret in some):
        raise Conflict(
            "the secrets of the service database cannot be read with this host's key.",
            "Copy keys/secrets.key from the service's data directory into this one's.",
        )


def drain(number: str, draining: bool) -> Worker:
    """From now on the worker takes no more runs, or does again. Raises UnknownName, BadInput."""
    found = Worker.objects.filter(pk=number).first()
    if found is None:
        raise unknown_name("worker", number, Worker.objects.filter(gone_at=None).values_list("pk", flat=True))
    if found.gone_at:
        raise BadInput(f"worker {number} is gone.", "List those that are there: ladle worker list.")
    found.draining = draining
    found.save(update_fields=["draining"])
    return found
