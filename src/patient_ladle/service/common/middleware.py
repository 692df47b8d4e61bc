"""A request id for every answer, a bound on every body, and headers that every answer carries."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from typing import Any

from django.conf import settings
from django.http import HttpRequest, HttpResponse, JsonResponse


class RequestMiddleware:
    """Outermost: what it refuses has touched nothing."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: Any) -> HttpResponse:
        request.request_id = secrets.token_hex(8)
        request.csp_nonce = secrets.token_urlsafe(16)
        size = request.META.get("CONTENT_LENGTH") or "0"
        if size.isdigit() and int(size) > settings.MAX_BODY_BYTES:
            problem = {
                "type": "about:blank",
                "title": "Content Too Large",
                "status": 413,
                "code": "too_large",
                "detail": f"the body has {int(size):,} bytes; at most {settings.MAX_BODY_BYTES:,} are taken.",
                "message": f"the body has {int(size):,} bytes; at most {settings.MAX_BODY_BYTES:,} are taken.",
                "hint": "Send less, or keep the bulk of the statement in the database as a view.",
                "request_id": request.request_id,
            }
            response: HttpResponse = JsonResponse(problem, status=413, content_type="application/problem+json")
        else:
            response = self.get_response(request)
        response["X-Request-ID"] = request.request_id
        response.setdefault("X-Content-Type-Options", "nosniff")
        response.setdefault("Referrer-Policy", "same-origin")
        nonce = request.csp_nonce
        response.setdefault(
            "Content-Security-Policy",
            f"default-src 'self'; script-src 'self'; style-src 'self' 'nonce-{nonce}'; style-src-attr 'unsafe-inline'; "
            "img-src 'self' data:; font-src 'self'; connect-src 'self'; object-src 'none'; base-uri 'none'; "
            "form-action 'self'; frame-ancestors 'none'",
        )
        return response
