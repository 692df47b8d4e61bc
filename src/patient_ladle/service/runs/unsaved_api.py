"""Runs of what is not saved, over HTTP."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.core.errors import BadInput, NotAllowed
from patient_ladle.service.common.api import DayField, RoleView, StatementField, StrictSerializer, body_of
from patient_ladle.service.common.caller import sees_all
from patient_ladle.service.people.authentication import SignedIn

from . import api
from .services import start_run_once
from .unsaved import start_unsaved


class UnsavedBody(StrictSerializer):
    source = serializers.CharField(max_length=64, allow_blank=True, help_text="Empty: it reads none.")  # type: ignore[assignment]  # a field of that name
    environment = serializers.CharField(required=False, allow_blank=True, max_length=64, help_text="Default: the first one.")
    statement = StatementField(required=False, help_text="For authors; or else a table.")
    parameters = serializers.ListField(child=serializers.DictField(), required=False, help_text="Of the statement.")
    inputs = serializers.ListField(
        child=serializers.DictField(), required=False, help_text="What the statement combines, without a source."
    )
    steps = serializers.ListField(child=serializers.DictField(), required=False, help_text="On the statement's result.")
    table = serializers.CharField(required=False, max_length=200, help_text="All rows of it, instead of a statement.")
    filters = serializers.ListField(child=serializers.DictField(), required=False, help_text="Of the table's rows.")
    sort = serializers.CharField(required=False, allow_blank=True, help_text="The table's column that its rows are sorted by.")
    descending = serializers.BooleanField(required=False, help_text="Of the sort.")
    values = serializers.DictField(required=False, help_text="Of the parameters.")
    data_date = DayField(required=False)
    formats = serializers.ListField(child=serializers.CharField(max_length=32), required=False)
    file_name = serializers.CharField(required=False, max_length=200, help_text="A template, as an extract has it.")
    output = serializers.DictField(required=False, help_text="Output settings, as an extract has them.")

    def validate(self, given: dict[str, Any]) -> dict[str, Any]:
        if bool(given.get("statement")) == bool(given.get("table")):
            raise BadInput("a statement or a table is run, one of the two.", "Give one of them.")
        others = [key for key in ("filters", "sort", "descending") if given.get(key)]
        if given.get("statement") and others:
            raise BadInput(f"{', '.join(others)} belong to a table.", "Write them into the statement, or give a table.")
        if given.get("table") and given.get("steps"):
            raise BadInput("steps belong to a statement.", "Give a statement, or leave the steps out.")
        return given


class UnsavedRuns(RoleView):
    needs = {"POST": "runner"}

    @extend_schema(
        operation_id="start_unsaved_run",
        request=UnsavedBody,
        parameters=[OpenApiParameter("Idempotency-Key", str, OpenApiParameter.HEADER)],
        responses={201: api.RunView, 200: api.RunView},
    )
    def post(self, request: SignedIn) -> Response:
        body = body_of(request, UnsavedBody)
        if body.get("statement") and not sees_all():
            raise NotAllowed("a statement of one's own needs the role author.", "Run a saved extract, or ask an administrator.")
        run, new = start_run_once(request.user, body, request.headers.get("Idempotency-Key", ""), start_unsaved)
        return Response(api.RunView(api.one_run(run.pk)).data, status=201 if new else 200)
