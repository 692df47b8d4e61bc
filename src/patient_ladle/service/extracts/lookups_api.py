"""Lookups over HTTP. ``ETag`` and ``If-Match`` carry the revision number."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, OpenApiResponse, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.core.steps.lookup_tables import as_csv
from patient_ladle.core.steps.lookups import TYPES
from patient_ladle.service.common.api import RoleView, StrictSerializer, body_of, flag_in, number_in
from patient_ladle.service.lookups import services
from patient_ladle.service.lookups.models import Lookup
from patient_ladle.service.people.authentication import SignedIn

from .api import number_of_if_match
from .steps import columns_used_of, users_of

ROWS_OF_A_PAGE = 1_000
OF_REVISION = OpenApiParameter("revision", int, description="Its number; the newest unless said.")


class LookupColumn(serializers.Serializer[Any]):
    name = serializers.CharField()
    kind = serializers.ChoiceField(list(TYPES))


class LookupRevisionView(serializers.Serializer[Any]):
    number = serializers.IntegerField()
    author = serializers.CharField(source="author.name")
    saved_at = serializers.DateTimeField()
    change_note = serializers.CharField()
    columns = LookupColumn(many=True)
    key = serializers.ListField(child=serializers.CharField(), help_text="No two rows are equal in these columns.")
    rows = serializers.IntegerField(help_text="How many there are.")


class LookupView(serializers.Serializer[Any]):
    name = serializers.CharField()
    note = serializers.CharField()
    owner = serializers.CharField(source="owner.name")
    archived_at = serializers.DateTimeField(allow_null=True)
    used_by = serializers.SerializerMethodField(help_text="Names of extracts, by their steps, guards, inputs and parameters.")
    revision = LookupRevisionView(source="head")

    def get_used_by(self, lookup: Lookup) -> list[str]:
        return users_of(lookup.name)


class LookupRowsView(serializers.Serializer[Any]):
    revision = serializers.IntegerField()
    columns = LookupColumn(many=True)
    key = serializers.ListField(child=serializers.CharField(), help_text="No two rows are equal in these columns.")
    total = serializers.IntegerField(help_text="Of the rows that were asked for, on all pages.")
    rows = serializers.ListField(
        child=serializers.ListField(child=serializers.CharField(allow_null=True)), help_text="Canonical texts."
    )


class ChangedRow(serializers.Serializer[Any]):
    before = serializers.ListField(child=serializers.CharField(allow_null=True))
    after = serializers.ListField(child=serializers.CharField(allow_null=True))


class LookupDifferencesView(serializers.Serializer[Any]):
    columns = serializers.ListField(child=serializers.CharField(), help_text="Of the rows that follow.")
    added = serializers.ListField(
        child=serializers.ListField(child=serializers.CharField(allow_null=True)), help_text="Rows that are new."
    )
    removed = serializers.ListField(
        child=serializers.ListField(child=serializers.CharField(allow_null=True)), help_text="Rows that are gone."
    )
    changed = ChangedRow(many=True, help_text="Rows of one key that differ.")
    settings = serializers.ListField(child=serializers.CharField(), help_text="What else differs, in words.")


class LookupBody(StrictSerializer):
    note = serializers.CharField(required=False, allow_blank=True)
    change_note = serializers.CharField(allow_blank=True, default="")
    text = serializers.CharField(
        required=False, allow_blank=True, trim_whitespace=False,
        help_text="The whole table: a line of names, then a line for each row; between values tabs, commas or semicolons.",
    )  # fmt: skip
    columns = serializers.ListField(child=serializers.CharField(), required=False, help_text="With rows: their names.")
    rows = serializers.ListField(child=serializers.ListField(), required=False, help_text="The whole table, instead of text.")
    kinds = serializers.DictField(
        child=serializers.ChoiceField(list(TYPES)), required=False, help_text="Of columns; default: what all values prove."
    )
    key = serializers.ListField(child=serializers.CharField(), required=False, help_text="Default: the first column.")
    put = serializers.ListField(
        child=serializers.DictField(), required=False, help_text="Rows by column, changed or added by their key."
    )
    remove = serializers.ListField(
        child=serializers.JSONField(),
        required=False,
        help_text="Keys of rows that go; a list of values where the key has several.",
    )


class NewLookupBody(LookupBody):
    name = serializers.CharField(max_length=64)


class RestoreLookupBody(StrictSerializer):
    revision = serializers.IntegerField(required=False, min_value=1)


def _answer(lookup: Lookup, status: int = 200) -> Response:
    return Response(LookupView(lookup).data, status=status, headers={"ETag": f'"{lookup.number}"'})


class Lookups(RoleView):
    needs = {"POST": "author"}

    @extend_schema(
        operation_id="lookups",
        parameters=[OpenApiParameter("archived", bool, description="Those out of sight instead.")],
        responses=LookupView(many=True),
    )
    def get(self, request: SignedIn) -> Response:
        archived = request.query_params.get("archived") == "true"
        found = Lookup.objects.filter(archived_at__isnull=not archived).select_related("owner")
        return Response(LookupView(found, many=True).data)

    @extend_schema(operation_id="add_lookup", request=NewLookupBody, responses={201: LookupView})
    def post(self, request: SignedIn) -> Response:
        body = body_of(request, NewLookupBody)
        name, note, change_note = body.pop("name"), body.pop("note", ""), body.pop("change_note")
        return _answer(services.add_lookup(request.user, name, note, change_note, body), 201)


def _used(name: str) -> dict[str, list[str]]:
    return columns_used_of(name, [column["name"] for column in services.lookup_named(name).head.columns])


class OneLookup(RoleView):
    needs = {"PATCH": "author"}

    @extend_schema(operation_id="lookup", responses=LookupView)
    def get(self, request: SignedIn, name: str) -> Response:
        return _answer(services.lookup_named(name))

    @extend_schema(operation_id="save_lookup", request=LookupBody, responses=LookupView)
    def patch(self, request: SignedIn, name: str) -> Response:
        body = body_of(request, LookupBody, partial=True)
        note = body.pop("change_note", "")
        return _answer(services.save_lookup(request.user, name, number_of_if_match(request), note, body, _used))


class LookupArchive(RoleView):
    """Out of sight, where no extract uses it; nothing is lost."""

    needs = {"POST": "author"}

    @extend_schema(operation_id="archive_lookup", request=None, responses=LookupView)
    def post(self, request: SignedIn, name: str) -> Response:
        return _answer(services.archive_lookup(name, users_of(name)))


class LookupRows(RoleView):
    """Rows of a lookup, a page at a time; ``find``: those with such a text in any column."""

    @extend_schema(
        operation_id="lookup_rows",
        parameters=[
            OF_REVISION,
            OpenApiParameter("offset", int, description="Rows before the first one wanted."),
            OpenApiParameter("limit", int, description=f"At most so many, {ROWS_OF_A_PAGE:,} unless said."),
            OpenApiParameter("find", str, description="Only rows with such a text in any column."),
        ],
        responses=LookupRowsView,
    )
    def get(self, request: SignedIn, name: str) -> Response:
        number = number_in(request, "revision", 0)
        found = services.revision_numbered(services.lookup_named(name), number or None)
        table, wanted = found.table(), request.query_params.get("find", "").lower()
        rows = [row for row in table.rows if not wanted or any(wanted in (cell or "").lower() for cell in row)]
        start = number_in(request, "offset", 0)
        limit = number_in(request, "limit", ROWS_OF_A_PAGE, 1, ROWS_OF_A_PAGE)
        return Response(
            {
                "revision": found.number, "columns": found.columns, "key": found.key, "total": len(rows),
                "rows": rows[start : start + limit],
            }
        )  # fmt: skip


class LookupRevisions(RoleView):
    @extend_schema(operation_id="lookup_revisions", responses=LookupRevisionView(many=True))
    def get(self, request: SignedIn, name: str) -> Response:
        found = services.lookup_named(name).revisions.select_related("author").defer("content")
        return Response(LookupRevisionView(found, many=True).data)


class LookupRestore(RoleView):
    """Back from the archive, or an earlier revision made the newest."""

    needs = {"POST": "author"}

    @extend_schema(operation_id="restore_lookup", request=RestoreLookupBody, responses=LookupView)
    def post(self, request: SignedIn, name: str) -> Response:
        return _answer(services.restore_lookup(request.user, name, body_of(request, RestoreLookupBody).get("revision"), _used))


class LookupDifferences(RoleView):
    """Between two revisions: rows by their key, and what else differs."""

    @extend_schema(
        operation_id="lookup_differences",
        parameters=[
            OpenApiParameter("before", int, required=True, description="The number of the earlier revision."),
            OpenApiParameter("after", int, required=True, description="The number of the later one."),
        ],
        responses=LookupDifferencesView,
    )
    def get(self, request: SignedIn, name: str) -> Response:
        before, after = (number_in(request, key, least=1) for key in ("before", "after"))
        return Response(services.differences(name, before, after).to_dict())


class LookupFile(RoleView):
    """The whole lookup as comma-separated text, to be edited elsewhere and saved again."""

    @extend_schema(
        operation_id="lookup_file",
        parameters=[
            OF_REVISION,
            OpenApiParameter(
                "escape_formulas",
                bool,
                description="An apostrophe before texts that a spreadsheet takes for a formula; not to be saved again.",
            ),
        ],
        responses={(200, "text/csv"): OpenApiResponse(OpenApiTypes.BINARY)},
    )
    def get(self, request: SignedIn, name: str) -> HttpResponse:
        number = number_in(request, "revision", 0)
        table = services.revision_numbered(services.lookup_named(name), number or None).table()
        made = HttpResponse(as_csv(table, flag_in(request, "escape_formulas")), content_type="text/csv; charset=utf-8")
        made["Content-Disposition"] = f'attachment; filename="{name}.csv"'
        return made
