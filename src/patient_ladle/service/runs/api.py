"""Runs, their log and their files over HTTP."""

from __future__ import annotations

import os
import re
import zipfile
from collections.abc import Iterator
from datetime import datetime, timedelta
from typing import Any
from urllib.parse import quote

from django.db.models import Q
from django.http import FileResponse, HttpResponse, StreamingHttpResponse
from django.utils import timezone
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, OpenApiResponse, extend_schema, extend_schema_field
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response

from patient_ladle.core.engine import DESCRIPTOR
from patient_ladle.core.errors import BadInput, NotFound, unknown_name
from patient_ladle.core.formats import checked_options, get_format
from patient_ladle.core.parameters import MASK
from patient_ladle.core.reading import first_rows_of
from patient_ladle.service.common.api import DayField, RoleView, StrictSerializer, body_of, checked, page_of, paged
from patient_ladle.service.extracts.services import extract_named
from patient_ladle.service.schedules.models import Schedule
from patient_ladle.service.sources.queries import environment_named

from . import backfilling, holding, services
from .dry_run import dry_run
from .models import ENDED, FINISHED, HELD, NOT_DELIVERED, REJECTED, RELEASED, STATES, LogLine, ResultFile, Run, Worker
from .stores import store

LOG_LINES = 500
"""Lines of one answer; ``next`` says where to go on."""


class FileView(serializers.Serializer):
    run = serializers.IntegerField(source="run_id")
    name = serializers.CharField()
    format = serializers.CharField()
    media_type = serializers.CharField()
    rows = serializers.IntegerField()
    bytes = serializers.IntegerField()
    sha256 = serializers.CharField()
    statement = serializers.IntegerField(help_text="Which statement of the extract it holds, from 0; the first of several.")
    part = serializers.IntegerField(allow_null=True, help_text="Which part of a split result, from 1.")
    packing = serializers.CharField()
    sheets = serializers.ListField(
        child=serializers.JSONField(), help_text="Of a workbook: name, place of its statement, rows."
    )
    removed_at = serializers.DateTimeField(allow_null=True, help_text="When it was removed from the result store.")
    delivered_path = serializers.CharField()


class ResultLine(FileView):
    extract = serializers.CharField(source="run.extract.name")
    environment = serializers.CharField(source="run.environment.name")
    data_date = serializers.DateField(source="run.data_date")
    ended_at = serializers.DateTimeField(source="run.ended_at")


class FilePreview(serializers.Serializer):
    columns = serializers.ListField(child=serializers.CharField())
    rows = serializers.ListField(child=serializers.ListField(child=serializers.CharField(allow_null=True)))
    complete = serializers.BooleanField(help_text="These are all the rows there are.")


class StageView(serializers.Serializer):
    stage = serializers.CharField()
    at = serializers.DateTimeField()


class ErrorView(serializers.Serializer):
    code = serializers.CharField()
    message = serializers.CharField()
    hint = serializers.CharField()
    transient = serializers.BooleanField()


class RunLine(serializers.Serializer):
    id = serializers.IntegerField()
    extract = serializers.CharField(source="extract.name")
    folder = serializers.CharField(source="extract.folder")
    environment = serializers.CharField(source="environment.name")
    source = serializers.CharField(source="source.name")
    state = serializers.ChoiceField(STATES)
    stage = serializers.CharField()
    late = serializers.BooleanField()
    warned = serializers.BooleanField()
    empty = serializers.BooleanField()
    held = serializers.ChoiceField(["", HELD, RELEASED, REJECTED], help_text="A delivery that a guard held back.")
    cancel_asked_by = serializers.CharField()
    data_date = serializers.DateField()
    due_at = serializers.DateTimeField()
    queued_at = serializers.DateTimeField()
    started_at = serializers.DateTimeField(allow_null=True)
    ended_at = serializers.DateTimeField(allow_null=True)
    rows = serializers.IntegerField(allow_null=True)
    attempt = serializers.IntegerField()
    attempts_most = serializers.IntegerField()
    step = serializers.IntegerField(help_text="Place in the sequence of its schedule.")
    waits_for = serializers.CharField(help_text="Why it waits, in words.")
    wait_until = serializers.DateTimeField(allow_null=True, help_text="When it is looked at again.")
    finish_by = serializers.DateTimeField(allow_null=True)
    backfill = serializers.BooleanField()
    started_by = serializers.CharField(source="started_by.name", default=None, allow_null=True)
    schedule = serializers.CharField(source="due_time.schedule.name", default=None, allow_null=True)
    error = ErrorView(allow_null=True)
    files = FileView(many=True)


