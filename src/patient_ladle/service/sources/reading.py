"""What an extract reads: a source at its address in an environment, or nothing but its own values. Whoever must know asks here.

An extract without a source is written in DuckDB's SQL and computed in memory, with nothing in reach but its parameters.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.conf import settings

from patient_ladle.adapters.readers import VALUES
from patient_ladle.adapters.sources import get_engine
from patient_ladle.core.statements.languages import QueryLanguage
from patient_ladle.core.values.quiet_hours import QuietHours

from .models import Address, Environment, Source
from .queries import address_in, connection_spec

QUERY_SECONDS = 3_600
CONNECT_SECONDS = 10
"""For what has no source to say otherwise."""


@dataclass(frozen=True, slots=True)
class Limits:
    """Of one reading: seconds, rows and bytes; None where there is none."""

    connect_timeout_seconds: int = CONNECT_SECONDS
    query_timeout_seconds: int = QUERY_SECONDS
    max_rows: int | None = None
    max_bytes: int | None = None


def source_name(source: Source | None) -> str:
    """Empty where there is none."""
    return source.name if source else ""


def engine_of(source: Source | None) -> str:
    """The engine whose language an extract is written in."""
    return source.engine if source else VALUES.engine


def language_of(source: Source | None) -> QueryLanguage:
    """What an extract on the source is written in."""
    return get_engine(engine_of(source)).language


def limits_of(source: Source | None) -> Limits:
    """What bounds a reading of the source."""
    if source is None:
        return Limits()
    return Limits(source.connect_timeout_seconds, source.query_timeout_seconds, source.max_rows, source.max_bytes)


def quiet_until(source: Source | None, now: datetime) -> datetime | None:
    """The end of the source's present quiet hours; None outside them, and where there is no source."""
    if source is None or not source.quiet_hours:
        return None
    return QuietHours.from_text(source.quiet_hours, source.quiet_zone or settings.TIME_ZONE).end_of(now)


@dataclass(frozen=True, slots=True)
class Reading:
    """A source in an environment, or no source."""

    source: Source | None
    environment: Environment

    @property
    def name(self) -> str:
        """In words: *source metering in live*."""
        return f"source {self.source.name} in {self.environment.name}" if self.source else "no source"

    @property
    def key(self) -> str:
        """The same for the same place, empty for none."""
        return f"source:{self.source.pk}:{self.environment.pk}" if self.source else ""

    def address(self) -> Address | None:
        """None where nothing is read. Raises BadInput where the source has none in that environment."""
        return address_in(self.source, self.environment) if self.source else None

    def reader(self) -> dict[str, Any]:
        """What a job carries to get at it, a secret among it (``adapters.readers``). Raises BadInput, SecretUnreadable."""
        address = self.address()
        return connection_spec(address) if address else VALUES.job()
