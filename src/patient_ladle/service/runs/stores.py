"""The result store that this service is set up with."""

from __future__ import annotations

from pathlib import Path

from django.conf import settings

from patient_ladle.adapters.stores.folder import FolderStore


def store() -> FolderStore:
    """The result store."""
    return FolderStore(Path(settings.RESULT_STORE))
