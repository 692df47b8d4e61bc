"""Browsing in a source over HTTP: its stored catalogue, and queries with an id each."""

from __future__ import annotations

import base64
import re
from typing import Any
from urllib.parse import quote

from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, OpenApiResponse, extend_schema, extend_schema_field
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.core.errors import BadInput, NotAllowed, NotFound, unknown_name
from patient_ladle.core.files.formats import get_format
from patient_ladle.core.files.output import OutputSettings
from patient_ladle.core.files.reading import small_file
from patient_ladle.core.results.columns import Column
from patient_ladle.core.statements.catalogue import find_table, full_name_of, names_of, references_to, search
from patient_ladle.core.statements.families import families_of
from patient_ladle.core.statements.views import PERIODS, TESTS
from patient_ladle.service.children.file_preview import profile_of_rows
from patient_ladle.service.children.judging import judged
from patient_ladle.service.common.api import RoleView, StrictSerializer, body_of, flag_in
from patient_ladle.service.common.caller import ForAuthors, sees_all
from patient_ladle.service.people.authentication import SignedIn, may, role_of

from . import interactive
from .api import CheckStepView
from .models import QUERY_STATES, Address, InteractiveQuery
from .queries import address_in, environment_named, source_named

SHOWN_INLINE = ("image/png", "image/jpeg", "image/gif", "image/webp")
"""Media that a browser may draw: raster images only, by their first bytes."""
MOST_FOUND = 200


class TableLine(serializers.Serializer[Any]):
    name = serializers.CharField(help_text="With its schema, where the engine has them.")
    kind = serializers.CharField()
    comment = serializers.CharField()
    rows_about = serializers.IntegerField(allow_null=True)
    columns = serializers.IntegerField()


class FamilyMember(serializers.Serializer[Any]):
    name = serializers.CharField()
    period = serializers.CharField(help_text="A month, 2026-11, or a day.")
    rows_about = serializers.IntegerField(allow_null=True)


class FamilyView(serializers.Serializer[Any]):
    name = serializers.CharField(help_text="That of its tables, with a star for the date.")
    rows_about = serializers.IntegerField(allow_null=True, help_text="Of all together.")
    members = FamilyMember(many=True, help_text="By period.")


class CatalogueView(serializers.Serializer[Any]):
    source = serializers.CharField()  # type: ignore[assignment]  # a field of that name
    environment = serializers.CharField()
    gathered_at = serializers.DateTimeField(allow_null=True, help_text="Null while it was never gathered.")
    gathering = serializers.BooleanField(help_text="It is being gathered anew at this moment.")
    tables = TableLine(many=True)
    families = FamilyView(many=True, help_text="Tables whose names differ by a date alone.")


class TableColumnView(serializers.Serializer[Any]):
    name = serializers.CharField()
    type = serializers.CharField()
    kind = serializers.CharField()
    nullable = serializers.BooleanField()
    default = serializers.CharField(allow_null=True)
    comment = serializers.CharField()


class ReferenceView(serializers.Serializer[Any]):
    columns = serializers.ListField(child=serializers.CharField())
    schema = serializers.CharField()
    table = serializers.CharField()
    to_columns = serializers.ListField(child=serializers.CharField())


class TableView(serializers.Serializer[Any]):
    name = serializers.CharField()
    schema = serializers.CharField()
    full_name = serializers.CharField(help_text="With its schema, also where that need not be said.")
    kind = serializers.CharField()
    comment = serializers.CharField()
    rows_about = serializers.IntegerField(allow_null=True)
    columns = TableColumnView(many=True)
    primary_key = serializers.ListField(child=serializers.CharField())
    unique_keys = serializers.ListField(child=serializers.ListField(child=serializers.CharField()))
    foreign_keys = ReferenceView(many=True)
    referenced_by = ReferenceView(many=True)
    indexes = serializers.ListField(child=serializers.CharField())


class FoundView(serializers.Serializer[Any]):
    source = serializers.CharField()  # type: ignore[assignment]  # a field of that name
    environment = serializers.CharField()
    table = serializers.CharField()
    kind = serializers.CharField()
    column = serializers.CharField()


class FilterBody(StrictSerializer):
    column = serializers.CharField()
    test = serializers.ChoiceField(list(TESTS))
    value = serializers.CharField(allow_blank=True, default="", trim_whitespace=False)


