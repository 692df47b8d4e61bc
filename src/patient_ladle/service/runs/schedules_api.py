"""What schedules have run and will run, over HTTP: the list of them, a month of one at a glance, and a run of it now."""

from __future__ import annotations

from collections import defaultdict
from typing import Any

from django.db.models import prefetch_related_objects
from django.utils import timezone
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.core.values.calendars.clock import check_zone
from patient_ladle.service.common.api import RoleView, day_in, page_of, page_parameters, paged
from patient_ladle.service.common.caller import sees_all
from patient_ladle.service.ledger.models import Run
from patient_ladle.service.people.authentication import SignedIn
from patient_ladle.service.schedules import api as schedules_api
from patient_ladle.service.schedules.api import DueTimeView, ScheduleView
from patient_ladle.service.schedules.services import bring_related, schedule_named

from .glance import trouble_in_words, trouble_of
from .listed import SCHEDULE_FILTERS, SCHEDULE_SORTS, schedules_asked_for
from .recording import run_now
from .repository_api import LastRunView
from .schedule_month import month_of


class ScheduleLine(ScheduleView):
    last_due_at = serializers.DateTimeField(allow_null=True, help_text="Its latest due time that ran; null: none yet.")
    last_run = LastRunView(
        allow_null=True, help_text="Of that due time's runs the one that is not well, else the last of its sequence."
    )
    problem = serializers.SerializerMethodField(help_text="What is wrong with that run, in words; empty: nothing.")

    def get_problem(self, schedule: Any) -> str:
        return trouble_in_words(schedule.last_run, sees_all())


def _bring(schedules: list[Any]) -> None:
    """What a line shows, in a few queries for all of them."""
    bring_related(schedules)
    sources = {extract.head.source for schedule in schedules for extract in schedule.extracts() if extract.head.source}
    prefetch_related_objects([*sources], "addresses")
    runs: dict[int, dict[int, Run]] = defaultdict(dict)
    wanted = {schedule.last_due for schedule in schedules if schedule.last_due}
    for run in Run.objects.filter(due_time__in=wanted).select_related("environment").order_by("step", "turn"):
        assert run.due_time_id is not None
        runs[run.due_time_id][run.step] = run
    for schedule in schedules:
        steps = [*runs.get(schedule.last_due, {}).values()]
        schedule.last_run = next(filter(trouble_of, steps), steps[-1] if steps else None)


class ScheduleList(schedules_api.Schedules):
    @extend_schema(
        operation_id="schedules",
        parameters=[*SCHEDULE_FILTERS, *page_parameters(SCHEDULE_SORTS)],
        responses=paged("ScheduleLine", ScheduleLine),
    )
    def get(self, request: SignedIn) -> Response:
        return page_of(request, schedules_asked_for(request), ScheduleLine, "name", _bring, SCHEDULE_SORTS)


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
