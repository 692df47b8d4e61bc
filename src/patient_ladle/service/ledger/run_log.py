"""Words of the run log, and waking those who carry runs out."""

from __future__ import annotations

from django.db import connection
from django.utils import timezone

from patient_ladle.adapters.deliveries import in_words
from patient_ladle.core.keepable import bounded, keepable_text
from patient_ladle.core.ports import DeliveryPlan
from patient_ladle.words import amount

from .models import LogLine, Run

QUEUED_CHANNEL = "ladle_run_queued"


def wake_workers() -> None:
    """Tell idle workers, once this transaction commits; without it they look every two seconds."""
    with connection.cursor() as cursor:
        cursor.execute("select pg_notify(%s, '')", [QUEUED_CHANNEL])


def delivered_words(plan: DeliveryPlan) -> str:
    """What a delivery did, for the run log."""
    return f"delivered {amount(len(plan.wished) - 1, 'file')} and the descriptor into {in_words(plan.targets)}"


def add_log(run: Run, level: str, text: str, stage: str = "") -> None:
    """One line of the run log, at the present moment."""
    LogLine.objects.create(
        run=run,
        attempt=run.attempt,
        at=timezone.now(),
        stage=stage or run.stage,
        level=level,
        text=bounded(keepable_text(text)),
    )
