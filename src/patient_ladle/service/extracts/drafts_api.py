"""Drafts over HTTP: each person's own, whoever else may look into extracts."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.core.errors import BadInput
from patient_ladle.service.common.api import RoleView, StrictSerializer, body_of, number_in
from patient_ladle.service.people.authentication import SignedIn

from . import drafts
from .models import Draft, Extract
from .named import extract_named

_ONLY = OpenApiParameter("version", int, description="Only if it is that one; left out: whichever it is.")


class DraftLine(serializers.Serializer[Any]):
    key = serializers.CharField(help_text="Of a text that is no extract yet; empty: it is a draft of an extract.")
    extract = serializers.CharField(source="extract_name", help_text="Empty: it is no extract yet.")
    base = serializers.IntegerField(allow_null=True, help_text="The revision that it was begun from; null: none.")
    version = serializers.IntegerField(help_text="Grows with each write; 0: there is none.")
    saved_at = serializers.DateTimeField(allow_null=True, help_text="When it was written last; null: never.")


class DraftView(DraftLine):
    content = serializers.SerializerMethodField(help_text="What the editor put there; null: there is none.")

    def get_content(self, draft: Draft) -> dict[str, Any] | None:
        return drafts.content_of(draft)


class DraftBody(StrictSerializer):
    version = serializers.IntegerField(min_value=0, help_text="The version that this goes on from; 0: there was none.")
    base = serializers.IntegerField(
        min_value=1, required=False, allow_null=True, help_text="The revision that it was begun from; null: none."
    )
    content = serializers.DictField(help_text="What is to be saved one day: the fields of an extract.")


class _OneDraft(RoleView):
    needs = {"GET": "author", "PUT": "author", "DELETE": "author"}

    def _kept(self, request: SignedIn, extract: Extract | None, key: str = "") -> Response:
        body = body_of(request, DraftBody)
        made = drafts.keep_draft(request.user, extract, key, body["version"], body.get("base"), body["content"])
        return Response(DraftView(made).data)


class Drafts(RoleView):
    needs = {"GET": "author"}

    @extend_schema(operation_id="drafts", responses=DraftLine(many=True))
    def get(self, request: SignedIn) -> Response:
        return Response(DraftLine(drafts.drafts_of(request.user), many=True).data)


class ExtractDraft(_OneDraft):
    @extend_schema(operation_id="draft_of_extract", responses=DraftView)
    def get(self, request: SignedIn, name: str) -> Response:
        return Response(DraftView(drafts.draft_of(request.user, extract_named(name))).data)

    @extend_schema(operation_id="keep_draft_of_extract", request=DraftBody, responses=DraftView)
    def put(self, request: SignedIn, name: str) -> Response:
        return self._kept(request, extract_named(name))

    @extend_schema(operation_id="drop_draft_of_extract", parameters=[_ONLY], responses={204: None})
    def delete(self, request: SignedIn, name: str) -> Response:
        drafts.drop_draft(request.user, extract_named(name), version=_version(request))
        return Response(status=204)


class NewDraft(_OneDraft):
    @extend_schema(operation_id="draft", responses=DraftView)
    def get(self, request: SignedIn, key: str) -> Response:
        return Response(DraftView(drafts.draft_of(request.user, None, _key(key))).data)

    @extend_schema(operation_id="keep_draft", request=DraftBody, responses=DraftView)
    def put(self, request: SignedIn, key: str) -> Response:
        return self._kept(request, None, _key(key))

    @extend_schema(operation_id="drop_draft", parameters=[_ONLY], responses={204: None})
    def delete(self, request: SignedIn, key: str) -> Response:
        drafts.drop_draft(request.user, None, _key(key), _version(request))
        return Response(status=204)


def _key(given: str) -> str:
    if len(given) > 64 or not given.isascii() or not given.replace("-", "").isalnum() or given != given.lower():
        raise BadInput(f"'{given[:64]}' cannot be the key of a draft.", "Use small letters, digits and -; at most 64.")
    return given


def _version(request: SignedIn) -> int | None:
    return number_in(request, "version") if "version" in request.query_params else None
