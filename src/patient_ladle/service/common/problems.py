"""Every error as problem details (RFC 9457), with code, message, hint and request id; the one map of code to status."""

from __future__ import annotations

import logging
from http import HTTPStatus
from typing import Any

from django.core.exceptions import PermissionDenied
from django.db import DatabaseError, DataError, InterfaceError, InternalError, OperationalError
from django.http import Http404, HttpRequest, JsonResponse
from rest_framework import exceptions
from rest_framework.response import Response
from rest_framework.views import set_rollback

from patient_ladle.core.errors import BadInput, LadleError, NotAllowed, NotFound, NotSignedIn, ServiceFault, UnknownName

from .caller import shown

log = logging.getLogger("ladle.api")

STATUS = {
    "not_found": 404, "not_signed_in": 401, "not_allowed": 403, "result_held": 403, "conflict": 409, "edited_meanwhile": 412,
    "result_damaged": 409, "input_damaged": 409, "secret_unreadable": 409,
    "source_unreachable": 502, "source_sign_in_refused": 502, "source_database_missing": 502,
    "source_not_readable": 502, "source_tls_refused": 502, "source_writable": 502,
    "connection_lost": 502, "deadline_exceeded": 504, "store_unwritable": 507, "store_unreadable": 503,
    "disk_full": 507, "service_fault": 500, "method_not_allowed": 405, "slow_down": 429, "service_away": 503,
    "idempotency_mismatch": 422, "too_large": 413, "range_wrong": 416, "busy": 503,
}  # fmt: skip
"""Code to HTTP status; a code that is not here is 400."""


class MethodNotAllowed(LadleError):
    """The address takes other methods."""

    code = "method_not_allowed"


class SlowDown(LadleError):
    """Too many failed sign-ins."""

    code = "slow_down"
    transient = True


class ServiceAway(LadleError):
    """The service database does not answer."""

    code = "service_away"
    transient = True


class TooLarge(BadInput):
    """The body is longer than is taken."""

    code = "too_large"


class RangeWrong(BadInput):
    """The part of a file that was asked for is beyond its end."""

    code = "range_wrong"


class IdempotencyMismatch(BadInput):
    """The same Idempotency-Key came with another body."""

    code = "idempotency_mismatch"


_SILENT = ("password", "secret", "values", "url")
"""Fields whose values are not said back: who sees the screen may be another."""


def in_words(detail: Any, given: Any = None, path: str = "") -> str:
    """What a serializer found wrong, with what was given."""
    if isinstance(detail, dict):
        parts = (in_words(v, given.get(k) if isinstance(given, dict) else None, f"{path}.{k}" if path else str(k))
                 for k, v in detail.items())  # fmt: skip
        return "; ".join(parts)
    if isinstance(detail, list):
        inner = given if isinstance(given, list) and len(given) == len(detail) else [given] * len(detail)
        return "; ".join(in_words(item, value, path) for item, value in zip(detail, inner, strict=True) if item)
    if not path or path == "non_field_errors":
        return str(detail)
    said = given is not None and not isinstance(given, (dict, list)) and not any(word in path for word in _SILENT)
    return f"'{path}' was given '{given}': {detail}" if said else f"{path}: {detail}"


def first_field(detail: Any, path: str = "") -> str:
    """The first field that a serializer refused, as it is reached: ``settings.host``."""
    if not isinstance(detail, dict) or not detail:
        return path
    name, inner = next(iter(detail.items()))
    return path if name == "non_field_errors" else first_field(inner, f"{path}.{name}" if path else str(name))


def refused(detail: Any, given: Any = None) -> BadInput:
    """What a serializer refused, in words and by its field."""
    field = first_field(detail)
    return BadInput(in_words(detail, given), "Correct the fields named.", **({"field": field} if field else {}))


