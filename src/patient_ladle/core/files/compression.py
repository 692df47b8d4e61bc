"""Compression of result files: how bytes are packed on their way out; ``proof.unpacking`` reads them back."""

from __future__ import annotations

import zipfile
from abc import ABC, abstractmethod
from collections.abc import Callable
from typing import Any, BinaryIO

from ..errors import unknown_name


class Compressor(ABC):
    """Packs what it is given into a file."""

    @abstractmethod
    def write(self, data: Any) -> None:
        """The next bytes."""

    def close(self) -> None:  # noqa: B027  # plain bytes have no end
        """What closes the packed stream; the file itself stays open."""


class _Plain(Compressor):
    def __init__(self, file: BinaryIO, name: str) -> None:
        self.file = file

    def write(self, data: Any) -> None:
        self.file.write(data)


class _Stream(Compressor):
    def __init__(self, file: BinaryIO, compressor: Any) -> None:
        self.file, self.compressor = file, compressor

    def write(self, data: Any) -> None:
        self.file.write(self.compressor.compress(data))

    def close(self) -> None:
        self.file.write(self.compressor.flush())


def _gzip(file: BinaryIO, name: str) -> Compressor:
    from isal import isal_zlib

    return _Stream(file, isal_zlib.compressobj(2, isal_zlib.DEFLATED, 31))


def _zstd(file: BinaryIO, name: str) -> Compressor:
    import zstandard

    return _Stream(file, zstandard.ZstdCompressor(level=3, write_checksum=True).compressobj())


class _Outlet:
    """The file as an archive sees it: written to, never sought in."""

    def __init__(self, file: BinaryIO) -> None:
        self.file = file

    def write(self, data: Any) -> int:
        return self.file.write(data)

    def flush(self) -> None:
        return None


class _Zip(Compressor):
    def __init__(self, file: BinaryIO, name: str) -> None:
        outlet: Any = _Outlet(file)
        self.archive = zipfile.ZipFile(outlet, "w", zipfile.ZIP_DEFLATED, compresslevel=6)
        info = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
        info.compress_type = zipfile.ZIP_DEFLATED
        info.external_attr = 0o644 << 16
        self.entry = self.archive.open(info, "w", force_zip64=True)

    def write(self, data: Any) -> None:
        self.entry.write(data)

    def close(self) -> None:
        self.entry.close()
        self.archive.close()


_COMPRESSORS: dict[str, tuple[str, Callable[[BinaryIO, str], Compressor]]] = {
    "none": ("", _Plain),
    "gzip": (".gz", _gzip),
    "zstd": (".zst", _zstd),
    "zip": (".zip", _Zip),
}
COMPRESSIONS = tuple(_COMPRESSORS)


def extension_of(compression: str) -> str:
    """What the compression adds to a file's name. Raises UnknownName."""
    if compression not in _COMPRESSORS:
        raise unknown_name("compression", compression, COMPRESSIONS)
    return _COMPRESSORS[compression][0]


def compressor(compression: str, file: BinaryIO, name: str) -> Compressor:
    """Packs into the file; ``name`` is that of the content, for compressions that keep one."""
    return _COMPRESSORS[compression][1](file, name)
