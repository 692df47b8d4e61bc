"""Several extracts at once, and what an extract is to whoever asks, over HTTP."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.service.common.api import RoleView, StrictSerializer, body_of
from patient_ladle.service.common.together import MOST
from patient_ladle.service.people.authentication import SignedIn

from .filing import file_extracts
from .named import extract_named
from .searching import mark_opened, set_favourite


class FilingBody(StrictSerializer):
    name = serializers.CharField(max_length=64)
    folder = serializers.CharField(allow_blank=True, required=False, help_text="Left out: it stays where it is.")
    tags = serializers.ListField(
        child=serializers.CharField(max_length=64), required=False, help_text="All of them; left out: they stay."
    )
    archived = serializers.BooleanField(required=False, help_text="Left out: as it is.")


class FilingsBody(StrictSerializer):
    extracts = FilingBody(many=True, help_text=f"At most {MOST:,}; all of them are changed, or none.")


class FilingView(serializers.Serializer[Any]):
    name = serializers.CharField()
    folder = serializers.CharField(required=False)
    tags = serializers.ListField(child=serializers.CharField(), required=False)
    archived = serializers.BooleanField(required=False, help_text="Out of sight, and run by nothing.")


class FilingsView(serializers.Serializer[Any]):
    before = FilingView(many=True, help_text="What they were: sent as `extracts`, it undoes this.")


class Filings(RoleView):
    needs = {"POST": "author"}

    @extend_schema(operation_id="file_extracts", request=FilingsBody, responses=FilingsView)
    def post(self, request: SignedIn) -> Response:
        return Response({"before": file_extracts(body_of(request, FilingsBody)["extracts"])})


class Opened(RoleView):
    """The person has the extract in hand: it is among those they opened recently."""

    needs = {"POST": "reader"}

    @extend_schema(operation_id="open_extract", request=None, responses={204: None})
    def post(self, request: SignedIn, name: str) -> Response:
        mark_opened(request.user, extract_named(name))
        return Response(status=204)


class Favourite(RoleView):
    """Whether the extract is one of the person's favourites: each has their own."""

    needs = {"PUT": "reader", "DELETE": "reader"}

    @extend_schema(operation_id="add_favourite", request=None, responses={204: None})
    def put(self, request: SignedIn, name: str) -> Response:
        set_favourite(request.user, extract_named(name), True)
        return Response(status=204)

    @extend_schema(operation_id="remove_favourite", responses={204: None})
    def delete(self, request: SignedIn, name: str) -> Response:
        set_favourite(request.user, extract_named(name), False)
        return Response(status=204)
