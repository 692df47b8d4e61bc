"""Lookups: small tables kept in the repository, in revisions."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from .group import Group, Listed, name_in_path
from .records import Lookup, LookupDifferences, LookupRevision, LookupRows


class Lookups(Group):
    """Codes and names, targets, exclusions: used by the steps of extracts."""

    def list(self, archived: bool = False) -> Listed[Lookup]:
        """All of them; ``archived``: those out of sight instead."""
        return self._get("/lookups", **({"archived": "true"} if archived else {}))

    def get(self, name: str) -> Lookup:
        """One, with its newest revision."""
        return self._get(f"/lookups/{name_in_path(name)}")

    def add(self, name: str, **table: Any) -> Lookup:
        """A new one. ``text``: a line of names, then a line for each row, as it is copied from a spreadsheet or stands in a CSV
        file; or ``columns`` and ``rows``. ``key``: columns in which no two rows are equal; ``kinds``: by column; ``note``."""
        return self._post("/lookups", {"name": name, **table})

    def save(self, name: str, revision: int | None = None, **changes: Any) -> Lookup:
        """A new revision: a whole table as in ``add``, or ``put`` rows and ``remove`` keys. ``revision`` is the number one
        began from, refused when somebody saved meanwhile."""
        headers = {"If-Match": f'"{revision}"'} if revision is not None else {}
        return self._patch(f"/lookups/{name_in_path(name)}", changes, **headers)

    def put(self, name: str, *rows: Mapping[str, Any], change_note: str = "") -> Lookup:
        """Rows changed or added by their key; columns that are not named stay as they are."""
        return self.save(name, put=[dict(row) for row in rows], change_note=change_note)

    def remove_rows(self, name: str, keys: Sequence[Any], change_note: str = "") -> Lookup:
        """Rows of these keys; a list of values where the key has several columns."""
        return self.save(name, remove=[*keys], change_note=change_note)

    def rows(
        self, name: str, revision: int | None = None, find: str | None = None, offset: int = 0, limit: int = 1_000
    ) -> LookupRows:
        """A page of rows; ``find``: those with such a text in any column."""
        asked = {"revision": revision, "find": find, "offset": offset, "limit": limit}
        return self._get(f"/lookups/{name_in_path(name)}/rows", **asked)

    def revisions(self, name: str) -> Listed[LookupRevision]:
        """All revisions, newest first."""
        return self._get(f"/lookups/{name_in_path(name)}/revisions")

    def differences(self, name: str, before: int, after: int) -> LookupDifferences:
        """Rows added, removed and changed between two revisions, by their key."""
        return self._get(f"/lookups/{name_in_path(name)}/differences", before=before, after=after)

    def archive(self, name: str) -> Lookup:
        """Out of sight, where no extract uses it; nothing is lost."""
        return self._post(f"/lookups/{name_in_path(name)}/archive")

    def restore(self, name: str, revision: int | None = None) -> Lookup:
        """Back from the archive; with a revision's number, that one made the newest."""
        return self._post(f"/lookups/{name_in_path(name)}/restore", {} if revision is None else {"revision": revision})

    def file(self, name: str, revision: int | None = None, escape_formulas: bool = False) -> str:
        """The whole lookup as comma-separated text; with ``escape_formulas`` for a spreadsheet program, and not to be saved
        again."""
        asked = {} if revision is None else {"revision": revision}
        if escape_formulas:
            asked["escape_formulas"] = True
        return self.transport.bytes_of("GET", f"/lookups/{name_in_path(name)}/file", params=asked).decode()
