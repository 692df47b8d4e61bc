"""The database's own word on a statement as it is typed: its prepare step, in a child that is kept warm and runs nothing.

One child for each person and address, ended when idle. It takes no place of the source, for it holds no snapshot and
reads no rows. A source that could not be reached is not asked again for a while: typing must not wait for it.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import Any

from patient_ladle.core.errors import LadleError, SourceUnreachable, from_dict
from patient_ladle.core.statements.diagnostics import Diagnostic, OtherCatalogue
from patient_ladle.core.statements.languages.base import QueryLanguage
from patient_ladle.service.children.launch import Child
from patient_ladle.service.people.models import Person

from .models import Address
from .queries import connection_spec

START_SECONDS = 20.0
"""For a child to come up on a busy machine: no fault of the source's."""
ANSWER_SECONDS = 5.0
IDLE_SECONDS = 120.0
MOST_KEPT = 4
"""Warm children of one web process; the one unused for longest goes first."""
AGAIN_SECONDS = 20.0
"""How long a source that could not be asked is left alone."""
MOST_CATALOGUES = 12


class _Kept:
    """One warm child, asked one thing at a time."""

    def __init__(self, way: dict[str, Any]) -> None:
        self.way, self.used_at = way, time.monotonic()
        self.lock = threading.Lock()
        self.child: Child | None = None
        self.failed: tuple[float, LadleError] | None = None

    def asked(self, request: dict[str, Any]) -> list[dict[str, Any]]:
        with self.lock:
            if self.failed and time.monotonic() - self.failed[0] < AGAIN_SECONDS:
                raise self.failed[1]
            self.used_at = time.monotonic()
            warm = self.child is not None
            try:
                return self._answer(request)
            except LadleError as error:
                self.end()
                if warm:  # a session that was kept may have been lost meanwhile: once more, with a new one
                    return self._fresh(request)
                self.failed = (time.monotonic(), error)
                raise

    def _fresh(self, request: dict[str, Any]) -> list[dict[str, Any]]:
        try:
            return self._answer(request)
        except LadleError as error:
            self.end()
            self.failed = (time.monotonic(), error)
            raise

    def _answer(self, request: dict[str, Any]) -> list[dict[str, Any]]:
        seconds = ANSWER_SECONDS
        if self.child is None:
            self.child, seconds = Child({"do": "understand", "reader": self.way}), START_SECONDS
        child, self.failed = self.child, None
        child.say(request)
        told = child.told()
        while said := self._next(told, seconds):
            seconds = ANSWER_SECONDS
            if said["kind"] == "understood":
                parts: list[dict[str, Any]] = said["parts"]
                return parts
            if said["kind"] == "failed":
                raise from_dict(said["error"])
        raise SourceUnreachable(f"the source gave no answer within {ANSWER_SECONDS:g} s.", "Check the source.")

    def _next(self, told: Iterator[dict[str, Any]], seconds: float) -> dict[str, Any] | None:
        """What the child says next; None where it says nothing for so long, and is ended."""
        assert self.child is not None
        timer = threading.Timer(seconds, self.child.kill)
        timer.start()
        try:
            return next(told, None)
        finally:
            timer.cancel()

    def end(self) -> None:
        if self.child is not None:
            self.child.kill()
            self.child.wait()
            self.child = None


_kept: dict[tuple[int, int], _Kept] = {}
_lock = threading.Lock()
_sweeper: list[threading.Thread] = []


def _sweep() -> None:
    while True:
        time.sleep(IDLE_SECONDS / 8)
        _end_idle()


def _end_idle() -> None:
    with _lock:
        by_age = sorted(_kept.items(), key=lambda item: item[1].used_at)
        idle = [key for key, kept in by_age if time.monotonic() - kept.used_at > IDLE_SECONDS]
        idle += [key for key, _ in by_age[: max(0, len(by_age) - MOST_KEPT)] if key not in idle]
        ended = [_kept.pop(key) for key in idle]
    for kept in ended:
        with kept.lock:
            kept.end()


def understand(
    person: Person, address: Address, parts: Sequence[str], parameters: Sequence[dict[str, Any]]
) -> list[dict[str, Any]]:
    """Of each statement ``columns`` or the ``error`` that the database has with it. Raises what keeps it from being asked."""
    way = connection_spec(address)
    with _lock:
        if not _sweeper:
            _sweeper.append(threading.Thread(target=_sweep, daemon=True))
            _sweeper[0].start()
        found = _kept.get((person.pk, address.pk))
        stale = found if found is not None and found.way != way else None
        if found is None or stale:
            found = _kept[person.pk, address.pk] = _Kept(way)
    if stale:
        with stale.lock:
            stale.end()
    if len(_kept) > MOST_KEPT:
        _end_idle()
    return found.asked({"parts": list(parts), "parameters": list(parameters)})


_catalogues: dict[int, tuple[datetime, list[dict[str, Any]]]] = {}


def kept_catalogue(address: Address) -> list[dict[str, Any]] | None:
    """The stored catalogue, decoded once for as long as it stands; None while there is none."""
    if address.catalogue_at is None:
        return None
    kept = _catalogues.get(address.pk)
    if kept is None or kept[0] != address.catalogue_at:
        if len(_catalogues) >= MOST_CATALOGUES:
            _catalogues.pop(next(iter(_catalogues)), None)
        kept = _catalogues[address.pk] = (address.catalogue_at, address.catalogue or [])
    return kept[1]


def elsewhere(address: Address) -> list[OtherCatalogue]:
    """The stored catalogues of the other sources in the same environment."""
    others = Address.objects.select_related("source").filter(environment_id=address.environment_id).exclude(pk=address.pk)
    return [OtherCatalogue(other.source.name, kept_catalogue(other) or []) for other in others.exclude(catalogue_at=None)]


def diagnostic_of(error: LadleError, language: QueryLanguage, address: Address, text: str, part: str) -> Diagnostic:
    """The database's word on a statement, with where the stored catalogues have a name that it misses."""
    others = elsewhere(address) if error.facts.get("missing") == "table" else []
    return language.diagnostic_on_error(error, text, part, kept_catalogue(address), others)
