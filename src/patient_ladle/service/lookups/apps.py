"""Django's entry of this package."""

from __future__ import annotations

from django.apps import AppConfig


class LookupsConfig(AppConfig):
    """Between the extracts, which use lookups, and the people who keep them."""

    name = "patient_ladle.service.lookups"
