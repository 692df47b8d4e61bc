"""Sources and environments over HTTP. A secret goes in and never comes out."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.adapters.sources import ENGINES, get_engine
from patient_ladle.core.errors import BadInput
from patient_ladle.core.statements.languages import QueryLanguage
from patient_ladle.service.common.api import RoleView, StrictSerializer, body_of
from patient_ladle.service.common.caller import ForAuthors
from patient_ladle.service.people.authentication import SignedIn

from . import services
from .models import Address, Environment, Source
from .queries import source_named
from .remarks import remarks_on

PERMITTED = (
    "Functions, types and relations, by name, that statements of this source may use beyond what every source allows: in"
    " PostgreSQL functions in C, say, such as public.similarity."
)
SAVED_ONLY = "It is asked for saved statements only: no preview and no run of a text that is not in the repository."


class EnvironmentView(StrictSerializer):
    name = serializers.CharField(max_length=64)
    note = serializers.CharField(allow_blank=True, default="")


class EnvironmentEdit(StrictSerializer):
    note = serializers.CharField(allow_blank=True)


class CheckStepView(ForAuthors):
    for_authors = ("detail", "hint", "warning")
    step = serializers.CharField()
    passed = serializers.BooleanField()
    seconds = serializers.FloatField()
    detail = serializers.CharField()
    hint = serializers.CharField()
    warning = serializers.CharField(default="")


class AddressView(ForAuthors):
    for_authors = ("address", "place")
    environment = serializers.CharField(source="environment.name")
    address = serializers.SerializerMethodField()
    place = serializers.SerializerMethodField(help_text="Where it leads, in words.")
    has_secret = serializers.SerializerMethodField()
    last_check = CheckStepView(many=True, allow_null=True)
    last_check_at = serializers.DateTimeField(allow_null=True)
    catalogue_at = serializers.DateTimeField(allow_null=True)

    def get_address(self, address: Address) -> dict[str, str]:
        return {key: str(value) for key, value in address.fields.items()}

    def get_place(self, address: Address) -> str:
        return get_engine(address.source.engine).place(address.fields)

    def get_has_secret(self, address: Address) -> bool:
        return bool(address.secret)


class PermittedView(serializers.Serializer[Any]):
    name = serializers.CharField()
    by = serializers.CharField(help_text="Who permitted it.")
    at = serializers.DateTimeField(help_text="When.")


class SourceView(ForAuthors):
    for_authors = ("permitted", "remarks")
    name = serializers.CharField()
    engine = serializers.CharField()
    group = serializers.CharField()
    note = serializers.CharField()
    max_runs = serializers.IntegerField()
    connect_timeout_seconds = serializers.IntegerField()
    query_timeout_seconds = serializers.IntegerField()
    max_rows = serializers.IntegerField(allow_null=True)
    max_bytes = serializers.IntegerField(allow_null=True)
    quiet_hours = serializers.CharField()
    quiet_zone = serializers.CharField()
    saved_only = serializers.BooleanField(help_text=SAVED_ONLY)
    permitted = PermittedView(many=True, help_text=PERMITTED)
    addresses = AddressView(many=True)
    remarks = serializers.SerializerMethodField(help_text="What a person should know, in words; it is saved all the same.")

    def get_remarks(self, source: Source) -> list[str]:
        return remarks_on(source)


class AddressBody(StrictSerializer):
    address = serializers.DictField(required=False)
    url = serializers.CharField(
        required=False, max_length=2048, help_text="A connection URL instead; its password is kept as the secret."
    )
    secret = serializers.CharField(required=False, allow_blank=True, trim_whitespace=False, max_length=1024)


class SourceBody(StrictSerializer):
    name = serializers.CharField(max_length=64)
    engine = serializers.CharField(max_length=32)
    note = serializers.CharField(allow_blank=True, default="")
    group = serializers.CharField(allow_blank=True, default="", max_length=64)
    max_runs = serializers.IntegerField(min_value=1, max_value=100, default=2)
    connect_timeout_seconds = serializers.IntegerField(min_value=1, max_value=60, default=10)
    query_timeout_seconds = serializers.IntegerField(min_value=1, max_value=86400, default=3600)
    max_rows = serializers.IntegerField(min_value=1, allow_null=True, default=None)
    max_bytes = serializers.IntegerField(min_value=1, allow_null=True, default=None)
    quiet_hours = serializers.CharField(
        allow_blank=True, default="", max_length=200, help_text="When no run reads it: '07:00 to 09:30 and 22:00 to 02:00'."
    )
    quiet_zone = serializers.CharField(
        allow_blank=True, default="", max_length=64, help_text="Whose clocks count; the service's zone unless given."
    )
    saved_only = serializers.BooleanField(default=False, help_text=SAVED_ONLY)
    permitted = serializers.ListField(
        child=serializers.CharField(max_length=200), default=list, max_length=500, help_text=PERMITTED
    )
    addresses = serializers.DictField(child=AddressBody(), default=dict)


class SourceEdit(StrictSerializer):
    note = serializers.CharField(allow_blank=True, required=False)
    group = serializers.CharField(allow_blank=True, required=False, max_length=64)
    max_runs = serializers.IntegerField(min_value=1, max_value=100, required=False)
    connect_timeout_seconds = serializers.IntegerField(min_value=1, max_value=60, required=False)
    query_timeout_seconds = serializers.IntegerField(min_value=1, max_value=86400, required=False)
    max_rows = serializers.IntegerField(min_value=1, allow_null=True, required=False)
    max_bytes = serializers.IntegerField(min_value=1, allow_null=True, required=False)
    quiet_hours = serializers.CharField(allow_blank=True, required=False, max_length=200)
    quiet_zone = serializers.CharField(allow_blank=True, required=False, max_length=64)
    saved_only = serializers.BooleanField(required=False, help_text=SAVED_ONLY)
    permitted = serializers.ListField(
        child=serializers.CharField(max_length=200), required=False, max_length=500, help_text=PERMITTED
    )
    addresses = serializers.DictField(child=AddressBody(allow_null=True), required=False)


class EngineFieldView(serializers.Serializer[Any]):
    name = serializers.CharField()
    kind = serializers.ChoiceField(["text", "integer"])
    note = serializers.CharField()
    required = serializers.BooleanField()  # type: ignore[assignment]  # a field of that name
    choices = serializers.ListField(child=serializers.CharField())
    default = serializers.CharField(help_text="Proposed; empty: nothing is.")


class EditorView(serializers.Serializer[Any]):
    words = serializers.ListField(child=serializers.CharField(), help_text="Words of the language.")
    types = serializers.ListField(child=serializers.CharField(), help_text="Names of types.")
    name_quotes = serializers.CharField(help_text="Marks that names may stand between.")
    double_quoted_strings = serializers.BooleanField(help_text="Whether text stands between double quotes.")
    backslash_escapes = serializers.BooleanField(help_text="Of strings.")
    syntax = serializers.ChoiceField(["sql", "json"], help_text="What its texts are cut like: SQL, or JSON with comments.")
    dollar_quoted_strings = serializers.BooleanField(help_text="Whether text stands between $tag$ and $tag$.")
    hash_comments = serializers.BooleanField(help_text="Whether # begins a comment.")
    formatter = serializers.CharField(help_text="What an editor's formatter calls the language; empty: it has none.")


class OutlineWordsView(serializers.Serializer[Any]):
    tests = serializers.DictField(
        child=serializers.ListField(child=serializers.CharField()), help_text="By the kind of a column."
    )
    aggregates = serializers.ListField(child=serializers.CharField(), help_text="How rows may be brought together.")
    buckets = serializers.ListField(child=serializers.CharField(), help_text="Periods that a date can be brought to.")
    joins = serializers.ListField(child=serializers.CharField(), help_text="Kinds of join that there are.")


class LanguageView(serializers.Serializer[Any]):
    name = serializers.CharField(help_text="Sources whose engines have one language take each other's statements.")
    title = serializers.CharField()
    gives_documents = serializers.BooleanField(help_text="Whether an output's options of documents apply to its results.")
    editor = EditorView(allow_null=True, help_text="How an editor colours it; null: as plain text.")
    outlines = OutlineWordsView(allow_null=True, help_text="What outlines may say in it; null: it knows none.")


class EngineView(serializers.Serializer[Any]):
    name = serializers.CharField()
    title = serializers.CharField()
    takes_secret = serializers.BooleanField()
    url_form = serializers.CharField(help_text="What a connection URL of it looks like.")
    address_fields = EngineFieldView(many=True)
    language = LanguageView(help_text="What statements for it are written in.")


class Environments(RoleView):
    needs = {"POST": "administrator"}

    @extend_schema(operation_id="environments", responses=EnvironmentView(many=True))
    def get(self, request: SignedIn) -> Response:
        return Response(EnvironmentView(Environment.objects.all(), many=True).data)

    @extend_schema(operation_id="add_environment", request=EnvironmentView, responses={201: EnvironmentView})
    def post(self, request: SignedIn) -> Response:
        return Response(EnvironmentView(services.add_environment(**body_of(request, EnvironmentView))).data, status=201)


class OneEnvironment(RoleView):
    needs = {"PATCH": "administrator", "DELETE": "administrator"}

    @extend_schema(operation_id="edit_environment", request=EnvironmentEdit, responses=EnvironmentView)
    def patch(self, request: SignedIn, name: str) -> Response:
        return Response(EnvironmentView(services.edit_environment(name, **body_of(request, EnvironmentEdit))).data)

    @extend_schema(operation_id="remove_environment", request=None, responses={204: None})
    def delete(self, request: SignedIn, name: str) -> Response:
        services.remove_environment(name)
        return Response(status=204)


def _outline_words(language: QueryLanguage) -> dict[str, Any] | None:
    try:
        return language.outlines().words.to_dict()
    except BadInput:
        return None


class Engines(RoleView):
    """The engines there are, and what an address of each holds."""

    @extend_schema(operation_id="engines", responses=EngineView(many=True))
    def get(self, request: SignedIn) -> Response:
        made = [
            {
                "name": e.name,
                "title": e.title,
                "takes_secret": e.takes_secret,
                "url_form": e.url_form,
                "language": {
                    "name": e.language.name,
                    "title": e.language.title,
                    "gives_documents": e.language.gives_documents,
                    "editor": e.language.editor or None,
                    "outlines": _outline_words(e.language),
                },
                "address_fields": [
                    {
                        "name": key,
                        "kind": "integer" if field.kind is int else "text",
                        "note": field.note,
                        "required": field.required,
                        "choices": field.choices,
                        "default": str(e.default_port) if key == "port" and e.default_port else "",
                    }
                    for key, field in e.fields.items()
                ],
            }
            for e in ENGINES.values()
        ]
        return Response(made)


class Sources(RoleView):
    needs = {"POST": "administrator"}

    @extend_schema(operation_id="sources", responses=SourceView(many=True))
    def get(self, request: SignedIn) -> Response:
        found = Source.objects.prefetch_related("addresses__environment")
        return Response(SourceView(found, many=True).data)

    @extend_schema(operation_id="add_source", request=SourceBody, responses={201: SourceView})
    def post(self, request: SignedIn) -> Response:
        return Response(SourceView(services.add_source(**body_of(request, SourceBody), by=request.user.name)).data, status=201)


class OneSource(RoleView):
    needs = {"PATCH": "administrator", "DELETE": "administrator"}

    @extend_schema(operation_id="source", responses=SourceView)
    def get(self, request: SignedIn, name: str) -> Response:
        return Response(SourceView(source_named(name)).data)

    @extend_schema(operation_id="edit_source", request=SourceEdit, responses=SourceView)
    def patch(self, request: SignedIn, name: str) -> Response:
        return Response(SourceView(services.edit_source(name, body_of(request, SourceEdit), request.user.name)).data)

    @extend_schema(operation_id="remove_source", request=None, responses={204: None})
    def delete(self, request: SignedIn, name: str) -> Response:
        services.remove_source(name)
        return Response(status=204)


class SourceCheck(RoleView):
    needs = {"POST": "author"}

    @extend_schema(
        operation_id="check_source",
        request=None,
        parameters=[OpenApiParameter("environment", str)],
        responses=AddressView(many=True),
    )
    def post(self, request: SignedIn, name: str) -> Response:
        found = services.check_source(name, request.query_params.get("environment"))
        return Response(AddressView(found, many=True).data)
