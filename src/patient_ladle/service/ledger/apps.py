"""The ledger as an application: its tables keep the names that they were made with. What it lends to the layers below."""

from __future__ import annotations

from django.apps import AppConfig


class LedgerConfig(AppConfig):
    """Its label is a part of every table's name, and of the migrations on record."""

    name = "patient_ladle.service.ledger"
    label = "runs"

    def ready(self) -> None:
        from patient_ladle.service.extracts import inputs

        from .members import columns_of_last_run

        inputs.columns_of_last_run = columns_of_last_run
