"""A stored file on its way to somebody: hashed as it goes, and cut before its last piece where it is not what was proven."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from typing import BinaryIO


class BrokenOff(OSError):
    """What is being sent is not what was proven: its last piece is not given out."""


class Watched:
    """An open file that is read from its beginning to its end, pieces again where whoever sends them looks ahead.

    ``sha256``: what was proven, in hex. ``size``: bytes that were proven. ``damaged``: called once, before BrokenOff is raised.
    Closing it closes the file.
    """

    def __init__(self, file: BinaryIO, sha256: str, size: int, damaged: Callable[[], object]) -> None:
        self.file, self.sha256, self.size, self.damaged = file, sha256, size, damaged
        self.digest, self.reckoned = hashlib.sha256(), 0
        self.broken = False

    def read(self, size: int = -1) -> bytes:
        """Raises BrokenOff in place of the last piece."""
        at = self.file.tell()
        piece = self.file.read(size)
        if at <= self.reckoned < at + len(piece):
            self.digest.update(memoryview(piece)[self.reckoned - at :])
            self.reckoned = at + len(piece)
        if at + len(piece) >= self.size and self.reckoned >= self.size and self.digest.hexdigest() != self.sha256:
            if not self.broken:
                self.broken = True
                self.damaged()
            raise BrokenOff("the stored file is not what was proven")
        return piece

    def seek(self, offset: int, whence: int = 0) -> int:
        """See ``io``."""
        return self.file.seek(offset, whence)

    def tell(self) -> int:
        """See ``io``."""
        return self.file.tell()

    def seekable(self) -> bool:
        """Of one that can be sent by a loop of its own."""
        return True

    def close(self) -> None:
        """See ``io``."""
        self.file.close()
