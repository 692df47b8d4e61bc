"""What can go wrong for a caller: the service said no, the service was not there, the run did not finish."""

from __future__ import annotations

from typing import Any

from .records import Query, Run


class ClientError(Exception):
    """Base of the client's errors; ``message`` and ``hint`` are written for a person, ``code`` is for programs."""

    code = "client_error"

    def __init__(self, message: str, hint: str = "") -> None:
        super().__init__(message)
        self.message, self.hint = message, hint

    def __str__(self) -> str:
        return f"{self.message} {self.hint}".strip()


class CallFailed(ClientError):
    """The service answered with problem details (RFC 9457): status, code, facts, request id."""

    def __init__(self, status: int, problem: dict[str, Any]) -> None:
        detail = str(problem.get("message") or problem.get("detail") or f"the service answered {status}.")
        super().__init__(detail, str(problem.get("hint") or ""))
        self.status = status
        self.code = str(problem.get("code") or "error")
        self.facts: dict[str, Any] = problem.get("facts") or {}
        self.transient = bool(problem.get("transient"))
        self.request_id = str(problem.get("request_id") or "")


class NotReachable(ClientError):
    """Nothing answered at the service's address, also after trying again."""

    code = "not_reachable"


class RunFailed(ClientError):
    """The run ended without a result; ``run`` is its record."""

    code = "run_failed"

    def __init__(self, run: Run) -> None:
        error = run["error"]
        words = error["message"] if error else "no result"
        super().__init__(f"run {run['id']} {run['state']}: {words}", error["hint"] if error else "")
        self.run = run


class QueryFailed(ClientError):
    """A query ended without an answer; ``query`` is its record."""

    code = "query_failed"

    def __init__(self, query: Query) -> None:
        error = query["error"]
        super().__init__(error["message"] if error else f"the query {query['state']}.", error["hint"] if error else "")
        self.query = query


class FileDamaged(ClientError):
    """What was saved is not what the service has: the checksum differs."""

    code = "file_damaged"
