"""Outlines over HTTP: compiled, completed with joins, read back from a statement, counted step by step."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.core.errors import BadInput
from patient_ladle.core.statements.catalogue import find_table
from patient_ladle.core.statements.outlines.base import Compiled, Remark
from patient_ladle.core.statements.outlines.outline import path_of, schema
from patient_ladle.core.values.parameters import Parameter
from patient_ladle.service.children.judging import judged
from patient_ladle.service.common.api import RoleView, StatementField, StrictSerializer, body_of
from patient_ladle.service.people.authentication import SignedIn
from patient_ladle.service.sources.models import Address, Source
from patient_ladle.service.sources.queries import environment_named, source_named
from patient_ladle.service.sources.reading import Reading, language_of

from . import outlines
from .api import ParameterView
from .diagnostics import diagnose


class _At(StrictSerializer):
    source = serializers.CharField(max_length=64, allow_blank=True, help_text="Empty: it reads none.")  # type: ignore[assignment]  # a field of that name
    environment = serializers.CharField(max_length=64)


class OutlineBody(_At):
    outline = serializers.DictField(help_text="As its schema has it: /outline-schema.")
    parameters = serializers.ListField(
        child=serializers.DictField(), required=False, help_text="What the extract declares; the outline may bring others."
    )


class CompileBody(OutlineBody):
    ask = serializers.BooleanField(default=False, help_text="Ask the database for its own word on the statement, too.")


class JoinsBody(OutlineBody):
    table = serializers.CharField(max_length=200, help_text="The one to be joined.")
    alias = serializers.CharField(max_length=64, required=False, allow_blank=True, help_text="Its short name.")


class ReadBody(_At):
    statement = StatementField(help_text="One select by hand.")
    parameters = serializers.ListField(child=serializers.DictField(), required=False, help_text="What the extract declares.")


class WholeTablesBody(_At):
    tables = serializers.ListField(child=serializers.CharField(max_length=200), help_text="Their names.")
    labels = serializers.BooleanField(default=False, help_text="Beside each key of another table, that one's name of the row.")


class LookBody(_At):
    table = serializers.CharField(max_length=200)
    filters = serializers.ListField(child=serializers.DictField(), required=False, help_text="As a look at rows has them.")
    sort = serializers.CharField(required=False, allow_blank=True, help_text="A column.")
    descending = serializers.BooleanField(required=False, help_text="Of the sort.")
    columns = serializers.ListField(child=serializers.CharField(), required=False, help_text="Those wanted; default: all.")
    as_parameters = serializers.BooleanField(default=False, help_text="The filters' values become parameters with defaults.")


class RemarkView(serializers.Serializer[Any]):
    severity = serializers.ChoiceField(["error", "warning", "note"], help_text="With an error there is no statement.")
    code = serializers.CharField()
    message = serializers.CharField()
    hint = serializers.CharField()
    where = serializers.CharField(help_text="The part of the outline: show[1], where.all[0]; empty: none in particular.")
    part = serializers.CharField(help_text="The same in words, counted from 1.")


class CompiledView(serializers.Serializer[Any]):
    statement = serializers.CharField(help_text="Empty where there is an error.")
    parameters = ParameterView(many=True, help_text="The declared ones with those that the outline brings.")
    remarks = RemarkView(many=True, help_text="What is to be said of it, errors first.")
    asked = serializers.BooleanField(help_text="The database gave its own word.")


class JoinProposalView(serializers.Serializer[Any]):
    joins = serializers.ListField(child=serializers.DictField(), help_text="One, or several over other tables.")
    why = serializers.ChoiceField(["foreign_key", "equal_names"], help_text="What tells that they belong together.")


class OutlineReadView(serializers.Serializer[Any]):
    outline = serializers.DictField(help_text="As its schema has it: /outline-schema.")
    statement = serializers.CharField(help_text="What it compiles to; laid out otherwise than by hand, perhaps.")


class CountedStepView(serializers.Serializer[Any]):
    name = serializers.CharField(help_text="The column of the statement.")
    where = serializers.CharField(help_text="After which part of the outline.")
    part = serializers.CharField(help_text="The same in words.")
    what = serializers.ChoiceField(
        ["rows", "times"], help_text="rows: how many there are then; times: how often at most one row meets others there."
    )


class CountingView(serializers.Serializer[Any]):
    statement = serializers.CharField(help_text="Preview it: one row, with a column for each step.")
    parameters = ParameterView(many=True)
    steps = CountedStepView(many=True)


class LookedView(serializers.Serializer[Any]):
    outline = serializers.DictField(help_text="As its schema has it: /outline-schema.")
    statement = serializers.CharField()
    parameters = ParameterView(many=True)


class StatementsView(serializers.Serializer[Any]):
    statement = serializers.CharField(help_text="One for each table, under its name.")


def _place(body: dict[str, Any]) -> tuple[Source | None, Address | None]:
    source = source_named(body["source"]) if body["source"] else None
    return source, Reading(source, environment_named(body["environment"])).address()


def _source(body: dict[str, Any]) -> tuple[Source, Address | None]:
    source, address = _place(body)
    if source is None:
        raise BadInput("an extract without a source has no tables.", "Name a source.")
    return source, address


def _declared(body: dict[str, Any]) -> list[Parameter]:
    return [Parameter.from_dict(item) for item in body.get("parameters") or []]


class OutlineCompile(RoleView):
    """The statement of an outline, and what is to be said of it; nothing is saved."""

    needs = {"POST": "author"}

    @extend_schema(operation_id="compile_outline", request=CompileBody, responses=CompiledView)
    def post(self, request: SignedIn) -> Response:
        body = body_of(request, CompileBody)
        source, address = _place(body)
        made = outlines.compile_outline(source, body["outline"], _declared(body), address)
        remarks = [each.to_dict() for each in made.remarks]
        if made.compiled is None:
            return Response({"statement": "", "parameters": [], "remarks": remarks, "asked": False})
        compiled = made.compiled
        parameters = outlines.merged(body.get("parameters") or [], compiled.parameters, compiled.statement)
        asked = False
        if body["ask"]:
            said = diagnose(request.user, address, compiled.statement, parameters)
            asked = said["asked"]
            remarks += _of_the_database(compiled, said["diagnostics"])
        told = ParameterView([Parameter.from_dict(each).to_dict() for each in parameters], many=True).data
        return Response({"statement": compiled.statement, "parameters": told, "remarks": remarks, "asked": asked})


def _of_the_database(compiled: Compiled, diagnostics: Sequence[dict[str, Any]]) -> list[dict[str, Any]]:
    """What is said of lines and columns, at the parts that these come from."""
    lines = compiled.statement.split("\n")
    made = []
    for each in diagnostics:
        if each["code"] == "parameter_unused":
            continue
        position = sum(len(line) + 1 for line in lines[: each["line"] - 1]) + each["column"] - 1
        where = compiled.part_at(position)
        made.append(Remark(each["severity"], each["code"], each["message"], each["hint"], where).to_dict())
    return made


class OutlineJoins(RoleView):
    """How a table may join those of an outline, the shortest ways first."""

    needs = {"POST": "author"}

    @extend_schema(operation_id="propose_joins", request=JoinsBody, responses=JoinProposalView(many=True))
    def post(self, request: SignedIn) -> Response:
        body = body_of(request, JoinsBody)
        source, address = _source(body)
        found = outlines.proposed_joins(source, body["outline"], body["table"], body.get("alias") or "", address)
        return Response([each.to_dict() for each in found])


class OutlineRead(RoleView):
    """A statement by hand as an outline, where nothing of it is lost."""

    needs = {"POST": "author"}

    @extend_schema(operation_id="read_outline", request=ReadBody, responses=OutlineReadView)
    def post(self, request: SignedIn) -> Response:
        body = body_of(request, ReadBody)
        source, address = _place(body)
        outline, statement = outlines.read_back(source, body["statement"], _declared(body), address)
        return Response({"outline": outline.to_dict(), "statement": statement})


class OutlineCounts(RoleView):
    """A statement that counts the rows after each table and each condition, to be previewed."""

    needs = {"POST": "author"}

    @extend_schema(operation_id="count_outline", request=OutlineBody, responses=CountingView)
    def post(self, request: SignedIn) -> Response:
        body = body_of(request, OutlineBody)
        source, address = _place(body)
        made = outlines.counted(source, body["outline"], _declared(body), address)
        used = set(judged(language_of(source).parameters, made.statement))
        declared = outlines.merged(body.get("parameters") or [], made.parameters, made.statement)
        read = [Parameter.from_dict(each) for each in declared]
        told = ParameterView([p.to_dict() for p in read if used & {part.name for part in p.parts()}], many=True).data
        steps = [{**each.to_dict(), "part": path_of(each.where)} for each in made.steps]
        return Response({"statement": made.statement, "parameters": told, "steps": steps})


class OutlineOfLook(RoleView):
    """A look at a table's rows as an outline: what was filtered, sorted and chosen by clicking."""

    needs = {"POST": "author"}

    @extend_schema(operation_id="outline_of_look", request=LookBody, responses=LookedView)
    def post(self, request: SignedIn) -> Response:
        body = body_of(request, LookBody)
        source, address = _source(body)
        table = find_table(outlines.gathered(source, address), body["table"])
        outline, parameters = outlines.looked(table, body, body["as_parameters"])
        made = outlines.compile_outline(source, outline.to_dict(), parameters, address)
        if made.compiled is None:
            raise BadInput(made.remarks[0].message, made.remarks[0].hint)
        brought = outlines.merged([p.to_dict() for p in parameters], made.compiled.parameters, made.compiled.statement)
        told = ParameterView([Parameter.from_dict(each).to_dict() for each in brought], many=True).data
        return Response({"outline": outline.to_dict(), "statement": made.compiled.statement, "parameters": told})


class WholeTables(RoleView):
    """A statement for each of some tables as they are."""

    needs = {"POST": "author"}

    @extend_schema(operation_id="whole_tables", request=WholeTablesBody, responses=StatementsView)
    def post(self, request: SignedIn) -> Response:
        body = body_of(request, WholeTablesBody)
        source, address = _source(body)
        return Response({"statement": outlines.of_whole_tables(source, body["tables"], body["labels"], address)})


class OutlineSchema(RoleView):
    """What an outline may hold, as JSON Schema."""

    @extend_schema(operation_id="outline_schema", responses=OpenApiTypes.OBJECT)
    def get(self, request: SignedIn) -> Response:
        return Response(schema())
