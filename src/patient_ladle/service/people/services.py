"""Making people and tokens, signing in."""

from __future__ import annotations

import secrets
from datetime import timedelta
from pathlib import Path
from typing import Any

from django.conf import settings
from django.contrib.auth.hashers import make_password
from django.db import transaction
from django.db.models import Count, Max, OuterRef, QuerySet, Subquery
from django.db.models.functions import Coalesce, Greatest
from django.utils import timezone

from patient_ladle.core.errors import BadInput, Conflict, NotAllowed, NotFound, unknown_name
from patient_ladle.service.common.keys import kept_secret

from .authentication import may
from .groups import check_name, check_role, hold_everybody, settle_roles
from .models import Person, Session, Token, digest_of
from .signing_in import Caller, sign_in

MIN_PASSWORD = 10


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


def people() -> QuerySet[Person]:
    """Everybody, with when they were here last and how many sign-ins they have."""
    now = timezone.now()
    sessions = Session.objects.filter(person=OuterRef("pk"), expire_date__gt=now).order_by().values("person")
    tokens = Token.objects.filter(person=OuterRef("pk")).order_by().values("person")
    valid = tokens.filter(revoked_at=None).exclude(expires_at__lt=now)
    return (
        Person.objects.order_by("name")
        .prefetch_related("member_of")
        .annotate(
            seen_at=Greatest(
                Subquery(sessions.annotate(at=Max("seen_at")).values("at")),
                Subquery(tokens.annotate(at=Max("last_used_at")).values("at")),
            ),
            sign_ins=Coalesce(Subquery(sessions.annotate(n=Count("pk")).values("n")), 0)
            + Coalesce(Subquery(valid.annotate(n=Count("pk")).values("n")), 0),
        )
    )


def add_person(name: str, password: str, role: str) -> Person:
    """A new person. Raises BadInput, Conflict."""
    check_name(name, "person")
    check_role(role)
    _check_password(password)
    if Person.objects.filter(name=name).exists():
        raise Conflict(f"there is a person '{name}' already.", "Choose another name, or edit that person.")
    return Person.objects.create(name=name, own_role=role, role=role, password=make_password(password))


def edit_person(name: str, changes: dict[str, Any], kept: Token | None = None) -> Person:
    """Role, password or active state; a new password, and an end of being active, end all sign-ins but ``kept``.

    The last active administrator stays one.
    """
    with transaction.atomic():
        reaches = not changes.keys().isdisjoint({"role", "active"})
        if reaches:
            hold_everybody()
        person = person_named(name, locked=True)
        if "role" in changes:
            person.own_role = check_role(changes["role"])
        if "active" in changes:
            person.is_active = changes["active"]
            if not person.is_active:
                end_sign_ins(person)
        if changes.get("password"):
            _check_password(changes["password"])
            person.password = make_password(changes["password"])
            end_sign_ins(person, kept)
        person.save()
        if reaches:
            settle_roles()
    person.refresh_from_db()
    return person


def change_own_password(person: Person, old: str, new: str, caller: Caller, kept: Token | None) -> Person:
    """One's own password, which takes the old one. Raises NotSignedIn, SlowDown, BadInput."""
    _check_password(new)
    sign_in(person.name, old, caller)
    return edit_person(person.name, {"password": new}, kept)


def end_sign_ins(person: Person, kept: Token | None = None) -> None:
    """Every token and session of a person ends; ``kept`` is the token that asks for it."""
    now = timezone.now()
    tokens = Token.objects.filter(person=person, revoked_at=None)
    (tokens.exclude(pk=kept.pk) if kept else tokens).update(revoked_at=now)
    Session.objects.filter(person=person).delete()
    person.sign_in_round += 1


def add_token(
    person: Person, name: str, role: str, days: int | None, own_role: str, by: Token | None = None
) -> tuple[Token, str]:
    """A new token and its secret, which is not kept. Its role is at most its maker's, and so is its time.

    ``by``: the token that asks for it.
    """
    check_role(role)
    if not may(own_role, role):
        raise BadInput(f"a token of role {role} is above your own role, {own_role}.", f"Ask for {own_role} or less.")
    secret = f"ladle_{secrets.token_urlsafe(32)}"
    expires = timezone.now() + timedelta(days=days) if days else None
    if by is not None and by.expires_at is not None:
        expires = min(expires or by.expires_at, by.expires_at)
    token = Token.objects.create(
        person=person, name=name, role=role, prefix=secret[:12], digest=digest_of(secret), expires_at=expires, made_by=by
    )
    return token, secret


def revoke_token(person: Person, token_id: int, role: str, by: Token | None = None) -> Token:
    """End a token and those that it made. Raises NotFound, NotAllowed.

    One's own; by a token only itself and what it made; anybody's for an administrator.
    """
    mine = Token.objects.all() if role == "administrator" else Token.objects.filter(person=person)
    token = mine.filter(pk=token_id).first()
    if token is None:
        raise NotFound(f"there is no token {token_id}.", "List them: ladle token list.")
    if by is not None and role != "administrator" and token.pk not in _with_made([by.pk]):
        raise NotAllowed(
            "a token may end itself and those that it made, and no others.", "Sign in with your password, and revoke it then."
        )
    Token.objects.filter(pk__in=_with_made([token.pk]), revoked_at=None).update(revoked_at=timezone.now())
    token.refresh_from_db()
    return token


def _with_made(numbers: list[int]) -> list[int]:
    """These tokens and all that were made by them, at any distance."""
    found, fresh = list(numbers), list(numbers)
    while fresh:
        fresh = list(Token.objects.filter(made_by__in=fresh).exclude(pk__in=found).values_list("pk", flat=True))
        found += fresh
    return found


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
