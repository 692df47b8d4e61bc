"""Who is calling, and may they? The one function that answers the second question is ``may``."""

from __future__ import annotations

from datetime import timedelta
from typing import TYPE_CHECKING, Any, cast

from django.utils import timezone
from drf_spectacular.extensions import OpenApiAuthenticationExtension
from rest_framework.authentication import BaseAuthentication, SessionAuthentication
from rest_framework.permissions import BasePermission
from rest_framework.request import Request

from patient_ladle.core.errors import NotAllowed, NotSignedIn
from patient_ladle.service.common.caller import set_role

from .models import ROLES, Person, Token, digest_of
from .sessions import seen

if TYPE_CHECKING:

    class SignedIn(Request):
        """A request as a view is given it: ``RolePermission`` has let it through, so somebody has signed in."""

        @property  # type: ignore[misc]  # nobody sets it
        def user(self) -> Person: ...  # type: ignore[override]
else:
    SignedIn = Request

_USED_EVERY = timedelta(minutes=1)
"""``last_used_at`` is exact to this: not one write for every call."""


def may(role: str, needed: str) -> bool:
    """Does ``role`` reach as far as ``needed``?"""
    return ROLES.index(role) >= ROLES.index(needed)


class BearerAuthentication(BaseAuthentication):
    """``Authorization: Bearer …`` (RFC 6750)."""

    def authenticate(self, request: Request) -> tuple[Any, Token] | None:
        scheme, _, secret = request.headers.get("Authorization", "").partition(" ")
        if scheme.lower() != "bearer":
            return None
        token = Token.objects.select_related("person").filter(digest=digest_of(secret.strip())).first()
        now = timezone.now()
        if token is None or token.revoked_at or not token.person.is_active or (token.expires_at and token.expires_at < now):
            raise NotSignedIn("the token is unknown, expired or revoked.", "Sign in again: ladle sign-in.")
        if token.last_used_at is None or now - token.last_used_at > _USED_EVERY:
            Token.objects.filter(pk=token.pk).update(last_used_at=now)
        return token.person, token

    def authenticate_header(self, request: Request) -> str:
        return 'Bearer realm="Patient Ladle"'


class ConsoleAuthentication(SessionAuthentication):
    """The console's session cookie, with its CSRF token on every change."""

    def authenticate(self, request: Request) -> Any:
        found = super().authenticate(request)
        if found is not None:
            seen(request._request)
        return found


class _BearerInDocument(OpenApiAuthenticationExtension):  # type: ignore[no-untyped-call]  # it registers itself
    target_class = "patient_ladle.service.people.authentication.BearerAuthentication"
    name = "bearer"

    def get_security_definition(self, auto_schema: Any) -> dict[str, str]:
        return {"type": "http", "scheme": "bearer"}


class _SessionInDocument(OpenApiAuthenticationExtension):  # type: ignore[no-untyped-call]  # it registers itself
    target_class = "patient_ladle.service.people.authentication.ConsoleAuthentication"
    name = "session"

    def get_security_definition(self, auto_schema: Any) -> dict[str, str]:
        return {"type": "apiKey", "in": "cookie", "name": "ladle_session"}


def role_of(request: Request) -> str:
    """The role in effect: the token's, but never above its person's."""
    role = cast(Person, request.user).role
    if isinstance(request.auth, Token) and not may(request.auth.role, role):
        return str(request.auth.role)
    return str(role)


class RolePermission(BasePermission):
    """Asks ``may`` for the role that the view says its method needs."""

    def has_permission(self, request: Request, view: Any) -> bool:
        if not request.user:
            raise NotSignedIn("this needs a sign-in.", "Sign in, or send a bearer token.")
        needed = getattr(view, "needs", {}).get(request.method, "reader")
        role = role_of(request)
        set_role(role)
        if not may(role, needed):
            raise NotAllowed(
                f"'{cast(Person, request.user).name}' is signed in as {role}; this needs {needed}.",
                "Ask an administrator for the role, or sign in as somebody who has it.",
            )
        return True