class FindingView(serializers.Serializer):
    text = serializers.CharField()
    then = serializers.ChoiceField(["hold", "warn"])


class StatementResultView(serializers.Serializer):
    title = serializers.CharField()
    rows = serializers.IntegerField()
    columns = serializers.ListField(child=serializers.DictField())


class RunView(RunLine):
    revision = serializers.IntegerField(source="revision.number")
    engine = serializers.CharField(source="source.engine")
    identity = serializers.DictField(
        child=serializers.CharField(), help_text="Server, database and login that the session used, read-only."
    )
    statement = serializers.CharField(source="revision.statement")
    values = serializers.SerializerMethodField(help_text="As given; private ones masked.")
    values_in_effect = serializers.DictField()
    formats = serializers.ListField(child=serializers.CharField())
    stages = StageView(many=True)
    columns = serializers.ListField(child=serializers.DictField(), help_text="Of the first statement.")
    statements = StatementResultView(many=True, help_text="Of each statement: title, rows, columns.")
    warnings = serializers.ListField(child=serializers.CharField())
    findings = FindingView(many=True, help_text="What its guards found.")
    held_by = serializers.CharField(help_text="Who released or rejected it.")
    held_note = serializers.CharField()
    bytes_read = serializers.IntegerField(allow_null=True)
    again_of = serializers.IntegerField(source="again_of_id", allow_null=True)
    same_as_before = serializers.SerializerMethodField(
        help_text="For a run again: are the checksums those of the run it repeats? Null while that cannot be said."
    )

    @extend_schema_field(serializers.DictField())
    def get_values(self, run: Run) -> dict[str, Any]:
        private = {p["name"] for p in run.revision.parameters if p.get("private")}
        return {name: MASK if name in private else value for name, value in run.values.items()}

    def get_same_as_before(self, run: Run) -> bool | None:
        return run.compared["same"] if run.compared else None


class RunBody(StrictSerializer):
    extract = serializers.CharField(max_length=64)
    revision = serializers.IntegerField(required=False, min_value=1)
    environment = serializers.CharField(required=False, allow_blank=True, max_length=64)
    values = serializers.DictField(required=False)
    formats = serializers.ListField(child=serializers.CharField(max_length=32), required=False)
    data_date = DayField(required=False)


class AgainBody(StrictSerializer):
    newest_revision = serializers.BooleanField(default=False, help_text="Today's revision instead of the run's own.")


class DecisionBody(StrictSerializer):
    note = serializers.CharField(allow_blank=True, default="", max_length=400)


class BackfillBody(StrictSerializer):
    to = DayField(source="last", help_text="The last local date.")
    again = serializers.BooleanField(default=False, help_text="Also the due times whose runs have finished.")

    def get_fields(self) -> dict[str, Any]:
        return {"from": DayField(source="first", help_text="The first local date."), **super().get_fields()}


class PlannedRun(serializers.Serializer):
    due_at = serializers.DateTimeField()
    data_date = serializers.DateField()
    runs = serializers.BooleanField(help_text="Whether a backfill runs it.")
    why = serializers.CharField()
    run = serializers.IntegerField(allow_null=True, help_text="The newest run that it has already.")


class LogLineView(serializers.Serializer):
    id = serializers.IntegerField()
    at = serializers.DateTimeField()
    attempt = serializers.IntegerField()
    stage = serializers.CharField()
    level = serializers.ChoiceField(["info", "warning", "error"])
    text = serializers.CharField()


class LogView(serializers.Serializer):
    lines = LogLineView(many=True)
    next = serializers.IntegerField(help_text="Give it as `after` to get what comes next.")
    ended = serializers.BooleanField(help_text="The run has ended and there are no more lines.")


