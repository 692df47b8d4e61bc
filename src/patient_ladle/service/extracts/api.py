"""Extracts and their revisions over HTTP. ``ETag`` and ``If-Match`` carry the revision number."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema, extend_schema_field
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.core.errors import BadInput
from patient_ladle.core.results.differences import lines_between
from patient_ladle.core.values.parameters import MASK, TYPES
from patient_ladle.service.children.judging import judged
from patient_ladle.service.children.stepping import words_of
from patient_ladle.service.common.api import RoleView, StatementField, StrictSerializer, body_of, number_in
from patient_ladle.service.common.caller import ForAuthors, sees_all
from patient_ladle.service.people.authentication import SignedIn
from patient_ladle.service.sources.remarks import remarks_on

from . import drafts, outlines, services
from .inputs import users_of
from .models import Extract, Revision
from .named import extract_named
from .searching import mark_opened
from .sensitive_values import opened_declaration


class ParameterView(ForAuthors):
    name = serializers.CharField()
    type = serializers.ChoiceField(list(TYPES))
    is_list = serializers.BooleanField()
    required = serializers.BooleanField()  # type: ignore[assignment]  # a field of that name
    default = serializers.JSONField(allow_null=True)
    allowed = serializers.ListField(child=serializers.JSONField())
    note = serializers.CharField()
    labels = serializers.DictField(child=serializers.CharField(), default={})
    choices = serializers.DictField(child=serializers.CharField(), default={})
    lookup = serializers.DictField(
        child=serializers.CharField(),
        default={},
        help_text="Where its allowed values are: name of the lookup, column, label (a column with words).",
    )
    minimum = serializers.JSONField(allow_null=True, default=None)
    maximum = serializers.JSONField(allow_null=True, default=None)
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
    for_authors = ("statement", "deliver_into", "outline", "inputs", "steps", "steps_in_words")
    number = serializers.IntegerField()
    author = serializers.CharField(source="author.name")
    saved_at = serializers.DateTimeField()
    change_note = serializers.CharField()
    source = serializers.CharField(source="source_name", help_text="Empty: it reads none.")  # type: ignore[assignment]  # a field of that name
    engine = serializers.CharField(help_text="The engine whose language the statement is in.")
    statement = serializers.CharField()
    outline = serializers.SerializerMethodField(help_text="What the statement was put together from; null: it is by hand.")
    inputs = serializers.ListField(
        child=serializers.DictField(), help_text="Of a combination: results of other extracts, and lookups, by their names."
    )
    steps = serializers.ListField(child=serializers.DictField(), help_text="What is done to the result after the fetch.")
    steps_in_words = serializers.SerializerMethodField(help_text="The same, a sentence for each.")
    parameters = ParameterView(many=True)
    formats = serializers.ListField(child=serializers.CharField())
    file_name = serializers.CharField()
    deliver_into = serializers.CharField()
    output = serializers.DictField(help_text="What differs from the defaults: formats, columns, files.")
    guards = serializers.ListField(child=serializers.DictField(), help_text="Bounds that a result must meet.")
    notes = serializers.CharField()

    def get_steps_in_words(self, revision: Revision) -> list[str]:
        return words_of(revision.steps)

    @extend_schema_field(serializers.DictField(allow_null=True))
    def get_outline(self, revision: Revision) -> Any:
        return outlines.in_order(revision.outline)


class RetentionBody(StrictSerializer):
    days = serializers.IntegerField(min_value=1, max_value=36_500, allow_null=True, default=None)
    runs = serializers.IntegerField(min_value=1, allow_null=True, default=None)


class DependsOnBody(StrictSerializer):
    depends_on = serializers.ListField(child=serializers.CharField(max_length=64))


class ExtractView(ForAuthors):
    for_authors = ("remarks",)
    name = serializers.CharField(help_text="The present one, also where an earlier one was asked for.")
    folder = serializers.CharField()
    owner = serializers.CharField(source="owner.name")
    tags = serializers.ListField(child=serializers.CharField())
    former_names = serializers.SerializerMethodField()
    in_repository = serializers.BooleanField(help_text="False: it was run without being saved; move gives it a place.")
    archived_at = serializers.DateTimeField(allow_null=True)
    retention_days = serializers.IntegerField(allow_null=True, help_text="Null: as long as the service keeps results.")
    retention_runs = serializers.IntegerField(allow_null=True, help_text="Null: any number of them.")
    used_by = serializers.SerializerMethodField(help_text="Names of the schedules that run it.")
    input_of = serializers.SerializerMethodField(help_text="Names of the combinations that it is an input of.")
    depends_on = serializers.SerializerMethodField(
        help_text="Its scheduled runs wait for those of these, of the same data date."
    )
    outline_revision = serializers.SerializerMethodField(
        help_text="The newest revision that was put together from an outline; null: none was."
    )
    revision = RevisionView(source="head")
    remarks = serializers.SerializerMethodField(help_text="What a person should know, in words; it is saved all the same.")

    def get_remarks(self, extract: Extract) -> list[str]:
        return remarks_on(extract.head.source)

    def get_outline_revision(self, extract: Extract) -> int | None:
        if extract.head.outline is not None:
            return extract.number
        found = extract.revisions.exclude(outline=None).order_by("-number").values_list("number", flat=True).first()
        return None if found is None else int(found)

    def get_former_names(self, extract: Extract) -> list[str]:
        return list(extract.former_names.values_list("name", flat=True))

    def get_depends_on(self, extract: Extract) -> list[str]:
        return [other.name for other in extract.depends_on.all()]

    def get_input_of(self, extract: Extract) -> list[str]:
        return users_of(extract)

    def get_used_by(self, extract: Extract) -> list[str]:
        first = extract.schedules.filter(removed_at=None).values_list("name", flat=True)
        later = extract.steps.filter(schedule__removed_at=None).values_list("schedule__name", flat=True)
        return sorted({*first, *later})


class SettingView(serializers.Serializer[Any]):
    field = serializers.CharField()
    before = serializers.JSONField(allow_null=True)
    after = serializers.JSONField(allow_null=True)


class LineView(serializers.Serializer[Any]):
    kind = serializers.ChoiceField(["same", "removed", "added"])
    text = serializers.CharField()
    before = serializers.IntegerField(allow_null=True)
    after = serializers.IntegerField(allow_null=True)


class DifferencesView(serializers.Serializer[Any]):
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
    source = serializers.CharField(required=False)  # type: ignore[assignment]  # a field of that name


class ContentBody(StrictSerializer):
    source = serializers.CharField(  # type: ignore[assignment]  # a field of that name
        max_length=64,
        allow_blank=True,
        required=False,
        help_text="Empty: it reads none, and computes from its values, in SQL of DuckDB.",
    )
    statement = StatementField(required=False, help_text="Or an outline, from which it is compiled.")
    outline = serializers.DictField(
        required=False, allow_null=True, help_text="What the statement is put together from: /outline-schema."
    )
    inputs = serializers.ListField(
        child=serializers.DictField(),
        required=False,
        help_text="What a combination combines, which has no source: results of extracts, and lookups: /input-schema.",
    )
    steps = serializers.ListField(
        child=serializers.DictField(), required=False, help_text="What is done to the result after the fetch: /step-schema."
    )
    parameters = serializers.ListField(child=serializers.DictField(), required=False)
    formats = serializers.ListField(child=serializers.CharField(max_length=32), required=False)
    file_name = serializers.CharField(required=False, allow_blank=True, max_length=200)
    deliver_into = serializers.CharField(
        required=False, allow_blank=True, max_length=500, help_text="Folders of the delivery, separated by commas"
    )
    output = serializers.DictField(
        required=False,
        help_text="formats: options by format; columns: the choice of columns; files: compression, splitting, delivery.",
    )
    guards = serializers.ListField(
        child=serializers.DictField(),
        required=False,
        help_text="Such as {guard: rows, at_least: 10, then: warn}; rows, not_empty, change, columns, not_null,"
        " no_duplicate, in_lookup; on steps step_rows, same_rows, all_found.",
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


def number_of_if_match(request: SignedIn) -> int | None:
    """The revision that a change begins from; None where it is not said. Raises BadInput."""
    given = request.headers.get("If-Match", "").strip().strip('"')
    if not given or given == "*":
        return None
    if not (given.isascii() and given.isdigit() and len(given) < 10):
        raise BadInput(f"If-Match was given '{given}', which is not a revision number.", "Send the ETag you were given.")
    return int(given)


class Extracts(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="add_extract", request=ExtractBody, responses={201: ExtractView})
    def post(self, request: SignedIn) -> Response:
        made = services.add_extract(request.user, **body_of(request, ExtractBody))
        drafts.saved(request.user, made)
        mark_opened(request.user, made)
        return _answer(made, 201)


class OneExtract(RoleView):
    needs = {"PATCH": "author"}

    @extend_schema(operation_id="extract", responses=ExtractView)
    def get(self, request: SignedIn, name: str) -> Response:
        return _answer(extract_named(name))

    @extend_schema(operation_id="save_extract", request=ContentBody, responses=ExtractView)
    def patch(self, request: SignedIn, name: str) -> Response:
        body: dict[str, Any] = body_of(request, ContentBody, partial=True)
        note = body.pop("change_note", "")
        made = services.save_extract(request.user, name, number_of_if_match(request), note, **body)
        drafts.saved(request.user, made)
        mark_opened(request.user, made)
        return _answer(made)


class ExtractRevisions(RoleView):
    @extend_schema(operation_id="revisions", responses=RevisionView(many=True))
    def get(self, request: SignedIn, name: str) -> Response:
        found = extract_named(name).revisions.select_related("author", "source")
        return Response(RevisionView(found, many=True).data)


class ExtractMove(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="move_extract", request=MoveBody, responses=ExtractView)
    def post(self, request: SignedIn, name: str) -> Response:
        body = body_of(request, MoveBody)
        return _answer(services.move_extract(name, body.get("folder"), body.get("name")))


class ExtractArchive(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="archive_extract", request=None, responses=ExtractView)
    def post(self, request: SignedIn, name: str) -> Response:
        return _answer(services.archive_extract(name))


class ExtractRestore(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="restore_extract", request=RestoreBody, responses=ExtractView)
    def post(self, request: SignedIn, name: str) -> Response:
        return _answer(services.restore_extract(request.user, name, body_of(request, RestoreBody).get("revision")))


class ExtractDependsOn(RoleView):
    """What the extract's scheduled runs wait for."""

    needs = {"PUT": "author"}

    @extend_schema(operation_id="set_depends_on", request=DependsOnBody, responses=ExtractView)
    def put(self, request: SignedIn, name: str) -> Response:
        return _answer(services.set_depends_on(name, body_of(request, DependsOnBody)["depends_on"]))


