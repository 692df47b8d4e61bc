"""Sign-ins of browsers: each is a row that its person sees, and may end."""

from __future__ import annotations

import re
from datetime import datetime, timedelta
from typing import Any, cast

from django.contrib.sessions.backends.db import SessionStore as DatabaseStore
from django.http import HttpRequest
from django.utils import timezone

from patient_ladle.core.errors import NotFound

from .models import Person, Session

_SEEN_EVERY = timedelta(minutes=1)
"""``seen_at`` is exact to this: not one write for every call."""
_PROGRAMS = (("Edge", r"Edg/(\d+)"), ("Opera", r"OPR/(\d+)"), ("Firefox", r"Firefox/(\d+)"), ("Chrome", r"Chrome/(\d+)"),
             ("Safari", r"Version/(\d+).* Safari/"))  # fmt: skip
"""Browsers by what they say of themselves; many also name those that stand below them here."""
_SYSTEMS = (("Android", "Android"), ("iOS", "iPhone|iPad"), ("Windows", "Windows"), ("macOS", "Mac OS X"), ("Linux", "Linux"))


GONE = 0
"""No row has this number: a session that was ended meanwhile is not written again."""


class SessionStore(DatabaseStore):
    """Django's store of sessions in the database, with the person in a column of its own."""

    @classmethod
    def get_model_class(cls) -> type[Session]:
        return Session

    seen_at: datetime | None = None
    """Of its row when it was read; None: it has none yet."""

    def _get_session_from_db(self) -> Any:
        found = super()._get_session_from_db()  # type: ignore[misc]  # the stubs leave it out
        self.seen_at = found.seen_at if found else None
        return found

    def save(self, must_create: bool = False) -> None:
        self.is_new = must_create
        super().save(must_create)

    def create_model_instance(self, data: dict[str, Any]) -> Session:
        made = cast(Session, super().create_model_instance(data))
        known = Session.objects.filter(session_key=made.session_key).only("pk", "made_at", "seen_at").first()
        made.pk = known.pk if known else None if self.is_new else GONE
        made.made_at = made.seen_at = timezone.now()
        if known:
            made.made_at, made.seen_at = known.made_at, known.seen_at
        made.browser, made.address = str(data.get("browser", "")), str(data.get("address", ""))
        made.person_id = data.get("_auth_user_id")
        return made


def browser_of(said: str) -> str:
    """A browser's word on itself, in a few: ``Firefox 128 on Linux``."""
    name = next((f"{name} {found[1]}" for name, form in _PROGRAMS if (found := re.search(form, said))), "a browser")
    system = next((f" on {name}" for name, form in _SYSTEMS if re.search(form, said)), "")
    return name + system


def begun(request: HttpRequest, address: str) -> None:
    """Keep with the session of a sign-in where it is from."""
    request.session["browser"] = browser_of(request.headers.get("User-Agent", ""))
    request.session["address"] = address


def seen(request: HttpRequest) -> None:
    """Its session was used just now; what was read with it says whether that is worth a write."""
    now, session = timezone.now(), cast(SessionStore, request.session)
    if session.seen_at and now - session.seen_at > _SEEN_EVERY:
        Session.objects.filter(session_key=session.session_key).update(seen_at=now)


def sessions_of(person: Person) -> list[Session]:
    """Those that still let somebody in, the newest first."""
    return list(Session.objects.filter(person=person, expire_date__gt=timezone.now()).order_by("-seen_at"))


def end_session(person: Person, number: int) -> None:
    """Raises NotFound."""
    ended, _ = Session.objects.filter(person=person, pk=number).delete()
    if not ended:
        raise NotFound(f"you have no sign-in {number}.", "List them: ladle user sessions.")


def end_other_sessions(person: Person, key: str | None) -> int:
    """All but the one with that key; how many there were."""
    return Session.objects.filter(person=person).exclude(session_key=key or "").delete()[0]
