"""Compressed result files, read as what they hold."""

from __future__ import annotations

import gzip
import io
import zipfile
from typing import Any, BinaryIO, cast


def unpacked(compression: str, file: BinaryIO) -> BinaryIO:
    """The content, read from the packed file.

    Reading raises OSError, EOFError or zipfile.BadZipFile where it is damaged; ImportError comes where this machine lacks the
    compression's library.
    """
    found: Any = file
    match compression:
        case "gzip":
            found = gzip.open(file)  # noqa: SIM115  # closed by whoever reads
        case "zstd":
            import zstandard

            found = io.BufferedReader(zstandard.ZstdDecompressor().stream_reader(file, read_across_frames=True))
        case "zip":
            archive = zipfile.ZipFile(file)
            found = archive.open(archive.infolist()[0])
    return cast("BinaryIO", found)