class QueryBody(StrictSerializer):
    environment = serializers.CharField(max_length=64)
    kind = serializers.ChoiceField(interactive.KINDS)
    table = serializers.CharField(required=False)
    filters = FilterBody(many=True, required=False)
    sort = serializers.CharField(required=False, allow_blank=True)
    descending = serializers.BooleanField(required=False)
    column = serializers.CharField(required=False)
    period = serializers.ChoiceField(["", *PERIODS], required=False)
    rows = serializers.IntegerField(required=False, min_value=1, max_value=interactive.MOST_ROWS)


class QueryError(serializers.Serializer[Any]):
    code = serializers.CharField()
    message = serializers.CharField()
    hint = serializers.CharField()
    transient = serializers.BooleanField()


class QueryColumn(serializers.Serializer[Any]):
    name = serializers.CharField()
    kind = serializers.CharField()
    source_type = serializers.CharField()


class BarView(serializers.Serializer[Any]):
    rows = serializers.IntegerField()

    def get_fields(self) -> dict[str, Any]:
        """``from`` is a word of the language."""
        ends = {"from": "The least number, or the first day.", "to": "The next bar begins there."}
        return {name: serializers.CharField(help_text=text) for name, text in ends.items()} | super().get_fields()


class ProfileView(serializers.Serializer[Any]):
    column = serializers.CharField()
    kind = serializers.CharField()
    rows = serializers.IntegerField()
    absent = serializers.IntegerField(help_text="Rows without a value.")
    distinct = serializers.IntegerField(allow_null=True, help_text="Different values; null where that cannot be told.")
    least = serializers.CharField(
        allow_null=True, help_text="Null where there is none, or the database tells none of the type."
    )
    greatest = serializers.CharField(allow_null=True, help_text="As with the least.")
    mean = serializers.CharField(allow_null=True, help_text="Of numbers alone.")
    commonest = serializers.ListField(
        child=serializers.ListField(child=serializers.JSONField()), help_text="Values and the rows that have them, ten at most."
    )
    bars = BarView(many=True, help_text="How the values spread.")
    bars_by = serializers.ChoiceField(["", "number", *PERIODS], help_text="What a bar is: a range of numbers, or a period.")
    complete = serializers.BooleanField(help_text="All the rows there are were looked at.")
    notes = serializers.ListField(child=serializers.CharField(), help_text="What could not be told, and why.")


class PlanStepView(serializers.Serializer[Any]):
    depth = serializers.IntegerField(help_text="What is deeper is done first, for the step after it.")
    said = serializers.CharField(help_text="In words.")
    rows = serializers.IntegerField(allow_null=True, help_text="About how many the database expects; null where it says none.")
    own = serializers.CharField(help_text="The database's own word.")
    table = serializers.CharField(help_text="Which it reads; empty: none.")
    whole = serializers.BooleanField(help_text="It reads all of that table.")


class PlanView(serializers.Serializer[Any]):
    steps = PlanStepView(many=True)
    cost = serializers.FloatField(
        allow_null=True, help_text="In units of the database's own, to compare two statements by; null where it says none."
    )
    warnings = serializers.ListField(child=serializers.CharField(), help_text="Large tables that are read whole.")
    text = serializers.CharField(help_text="The plan as the database tells it.")


class StepRows(serializers.Serializer[Any]):
    number = serializers.IntegerField(help_text="Its place among all steps, from 1.")
    name = serializers.CharField(help_text="Its name, or what it does.")
    step = serializers.CharField(help_text="Its kind.")
    rows_in = serializers.IntegerField(help_text="Before it.")
    rows_out = serializers.IntegerField(help_text="After it.")
    unmatched = serializers.IntegerField(required=False, help_text="Of a look up: rows that met nothing.")


class ShapedRows(serializers.Serializer[Any]):
    fetched = serializers.IntegerField(help_text="Rows that came from the source.")
    steps = StepRows(many=True, help_text="What each step did to them.")


class LoadedInput(serializers.Serializer[Any]):
    name = serializers.CharField()
    rows = serializers.IntegerField()


