"""A request id for every answer, bounds on every body and address, and headers that every answer carries."""

from __future__ import annotations

import ipaddress
import secrets
from collections.abc import Callable
from typing import Any
from urllib.parse import unquote_to_bytes

from django.conf import settings
from django.core.exceptions import DisallowedHost
from django.http import HttpRequest, HttpResponse

from patient_ladle.core.errors import BadInput, LadleError

from .caller import set_role
from .problems import TooLarge, problem_answer

_NO_STORE = "no-store"
"""Answers may hold what the next person at the same screen should not find in the browser's store."""


class RequestMiddleware:
    """Outermost: what it refuses has touched nothing."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: Any) -> HttpResponse:
        request.request_id = secrets.token_hex(8)
        request.csp_nonce = secrets.token_urlsafe(16)
        set_role(None)
        _believe_proxy(request)
        refusal = _refusal(request)
        if refusal is not None:
            response: HttpResponse = problem_answer(refusal, request)
        else:
            response = self.get_response(request)
        response["X-Request-ID"] = request.request_id
        response.setdefault("X-Content-Type-Options", "nosniff")
        response.setdefault("Referrer-Policy", "same-origin")
        response.setdefault("Cache-Control", _NO_STORE)
        if request.is_secure():
            response.setdefault("Strict-Transport-Security", "max-age=31536000")
        nonce = request.csp_nonce
        response.setdefault(
            "Content-Security-Policy",
            f"default-src 'self'; script-src 'self'; style-src 'self' 'nonce-{nonce}'; style-src-attr 'unsafe-inline'; "
            "img-src 'self' data:; font-src 'self'; connect-src 'self'; object-src 'none'; base-uri 'none'; "
            "form-action 'self'; frame-ancestors 'none'",
        )
        if not response.streaming and not response.has_header("Content-Length"):
            response["Content-Length"] = str(len(response.content))
        return response


def _believe_proxy(request: Any) -> None:
    """What a proxy that we trust says of its caller: the last address it adds, and whether that one came by HTTPS.

    ``X-Forwarded-…`` of anybody else count for nothing.
    """
    meta = request.META
    if meta.get("REMOTE_ADDR") not in settings.TRUSTED_PROXIES:
        return
    said = meta.get("HTTP_X_FORWARDED_FOR", "").rpartition(",")[2].strip()
    try:
        meta["REMOTE_ADDR"] = str(ipaddress.ip_address(said))
    except ValueError:
        pass  # it names nobody: the proxy itself counts as the caller
    if meta.get("HTTP_X_FORWARDED_PROTO", "").rpartition(",")[2].strip().lower() == "https":
        meta["wsgi.url_scheme"] = request.environ["wsgi.url_scheme"] = "https"


def _refusal(request: Any) -> LadleError | None:
    try:
        _host_of(request)
    except DisallowedHost:
        return BadInput(
            "the request's Host header does not name this service.",
            "Use the address of the service, or add the name to LADLE_HOSTS where it runs.",
        )
    size = request.META.get("CONTENT_LENGTH") or "0"
    most = settings.MAX_TABLE_BYTES if request.path.startswith("/api/v1/lookups") else settings.MAX_BODY_BYTES
    if size.isascii() and size.isdigit() and int(size) > most:
        return TooLarge(
            f"the body has {int(size):,} bytes; at most {most:,} are taken.",
            "Send less, or keep the bulk of it in a database, as a view or a table.",
        )
    raw = request.path.encode(errors="surrogatepass") + unquote_to_bytes(request.META.get("QUERY_STRING", ""))
    if b"\0" in raw:
        return BadInput("the address holds a NUL character.", "Remove it.")
    try:
        raw.decode()
    except UnicodeDecodeError:
        return BadInput("the address is not UTF-8.", "Encode it as UTF-8, then by percent signs.")
    if "\ufffd" in request.path:
        return BadInput("the address is not UTF-8.", "Encode it as UTF-8, then by percent signs.")
    return None


def _host_of(request: Any) -> None:
    """A number for a host cannot be anybody's name that leads here; names are those that are known. Raises DisallowedHost."""
    host = request.META.get("HTTP_HOST", "")
    name = host.rpartition(":")[0] if host.rpartition(":")[2].isdigit() else host
    try:
        ipaddress.ip_address(name.strip("[]"))
    except ValueError:
        request.get_host()
