"""Making people and tokens, signing in."""

from __future__ import annotations

import re
import secrets
from datetime import timedelta
from functools import cache
from pathlib import Path
from typing import Any

from django.conf import settings
from django.contrib.auth.hashers import check_password, make_password
from django.db import transaction
from django.utils import timezone

from patient_ladle.core.errors import BadInput, Conflict, NotFound, NotSignedIn, unknown_name
from patient_ladle.service.common.keys import kept_secret
from patient_ladle.service.common.problems import SlowDown

from .authentication import may
from .models import ROLES, Person, Token, digest_of

FREE_TRIES = 5
"""Failed sign-ins before the next one has to wait: 2 s, then twice as long each time, up to 5 minutes."""
MIN_PASSWORD = 10


@cache
def _password_of_nobody() -> str:
    """A hash to compare with where there is no such person, so that it takes as long as where there is one."""
    return make_password("nobody has this password")


def check_role(role: str) -> str:
    """The role, or UnknownName."""
    if role not in ROLES:
        raise unknown_name("role", role, ROLES)
    return role


def _check_password(password: str) -> None:
    if len(password) < MIN_PASSWORD:
        raise BadInput(f"the password has {len(password)} characters.", f"Choose one of at least {MIN_PASSWORD}.")


def person_named(name: str, locked: bool = False) -> Person:
    """Raises UnknownName."""
    query = Person.objects.select_for_update() if locked else Person.objects.all()
    found: Person | None = query.filter(name=name).first()
    if found is None:
        raise unknown_name("person", name, Person.objects.values_list("name", flat=True))
    return found


def add_person(name: str, password: str, role: str) -> Person:
    """A new person. Raises BadInput, Conflict."""
    if not re.fullmatch(r"[a-z0-9][a-z0-9._-]{0,63}", name):
        raise BadInput(f"'{name}' cannot be a person's name.", "Use small letters, digits and . _ - only.")
    check_role(role)
    _check_password(password)
    if Person.objects.filter(name=name).exists():
        raise Conflict(f"there is a person '{name}' already.", "Choose another name, or edit that person.")
    return Person.objects.create(name=name, role=role, password=make_password(password))


def edit_person(name: str, changes: dict[str, Any]) -> Person:
    """Role, password or active state. The last active administrator stays one."""
    with transaction.atomic():
        person = Person.objects.select_for_update().filter(name=name).first()
        if person is None:
            raise unknown_name("person", name, Person.objects.values_list("name", flat=True))
        if "role" in changes:
            person.role = check_role(changes["role"])
        if "active" in changes:
            person.is_active = changes["active"]
        if changes.get("password"):
            _check_password(changes["password"])
            person.password = make_password(changes["password"])
        person.save()
        if not Person.objects.filter(role="administrator", is_active=True).exists():
            raise Conflict("this would leave the service without an administrator.", "Make somebody else one first.")
    return person


def sign_in(name: str, password: str) -> Person:
    """The person with that name and password. Raises NotSignedIn, and SlowDown after repeated failures."""
    person = Person.objects.filter(name=name, is_active=True).first()
    now = timezone.now()
    if person and person.wait_until and person.wait_until > now:
        wait = int((person.wait_until - now).total_seconds()) + 1
        raise SlowDown(f"too many failed sign-ins for '{name}'.", f"Wait {wait} s, then try again.", wait_seconds=wait)
    if not check_password(password, person.password if person else _password_of_nobody()) or person is None:
        if person:
            failed = person.failed_sign_ins + 1
            wait = min(2 ** max(failed - FREE_TRIES, 0), 300) if failed >= FREE_TRIES else 0
            Person.objects.filter(pk=person.pk).update(failed_sign_ins=failed, wait_until=now + timedelta(seconds=wait))
        raise NotSignedIn("name and password do not fit together.", "Check both, or ask an administrator.")
    Person.objects.filter(pk=person.pk).update(failed_sign_ins=0, wait_until=None)
    return person


def add_token(person: Person, name: str, role: str, days: int | None, own_role: str) -> tuple[Token, str]:
    """A new token and its secret, which is not kept. Its role is at most its maker's."""
    check_role(role)
    if not may(own_role, role):
        raise BadInput(f"a token of role {role} is above your own role, {own_role}.", f"Ask for {own_role} or less.")
    secret = f"ladle_{secrets.token_urlsafe(32)}"
    expires = timezone.now() + timedelta(days=days) if days else None
    token = Token.objects.create(
        person=person, name=name, role=role, prefix=secret[:12], digest=digest_of(secret), expires_at=expires
    )
    return token, secret


def revoke_token(person: Person, token_id: int, everybodys: bool) -> Token:
    """End a token: one's own, or anybody's for an administrator. Raises NotFound."""
    mine = Token.objects.all() if everybodys else Token.objects.filter(person=person)
    token = mine.filter(pk=token_id).first()
    if token is None:
        raise NotFound(f"there is no token {token_id}.", "List them: ladle token list.")
    token.revoked_at = token.revoked_at or timezone.now()
    token.save()
    return token


def first_administrator() -> Path | None:
    """At the very first start: an administrator with a generated password, in a file of mode 0600."""
    path: Path = settings.DATA / "first-sign-in.txt"
    with transaction.atomic():
        if Person.objects.exists():
            return None
        made = f"name: administrator\npassword: {secrets.token_urlsafe(15)}\n"
        path.unlink(missing_ok=True)
        password = kept_secret(path, made).split("password: ")[1].strip()
        add_person("administrator", password, "administrator")
    return path
