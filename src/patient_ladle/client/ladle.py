"""``Ladle``: one object for the service, holding one group of calls for each noun. Records are plain dictionaries,
with the fields that the service's API document describes.
"""

from __future__ import annotations

import csv
import hashlib
import json
import os
import time
import uuid
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from types import TracebackType
from typing import Any

from .alerts import Alerts
from .errors import ClientError, FileDamaged, InquiryFailed, RunFailed
from .group import Group, Record, Records, name_in_path
from .schedules import Schedules
from .transport import Transport

Paths = list[Path]
ENDED = ("finished", "failed", "cancelled", "not_run")
POLL_SECONDS = 0.5
INQUIRY_POLL_SECONDS = 0.15


def _lines(pieces: Iterator[bytes]) -> Iterator[str]:
    """Lines, their ends kept, of a UTF-8 text that arrives in pieces."""
    rest = b""
    for piece in pieces:
        *lines, rest = (rest + piece).split(b"\n")
        yield from (line.decode() + "\n" for line in lines)
    if rest:
        yield rest.decode()


class People(Group):
    """People (for administrators) and one's own tokens."""

    def me(self) -> Record:
        """Name and role of whoever is signed in."""
        return self._get("/me")

    def change_password(self, old: str, new: str) -> Record:
        """One's own password; every other sign-in and token of one's own ends with the old one."""
        return self._patch("/me", {"old_password": old, "password": new})

    def list(self) -> Records:
        """Everybody."""
        return self._get("/people")

    def add(self, name: str, password: str, role: str = "reader") -> Record:
        """A new person."""
        return self._post("/people", {"name": name, "password": password, "role": role})

    def edit(self, name: str, **changes: Any) -> Record:
        """``role``, ``password`` or ``active``."""
        return self._patch(f"/people/{name_in_path(name)}", changes)

    def tokens(self) -> Iterator[Record]:
        """Tokens that one may see."""
        return self.transport.pages("/tokens")

    def add_token(self, name: str, role: str | None = None, days: int | None = None) -> Record:
        """A new token; its ``secret`` is in this answer and never again."""
        body = {"name": name, "role": role, "days": days}
        return self._post("/tokens", {key: value for key, value in body.items() if value is not None})

    def revoke_token(self, token_id: int) -> None:
        """End a token."""
        self._delete(f"/tokens/{token_id}")


class Sources(Group):
    """Sources and environments."""

    def environments(self) -> Records:
        """All environments, the default one first."""
        return self._get("/environments")

    def add_environment(self, name: str, note: str = "") -> Record:
        """A new environment."""
        return self._post("/environments", {"name": name, "note": note})

    def engines(self) -> Records:
        """The engines there are, with the fields of their addresses."""
        return self._get("/engines")

    def list(self) -> Records:
        """All sources."""
        return self._get("/sources")

    def get(self, name: str) -> Record:
        """One source."""
        return self._get(f"/sources/{name_in_path(name)}")

    def add(self, name: str, engine: str, addresses: Mapping[str, Any], **settings: Any) -> Record:
        """``addresses``: environment → ``{"address": {…}, "secret": "…"}`` or ``{"url": "…"}``."""
        return self._post("/sources", {"name": name, "engine": engine, "addresses": dict(addresses), **settings})

    def edit(self, name: str, **changes: Any) -> Record:
        """``note``, ``group``, ``max_runs``, limits, ``addresses`` (None removes one)."""
        return self._patch(f"/sources/{name_in_path(name)}", changes)

    def remove(self, name: str) -> None:
        """Only while nothing uses it."""
        self._delete(f"/sources/{name_in_path(name)}")

    def check(self, name: str, environment: str | None = None) -> Records:
        """Check one address, or all; each with its steps."""
        at = f"?environment={name_in_path(environment)}" if environment else ""
        return self._post(f"/sources/{name_in_path(name)}/check{at}")

    def catalogue(self, name: str, environment: str) -> Record:
        """The stored catalogue: tables, kinds, about how many rows. ``gathered_at`` is None while there is none."""
        return self._get(f"/sources/{name_in_path(name)}/catalogue", environment=environment)

    def table(self, name: str, environment: str, table: str) -> Record:
        """One table: columns, keys both ways, indexes."""
        return self._get(f"/sources/{name_in_path(name)}/tables/{name_in_path(table)}", environment=environment)

    def search(self, word: str, environment: str | None = None) -> Records:
        """Tables and columns by name, in every source that was looked around in."""
        return self._get("/catalogue-search", word=word, environment=environment)

    def ask(self, name: str, environment: str, kind: str, **request: Any) -> Record:
        """Start an inquiry: ``catalogue``, ``rows``, ``count`` or ``counts``. See ``look`` for waiting as well."""
        wanted = {"environment": environment, "kind": kind} | {k: v for k, v in request.items() if v is not None}
        return self._post(f"/sources/{name_in_path(name)}/inquiries", wanted)

    def inquiry(self, number: str) -> Record:
        """How far an inquiry is, and what it found."""
        return self._get(f"/inquiries/{name_in_path(number)}")

    def cancel_inquiry(self, number: str) -> Record:
        """Stop an inquiry, and its statement in the source."""
        return self._post(f"/inquiries/{name_in_path(number)}/cancel")

    def look(self, name: str, environment: str, kind: str, **request: Any) -> Record:
        """Ask and wait for the end; an interrupt cancels it. Raises InquiryFailed."""
        return self.ended(self.ask(name, environment, kind, **request))

    def ended(self, found: Record) -> Record:
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


