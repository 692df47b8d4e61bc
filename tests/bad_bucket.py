"""Before a bucket that is well, one that is not: away, hanging, refusing, full, or cut off in the middle."""

from __future__ import annotations

import http.client
import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

WELL = "well"
MODES = ("away", "hanging", "refusing", "full", "cut off")
_REFUSED = {"refusing": (403, "AccessDenied"), "full": (507, "InsufficientStorage")}


class BadBucket(ThreadingHTTPServer):
    """Hands requests on to ``port`` while its ``mode`` is well, and answers as its mode is while it is not."""

    daemon_threads = True

    def __init__(self, port):
        super().__init__(("127.0.0.1", 0), _Handler)
        self.port_behind, self.over = port, threading.Event()
        self.mode = WELL
        threading.Thread(target=self.serve_forever, daemon=True).start()

    @property
    def url(self):
        return f"http://127.0.0.1:{self.server_address[1]}"

    def handle_error(self, *_):
        """Whoever was cut off is not told of."""

    def end(self):
        self.over.set()
        self.shutdown()
        self.server_close()


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def log_message(self, *_):
        """Silent."""

    def _pass_on(self):
        mode, writes = self.server.mode, self.command in ("PUT", "POST")
        length = int(self.headers.get("Content-Length") or 0)
        if mode == "away":
            return self._leave()
        if mode == "hanging":
            self.server.over.wait()
            return self._leave()
        if mode == "cut off" and writes:
            self.rfile.read(length // 2)
            return self._leave()
        body = self.rfile.read(length)
        if mode == "refusing" or (mode == "full" and writes):
            status, code = _REFUSED[mode]
            words = f"<?xml version='1.0'?><Error><Code>{code}</Code><Message>no</Message></Error>".encode()
            return self._answer(status, [("Content-Type", "application/xml")], words)
        behind = http.client.HTTPConnection("127.0.0.1", self.server.port_behind)
        behind.request(self.command, self.path, body, dict(self.headers))
        came = behind.getresponse()
        data = came.read()
        behind.close()
        kept = [(name, value) for name, value in came.getheaders() if name.lower() not in _OWN]
        if mode == "cut off" and self.command != "HEAD":
            self._answer(came.status, kept, data[: len(data) // 2], len(data))
            return self._leave()
        whole = int(came.getheader("Content-Length") or 0) if self.command == "HEAD" else len(data)
        return self._answer(came.status, kept, data, whole)

    def _answer(self, status, headers, data, length=None):
        self.send_response(status)
        for name, value in headers:
            self.send_header(name, value)
        self.send_header("Content-Length", str(len(data) if length is None else length))
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(data)

    def _leave(self):
        self.close_connection = True

    do_GET = do_PUT = do_POST = do_DELETE = do_HEAD = _pass_on  # what the server looks for


_OWN = ("connection", "transfer-encoding", "content-length", "date", "server")
