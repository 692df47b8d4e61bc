"""Extracts and their revisions over HTTP. ``ETag`` and ``If-Match`` carry the revision number."""

from __future__ import annotations

from typing import Any

from django.db.models import F, Q
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response

from patient_ladle.core.errors import BadInput
from patient_ladle.core.results.differences import lines_between
from patient_ladle.core.values.parameters import MASK, TYPES
from patient_ladle.service.children.judging import judged
from patient_ladle.service.common.api import RoleView, StatementField, StrictSerializer, body_of, flag_in, number_in
from patient_ladle.service.common.caller import ForAuthors, sees_all

from . import services
from .models import Extract, with_heads
from .sensitive_values import opened_declaration


class ParameterView(ForAuthors):
    name = serializers.CharField()
    type = serializers.ChoiceField(list(TYPES))
    many = serializers.BooleanField()
    required = serializers.BooleanField()
    default = serializers.JSONField(allow_null=True)
    allowed = serializers.ListField(child=serializers.JSONField())
    note = serializers.CharField()
    labels = serializers.DictField(child=serializers.CharField(), default={})
    choices = serializers.DictField(child=serializers.CharField(), default={})
    least = serializers.JSONField(allow_null=True, default=None)
    most = serializers.JSONField(allow_null=True, default=None)
    pattern = serializers.CharField(default="")
    sensitive = serializers.BooleanField(default=False)
    shared = serializers.CharField(default="")

    def to_representation(self, instance: Any) -> Any:
        made = super().to_representation(opened_declaration(instance))
        if not sees_all():
            made["choices"] = {key: value if key == "source" else "" for key, value in made["choices"].items()}
            if made["sensitive"] and made["default"] is not None:
                made["default"] = MASK
        return made


class RevisionView(ForAuthors):
    for_authors = ("statement", "deliver_into")
    number = serializers.IntegerField()
    author = serializers.CharField(source="author.name")
    saved_at = serializers.DateTimeField()
    change_note = serializers.CharField()
    source = serializers.CharField(source="source_name", help_text="Empty: it reads none.")
    engine = serializers.CharField(help_text="The engine whose language the statement is in.")
    statement = serializers.CharField()
    parameters = ParameterView(many=True)
    formats = serializers.ListField(child=serializers.CharField())
    file_name = serializers.CharField()
    deliver_into = serializers.CharField()
    output = serializers.DictField(help_text="What differs from the defaults: formats, columns, files.")
    guards = serializers.ListField(child=serializers.DictField(), help_text="Bounds that a result must meet.")
    notes = serializers.CharField()


class ExtractLine(serializers.Serializer):
    name = serializers.CharField()
    folder = serializers.CharField()
    owner = serializers.CharField(source="owner.name")
    number = serializers.IntegerField()
    archived_at = serializers.DateTimeField(allow_null=True)
    source = serializers.CharField(source="head.source_name")
    notes = serializers.CharField(source="head.notes")
    saved_at = serializers.DateTimeField(source="head.saved_at")
    tags = serializers.ListField(child=serializers.CharField())


class RetentionBody(StrictSerializer):
    days = serializers.IntegerField(min_value=1, max_value=36_500, allow_null=True, default=None)
    runs = serializers.IntegerField(min_value=1, allow_null=True, default=None)


class DependsOnBody(StrictSerializer):
    depends_on = serializers.ListField(child=serializers.CharField(max_length=64))


class ExtractView(serializers.Serializer):
    name = serializers.CharField(help_text="The present one, also where an earlier one was asked for.")
    folder = serializers.CharField()
    owner = serializers.CharField(source="owner.name")
    tags = serializers.ListField(child=serializers.CharField())
    former_names = serializers.SerializerMethodField()
    archived_at = serializers.DateTimeField(allow_null=True)
    retention_days = serializers.IntegerField(allow_null=True, help_text="Null: as long as the service keeps results.")
    retention_runs = serializers.IntegerField(allow_null=True, help_text="Null: any number of them.")
    used_by = serializers.SerializerMethodField(help_text="Names of the schedules that run it.")
    depends_on = serializers.SerializerMethodField(
        help_text="Its scheduled runs wait for those of these, of the same data date."
    )
    revision = RevisionView(source="head")

    def get_former_names(self, extract: Extract) -> list[str]:
        return list(extract.former_names.values_list("name", flat=True))

    def get_depends_on(self, extract: Extract) -> list[str]:
        return [other.name for other in extract.depends_on.all()]

    def get_used_by(self, extract: Extract) -> list[str]:
        first = extract.schedules.filter(removed_at=None).values_list("name", flat=True)
        later = extract.steps.filter(schedule__removed_at=None).values_list("schedule__name", flat=True)
        return sorted({*first, *later})


