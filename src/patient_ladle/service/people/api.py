"""Sign-in, people and tokens over HTTP."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.contrib.auth import login, logout, update_session_auth_hash
from django.middleware.csrf import get_token
from django.utils.decorators import method_decorator
from django.views.decorators.csrf import csrf_protect
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.service.common.api import Pages, RoleView, StrictSerializer, body_of, page_of, paged
from patient_ladle.service.common.clock import default_zone

from . import services
from .authentication import SignedIn, role_of
from .models import ROLES, Person, Token
from .sessions import begun, end_other_sessions, end_session, sessions_of
from .signing_in import DEVICE_DAYS, Caller, device_mark, sign_in

Pages.template = None


class SignInBody(StrictSerializer):
    name = serializers.CharField(max_length=64)
    password = serializers.CharField(max_length=256, trim_whitespace=False)
    token_name = serializers.CharField(max_length=64, required=False)


class OwnPasswordBody(StrictSerializer):
    password = serializers.CharField(max_length=256, trim_whitespace=False, help_text="The new one.")
    old_password = serializers.CharField(max_length=256, trim_whitespace=False)


class MeView(serializers.Serializer[Any]):
    name = serializers.CharField()
    role = serializers.ChoiceField(ROLES)
    zone = serializers.CharField(default=default_zone, help_text="The service's time zone: of schedules that say no other.")
    token = serializers.CharField(required=False, help_text="Only in the answer to a sign-in for a token.")


class PersonView(serializers.Serializer[Any]):
    name = serializers.CharField()
    role = serializers.ChoiceField(ROLES, help_text="The one in effect: the widest of their own and of their groups'.")
    own_role = serializers.ChoiceField(ROLES, help_text="What they have without their groups.")
    groups = serializers.SerializerMethodField(help_text="Names of the groups that they are in.")
    active = serializers.BooleanField(source="is_active")
    created_at = serializers.DateTimeField()
    seen_at = serializers.DateTimeField(
        default=None, allow_null=True, help_text="When they or a token of theirs were here last; null: never."
    )
    sign_ins = serializers.IntegerField(default=0, help_text="So many browsers and tokens let them in now.")

    def get_groups(self, person: Person) -> list[str]:
        return [each.name for each in person.member_of.all()]


class PersonBody(StrictSerializer):
    name = serializers.CharField(max_length=64)
    password = serializers.CharField(max_length=256, trim_whitespace=False)
    role = serializers.CharField(max_length=16, default="reader")


class PersonEdit(StrictSerializer):
    password = serializers.CharField(max_length=256, required=False, trim_whitespace=False)
    role = serializers.CharField(max_length=16, required=False)
    active = serializers.BooleanField(required=False)


class TokenView(serializers.Serializer[Any]):
    id = serializers.IntegerField()
    person = serializers.CharField(source="person.name")
    name = serializers.CharField()
    role = serializers.ChoiceField(ROLES)
    prefix = serializers.CharField()
    created_at = serializers.DateTimeField()
    expires_at = serializers.DateTimeField(allow_null=True)
    last_used_at = serializers.DateTimeField(allow_null=True)
    revoked_at = serializers.DateTimeField(allow_null=True)
    secret = serializers.SerializerMethodField(help_text="Shown once, in the answer that made the token.")

    def get_secret(self, token: Token) -> str:
        return token.secret_shown_once


class SessionView(serializers.Serializer[Any]):
    id = serializers.IntegerField()
    browser = serializers.CharField(help_text="What it said of itself, in a few words.")
    address = serializers.CharField(help_text="The network address that it signed in from.")
    made_at = serializers.DateTimeField(help_text="When it signed in.")
    seen_at = serializers.DateTimeField(help_text="To the minute.")
    expires_at = serializers.DateTimeField(source="expire_date")
    current = serializers.BooleanField(default=False, help_text="It is the one that asks.")


class TokenBody(StrictSerializer):
    name = serializers.CharField(max_length=64)
    role = serializers.CharField(max_length=16, required=False)
    days = serializers.IntegerField(min_value=1, max_value=3650, required=False)


DEVICE_COOKIE = "ladle_device"


def _caller(request: SignedIn) -> Caller:
    return Caller(request.META.get("REMOTE_ADDR", ""), request.COOKIES.get(DEVICE_COOKIE, ""))


def _token_of(request: SignedIn) -> Token | None:
    return request.auth if isinstance(request.auth, Token) else None


@method_decorator(csrf_protect, name="dispatch")
class SessionSignIn(RoleView):
    """The console's sign-in: answers with a session cookie."""

    authentication_classes: Any = []
    permission_classes: Any = []

    @extend_schema(operation_id="session_sign_in", request=SignInBody, responses=MeView)
    def post(self, request: SignedIn) -> Response:
        body = body_of(request, SignInBody)
        person = sign_in(body["name"], body["password"], _caller(request))
        login(request._request, person, backend="django.contrib.auth.backends.ModelBackend")
        begun(request._request, _caller(request).address)
        response = Response(MeView({"name": person.name, "role": person.role}).data)
        response.set_cookie(
            DEVICE_COOKIE, device_mark(person), max_age=DEVICE_DAYS * 86_400, path="/api/v1/", httponly=True, samesite="Lax",
            secure=settings.SESSION_COOKIE_SECURE,
        )  # fmt: skip
        return response


