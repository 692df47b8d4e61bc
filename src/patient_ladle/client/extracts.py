"""Extracts, their revisions, and what helps while one writes them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from .group import Group, Listed, name_in_path
from .records import (
    CheckedSteps,
    Completion,
    Diagnostics,
    Differences,
    Draft,
    DraftLine,
    Extract,
    ExtractLine,
    Filings,
    Query,
    Revision,
)


class Extracts(Group):
    """The repository."""

    def list(
        self,
        search: str | None = None,
        folder: str | None = None,
        archived: bool = False,
        tag: str | None = None,
        favourite: bool = False,
    ) -> Listed[ExtractLine]:
        """Extracts by folder and name, each with its last run and what comes next; ``search``: words, and where they are
        looked for, as in ``tag:payroll state:failed owner:amir meter``."""
        only = {key: "true" for key, wanted in (("archived", archived), ("favourite", favourite)) if wanted}
        return self._get("/extracts", search=search, folder=folder, tag=tag, **only)

    def file(self, extracts: Iterable[Mapping[str, Any]]) -> Filings:
        """Several put elsewhere at once: each ``name`` with ``folder``, ``tags``, ``archived`` as they are to be. All of them
        or none; ``before`` in the answer, handed in again, undoes it."""
        return self._post("/filings", {"extracts": [dict(each) for each in extracts]})

    def set_favourite(self, name: str, favourite: bool = True) -> None:
        """One of your favourites, or none any more."""
        address = f"/extracts/{name_in_path(name)}/favourite"
        self._put(address, {}) if favourite else self._delete(address)

    def get(self, name: str) -> Extract:
        """One extract with its newest revision."""
        return self._get(f"/extracts/{name_in_path(name)}")

    def add(self, name: str, source: str, statement: str | None = None, **content: Any) -> Extract:
        """A new extract with its first revision; ``source``: empty for one that computes from its values alone, and for a
        combination, which is given ``inputs``. Without a ``statement`` an ``outline`` is given, from which it is compiled."""
        body = {"name": name, "source": source, **({} if statement is None else {"statement": statement}), **content}
        return self._post("/extracts", body)

    def save(self, name: str, revision: int | None = None, **changes: Any) -> Extract:
        """A new revision; ``revision`` is the number one began from, refused when somebody saved meanwhile."""
        headers = {"If-Match": f'"{revision}"'} if revision is not None else {}
        return self._patch(f"/extracts/{name_in_path(name)}", changes, **headers)

    def revisions(self, name: str) -> Listed[Revision]:
        """All revisions, newest first."""
        return self._get(f"/extracts/{name_in_path(name)}/revisions")

    def move(self, name: str, folder: str | None = None, new_name: str | None = None) -> Extract:
        """Another folder or name."""
        body = {"folder": folder, "name": new_name}
        return self._post(f"/extracts/{name_in_path(name)}/move", {k: v for k, v in body.items() if v is not None})

    def edit(self, name: str, tags: Sequence[str] | None = None, owner: str | None = None) -> Extract:
        """Other tags or another owner."""
        body = {"tags": None if tags is None else [*tags], "owner": owner}
        return self._post(f"/extracts/{name_in_path(name)}/details", {k: v for k, v in body.items() if v is not None})

    def copy(self, name: str, new_name: str, folder: str | None = None, source: str | None = None) -> Extract:
        """A new extract that begins as this one, on another source of the same language if given."""
        body = {"name": new_name, "folder": folder, "source": source}
        return self._post(f"/extracts/{name_in_path(name)}/copy", {k: v for k, v in body.items() if v is not None})

    def differences(self, name: str, before: int, after: int) -> Differences:
        """What differs between two revisions: lines of the statement, and settings."""
        return self._get(f"/extracts/{name_in_path(name)}/differences", before=before, after=after)

    def diagnose(
        self,
        source: str,
        environment: str,
        statement: str,
        parameters: Sequence[Mapping[str, Any]] = (),
        inputs: Sequence[Mapping[str, Any]] = (),
        steps: Sequence[Mapping[str, Any]] = (),
    ) -> Diagnostics:
        """Diagnostics on a statement, by its text, the database's own word and the catalogues; nothing is run. ``inputs``: what
        it combines, where it has no source; ``steps``: on its result, which may use parameters, too."""
        body = {"source": source, "environment": environment, "statement": statement, "parameters": [*parameters]}
        return self._post("/diagnostics", body | {"inputs": [*inputs], "steps": [*steps]})

    def input_schema(self) -> dict[str, Any]:
        """What inputs of a combination may say (JSON Schema)."""
        found: dict[str, Any] = self._get("/input-schema")
        return found

    def check_steps(
        self,
        steps: Sequence[Mapping[str, Any]],
        columns: Sequence[Mapping[str, Any]],
        parameters: Sequence[Mapping[str, Any]] = (),
        statement_number: int = 1,
        **of_inputs: Any,
    ) -> CheckedSteps:
        """Steps understood over the ``columns`` of a result, as a preview gives them; no row is read. Each step with its words
        and the columns after it; ``error``: what is wrong with the first that cannot be done. ``of_inputs``: ``inputs`` of a
        combination and the ``environment`` where they are asked, for steps that look up in one of them."""
        body = {"steps": [*steps], "columns": [*columns], "parameters": [*parameters], "statement_number": statement_number}
        return self._post("/steps/check", body | of_inputs)

    def step_schema(self) -> dict[str, Any]:
        """What steps may say (JSON Schema)."""
        found: dict[str, Any] = self._get("/step-schema")
        return found

    def complete(
        self,
        source: str,
        environment: str,
        statement: str,
        position: int,
        parameters: Sequence[str] = (),
    ) -> Completion:
        """What may come next at a position, in code points from 0: ``proposals``, and what is ``typed`` there already."""
        body = {"source": source, "environment": environment, "statement": statement, "position": position}
        return self._post("/completions", body | {"parameters": [*parameters]})

    def start_preview(self, source: str, environment: str, statement: str, **request: Any) -> Query:
        """Start a query for the first rows of one statement (``statement_number``, from 1), or for their number (``total``).

        Further ``parameters``, ``values``, ``data_date``, ``rows``; ``inputs`` of a combination, ``steps``. Wait for it with
        ``sources.ended``.
        """
        body = {"source": source, "environment": environment, "statement": statement}
        return self._post("/previews", body | {key: value for key, value in request.items() if value is not None})

    def restore_parameters(self, source: str, statement: str) -> str:
        """A statement that was taken out with its values filled in, its parameters in place again."""
        found: str = self._post("/restore-parameters", {"source": source, "statement": statement})["statement"]
        return found

    def set_retention(self, name: str, days: int | None = None, runs: int | None = None) -> Extract:
        """How long, and how many of, its results are kept in the store; the newest always is."""
        return self._put(f"/extracts/{name_in_path(name)}/retention", {"days": days, "runs": runs})

    def set_depends_on(self, name: str, extracts: Sequence[str]) -> Extract:
        """Its scheduled runs wait for those of these extracts, of the same data date."""
        return self._put(f"/extracts/{name_in_path(name)}/depends-on", {"depends_on": [*extracts]})

    def archive(self, name: str) -> Extract:
        """Out of sight; ``restore`` brings it back."""
        return self._post(f"/extracts/{name_in_path(name)}/archive")

    def restore(self, name: str, revision: int | None = None) -> Extract:
        """Back from the archive, or an old revision made the newest."""
        return self._post(f"/extracts/{name_in_path(name)}/restore", {} if revision is None else {"revision": revision})

    def drafts(self) -> Listed[DraftLine]:
        """One's own unsaved work, the newest first: of extracts, and of texts that are none yet (by ``key``)."""
        return self._get("/drafts")

    def draft(self, name: str = "", key: str = "") -> Draft:
        """One's own draft of an extract, or of the text with that key; its ``version`` is 0 where there is none."""
        return self._get(_draft_at(name, key))

    def keep_draft(
        self, content: Mapping[str, Any], version: int, name: str = "", key: str = "", base: int | None = None
    ) -> Draft:
        """Write one's draft on top of ``version`` (0: there was none). Raises CallFailed (*edited_meanwhile*)."""
        return self._put(_draft_at(name, key), {"content": dict(content), "version": version, "base": base})

    def drop_draft(self, name: str = "", key: str = "") -> None:
        """One's draft is gone."""
        self._delete(_draft_at(name, key))


def _draft_at(name: str, key: str) -> str:
    return f"/extracts/{name_in_path(name)}/draft" if name else f"/drafts/{name_in_path(key)}"
