"""Lists in an order that somebody chose, page by page.

A page begins after a row, by that row's value and number, not after so many rows: it stays where it is while others come and
go, is found by an index however far it lies, and many equal values are no trouble.
"""

from __future__ import annotations

import base64
import json
from collections.abc import Mapping
from typing import Any, NamedTuple

from django.core.exceptions import ValidationError
from django.db.models import Expression, F, Q, QuerySet
from rest_framework.request import Request
from rest_framework.utils.urls import replace_query_param

from patient_ladle.core.errors import BadInput, unknown_name

KEY = "sorted_by"
NUMBERS = 2**63


class _Place(NamedTuple):
    """Between which rows a page lies: after the row of that value and number; before it where it goes ``back``."""

    sort: str
    back: bool
    value: Any
    number: int


class SortedPages:
    """Pages in the order that a request asks for with ``sort``, the name of one of ``sorts``, and ``descending``."""

    def __init__(self, request: Request, sorts: Mapping[str, Expression | F], descending: bool, size: int) -> None:
        """Raises UnknownName."""
        name = request.query_params["sort"]
        if name not in sorts:
            raise unknown_name("order", name, sorts, f"sort takes one of: {', '.join(sorts)}.")
        self.request, self.size, self.descending = request, size, descending
        self.sort, self.expression = f"{name} {descending}", sorts[name]

    def page(self, queryset: QuerySet[Any]) -> tuple[list[Any], dict[str, str | None]]:
        """The rows of the page that is asked for, and the addresses of those before and after it."""
        queryset = queryset.annotate(**{KEY: self.expression})
        place = self._place(queryset)
        back = place is not None and place.back
        falling = self.descending != back
        if place is not None:
            beyond = "lt" if falling else "gt"
            # The first condition is one range of an index; the second leaves out what of it was shown.
            queryset = queryset.filter(**{f"{KEY}__{beyond}e": place.value}).filter(
                Q(**{f"{KEY}__{beyond}": place.value}) | Q(**{f"pk__{beyond}": place.number})
            )
        sign = "-" if falling else ""
        found = list(queryset.order_by(f"{sign}{KEY}", f"{sign}pk")[: self.size + 1])
        more, found = len(found) > self.size, found[: self.size]
        if back:
            found.reverse()
        before, after = (more, True) if back else (place is not None, more)
        return found, {
            "next": self._address(found[-1], False) if after and found else None,
            "previous": self._address(found[0], True) if before and found else None,
        }

    def _address(self, row: Any, back: bool) -> str:
        words = json.dumps(_Place(self.sort, back, getattr(row, KEY), row.pk), default=str)
        cursor = base64.urlsafe_b64encode(words.encode()).decode()
        return str(replace_query_param(self.request.build_absolute_uri(), "cursor", cursor))

    def _place(self, queryset: QuerySet[Any]) -> _Place | None:
        given = self.request.query_params.get("cursor")
        if given is None:
            return None
        try:
            place = _Place(*json.loads(base64.urlsafe_b64decode(given)))
            value = queryset.query.annotations[KEY].output_field.to_python(place.value)
            numbers = [each for each in (value, place.number) if isinstance(each, int)]
            fits = place.sort == self.sort and isinstance(place.number, int) and all(abs(each) < NUMBERS for each in numbers)
            if fits and value is not None and isinstance(place.back, bool):
                return place._replace(value=value)
        except (ValueError, TypeError, OverflowError, RecursionError, ValidationError):
            pass
        raise BadInput("the cursor is not one that an answer gave.", "Begin at the first page: leave cursor out.")
