"""Sources and environments, and looks around in them."""

from __future__ import annotations

import time
from collections.abc import Mapping
from typing import Any

from .errors import InquiryFailed
from .group import Group, Listed, name_in_path
from .records import Address, Catalogue, Engine, Environment, Found, Inquiry, Source, Table

INQUIRY_POLL_SECONDS = 0.15


class Sources(Group):
    """Sources and environments."""

    def environments(self) -> Listed[Environment]:
        """All environments, the default one first."""
        return self._get("/environments")

    def add_environment(self, name: str, note: str = "") -> Environment:
        """A new environment."""
        return self._post("/environments", {"name": name, "note": note})

    def engines(self) -> Listed[Engine]:
        """The engines there are, with the fields of their addresses."""
        return self._get("/engines")

    def list(self) -> Listed[Source]:
        """All sources."""
        return self._get("/sources")

    def get(self, name: str) -> Source:
        """One source."""
        return self._get(f"/sources/{name_in_path(name)}")

    def add(self, name: str, engine: str, addresses: Mapping[str, Any], **settings: Any) -> Source:
        """``addresses``: environment → ``{"address": {…}, "secret": "…"}`` or ``{"url": "…"}``."""
        return self._post("/sources", {"name": name, "engine": engine, "addresses": dict(addresses), **settings})

    def edit(self, name: str, **changes: Any) -> Source:
        """``note``, ``group``, ``max_runs``, limits, ``addresses`` (None removes one)."""
        return self._patch(f"/sources/{name_in_path(name)}", changes)

    def remove(self, name: str) -> None:
        """Only while nothing uses it."""
        self._delete(f"/sources/{name_in_path(name)}")

    def check(self, name: str, environment: str | None = None) -> Listed[Address]:
        """Check one address, or all; each with its steps."""
        at = f"?environment={name_in_path(environment)}" if environment else ""
        return self._post(f"/sources/{name_in_path(name)}/check{at}")

    def catalogue(self, name: str, environment: str) -> Catalogue:
        """The stored catalogue: tables, kinds, about how many rows. ``gathered_at`` is None while there is none."""
        return self._get(f"/sources/{name_in_path(name)}/catalogue", environment=environment)

    def table(self, name: str, environment: str, table: str) -> Table:
        """One table: columns, keys both ways, indexes."""
        return self._get(f"/sources/{name_in_path(name)}/tables/{name_in_path(table)}", environment=environment)

    def search(self, word: str, environment: str | None = None) -> Listed[Found]:
        """Tables and columns by name, in every source that was looked around in."""
        return self._get("/catalogue-search", word=word, environment=environment)

    def ask(self, name: str, environment: str, kind: str, **request: Any) -> Inquiry:
        """Start an inquiry: ``catalogue``, ``rows``, ``count`` or ``counts``. See ``look`` for waiting as well."""
        wanted = {"environment": environment, "kind": kind} | {k: v for k, v in request.items() if v is not None}
        return self._post(f"/sources/{name_in_path(name)}/inquiries", wanted)

    def inquiry(self, number: str) -> Inquiry:
        """How far an inquiry is, and what it found."""
        return self._get(f"/inquiries/{name_in_path(number)}")

    def cancel_inquiry(self, number: str) -> Inquiry:
        """Stop an inquiry, and its statement in the source."""
        return self._post(f"/inquiries/{name_in_path(number)}/cancel")

    def look(self, name: str, environment: str, kind: str, **request: Any) -> Inquiry:
        """Ask and wait for the end; an interrupt cancels it. Raises InquiryFailed."""
        return self.ended(self.ask(name, environment, kind, **request))

    def ended(self, found: Inquiry) -> Inquiry:
        """An inquiry once it has ended; an interrupt cancels it. Raises InquiryFailed."""
        try:
            while found["state"] in ("waiting", "running"):
                time.sleep(INQUIRY_POLL_SECONDS)
                found = self.inquiry(found["id"])
        except KeyboardInterrupt:
            self.cancel_inquiry(found["id"])
            raise
        if found["state"] != "finished":
            raise InquiryFailed(found)
        return found
