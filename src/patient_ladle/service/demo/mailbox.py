"""A small mailbox for the demo and the tests: takes mail (SMTP) and webhooks, and shows on a page what arrived.

Nothing leaves this machine. ``GET /`` is the page, ``GET /arrived`` the same as JSON, ``POST`` to any path is a webhook;
``/busy/…`` and ``/moved/…`` answer 503 and 302, for whoever wants to see what becomes of that.
"""

from __future__ import annotations

import html
import json
import socket
import sys
import threading
from datetime import datetime, timezone
from email import policy
from email.parser import BytesParser
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

from aiosmtpd.controller import Controller

MOST = 200
"""Kept; older ones go."""
_ANSWERS = {"busy": 503, "moved": 302}
_PAGE = """<!doctype html><html lang="en"><meta charset="utf-8"><title>Test mailbox</title><meta http-equiv="refresh" content="5">
<style>body{{font:15px/1.5 system-ui,sans-serif;max-width:860px;margin:32px auto;padding:0 16px;color:#17252a;background:#f3f5f0}}
article{{background:#fff;border-left:3px solid #8f1d56;padding:10px 16px;margin:12px 0}}h1{{font-size:22px}}h2{{font-size:16px;margin:0}}
p{{margin:2px 0;color:#4a5a60}}pre{{white-space:pre-wrap;margin:8px 0 0;font-size:14px}}</style>
<h1>Test mailbox of Fennmoor Water</h1><p>{told}</p>{articles}</html>"""


class Mailbox:
    """What arrived, newest first."""

    def __init__(self) -> None:
        self.arrived: list[dict[str, Any]] = []
        self.lock = threading.Lock()

    def put(self, way: str, to: str, title: str, text: str, headers: dict[str, str]) -> None:
        """One more."""
        at = datetime.now(timezone.utc).isoformat(timespec="seconds")
        with self.lock:
            self.arrived.insert(0, {"at": at, "way": way, "to": to, "title": title, "text": text, "headers": headers})
            del self.arrived[MOST:]

    async def handle_DATA(self, _server: Any, _session: Any, envelope: Any) -> str:  # the library's name
        """A mail."""
        mail = BytesParser(policy=policy.default).parsebytes(envelope.content)
        body = mail.get_body(preferencelist=("plain",))
        headers = {name: str(value) for name, value in mail.items()}
        self.put("mail", ", ".join(envelope.rcpt_tos), str(mail["subject"]), body.get_content() if body else "", headers)
        return "250 taken"

    def page(self) -> str:
        """For a person."""
        articles = "".join(
            f"<article><h2>{html.escape(each['title'])}</h2><p>{each['at']}, {each['way']} to {html.escape(each['to'])}</p>"
            f"<pre>{html.escape(each['text'])}</pre></article>"
            for each in self.arrived
        )
        told = (
            f"{len(self.arrived)} arrived; the page looks again every five seconds." if articles else "Nothing has arrived yet."
        )
        return _PAGE.format(told=told, articles=articles)


def _handler(box: Mailbox) -> type[BaseHTTPRequestHandler]:
    class Handler(BaseHTTPRequestHandler):
        def _answer(self, status: int, kind: str, text: str) -> None:
            data = text.encode()
            self.send_response(status)
            self.send_header("Content-Type", kind)
            self.send_header("Content-Length", str(len(data)))
            if status == _ANSWERS["moved"]:
                self.send_header("Location", "/elsewhere")
            self.end_headers()
            self.wfile.write(data)

        def do_GET(self) -> None:  # the library's name
            if self.path == "/arrived":
                self._answer(200, "application/json", json.dumps(box.arrived))
            else:
                self._answer(200, "text/html; charset=utf-8", box.page())

        def do_POST(self) -> None:  # the library's name
            body = self.rfile.read(int(self.headers.get("Content-Length", 0))).decode(errors="replace")
            status = _ANSWERS.get(self.path.strip("/").split("/")[0], 202)
            if status == 202:
                try:
                    title = str(json.loads(body).get("title", ""))
                except (ValueError, AttributeError):
                    title = "(no JSON)"
                box.put("webhook", self.path, title, body, dict(self.headers.items()))
            self._answer(status, "text/plain", "")

        def log_message(self, *_: Any) -> None:
            return

    return Handler


class RunningMailbox:
    """Both servers on loopback; port 0 takes any free one."""

    def __init__(self, smtp_port: int = 0, web_port: int = 0) -> None:
        self.box = Mailbox()
        self.web = ThreadingHTTPServer(("127.0.0.1", web_port), _handler(self.box))
        self.web.daemon_threads = True
        self.mail = Controller(self.box, hostname="127.0.0.1", port=smtp_port or _free_port())

    def start(self) -> None:
        """In threads of their own."""
        threading.Thread(target=self.web.serve_forever, daemon=True).start()
        self.mail.start()

    def stop(self) -> None:
        """Both."""
        self.mail.stop()
        self.web.shutdown()
        self.web.server_close()

    @property
    def url(self) -> str:
        """Of the page."""
        return f"http://127.0.0.1:{self.web.server_address[1]}"


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def main() -> int:
    """``python -m patient_ladle.service.demo.mailbox SMTP_PORT WEB_PORT``."""
    running = RunningMailbox(*(int(word) for word in sys.argv[1:3]))
    running.start()
    print(f"mailbox: {running.url}, mail at port {running.mail.port}", flush=True)
    threading.Event().wait()
    return 0


if __name__ == "__main__":
    sys.exit(main())
