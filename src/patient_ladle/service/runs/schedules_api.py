"""What a schedule has run and will run, over HTTP: a month at a glance, and a run of it now."""

from __future__ import annotations

from typing import Any

from django.utils import timezone
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.core.values.calendars.clock import check_zone
from patient_ladle.service.common.api import RoleView, day_in
from patient_ladle.service.people.authentication import SignedIn
from patient_ladle.service.schedules.api import DueTimeView
from patient_ladle.service.schedules.services import schedule_named

from .recording import run_now
from .schedule_month import month_of


class DayView(serializers.Serializer[Any]):
    date = serializers.DateField(help_text="By the clocks of the schedule's zone.")
    holiday = serializers.CharField(help_text="In its calendar; empty: none.")
    counts = serializers.DictField(
        child=serializers.IntegerField(),
        help_text="Of its due times: runs by state, held and rejected ones by that; those without a run by their decision.",
    )
    to_come = serializers.IntegerField(help_text="Due times that are still to come.")


class MonthView(serializers.Serializer[Any]):
    days = DayView(many=True)
    complete = serializers.BooleanField(help_text="All due times to come were counted; else there are more.")


class ScheduleMonth(RoleView):
    @extend_schema(
        operation_id="schedule_month",
        parameters=[OpenApiParameter("date", OpenApiTypes.DATE, description="Any day of the month; default: today.")],
        responses=MonthView,
    )
    def get(self, request: SignedIn, name: str) -> Response:
        schedule = schedule_named(name)
        day = day_in(request, "date") or timezone.now().astimezone(check_zone(schedule.zone)).date()
        days, complete = month_of(schedule, day.replace(day=1))
        return Response(MonthView({"days": days, "complete": complete}).data)


class ScheduleRun(RoleView):
    needs = {"POST": "runner"}

    @extend_schema(operation_id="run_schedule", request=None, responses={201: DueTimeView})
    def post(self, request: SignedIn, name: str) -> Response:
        return Response(DueTimeView(run_now(request.user, name)).data, status=201)
