"""What the runs lend to the layers below them, once everything is loaded."""

from __future__ import annotations

from django.apps import AppConfig


class RunsConfig(AppConfig):
    """Due times are recorded here; a schedule is changed below, and has them recorded first."""

    name = "patient_ladle.service.runs"
    label = "runs_services"  # without tables of its own

    def ready(self) -> None:
        from patient_ladle.service.schedules import services

        from .recording import record_before

        services.record_before = record_before
