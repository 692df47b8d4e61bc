"""The HTTP server of one web process: a request is read whole, with bounds and a deadline, before a thread hears of it.

Rules and theory
----------------
* One loop reads and writes for all connections and waits for none of them; threads answer. So a caller who sends half a
  request, or takes a download slowly, holds a socket and some kilobytes, and no thread.
* A request must be whole within ``REQUEST_SECONDS`` of its first byte, however its bytes trickle; a connection on which
  nothing happens is closed after ``IDLE_SECONDS``.
* What is refused before the application sees it is answered as a problem too (RFC 9457).
"""

from __future__ import annotations

import json
import logging
import socket
import time
from typing import Any

from waitress import wasyncore
from waitress.adjustments import Adjustments
from waitress.channel import HTTPChannel
from waitress.server import TcpWSGIServer
from waitress.task import ErrorTask

from patient_ladle import variables

log = logging.getLogger("ladle.web")

THREADS = 16
MOST_CONNECTIONS = 2_000
"""Of one process; beyond that, new ones wait at the socket until others have gone."""
REQUEST_SECONDS = variables.REQUEST_SECONDS.value()
"""From the first byte of a request to its last: two megabytes take that on the slowest line that anybody works with."""
IDLE_SECONDS = 75
"""Longer than clients and proxies keep a connection that they use again, usually a minute."""
POLL_SECONDS = 2
"""How often connections are looked through for those whose time is up."""
HEAD_BYTES = 32 << 10
BODY_BYTES = 13 << 20
"""More than the application takes, which answers with its own words; a longer body is cut off here."""
IN_MEMORY_BYTES = 32 << 10
"""Of a body that is under way; the rest waits in a file."""
STOP_SECONDS = 5.0
"""For requests under way when the process is asked to stop."""

_CODES = {400: "bad_request", 413: "too_large", 431: "too_large", 500: "service_fault", 501: "not_implemented"}
_HINTS = {
    400: "Send a request of HTTP/1.1 with a Host header and a path.",
    413: "Send less, or keep the bulk of the statement in the database as a view.",
    431: "Send fewer or shorter headers.",
}


class _Refusal(ErrorTask):  # type: ignore[misc]  # it has no types
    """The answer to a request that cannot be read."""

    def execute(self) -> None:
        error = self.request.error
        status = int(error.code)
        message = f"the request cannot be read: {str(error.body).strip() or error.reason}."
        hint = _HINTS.get(status, "The service's log has the details.")
        problem = {
            "type": "about:blank",
            "title": error.reason,
            "status": status,
            "detail": f"{message} {hint}",
            "code": _CODES.get(status, "bad_request"),
            "message": message,
            "hint": hint,
            "transient": False,
            "facts": {},
            "request_id": "",
        }
        body = json.dumps(problem).encode()
        self.status = f"{status} {error.reason}"
        self.response_headers.extend([("Content-Type", "application/problem+json"), ("Cache-Control", "no-store")])
        self.set_close_on_finish()
        self.content_length = len(body)
        self.write(body)


class _Channel(HTTPChannel):  # type: ignore[misc]  # it has no types
    """One connection; knows since when the request that it is reading has been on its way."""

    error_task_class = _Refusal
    began: float | None = None

    def received(self, data: bytes) -> bool:
        if self.request is None:
            self.began = time.monotonic()
        taken = bool(super().received(data))
        if self.request is None:
            self.began = None
        return taken

    def is_late(self, now: float) -> bool:
        """Whether its request has taken longer than it may."""
        return self.began is not None and now - self.began > REQUEST_SECONDS

    def is_at_rest(self) -> bool:
        """Whether nothing is being answered or waits to be sent."""
        return not self.requests and not self.total_outbufs_len


class WebServer(TcpWSGIServer):  # type: ignore[misc]  # it has no types
    """Serves one application on a socket that listens already, and may be shared with other processes."""

    channel_class = _Channel

    def __init__(self, application: Any, listening: socket.socket) -> None:
        adjustments = Adjustments(
            sockets=[listening],
            threads=THREADS,
            connection_limit=MOST_CONNECTIONS,
            channel_timeout=IDLE_SECONDS,
            cleanup_interval=POLL_SECONDS,
            max_request_header_size=HEAD_BYTES,
            max_request_body_size=BODY_BYTES,
            inbuf_overflow=IN_MEMORY_BYTES,
            recv_bytes=64 << 10,
            asyncore_use_poll=True,
            backlog=2_048,
            ident="",
            log_socket_errors=False,
            clear_untrusted_proxy_headers=False,
        )
        self.stopping_at: float | None = None
        info = (listening.family, listening.type, listening.proto, listening.getsockname())
        super().__init__(application, adj=adjustments, sockinfo=info, _sock=listening, bind_socket=False)

    def set_reuse_addr(self) -> None:
        """The socket is set up by whoever opened it."""

    def maintenance(self, now: float) -> None:
        super().maintenance(now)
        moment = time.monotonic()
        for channel in list(self.active_channels.values()):
            if channel.is_late(moment):
                channel.will_close = True

    def stop(self, *_: object) -> None:
        """Take no new connections, answer what is under way, then end; from a signal handler."""
        self.stopping_at = self.stopping_at or time.monotonic()
        self.accepting = False
        self.pull_trigger()

    def serve(self) -> None:
        """Until it was asked to stop."""
        while not self._is_over():
            wasyncore.loop(timeout=1, use_poll=True, map=self._map, count=1)
        self.task_dispatcher.shutdown(timeout=1)

    def _is_over(self) -> bool:
        if self.stopping_at is None:
            return False
        over = time.monotonic() - self.stopping_at > STOP_SECONDS
        return over or all(channel.is_at_rest() for channel in self.active_channels.values())
