"""The ledger as an application: its tables keep the names that they were made with."""

from __future__ import annotations

from django.apps import AppConfig


class LedgerConfig(AppConfig):
    """Its label is a part of every table's name, and of the migrations on record."""

    name = "patient_ladle.service.ledger"
    label = "runs"
