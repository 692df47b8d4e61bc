"""Signing in with a password: counted before it is tried, told alike for every name, and nobody locked out by others.

Rules and theory
----------------
* An attempt is counted, in its own short transaction, before the password is looked at, so that fifty at once count fifty.
  The right password takes its count back.
* Counted are: a name from one caller, all names from one caller, and one name from all callers. Beyond what is free, each
  has to wait, longer each time. What is said does not depend on whether the name exists.
* A browser in which somebody has signed in before keeps a signed mark and is counted by that alone: whoever else tries that
  name, from wherever, does not keep them out.
* A hash is worked out while no connection to the database is held, by a few threads at a time; more wait in a short line.
"""

from __future__ import annotations

import hashlib
import secrets
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cache

from django.contrib.auth.hashers import check_password, make_password
from django.core import signing
from django.db import connection, transaction
from django.utils import timezone

from patient_ladle.core.errors import NotSignedIn
from patient_ladle.service.common.problems import SlowDown

from .models import Person, SignInFailures

FORGOTTEN = timedelta(minutes=15)
"""After so long without a failure all is free again."""
DEVICE_DAYS = 180
_HASHING = threading.BoundedSemaphore(2)
_LINE = threading.BoundedSemaphore(8)
"""Those who hash and those who wait for them: the threads of one process are sixteen."""


@dataclass(frozen=True, slots=True)
class Limit:
    """How many failures are free, and the longest wait after more."""

    free: int
    longest_seconds: int


OF_NAME_AND_CALLER = Limit(5, 300)
OF_CALLER = Limit(30, 300)
OF_NAME = Limit(50, 2)
"""Slows down guesses from many places, and lets the right password through within seconds."""


@dataclass(frozen=True, slots=True)
class Caller:
    """Where an attempt comes from: an address, and the mark of a browser in which somebody has signed in before."""

    address: str
    device: str = ""


def sign_in(name: str, password: str, caller: Caller) -> Person:
    """The person with that name and password. Raises NotSignedIn, and SlowDown after repeated failures."""
    counted = _counted(name, caller)
    person = Person.objects.filter(name=name, is_active=True).first()
    right = _is_right(password, person)
    if not right or person is None:
        raise NotSignedIn("name and password do not fit together.", "Check both, or ask an administrator.")
    _take_back(counted)
    return person


def _is_right(password: str, person: Person | None) -> bool:
    encoded = person.password if person else _password_of_nobody()
    connection.close()  # hashing takes long, and there are few connections

    def renew(raw: str) -> None:
        if person is not None:
            Person.objects.filter(pk=person.pk, password=encoded).update(password=make_password(raw))

    with _in_line():
        return bool(check_password(password, encoded, renew if person else None))


@contextmanager
def _in_line() -> Iterator[None]:
    if not _LINE.acquire(blocking=False):
        raise SlowDown("too many people sign in at this moment.", "Try again in a few seconds.", wait_seconds=3)
    try:
        with _HASHING:
            yield
    finally:
        _LINE.release()


@cache
def _password_of_nobody() -> str:
    """A hash to compare with where there is no such person, so that it takes as long as where there is one."""
    return make_password("nobody has this password")


def device_mark(person: Person) -> str:
    """What a browser keeps after a sign-in."""
    return signing.dumps([person.name, secrets.token_hex(8)], salt="device")


def _device_of(name: str, caller: Caller) -> str:
    """The browser's own number, where this person has signed in with it before."""
    try:
        known, number = signing.loads(caller.device, salt="device", max_age=DEVICE_DAYS * 86_400)
    except (signing.BadSignature, ValueError, TypeError):
        return ""
    return str(number) if known == name else ""


def _counted(name: str, caller: Caller) -> list[str]:
    """Count one attempt under each key that it falls under; returns the keys. Raises SlowDown, and counts nothing then."""
    device = _device_of(name, caller)
    if device:
        limits = {_key("device", name, device): OF_NAME_AND_CALLER}
    else:
        limits = {
            _key("name and caller", name, caller.address): OF_NAME_AND_CALLER,
            _key("caller", caller.address): OF_CALLER,
            _key("name", name): OF_NAME,
        }
    now = timezone.now()
    with transaction.atomic():
        SignInFailures.objects.filter(seen_at__lt=now - FORGOTTEN).delete()
        SignInFailures.objects.bulk_create([SignInFailures(key=key, seen_at=now) for key in limits], ignore_conflicts=True)
        rows = list(SignInFailures.objects.select_for_update().filter(key__in=limits).order_by("key"))
        _refuse_waiting(rows, now)
        for row in rows:
            limit = limits[row.key]
            row.failed += 1
            over = row.failed - limit.free
            wait = min(2 ** min(over + 1, 20), limit.longest_seconds) if over >= 0 else 0
            row.wait_until, row.seen_at = now + timedelta(seconds=wait), now
            row.save()
    return list(limits)


def _refuse_waiting(rows: Sequence[SignInFailures], now: datetime) -> None:
    until = max((row.wait_until for row in rows if row.wait_until), default=now)
    if until > now:
        wait = int((until - now).total_seconds()) + 1
        raise SlowDown("too many failed sign-ins from here.", f"Wait {wait} s, then try again.", wait_seconds=wait)


def _take_back(keys: Sequence[str]) -> None:
    """After the right password: what was counted under the name is forgotten, under the caller taken back."""
    with transaction.atomic():
        for row in SignInFailures.objects.select_for_update().filter(key__in=keys).order_by("key"):
            row.failed = 0 if row.key == keys[0] else max(row.failed - 1, 0)
            row.wait_until = None if row.key == keys[0] else row.wait_until
            row.save()


def _key(*words: str) -> str:
    return hashlib.sha256("\0".join(words).encode()).hexdigest()