class Extracts(Group):
    """The repository."""

    def list(
        self, search: str | None = None, folder: str | None = None, archived: bool = False, tag: str | None = None
    ) -> Records:
        """Extracts, by folder and name."""
        return self._get("/extracts", search=search, folder=folder, archived="true" if archived else None, tag=tag)

    def get(self, name: str) -> Record:
        """One extract with its newest revision."""
        return self._get(f"/extracts/{name_in_path(name)}")

    def add(self, name: str, source: str, statement: str, **content: Any) -> Record:
        """A new extract with its first revision; ``source``: empty for one that computes from its values alone."""
        return self._post("/extracts", {"name": name, "source": source, "statement": statement, **content})

    def save(self, name: str, revision: int | None = None, **changes: Any) -> Record:
        """A new revision; ``revision`` is the number one began from, refused when somebody saved meanwhile."""
        headers = {"If-Match": f'"{revision}"'} if revision is not None else {}
        return self._patch(f"/extracts/{name_in_path(name)}", changes, **headers)

    def revisions(self, name: str) -> Records:
        """All revisions, newest first."""
        return self._get(f"/extracts/{name_in_path(name)}/revisions")

    def move(self, name: str, folder: str | None = None, new_name: str | None = None) -> Record:
        """Another folder or name."""
        body = {"folder": folder, "name": new_name}
        return self._post(f"/extracts/{name_in_path(name)}/move", {k: v for k, v in body.items() if v is not None})

    def edit(self, name: str, tags: Sequence[str] | None = None, owner: str | None = None) -> Record:
        """Other tags or another owner."""
        body = {"tags": None if tags is None else [*tags], "owner": owner}
        return self._post(f"/extracts/{name_in_path(name)}/details", {k: v for k, v in body.items() if v is not None})

    def copy(self, name: str, new_name: str, folder: str | None = None, source: str | None = None) -> Record:
        """A new extract that begins as this one, on another source of the same language if given."""
        body = {"name": new_name, "folder": folder, "source": source}
        return self._post(f"/extracts/{name_in_path(name)}/copy", {k: v for k, v in body.items() if v is not None})

    def differences(self, name: str, before: int, after: int) -> Record:
        """What differs between two revisions: lines of the statement, and settings."""
        return self._get(f"/extracts/{name_in_path(name)}/differences", before=before, after=after)

    def diagnose(self, source: str, environment: str, statement: str, parameters: Sequence[Record] = ()) -> Record:
        """Remarks on a statement, by its text, the database's own word and the catalogues; nothing is run."""
        body = {"source": source, "environment": environment, "statement": statement, "parameters": [*parameters]}
        return self._post("/diagnostics", body)

    def start_preview(self, source: str, environment: str, statement: str, **request: Any) -> Record:
        """Start an inquiry for the first rows of one statement (``part``, from 0), or for their number (``total``).

        Further ``parameters``, ``values``, ``data_date``, ``rows``. Wait for it with ``sources.ended``.
        """
        body = {"source": source, "environment": environment, "statement": statement}
        return self._post("/previews", body | {key: value for key, value in request.items() if value is not None})

    def restore_parameters(self, source: str, statement: str) -> str:
        """A statement that was taken out with its values filled in, its parameters in place again."""
        found: str = self._post("/restore-parameters", {"source": source, "statement": statement})["statement"]
        return found

    def set_retention(self, name: str, days: int | None = None, runs: int | None = None) -> Record:
        """How long, and how many of, its results are kept in the store; the newest always is."""
        return self._put(f"/extracts/{name_in_path(name)}/retention", {"days": days, "runs": runs})

    def set_depends_on(self, name: str, extracts: Sequence[str]) -> Record:
        """Its scheduled runs wait for those of these extracts, of the same data date."""
        return self._put(f"/extracts/{name_in_path(name)}/depends-on", {"depends_on": [*extracts]})

    def archive(self, name: str) -> Record:
        """Out of sight; ``restore`` brings it back."""
        return self._post(f"/extracts/{name_in_path(name)}/archive")

    def restore(self, name: str, revision: int | None = None) -> Record:
        """Back from the archive, or an old revision made the newest."""
        return self._post(f"/extracts/{name_in_path(name)}/restore", {} if revision is None else {"revision": revision})