class StatusView(serializers.Serializer):
    counts = serializers.DictField(child=serializers.IntegerField(), help_text="Runs of the last 24 hours by state.")
    workers = serializers.IntegerField()
    next_due_at = serializers.DateTimeField(allow_null=True)
    next_schedule = serializers.CharField(allow_null=True)
    now = serializers.DateTimeField()


def _all_runs() -> Any:
    return Run.objects.select_related(
        "extract", "environment", "source", "started_by", "due_time__schedule", "revision", "again_of"
    ).prefetch_related("files")


def _one(number: int) -> Run:
    services.run_numbered(number)
    found: Run = _all_runs().get(pk=number)
    return found


def _moment(name: str, text: str) -> datetime:
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        raise BadInput(f"'{name}' was given '{text}', which is not a time.", "Give 2026-11-24T06:05:00Z.") from None
    return found if found.tzinfo else found.replace(tzinfo=timezone.get_current_timezone())


class Runs(RoleView):
    needs = {"POST": "runner"}

    @extend_schema(
        operation_id="runs",
        parameters=[
            OpenApiParameter("extract", str),
            OpenApiParameter("schedule", str),
            OpenApiParameter("state", str),
            OpenApiParameter("since", OpenApiTypes.DATETIME),
            OpenApiParameter("cursor", str),
            OpenApiParameter("page_size", int),
        ],
        responses=paged("Run", RunLine),
    )
    def get(self, request: Request) -> Response:
        found, given = _all_runs(), request.query_params
        if given.get("extract"):
            named = Q(extract__name=given["extract"]) | Q(extract__former_names__name=given["extract"])
            found = found.filter(named).distinct()
        if given.get("schedule"):
            found = found.filter(due_time__schedule__name=given["schedule"])
        if given.get("state"):
            if given["state"] not in STATES:
                raise unknown_name("state", given["state"], STATES)
            found = found.filter(state=given["state"])
        if given.get("since"):
            found = found.filter(queued_at__gte=_moment("since", given["since"]))
        return page_of(request, self, found, RunLine)

    @extend_schema(
        operation_id="start_run",
        request=RunBody,
        parameters=[OpenApiParameter("Idempotency-Key", str, OpenApiParameter.HEADER)],
        responses={201: RunView, 200: RunView},
    )
    def post(self, request: Request) -> Response:
        key = request.headers.get("Idempotency-Key", "")
        run, new = services.start_run_once(request.user, body_of(request, RunBody), key)
        return Response(RunView(_one(run.pk)).data, status=201 if new else 200)


class DryRunStatement(serializers.Serializer):
    title = serializers.CharField()
    text = serializers.CharField()
    bound = serializers.DictField()
    filled_in = serializers.CharField(help_text="To run in any SQL editor; private values masked.")


class DryRunFile(serializers.Serializer):
    name = serializers.CharField()
    format = serializers.CharField()
    statement = serializers.CharField()
    options = serializers.DictField(help_text="What differs from the format's defaults.")
    delivered_path = serializers.CharField()
    there = serializers.BooleanField(help_text="A file of that name is there already.")
    replaces = serializers.BooleanField(help_text="It would give way to this one.")


class ExpectedView(serializers.Serializer):
    rows = serializers.IntegerField()
    rows_least = serializers.IntegerField()
    rows_most = serializers.IntegerField()
    seconds = serializers.FloatField()
    runs = serializers.IntegerField(help_text="So many earlier runs this is the median of.")


class LimitsView(serializers.Serializer):
    rows = serializers.IntegerField(allow_null=True)
    bytes = serializers.IntegerField(allow_null=True)
    seconds = serializers.IntegerField()


class CodeView(serializers.Serializer):
    command = serializers.CharField()
    python = serializers.CharField()


