"""People, for administrators, and one's own tokens."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from .group import Group, Listed, name_in_path
from .records import Me, PeopleGroup, Person, Session, Token


class People(Group):
    """People (for administrators) and one's own tokens."""

    def me(self) -> Me:
        """Name and role of whoever is signed in."""
        return self._get("/me")

    def change_password(self, old: str, new: str) -> Me:
        """One's own password; every other sign-in and token of one's own ends with the old one."""
        return self._patch("/me", {"old_password": old, "password": new})

    def list(self) -> Listed[Person]:
        """Everybody."""
        return self._get("/people")

    def add(self, name: str, password: str, role: str = "reader") -> Person:
        """A new person."""
        return self._post("/people", {"name": name, "password": password, "role": role})

    def edit(self, name: str, **changes: Any) -> Person:
        """``role``, ``password`` or ``active``."""
        return self._patch(f"/people/{name_in_path(name)}", changes)

    def groups(self) -> Listed[PeopleGroup]:
        """Groups of people with their members."""
        return self._get("/groups")

    def group(self, name: str) -> PeopleGroup:
        """One group with its members."""
        return self._get(f"/groups/{name_in_path(name)}")

    def add_group(self, name: str, role: str = "reader", **more: Any) -> PeopleGroup:
        """A new group, whose members have at least its role. ``more``: ``note``, ``members`` (names)."""
        return self._post("/groups", {"name": name, "role": role, **more})

    def edit_group(self, name: str, **changes: Any) -> PeopleGroup:
        """``role``, ``note``, ``members`` (all of them)."""
        return self._patch(f"/groups/{name_in_path(name)}", changes)

    def remove_group(self, name: str) -> None:
        """Its members keep their own roles."""
        self._delete(f"/groups/{name_in_path(name)}")

    def sessions(self) -> Listed[Session]:
        """Browsers in which one is signed in, the last used first."""
        return self._get("/me/sessions")

    def end_session(self, number: int) -> None:
        """Sign one of them out."""
        self._delete(f"/me/sessions/{number}")

    def end_other_sessions(self) -> None:
        """Sign all of them out, but the one that asks."""
        self._delete("/me/sessions")

    def tokens(self) -> Iterator[Token]:
        """Tokens that one may see."""
        return self.transport.pages("/tokens")

    def add_token(self, name: str, role: str | None = None, days: int | None = None) -> Token:
        """A new token; its ``secret`` is in this answer and never again."""
        body = {"name": name, "role": role, "days": days}
        return self._post("/tokens", {key: value for key, value in body.items() if value is not None})

    def revoke_token(self, token_id: int) -> None:
        """End a token."""
        self._delete(f"/tokens/{token_id}")
