"""Backfills over HTTP: what one would do, then one thing to follow, cancel and repeat."""

from __future__ import annotations

from typing import Any

from django.db.models import Count
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema, extend_schema_field
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.service.common.api import DayField, RoleView, StrictSerializer, body_of, checked, page_of, paged
from patient_ladle.service.ledger.models import Backfill, Run
from patient_ladle.service.ledger.states import LIVE
from patient_ladle.service.people.authentication import SignedIn

from . import backfilling

UNDER_WAY, OVER, STOPPED = BACKFILL_STATES = ("in_progress", "ended", "cancelled")


class BackfillBody(StrictSerializer):
    to = DayField(source="last", help_text="The last local date.")
    again = serializers.BooleanField(default=False, help_text="Also the due times whose runs have finished.")
    deliver = serializers.BooleanField(default=True, help_text="Without, results are kept in the store only.")

    def get_fields(self) -> dict[str, Any]:
        return {"from": DayField(source="first", help_text="The first local date."), **super().get_fields()}


class PlannedRun(serializers.Serializer[Any]):
    due_at = serializers.DateTimeField()
    data_date = serializers.DateField()
    runs = serializers.BooleanField(help_text="Whether a backfill runs it.")
    why = serializers.CharField()
    run = serializers.IntegerField(allow_null=True, help_text="The newest run that it has already.")


class BackfillLine(serializers.Serializer[Any]):
    id = serializers.IntegerField()
    schedule = serializers.CharField(source="schedule.name")
    to = serializers.DateField(source="last", help_text="The last local date.")
    again = serializers.BooleanField(help_text="Whether it is also of due times whose runs had finished.")
    deliver = serializers.BooleanField(help_text="Whether results are delivered, or kept in the store only.")
    started_by = serializers.CharField(source="person.name")
    started_at = serializers.DateTimeField()
    cancelled_by = serializers.CharField(help_text="Who cancelled it as a whole; empty: nobody.")
    state = serializers.SerializerMethodField()
    counts = serializers.DictField(child=serializers.IntegerField())

    def get_fields(self) -> dict[str, Any]:
        return {"from": serializers.DateField(source="first", help_text="The first local date."), **super().get_fields()}

    @extend_schema_field(serializers.ChoiceField(BACKFILL_STATES))
    def get_state(self, found: Any) -> str:
        if any(found.counts.get(state) for state in LIVE):
            return UNDER_WAY
        return STOPPED if found.cancelled_by else OVER


class BackfillView(BackfillLine):
    runs = serializers.ListField(
        child=serializers.IntegerField(), source="numbers", help_text="In the order of their due times."
    )


def _bring_counts(found: list[Any]) -> None:
    rows = Run.objects.filter(of_backfill__in=found).order_by().values_list("of_backfill", "state").annotate(Count("pk"))
    counts: dict[int, dict[str, int]] = {}
    for number, state, count in rows:
        counts.setdefault(number, {})[state] = count
    for each in found:
        each.counts = counts.get(each.pk, {})


def _shown(found: Any, status: int = 200) -> Response:
    _bring_counts([found])
    found.numbers = list(found.runs.order_by("due_at", "step").values_list("pk", flat=True))
    return Response(BackfillView(found).data, status=status)


class ScheduleBackfill(RoleView):
    """Runs for past due times of a schedule: GET says what it would do, POST does it."""

    needs = {"POST": "runner"}

    @extend_schema(
        operation_id="planned_backfill",
        parameters=[
            OpenApiParameter("from", OpenApiTypes.DATE, required=True),
            OpenApiParameter("to", OpenApiTypes.DATE, required=True),
            OpenApiParameter("again", bool, description="Also those that have finished."),
            OpenApiParameter("deliver", bool, description="Whether results are to be delivered."),
        ],
        responses=PlannedRun(many=True),
    )
    def get(self, request: SignedIn, name: str) -> Response:
        given = checked(request.query_params.dict(), BackfillBody)
        return Response(PlannedRun(backfilling.planned(name, **given), many=True).data)

    @extend_schema(operation_id="backfill", request=BackfillBody, responses={201: BackfillView})
    def post(self, request: SignedIn, name: str) -> Response:
        return _shown(backfilling.backfill(request.user, name, **body_of(request, BackfillBody)), 201)


class Backfills(RoleView):
    @extend_schema(
        operation_id="backfills",
        parameters=[
            OpenApiParameter("schedule", str), OpenApiParameter("cursor", str), OpenApiParameter("page_size", int),
        ],
        responses=paged("Backfill", BackfillLine),
    )  # fmt: skip
    def get(self, request: SignedIn) -> Response:
        found = Backfill.objects.select_related("schedule", "person")
        if schedule := request.query_params.get("schedule"):
            found = found.filter(schedule__name=schedule)
        return page_of(request, found, BackfillLine, bring=_bring_counts)


class OneBackfill(RoleView):
    @extend_schema(operation_id="one_backfill", responses=BackfillView)
    def get(self, request: SignedIn, number: int) -> Response:
        return _shown(backfilling.backfill_numbered(number))


class BackfillCancel(RoleView):
    needs = {"POST": "runner"}

    @extend_schema(operation_id="cancel_backfill", request=None, responses=BackfillView)
    def post(self, request: SignedIn, number: int) -> Response:
        return _shown(backfilling.cancel_backfill(request.user, number))


class BackfillRepeat(RoleView):
    needs = {"POST": "runner"}

    @extend_schema(operation_id="repeat_backfill", request=None, responses={201: BackfillView})
    def post(self, request: SignedIn, number: int) -> Response:
        return _shown(backfilling.repeat_backfill(request.user, number), 201)
