"""The API's document as it is served: made once in each process, for it is the same for everybody until the next release."""

from __future__ import annotations

import threading
from typing import Any

from django.http import HttpResponse
from drf_spectacular.utils import extend_schema
from drf_spectacular.views import SpectacularJSONAPIView
from rest_framework.request import Request

_MADE: list[tuple[bytes, str]] = []
_ONE = threading.Lock()


class ApiDocument(SpectacularJSONAPIView):
    # Making it takes seconds, in which the process answers slowly. No docstring: see RoleView.

    @extend_schema(exclude=True)
    def get(self, request: Request, *args: Any, **kwargs: Any) -> HttpResponse:
        with _ONE:
            if not _MADE:
                made = self.finalize_response(request, super().get(request, *args, **kwargs))  # type: ignore[no-untyped-call]
                made.render()
                _MADE.append((made.content, made["Content-Type"]))
        [(content, kind)] = _MADE
        return HttpResponse(content, content_type=kind)