class Values(Group):
    """Shared values, and what date phrases mean."""

    def list(self) -> Records:
        """All shared values, each with who uses it."""
        return self._get("/values")

    def get(self, name: str) -> Record:
        """One shared value."""
        return self._get(f"/values/{name_in_path(name)}")

    def set(self, name: str, values: Mapping[str, Any], note: str | None = None) -> Record:
        """``values`` by environment; None removes one there."""
        body = {"values": dict(values)} | ({} if note is None else {"note": note})
        return self._patch(f"/values/{name_in_path(name)}", body)

    def remove(self, name: str) -> None:
        """Only while nothing uses it."""
        self._delete(f"/values/{name_in_path(name)}")

    def phrases(self, phrase: str | None = None, data_date: str | None = None) -> Records:
        """What a date phrase means on a data date; without one, examples."""
        return self._get("/date-phrases", phrase=phrase, data_date=data_date)


class Runs(Group):
    """Runs, their logs and files."""

    def start(self, extract: str, *, idempotency_key: str | None = None, **body: Any) -> Record:
        """Start a run, safely again: ``environment``, ``values``, ``formats``, ``data_date``, ``revision``, ``publish``."""
        wanted = {"extract": extract} | {key: value for key, value in body.items() if value is not None}
        return self._post("/runs", wanted, **{"Idempotency-Key": idempotency_key or uuid.uuid4().hex})

    def dry_run(self, extract: str, **body: Any) -> Record:
        """What a run with the same arguments as ``start`` would do, worked out without running."""
        return self._post("/dry-runs", {"extract": extract} | {key: value for key, value in body.items() if value is not None})

    def get(self, number: int) -> Record:
        """The run's record."""
        return self._get(f"/runs/{number}")

    def list(self, **filters: Any) -> Iterator[Record]:
        """Newest first; ``extract``, ``schedule``, ``state``, ``since``."""
        return self.transport.pages("/runs", **filters)

    def wait(
        self, number: int, timeout_seconds: float | None = None, progress: Callable[[Record], None] | None = None
    ) -> Record:
        """The record of the finished run. ``progress`` is called with each look at it.

        Raises RunFailed when it failed or was cancelled, and ClientError at the timeout.
        """
        began = time.monotonic()
        while True:
            run = self.get(number)
            if progress is not None:
                progress(run)
            if run["state"] == "finished":
                return run
            if run["state"] in ENDED:
                raise RunFailed(run)
            if timeout_seconds is not None and time.monotonic() - began > timeout_seconds:
                raise ClientError(
                    f"run {number} is still {run['state']} after {timeout_seconds:g} s.", "It goes on; wait again."
                )
            time.sleep(POLL_SECONDS)

    def log(self, number: int, follow: bool = False) -> Iterator[Record]:
        """The run log's lines; with ``follow`` until the run has ended."""
        after = 0
        while True:
            part = self._get(f"/runs/{number}/log", after=after)
            yield from part["lines"]
            if part["ended"] or (not follow and not part["lines"]):
                return
            after = part["next"]
            if not part["lines"]:
                time.sleep(POLL_SECONDS)

    def cancel(self, number: int) -> Record:
        """Ask the run to stop."""
        return self._post(f"/runs/{number}/cancel")

    def again(self, number: int, newest_revision: bool = False) -> Record:
        """The same values and data date once more, of the run's own revision or of today's."""
        return self._post(f"/runs/{number}/again", {"newest_revision": newest_revision})

    def workers(self) -> Records:
        """Those that are there, with how many runs each carries out."""
        return self._get("/workers")

    def drain(self, worker: str, draining: bool = True) -> Record:
        """The worker takes no more runs, or does again."""
        return self._post(f"/workers/{name_in_path(worker)}/drain", {"draining": draining})

    def release(self, number: int, note: str = "", wait: bool = True) -> Record:
        """Deliver what a guard held back; waits until that was tried, unless ``wait`` is false."""
        return self._tried(self._post(f"/runs/{number}/release", {"note": note}), wait)

    def deliver(self, number: int, into: str = "", leave: bool = False, note: str = "", wait: bool = True) -> Record:
        """Have a delivery that failed tried again, ``into`` other folders if any are given, or ``leave`` it undelivered."""
        then = "left" if leave else "elsewhere" if into else "again"
        return self._tried(self._post(f"/runs/{number}/delivery", {"then": then, "into": into, "note": note}), wait)

    def _tried(self, run: Record, wait: bool) -> Record:
        while wait and run["delivery"] in ("waiting", "in_progress") and not run["delivery_error"]:
            time.sleep(POLL_SECONDS)
            run = self.get(run["id"])
        return run

    def publish(self, number: int, wait: bool = True) -> Record:
        """Its result counts from now on among what its extract publishes, and is delivered; waits until that was tried."""
        return self._tried(self._post(f"/runs/{number}/publish"), wait)

    def withdraw(self, number: int, note: str = "") -> Record:
        """It does not any more; delivered files stay where they are."""
        return self._post(f"/runs/{number}/withdraw", {"note": note})

    def reject(self, number: int, note: str = "") -> Record:
        """What a guard held back is never delivered."""
        return self._post(f"/runs/{number}/reject", {"note": note})

    def results(self, extract: str | None = None) -> Iterator[Record]:
        """Result files of finished runs, newest first."""
        return self.transport.pages("/results", extract=extract)

    def read(self, number: int, name: str) -> Iterator[bytes]:
        """A file's bytes in pieces."""
        return self.transport.stream(f"/runs/{number}/files/{name_in_path(name)}")

    def save_files(self, run: Record | int, folder: str | Path, names: Sequence[str] | None = None) -> Paths:
        """Save files into a folder, each under a temporary name until its checksum is proven, and their descriptor.

        ``names``: only these files, without the descriptor. Raises FileDamaged.
        """
        record = self.get(run) if isinstance(run, int) else run
        target = Path(folder)
        target.mkdir(parents=True, exist_ok=True)
        saved = []
        for file in record["files"]:
            if names is not None and file["name"] not in names:
                continue
            path = target / file["name"]
            _save(path, self.read(record["id"], file["name"]), file["sha256"])
            saved.append(path)
        if saved and names is None:
            path = target / f"run-{record['id']}.datapackage.json"
            _save(path, self.read(record["id"], "datapackage.json"))
            saved.append(path)
        return saved

    def preview_file(self, number: int, name: str, rows: int = 50, sheet: str | None = None) -> Record:
        """``columns``, the first ``rows`` as they stand in the file, and whether that was all (``complete``)."""
        wanted = {"rows": rows} | ({"sheet": sheet} if sheet else {})
        return self.transport.call("GET", f"/runs/{number}/files/{name_in_path(name)}/preview", params=wanted)

    def save_archive(self, number: int, folder: str | Path) -> Path:
        """All files of a run and their descriptor, in one ZIP archive; returns its path."""
        record = self.get(number)
        path = Path(folder) / f"{record['extract']}-{record['data_date']}-run-{number}.zip"
        _save(path, self.transport.stream(f"/runs/{number}/archive"))
        return path

    def latest_run(self, extract: str, environment: str | None = None, form: str | None = None) -> Record:
        """What the extract published last: ``run``, its ``files``, and ``newer_held``, a newer one that a guard holds back."""
        return self._get(f"/extracts/{name_in_path(extract)}/latest", environment=environment, format=form)

    def latest(self, extract: str, form: str, **which: Any) -> Iterator[bytes]:
        """The bytes of the latest published result in a format, of an ``environment``, ``statement`` (from 1) and ``part``."""
        asked = "&".join(f"{key}={name_in_path(str(value))}" for key, value in which.items() if value is not None)
        return self.transport.stream(
            f"/extracts/{name_in_path(extract)}/latest/{name_in_path(form)}" + (f"?{asked}" if asked else "")
        )

    def rows(self, run: Record | int, statement: int = 0) -> Iterator[Record]:
        """The rows of a run's JSON result, or else of its CSV result (all texts, null and empty alike).

        ``statement``: of an extract with several, which one, from 0. Rows are read as they arrive, so that a result of
        any size fits. In JSON a row stands on a line of its own.
        """
        record = self.get(run) if isinstance(run, int) else run
        plain = [file for file in record["files"] if file["statement"] == statement and file["compression"] == "none"]
        by_format = {file["format"]: file["name"] for file in reversed(plain)}
        as_json = by_format.get("json") or by_format.get("jsonl")
        if as_json:
            for line in _lines(self.read(record["id"], as_json)):
                if line.startswith("{") and not line.endswith("[\n"):
                    yield json.loads(line.rstrip(",\n"))
        elif "csv" in by_format:
            yield from csv.DictReader(_lines(self.read(record["id"], by_format["csv"])))
        else:
            raise ClientError(f"run {record['id']} has no plain CSV or JSON file.", "Start it with formats=['json'].")


