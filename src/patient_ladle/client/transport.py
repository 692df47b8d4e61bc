"""HTTP with the service: bearer token, retries where they are safe, problem details as errors."""

from __future__ import annotations

import base64
import hashlib
import random
import time
from collections.abc import Iterator
from typing import Any

import httpx

from .errors import CallFailed, FileDamaged, NotReachable

TRIES = 4
WAIT_SECONDS = 0.3
"""First wait between tries; doubled each time, with jitter."""
LONGEST_WAIT_SECONDS = 20.0
"""A service that asks for a longer wait is not waited for: its answer is the answer."""
_PASSING = (429, 502, 503, 504)


class Transport:
    """One connection pool to one service. A call is tried again only when that cannot do anything twice."""

    def __init__(self, url: str, token: str | None, timeout_seconds: float = 60.0) -> None:
        headers = {"Accept": "application/json"} | ({"Authorization": f"Bearer {token}"} if token else {})
        self.url = url.rstrip("/")
        verify = self.url.startswith("https:")  # without it no certificates are read, which takes as long as a call
        self.http = httpx.Client(
            base_url=f"{self.url}/api/v1", headers=headers, timeout=timeout_seconds, trust_env=False, verify=verify
        )

    def __repr__(self) -> str:
        return f"Transport({self.url!r}, token=…)"

    def call(self, method: str, path: str, **given: Any) -> Any:
        """The decoded answer. Raises CallFailed, NotReachable."""
        answer = self._good(method, path, given)
        return answer.json() if answer.content else None

    def bytes_of(self, method: str, path: str, **given: Any) -> bytes:
        """The answer as it is. Raises CallFailed, NotReachable."""
        return self._good(method, path, given).content

    def _good(self, method: str, path: str, given: dict[str, Any]) -> httpx.Response:
        headers = given.get("headers") or {}
        answer = self._tried(method, path, method == "GET" or "Idempotency-Key" in headers, given)
        if answer.status_code >= 400:
            raise _problem(answer)
        return answer

    def _tried(self, method: str, path: str, safe: bool, given: dict[str, Any]) -> httpx.Response:
        last: httpx.Response | None = None
        for attempt in range(TRIES):
            try:
                last = self.http.request(method, path, **given)
            except httpx.TransportError as error:
                if attempt == TRIES - 1 or not (safe or isinstance(error, httpx.ConnectError)):
                    raise NotReachable(
                        f"no service answers at {self.url}: {error}.", "Start it with: ladle service start, or correct --url."
                    ) from error
            else:
                if not (safe and last.status_code in _PASSING) or attempt == TRIES - 1:
                    return last
            asked = last.headers.get("Retry-After", "") if last is not None else ""
            wait = float(asked) if asked.isascii() and asked.isdigit() else WAIT_SECONDS * 2**attempt
            if wait > LONGEST_WAIT_SECONDS and last is not None:
                return last  # whoever called should decide about that, and not sleep through it
            time.sleep(wait * random.uniform(0.7, 1.3))  # noqa: S311  # jitter
        raise AssertionError("the loop returns or raises")

    def pages(self, path: str, **params: Any) -> Iterator[Any]:
        """Every item of a paged list, page after page."""
        wanted = {key: value for key, value in params.items() if value is not None}
        page = self.call("GET", path, params=wanted)
        while True:
            yield from page["results"]
            if not page["next"]:
                return
            page = self.call("GET", httpx.URL(page["next"]).raw_path.decode().removeprefix("/api/v1"))

    def stream(self, path: str) -> Iterator[bytes]:
        """The bytes of a file, in pieces; damage is told at their end. Raises CallFailed, FileDamaged, NotReachable."""
        try:
            with self.http.stream("GET", path) as answer:
                if answer.status_code >= 400:
                    answer.read()
                    raise _problem(answer)
                digest = hashlib.sha256()
                for piece in answer.iter_bytes(1 << 20):
                    digest.update(piece)
                    yield piece
                said = answer.headers.get("Repr-Digest", "")
                if said.startswith("sha-256=:") and said != f"sha-256=:{base64.b64encode(digest.digest()).decode()}:":
                    raise FileDamaged(f"{path} arrived damaged: it is not what was proven.", "Try again; see the store's disk.")
        except httpx.TransportError as error:
            raise NotReachable(f"the download from {self.url} broke off: {error}.", "Try again.") from error


def _problem(answer: httpx.Response) -> CallFailed:
    try:
        problem = answer.json()
    except ValueError:
        problem = {}
    if not isinstance(problem, dict):
        problem = {}
    return CallFailed(answer.status_code, problem)