class SettingView(serializers.Serializer):
    field = serializers.CharField()
    before = serializers.JSONField(allow_null=True)
    after = serializers.JSONField(allow_null=True)


class LineView(serializers.Serializer):
    kind = serializers.ChoiceField(["same", "removed", "added"])
    text = serializers.CharField()
    before = serializers.IntegerField(allow_null=True)
    after = serializers.IntegerField(allow_null=True)


class DifferencesView(serializers.Serializer):
    before = RevisionView()
    after = RevisionView()
    settings = SettingView(many=True)
    statement = LineView(many=True)


class TextsBody(StrictSerializer):
    before = serializers.CharField(allow_blank=True, trim_whitespace=False)
    after = serializers.CharField(allow_blank=True, trim_whitespace=False)


class DetailsBody(StrictSerializer):
    tags = serializers.ListField(child=serializers.CharField(max_length=64), required=False)
    owner = serializers.CharField(required=False)


class CopyBody(StrictSerializer):
    name = serializers.CharField(max_length=64)
    folder = serializers.CharField(required=False, allow_blank=True)
    source = serializers.CharField(required=False)


class ContentBody(StrictSerializer):
    source = serializers.CharField(
        max_length=64,
        allow_blank=True,
        required=False,
        help_text="Empty: it reads none, and computes from its values, in SQL of DuckDB.",
    )
    statement = StatementField()
    parameters = serializers.ListField(child=serializers.DictField(), required=False)
    formats = serializers.ListField(child=serializers.CharField(max_length=32), required=False)
    file_name = serializers.CharField(required=False, allow_blank=True, max_length=200)
    deliver_into = serializers.CharField(
        required=False, allow_blank=True, max_length=500, help_text="Folders of the delivery, separated by ;"
    )
    output = serializers.DictField(
        required=False,
        help_text="formats: options by format; columns: the choice of columns; files: compression, splitting, delivery.",
    )
    guards = serializers.ListField(
        child=serializers.DictField(),
        required=False,
        help_text="Such as {guard: rows, at_least: 10, then: warn}; rows, not_empty, change, columns, not_null, no_duplicate.",
    )
    notes = serializers.CharField(required=False, allow_blank=True)
    change_note = serializers.CharField(allow_blank=True, default="")
    restore_parameters = serializers.BooleanField(
        required=False, help_text="The statement was taken out with its values filled in: its parameters are put back."
    )


class ExtractBody(ContentBody):
    name = serializers.CharField(max_length=64)
    folder = serializers.CharField(allow_blank=True, default="")


class MoveBody(StrictSerializer):
    folder = serializers.CharField(allow_blank=True, required=False)
    name = serializers.CharField(required=False, max_length=64)


class RestoreBody(StrictSerializer):
    revision = serializers.IntegerField(required=False, min_value=1)


def _answer(extract: Extract, status: int = 200) -> Response:
    return Response(ExtractView(extract).data, status=status, headers={"ETag": f'"{extract.number}"'})


def _if_match(request: Request) -> int | None:
    given = request.headers.get("If-Match", "").strip().strip('"')
    if not given or given == "*":
        return None
    if not (given.isascii() and given.isdigit() and len(given) < 10):
        raise BadInput(f"If-Match was given '{given}', which is not a revision number.", "Send the ETag you were given.")
    return int(given)


class Extracts(RoleView):
    needs = {"POST": "author"}

    @extend_schema(
        operation_id="extracts",
        parameters=[
            OpenApiParameter("search", str, description="In names, folders, tags, notes and statements."),
            OpenApiParameter("folder", str),
            OpenApiParameter("tag", str),
            OpenApiParameter("archived", bool),
        ],
        responses=ExtractLine(many=True),
    )
    def get(self, request: Request) -> Response:
        given = request.query_params
        found = Extract.objects.select_related("owner").filter(archived_at__isnull=not flag_in(request, "archived"))
        if given.get("folder"):
            found = found.filter(Q(folder=given["folder"]) | Q(folder__startswith=given["folder"] + "/"))
        if given.get("tag"):
            found = found.filter(tags__contains=[given["tag"]])
        if given.get("search"):
            word = given["search"]
            said = Q(revisions__statement__icontains=word) | Q(revisions__notes__icontains=word)
            in_head = Q(revisions__number=F("number")) & said
            found = found.filter(
                Q(name__icontains=word) | Q(folder__icontains=word) | Q(tags__icontains=word) | in_head
            ).distinct()
        return Response(ExtractLine(with_heads(found), many=True).data)

    @extend_schema(operation_id="add_extract", request=ExtractBody, responses={201: ExtractView})
    def post(self, request: Request) -> Response:
        return _answer(services.add_extract(request.user, **body_of(request, ExtractBody)), 201)


