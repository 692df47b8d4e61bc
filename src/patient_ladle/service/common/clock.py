"""The date it is in the service's zone."""

from __future__ import annotations

from datetime import date
from zoneinfo import ZoneInfo

from django.conf import settings
from django.utils import timezone


def today() -> date:
    """The data date of what a person starts by hand."""
    return timezone.now().astimezone(ZoneInfo(settings.TIME_ZONE)).date()
