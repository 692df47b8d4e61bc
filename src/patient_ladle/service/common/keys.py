"""The service's keys: files of mode 0600 outside the database, made at the first start."""

from __future__ import annotations

import secrets
from functools import lru_cache
from pathlib import Path

from cryptography.fernet import Fernet, MultiFernet

from patient_ladle import variables
from patient_ladle.adapters.created_once import create_once


def data_directory() -> Path:
    """``LADLE_DATA``, or the platform's usual place; not made here."""
    return (variables.DATA.value() or Path.home() / ".local/share/patient-ladle").resolve()


def kept_secret(path: Path, make: str) -> str:
    """The file's text; written with ``make`` and mode 0600 when it is not there yet. Safe against two at once."""
    return create_once(path, make, 0o600)


def django_key(data: Path) -> str:
    """The key that signs sessions."""
    return kept_secret(data / "keys" / "session.key", secrets.token_urlsafe(48))


def secrets_file(data: Path) -> Path:
    """Where the keys lie that secrets are encrypted with; not made here."""
    return data / "keys" / "secrets.key"


@lru_cache(maxsize=4)
def secret_box(data: Path) -> MultiFernet:
    """Encrypts secrets at rest; a key file may hold several keys, a line each, the newest first."""
    text = kept_secret(secrets_file(data), Fernet.generate_key().decode())
    return MultiFernet([Fernet(line.encode()) for line in text.splitlines() if line])
