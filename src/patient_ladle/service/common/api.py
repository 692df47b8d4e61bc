"""Base classes of the API: views that say which role each method needs, strict bodies, cursor pages."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import date
from typing import Any, ClassVar

from django.core.validators import ProhibitNullCharactersValidator
from rest_framework import serializers
from rest_framework.pagination import CursorPagination
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.validators import ProhibitSurrogateCharactersValidator
from rest_framework.views import APIView

from patient_ladle.core.errors import BadInput, unknown_name
from patient_ladle.service.common.problems import in_words


class RoleView(APIView):
    # No docstring: it would stand in the API's document as the description of every call.
    # ``needs`` maps an HTTP method to the role it needs; a method that is not in it needs ``reader``.
    needs: ClassVar[Mapping[str, str]] = {}


class StrictSerializer(serializers.Serializer):
    # Refuses fields it does not know, with the nearest one it does. No docstring: see RoleView.

    def to_internal_value(self, data: Any) -> Any:
        if not isinstance(data, Mapping):
            raise BadInput("the body is not a JSON object.", "Send an object with the fields that are described.")
        for key in data:
            if key not in self.fields:
                raise unknown_name("field", str(key), self.fields)
        return super().to_internal_value(data)


class StatementField(serializers.CharField):
    # A statement as it was written; what it may not hold is said by the scanner, which knows line and column.

    def __init__(self, **options: Any) -> None:
        super().__init__(trim_whitespace=False, **options)
        unwanted = (ProhibitNullCharactersValidator, ProhibitSurrogateCharactersValidator)
        field: Any = self
        field.validators = [each for each in field.validators if not isinstance(each, unwanted)]


class DayField(serializers.DateField):
    # A date; says what was given when it is none. No docstring: see RoleView.

    def to_internal_value(self, value: Any) -> Any:
        try:
            return date.fromisoformat(value)
        except (TypeError, ValueError):
            words = f"'{self.field_name}' was given '{value}', which is not a date."
            raise BadInput(words, "Give a day that exists, such as 2026-11-24.") from None


def body_of(request: Request, serializer: type[StrictSerializer], partial: bool = False) -> dict[str, Any]:
    """The validated body."""
    return checked(request.data, serializer, partial)


def checked(given: Any, serializer: type[StrictSerializer], partial: bool = False) -> dict[str, Any]:
    """What was given, validated like a body."""
    made = serializer(data=given, partial=partial)
    if not made.is_valid():
        raise BadInput(in_words(made.errors, given), "Correct the fields named.")
    return dict(made.validated_data)


class Pages(CursorPagination):
    """Cursor pages: steady while rows are added at the front."""

    page_size = 50
    page_size_query_param = "page_size"
    max_page_size = 200
    ordering = "-id"


def page_of(
    request: Request,
    view: APIView,
    queryset: Any,
    serializer: type[serializers.BaseSerializer],
    ordering: str = "-id",
    bring: Callable[[list[Any]], None] | None = None,
) -> Response:
    """One page as ``{next, previous, results}``; ``bring`` fetches what its rows need, for all of them together."""
    pages = Pages()
    pages.ordering = ordering
    found = pages.paginate_queryset(queryset, request, view=view)
    if bring is not None:
        bring(found)
    return pages.get_paginated_response(serializer(found, many=True).data)


def paged(name: str, serializer: type[serializers.Serializer]) -> Any:
    """The serializer that describes a page of ``serializer`` in the API's document."""
    return type(
        f"{name}Page",
        (serializers.Serializer,),
        {
            "next": serializers.CharField(allow_null=True),
            "previous": serializers.CharField(allow_null=True),
            "results": serializer(many=True),
        },
    )
