"""Base classes of the API: views that say which role each method needs, strict bodies, cursor pages."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import date
from typing import Any, ClassVar

from django.core.validators import ProhibitNullCharactersValidator
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema_field
from rest_framework import serializers
from rest_framework.exceptions import NotFound
from rest_framework.negotiation import BaseContentNegotiation
from rest_framework.pagination import CursorPagination
from rest_framework.permissions import SAFE_METHODS
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.validators import ProhibitSurrogateCharactersValidator
from rest_framework.views import APIView

from patient_ladle.core.errors import BadInput, unknown_name
from patient_ladle.core.values.calendars.clock import day_of
from patient_ladle.service.common.problems import refused

from .sorting import SortedPages


class AlwaysJson(BaseContentNegotiation):
    """Answers are JSON or a file, whatever a caller says it would rather have: an error is better read than refused."""

    def select_parser(self, request: Request, parsers: Any) -> Any:
        given = (request.content_type or "").partition(";")[0].strip().lower()
        return next((parser for parser in parsers if given == parser.media_type or given.endswith("+json")), None)

    def select_renderer(self, request: Request, renderers: Any, format_suffix: str | None = None) -> Any:
        return renderers[0], renderers[0].media_type


class RoleView(APIView):
    # No docstring: it would stand in the API's document as the description of every call.
    # ``needs`` maps an HTTP method to the role it needs; a method that is not in it needs ``reader``.
    needs: ClassVar[Mapping[str, str]] = {}
    content_negotiation_class = AlwaysJson

    def initial(self, request: Request, *given: Any, **named: Any) -> None:
        super().initial(request, *given, **named)
        if request.method not in SAFE_METHODS and not self._takes_body(str(request.method)) and request.data:
            known = ", ".join(map(str, request.data)) if isinstance(request.data, Mapping) else "a list"
            raise BadInput(f"this call takes no body; it was given {known[:200]}.", "Send it without one.")

    def _takes_body(self, method: str) -> bool:
        """As the API's document says."""
        if method == "DELETE":
            return False
        declared = getattr(getattr(self, method.lower(), None), "kwargs", {}).get("schema")
        if declared is None:
            return True
        schema = declared()
        schema.view, schema.method = self, method
        return schema.get_request_serializer() is not None


_LARGEST = 2**63 - 1
"""What the service database takes for a number."""


def number_in(request: Request, name: str, default: int | None = None, least: int = 0, most: int = _LARGEST) -> int:
    """A whole number among the address's parameters. Raises BadInput; also where it is missing and has no default."""
    given = request.query_params.get(name)
    if given is None and default is not None:
        return default
    if given is not None and given.isascii() and given.isdigit() and len(given) < 20 and least <= int(given) <= most:
        return int(given)
    said = f"'{name}' was given '{given}'" if given is not None else f"'{name}' is missing"
    bounds = f"from {least:,} to {most:,}" if most != _LARGEST else f"of at least {least:,}"
    raise BadInput(f"{said}; it takes a whole number {bounds}.", f"Give one: {name}={max(least, 1)}.")


def flag_in(request: Request, name: str) -> bool:
    """``true`` or ``false`` among the address's parameters; false where it is missing. Raises BadInput."""
    given = request.query_params.get(name, "false")
    if given not in ("true", "false"):
        raise BadInput(f"'{name}' was given '{given}'; it takes true or false.", f"Give {name}=true, or leave it out.")
    return given == "true"


def day_in(request: Request, name: str) -> date | None:
    """A date among the address's parameters; None where it is missing. Raises BadInput."""
    given = request.query_params.get(name)
    return day_of(given, name) if given else None


class StrictSerializer(serializers.Serializer[Any]):
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


@extend_schema_field(OpenApiTypes.STR)
class HourField(serializers.TimeField):
    # A time of day by the clocks of a zone that stands elsewhere: 08:00. No docstring: see RoleView.

    def __init__(self, **options: Any) -> None:
        super().__init__(**{"format": "%H:%M", "help_text": "A time of day such as 08:00.", **options})


class DayField(serializers.DateField):
    # A date; says what was given when it is none. No docstring: see RoleView.

    def to_internal_value(self, value: Any) -> Any:
        return day_of(value, self.field_name or "a day of the list")


def body_of(request: Request, serializer: type[StrictSerializer], partial: bool = False) -> dict[str, Any]:
    """The validated body."""
    return checked(request.data, serializer, partial)


def checked(given: Any, serializer: type[StrictSerializer], partial: bool = False) -> dict[str, Any]:
    """What was given, validated like a body."""
    made = serializer(data=given, partial=partial)
    if not made.is_valid():
        raise refused(made.errors, given)
    return dict(made.validated_data)


class Pages(CursorPagination):
    """Cursor pages: steady while rows are added at the front."""

    page_size = 50
    page_size_query_param = "page_size"
    max_page_size = 200
    ordering = "-id"

    def get_page_size(self, request: Request) -> int:
        return number_in(request, "page_size", self.page_size, 1, self.max_page_size)

    def decode_cursor(self, request: Request) -> Any:
        given = request.query_params.get(self.cursor_query_param)
        try:
            found = super().decode_cursor(request)
        except (NotFound, ValueError):
            found = None
        if given is not None and found is None:
            raise BadInput("the cursor is not one that an answer gave.", "Begin at the first page: leave cursor out.")
        return found


def page_of(
    request: Request,
    queryset: Any,
    serializer: type[serializers.BaseSerializer[Any]],
    ordering: str = "-id",
    bring: Callable[[list[Any]], None] | None = None,
    sorts: Mapping[str, Any] | None = None,
) -> Response:
    """One page as ``{next, previous, results}``; ``bring`` fetches what its rows need, for all of them together.

    ``sorts``: by name, what it can be sorted by where the request says ``sort``; never null. Raises BadInput, UnknownName.
    """
    pages = Pages()
    descending = sorts is not None and flag_in(request, "descending")
    if sorts and request.query_params.get("sort"):
        found, links = SortedPages(request, sorts, descending, pages.get_page_size(request)).page(queryset)
    elif descending:
        raise BadInput("'descending' was given, and nothing to sort by.", f"Give sort as well: {', '.join(sorts or ())}.")
    else:
        pages.ordering = ordering
        found = pages.paginate_queryset(queryset, request) or []
        links = {"next": pages.get_next_link(), "previous": pages.get_previous_link()}
    if bring is not None:
        bring(found)
    return Response({**links, "results": serializer(found, many=True).data})


def page_parameters(sorts: Mapping[str, Any]) -> list[OpenApiParameter]:
    """Of a list that ``page_of`` sorts, for the API's document."""
    sort = [OpenApiParameter("sort", str, enum=[*sorts]), OpenApiParameter("descending", bool)]
    return [*sort, OpenApiParameter("cursor", str), OpenApiParameter("page_size", int)]


def paged(name: str, serializer: type[serializers.Serializer[Any]]) -> Any:
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
