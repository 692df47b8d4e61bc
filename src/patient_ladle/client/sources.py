"""Sources and environments, and browses them."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from typing import Any

from .errors import QueryFailed
from .group import Group, Listed, name_in_path
from .records import Address, Catalogue, Engine, Environment, Found, Profile, Query, Source, Table

FIRST_POLL_SECONDS, QUERY_POLL_SECONDS = 0.02, 0.3
"""Between looks at a query: soon at first, as most are over at once, then less often."""


class Sources(Group):
    """Sources and environments."""

    def environments(self) -> Listed[Environment]:
        """All environments, the default one first."""
        return self._get("/environments")

    def add_environment(self, name: str, note: str = "") -> Environment:
        """A new environment."""
        return self._post("/environments", {"name": name, "note": note})

    def edit_environment(self, name: str, note: str) -> Environment:
        """Its note."""
        return self._patch(f"/environments/{name_in_path(name)}", {"note": note})

    def remove_environment(self, name: str) -> None:
        """Only while nothing has used it."""
        self._delete(f"/environments/{name_in_path(name)}")

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
        """``note``, ``group``, ``max_runs``, limits, ``permitted`` (names, all of them), ``addresses`` (None removes one)."""
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
        """Tables and columns by name, in every source that was browsed."""
        return self._get("/catalogue-search", search=word, environment=environment)

    def start_query(self, name: str, environment: str, kind: str, **request: Any) -> Query:
        """Start a query: ``catalogue``, ``rows``, ``count``, ``counts``, ``profile``. See ``run_query`` for waiting too."""
        wanted = {"environment": environment, "kind": kind} | {k: v for k, v in request.items() if v is not None}
        return self._post(f"/sources/{name_in_path(name)}/queries", wanted)

    def query(self, number: str) -> Query:
        """How far a query is, and what it found."""
        return self._get(f"/queries/{name_in_path(number)}")

    def query_profile(self, number: str, column: str) -> Profile:
        """A column of the rows that a query brought, at a glance: rows, absent, distinct, least, greatest, mean, bars."""
        return self._get(f"/queries/{name_in_path(number)}/profile", column=column)

    def query_file(self, number: str, form: str, rows: Sequence[int] | None = None, **more: Any) -> bytes:
        """Some of the rows that a query brought, as a file. ``more``: ``columns`` (places from 0), ``escape_formulas``."""
        body = {"format": form, "rows": None if rows is None else [*rows], **more}
        given = {key: value for key, value in body.items() if value is not None}
        return self.transport.bytes_of("POST", f"/queries/{name_in_path(number)}/file", json=given)

    def cancel_query(self, number: str) -> Query:
        """Stop a query, and its statement in the source."""
        return self._post(f"/queries/{name_in_path(number)}/cancel")

    def run_query(self, name: str, environment: str, kind: str, **request: Any) -> Query:
        """Start a query and wait for its end; an interrupt cancels it. Raises QueryFailed."""
        return self.wait_for_query(self.start_query(name, environment, kind, **request))

    def wait_for_query(self, found: Query) -> Query:
        """A query once it has ended; an interrupt cancels it. Raises QueryFailed."""
        wait = FIRST_POLL_SECONDS
        try:
            while found["state"] in ("waiting", "running"):
                time.sleep(wait)
                wait = min(wait * 1.5, QUERY_POLL_SECONDS)
                found = self.query(found["id"])
        except KeyboardInterrupt:
            self.cancel_query(found["id"])
            raise
        if found["state"] != "finished":
            raise QueryFailed(found)
        return found
