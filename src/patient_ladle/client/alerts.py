"""Calls about alerts and the channels on which they are sent."""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import Any

from .group import Group, Listed, name_in_path
from .records import Alert, Bell, Channel, ChannelKind, OwnAlerts, Sending

TEST_SECONDS = 30.0
POLL_SECONDS = 0.5


class Alerts(Group):
    """Alerts, what was sent of them, and channels."""

    def list(self) -> Iterator[Alert]:
        """Newest first."""
        return self.transport.pages("/alerts")

    def own(self) -> OwnAlerts:
        """What one is told of runs that one starts oneself: ``own_runs``, ``mail``, and whether a channel takes it there."""
        return self._get("/me/alerts")

    def choose_own(self, **choices: str) -> OwnAlerts:
        """``own_runs`` (nothing, failed, ended), ``mail`` (an address, or empty)."""
        return self._patch("/me/alerts", choices)

    def bell(self) -> Bell:
        """``unseen``: alerts since one last looked; ``open_problems``."""
        return self._get("/bell")

    def mark_seen(self) -> None:
        """One has looked."""
        self.transport.call("POST", "/bell", json={})

    def sendings(self) -> Iterator[Sending]:
        """Each alert on each channel, with what came back."""
        return self.transport.pages("/sendings")

    def send_again(self, number: int) -> Sending:
        """Of a sending that was given up."""
        return self._post(f"/sendings/{number}/again")

    def channels(self) -> Listed[Channel]:
        """All channels."""
        return self._get("/channels")

    def channel(self, name: str) -> Channel:
        """One channel."""
        return self._get(f"/channels/{name_in_path(name)}")

    def channel_kinds(self) -> Listed[ChannelKind]:
        """Kinds of channels with their settings."""
        return self._get("/channel-kinds")

    def add_channel(self, name: str, kind: str, settings: dict[str, Any], **more: Any) -> Channel:
        """``more``: ``secret``, ``kinds`` of alerts, ``for_people``."""
        return self._post("/channels", {"name": name, "kind": kind, "settings": settings, **more})

    def edit_channel(self, name: str, **changes: Any) -> Channel:
        """``settings`` (whole), ``secret``, ``kinds``, ``active``, ``for_people``."""
        return self._patch(f"/channels/{name_in_path(name)}", changes)

    def remove_channel(self, name: str) -> None:
        """With the log of what was sent on it."""
        self._delete(f"/channels/{name_in_path(name)}")

    def test_channel(self, name: str) -> Sending:
        """Send an alert on it and wait a while for what comes back; the sending's record."""
        number, until = self._post(f"/channels/{name_in_path(name)}/test")["id"], time.monotonic() + TEST_SECONDS
        while True:
            found: Sending = next(one for one in self.sendings() if one["id"] == number)
            if found["response"] or found["state"] != "waiting" or time.monotonic() > until:
                return found
            time.sleep(POLL_SECONDS)