class QueryResult(serializers.Serializer[Any]):
    columns = QueryColumn(many=True, required=False)
    rows = serializers.ListField(
        child=serializers.ListField(child=serializers.JSONField(allow_null=True)),
        required=False,
        help_text="Cells: a text, null, {text, characters} for a long text, {bytes, media} for a binary value.",
    )
    notes = serializers.ListField(child=serializers.CharField(), required=False, help_text="What to mind in these rows.")
    complete = serializers.BooleanField(required=False, help_text="These are all the rows there are.")
    first_seconds = serializers.FloatField(required=False)
    seconds = serializers.FloatField(required=False)
    identity = serializers.DictField(child=serializers.CharField(), required=False)
    steps = CheckStepView(many=True, required=False)
    inputs = LoadedInput(many=True, required=False, help_text="What was loaded of each input of a combination.")
    shaped = ShapedRows(required=False, help_text="How the rows went through the steps.")
    profile = ProfileView(required=False, help_text="A column at a glance.")
    plan = PlanView(required=False, help_text="How the database means to carry the statement out.")
    statement = serializers.CharField(required=False, help_text="Of a profile: what was asked for it.")
    tables = serializers.IntegerField(required=False, help_text="Of a catalogue: how many there are.")


class QueryView(ForAuthors):
    id = serializers.CharField()
    source = serializers.SerializerMethodField(help_text="Empty: it reads none, or what its inputs read.")  # type: ignore[assignment]  # a field of that name
    environment = serializers.SerializerMethodField()
    kind = serializers.ChoiceField((*interactive.KINDS, *interactive.OF_STATEMENTS))
    state = serializers.ChoiceField(QUERY_STATES)
    cancel_asked = serializers.BooleanField()
    statement = serializers.SerializerMethodField()
    parameters = serializers.SerializerMethodField()
    values = serializers.SerializerMethodField()
    active_filters = serializers.SerializerMethodField()
    asked_at = serializers.DateTimeField()
    ended_at = serializers.DateTimeField(allow_null=True)
    error = QueryError(allow_null=True)
    result = serializers.SerializerMethodField()

    def get_source(self, found: InteractiveQuery) -> str:
        return found.source.name if found.source else ""

    def get_environment(self, found: InteractiveQuery) -> str:
        return found.address.environment.name if found.address else str(found.request.get("environment", ""))

    def get_statement(self, found: InteractiveQuery) -> str:
        hidden = found.kind in interactive.OF_STATEMENTS and not sees_all()
        return "" if hidden else str(found.request.get("statement", ""))

    def get_parameters(self, found: InteractiveQuery) -> list[dict[str, Any]]:
        return list(found.request.get("parameters") or [])

    def get_values(self, found: InteractiveQuery) -> dict[str, str]:
        return dict(found.request.get("values") or {})

    def get_active_filters(self, found: InteractiveQuery) -> list[str]:
        return list(found.request.get("active_filters") or [])

    @extend_schema_field(QueryResult(allow_null=True))
    def get_result(self, found: InteractiveQuery) -> dict[str, Any] | None:
        if found.result is None:
            return None
        told = found.result if sees_all() else {key: value for key, value in found.result.items() if key != "identity"}
        return told if "rows" not in told else told | {"rows": [[_shown(cell) for cell in row] for row in found.result["rows"]]}


def _shown(cell: Any) -> Any:
    if not isinstance(cell, dict):
        return cell
    kept = cell.get("data") is not None
    return {key: value for key, value in cell.items() if key != "data"} | {"kept": kept}


def _address(request: SignedIn, name: str) -> Address:
    return address_in(source_named(name), environment_named(request.query_params.get("environment", "")))


_ENVIRONMENT = OpenApiParameter("environment", str, required=True)


class Catalogue(RoleView):
    needs = {"GET": "runner"}

    @extend_schema(operation_id="catalogue", parameters=[_ENVIRONMENT], responses=CatalogueView)
    def get(self, request: SignedIn, name: str) -> Response:
        address = _address(request, name)
        tables = [
            {key: table[key] for key in ("kind", "comment", "rows_about")}
            | {"name": names_of(table), "columns": len(table["columns"])}
            for table in address.catalogue or []
        ]
        return Response(
            {
                "source": name,
                "environment": address.environment.name,
                "gathered_at": address.catalogue_at,
                "gathering": interactive.refreshed_if_stale(request.user, address),
                "tables": tables,
                "families": [family.to_dict() for family in families_of(tables)],
            }
        )


