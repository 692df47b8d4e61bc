"""The night in one alert, once a morning."""

from __future__ import annotations

from datetime import date, datetime, time, timedelta

from django.conf import settings
from django.db import transaction

from patient_ladle.core.values.calendars.clock import check_zone
from patient_ladle.service.alerts.models import Alert, Summary
from patient_ladle.service.alerts.services import tell
from patient_ladle.service.ledger.alarms import where_of
from patient_ladle.words import amount, spaced

from .night import coming_next, night_to

SHOWN = 20
"""Lines of a summary."""


def sum_up(now: datetime) -> Alert | None:
    """The night in one alert, once a morning from the hour that is set; None when it is not the time."""
    local = now.astimezone(check_zone(settings.TIME_ZONE))
    if not settings.SUMMARY_AT or local.time() < time.fromisoformat(settings.SUMMARY_AT):
        return None
    if Summary.objects.filter(date=local.date()).exists():
        return None
    with transaction.atomic():
        title, text = summary_of(local.date(), now)
        alert = tell("summary", title, text, "", "/")
        _, new = Summary.objects.get_or_create(date=local.date(), defaults={"alert": alert})
        if not new:
            transaction.set_rollback(True)  # another scheduler was first
            return None
    return alert


def summary_of(day: date, now: datetime) -> tuple[str, str]:
    """Title and text: counts of the last day, and by name whatever needs attention."""
    night = night_to(now, now - timedelta(days=1))
    lines = [f"Runs of the last day: {night.sentence}"]
    for need in night.needs[:SHOWN]:
        others = f" (and {amount(len(need.others), 'other run')})" if need.others else ""
        lines.append(f"{spaced(need.kind)}: run {need.run.pk} {where_of(need.run)}: {need.cause}{others}")
    if len(night.needs) > SHOWN:
        lines.append(f"… and {amount(len(night.needs) - SHOWN, 'cause')} more.")
    lines += [f"Next: {due.name} at {due.next_due_at:%Y-%m-%d %H:%M} UTC." for due in coming_next()[:1]]
    fine = "no problems" if night.states or night.decisions else "no runs"
    word = f"{night.needing:,} need{'s' if night.needing == 1 else ''} attention" if night.needing else fine
    return f"{night_of(day)}: {word}", "\n".join(lines)


def night_of(morning: date) -> str:
    """``Night of 26–27 November 2026``, by the date of its morning."""
    evening = morning - timedelta(days=1)
    same = "" if evening.month == morning.month else f" {evening:%B}"
    return f"Night of {evening.day}{same}–{morning.day} {morning:%B %Y}"