class TokenSignIn(RoleView):
    """A program's sign-in: answers with a bearer token."""

    authentication_classes: Any = []
    permission_classes: Any = []

    @extend_schema(operation_id="token_sign_in", request=SignInBody, responses=MeView)
    def post(self, request: SignedIn) -> Response:
        body = body_of(request, SignInBody)
        person = sign_in(body["name"], body["password"], _caller(request))
        name = body.get("token_name", "sign-in")
        _, secret = services.add_token(person, name, person.role, 90, person.role)
        return Response({"name": person.name, "role": person.role, "token": secret})


class Me(RoleView):
    """Who is signed in."""

    @extend_schema(operation_id="me", responses=MeView)
    def get(self, request: SignedIn) -> Response:
        get_token(request._request)
        return Response(MeView({"name": request.user.name, "role": role_of(request)}).data)

    @extend_schema(operation_id="sign_out", request=None, responses={204: None})
    def delete(self, request: SignedIn) -> Response:
        logout(request._request)
        token = _token_of(request)
        if token is not None:
            services.revoke_token(request.user, token.pk, role_of(request), token)
        return Response(status=204)

    @extend_schema(operation_id="change_own_password", request=OwnPasswordBody, responses=MeView)
    def patch(self, request: SignedIn) -> Response:
        body, token = body_of(request, OwnPasswordBody), _token_of(request)
        person = services.change_own_password(request.user, body["old_password"], body["password"], _caller(request), token)
        if token is None:
            update_session_auth_hash(request._request, person)
        return Response(MeView({"name": person.name, "role": role_of(request)}).data)


class Sessions(RoleView):
    """One's own sign-ins of browsers."""

    @extend_schema(operation_id="sessions", responses=SessionView(many=True))
    def get(self, request: SignedIn) -> Response:
        key = request._request.session.session_key
        found = sessions_of(request.user)
        for each in found:
            each.current = each.session_key == key
        return Response(SessionView(found, many=True).data)

    @extend_schema(operation_id="end_other_sessions", request=None, responses={204: None})
    def delete(self, request: SignedIn) -> Response:
        end_other_sessions(request.user, request._request.session.session_key)
        return Response(status=204)


class OneSession(RoleView):
    @extend_schema(operation_id="end_session", request=None, responses={204: None})
    def delete(self, request: SignedIn, number: int) -> Response:
        end_session(request.user, number)
        return Response(status=204)


class People(RoleView):
    needs = {"GET": "administrator", "POST": "administrator"}

    @extend_schema(operation_id="people", responses=PersonView(many=True))
    def get(self, request: SignedIn) -> Response:
        return Response(PersonView(services.people(), many=True).data)

    @extend_schema(operation_id="add_person", request=PersonBody, responses={201: PersonView})
    def post(self, request: SignedIn) -> Response:
        return Response(PersonView(services.add_person(**body_of(request, PersonBody))).data, status=201)


class OnePerson(RoleView):
    needs = {"PATCH": "administrator"}

    @extend_schema(operation_id="edit_person", request=PersonEdit, responses=PersonView)
    def patch(self, request: SignedIn, name: str) -> Response:
        own = name == request.user.name
        person = services.edit_person(name, body_of(request, PersonEdit), _token_of(request) if own else None)
        if own and _token_of(request) is None:
            update_session_auth_hash(request._request, person)
        return Response(PersonView(person).data)


class Tokens(RoleView):
    """One's own tokens; an administrator sees everybody's."""

    @extend_schema(
        operation_id="tokens",
        parameters=[OpenApiParameter("cursor", str), OpenApiParameter("page_size", int)],
        responses=paged("Token", TokenView),
    )
    def get(self, request: SignedIn) -> Response:
        mine = Token.objects.select_related("person")
        found = mine if role_of(request) == "administrator" else mine.filter(person=request.user)
        return page_of(request, found, TokenView)

    @extend_schema(operation_id="add_token", request=TokenBody, responses={201: TokenView})
    def post(self, request: SignedIn) -> Response:
        body, role = body_of(request, TokenBody), role_of(request)
        token, secret = services.add_token(
            request.user, body["name"], body.get("role", role), body.get("days"), role, _token_of(request)
        )
        token.secret_shown_once = secret
        return Response(TokenView(token).data, status=201)


class OneToken(RoleView):
    @extend_schema(operation_id="revoke_token", request=None, responses={204: None})
    def delete(self, request: SignedIn, token_id: int) -> Response:
        services.revoke_token(request.user, token_id, role_of(request), _token_of(request))
        return Response(status=204)
