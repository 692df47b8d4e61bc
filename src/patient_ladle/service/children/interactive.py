"""Interactive work in bounded children: few at a time, each with a deadline."""

from __future__ import annotations

import threading
from typing import Any

from patient_ladle.core.errors import Busy, SourceUnreachable, from_dict

from .launch import Child

PLACES = 4
"""Interactive children at once in one web process."""
DEADLINE_SECONDS = 30.0
_places = threading.BoundedSemaphore(PLACES)


def check_in_child(way: dict[str, Any]) -> list[dict[str, Any]]:
    """The steps of a source check, done in a child that is stopped at the deadline."""
    if not _places.acquire(timeout=DEADLINE_SECONDS):
        raise Busy("other checks take all the places.", "Try again in a moment.")
    try:
        child = Child({"do": "check", "reader": way})
        timer = threading.Timer(DEADLINE_SECONDS, child.kill)
        timer.start()
        try:
            for said in child.told():
                if said["kind"] == "done":
                    steps: list[dict[str, Any]] = said["result"]
                    return steps
                if said["kind"] == "failed":
                    raise from_dict(said["error"])
        finally:
            timer.cancel()
            child.kill()
            child.wait()
    finally:
        _places.release()
    raise SourceUnreachable(f"the check did not end within {DEADLINE_SECONDS:g} s.", "Check that the source answers at all.")