class DryRunView(serializers.Serializer):
    extract = serializers.CharField()
    revision = serializers.IntegerField()
    source = serializers.CharField()
    engine = serializers.CharField()
    environment = serializers.CharField()
    reads = serializers.DictField(child=serializers.CharField())
    data_date = serializers.DateField()
    values = serializers.DictField()
    statements = DryRunStatement(many=True)
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
    def post(self, request: Request) -> Response:
        url = request.build_absolute_uri("/").rstrip("/")
        return Response(DryRunView(dry_run(body_of(request, RunBody), url)).data)


class OneRun(RoleView):
    @extend_schema(operation_id="run", responses=RunView)
    def get(self, request: Request, number: int) -> Response:
        return Response(RunView(_one(number)).data)


class RunLog(RoleView):
    @extend_schema(operation_id="run_log", parameters=[OpenApiParameter("after", int)], responses=LogView)
    def get(self, request: Request, number: int) -> Response:
        given = request.query_params.get("after") or "0"
        if not given.isdigit():
            raise BadInput(f"'after' was given '{given}', which is not a line's number.", "Give `next` of the last answer.")
        run = services.run_numbered(number)
        lines = list(LogLine.objects.filter(run=run, id__gt=int(given))[:LOG_LINES])
        ended = run.state in ENDED and len(lines) < LOG_LINES
        last = lines[-1].pk if lines else int(given)
        return Response({"lines": LogLineView(lines, many=True).data, "next": last, "ended": ended})


class RunCancel(RoleView):
    needs = {"POST": "runner"}

    @extend_schema(operation_id="cancel_run", request=None, responses=RunView)
    def post(self, request: Request, number: int) -> Response:
        return Response(RunView(_one(services.cancel_run(request.user, number).pk)).data)


class RunAgain(RoleView):
    needs = {"POST": "runner"}

    @extend_schema(operation_id="run_again", request=AgainBody, responses={201: RunView})
    def post(self, request: Request, number: int) -> Response:
        body = body_of(request, AgainBody)
        return Response(RunView(_one(services.run_again(request.user, number, body["newest_revision"]).pk)).data, status=201)


class RunRelease(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="release_run", request=DecisionBody, responses=RunView)
    def post(self, request: Request, number: int) -> Response:
        holding.release(request.user, number, body_of(request, DecisionBody)["note"])
        return Response(RunView(_one(number)).data)


class RunReject(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="reject_run", request=DecisionBody, responses=RunView)
    def post(self, request: Request, number: int) -> Response:
        holding.reject(request.user, number, body_of(request, DecisionBody)["note"])
        return Response(RunView(_one(number)).data)


class Backfills(RoleView):
    """Runs for past due times of a schedule: GET says what it would do, POST does it."""

    needs = {"POST": "runner"}

    @extend_schema(
        operation_id="planned_backfill",
        parameters=[
            OpenApiParameter("from", OpenApiTypes.DATE, required=True),
            OpenApiParameter("to", OpenApiTypes.DATE, required=True),
            OpenApiParameter("again", bool, description="Also those that have finished."),
        ],
        responses=PlannedRun(many=True),
    )
    def get(self, request: Request, name: str) -> Response:
        given = checked(request.query_params.dict(), BackfillBody)
        return Response(PlannedRun(backfilling.planned(name, **given), many=True).data)

    @extend_schema(operation_id="backfill", request=BackfillBody, responses={201: RunLine(many=True)})
    def post(self, request: Request, name: str) -> Response:
        made = backfilling.backfill(request.user, name, **body_of(request, BackfillBody))
        found = _all_runs().filter(pk__in=[run.pk for run in made]).order_by("id")
        return Response(RunLine(found, many=True).data, status=201)


def _finished(number: int) -> Run:
    run = services.run_numbered(number)
    if run.state != FINISHED:
        raise NotFound(f"run {number} has no files: it is {run.state}.", "Wait until it has finished.")
    gone = run.files.exclude(removed_at=None).first()
    if gone is not None and gone.removed_at is not None:
        raise NotFound(
            f"the files of run {number} were removed on {gone.removed_at.date().isoformat()}: their time to be kept was over.",
            f"Start it again, for the same data date: ladle run again {number}",
        )
    return run


def _file_of(run: Run, name: str) -> ResultFile:
    file = run.files.filter(name=name).first()
    if file is None:
        raise unknown_name(f"file of run {run.pk}", name, run.files.values_list("name", flat=True))
    return file


