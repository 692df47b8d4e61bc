"""The family of channels on which alerts are sent.

To add one: copy ``webhook.py``, change it, add one line to ``CHANNELS`` below and its cases to
``tests/adapters/test_alerts.py``.
"""

from __future__ import annotations

from patient_ladle.core.errors import unknown_name

from .base import Channel, NotSent
from .smtp import SmtpChannel
from .webhook import WebhookChannel

CHANNELS: dict[str, Channel] = {member.name: member for member in (SmtpChannel(), WebhookChannel())}


def get_channel(name: str) -> Channel:
    """The kind of channel of that name. Raises UnknownName."""
    if name not in CHANNELS:
        raise unknown_name("kind of channel", name, CHANNELS)
    return CHANNELS[name]


__all__ = ["CHANNELS", "Channel", "NotSent", "get_channel"]
