"""Telling: one alert per problem, quiet until it changes, and one when it is over.

All of it happens in the caller's transaction; sending is another process's work, so nothing here waits for a network but the
saving of a channel, whose server is looked up.
"""

from __future__ import annotations

import re
from typing import Any

from django.conf import settings as configured
from django.db import transaction
from django.db.models import F, Q, QuerySet
from django.utils import timezone

from patient_ladle.adapters.alerts import get_channel
from patient_ladle.adapters.alerts.base import NotSent, NotTaken, Reach
from patient_ladle.adapters.alerts.smtp import check_address
from patient_ladle.core.errors import BadInput, Conflict, unknown_name
from patient_ladle.core.runs.alerts import KINDS, OWN_RUN
from patient_ladle.service.common.names import check_name
from patient_ladle.service.people.models import OWN_RUNS, Person

from .models import FAILED, WAITING, Alert, Channel, OpenProblem, Seen, Sending

ON_CHANNELS = tuple(kind for kind in KINDS if kind != OWN_RUN)
"""Kinds of alerts that a channel may be asked to take."""


@transaction.atomic
def open_problem(  # noqa: PLR0913 - what an alert shows, one by one
    key: str, kind: str, title: str, cause: str, next_step: str = "", path: str = "", mark: str = ""
) -> Alert | None:
    """There is a problem of that key. Told when it is new, and when its ``mark`` (its cause, unless given) has changed."""
    mark = without_numbers(mark or cause)
    begins = {"title": title[:200], "mark": mark}
    found, new = OpenProblem.objects.select_for_update().get_or_create(key=key, ended_at=None, defaults=begins)
    if new:
        return tell(kind, title, cause, next_step, path, found)
    changed = found.mark != mark
    found.count, found.mark, found.title = F("count") + 1, mark, title[:200]
    found.save()
    return tell("changed", title, cause, next_step, path, found) if changed else None


def without_numbers(words: str) -> str:
    """A cause without what differs each time though it is the same."""
    return re.sub(r"\d+", "#", words)[:200]


@transaction.atomic
def resolve_problem(key: str, title: str, cause: str, path: str = "") -> Alert | None:
    """The problem of that key, if there is any, has ended; that is told as well."""
    found = OpenProblem.objects.select_for_update().filter(key=key, ended_at=None).first()
    if found is None:
        return None
    found.ended_at = timezone.now()
    found.save()
    times = f" It was seen {found.count} times." if found.count > 1 else ""
    return tell("recovered", title, f"{cause}{times}", "", path, found)


def tell(kind: str, title: str, cause: str, next_step: str = "", path: str = "", about: OpenProblem | None = None) -> Alert:
    """An alert, on its way to every channel that wants its kind."""
    alert = Alert.objects.create(problem=about, kind=kind, title=title[:200], cause=cause, next_step=next_step, path=path)
    now = timezone.now()
    wanting = [channel for channel in Channel.objects.filter(active=True) if not channel.kinds or kind in channel.kinds]
    if about is not None and kind in ("changed", "recovered"):  # who was not told of it is not told that it goes on, or is over
        first = about.alerts.order_by("at").values_list("kind", flat=True).first()
        wanting = [channel for channel in wanting if not channel.kinds or first in channel.kinds]
    Sending.objects.bulk_create(Sending(alert=alert, channel=channel, next_at=now) for channel in wanting)
    return alert


def channels_for(kind: str) -> list[str]:
    """Names of the channels on which alerts of that kind are sent."""
    return [each.name for each in Channel.objects.filter(active=True).order_by("name") if not each.kinds or kind in each.kinds]


def tell_one(person: Person, title: str, cause: str, next_step: str, path: str) -> Alert:
    """An alert for one person alone: in their bell, and by mail where they gave an address and a channel takes it there."""
    alert = Alert.objects.create(person=person, kind=OWN_RUN, title=title[:200], cause=cause, next_step=next_step, path=path)
    if person.mail:
        now, ways = timezone.now(), Channel.objects.filter(active=True, for_people=True)
        Sending.objects.bulk_create(Sending(alert=alert, channel=way, next_at=now, to=person.mail) for way in ways)
    return alert


def for_the_eyes_of(person: Person) -> QuerySet[Alert]:
    """What everybody is told, and what that person alone is."""
    return Alert.objects.filter(Q(person=None) | Q(person=person))


