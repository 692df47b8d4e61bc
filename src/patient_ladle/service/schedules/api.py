"""Schedules and their due times over HTTP."""

from __future__ import annotations

from datetime import datetime
from itertools import islice
from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema, extend_schema_field
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response

from patient_ladle.core.calendar_rules import due_times
from patient_ladle.core.parameters import MASK
from patient_ladle.service.common.api import RoleView, StrictSerializer, body_of, page_of, paged
from patient_ladle.service.extracts.shared_values import declared_by

from . import services
from .models import Schedule


class ScheduleView(serializers.Serializer):
    name = serializers.CharField()
    extract = serializers.CharField(source="extract.name")
    folder = serializers.CharField(source="extract.folder")
    environment = serializers.CharField(source="environment.name")
    rule = serializers.CharField()
    zone = serializers.CharField()
    values = serializers.SerializerMethodField(help_text="Private ones masked; a mask that is sent back changes nothing.")
    formats = serializers.ListField(child=serializers.CharField())
    paused_at = serializers.DateTimeField(allow_null=True)
    paused_by = serializers.CharField()
    pause_reason = serializers.CharField()
    created_by = serializers.CharField(source="created_by.name")
    next_due = serializers.SerializerMethodField()

    @extend_schema_field(serializers.DictField())
    def get_values(self, schedule: Schedule) -> dict[str, Any]:
        private = {p.name for p in declared_by(schedule.extract.head) if p.private}
        return {name: MASK if name in private else value for name, value in schedule.values.items()}

    def get_next_due(self, schedule: Schedule) -> list[datetime]:
        if schedule.next_due_at is None:
            return []
        following = due_times(schedule.rule, schedule.zone, schedule.next_due_at)
        return [schedule.next_due_at, *islice(following, 4)]


class ScheduleBody(StrictSerializer):
    name = serializers.CharField(max_length=64)
    extract = serializers.CharField(max_length=64)
    environment = serializers.CharField(max_length=64)
    rule = serializers.CharField(max_length=200)
    zone = serializers.CharField(max_length=64, default="UTC")
    values = serializers.DictField(default=dict)
    formats = serializers.ListField(child=serializers.CharField(), default=list)


class ScheduleEdit(StrictSerializer):
    extract = serializers.CharField(max_length=64, required=False)
    environment = serializers.CharField(max_length=64, required=False)
    rule = serializers.CharField(max_length=200, required=False)
    zone = serializers.CharField(max_length=64, required=False)
    values = serializers.DictField(required=False)
    formats = serializers.ListField(child=serializers.CharField(), required=False)


class PauseBody(StrictSerializer):
    reason = serializers.CharField(allow_blank=True, default="", max_length=200)


class DueTimeView(serializers.Serializer):
    due_at = serializers.DateTimeField()
    data_date = serializers.DateField()
    decision = serializers.ChoiceField(["run", "skipped", "missed"])
    reason = serializers.CharField()
    run = serializers.SerializerMethodField()

    def get_run(self, due_time: object) -> int | None:
        run = getattr(due_time, "run", None)
        return run.pk if run else None


class MomentsView(serializers.Serializer):
    next_due = serializers.ListField(child=serializers.DateTimeField())


class Schedules(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="schedules", responses=ScheduleView(many=True))
    def get(self, request: Request) -> Response:
        found = Schedule.objects.filter(removed_at=None).select_related("extract", "environment", "created_by")
        return Response(ScheduleView(found, many=True).data)

    @extend_schema(operation_id="add_schedule", request=ScheduleBody, responses={201: ScheduleView})
    def post(self, request: Request) -> Response:
        return Response(ScheduleView(services.add_schedule(request.user, **body_of(request, ScheduleBody))).data, status=201)


class RuleMoments(RoleView):
    """The next due times of any rule, as one types it."""

    @extend_schema(
        operation_id="rule_moments",
        parameters=[OpenApiParameter("rule", str, required=True), OpenApiParameter("zone", str)],
        responses=MomentsView,
    )
    def get(self, request: Request) -> Response:
        given = request.query_params
        return Response({"next_due": services.next_moments(given.get("rule", ""), given.get("zone") or "UTC")})


class OneSchedule(RoleView):
    needs = {"PATCH": "author", "DELETE": "author"}

    @extend_schema(operation_id="schedule", responses=ScheduleView)
    def get(self, request: Request, name: str) -> Response:
        return Response(ScheduleView(services.schedule_named(name)).data)

    @extend_schema(operation_id="edit_schedule", request=ScheduleEdit, responses=ScheduleView)
    def patch(self, request: Request, name: str) -> Response:
        return Response(ScheduleView(services.edit_schedule(name, **body_of(request, ScheduleEdit))).data)

    @extend_schema(operation_id="remove_schedule", request=None, responses={204: None})
    def delete(self, request: Request, name: str) -> Response:
        services.remove_schedule(name)
        return Response(status=204)


class SchedulePause(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="pause_schedule", request=PauseBody, responses=ScheduleView)
    def post(self, request: Request, name: str) -> Response:
        found = services.pause_schedule(request.user, name, body_of(request, PauseBody)["reason"])
        return Response(ScheduleView(found).data)


class ScheduleResume(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="resume_schedule", request=None, responses=ScheduleView)
    def post(self, request: Request, name: str) -> Response:
        return Response(ScheduleView(services.resume_schedule(name)).data)


class ScheduleDueTimes(RoleView):
    @extend_schema(operation_id="due_times", responses=paged("DueTime", DueTimeView))
    def get(self, request: Request, name: str) -> Response:
        found = services.schedule_named(name).due_times.select_related("run")
        return page_of(request, self, found, DueTimeView)