class ExtractRetention(RoleView):
    """How long the extract's results are kept; the newest one always is."""

    needs = {"PUT": "author"}

    @extend_schema(operation_id="set_retention", request=RetentionBody, responses=ExtractView)
    def put(self, request: SignedIn, name: str) -> Response:
        return _answer(services.set_retention(name, **body_of(request, RetentionBody)))


class ExtractDetails(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="edit_extract", request=DetailsBody, responses=ExtractView)
    def post(self, request: SignedIn, name: str) -> Response:
        body = body_of(request, DetailsBody)
        return _answer(services.edit_extract(name, body.get("tags"), body.get("owner")))


class ExtractCopy(RoleView):
    """A new extract that begins as this one, on the same source or another of the same engine."""

    needs = {"POST": "author"}

    @extend_schema(operation_id="copy_extract", request=CopyBody, responses={201: ExtractView})
    def post(self, request: SignedIn, name: str) -> Response:
        body = body_of(request, CopyBody)
        return _answer(services.copy_extract(request.user, name, body["name"], body.get("folder"), body.get("source")), 201)


class ExtractDifferences(RoleView):
    needs = {"GET": "author"}

    @extend_schema(
        operation_id="differences",
        parameters=[OpenApiParameter("before", int, required=True), OpenApiParameter("after", int, required=True)],
        responses=DifferencesView,
    )
    def get(self, request: SignedIn, name: str) -> Response:
        numbers = []
        for key in ("before", "after"):
            numbers.append(number_in(request, key, least=1))
        return Response(DifferencesView(services.differences(extract_named(name), *numbers)).data)


class TextDifferences(RoleView):
    """Between any two texts: what two authors see who saved at the same time."""

    needs = {"POST": "author"}

    @extend_schema(operation_id="text_differences", request=TextsBody, responses=LineView(many=True))
    def post(self, request: SignedIn) -> Response:
        body = body_of(request, TextsBody)
        return Response([line.to_dict() for line in judged(lines_between, body["before"], body["after"])])
