"""Runs, their logs, and their result files."""

from __future__ import annotations

import csv
import hashlib
import json
import os
import time
import uuid
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

from .errors import ClientError, FileDamaged, RunFailed
from .group import Group, Listed, name_in_path
from .records import DryRun, FilePreview, Latest, LogLine, Profile, ResultLine, Run, RunLine, Worker

Paths = list[Path]
ENDED = ("finished", "failed", "cancelled", "not_run")
POLL_SECONDS = 0.5


def _lines(pieces: Iterator[bytes]) -> Iterator[str]:
    """Lines, their ends kept, of a UTF-8 text that arrives in pieces."""
    rest = b""
    for piece in pieces:
        *lines, rest = (rest + piece).split(b"\n")
        yield from (line.decode() + "\n" for line in lines)
    if rest:
        yield rest.decode()


class Runs(Group):
    """Runs, their logs and files."""

    def start(self, extract: str, *, idempotency_key: str | None = None, **body: Any) -> Run:
        """Start a run, safely again: ``environment``, ``values``, ``formats``, ``data_date``, ``revision``, ``publish``,
        ``output`` (settings of this run alone)."""
        wanted = {"extract": extract} | {key: value for key, value in body.items() if value is not None}
        return self._post("/runs", wanted, **{"Idempotency-Key": idempotency_key or uuid.uuid4().hex})

    def start_unsaved(self, source: str, *, idempotency_key: str | None = None, **body: Any) -> Run:
        """Run once what is not saved: a ``statement`` with its ``parameters``, or all rows of a ``table``.

        Of a table ``filters``, ``sort``, ``descending``; of a statement ``inputs``, ``steps``. Further ``environment``,
        ``values``, ``data_date``, ``formats``, ``file_name``, ``output``.
        """
        wanted = {"source": source} | {key: value for key, value in body.items() if value is not None}
        return self._post("/unsaved-runs", wanted, **{"Idempotency-Key": idempotency_key or uuid.uuid4().hex})

    def dry_run(self, extract: str, **body: Any) -> DryRun:
        """What a run with the same arguments as ``start`` would do, worked out without running."""
        return self._post("/dry-runs", {"extract": extract} | {key: value for key, value in body.items() if value is not None})

    def get(self, number: int) -> Run:
        """The run's record."""
        return self._get(f"/runs/{number}")

    def list(self, **filters: Any) -> Iterator[RunLine]:
        """Newest first, or by ``sort`` (id, extract, environment, state, data_date, took, rows) and ``descending``; only those
        of ``search``, ``extract``, ``schedule``, ``environment``, ``backfill``, ``state``, ``member_of`` (the
        inputs of a combination's run), queued ``since`` and ``until``."""
        return self.transport.pages("/runs", **filters)

    def wait(self, number: int, timeout_seconds: float | None = None, progress: Callable[[Run], object] | None = None) -> Run:
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

    def log(self, number: int, follow: bool = False) -> Iterator[LogLine]:
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

    def cancel(self, number: int) -> Run:
        """Ask the run to stop."""
        return self._post(f"/runs/{number}/cancel")

    def again(self, number: int, newest_revision: bool = False) -> Run:
        """The same values and data date once more, of the run's own revision or of today's."""
        return self._post(f"/runs/{number}/again", {"newest_revision": newest_revision})

    def workers(self) -> Listed[Worker]:
        """Those that are there, with how many runs each carries out."""
        return self._get("/workers")

    def drain(self, worker: str, draining: bool = True) -> Worker:
        """The worker takes no more runs, or does again."""
        return self._post(f"/workers/{name_in_path(worker)}/drain", {"draining": draining})

    def release(self, number: int, note: str = "", wait: bool = True) -> Run:
        """Deliver what a guard held back; waits until that was tried, unless ``wait`` is false."""
        return self._tried(self._post(f"/runs/{number}/release", {"note": note}), wait)

    def deliver(self, number: int, into: str = "", leave: bool = False, note: str = "", wait: bool = True) -> Run:
        """Have a delivery that failed tried again, ``into`` other folders if any are given, or ``leave`` it undelivered."""
        then = "left" if leave else "elsewhere" if into else "again"
        return self._tried(self._post(f"/runs/{number}/delivery", {"then": then, "into": into, "note": note}), wait)

    def _tried(self, run: Run, wait: bool) -> Run:
        while wait and run["delivery"] in ("waiting", "in_progress") and not run["delivery_error"]:
            time.sleep(POLL_SECONDS)
            run = self.get(run["id"])
        return run

    def publish(self, number: int, wait: bool = True) -> Run:
        """Its result counts from now on among what its extract publishes, and is delivered; waits until that was tried."""
        return self._tried(self._post(f"/runs/{number}/publish"), wait)

    def withdraw(self, number: int, note: str = "") -> Run:
        """It does not any more; delivered files stay where they are."""
        return self._post(f"/runs/{number}/withdraw", {"note": note})

    def reject(self, number: int, note: str = "") -> Run:
        """What a guard held back is never delivered."""
        return self._post(f"/runs/{number}/reject", {"note": note})

    def results(self, extract: str | None = None, **filters: Any) -> Iterator[ResultLine]:
        """Result files of finished runs, newest first, or by ``sort`` (id, name, extract, rows, bytes, data_date) and
        ``descending``; only those of ``search``, ``environment``, ``format``."""
        return self.transport.pages("/results", extract=extract, **filters)

    def read(self, number: int, name: str) -> Iterator[bytes]:
        """A file's bytes in pieces."""
        return self.transport.stream(f"/runs/{number}/files/{name_in_path(name)}")

    def save_files(self, run: Run | int, folder: str | Path, names: Sequence[str] | None = None) -> Paths:
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

    def profile_file(self, number: int, name: str, column: str, sheet: str | None = None) -> Profile:
        """A column of a stored file at a glance: rows, absent, distinct, least, greatest, mean, commonest, bars."""
        return self._get(f"/runs/{number}/files/{name_in_path(name)}/profile", column=column, sheet=sheet)

    def preview_file(self, number: int, name: str, rows: int = 50, sheet: str | None = None) -> FilePreview:
        """``columns``, the first ``rows`` as they stand in the file, and whether that was all (``complete``)."""
        wanted = {"rows": rows} | ({"sheet": sheet} if sheet else {})
        return self.transport.call("GET", f"/runs/{number}/files/{name_in_path(name)}/preview", params=wanted)

    def save_archive(self, number: int, folder: str | Path) -> Path:
        """All files of a run and their descriptor, in one ZIP archive; returns its path."""
        record = self.get(number)
        path = Path(folder) / f"{record['extract']}-{record['data_date']}-run-{number}.zip"
        _save(path, self.transport.stream(f"/runs/{number}/zip"))
        return path

    def latest_run(self, extract: str, environment: str | None = None, format: str | None = None) -> Latest:
        """What the extract published last: ``run``, its ``files``, and ``newer_held``, a newer one that a guard holds back."""
        return self._get(f"/extracts/{name_in_path(extract)}/latest", environment=environment, format=format)

    def latest(self, extract: str, format: str, **which: Any) -> Iterator[bytes]:
        """The bytes of the latest published result in a format, of an ``environment``, ``statement`` (from 1) and ``part``."""
        asked = "&".join(f"{key}={name_in_path(str(value))}" for key, value in which.items() if value is not None)
        return self.transport.stream(
            f"/extracts/{name_in_path(extract)}/latest/{name_in_path(format)}" + (f"?{asked}" if asked else "")
        )

    def rows(self, run: Run | int, statement: int = 1) -> Iterator[dict[str, Any]]:
        """The rows of a run's JSON result, or else of its CSV result (all texts, null and empty alike).

        ``statement``: of an extract with several, which one, from 1. Rows are read as they arrive, so that a result of
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
