"""The service's date, and the one clock that all of its processes share."""

from __future__ import annotations

from datetime import date, datetime
from zoneinfo import ZoneInfo

from django.conf import settings
from django.db import connection
from django.utils import timezone


def default_zone() -> str:
    """Of schedules and *today*, unless they say another."""
    return str(settings.TIME_ZONE)


def today() -> date:
    """The data date of what a person starts by hand."""
    return timezone.now().astimezone(ZoneInfo(settings.TIME_ZONE)).date()


def database_now() -> datetime:
    """The moment it is by the service database's clock, which all processes share."""
    with connection.cursor() as cursor:
        cursor.execute("select clock_timestamp()")
        found: datetime = cursor.fetchone()[0]
    return found
