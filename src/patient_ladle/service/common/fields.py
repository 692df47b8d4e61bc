"""A model field that is encrypted at rest."""

from __future__ import annotations

from typing import Any

from cryptography.fernet import InvalidToken
from django.conf import settings
from django.db import models

from .keys import secret_box


class UnreadableSecret(str):
    """Stands for a secret that was not encrypted with this host's keys. Its row can be read, shown and saved all the same, and
    keeps what it has; only whoever needs the secret itself meets a fault."""

    kept: str

    def __new__(cls, kept: str) -> UnreadableSecret:
        """``kept``: what stands in the database."""
        made = super().__new__(cls, "(cannot be read)")
        made.kept = kept
        return made


class SecretField(models.TextField):  # type: ignore[type-arg] # it cannot be given any while it runs
    """Text that stands encrypted in the database (Fernet, key outside it) and plain in Python."""

    def get_prep_value(self, value: Any) -> Any:
        if isinstance(value, UnreadableSecret):
            return value.kept
        return secret_box(settings.DATA).encrypt(value.encode()).decode() if value else value

    def from_db_value(self, value: Any, *_: Any) -> Any:
        try:
            return secret_box(settings.DATA).decrypt(value.encode()).decode() if value else value
        except InvalidToken:
            return UnreadableSecret(value)
