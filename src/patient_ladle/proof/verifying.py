"""A result file held against the descriptor beside it: is it there, are its bytes the same, are its rows all there."""

from __future__ import annotations

import hashlib
import json
import shutil
import tempfile
import zipfile
import zlib
from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any, BinaryIO

from .counting import COUNTERS, READ_BYTES, Counted, Damaged
from .unpacking import unpacked

try:
    from zstandard import ZstdError
except ImportError:  # then nothing is unpacked that could raise it

    class ZstdError(Exception):  # type: ignore[no-redef]
        """Stands in for the compressor's own error."""


ENDING = "datapackage.json"
DAMAGE = (Damaged, OSError, EOFError, zipfile.BadZipFile, zlib.error, ValueError, ZstdError)
"""What reading a damaged file raises, by any of its readers."""


class NothingToVerify(ValueError):
    """No descriptor speaks of the path; the message says where one was looked for."""


@dataclass(slots=True)
class Verdict:
    """What was found of one file. ``differs`` is empty for a file that is what its descriptor says."""

    path: str
    rows: int | None = None
    bytes: int | None = None
    sha256: str = ""
    proven: list[str] = field(default_factory=list)
    differs: list[str] = field(default_factory=list)

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON."""
        return asdict(self)


def _descriptors(path: Path) -> list[Path]:
    if path.is_dir():
        return sorted(found for found in path.iterdir() if found.name.endswith(ENDING))
    if path.name.endswith(ENDING):
        return [path]
    return [
        found
        for found in sorted(path.parent.glob(f"*{ENDING}"))
        if any(each.get("path") == path.name for each in _resources(found))
    ]


def _resources(descriptor: Path) -> list[Mapping[str, Any]]:
    try:
        found = json.loads(descriptor.read_bytes())
        return [each for each in found["resources"] if isinstance(each["path"], str)]
    except (ValueError, KeyError, TypeError, OSError):
        return []


def verify(path: Path) -> list[Verdict]:
    """One verdict a file: all files of a descriptor or of a folder's descriptors, or the one file given.

    Raises NothingToVerify where no descriptor speaks of it.
    """
    if not path.exists() and not path.parent.is_dir():
        raise NothingToVerify(f"there is no '{path}'.")
    descriptors = _descriptors(path)
    only = None if path.is_dir() or path.name.endswith(ENDING) else path.name
    verdicts = []
    for descriptor in descriptors:
        by_path: dict[str, list[Mapping[str, Any]]] = {}
        for resource in _resources(descriptor):
            if only is None or resource["path"] == only:
                by_path.setdefault(resource["path"], []).append(resource)
        verdicts += [_one(descriptor.parent / name, resources) for name, resources in by_path.items()]
    if not verdicts:
        where = f"in '{path}'" if path.is_dir() else f"beside '{path}'"
        raise NothingToVerify(f"no descriptor (…{ENDING}) {where} speaks of it.")
    return verdicts


def _one(path: Path, resources: list[Mapping[str, Any]]) -> Verdict:
    made, first = Verdict(str(path)), resources[0]
    if not path.is_file():
        made.differs.append("the file is not there")
        return made
    with open(path, "rb") as file:
        made.sha256 = hashlib.file_digest(file, "sha256").hexdigest()
    made.bytes = path.stat().st_size
    _compare(made, "bytes", first.get("bytes"), made.bytes)
    _compare(made, "checksum", str(first.get("hash", "")).removeprefix("sha256:"), made.sha256)
    expected = sum(int(each.get("ladle", {}).get("rows", 0)) for each in resources)
    try:
        found = _counted(path, first)
    except DAMAGE as error:
        made.differs.append(f"its rows cannot be read: {error}")
        return made
    if found is not None:
        made.rows = found.rows
        _compare(made, "rows", expected, found.rows)
        for said, width in zip(_widths(resources), found.widths, strict=False):
            if width is not None and said != width:
                _compare(made, "cells of a row", said, width)
    return made


def _widths(resources: list[Mapping[str, Any]]) -> Iterator[int]:
    """Columns of each table that the file has, as the descriptor has them."""
    for each in resources:
        for _ in each.get("ladle", {}).get("sheets", [""]):
            yield len(each.get("schema", {}).get("fields", ()))


def _compare(made: Verdict, what: str, said: Any, found: Any) -> None:
    shown = [f"{each:,}" if isinstance(each, int) else str(each)[:16] for each in (said, found)]
    if said == found:
        made.proven.append(f"{what} {shown[1]}")
    else:
        made.differs.append(f"{what}: the descriptor says {shown[0]}, the file has {shown[1]}")


def _counted(path: Path, resource: Mapping[str, Any]) -> Counted | None:
    """None where the descriptor names no counter, or this machine has no reader."""
    own = resource.get("ladle", {})
    facts = own.get("proof", {})
    counting = COUNTERS.get(str(facts.get("counter")))
    if counting is None:
        return None
    with open(path, "rb") as packed:
        try:
            with unpacked(str(own.get("compression", "none")), packed) as content:
                if not counting.seeks:
                    return counting.count(content, facts)
                with _seekable(content) as whole:
                    return counting.count(whole, facts)
        except ImportError:
            return None


def _seekable(content: BinaryIO) -> BinaryIO:
    if content.seekable() and not isinstance(content, zipfile.ZipExtFile):
        return content
    whole = tempfile.TemporaryFile()  # noqa: SIM115  # gone with the last use
    try:
        shutil.copyfileobj(content, whole, READ_BYTES)
    except DAMAGE:
        whole.close()
        raise
    whole.seek(0)
    return whole
