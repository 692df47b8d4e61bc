"""Django's entry of this package."""

from __future__ import annotations

from django.apps import AppConfig


class AlertsConfig(AppConfig):
    """Its tables and the record of its migrations keep the name that they were made with."""

    name = "patient_ladle.service.alerts"
    label = "notices"
