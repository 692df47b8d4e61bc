"""Schedules and their due times over HTTP."""

from __future__ import annotations

from datetime import datetime, timedelta
from functools import cached_property
from typing import Any

from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema, extend_schema_field
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.core.runs.due_decisions import MISSED, RUN, SKIPPED
from patient_ladle.core.values.calendars.clock import check_zone
from patient_ladle.core.values.calendars.reading import FORMS
from patient_ladle.core.values.calendars.timing import Timing
from patient_ladle.core.values.parameters import masked
from patient_ladle.service.alerts.services import channels_for
from patient_ladle.service.common.api import (
    DayField,
    HourField,
    RoleView,
    StrictSerializer,
    body_of,
    checked,
    number_in,
    page_of,
    paged,
)
from patient_ladle.service.common.caller import ForAuthors
from patient_ladle.service.common.clock import default_zone
from patient_ladle.service.common.together import MOST
from patient_ladle.service.people.authentication import SignedIn
from patient_ladle.service.sources.remarks import remarks_on

from . import services
from .models import DueTime, HolidayCalendar, Schedule, SequenceStep
from .pausing import pause_schedules


class StepView(serializers.Serializer[Any]):
    extract = serializers.CharField(source="extract.name")
    values = serializers.SerializerMethodField(help_text="Sensitive ones masked.")
    formats = serializers.ListField(child=serializers.CharField())

    @extend_schema_field(serializers.DictField())
    def get_values(self, step: SequenceStep) -> dict[str, Any]:
        return masked(step.extract.head.declared, step.values)


class RuleTimeView(serializers.Serializer[Any]):
    at = serializers.DateTimeField()
    local = serializers.DateTimeField(default_timezone=None, help_text="By the clocks of the rule's zone.")
    note = serializers.CharField(help_text="What is out of the ordinary: clocks that change, a holiday, a move.")


MOMENTS_MOST = 50


def moments_of(timing: Timing, after: datetime, count: int) -> list[dict[str, Any]]:
    """As RuleTimeView shows them."""
    zone = check_zone(timing.zone)
    return [{"at": at, "local": at.astimezone(zone).isoformat(), "note": note} for at, note in timing.noted(after, count)]


NOBODY_TOLD = "nobody is told when its runs fail: no channel takes alerts of failures. Add one: ladle channel add"


class ScheduleView(ForAuthors):
    for_authors = ("deliver_into", "told", "remarks")
    name = serializers.CharField()
    extract = serializers.CharField(source="extract.name")
    folder = serializers.CharField(source="extract.folder")
    environment = serializers.CharField(source="environment.name")
    rule = serializers.CharField()
    zone = serializers.CharField()
    first_date = serializers.DateField(allow_null=True)
    last_date = serializers.DateField(allow_null=True)
    exceptions = serializers.ListField(child=serializers.DateField())
    calendar = serializers.CharField(source="calendar.name", default=None, allow_null=True)
    on_holiday = serializers.CharField()
    catch_up = serializers.CharField()
    catch_up_hours = serializers.IntegerField(allow_null=True)
    catch_up_limit = serializers.IntegerField(allow_null=True)
    while_running = serializers.CharField()
    spread_seconds = serializers.IntegerField()
    attempts = serializers.IntegerField()
    timeout_minutes = serializers.IntegerField()
    finish_by = HourField(allow_null=True)
    priority = serializers.CharField()
    deliver_into = serializers.CharField(help_text="Folders that its runs are delivered into; empty: those of the extract.")
    values = serializers.SerializerMethodField(help_text="Sensitive ones masked; a mask that is sent back changes nothing.")
    formats = serializers.ListField(child=serializers.CharField())
    then = StepView(source="sequence", many=True, help_text="The extracts that run after it, in their order.")
    paused_at = serializers.DateTimeField(allow_null=True)
    paused_until = serializers.DateTimeField(allow_null=True)
    paused_by = serializers.CharField()
    pause_reason = serializers.CharField()
    created_by = serializers.CharField(source="created_by.name")
    next_due = serializers.SerializerMethodField()
    told = serializers.SerializerMethodField(help_text="Names of the channels on which people are told when its runs fail.")
    remarks = serializers.SerializerMethodField(help_text="What a person should know, in words; it is saved all the same.")

    def get_told(self, schedule: Schedule) -> list[str]:
        return self._told

    @cached_property
    def _told(self) -> list[str]:
        """Of all the schedules of a page."""
        return channels_for("failed")

    def get_remarks(self, schedule: Schedule) -> list[str]:
        sources = dict.fromkeys(each.head.source for each in schedule.extracts())
        nobody = [] if self.get_told(schedule) else [NOBODY_TOLD]
        return nobody + [words for source in sources for words in remarks_on(source, schedule.environment)]

    @extend_schema_field(serializers.DictField())
    def get_values(self, schedule: Schedule) -> dict[str, Any]:
        return masked(schedule.extract.head.declared, schedule.values)

    @extend_schema_field(RuleTimeView(many=True))
    def get_next_due(self, schedule: Schedule) -> list[dict[str, Any]]:
        if schedule.next_due_at is None:
            return []
        return moments_of(schedule.timing(), schedule.next_due_at - timedelta(seconds=1), 5)


