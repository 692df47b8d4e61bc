"""Extracts and their revisions over HTTP. ``ETag`` and ``If-Match`` carry the revision number."""

from __future__ import annotations

from typing import Any

from django.db.models import F, Q
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.request import Request
from rest_framework.response import Response

from patient_ladle.core.errors import BadInput
from patient_ladle.core.parameters import TYPES
from patient_ladle.service.common.api import RoleView, StrictSerializer, body_of

from . import services
from .models import Extract, with_heads


class ParameterView(serializers.Serializer):
    name = serializers.CharField()
    type = serializers.ChoiceField(list(TYPES))
    many = serializers.BooleanField()
    required = serializers.BooleanField()
    default = serializers.JSONField(allow_null=True)
    allowed = serializers.ListField(child=serializers.JSONField())
    note = serializers.CharField()
    labels = serializers.DictField(child=serializers.CharField(), default=dict)
    choices = serializers.DictField(child=serializers.CharField(), default=dict)
    least = serializers.JSONField(allow_null=True, default=None)
    most = serializers.JSONField(allow_null=True, default=None)
    pattern = serializers.CharField(default="")
    private = serializers.BooleanField(default=False)
    shared = serializers.CharField(default="")


class RevisionView(serializers.Serializer):
    number = serializers.IntegerField()
    author = serializers.CharField(source="author.name")
    saved_at = serializers.DateTimeField()
    change_note = serializers.CharField()
    source = serializers.CharField(source="source.name")
    statement = serializers.CharField()
    parameters = ParameterView(many=True)
    formats = serializers.ListField(child=serializers.CharField())
    file_name = serializers.CharField()
    deliver_into = serializers.CharField()
    notes = serializers.CharField()


class ExtractLine(serializers.Serializer):
    name = serializers.CharField()
    folder = serializers.CharField()
    owner = serializers.CharField(source="owner.name")
    number = serializers.IntegerField()
    archived_at = serializers.DateTimeField(allow_null=True)
    source = serializers.CharField(source="head.source.name")
    notes = serializers.CharField(source="head.notes")
    saved_at = serializers.DateTimeField(source="head.saved_at")


class ExtractView(serializers.Serializer):
    name = serializers.CharField()
    folder = serializers.CharField()
    owner = serializers.CharField(source="owner.name")
    archived_at = serializers.DateTimeField(allow_null=True)
    revision = RevisionView(source="head")


class ContentBody(StrictSerializer):
    source = serializers.CharField(max_length=64)
    statement = serializers.CharField(trim_whitespace=False)
    parameters = serializers.ListField(child=serializers.DictField(), required=False)
    formats = serializers.ListField(child=serializers.CharField(max_length=32), required=False)
    file_name = serializers.CharField(required=False, allow_blank=True, max_length=200)
    deliver_into = serializers.CharField(required=False, allow_blank=True, max_length=500)
    notes = serializers.CharField(required=False, allow_blank=True)
    change_note = serializers.CharField(allow_blank=True, default="")
    bring_back = serializers.BooleanField(
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
    if not given.isdigit():
        raise BadInput(f"If-Match was given '{given}', which is not a revision number.", "Send the ETag you were given.")
    return int(given)


class Extracts(RoleView):
    needs = {"POST": "author"}

    @extend_schema(
        operation_id="extracts",
        parameters=[
            OpenApiParameter("search", str, description="In names, folders, notes and statements."),
            OpenApiParameter("folder", str),
            OpenApiParameter("archived", bool),
        ],
        responses=ExtractLine(many=True),
    )
    def get(self, request: Request) -> Response:
        given = request.query_params
        found = Extract.objects.select_related("owner").filter(archived_at__isnull=given.get("archived") != "true")
        if given.get("folder"):
            found = found.filter(Q(folder=given["folder"]) | Q(folder__startswith=given["folder"] + "/"))
        if given.get("search"):
            word = given["search"]
            said = Q(revisions__statement__icontains=word) | Q(revisions__notes__icontains=word)
            in_head = Q(revisions__number=F("number")) & said
            found = found.filter(Q(name__icontains=word) | Q(folder__icontains=word) | in_head).distinct()
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
