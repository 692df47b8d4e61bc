"""A model field that is encrypted at rest."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.db import models

from .keys import secret_box


class SecretField(models.TextField):
    """Text that stands encrypted in the database (Fernet, key outside it) and plain in Python."""

    def get_prep_value(self, value: Any) -> Any:
        return secret_box(settings.DATA).encrypt(value.encode()).decode() if value else value

    def from_db_value(self, value: Any, *_: Any) -> Any:
        return secret_box(settings.DATA).decrypt(value.encode()).decode() if value else value
