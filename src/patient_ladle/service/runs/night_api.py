"""The last night over HTTP."""

from __future__ import annotations

from datetime import date
from typing import Any

from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema, extend_schema_field
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.core.errors import BadInput, general_words
from patient_ladle.service.common.api import RoleView, day_in
from patient_ladle.service.common.caller import sees_all
from patient_ladle.service.ledger.states import HELD, REJECTED, RELEASED, STATES
from patient_ladle.service.people.authentication import SignedIn

from .night import BARS, Night, bounds_of, coming_next, night_to, runs_of


class NeedView(serializers.Serializer[Any]):
    kind = serializers.ChoiceField(["failed", "not_run", "not_delivered", "held", "late"])
    run = serializers.IntegerField(source="run.pk")
    extract = serializers.CharField(source="run.extract.name")
    folder = serializers.CharField(source="run.extract.folder")
    environment = serializers.CharField(source="run.environment.name")
    schedule = serializers.CharField(source="run.due_time.schedule.name", default=None, allow_null=True)
    data_date = serializers.DateField(source="run.data_date")
    others = serializers.ListField(child=serializers.IntegerField(), help_text="Runs before it with the same cause.")
    cause = serializers.CharField()
    hint = serializers.CharField()

    def to_representation(self, instance: Any) -> Any:
        made = super().to_representation(instance)
        if instance.code and not sees_all():
            words = general_words(instance.code, {"message": made["cause"], "hint": made["hint"]})
            made |= {"cause": words["message"], "hint": words["hint"]}
        return made


class NightRun(serializers.Serializer[Any]):
    id = serializers.IntegerField()
    extract = serializers.CharField(source="extract.name")
    folder = serializers.CharField(source="extract.folder")
    state = serializers.ChoiceField(STATES)
    held = serializers.ChoiceField(["", HELD, RELEASED, REJECTED])
    late = serializers.BooleanField()
    started_at = serializers.DateTimeField(allow_null=True)
    ended_at = serializers.DateTimeField(allow_null=True)


class ComingView(serializers.Serializer[Any]):
    schedule = serializers.CharField(source="name")
    extract = serializers.CharField(source="extract.name")
    environment = serializers.CharField(source="environment.name")
    due_at = serializers.DateTimeField(source="next_due_at")


class NightView(serializers.Serializer[Any]):
    since = serializers.DateTimeField()
    until = serializers.DateTimeField()
    date = serializers.DateField(help_text="Of its morning, by the service's clocks.")
    is_over = serializers.BooleanField(help_text="It is a past night.")
    sentence = serializers.CharField(help_text="Runs by state, those that were late, due times without a run.")
    counts = serializers.DictField(child=serializers.IntegerField(), source="states")
    needing = serializers.IntegerField(help_text="So many runs need attention; those of one cause are one of the needs.")
    needs = NeedView(many=True)
    next = serializers.SerializerMethodField()
    runs = serializers.SerializerMethodField(help_text="Those that have started, newest first.")

    @extend_schema_field(ComingView(many=True))
    def get_next(self, night: Night) -> Any:
        return ComingView(coming_next(), many=True).data

    @extend_schema_field(NightRun(many=True))
    def get_runs(self, night: Night) -> Any:
        started = runs_of(night.since, night.ended).exclude(started_at=None).values_list(*_OF_RUNS.values())[:BARS]
        return [dict(zip(_OF_RUNS, row, strict=True)) for row in started]


_OF_RUNS = {
    "id": "id", "extract": "extract__name", "folder": "extract__folder", "state": "state", "held": "held", "late": "late",
    "started_at": "started_at", "ended_at": "ended_at",
}  # fmt: skip
"""What NightRun shows, read as it stands: there may be thousands, and a serializer takes longer over each than the database."""


class LastNight(RoleView):
    """How the last night went, from six in the evening until now; or a past one, until the next evening."""

    @extend_schema(
        operation_id="last_night",
        parameters=[OpenApiParameter("date", date, description="Of the morning of a past night; left out: the last one.")],
        responses=NightView,
    )
    def get(self, request: SignedIn) -> Response:
        now, morning = timezone.now(), day_in(request, "date")
        since, ended = bounds_of(morning) if morning else (None, None)
        if since and ended and since > now:
            raise BadInput(f"the night before {morning} has not begun.", "Give the date of a morning up to today.")
        # The evening of today is not over: what is asked for is the night that goes on.
        return Response(NightView(night_to(now, since, ended if ended and ended <= now else None)).data)