def _path_of(file: ResultFile) -> Any:
    return store().path_of(str(file.run_id), file.attempt, file.name)


class RunFile(RoleView):
    """One stored file; ``datapackage.json`` is the descriptor. Serves a single range (RFC 9110, section 14)."""

    @extend_schema(operation_id="run_file", responses={(200, "application/octet-stream"): OpenApiResponse(OpenApiTypes.BINARY)})
    def get(self, request: Request, number: int, name: str) -> HttpResponse:
        run = _finished(number)
        if name == DESCRIPTOR:
            path = store().path_of(str(run.pk), run.attempt, name)
            return _download(request, path, name, "application/json", f'"{os.stat(path).st_mtime_ns:x}"')
        file = _file_of(run, name)
        return _download(request, _path_of(file), name, file.media_type, f'"{file.sha256}"')


class RunFilePreview(RoleView):
    """The first rows of a stored file, as they stand in it."""

    @extend_schema(
        operation_id="run_file_preview",
        parameters=[OpenApiParameter("rows", int), OpenApiParameter("sheet", str)],
        responses=FilePreview,
    )
    def get(self, request: Request, number: int, name: str) -> Response:
        file = _file_of(_finished(number), name)
        wanted = str(request.query_params.get("rows", "50"))
        if not wanted.isdecimal() or not 0 < int(wanted) <= 1_000:
            raise BadInput(f"rows={wanted} is not a number of rows.", "Ask for 1 to 1,000.")
        options = checked_options(file.format, file.options)
        with open(_path_of(file), "rb") as stored:
            sheet = request.query_params.get("sheet", "")
            return Response(first_rows_of(stored, file.format, options, file.packing, int(wanted), sheet))


class RunArchive(RoleView):
    """All files of a run and their descriptor, as one archive."""

    @extend_schema(operation_id="run_archive", responses={(200, "application/zip"): OpenApiResponse(OpenApiTypes.BINARY)})
    def get(self, request: Request, number: int) -> HttpResponse:
        run = _finished(number)
        places = [(file.name, _path_of(file)) for file in run.files.all()]
        places.append((DESCRIPTOR, store().path_of(str(run.pk), run.attempt, DESCRIPTOR)))
        response = StreamingHttpResponse(_archived(places), content_type="application/zip")
        name = f"{run.extract.name}-{run.data_date}-run-{run.pk}.zip"
        response["Content-Disposition"] = f"attachment; filename*=UTF-8''{quote(name)}"
        response["Content-Security-Policy"] = "sandbox"
        return response


class _Pieces:
    """What was written since it was last taken."""

    def __init__(self) -> None:
        self.pieces: list[bytes] = []

    def write(self, data: bytes) -> int:
        self.pieces.append(bytes(data))
        return len(data)

    def flush(self) -> None:
        return None

    def taken(self) -> bytes:
        found, self.pieces = b"".join(self.pieces), []
        return found


def _archived(places: list[tuple[str, Any]]) -> Iterator[bytes]:
    out = _Pieces()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:  # type: ignore[call-overload]
        for name, path in places:
            with open(path, "rb") as file, archive.open(zipfile.ZipInfo(name), "w", force_zip64=True) as entry:
                while piece := file.read(1 << 20):
                    entry.write(piece)
                    yield out.taken()
    yield out.taken()