class OneExtract(RoleView):
    needs = {"PATCH": "author"}

    @extend_schema(operation_id="extract", responses=ExtractView)
    def get(self, request: Request, name: str) -> Response:
        return _answer(services.extract_named(name))

    @extend_schema(operation_id="save_extract", request=ContentBody, responses=ExtractView)
    def patch(self, request: Request, name: str) -> Response:
        body: dict[str, Any] = body_of(request, ContentBody, partial=True)
        note = body.pop("change_note", "")
        return _answer(services.save_extract(request.user, name, _if_match(request), note, **body))


class ExtractRevisions(RoleView):
    @extend_schema(operation_id="revisions", responses=RevisionView(many=True))
    def get(self, request: Request, name: str) -> Response:
        found = services.extract_named(name).revisions.select_related("author", "source")
        return Response(RevisionView(found, many=True).data)


class ExtractMove(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="move_extract", request=MoveBody, responses=ExtractView)
    def post(self, request: Request, name: str) -> Response:
        body = body_of(request, MoveBody)
        return _answer(services.move_extract(name, body.get("folder"), body.get("name")))


class ExtractArchive(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="archive_extract", request=None, responses=ExtractView)
    def post(self, request: Request, name: str) -> Response:
        return _answer(services.archive_extract(name))


class ExtractRestore(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="restore_extract", request=RestoreBody, responses=ExtractView)
    def post(self, request: Request, name: str) -> Response:
        return _answer(services.restore_extract(request.user, name, body_of(request, RestoreBody).get("revision")))


class ExtractDependsOn(RoleView):
    """What the extract's scheduled runs wait for."""

    needs = {"PUT": "author"}

    @extend_schema(operation_id="set_depends_on", request=DependsOnBody, responses=ExtractView)
    def put(self, request: Request, name: str) -> Response:
        return _answer(services.set_depends_on(name, body_of(request, DependsOnBody)["depends_on"]))


class ExtractRetention(RoleView):
    """How long the extract's results are kept; the newest one always is."""

    needs = {"PUT": "author"}

    @extend_schema(operation_id="set_retention", request=RetentionBody, responses=ExtractView)
    def put(self, request: Request, name: str) -> Response:
        return _answer(services.set_retention(name, **body_of(request, RetentionBody)))


class ExtractDetails(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="edit_extract", request=DetailsBody, responses=ExtractView)
    def post(self, request: Request, name: str) -> Response:
        body = body_of(request, DetailsBody)
        return _answer(services.edit_extract(name, body.get("tags"), body.get("owner")))


class ExtractCopy(RoleView):
    """A new extract that begins as this one, on the same source or another of the same engine."""

    needs = {"POST": "author"}

    @extend_schema(operation_id="copy_extract", request=CopyBody, responses={201: ExtractView})
    def post(self, request: Request, name: str) -> Response:
        body = body_of(request, CopyBody)
        return _answer(services.copy_extract(request.user, name, body["name"], body.get("folder"), body.get("source")), 201)


class ExtractDifferences(RoleView):
    needs = {"GET": "author"}

    @extend_schema(
        operation_id="differences",
        parameters=[OpenApiParameter("before", int, required=True), OpenApiParameter("after", int, required=True)],
        responses=DifferencesView,
    )
    def get(self, request: Request, name: str) -> Response:
        numbers = []
        for key in ("before", "after"):
            numbers.append(number_in(request, key, least=1))
        return Response(DifferencesView(services.differences(services.extract_named(name), *numbers)).data)


class TextDifferences(RoleView):
    """Between any two texts: what two authors see who saved at the same time."""

    needs = {"POST": "author"}

    @extend_schema(operation_id="text_differences", request=TextsBody, responses=LineView(many=True))
    def post(self, request: Request) -> Response:
        body = body_of(request, TextsBody)
        return Response([line.to_dict() for line in judged(lines_between, body["before"], body["after"])])