class OneTable(RoleView):
    needs = {"GET": "runner"}

    @extend_schema(operation_id="table", parameters=[_ENVIRONMENT], responses=TableView)
    def get(self, request: SignedIn, name: str, table: str) -> Response:
        catalogue = interactive.catalogue_of(_address(request, name))
        found = find_table(catalogue, table)
        names = {"name": names_of(found), "full_name": full_name_of(found)}
        return Response(TableView({**found, **names, "referenced_by": references_to(catalogue, found)}).data)


class CatalogueSearch(RoleView):
    """Tables and columns by name, in every source that was browsed."""

    needs = {"GET": "runner"}

    @extend_schema(
        operation_id="search_catalogues",
        parameters=[OpenApiParameter("search", str, required=True), OpenApiParameter("environment", str)],
        responses=FoundView(many=True),
    )
    def get(self, request: SignedIn) -> Response:
        word = request.query_params.get("search", "").strip()
        if len(word) < 2:
            raise BadInput("the word to search for has fewer than two letters.", "Give two letters or more.")
        addresses = (
            Address.objects.defer(None)
            .exclude(catalogue=None)
            .select_related("source", "environment")
            .order_by("source__name", "environment_id")
        )
        wanted = request.query_params.get("environment")
        if wanted:
            addresses = addresses.filter(environment=environment_named(wanted))
        found: list[dict[str, str]] = []
        for address in addresses:
            place = {"source": address.source.name, "environment": address.environment.name}
            found += [place | item for item in search(address.catalogue or [], word)]
        return Response(found[:MOST_FOUND])


class Queries(RoleView):
    needs = {"POST": "runner"}

    @extend_schema(operation_id="start_query", request=QueryBody, responses={202: QueryView})
    def post(self, request: SignedIn, name: str) -> Response:
        body = body_of(request, QueryBody)
        if body["kind"] == "check" and not may(role_of(request), "author"):
            raise NotAllowed("a check needs the role author.", "Ask somebody who has it.")
        return Response(QueryView(interactive.ask(request.user, name, body)).data, status=202)


class OneQuery(RoleView):
    needs = {"GET": "runner"}

    @extend_schema(operation_id="query", responses=QueryView)
    def get(self, request: SignedIn, number: str) -> Response:
        return Response(QueryView(interactive.query_numbered(request.user, role_of(request), number)).data)


class QueryCancel(RoleView):
    needs = {"POST": "runner"}

    @extend_schema(operation_id="cancel_query", request=None, responses=QueryView)
    def post(self, request: SignedIn, number: str) -> Response:
        return Response(QueryView(interactive.cancel(request.user, role_of(request), number)).data)


class QueryProfile(RoleView):
    """A column of the rows that a query brought, at a glance."""

    needs = {"GET": "runner"}

    @extend_schema(
        operation_id="query_profile",
        parameters=[OpenApiParameter("column", str, required=True, description="Its name in the result.")],
        responses=ProfileView,
    )
    def get(self, request: SignedIn, number: str) -> Response:
        found = interactive.query_numbered(request.user, role_of(request), number).result or {}
        if "rows" not in found:
            raise NotFound("this query has no rows.", "Ask for some first.")
        wanted = request.query_params.get("column", "")
        names = [column["name"] for column in found["columns"]]
        if wanted not in names:
            raise unknown_name("column", wanted, names)
        place = names.index(wanted)
        texts = [text_of(row[place]) for row in found["rows"]]
        told = judged(profile_of_rows, wanted, found["columns"][place]["kind"], texts, found["complete"])
        return Response(ProfileView(told).data)


def text_of(cell: Any) -> str | None:
    """A cell as it is kept: a long text whole where it is, a binary value as base64."""
    return str(cell.get("data") or cell.get("text") or "") if isinstance(cell, dict) else cell


class QueryFileBody(StrictSerializer):
    format = serializers.CharField()
    rows = serializers.ListField(
        child=serializers.IntegerField(min_value=0),
        required=False,
        help_text="Which rows, from 0, in this order; all unless said.",
    )
    columns = serializers.ListField(
        child=serializers.IntegerField(min_value=0), required=False, help_text="Which columns, from 0, in this order."
    )
    escape_formulas = serializers.BooleanField(
        default=False,
        help_text="An apostrophe before texts that a spreadsheet takes for a formula, where the format has that.",
    )


