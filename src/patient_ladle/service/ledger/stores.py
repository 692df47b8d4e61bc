"""The result store that this service is set up with."""

from __future__ import annotations

from django.conf import settings

from patient_ladle.adapters.stores import store_at
from patient_ladle.adapters.stores.base import Store


def store() -> Store:
    """The result store."""
    return store_at(str(settings.RESULT_STORE))