def _save(path: Path, pieces: Iterator[bytes], sha256: str | None = None) -> None:
    """Put a whole file at the path, or nothing. Raises FileDamaged where its checksum is not the one given."""
    part = path.with_name(f".{path.name}.{uuid.uuid4().hex[:8]}.part")
    path.parent.mkdir(parents=True, exist_ok=True)
    try:
        digest = hashlib.sha256()
        with open(part, "wb") as out:
            for piece in pieces:
                digest.update(piece)
                out.write(piece)
            out.flush()
            os.fsync(out.fileno())
        if sha256 is not None and digest.hexdigest() != sha256:
            raise FileDamaged(f"'{path.name}' arrived damaged: its checksum differs.", "Get it again.")
        os.replace(part, path)
    finally:
        part.unlink(missing_ok=True)


class Ladle:
    """The service at ``url``, signed in with a token. Use as a context manager, or ``close`` it."""

    def __init__(self, url: str = "http://127.0.0.1:8470", token: str | None = None, timeout_seconds: float = 60.0) -> None:
        self.transport = Transport(url, token, timeout_seconds)
        self.people = People(self.transport)
        self.sources = Sources(self.transport)
        self.extracts = Extracts(self.transport)
        self.values = Values(self.transport)
        self.schedules = Schedules(self.transport)
        self.runs = Runs(self.transport)
        self.alerts = Alerts(self.transport)

    @classmethod
    def sign_in(cls, url: str, name: str, password: str, token_name: str | None = None) -> tuple[Ladle, str]:
        """A signed-in client and its token, good for 90 days. Raises CallFailed."""
        with cls(url) as nobody:
            body = {"name": name, "password": password, "token_name": token_name or "sign-in"}
            token = str(nobody.transport.call("POST", "/sign-in/token", json=body)["token"])
        return cls(url, token), token

    def sign_out(self) -> None:
        """End the token that this client calls with."""
        self.transport.call("DELETE", "/me")

    def formats(self) -> Record:
        """Every format with its options (``formats``), the options of all files (``files``), and types of columns."""
        return self.transport.call("GET", "/formats")

    def status(self) -> Record:
        """Counts of the last day, workers, the next due time."""
        return self.transport.call("GET", "/status")

    def last_night(self) -> Record:
        """How the last night went: a sentence of counts, what needs attention, what is next, the runs."""
        return self.transport.call("GET", "/last-night")

    def close(self) -> None:
        """Close the connections."""
        self.transport.http.close()

    def __enter__(self) -> Ladle:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.close()
