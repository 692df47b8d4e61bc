"""Result store in a bucket that speaks the S3 protocol, where neither rename nor fsync exist.

Each attempt has keys of its own, ``<below>/<run>/<attempt>/<name>``, that nobody else writes. An object shows whole, once
its upload is completed; the descriptor is put last and is the commit mark: it names the others. Whatever is read is asked
for by its key. Listings, which some stores give late, serve only to find what a lost attempt left, uploads that were never
completed among it.

Address of the server, region and credentials come from the environment: ``LADLE_BUCKET_ENDPOINT``, ``_REGION``, ``_KEY`` and
``_SECRET``, and where these say nothing from what the protocol's libraries read.
"""

from __future__ import annotations

import contextlib
import io
import json
import os
import re
import secrets
import tempfile
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import Any, BinaryIO

from patient_ladle import variables
from patient_ladle.adapters.disk import as_json, unreadable
from patient_ladle.core.errors import BadInput, StoreUnwritable
from patient_ladle.core.ports import ResultFolder
from patient_ladle.core.runs.engine import DESCRIPTOR

from .base import Store, checked_name, not_stored

try:
    import aiohttp
    import s3fs
    import urllib3
    from botocore.exceptions import BotoCoreError, ClientError

    FAULTS: tuple[type[Exception], ...] = (
        OSError, BotoCoreError, ClientError, aiohttp.ClientError, urllib3.exceptions.HTTPError,
    )  # fmt: skip
except ImportError:  # the extra is not installed
    s3fs, FAULTS = None, (OSError,)

_IN_A_FILE = "file:"
PART_BYTES = 8 << 20
"""Bytes of a part of an upload, and of a piece read: a hundred thousand parts are more than any file has."""
TRIES = 3
"""Of each request."""


_ADDRESS = re.compile(r"(https?://[^/\s\"'?]+)[^\s\"']*")
"""A web address, of which only the server is told: the rest names uploads, and may hold signatures."""


def _access() -> dict[str, Any]:
    """Server, region and credentials as our own variables give them; what they leave out the libraries' own do."""
    given = {name: os.environ.get(f"LADLE_BUCKET_{name}", "") for name in ("ENDPOINT", "REGION", "KEY", "SECRET")}
    if given["SECRET"].startswith(_IN_A_FILE):
        path = Path(given["SECRET"].removeprefix(_IN_A_FILE))
        try:
            given["SECRET"] = path.read_text().strip()
        except (OSError, UnicodeDecodeError) as error:
            raise BadInput(
                f"LADLE_BUCKET_SECRET names '{path}', which cannot be read: {error}.", "Write it as file:/path/to/the/secret."
            ) from error
    names = {"ENDPOINT": "endpoint_url", "KEY": "key", "SECRET": "secret"}
    made: dict[str, Any] = {name: given[each] for each, name in names.items() if given[each]}
    return made | ({"client_kwargs": {"region_name": given["REGION"]}} if given["REGION"] else {})


@contextmanager
def _asking(place: str) -> Iterator[None]:
    """Faults of the store in here are told as faults at that place. Raises StoreUnwritable."""
    try:
        yield
    except FAULTS as error:
        raise StoreUnwritable(
            _refused(place, error),
            "Check LADLE_RESULT_STORE, LADLE_BUCKET_ENDPOINT and the credentials in the service's environment.",
        ) from error


@contextmanager
def _reading(place: str) -> Iterator[None]:
    """The same of what only reads. Raises StoreUnreadable."""
    try:
        yield
    except FAULTS as error:
        raise unreadable(_refused(place, error)) from error


def _refused(place: str, error: Exception) -> str:
    words = _ADDRESS.sub(r"\1", str(error)).rstrip(".")
    return f"the bucket at '{place}' does not do as asked: {words}."


class _Upload:
    """An object on its way; it shows when it is completed."""

    def __init__(self, system: Any, path: str) -> None:
        self.path, self.count = path, 0
        with _asking(path):
            self.file = system.open(path, "wb", block_size=PART_BYTES)

    def write(self, data: Any) -> int:
        with _asking(self.path):
            self.count += len(data)
            return int(self.file.write(data))

    def flush(self) -> None:
        """Parts go as they fill."""

    def complete(self) -> None:
        with _asking(self.path):
            self.file.close()

    def abort(self) -> None:
        """Let go of the parts that are there."""
        with contextlib.suppress(*FAULTS):  # what is left is swept with the attempt
            self.file.discard()
        self.file.closed = True


class BucketResult(ResultFolder):
    """See ResultFolder."""

    def __init__(self, store: BucketStore, run: str, attempt: int) -> None:
        self.store, self.run, self.attempt = store, run, attempt
        self.uploads: dict[str, _Upload] = {}

    def create(self, name: str) -> BinaryIO:
        self.uploads[name] = _Upload(self.store.system, self.store.key(self.run, self.attempt, name))
        return self.uploads[name]  # type: ignore[return-value]  # write and flush are what the engine uses

    def scratch(self) -> BinaryIO:
        return tempfile.TemporaryFile()

    def place(self) -> str:
        return ""

    def free_bytes(self) -> int | None:
        return None

    def finish(self, name: str) -> None:
        upload = self.uploads.pop(name)
        upload.complete()
        with _asking(upload.path):
            there = self.store.system.info(upload.path)["size"]
        if there != upload.count:
            raise StoreUnwritable(f"'{upload.path}' has {there:,} of {upload.count:,} bytes.", "Start the run again.")

    def open(self, name: str) -> BinaryIO:
        return self.store.open(self.run, self.attempt, name)

    def seal(self, descriptor: dict[str, Any]) -> None:
        path, data = self.store.key(self.run, self.attempt, DESCRIPTOR), as_json(descriptor)
        with _asking(path):
            self.store.system.pipe_file(path, data)
            if self.store.system.cat_file(path) != data:
                raise StoreUnwritable(f"'{path}' is not what was put there.", "Start the run again.")

    def discard(self) -> None:
        names = list(self.uploads)
        for upload in self.uploads.values():
            upload.abort()
        self.uploads.clear()
        self.store.remove(self.run, self.attempt, names)