def forged() -> NotAllowed:
    """Of a change by a browser that does not prove that a page of ours asked for it."""
    return NotAllowed(
        "this call has no token that tells it from a forged one.",
        "Load the page anew. In a program: send the cookie csrftoken in the header X-CSRFToken as well, or a bearer token.",
    )


def as_own(error: Exception) -> LadleError:  # noqa: C901 - one case an exception
    """The one map from the frameworks' exceptions to our errors."""
    match error:
        case LadleError():
            return error
        case exceptions.ValidationError():
            return refused(error.detail)
        case exceptions.ParseError():
            return BadInput(f"the body is not JSON: {error.detail}", "Send a JSON object, encoded as UTF-8.")
        case exceptions.UnsupportedMediaType():
            return BadInput("the body is not JSON.", "Send it with Content-Type: application/json.")
        case exceptions.NotAuthenticated() | exceptions.AuthenticationFailed():
            return NotSignedIn("this needs a sign-in.", "Sign in, or send a bearer token.")
        case exceptions.PermissionDenied() if str(error).startswith("CSRF Failed"):
            return forged()
        case exceptions.PermissionDenied() | PermissionDenied():
            return NotAllowed(str(error) or "this is not allowed.", "Ask an administrator for a wider role.")
        case exceptions.MethodNotAllowed():
            return MethodNotAllowed(str(error.detail), "See /api/v1/openapi.json.")
        case DataError():
            return BadInput(
                "a value is one that cannot be kept: a number too large, or a text too long.", "Give a smaller one."
            )
        case exceptions.Throttled():
            return SlowDown("too many requests.", "Wait a moment, then try again.")
        case exceptions.NotFound() | Http404():
            return NotFound("there is nothing at this address.", "See /api/v1/openapi.json for the addresses there are.")
        case OperationalError() | InterfaceError() | InternalError():
            return ServiceAway("the service database does not answer.", "Try again in a moment; see /healthz.")
    return ServiceFault("the service met a fault of its own.", "Its log has the details under this request id.")


def problem_body(error: LadleError, request_id: str, status: int | None = None) -> tuple[int, dict[str, Any]]:
    """Status, by its code unless given, and RFC 9457 members for an error."""
    status = status or STATUS.get(error.code, 400)
    return status, {
        "type": "about:blank",
        "title": HTTPStatus(status).phrase,
        "status": status,
        "detail": error.in_words(),
        "code": error.code,
        "message": error.message,
        "hint": error.hint,
        "transient": error.transient,
        "facts": error.facts,
        "request_id": request_id,
    }


def problem_answer(error: LadleError, request: HttpRequest) -> JsonResponse:
    """Where no view of the API answers."""
    status, body = problem_body(error, getattr(request, "request_id", ""))
    return JsonResponse(body, status=status, content_type="application/problem+json")


def _status(error: LadleError, named: dict[str, Any]) -> int:
    """By its code; but a name in the address that nothing carries is a thing that is not there, and no fault of the body."""
    if isinstance(error, UnknownName) and error.facts.get("given") in {str(value) for value in named.values()}:
        return 404
    return STATUS.get(error.code, 400)


def problem_response(error: Exception, context: dict[str, Any]) -> Response:
    """DRF's exception handler; a stack trace goes to the log and never to a person."""
    request = context["request"]
    request_id = getattr(request, "request_id", "")
    own = as_own(error)
    status = _status(own, context.get("kwargs") or {})
    if own.code in ("service_fault", "service_away") or isinstance(error, DatabaseError):
        log.error("request %s: %s", request_id, own.message, exc_info=error)
    set_rollback()
    facts = own.facts
    body = problem_body(shown(own), request_id, status)[1]
    response = Response(body, status=status, content_type="application/problem+json")
    if "wait_seconds" in facts:
        response["Retry-After"] = str(facts["wait_seconds"])
    if "whole_bytes" in facts:
        response["Content-Range"] = f"bytes */{facts['whole_bytes']}"
    if status == 401:
        response["WWW-Authenticate"] = 'Bearer realm="Patient Ladle"'
    return response
