"""Whether work that somebody else does still moves: by what it says, by the processor's time and by the bytes it carries."""

from __future__ import annotations

import os
import time
from pathlib import Path

PROCESSOR_SECONDS = 1.0
CARRIED_BYTES = 1 << 20
"""Less than this is no movement: whoever waits for a disk that hangs still looks now and then whether it is to stop."""
_TICKS = os.sysconf("SC_CLK_TCK")


def _used(place: Path) -> tuple[float, int]:
    """Seconds of the processor and bytes read and written so far; Linux tells them of each process and thread. (0, 0) where
    it is gone."""
    try:
        fields = (place / "stat").read_text().rpartition(")")[2].split()
        carried = dict(line.split(": ") for line in (place / "io").read_text().splitlines())
        return (int(fields[11]) + int(fields[12])) / _TICKS, int(carried["rchar"]) + int(carried["wchar"])
    except (OSError, KeyError, ValueError, IndexError):
        return 0.0, 0


class Movement:
    """Of one process, or of one thread of our own."""

    def __init__(self, place: Path) -> None:
        self.place, self.mark, self.since = place, _used(place), time.monotonic()

    @classmethod
    def of_process(cls, number: int) -> Movement:
        """By its number."""
        return cls(Path(f"/proc/{number}"))

    @classmethod
    def of_thread(cls, number: int) -> Movement:
        """Of this process, by its native number."""
        return cls(Path(f"/proc/self/task/{number}"))

    def said(self) -> None:
        """It has said something."""
        self.since = time.monotonic()

    def still_seconds(self) -> float:
        """For how long it has neither said nor done anything."""
        used, mark = _used(self.place), self.mark
        if used[0] - mark[0] >= PROCESSOR_SECONDS or used[1] - mark[1] >= CARRIED_BYTES:
            self.mark, self.since = used, time.monotonic()
        return time.monotonic() - self.since
