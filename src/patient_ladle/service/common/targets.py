"""Where this service may deliver to."""

from __future__ import annotations

from django.conf import settings

from patient_ladle.adapters.deliveries import delivery_targets


def targets_of(wanted: str) -> tuple[str, ...]:
    """The targets that a text names, in the form that is recorded. Raises BadInput for what this service may not deliver to."""
    return delivery_targets(settings.DELIVERY_ROOTS, wanted)
