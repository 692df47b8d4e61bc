"""Whether the service lives, and does what it is there for: for load balancers and whoever watches it."""

from __future__ import annotations

import threading
from concurrent.futures import Future

from django.db import connection
from django.http import HttpRequest, HttpResponse, JsonResponse

from patient_ladle import __version__
from patient_ladle.core.aside import aside
from patient_ladle.service.ledger.pulses import what_does_not_run

STARTED_AS = ""
"""What the supervisor of this process calls this start: so it knows the answers of its own from those of another service."""
STARTED_HEADER = "X-Started-As"

ANSWER_SECONDS = 1.5
"""Whoever asks is answered within two seconds, whatever hangs."""
_ONE = threading.Lock()
_LOOKS: list[Future[bool]] = []
"""The look that is under way, or the last one."""


def _look() -> Future[bool]:
    """Whether anything stands still; whoever asks meanwhile waits for the same look."""
    with _ONE:
        if not _LOOKS or _LOOKS[0].done():
            _LOOKS[:] = [aside(_looked)]
        return _LOOKS[0]


def _looked() -> bool:
    try:
        return bool(what_does_not_run())
    finally:
        connection.close()


def alive(request: HttpRequest) -> HttpResponse:
    """``/livez``: 200 as long as this process answers at all."""
    return _answer("alive")


def health(request: HttpRequest) -> HttpResponse:
    """``/healthz`` and ``/readyz``: 200 when the service database answers, due times are recorded and a worker carries out
    runs. Says nothing that a stranger could use."""
    try:
        stands_still = _look().result(ANSWER_SECONDS)
    except Exception:  # noqa: BLE001  # whatever is wrong, or does not answer: the service is not well
        return _answer("away", 503)
    return _answer("nothing_runs", 503) if stands_still else _answer("well")


def _answer(status: str, code: int = 200) -> HttpResponse:
    return JsonResponse({"status": status, "version": __version__}, status=code, headers={STARTED_HEADER: STARTED_AS})