class StepBody(StrictSerializer):
    extract = serializers.CharField(max_length=64)
    values = serializers.DictField(default=dict)
    formats = serializers.ListField(child=serializers.CharField(), default=list)


class TimingBody(StrictSerializer):
    """What decides the moments of a schedule."""

    rule = serializers.CharField(max_length=200, help_text="Words, as in 'weekdays 06:30', or five crontab fields.")
    zone = serializers.CharField(max_length=64, required=False)
    first_date = DayField(required=False, allow_null=True)
    last_date = DayField(required=False, allow_null=True)
    exceptions = serializers.ListField(child=DayField(), required=False)
    calendar = serializers.CharField(max_length=64, required=False, allow_blank=True, allow_null=True)
    on_holiday = serializers.CharField(max_length=20, required=False)


class _Settings(StrictSerializer):
    values = serializers.DictField(required=False)
    formats = serializers.ListField(child=serializers.CharField(), required=False)
    then = StepBody(many=True, required=False)
    catch_up = serializers.CharField(max_length=8, required=False, help_text="latest, all or none")
    catch_up_hours = serializers.IntegerField(required=False, allow_null=True, min_value=0)
    catch_up_limit = serializers.IntegerField(required=False, allow_null=True, min_value=1)
    while_running = serializers.CharField(max_length=12, required=False, help_text="wait, skip or parallel")
    spread_seconds = serializers.IntegerField(required=False, min_value=0, max_value=3600)
    attempts = serializers.IntegerField(required=False, min_value=1, max_value=20)
    timeout_minutes = serializers.IntegerField(required=False, min_value=1, max_value=10_080)
    finish_by = HourField(required=False, allow_null=True)
    priority = serializers.CharField(max_length=8, required=False, help_text="low, normal or high")
    deliver_into = serializers.CharField(
        max_length=500, required=False, allow_blank=True, help_text="Folders, separated by commas, instead of the extract's."
    )


class ScheduleBody(TimingBody, _Settings):
    name = serializers.CharField(max_length=64)
    extract = serializers.CharField(max_length=64)
    environment = serializers.CharField(max_length=64)
    zone = serializers.CharField(max_length=64, default=default_zone)


class ScheduleEdit(TimingBody, _Settings):
    extract = serializers.CharField(max_length=64, required=False)
    environment = serializers.CharField(max_length=64, required=False)
    rule = serializers.CharField(max_length=200, required=False)


class PauseBody(StrictSerializer):
    reason = serializers.CharField(allow_blank=True, default="", max_length=200)
    until = serializers.DateTimeField(required=False, allow_null=True)


class DueTimeView(serializers.Serializer[Any]):
    due_at = serializers.DateTimeField()
    data_date = serializers.DateField()
    decision = serializers.ChoiceField([RUN, SKIPPED, MISSED])
    reason = serializers.CharField()
    runs = serializers.SerializerMethodField(help_text="Its newest runs, in the order of its sequence.")

    def get_runs(self, due_time: DueTime) -> list[int]:
        newest = {run.step: run.pk for run in sorted(due_time.runs.all(), key=lambda run: run.turn)}
        return [newest[step] for step in sorted(newest)]


class MomentsView(serializers.Serializer[Any]):
    next_due = RuleTimeView(many=True)
    forms = serializers.ListField(child=serializers.CharField(), help_text="One rule of each form that can be written.")


class CalendarView(serializers.Serializer[Any]):
    name = serializers.CharField()
    country = serializers.CharField()
    region = serializers.CharField()
    created_by = serializers.CharField(source="created_by.name")
    used_by = serializers.SerializerMethodField(help_text="Names of the schedules that mind it.")
    days = serializers.SerializerMethodField(help_text="Those of this year and the next.")

    @extend_schema_field(serializers.DictField(child=serializers.CharField()))
    def get_days(self, calendar: HolidayCalendar) -> dict[str, str]:
        year = timezone.now().year
        return {day.isoformat(): name for day, name in sorted(calendar.days().items()) if day.year in (year, year + 1)}

    def get_used_by(self, calendar: HolidayCalendar) -> list[str]:
        return sorted(each.name for each in calendar.schedules.all() if each.removed_at is None)


class CalendarBody(StrictSerializer):
    name = serializers.CharField(max_length=64)
    country = serializers.CharField(max_length=2, required=False, allow_blank=True, help_text="ISO 3166-1, as in GB.")
    region = serializers.CharField(max_length=16, required=False, allow_blank=True, help_text="ISO 3166-2, as in ENG.")
    text = serializers.CharField(
        max_length=1_000_000, required=False, allow_blank=True, trim_whitespace=False, help_text="An iCalendar file (RFC 5545)."
    )


