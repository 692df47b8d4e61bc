"""Alerts, open problems and channels over HTTP."""

from __future__ import annotations

from typing import Any
from urllib.parse import urlsplit

from drf_spectacular.utils import OpenApiParameter, extend_schema, extend_schema_field
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.adapters.alerts import CHANNELS
from patient_ladle.core.runs.alerts import KINDS
from patient_ladle.service.common.api import RoleView, StrictSerializer, body_of, page_of, paged
from patient_ladle.service.common.caller import ForAuthors, sees_secrets
from patient_ladle.service.people.authentication import SignedIn
from patient_ladle.service.people.models import OWN_RUNS, Person

from . import services
from .models import FAILED, SENT, WAITING, Alert, Channel, OpenProblem, Sending


class AlertView(ForAuthors):
    for_authors = ("cause", "next_step")
    id = serializers.CharField(help_text="The same on every channel and at every try.")
    kind = serializers.ChoiceField(KINDS)
    title = serializers.CharField()
    cause = serializers.CharField()
    next_step = serializers.CharField()
    path = serializers.CharField(help_text="Of the console's page about it.")
    at = serializers.DateTimeField()
    own = serializers.SerializerMethodField(help_text="Whether it is for whoever asks, alone.")

    def get_own(self, alert: Alert) -> bool:
        return alert.person_id is not None

    def to_representation(self, instance: Any) -> Any:
        made = super().to_representation(instance)
        if instance.person_id is not None:  # it says no more than that person may see
            made |= {"cause": instance.cause, "next_step": instance.next_step}
        return made


class OwnAlertsView(serializers.Serializer[Any]):
    own_runs = serializers.ChoiceField(OWN_RUNS)
    mail = serializers.CharField()
    by_mail = serializers.SerializerMethodField(help_text="Whether a channel takes them to addresses of people.")

    def get_by_mail(self, _: Person) -> bool:
        return services.mails_people()


class OwnAlertsBody(StrictSerializer):
    own_runs = serializers.CharField(max_length=8, required=False)
    mail = serializers.CharField(max_length=200, required=False, allow_blank=True)


class OpenProblemView(serializers.Serializer[Any]):
    title = serializers.CharField()
    count = serializers.IntegerField(help_text="How often it was seen; it was told once.")
    began_at = serializers.DateTimeField()
    seen_at = serializers.DateTimeField()


class BellView(serializers.Serializer[Any]):
    unseen = serializers.IntegerField(help_text="Alerts since one last looked.")
    open_problems = OpenProblemView(many=True, help_text="What is wrong and not resolved yet.")


class ChannelView(serializers.Serializer[Any]):
    name = serializers.CharField()
    kind = serializers.CharField()
    settings = serializers.SerializerMethodField(help_text="Of a web address only its host, but for administrators.")
    has_secret = serializers.SerializerMethodField()
    kinds = serializers.ListField(child=serializers.CharField(), help_text="Of alerts that it wants; none means all.")
    active = serializers.BooleanField()
    for_people = serializers.BooleanField()

    @extend_schema_field(serializers.DictField(child=serializers.CharField()))
    def get_settings(self, channel: Channel) -> dict[str, str]:
        if sees_secrets():
            return dict(channel.settings)
        return {name: _host_only(str(value)) for name, value in channel.settings.items()}

    def get_has_secret(self, channel: Channel) -> bool:
        return bool(channel.secret)


def _host_only(text: str) -> str:
    """A web address often is the secret itself: who holds it may send."""
    parts = urlsplit(text)
    return f"{parts.scheme}://{parts.hostname}/…" if parts.scheme in ("http", "https") else text


class ChannelBody(StrictSerializer):
    name = serializers.CharField(max_length=64)
    kind = serializers.CharField(max_length=16, help_text="mail or webhook")
    settings = serializers.DictField()
    secret = serializers.CharField(required=False, allow_blank=True, trim_whitespace=False, max_length=1024)
    kinds = serializers.ListField(child=serializers.CharField(max_length=20), required=False)
    for_people = serializers.BooleanField(required=False)


class ChannelEdit(StrictSerializer):
    settings = serializers.DictField(required=False)
    secret = serializers.CharField(required=False, allow_blank=True, trim_whitespace=False, max_length=1024)
    kinds = serializers.ListField(child=serializers.CharField(max_length=20), required=False)
    active = serializers.BooleanField(required=False)
    for_people = serializers.BooleanField(required=False)


class ChannelSettingView(serializers.Serializer[Any]):
    name = serializers.CharField()
    note = serializers.CharField()
    required = serializers.BooleanField()  # type: ignore[assignment]  # a field of that name
    default = serializers.CharField()


class ChannelKindView(serializers.Serializer[Any]):
    name = serializers.CharField()
    note = serializers.CharField()
    secret = serializers.CharField(help_text="What its secret is for.")
    alerts = serializers.ListField(child=serializers.CharField(), help_text="Kinds of alerts that a channel may want.")
    settings = ChannelSettingView(many=True)


