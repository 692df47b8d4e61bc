"""Whether the service lives, and does what it is there for: for load balancers and whoever watches it."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse, JsonResponse

from patient_ladle import __version__
from patient_ladle.service.ledger.pulses import what_does_not_run

STARTED_AS = ""
"""What the supervisor of this process calls this start: so it knows the answers of its own from those of another service."""
STARTED_HEADER = "X-Started-As"


def alive(request: HttpRequest) -> HttpResponse:
    """``/livez``: 200 as long as this process answers at all."""
    return _answer("alive")


def health(request: HttpRequest) -> HttpResponse:
    """``/healthz`` and ``/readyz``: 200 when the service database answers, due times are recorded and a worker carries out
    runs. Says nothing that a stranger could use."""
    try:
        stands_still = bool(what_does_not_run())
    except Exception:  # noqa: BLE001  # whatever is wrong, the answer is that the service is not well
        return _answer("away", 503)
    return _answer("nothing_runs", 503) if stands_still else _answer("well")


def _answer(status: str, code: int = 200) -> HttpResponse:
    return JsonResponse({"status": status, "version": __version__}, status=code, headers={STARTED_HEADER: STARTED_AS})
