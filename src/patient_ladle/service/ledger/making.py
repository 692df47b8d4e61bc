"""Making runs: whatever starts one, a person, a schedule or a combination, has it checked here."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from functools import cache
from typing import Any

from django.utils import timezone

from patient_ladle.core.files.formats import get_format
from patient_ladle.service.common.bulk import new_object
from patient_ladle.service.extracts.models import Extract, Revision
from patient_ladle.service.extracts.sensitive_values import sealed
from patient_ladle.service.extracts.shared_values import SharedOf, shared_values, with_shared
from patient_ladle.service.lookups.services import resolved
from patient_ladle.service.sources.models import Address, Environment, Source
from patient_ladle.service.sources.queries import address_in

from .models import Run
from .states import WAITING

RUN_KEPT = timedelta(hours=24)
"""A run started by hand is given up after so long, however it was held up; whoever started it sees a fault at once."""


@dataclass(frozen=True, slots=True)
class Lookups:
    """Where a run's address and shared values are looked up: each time, or once for many runs."""

    address: Callable[[Source, Environment], Address] = address_in
    shared: SharedOf = shared_values

    @classmethod
    def once(cls) -> Lookups:
        """For runs that are made together."""
        return cls(cache(address_in), cache(shared_values))


DIRECTLY = Lookups()


def new_run(  # noqa: PLR0913 - what every run is asked for, by name
    extract: Extract,
    revision: Revision,
    environment: Environment,
    values: dict[str, Any],
    formats: list[str],
    data_date: date,
    due_at: datetime,
    known: Lookups = DIRECTLY,
    **origin: Any,
) -> Run:
    """A run that is not saved yet, with everything checked that can be checked now.

    ``known`` looks up what it needs; ``origin`` is what else a run knows of where it comes from. Raises BadInput and its
    family.
    """
    if revision.source:
        known.address(revision.source, environment)
    for name in formats:
        get_format(name)
    declared = revision.declared
    values = with_shared(declared, values, environment, known.shared)
    in_effect = resolved(declared, values, data_date, due_at)
    now = timezone.now()
    return new_object(
        Run,
        state=WAITING,
        wait_until=now,
        extract=extract,
        revision=revision,
        source=revision.source,
        environment=environment,
        values=sealed(declared, values),
        values_in_effect=in_effect.as_text(),
        formats=formats or revision.formats,
        data_date=data_date,
        due_at=due_at,
        **{"give_up_at": now + RUN_KEPT, "max_attempts": 1, **origin},
    )