@transaction.atomic
def choose_own(person: Person, own_runs: str | None = None, mail: str | None = None) -> Person:
    """What one is told of runs that one starts oneself, and to which address. Raises BadInput, UnknownName."""
    if own_runs is not None and own_runs not in OWN_RUNS:
        raise unknown_name("choice", own_runs, OWN_RUNS)
    if mail:
        check_address(mail)
    person.own_runs = person.own_runs if own_runs is None else own_runs
    person.mail = person.mail if mail is None else mail
    person.save(update_fields=["own_runs", "mail"])
    return person


def mails_people() -> bool:
    """Whether there is a channel that takes alerts to single people."""
    return Channel.objects.filter(active=True, for_people=True).exists()


def _check_for_people(channel: Channel) -> None:
    if channel.for_people and "to" not in get_channel(channel.kind).settings:
        raise BadInput(
            f"a channel of the kind {channel.kind} has no addresses of people.", "Use one of the kind mail for them."
        )


def channel_named(name: str) -> Channel:
    """Raises UnknownName."""
    found = Channel.objects.filter(name=name).first()
    if found is None:
        raise unknown_name("channel", name, Channel.objects.values_list("name", flat=True), "Add one: ladle channel add.")
    return found


def _check_kinds(kinds: list[str]) -> list[str]:
    for kind in kinds:
        if kind not in ON_CHANNELS:
            raise unknown_name("kind of alert", kind, ON_CHANNELS)
    return kinds


@transaction.atomic
def add_channel(
    name: str, kind: str, settings: dict[str, Any], secret: str = "", kinds: list[str] | None = None, for_people: bool = False
) -> Channel:
    """Raises BadInput, Conflict."""
    check_name("channel", name)
    if Channel.objects.filter(name=name).exists():
        raise Conflict(f"there is a channel '{name}' already.", "Choose another name, or edit it.")
    checked = get_channel(kind).checked(settings)
    made = Channel(
        name=name, kind=kind, settings=checked, secret=secret, kinds=_check_kinds(kinds or []), for_people=for_people
    )
    _check_for_people(made)
    _check_way(made)
    made.save()
    return made


def reach() -> Reach:
    """Where this service's host lets alerts go."""
    return Reach(frozenset(configured.WEBHOOK_HOSTS), configured.WEBHOOK_PRIVATE)


def _check_way(channel: Channel) -> None:
    """A server to which nothing may be sent is refused when it is saved; one that is not known now may be so later. Raises
    BadInput."""
    try:
        get_channel(channel.kind).way(channel.settings, reach())
    except NotTaken as error:
        raise BadInput(error.message, error.hint) from error
    except NotSent:
        return


@transaction.atomic
def edit_channel(name: str, changes: dict[str, Any]) -> Channel:
    """Raises BadInput; what is not given stays, and settings are given whole."""
    channel = channel_named(name)
    if "settings" in changes:
        channel.settings = get_channel(channel.kind).checked(changes["settings"])
    if "kinds" in changes:
        channel.kinds = _check_kinds(changes["kinds"])
    for key in ("secret", "active", "for_people"):
        if changes.get(key) is not None:
            setattr(channel, key, changes[key])
    _check_for_people(channel)
    if "settings" in changes:
        _check_way(channel)
    channel.save()
    return channel


def remove_channel(name: str) -> None:
    """With its sendings; the alerts stay."""
    channel_named(name).delete()


@transaction.atomic
def test_channel(person: Person, name: str) -> Sending:
    """An alert to that channel alone, whatever kinds it wants."""
    channel = channel_named(name)
    alert = Alert.objects.create(
        kind="test", title=f"Patient Ladle: a test of channel {name}", cause=f"{person.name} tries this channel. All is well."
    )
    return Sending.objects.create(alert=alert, channel=channel, next_at=timezone.now())


@transaction.atomic
def send_again(number: int) -> Sending:
    """A sending that was given up is tried anew. Raises Conflict, UnknownName."""
    found = Sending.objects.select_for_update().filter(pk=number).first()
    if found is None:
        raise unknown_name("sending", str(number), [])
    if found.state != FAILED:
        raise Conflict(f"sending {number} is {found.state}.", "Only one that was given up is sent again.")
    found.state, found.attempts, found.next_at = WAITING, 0, timezone.now()
    found.save()
    return found


def unseen_by(person: Person) -> int:
    """How many alerts came since the person last looked."""
    seen = Seen.objects.filter(person=person).first()
    alerts = for_the_eyes_of(person)
    return (alerts.filter(at__gt=seen.until) if seen else alerts).count()


def mark_seen(person: Person) -> None:
    """The person has looked."""
    Seen.objects.update_or_create(person=person, defaults={"until": timezone.now()})
