"""Shared values over HTTP, and what date phrases mean."""

from __future__ import annotations

from typing import Any

from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.core.values.date_phrases import EXAMPLES, timestamp_of
from patient_ladle.service.common.api import RoleView, StrictSerializer, body_of, day_in
from patient_ladle.service.common.clock import today
from patient_ladle.service.people.authentication import SignedIn

from . import shared_values
from .models import SharedValue


class UseView(serializers.Serializer[Any]):
    extract = serializers.CharField()
    parameter = serializers.CharField()


class SharedValueView(serializers.Serializer[Any]):
    name = serializers.CharField()
    note = serializers.CharField()
    values = serializers.DictField(help_text="By environment.")
    changed_by = serializers.CharField(source="changed_by.name")
    changed_at = serializers.DateTimeField()
    used_by = serializers.SerializerMethodField()

    def get_used_by(self, value: SharedValue) -> list[dict[str, str]]:
        return [{"extract": e.name, "parameter": p.name} for e, p in shared_values.users_of(value.name)]


class SharedValueBody(StrictSerializer):
    values = serializers.DictField(required=False, help_text="By environment; null removes one.")
    note = serializers.CharField(required=False, allow_blank=True)


class PhraseView(serializers.Serializer[Any]):
    phrase = serializers.CharField()
    data_date = serializers.DateField()
    means = serializers.CharField(help_text="Date and time by the clocks of no zone.")


class SharedValues(RoleView):
    @extend_schema(operation_id="shared_values", responses=SharedValueView(many=True))
    def get(self, request: SignedIn) -> Response:
        return Response(SharedValueView(SharedValue.objects.select_related("changed_by"), many=True).data)


class OneSharedValue(RoleView):
    needs = {"PATCH": "author", "DELETE": "author"}

    @extend_schema(operation_id="shared_value", responses=SharedValueView)
    def get(self, request: SignedIn, name: str) -> Response:
        return Response(SharedValueView(shared_values.shared_value_named(name)).data)

    @extend_schema(operation_id="set_shared_value", request=SharedValueBody, responses=SharedValueView)
    def patch(self, request: SignedIn, name: str) -> Response:
        body = body_of(request, SharedValueBody)
        found = shared_values.set_shared_value(request.user, name, body.get("values") or {}, body.get("note"))
        return Response(SharedValueView(found).data)

    @extend_schema(operation_id="remove_shared_value", responses={204: None})
    def delete(self, request: SignedIn, name: str) -> Response:
        shared_values.remove_shared_value(name)
        return Response(status=204)


class DatePhrases(RoleView):
    """What a phrase means on a data date; without one, examples of phrases."""

    @extend_schema(
        operation_id="date_phrases",
        parameters=[OpenApiParameter("phrase", str), OpenApiParameter("data_date", OpenApiTypes.DATE)],
        responses=PhraseView(many=True),
    )
    def get(self, request: SignedIn) -> Response:
        day = day_in(request, "data_date") or today()
        wanted = request.query_params.get("phrase")
        phrases = EXAMPLES if wanted is None else [wanted]
        return Response([{"phrase": p, "data_date": day, "means": timestamp_of(p, day).isoformat()} for p in phrases])