class BucketStore(Store):
    """See Store."""

    def __init__(self, address: str) -> None:
        """``address``: ``s3://bucket`` or ``s3://bucket/below``. Raises BadInput."""
        if s3fs is None:
            raise BadInput(f"'{address}' is a bucket, and its packages are missing.", "pip install 'patient-ladle[bucket]'")
        self.bucket, _, below = address.removeprefix("s3://").partition("/")
        self.root = f"{self.bucket}/{below}".rstrip("/")
        if not self.bucket:
            raise BadInput(f"'{address}' names no bucket.", "Write it as s3://bucket or s3://bucket/below.")
        seconds = variables.BUCKET_SECONDS.value()
        patience = {"connect_timeout": min(5.0, seconds), "read_timeout": seconds, "retries": {"max_attempts": 0}}
        self.system = s3fs.S3FileSystem(
            use_listings_cache=False, default_cache_type="readahead", config_kwargs=patience, **_access()
        )
        self.system.retries = TRIES

    def key(self, run: str, attempt: int, name: str = "") -> str:
        """Of a stored file, the bucket in front."""
        return f"{self.root}/{run}/{attempt}/{name}"

    def result(self, run: str, attempt: int) -> BucketResult:
        return BucketResult(self, run, attempt)

    def mark(self, make: bool = True) -> str:
        path = f"{self.root}/.store"
        with _asking(path):
            with contextlib.suppress(FileNotFoundError):
                return str(self.system.cat_file(path).decode())
            if not make:
                return ""
            key = path.partition("/")[2]
            with contextlib.suppress(FileExistsError):  # somebody was first
                mine = secrets.token_hex(8).encode()
                self.system.call_s3("put_object", Bucket=self.bucket, Key=key, Body=mine, IfNoneMatch="*")
            return str(self.system.cat_file(path).decode())

    def runs(self) -> Iterable[int]:
        with _asking(self.root):
            try:
                names = [path.rstrip("/").rpartition("/")[2] for path in self.system.ls(self.root, detail=False)]
            except FileNotFoundError:
                return []
        return [int(name) for name in names if name.isdecimal()]

    def free_bytes(self) -> int | None:
        return None

    def discard(self, run: str, attempt: int, surely: bool = False) -> None:
        self.remove(run, attempt, self._described(run, attempt))
        if surely:
            with _asking(self.key(run, attempt)):
                left = self.system.find(self.key(run, attempt))
            if left:
                raise StoreUnwritable(f"{len(left)} objects of run {run} could not be removed.", "It is tried again later.")

    def sweep(self, before: datetime) -> int:
        below = self.root.partition("/")[2]
        count, prefix = 0, f"{below}/" if below else ""
        with _asking(self.root):
            found = self.system.call_s3("list_multipart_uploads", Bucket=self.bucket, Prefix=prefix)
            for upload in found.get("Uploads") or []:
                if upload["Initiated"] < before:
                    given = {"Bucket": self.bucket, "Key": upload["Key"], "UploadId": upload["UploadId"]}
                    self.system.call_s3("abort_multipart_upload", **given)
                    count += 1
        return count

    def _described(self, run: str, attempt: int) -> list[str]:
        try:
            described = json.loads(self.system.cat_file(self.key(run, attempt, DESCRIPTOR)))
            return [str(resource["path"]) for resource in described["resources"]]
        except FAULTS:
            return []  # it never came so far, or cannot be asked
        except (ValueError, KeyError):
            return []  # it is not one of ours

    def remove(self, run: str, attempt: int, names: list[str]) -> None:
        """The descriptor first: without it nothing else is a result. What cannot be removed now is litter, not a fault."""
        prefix = self.key(run, attempt)
        with contextlib.suppress(*FAULTS):
            for path in (prefix + DESCRIPTOR, *(prefix + name for name in names)):
                self.system.rm_file(path)
            for path in self.system.find(prefix):
                self.system.rm_file(path)
            below = prefix.partition("/")[2]
            found = self.system.call_s3("list_multipart_uploads", Bucket=self.bucket, Prefix=below)
            for upload in found.get("Uploads") or []:
                self.system.call_s3(
                    "abort_multipart_upload", Bucket=self.bucket, Key=upload["Key"], UploadId=upload["UploadId"]
                )

    def open(self, run: str, attempt: int, name: str) -> BinaryIO:
        path = self.key(run, attempt, checked_name(name))
        with _reading(path):
            try:
                return io.BufferedReader(_Object(self.system.open(path, "rb", block_size=PART_BYTES)), 1 << 16)
            except FileNotFoundError:
                self.system.call_s3("head_bucket", Bucket=self.bucket)  # a bucket that is gone is not a file that is
                raise not_stored(name) from None


class _Object(io.RawIOBase):
    """A stored object as a file whose every read speaks our errors."""

    def __init__(self, file: Any) -> None:
        self.file = file

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = os.SEEK_SET) -> int:
        return int(self.file.seek(offset, whence))

    def tell(self) -> int:
        return int(self.file.tell())

    def readinto(self, into: Any) -> int:
        with _reading(self.file.path):
            return int(self.file.readinto(into))

    def close(self) -> None:
        self.file.close()
        super().close()