class Schedules(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="add_schedule", request=ScheduleBody, responses={201: ScheduleView})
    def post(self, request: SignedIn) -> Response:
        return Response(ScheduleView(services.add_schedule(request.user, **body_of(request, ScheduleBody))).data, status=201)


class RuleTimes(RoleView):
    """The next due times of any rule, as one types it."""

    @extend_schema(
        operation_id="rule_moments",
        parameters=[
            OpenApiParameter("rule", str, required=True),
            *(OpenApiParameter(name, str) for name in services.TIMING if name != "rule"),
            OpenApiParameter("count", int),
        ],
        responses=MomentsView,
    )
    def get(self, request: SignedIn) -> Response:
        asked: dict[str, Any] = {key: request.query_params[key] for key in services.TIMING if request.query_params.get(key)}
        if "exceptions" in asked:
            asked["exceptions"] = asked["exceptions"].split(",")
        count = number_in(request, "count", 5, 1, MOMENTS_MOST)
        timing = services.timing_of(checked(asked, TimingBody))
        found = moments_of(timing, timezone.now(), count)
        return Response({"next_due": found, "forms": FORMS})


class Calendars(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="calendars", responses=CalendarView(many=True))
    def get(self, request: SignedIn) -> Response:
        return Response(
            CalendarView(HolidayCalendar.objects.select_related("created_by").prefetch_related("schedules"), many=True).data
        )

    @extend_schema(operation_id="save_calendar", request=CalendarBody, responses={201: CalendarView})
    def post(self, request: SignedIn) -> Response:
        return Response(CalendarView(services.save_calendar(request.user, **body_of(request, CalendarBody))).data, status=201)


class OneCalendar(RoleView):
    needs = {"DELETE": "author"}

    @extend_schema(operation_id="calendar", responses=CalendarView)
    def get(self, request: SignedIn, name: str) -> Response:
        return Response(CalendarView(services.calendar_named(name)).data)

    @extend_schema(operation_id="remove_calendar", request=None, responses={204: None})
    def delete(self, request: SignedIn, name: str) -> Response:
        services.remove_calendar(name)
        return Response(status=204)


class OneSchedule(RoleView):
    needs = {"PATCH": "author", "DELETE": "author"}

    @extend_schema(operation_id="schedule", responses=ScheduleView)
    def get(self, request: SignedIn, name: str) -> Response:
        return Response(ScheduleView(services.schedule_named(name)).data)

    @extend_schema(operation_id="edit_schedule", request=ScheduleEdit, responses=ScheduleView)
    def patch(self, request: SignedIn, name: str) -> Response:
        return Response(ScheduleView(services.edit_schedule(name, **body_of(request, ScheduleEdit))).data)

    @extend_schema(operation_id="remove_schedule", request=None, responses={204: None})
    def delete(self, request: SignedIn, name: str) -> Response:
        services.remove_schedule(name)
        return Response(status=204)


class SchedulePause(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="pause_schedule", request=PauseBody, responses=ScheduleView)
    def post(self, request: SignedIn, name: str) -> Response:
        found = services.pause_schedule(request.user, name, **body_of(request, PauseBody))
        return Response(ScheduleView(found).data)


class ScheduleResume(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="resume_schedule", request=None, responses=ScheduleView)
    def post(self, request: SignedIn, name: str) -> Response:
        return Response(ScheduleView(services.resume_schedule(name)).data)


class OnePause(PauseBody):
    name = serializers.CharField(max_length=64)
    paused = serializers.BooleanField(help_text="False: it runs at its due times.")


class PausesBody(StrictSerializer):
    schedules = OnePause(many=True, help_text=f"At most {MOST:,}; all of them are changed, or none.")


class PauseView(serializers.Serializer[Any]):
    name = serializers.CharField()
    paused = serializers.BooleanField(help_text="False: it ran at its due times.")
    reason = serializers.CharField()
    until = serializers.DateTimeField(allow_null=True)


class PausesView(serializers.Serializer[Any]):
    before = PauseView(many=True, help_text="What they were: sent as `schedules`, it undoes this.")


class Pauses(RoleView):
    """Several schedules at once: paused, or running at their due times again."""

    needs = {"POST": "author"}

    @extend_schema(operation_id="pause_schedules", request=PausesBody, responses=PausesView)
    def post(self, request: SignedIn) -> Response:
        before = pause_schedules(request.user, body_of(request, PausesBody)["schedules"])
        return Response(PausesView({"before": before}).data)


class ScheduleDueTimes(RoleView):
    @extend_schema(
        operation_id="due_times",
        parameters=[OpenApiParameter("cursor", str), OpenApiParameter("page_size", int)],
        responses=paged("DueTime", DueTimeView),
    )
    def get(self, request: SignedIn, name: str) -> Response:
        found = services.schedule_named(name).due_times.prefetch_related("runs")
        return page_of(request, found, DueTimeView)
