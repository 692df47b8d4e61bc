"""Shared values, by environment, and date phrases."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from .group import Group, Listed, name_in_path
from .records import Phrase, SharedValue


class Values(Group):
    """Shared values, and what date phrases mean."""

    def list(self) -> Listed[SharedValue]:
        """All shared values, each with who uses it."""
        return self._get("/values")

    def get(self, name: str) -> SharedValue:
        """One shared value."""
        return self._get(f"/values/{name_in_path(name)}")

    def set(self, name: str, values: Mapping[str, Any], note: str | None = None) -> SharedValue:
        """``values`` by environment; None removes one there."""
        body = {"values": dict(values)} | ({} if note is None else {"note": note})
        return self._patch(f"/values/{name_in_path(name)}", body)

    def remove(self, name: str) -> None:
        """Only while nothing uses it."""
        self._delete(f"/values/{name_in_path(name)}")

    def phrases(self, phrase: str | None = None, data_date: str | None = None) -> Listed[Phrase]:
        """What a date phrase means on a data date; without one, examples."""
        return self._get("/date-phrases", phrase=phrase, data_date=data_date)