class QueryFile(RoleView):
    """Some of the rows that a query brought, as a small file: a look, and not the whole result."""

    needs = {"POST": "runner"}

    @extend_schema(
        operation_id="query_file",
        request=QueryFileBody,
        responses={(200, "application/octet-stream"): OpenApiResponse(OpenApiTypes.BINARY)},
    )
    def post(self, request: SignedIn, number: str) -> HttpResponse:
        body = body_of(request, QueryFileBody)
        query = interactive.query_numbered(request.user, role_of(request), number)
        found = query.result or {}
        if "rows" not in found:
            raise NotFound("this query has no rows.", "Ask for some first.")
        lines, places = _chosen(body, "rows", len(found["rows"])), _chosen(body, "columns", len(found["columns"]))
        columns = [Column(c["name"], c["kind"], c["source_type"]) for c in (found["columns"][place] for place in places)]
        for line in lines:
            for place in places:
                cell = found["rows"][line][place]
                if isinstance(cell, dict) and cell.get("data") is None:
                    name = found["columns"][place]["name"]
                    raise BadInput(
                        f"the value of {name} in row {line + 1} is too large to be kept for a look.",
                        "Leave that column out, or run it as an extract.",
                    )
        rows = [[text_of(found["rows"][line][place]) for place in places] for line in lines]
        form = get_format(body["format"])
        known = {option.name for option in form.options}
        given = {"escape_formulas": True} if body["escape_formulas"] and "escape_formulas" in known else {}
        settings = OutputSettings.from_dict({"formats": {form.name: given}} if given else {})
        data, _ = judged(small_file, columns, rows, form.name, settings)
        stem = re.sub(r"[^\w.-]+", "-", str(query.request.get("table") or (query.source.name if query.source else "result")))
        response = HttpResponse(data, content_type=form.media_type)
        name = quote(f"{stem}-look{form.extension}")
        response["Content-Disposition"] = f"attachment; filename*=UTF-8''{name}"
        response["Content-Security-Policy"] = "sandbox"
        return response


def _chosen(body: dict[str, Any], what: str, count: int) -> list[int]:
    """Places that are there. Raises BadInput."""
    wanted = body.get(what)
    if wanted is None:
        return list(range(count))
    beyond = [each for each in wanted if each >= count]
    if beyond or not wanted:
        said = f"there is no {what[:-1]} {beyond[0]}: there are {count}, from 0" if beyond else f"no {what} were named"
        raise BadInput(f"{said}.", f"Give {what} that are there, or leave them out for all.")
    return [int(each) for each in wanted]


class QueryCell(RoleView):
    """One long or binary value: a raster image to be shown with ``inline``, else a download."""

    needs = {"GET": "runner"}

    @extend_schema(
        operation_id="query_cell",
        parameters=[OpenApiParameter("inline", bool)],
        responses={(200, "application/octet-stream"): OpenApiResponse(OpenApiTypes.BINARY)},
    )
    def get(self, request: SignedIn, number: str, row: int, column: int) -> HttpResponse:
        found = interactive.query_numbered(request.user, role_of(request), number)
        try:
            result = found.result or {}
            cell, name = result["rows"][row][column], result["columns"][column]["name"]
        except (TypeError, KeyError, IndexError):
            raise NotFound("there is no such value in this query.", "Ask again.") from None
        if not isinstance(cell, dict) or cell.get("data") is None:
            raise NotFound(
                "this value is not kept apart: it is short, or too large to be looked at here.", "Run it as an extract."
            )
        text = "text" in cell
        data = cell["data"].encode() if text else base64.b64decode(cell["data"])
        media = "text/plain; charset=utf-8" if text else cell["media"]
        inline = flag_in(request, "inline") and media in SHOWN_INLINE
        response = HttpResponse(data, content_type=media)
        extension = "txt" if text else media.rpartition("/")[2].replace("octet-stream", "bin")
        disposition = "inline" if inline else "attachment"
        response["Content-Disposition"] = f"{disposition}; filename*=UTF-8''{quote(name)}-{row + 1}.{extension}"
        response["Content-Security-Policy"] = "sandbox"
        return response
