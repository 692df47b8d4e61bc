"""The HTTP server itself, with an application of a few lines: who sends slowly or takes slowly holds no thread."""

from __future__ import annotations

import json
import socket
import threading
from contextlib import ExitStack, contextmanager

import pytest

from patient_ladle.service.processes import http_server
from patient_ladle.service.processes.http_server import BODY_BYTES, HEAD_BYTES, THREADS, WebServer
from patient_ladle.service.processes.web import listening_on
from tests.command import PATIENCE

LARGE = 24 << 20
"""More than the server keeps in memory for one connection."""


def application(environ, start_response):
    path, body = environ["PATH_INFO"], environ["wsgi.input"].read()
    if path == "/large":
        source = environ["tests.file"] = open(environ["tests.large"], "rb")  # noqa: SIM115  # the server closes it
        start_response("200 OK", [("Content-Length", str(LARGE))])
        return environ["wsgi.file_wrapper"](source, 1 << 16)
    start_response("200 OK", [("Content-Type", "text/plain")])
    return [f"{path} {len(body)}".encode()]


@contextmanager
def serving(large=""):
    """The port of a server in a thread of this process."""
    listening = listening_on("127.0.0.1", 0)
    server = WebServer(lambda environ, begin: application(environ | {"tests.large": large}, begin), listening)
    thread = threading.Thread(target=server.serve)
    thread.start()
    try:
        yield listening.getsockname()[1]
    finally:
        server.stop()
        thread.join(PATIENCE)
        for channel in list(server.active_channels.values()):
            channel.handle_close()
        server.close()
        assert not thread.is_alive()


def opened(port, sent=b""):
    made = socket.create_connection(("127.0.0.1", port), PATIENCE)
    made.sendall(sent)
    return made


def answer(wire):
    """Status and body of one answer that ends with its connection or its length."""
    with wire.makefile("rb") as lines:
        status = int(lines.readline().split()[1])
        length = 0
        while (line := lines.readline().strip()) != b"":
            name, _, value = line.decode().partition(": ")
            length = int(value) if name.lower() == "content-length" else length
        return status, lines.read(length) if length else lines.readline() and lines.readline().strip()


def asked(port, path="/x"):
    with opened(port, f"GET {path} HTTP/1.0\r\nHost: x\r\n\r\n".encode()) as wire:
        data = b""
        while piece := wire.recv(65_536):
            data += piece
    return data


HALVES = [
    b"GET / HT",
    b"POST /x HTTP/1.1\r\nHost: x\r\nX-",
    b"POST /x HTTP/1.1\r\nHost: x\r\nContent-Length: 900\r\n\r\n{",
    b"",
]


def test_hundreds_of_requests_that_are_sent_in_part_keep_nobody_waiting(monkeypatch):
    monkeypatch.setattr(http_server, "REQUEST_SECONDS", 10 * PATIENCE)
    with serving() as port, ExitStack() as held:
        wires = [held.enter_context(opened(port, HALVES[number % len(HALVES)])) for number in range(300)]
        assert b"/x 0" in asked(port)
        for wire in wires:
            wire.setblocking(False)
            with pytest.raises(BlockingIOError):  # every one of them is open still, and holds no thread
                wire.recv(1)


def test_a_request_that_is_not_whole_in_time_is_let_go_of_however_its_bytes_trickle(monkeypatch):
    monkeypatch.setattr(http_server, "REQUEST_SECONDS", 0.5)
    monkeypatch.setattr(http_server, "POLL_SECONDS", 0)
    with serving() as port, opened(port, b"GET / HTTP/1.1\r\nHost: x\r\n") as wire:
        wire.settimeout(0.05)
        for number in range(20 * PATIENCE):
            try:
                wire.sendall(f"X-{number}: x\r\n".encode())
                if wire.recv(1) == b"":
                    break
            except TimeoutError:
                continue
            except OSError:
                break
        else:
            pytest.fail("it is read for ever")
        assert b"/x 0" in asked(port)


def test_downloads_that_nobody_takes_hold_no_thread(tmp_path):
    large = tmp_path / "large"
    with open(large, "wb") as file:
        file.truncate(LARGE)
    with serving(str(large)) as port, ExitStack() as held:
        wires = [held.enter_context(opened(port, b"GET /large HTTP/1.1\r\nHost: x\r\n\r\n")) for _ in range(3 * THREADS)]
        for wire in wires:
            assert wire.recv(15) == b"HTTP/1.1 200 OK"
        assert b"/x 0" in asked(port)
        rest = wires[0]
        size = 0
        while size < LARGE:
            size += len(rest.recv(1 << 20))


@pytest.mark.parametrize(
    ("sent", "status", "code"),
    [
        (b"GET / HTTP/1.1\r\nHost: x\r\nX: " + b"a" * HEAD_BYTES + b"\r\n\r\n", 431, "too_large"),
        (b"POST / HTTP/1.1\r\nHost: x\r\nContent-Length: %d\r\n\r\n" % (BODY_BYTES + 1), 413, "too_large"),
        (b"POST / HTTP/1.1\r\nHost: x\r\nContent-Length: -1\r\n\r\n", 400, "bad_request"),
        (b"GET / HTTP/1.1\r\nHost: x\r\nbad header\r\n\r\n", 400, "bad_request"),
    ],
)
def test_what_cannot_be_read_is_answered_as_a_problem(sent, status, code):
    with serving() as port, opened(port, sent) as wire:
        found, body = answer(wire)
    problem = json.loads(body)
    assert (found, problem["status"], problem["code"]) == (status, status, code)
    assert problem["message"].startswith("the request cannot be read: ")
    assert problem["hint"]