class LatestResult(RoleView):
    """The latest finished run's file in a format: an address that stays the same while what it gives follows the runs."""

    @extend_schema(
        operation_id="latest_result",
        parameters=[
            OpenApiParameter("environment", str),
            OpenApiParameter("statement", int, description="Of an extract with several, which one, from 1."),
            OpenApiParameter("part", int, description="Of a split result, from 1."),
        ],
        responses={(200, "application/octet-stream"): OpenApiResponse(OpenApiTypes.BINARY)},
    )
    def get(self, request: Request, name: str, form: str) -> HttpResponse:
        extract, asked = extract_named(name), request.query_params
        runs = Run.objects.filter(extract=extract, state=FINISHED).exclude(held__in=NOT_DELIVERED)
        if asked.get("environment"):
            runs = runs.filter(environment=environment_named(asked["environment"]))
        newest = runs.order_by("-data_date", "-due_at", "-id").first()
        if newest is None:
            raise NotFound(f"'{extract.name}' has no result yet.", f"Start it: ladle run start {extract.name}")
        files = [file for file in newest.files.all() if file.format == get_format(form).name]
        if not files:
            there = ", ".join(sorted({file.format for file in newest.files.all()}))
            raise NotFound(f"the latest result of '{extract.name}' has no {form} file.", f"It has: {there}.")
        for key, shift in (("statement", 1), ("part", 0)):
            given = asked.get(key)
            if given is not None:
                files = [file for file in files if str((getattr(file, key) or 0) + shift) == given]
        if not files:
            raise NotFound(
                f"the latest result of '{extract.name}' has no such statement or part.", "Leave statement and part out."
            )
        file = files[0]
        response = _download(request, _path_of(file), file.name, file.media_type, f'"{file.sha256}"')
        response["Cache-Control"] = "no-cache"
        response["X-Run"] = str(newest.pk)
        return response


def _download(request: Request, path: Any, name: str, media_type: str, tag: str) -> HttpResponse:
    size = os.stat(path).st_size
    wanted = re.fullmatch(r"bytes=(\d*)-(\d*)", request.headers.get("Range", ""))
    if request.headers.get("If-Range", tag) != tag or (wanted and not any(wanted.groups())):
        wanted = None
    start, end = 0, size - 1
    if wanted:
        first, last = wanted.groups()
        start = int(first) if first else max(size - int(last), 0)
        end = min(int(last), size - 1) if first and last else size - 1
        if start > end:
            return HttpResponse(status=416, headers={"Content-Range": f"bytes */{size}"})
    file = open(path, "rb")  # noqa: SIM115  # the response closes it
    file.seek(start)
    response = FileResponse(_Part(file, end - start + 1), content_type=media_type, status=206 if wanted else 200)
    response["Content-Length"] = str(end - start + 1)
    if wanted:
        response["Content-Range"] = f"bytes {start}-{end}/{size}"
    response["Accept-Ranges"] = "bytes"
    response["ETag"] = tag
    response["Content-Disposition"] = f"attachment; filename*=UTF-8''{quote(name)}"
    response["Content-Security-Policy"] = "sandbox"
    return response


class _Part:
    """The next so many bytes of an open file, as something that can be read and closed."""

    def __init__(self, file: Any, left: int) -> None:
        self.file, self.left = file, left

    def read(self, size: int = -1) -> bytes:
        chunk: bytes = self.file.read(self.left if size < 0 else min(size, self.left))
        self.left -= len(chunk)
        return chunk

    def close(self) -> None:
        self.file.close()


class Results(RoleView):
    @extend_schema(
        operation_id="results",
        parameters=[OpenApiParameter("extract", str), OpenApiParameter("cursor", str), OpenApiParameter("page_size", int)],
        responses=paged("Result", ResultLine),
    )
    def get(self, request: Request) -> Response:
        found = ResultFile.objects.filter(run__state=FINISHED, removed_at=None).select_related(
            "run__extract", "run__environment"
        )
        if request.query_params.get("extract"):
            found = found.filter(run__extract__name=request.query_params["extract"])
        return page_of(request, self, found, ResultLine)


class Status(RoleView):
    @extend_schema(operation_id="status", responses=StatusView)
    def get(self, request: Request) -> Response:
        now = timezone.now()
        recent = Run.objects.filter(queued_at__gte=now - timedelta(hours=24)).values_list("state", flat=True)
        following = Schedule.objects.filter(removed_at=None, paused_at=None, next_due_at__isnull=False)
        first = following.order_by("next_due_at").first()
        states = list(recent)
        return Response(
            {
                "counts": {state: states.count(state) for state in STATES},
                "workers": Worker.objects.filter(gone_at=None).count(),
                "next_due_at": first.next_due_at if first else None,
                "next_schedule": first.name if first else None,
                "now": now,
            }
        )
