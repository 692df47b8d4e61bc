"""Alerts as JSON to an HTTP address.

Rules and theory
----------------
* The host's addresses are looked up once, each is checked, and the connection goes to one that was checked: a name that
  answers otherwise a moment later leads nowhere else.
* No redirect is followed, and nothing of the answer but its status is believed.
* The body is signed with the channel's secret in the open form of Standard Webhooks: ``webhook-signature`` is ``v1,`` and the
  base64 of the HMAC-SHA256 (RFC 2104) of ``webhook-id``, ``webhook-timestamp`` (seconds since 1970) and the body, with full
  stops between. A receiver refuses old timestamps and known ids.
"""

from __future__ import annotations

import base64
import binascii
import contextlib
import hashlib
import hmac
import http.client
import json
import ssl
import time
from collections.abc import Mapping
from typing import ClassVar
from urllib.parse import SplitResult, urlsplit

from patient_ladle.adapters.reach import Reached, connect
from patient_ladle.core.errors import BadInput
from patient_ladle.core.runs.alerts import Message

from .base import SECONDS, Channel, NotSent, NotTaken, Reach, Setting, checked_way

_WRITTEN_OUT = "whsec_"
"""Before a secret that is written in base64."""


def signature(secret: str, number: str, timestamp: str, body: bytes) -> str:
    """What stands in ``webhook-signature``. The key is the secret as it stands, or what its base64 after ``whsec_`` holds."""
    key = secret.encode()
    if secret.startswith(_WRITTEN_OUT):
        with contextlib.suppress(binascii.Error):
            key = base64.b64decode(secret.removeprefix(_WRITTEN_OUT), validate=True)
    signed = hmac.digest(key, f"{number}.{timestamp}.".encode() + body, hashlib.sha256)
    return f"v1,{base64.b64encode(signed).decode()}"


class WebhookChannel(Channel):
    """See Channel."""

    name = "webhook"
    note = "JSON to an HTTP address, signed"
    key_note = "what signs the body"
    settings: ClassVar[Mapping[str, Setting]] = {"url": Setting("an http or https address", required=True)}

    def check(self, settings: Mapping[str, str]) -> None:
        _parts(settings["url"])

    def way(self, settings: Mapping[str, str], reach: Reach) -> Reached:
        host, port = _place(_parts(settings["url"]))
        if reach.hosts and host.lower() not in reach.hosts:
            raise NotTaken(f"'{host}' is not among the hosts that alerts may be sent to.", "Add it to LADLE_WEBHOOK_HOSTS.")
        return checked_way(host, port, reach)

    def send(self, message: Message, settings: Mapping[str, str], secret: str, reach: Reach) -> str:
        parts, way = _parts(settings["url"]), self.way(settings, reach)
        host, port = _place(parts)
        body, timestamp = json.dumps(message.to_dict(), ensure_ascii=False).encode(), str(int(time.time()))
        headers = {"Content-Type": "application/json", "User-Agent": "patient-ladle", "webhook-id": message.id,
                   "webhook-timestamp": timestamp}  # fmt: skip
        if secret:
            headers["webhook-signature"] = signature(secret, message.id, timestamp, body)
        connection = _Pinned(host, port, way, parts.scheme == "https")
        try:
            path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
            connection.request("POST", path, body, headers)
            answer = connection.getresponse()
            status, reason = answer.status, answer.reason
            answer.close()
        except (OSError, http.client.HTTPException) as error:
            raise NotSent(f"{host}:{port} could not be used: {error}.", "Check the address and its certificate.") from error
        finally:
            connection.close()
        if 200 <= status < 300:
            return f"{status} {reason}".strip()
        words = f"{host}:{port} answered {status} {reason}".strip() + "."
        if 300 <= status < 400:
            raise NotTaken(words, "Redirects are not followed: give the address that it leads to.")
        raise (NotSent if status >= 500 or status in (408, 425, 429) else NotTaken)(words, "Look into the receiver's log.")


def _place(parts: SplitResult) -> tuple[str, int]:
    """Host and port."""
    return parts.hostname or "", parts.port or (443 if parts.scheme == "https" else 80)


def _parts(url: str) -> SplitResult:
    try:
        parts = urlsplit(url)
        _ = parts.port
    except ValueError:
        parts = SplitResult("", "", "", "", "")
    if parts.scheme not in ("http", "https") or not parts.hostname or parts.username:
        raise BadInput("that is not an address for alerts.", "Write it as in https://alerts.fennmoor.example/ladle.")
    return parts


class _Pinned(http.client.HTTPConnection):
    """To an address that was judged, under the host's name."""

    def __init__(self, host: str, port: int, way: Reached, tls: bool) -> None:
        super().__init__(host, port, timeout=SECONDS)
        self.way, self.tls = way, tls

    def connect(self) -> None:
        plain = connect(self.way, self.port, SECONDS)
        self.sock = ssl.create_default_context().wrap_socket(plain, server_hostname=self.host) if self.tls else plain
