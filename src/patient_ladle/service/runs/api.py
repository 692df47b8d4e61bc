"""Runs and their log over HTTP."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema, extend_schema_field
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.core.values.parameters import masked
from patient_ladle.service.common.api import (
    DayField,
    RoleView,
    StrictSerializer,
    body_of,
    number_in,
    page_of,
    page_parameters,
    paged,
)
from patient_ladle.service.common.caller import ForAuthors, sees_all
from patient_ladle.service.ledger import delivering, holding
from patient_ladle.service.ledger.members import inputs_told
from patient_ladle.service.ledger.models import NO_MEMBER, LogLine, Run, Worker
from patient_ladle.service.ledger.pulses import what_does_not_run
from patient_ladle.service.ledger.states import (
    DELIVERIES,
    ENDED,
    HELD,
    REJECTED,
    RELEASED,
    STATES,
)
from patient_ladle.service.people.authentication import SignedIn
from patient_ladle.service.sources.browse_api import StepRows

from . import published, services
from .dry_run import dry_run
from .files_api import FileView
from .listed import RUN_FILTERS, RUN_SORTS, runs_asked_for
from .night import coming_next

OPEN_STAGES = ("describe", "fetch", "prove", "store")
"""Stages whose lines say nothing of servers, logins, workers or delivery paths."""
LOG_LINES = 500
"""Lines of one answer; ``next`` says where to go on."""


class StageView(serializers.Serializer[Any]):
    stage = serializers.CharField()
    at = serializers.DateTimeField()


class ErrorView(serializers.Serializer[Any]):
    code = serializers.CharField()
    message = serializers.CharField()
    hint = serializers.CharField()
    transient = serializers.BooleanField()


class RunLine(ForAuthors):
    id = serializers.IntegerField()
    extract = serializers.CharField(source="extract.name")
    folder = serializers.CharField(source="extract.folder")
    saved = serializers.BooleanField(source="extract.in_repository", help_text="False: it was run without being saved.")
    environment = serializers.CharField(source="environment.name")
    source = serializers.CharField(source="source_name")  # type: ignore[assignment]  # a field of that name
    state = serializers.ChoiceField(STATES)
    stage = serializers.CharField()
    late = serializers.BooleanField()
    warned = serializers.BooleanField()
    empty = serializers.BooleanField()
    held = serializers.ChoiceField(["", HELD, RELEASED, REJECTED], help_text="A delivery that a guard held back.")
    published = serializers.BooleanField(
        help_text="It counts among what its extract publishes, and is delivered. Else it is a trial, kept in the result store."
    )
    delivery = serializers.ChoiceField(
        ["", *DELIVERIES], help_text="What has become of the delivery of a finished run; empty: none was wanted, or it is held."
    )
    cancel_asked_by = serializers.CharField()
    data_date = serializers.DateField()
    due_at = serializers.DateTimeField()
    queued_at = serializers.DateTimeField()
    started_at = serializers.DateTimeField(allow_null=True)
    ended_at = serializers.DateTimeField(allow_null=True)
    rows = serializers.IntegerField(allow_null=True)
    attempt = serializers.IntegerField()
    max_attempts = serializers.IntegerField()
    step = serializers.IntegerField(help_text="Place in the sequence of its schedule.")
    waits_for = serializers.CharField(help_text="Why it waits, in words.")
    wait_until = serializers.DateTimeField(allow_null=True, help_text="When it is looked at again.")
    finish_by = serializers.DateTimeField(allow_null=True)
    backfill = serializers.BooleanField()
    backfill_id = serializers.IntegerField(
        source="of_backfill_id", allow_null=True, help_text="The backfill that it is part of."
    )
    started_by = serializers.CharField(source="started_by.name", default=None, allow_null=True)
    schedule = serializers.CharField(source="due_time.schedule.name", default=None, allow_null=True)
    error = ErrorView(allow_null=True)
    files = FileView(many=True)


class FindingView(serializers.Serializer[Any]):
    text = serializers.CharField()
    then = serializers.ChoiceField(["hold", "warn"])


class StatementResultView(serializers.Serializer[Any]):
    title = serializers.CharField()
    rows = serializers.IntegerField()
    columns = serializers.ListField(child=serializers.DictField())
    fetched = serializers.IntegerField(required=False, help_text="Rows that came from the source, where steps follow.")
    steps = StepRows(
        many=True,
        required=False,
        help_text="Of each step: number, name, step, rows_in, rows_out, unmatched.",
    )


class RunInput(serializers.Serializer[Any]):
    name = serializers.CharField(help_text="In the combining statement.")
    extract = serializers.CharField(help_text="Whose result it is; empty: it is a lookup.")
    lookup = serializers.CharField(help_text="The lookup that it is; empty: it is a result.")
    statement = serializers.IntegerField(help_text="Which of the extract's statements.")
    run = serializers.IntegerField(allow_null=True, help_text="Whose result is taken; null: it is not begun, or a lookup.")
    revision = serializers.IntegerField(allow_null=True)
    source = serializers.CharField()  # type: ignore[assignment]  # a field of that name
    state = serializers.CharField(help_text="Of that run; empty: it is not begun, or a lookup.")
    held = serializers.CharField()
    stored = serializers.BooleanField(help_text="The result was there already, and was taken.")
    rows = serializers.IntegerField(allow_null=True)
    login = serializers.CharField(help_text="That its session used.")
    values_in_effect = serializers.DictField(help_text="Of that run; sensitive ones masked.")


class RunView(RunLine):
    for_authors = ("identity", "statement", "inputs")
    errors_in = ("error", "delivery_error")
    delivery_error = ErrorView(allow_null=True, help_text="Why it is not delivered; null: nothing stands in its way.")
    deliver_at = serializers.DateTimeField(allow_null=True, help_text="When the delivery is tried next.")
    deliver_into = serializers.CharField(source="delivers_into", help_text="Folders of the delivery, separated by commas")
    failures = serializers.IntegerField(help_text="So many attempts ended by a fault.")
    lost = serializers.IntegerField(help_text="So many attempts ended with their workers.")
    revision = serializers.IntegerField(source="revision.number")
    engine = serializers.CharField()
    identity = serializers.DictField(
        child=serializers.CharField(), help_text="Server, database and login that the session used, read-only."
    )
    statement = serializers.CharField(source="revision.statement")
    values = serializers.SerializerMethodField(help_text="As given; sensitive ones masked.")
    values_in_effect = serializers.DictField()
    formats = serializers.ListField(child=serializers.CharField())
    output = serializers.DictField(
        source="output_settings", help_text="How its files are written, where that differs from the defaults."
    )
    stages = StageView(many=True)
    columns = serializers.ListField(child=serializers.DictField(), help_text="Of the first statement.")
    statements = StatementResultView(many=True, help_text="Of each statement: title, rows, columns.")
    warnings = serializers.ListField(child=serializers.CharField())
    findings = FindingView(many=True, help_text="What its guards found.")
    held_by = serializers.CharField(help_text="Who released or rejected it.")
    held_note = serializers.CharField()
    bytes_read = serializers.IntegerField(allow_null=True)
    again_of = serializers.IntegerField(source="again_of_id", allow_null=True)
    member_of = serializers.IntegerField(
        source="member_of_id", allow_null=True, help_text="The run of a combination that this one is an input of."
    )
    inputs = serializers.SerializerMethodField(help_text="Of a combination's run: where each of its inputs stands.")
    same_as_before = serializers.SerializerMethodField(
        help_text="For a run again: are the checksums those of the run it repeats? Null while that cannot be said."
    )

    @extend_schema_field(RunInput(many=True))
    def get_inputs(self, run: Run) -> Any:
        return RunInput(inputs_told(run), many=True).data

    @extend_schema_field(serializers.DictField())
    def get_values(self, run: Run) -> dict[str, Any]:
        return masked(run.revision.declared, run.values)

    def get_same_as_before(self, run: Run) -> bool | None:
        return run.compared["same"] if run.compared else None


class RunBody(StrictSerializer):
    extract = serializers.CharField(max_length=64)
    revision = serializers.IntegerField(required=False, min_value=1)
    environment = serializers.CharField(required=False, allow_blank=True, max_length=64)
    values = serializers.DictField(required=False)
    formats = serializers.ListField(child=serializers.CharField(max_length=32), required=False)
    data_date = DayField(required=False)
    output = serializers.DictField(
        required=False, help_text="Output settings of this run alone: formats, columns, files; single options are set anew."
    )
    publish = serializers.BooleanField(
        allow_null=True,
        default=None,
        help_text="true: it is delivered and may become the latest result; false: it is a trial, kept in the result store only;"
        " null: a trial if it has other values, formats or output than the extract itself, an older revision, a day to come.",
    )


class AgainBody(StrictSerializer):
    newest_revision = serializers.BooleanField(default=False, help_text="Today's revision instead of the run's own.")


class DecisionBody(StrictSerializer):
    note = serializers.CharField(allow_blank=True, default="", max_length=400)


class DeliveryBody(StrictSerializer):
    then = serializers.ChoiceField(
        delivering.CHOICES, help_text="again: now; elsewhere: now, into other folders; left: it stays undelivered."
    )
    into = serializers.CharField(
        allow_blank=True, default="", max_length=500, help_text="With elsewhere: the folders, separated by commas"
    )
    note = serializers.CharField(allow_blank=True, default="", max_length=400, help_text="Why, for the record.")


class LogLineView(ForAuthors):
    id = serializers.IntegerField()
    at = serializers.DateTimeField()
    attempt = serializers.IntegerField()
    stage = serializers.CharField()
    level = serializers.ChoiceField(["info", "warning", "error"])
    text = serializers.CharField()

    def to_representation(self, instance: LogLine) -> Any:
        made = super().to_representation(instance)
        is_open = made["stage"] in OPEN_STAGES or made["text"].startswith("finished: ")
        if not sees_all() and (made["level"] == "error" or not is_open):
            made["text"] = "(details are shown to authors)"
        return made


class LogView(serializers.Serializer[Any]):
    lines = LogLineView(many=True)
    next = serializers.IntegerField(help_text="Give it as `after` to get what comes next.")
    ended = serializers.BooleanField(help_text="The run has ended and there are no more lines.")


class StatusView(serializers.Serializer[Any]):
    counts = serializers.DictField(child=serializers.IntegerField(), help_text="Runs of the last 24 hours by state.")
    workers = serializers.IntegerField()
    nothing_runs = serializers.ListField(
        child=serializers.CharField(), help_text="What should be there and is not, in words; empty: all is well."
    )
    next_due_at = serializers.DateTimeField(allow_null=True)
    next_schedule = serializers.CharField(allow_null=True)
    now = serializers.DateTimeField()


_RELATED = ("extract", "environment", "source", "started_by", "due_time__schedule")
_OF_LINES = [
    "extract__name", "extract__folder", "extract__in_repository", "environment__name", "source__name", "started_by__name",
    "due_time__schedule__name",
    "of_backfill",
    *(field.name for field in Run._meta.concrete_fields if field.name in RunLine._declared_fields and not field.is_relation),
]  # fmt: skip


def lines_of_runs() -> Any:
    """Runs with what a line of a list shows of them, and no more: revisions and results are wide."""
    return Run.objects.select_related(*_RELATED).only(*_OF_LINES).prefetch_related("files")


def one_run(number: int) -> Run:
    """With what its record shows. Raises NotFound."""
    Run.numbered(number)
    found: Run = Run.objects.select_related(*_RELATED, "revision", "again_of").prefetch_related("files").get(pk=number)
    return found


class Runs(RoleView):
    needs = {"POST": "runner"}

    @extend_schema(
        operation_id="runs",
        parameters=[*RUN_FILTERS, *page_parameters(RUN_SORTS)],
        responses=paged("Run", RunLine),
    )
    def get(self, request: SignedIn) -> Response:
        return page_of(request, runs_asked_for(request, lines_of_runs()), RunLine, sorts=RUN_SORTS)

    @extend_schema(
        operation_id="start_run",
        request=RunBody,
        parameters=[OpenApiParameter("Idempotency-Key", str, OpenApiParameter.HEADER)],
        responses={201: RunView, 200: RunView},
    )
    def post(self, request: SignedIn) -> Response:
        key = request.headers.get("Idempotency-Key", "")
        run, new = services.start_run_once(request.user, body_of(request, RunBody), key)
        return Response(RunView(one_run(run.pk)).data, status=201 if new else 200)


class DryRunStatement(ForAuthors):
    for_authors = ("text", "filled_in")
    title = serializers.CharField()
    text = serializers.CharField()
    bound = serializers.DictField()
    filled_in = serializers.CharField(help_text="To run in the database's own tools; sensitive values masked.")


class DryRunInput(serializers.Serializer[Any]):
    name = serializers.CharField()
    extract = serializers.CharField(help_text="Empty: it is a lookup.")
    lookup = serializers.CharField(help_text="The lookup that it is; empty: it is a result.")
    revision = serializers.IntegerField()
    source = serializers.CharField()  # type: ignore[assignment]  # a field of that name
    values = serializers.DictField(help_text="In effect; sensitive ones masked.")


class DryRunFile(ForAuthors):
    for_authors = ("delivered_path",)
    name = serializers.CharField()
    format = serializers.CharField()
    statement = serializers.CharField()
    options = serializers.DictField(help_text="What differs from the format's defaults.")
    delivered_path = serializers.CharField()
    there = serializers.BooleanField(help_text="A file of that name is there already.")
    overwrites = serializers.BooleanField(help_text="The existing file would be overwritten.")


class ExpectedView(serializers.Serializer[Any]):
    rows = serializers.IntegerField()
    rows_min = serializers.IntegerField()
    rows_max = serializers.IntegerField()
    seconds = serializers.FloatField()
    runs = serializers.IntegerField(help_text="So many earlier runs this is the median of.")
    same_values = serializers.BooleanField(help_text="Whether they were given the same values; else there are none such.")


class LimitsView(serializers.Serializer[Any]):
    rows = serializers.IntegerField(allow_null=True)
    bytes = serializers.IntegerField(allow_null=True)
    seconds = serializers.IntegerField()


class CodeView(serializers.Serializer[Any]):
    command = serializers.CharField()
    python = serializers.CharField()
    driver = serializers.CharField(
        help_text="Python that reads the same with the source's driver alone, values filled in; empty where there is none."
    )


class DryRunView(ForAuthors):
    for_authors = ("reads", "place", "deliver_into", "steps")
    extract = serializers.CharField()
    revision = serializers.IntegerField()
    source = serializers.CharField()  # type: ignore[assignment]  # a field of that name
    engine = serializers.CharField()
    environment = serializers.CharField()
    reads = serializers.DictField(child=serializers.CharField())
    place = serializers.CharField(help_text="Where that address leads, in words.")
    data_date = serializers.DateField()
    values = serializers.DictField()
    inputs = DryRunInput(many=True, help_text="Of a combination.")
    statements = DryRunStatement(many=True)
    steps = serializers.ListField(child=serializers.CharField(), help_text="On its result, a sentence for each.")
    files = DryRunFile(many=True)
    deliver_into = serializers.CharField()
    expected = ExpectedView(allow_null=True)
    limits = LimitsView()
    warnings = serializers.ListField(child=serializers.CharField())
    code = CodeView()


class DryRuns(RoleView):
    """What a run would do; nothing is started and no source is asked."""

    needs = {"POST": "runner"}

    @extend_schema(operation_id="dry_run", request=RunBody, responses=DryRunView)
    def post(self, request: SignedIn) -> Response:
        url = request.build_absolute_uri("/").rstrip("/")
        return Response(DryRunView(dry_run(body_of(request, RunBody), url)).data)


class OneRun(RoleView):
    @extend_schema(operation_id="run", responses=RunView)
    def get(self, request: SignedIn, number: int) -> Response:
        return Response(RunView(one_run(number)).data)


class RunLog(RoleView):
    @extend_schema(operation_id="run_log", parameters=[OpenApiParameter("after", int)], responses=LogView)
    def get(self, request: SignedIn, number: int) -> Response:
        after = number_in(request, "after", 0)
        run = Run.numbered(number)
        lines = list(LogLine.objects.filter(run=run, id__gt=after)[:LOG_LINES])
        ended = run.state in ENDED and len(lines) < LOG_LINES
        last = lines[-1].pk if lines else after
        return Response({"lines": LogLineView(lines, many=True).data, "next": last, "ended": ended})


class RunCancel(RoleView):
    needs = {"POST": "runner"}

    @extend_schema(operation_id="cancel_run", request=None, responses=RunView)
    def post(self, request: SignedIn, number: int) -> Response:
        return Response(RunView(one_run(services.cancel_run(request.user, number).pk)).data)


class RunAgain(RoleView):
    needs = {"POST": "runner"}

    @extend_schema(operation_id="run_again", request=AgainBody, responses={201: RunView})
    def post(self, request: SignedIn, number: int) -> Response:
        body = body_of(request, AgainBody)
        return Response(RunView(one_run(services.run_again(request.user, number, body["newest_revision"]).pk)).data, status=201)


class RunRelease(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="release_run", request=DecisionBody, responses=RunView)
    def post(self, request: SignedIn, number: int) -> Response:
        holding.release(request.user, number, body_of(request, DecisionBody)["note"])
        return Response(RunView(one_run(number)).data)


class RunReject(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="reject_run", request=DecisionBody, responses=RunView)
    def post(self, request: SignedIn, number: int) -> Response:
        holding.reject(request.user, number, body_of(request, DecisionBody)["note"])
        return Response(RunView(one_run(number)).data)


class RunPublish(RoleView):
    needs = {"POST": "runner"}

    @extend_schema(operation_id="publish_run", request=None, responses=RunView)
    def post(self, request: SignedIn, number: int) -> Response:
        """From now on the result counts among what its extract publishes; it is delivered unless a newer one is published."""
        published.publish(request.user, number)
        return Response(RunView(one_run(number)).data)


class RunWithdraw(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="withdraw_run", request=DecisionBody, responses=RunView)
    def post(self, request: SignedIn, number: int) -> Response:
        """The result counts no more among what its extract publishes; delivered files stay where they are."""
        published.withdraw(request.user, number, body_of(request, DecisionBody)["note"])
        return Response(RunView(one_run(number)).data)


class RunDelivery(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="decide_delivery", request=DeliveryBody, responses=RunView)
    def post(self, request: SignedIn, number: int) -> Response:
        """What becomes of a delivery that failed, or waits to be tried again: again, elsewhere, or left."""
        delivering.decide_delivery(request.user, number, **body_of(request, DeliveryBody))
        return Response(RunView(one_run(number)).data)


class Status(RoleView):
    @extend_schema(operation_id="status", responses=StatusView)
    def get(self, request: SignedIn) -> Response:
        now = timezone.now()
        recent = Run.objects.filter(NO_MEMBER, queued_at__gte=now - timedelta(hours=24)).values_list("state", flat=True)
        first = next(iter(coming_next()), None)
        states = list(recent)
        return Response(
            {
                "counts": {state: states.count(state) for state in STATES},
                "workers": Worker.objects.filter(gone_at=None).count(),
                "nothing_runs": what_does_not_run(),
                "next_due_at": first.next_due_at if first else None,
                "next_schedule": first.name if first else None,
                "now": now,
            }
        )
