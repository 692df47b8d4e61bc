"""Takes alerts to their channels, in a thread of its own: a mail server that hangs holds up nothing but mail."""

from __future__ import annotations

import logging
import threading
from concurrent.futures import Future, wait
from datetime import timedelta
from datetime import timezone as zones
from typing import Any

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from patient_ladle.adapters.alerts import get_channel
from patient_ladle.adapters.alerts.base import NotSent
from patient_ladle.core.aside import aside
from patient_ladle.core.keepable import keepable_text
from patient_ladle.core.runs.alerts import Message
from patient_ladle.core.runs.retrying import RetryPolicy
from patient_ladle.service.common.alone import guarded
from patient_ladle.service.common.fields import UnreadableSecret

from .models import FAILED, SENT, WAITING, Alert, Sending
from .services import reach

log = logging.getLogger("ladle.courier")

POLL_SECONDS = 1.0
BATCH = 20
LEASE = timedelta(minutes=2)
"""A sending taken by a courier that died is taken again after so long."""
SEND_SECONDS = 60.0
"""One sending, from the first word to the last: a server that answers by the letter is given up."""
PATIENCE = RetryPolicy(10, first_wait_seconds=10.0)
"""Ten tries over about an hour and a half."""


def message_of(alert: Alert) -> Message:
    """As channels get it."""
    return Message(
        alert.id,
        alert.kind,
        alert.title,
        alert.cause,
        alert.next_step,
        f"{settings.PUBLIC_URL}{alert.path}" if alert.path else "",
        alert.at.astimezone(zones.utc).isoformat(timespec="seconds").replace("+00:00", "Z"),
    )


def send_due() -> int:
    """Try what is due; returns how many were tried."""
    now = timezone.now()
    with transaction.atomic():
        due = list(
            Sending.objects.select_for_update(skip_locked=True, of=("self",))
            .filter(state=WAITING, next_at__lte=now)
            .select_related("alert")
            .order_by("next_at", "id")[:BATCH]
        )
        for sending in due:
            sending.attempts, sending.next_at = sending.attempts + 1, now + LEASE
            sending.save(update_fields=["attempts", "next_at"])
    for sending in due:
        _send(sending)
    return len(due)


def _send(sending: Sending) -> None:
    channel, now = sending.channel, timezone.now()
    try:
        if isinstance(channel.secret, UnreadableSecret):
            raise NotSent(f"the secret of channel '{channel.name}' cannot be read with the keys of this host.",
                          "Put keys/secrets.key of the service back, or give the secret anew: ladle channel edit.")  # fmt: skip
        wanted = channel.settings | ({"to": sending.to} if sending.to else {})
        said = _sent_in_time(sending, wanted)
        sending.state, sending.response, sending.sent_at = SENT, keepable_text(said)[:1000], now
    except NotSent as error:
        again, why_not = PATIENCE.again_at(error, sending.attempts, timezone.now())
        sending.response = keepable_text(f"{error.in_words()} {'' if again else why_not}".strip())[:1000]
        sending.state, sending.next_at = (WAITING, again) if again else (FAILED, now)
        log.warning("alert %s to %s: %s", sending.alert_id, channel.name, sending.response)
    except Exception:
        log.exception("alert %s to %s", sending.alert_id, channel.name)
        sending.state, sending.response = FAILED, "a fault of the service's own; its log has the details"
    sending.save()


_HANGING: dict[int, Future[str]] = {}
"""Sendings that were given up and go on in their threads, by the number of their channel."""


def _sent_in_time(sending: Sending, wanted: dict[str, Any]) -> str:
    """What the other side said. Raises NotSent, whatever it does for however long: then its thread is left to itself, and
    the channel is not tried again before it has ended."""
    channel, message = sending.channel, message_of(sending.alert)
    if channel.pk in _HANGING and not _HANGING[channel.pk].done():
        raise NotSent(f"an earlier sending to '{channel.name}' has not ended yet.", "See what its server does.")
    sent = aside(lambda: get_channel(channel.kind).send(message, wanted, channel.secret, reach()))
    wait([sent], SEND_SECONDS)
    if not sent.done():
        _HANGING[channel.pk] = sent
        words = f"the server had not taken it after {SEND_SECONDS:g} s."
        raise NotSent(words, "See whether it, or the network on the way to it, hangs.")
    return sent.result()


def work(stop: threading.Event) -> None:
    """Until asked to stop."""
    while not stop.wait(POLL_SECONDS):
        with guarded("sending alerts", log):
            while send_due() == BATCH and not stop.is_set():
                continue