class SendingView(serializers.Serializer[Any]):
    id = serializers.IntegerField()
    alert = AlertView()
    channel = serializers.CharField(source="channel.name")
    to = serializers.CharField(help_text="Another address than the channel's own.")
    state = serializers.ChoiceField([WAITING, SENT, FAILED])
    attempts = serializers.IntegerField()
    next_at = serializers.DateTimeField()
    sent_at = serializers.DateTimeField(allow_null=True)
    response = serializers.CharField(help_text="What the other side said, or why it did not arrive.")


class Alerts(RoleView):
    @extend_schema(
        operation_id="alerts",
        parameters=[OpenApiParameter("cursor", str), OpenApiParameter("page_size", int)],
        responses=paged("Alert", AlertView),
    )
    def get(self, request: SignedIn) -> Response:
        return page_of(request, services.for_the_eyes_of(request.user), AlertView, "-at")


class OwnAlerts(RoleView):
    """What one is told of runs that one starts oneself."""

    needs = {"PATCH": "reader"}

    @extend_schema(operation_id="own_alerts", responses=OwnAlertsView)
    def get(self, request: SignedIn) -> Response:
        return Response(OwnAlertsView(request.user).data)

    @extend_schema(operation_id="choose_own_alerts", request=OwnAlertsBody, responses=OwnAlertsView)
    def patch(self, request: SignedIn) -> Response:
        return Response(OwnAlertsView(services.choose_own(request.user, **body_of(request, OwnAlertsBody))).data)


class Bell(RoleView):
    """What is wrong now, and how much is new to whoever asks."""

    needs = {"POST": "reader"}

    @extend_schema(operation_id="bell", responses=BellView)
    def get(self, request: SignedIn) -> Response:
        problems = OpenProblem.objects.filter(ended_at=None)[:100]
        return Response(BellView({"unseen": services.unseen_by(request.user), "open_problems": problems}).data)

    @extend_schema(operation_id="alerts_seen", request=None, responses={204: None})
    def post(self, request: SignedIn) -> Response:
        services.mark_seen(request.user)
        return Response(status=204)


class ChannelKinds(RoleView):
    @extend_schema(operation_id="channel_kinds", responses=ChannelKindView(many=True))
    def get(self, request: SignedIn) -> Response:
        found = [
            {
                "name": channel.name,
                "note": channel.note,
                "secret": channel.key_note,
                "alerts": services.ON_CHANNELS,
                "settings": [
                    {"name": name, "note": setting.note, "required": setting.required, "default": setting.default}
                    for name, setting in channel.settings.items()
                ],
            }
            for channel in CHANNELS.values()
        ]
        return Response(ChannelKindView(found, many=True).data)


class Channels(RoleView):
    needs = {"GET": "author", "POST": "administrator"}

    @extend_schema(operation_id="channels", responses=ChannelView(many=True))
    def get(self, request: SignedIn) -> Response:
        return Response(ChannelView(Channel.objects.all(), many=True).data)

    @extend_schema(operation_id="add_channel", request=ChannelBody, responses={201: ChannelView})
    def post(self, request: SignedIn) -> Response:
        return Response(ChannelView(services.add_channel(**body_of(request, ChannelBody))).data, status=201)


class OneChannel(RoleView):
    needs = {"GET": "author", "PATCH": "administrator", "DELETE": "administrator"}

    @extend_schema(operation_id="channel", responses=ChannelView)
    def get(self, request: SignedIn, name: str) -> Response:
        return Response(ChannelView(services.channel_named(name)).data)

    @extend_schema(operation_id="edit_channel", request=ChannelEdit, responses=ChannelView)
    def patch(self, request: SignedIn, name: str) -> Response:
        changes: dict[str, Any] = body_of(request, ChannelEdit)
        return Response(ChannelView(services.edit_channel(name, changes)).data)

    @extend_schema(operation_id="remove_channel", request=None, responses={204: None})
    def delete(self, request: SignedIn, name: str) -> Response:
        services.remove_channel(name)
        return Response(status=204)


class ChannelTest(RoleView):
    needs = {"POST": "administrator"}

    @extend_schema(operation_id="test_channel", request=None, responses={201: SendingView})
    def post(self, request: SignedIn, name: str) -> Response:
        return Response(SendingView(services.test_channel(request.user, name)).data, status=201)


class Sendings(RoleView):
    needs = {"GET": "author"}

    @extend_schema(
        operation_id="sendings",
        parameters=[OpenApiParameter("cursor", str), OpenApiParameter("page_size", int)],
        responses=paged("Sending", SendingView),
    )
    def get(self, request: SignedIn) -> Response:
        seen = Sending.objects.filter(alert__in=services.for_the_eyes_of(request.user))
        return page_of(request, seen.select_related("alert", "channel"), SendingView)


class SendingAgain(RoleView):
    needs = {"POST": "administrator"}

    @extend_schema(operation_id="send_again", request=None, responses=SendingView)
    def post(self, request: SignedIn, number: int) -> Response:
        return Response(SendingView(services.send_again(number)).data)
