"""The console's page and files. The page holds nothing but the sign-in until somebody has signed in."""

from __future__ import annotations

import re
from functools import lru_cache
from pathlib import Path
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.views.decorators.cache import never_cache
from whitenoise.middleware import WhiteNoiseMiddleware

from patient_ladle.core.errors import NotFound
from patient_ladle.service.common.problems import forged, problem_answer

BUILD = Path(__file__).parent / "build"
NONCE, SESSION = "__CSP_NONCE__", "__SESSION__"


class ConsoleFiles(WhiteNoiseMiddleware):  # type: ignore[misc]  # it has no types
    """The files under ``/assets/`` carry a hash in their names: kept by browsers for ever."""

    def __init__(self, get_response: Any = None) -> None:
        super().__init__(get_response)
        if BUILD.is_dir():
            self.add_files(str(BUILD))
        self.files.pop("/index.html", None)  # never the raw template with its placeholder

    def immutable_file_test(self, path: str, url: str) -> bool:
        return bool(re.match(r"^/assets/.+-[A-Za-z0-9_-]{8,}\.\w+$", url))


@lru_cache(maxsize=1)
def _page(changed: int) -> str:
    return (BUILD / "index.html").read_text()


_PAGES = ("runs", "extracts", "new-extract", "results", "values", "lookups", "schedules", "new-schedule", "alerts", "channels",
          "new-channel", "calendars", "environments", "people", "account", "workers", "sources",
          "new-source", "sign-in")  # fmt: skip
PAGES = rf"^(?:(?:{'|'.join(_PAGES)})(?:/[^/]+)*/?)?$"
"""Addresses of the console's pages. A program that asks for another is told that there is nothing, and not given a page."""


def no_such_page(request: Any) -> HttpResponse:
    """404: for a person the console, which says so too; for a program a problem."""
    if "text/html" in request.headers.get("Accept", "") and request.method in ("GET", "HEAD"):
        return index(request, 404)
    return no_such_address(request)


@never_cache
def index(request: Any, status: int = 200) -> HttpResponse:
    """The one page of the console."""
    file = BUILD / "index.html"
    if not file.is_file():
        return HttpResponse(
            "The console is not built yet: run ./scripts/demo once, or use the wheel.", status=503, content_type="text/plain"
        )
    page = _page(file.stat().st_mtime_ns).replace(NONCE, request.csp_nonce)
    return HttpResponse(page.replace(SESSION, "signed-in" if request.user.is_authenticated else "none"), status=status)


def no_such_address(request: HttpRequest) -> HttpResponse:
    """A problem, not a page, for an API address that is not there."""
    error = NotFound("there is nothing at this address.", "See /api/v1/openapi.json for the addresses there are.")
    return problem_answer(error, request)


def refused_as_forged(request: HttpRequest, reason: str = "") -> HttpResponse:
    """A problem, not a page, where the token against forged calls is missing; ``reason``: the framework's words."""
    return problem_answer(forged(), request)
