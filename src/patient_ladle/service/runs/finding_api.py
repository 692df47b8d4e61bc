"""One search over everything that has a name: extracts, schedules, runs, result files, sources, their tables and columns."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass
from datetime import datetime
from itertools import islice
from typing import Any
from urllib.parse import quote, urlencode

from django.db.models import Max
from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.core.statements.catalogue import names_of
from patient_ladle.core.values.search import fit, read_search
from patient_ladle.service.common.api import RoleView, number_in
from patient_ladle.service.extracts.models import Extract
from patient_ladle.service.ledger.models import NO_MEMBER, ResultFile, Run
from patient_ladle.service.ledger.states import FINISHED
from patient_ladle.service.lookups.models import Lookup
from patient_ladle.service.people.authentication import SignedIn, may, role_of
from patient_ladle.service.schedules.services import schedules_with
from patient_ladle.service.sources.models import Address, Source
from patient_ladle.words import spaced

from .listed import holding, results_shown

KINDS = ("extract", "schedule", "run", "source", "lookup", "table", "column", "result")
"""In this order where they fit equally well."""
MOST, MOST_OF_A_KIND = 40, 8
RECENT_FILES = 5_000
"""So many of the newest files are looked at for their own names; files of an extract are found by its name, however old."""
LOOKED_AT = 400
ARCHIVED = 5
"""What nobody uses any more fits worse than all else."""


@dataclass(frozen=True, slots=True)
class Found:
    """``within``: where it belongs; ``link``: its page in the console."""

    kind: str
    name: str
    within: str
    detail: str
    link: str
    fits: int = 3


class FoundThing(serializers.Serializer[Any]):
    kind = serializers.ChoiceField(KINDS)
    name = serializers.CharField()
    within = serializers.CharField(help_text="Where it belongs: a folder, an extract, a source, a table.")
    detail = serializers.CharField(help_text="What else tells it from others.")
    link = serializers.CharField(help_text="Its page in the console, from the service's root.")


class Everything(RoleView):
    """What fits best first; a number is a run's. Tables and columns are those of sources that were browsed."""

    @extend_schema(
        operation_id="find",
        parameters=[
            OpenApiParameter("text", str, required=True, description="Words; all are met by a name and where it belongs."),
            OpenApiParameter("limit", int, description="At most so many, 40 unless said."),
        ],
        responses=FoundThing(many=True),
    )
    def get(self, request: SignedIn) -> Response:
        words = read_search(request.query_params.get("text", ""), ()).words
        limit = number_in(request, "limit", MOST, 1, 200)
        found = everything(words, may(role_of(request), "runner"))
        return Response(FoundThing([asdict(each) for each in found[:limit]], many=True).data)


def everything(words: Sequence[str], browses: bool) -> list[Found]:
    """What has such a name, the best first. ``browses``: the caller may see what sources hold."""
    if not words:
        return []
    extracts = _extracts(words)
    made = [each for each, _ in extracts]
    made += [*_schedules(words), *_runs(words, extracts), *_sources(words), *_lookups(words), *_results(words, extracts)]
    made += _tables(words) if browses else []
    by_kind: dict[str, list[Found]] = {}
    for each in sorted(made, key=lambda each: (each.fits, KINDS.index(each.kind), each.name)):
        by_kind.setdefault(each.kind, []).append(each)
    kept = [each for of_kind in by_kind.values() for each in of_kind[:MOST_OF_A_KIND]]
    return sorted(kept, key=lambda each: (each.fits, KINDS.index(each.kind)))


def _extracts(words: Sequence[str]) -> list[tuple[Found, int]]:
    known = Extract.objects.filter(holding(words, "name", "folder"), in_repository=True)
    rows = known.values_list("pk", "name", "folder", "archived_at")
    made: list[tuple[Found, int]] = []
    for pk, name, folder, gone in rows[:LOOKED_AT]:
        fits = ARCHIVED if gone else _fits(name, words, folder)
        made.append((Found("extract", name, folder, "archived" if gone else "", f"/extracts/{quote(name)}", fits), pk))
    return sorted(made, key=lambda pair: pair[0].fits)


def _fits(name: str, words: Sequence[str], within: str) -> int:
    found = fit(name, words, within)
    return 4 if found is None else found


def _schedules(words: Sequence[str]) -> Iterator[Found]:
    rows = schedules_with().filter(holding(words, "name", "extract__name"))
    fields = ("name", "extract__name", "environment__name", "paused_at")
    for name, extract, environment, paused in rows.values_list(*fields)[:LOOKED_AT]:
        detail = f"{environment}, paused" if paused else environment
        yield Found("schedule", name, extract, detail, f"/schedules/{quote(name)}", _fits(name, words, extract))


def _runs(words: Sequence[str], extracts: Sequence[tuple[Found, int]]) -> Iterator[Found]:
    numbers = [int(word) for word in words if word.isdecimal() and len(word) < 15]
    newest = (Run.objects.filter(NO_MEMBER, extract=pk).order_by("-pk").values_list("pk", flat=True)[:1] for _, pk in extracts)
    wanted = [*numbers, *(pk for found in islice(newest, MOST_OF_A_KIND) for pk in found)]
    for run in Run.objects.filter(pk__in=wanted).select_related("extract", "environment"):
        asked = run.pk in numbers
        when = timezone.localtime(run.ended_at or run.queued_at).strftime("%Y-%m-%d %H:%M")
        detail = f"{spaced(run.state)}, {when}, data date {run.data_date}"
        yield Found("run", f"run {run.pk}", run.extract.name, detail, f"/runs/{run.pk}", 0 if asked else 4)


def _sources(words: Sequence[str]) -> Iterator[Found]:
    for name, note in Source.objects.filter(holding(words, "name", "note")).values_list("name", "note"):
        yield Found("source", name, "", note, f"/sources/{quote(name)}", _fits(name, words, note))


def _lookups(words: Sequence[str]) -> Iterator[Found]:
    for name, note, gone in Lookup.objects.filter(holding(words, "name", "note")).values_list("name", "note", "archived_at"):
        fits = ARCHIVED if gone else _fits(name, words, note)
        yield Found("lookup", name, "", "archived" if gone else note, f"/lookups/{quote(name)}", fits)


def _results(words: Sequence[str], extracts: Sequence[tuple[Found, int]]) -> Iterator[Found]:
    files = results_shown().order_by("-pk")
    newest = ResultFile.objects.aggregate(newest=Max("pk"))["newest"] or 0
    named = files.filter(holding(words, "name"), pk__gt=newest - RECENT_FILES)[:MOST_OF_A_KIND]
    newest_runs = [
        pk
        for _, extract in extracts[:3]
        for pk in Run.objects.filter(NO_MEMBER, extract=extract, state=FINISHED)
        .order_by("-pk")
        .values_list("pk", flat=True)[:3]
    ]
    of_them = files.filter(run__in=newest_runs)[:MOST_OF_A_KIND]
    for file in {file.pk: file for file in (*named, *of_them)}.values():
        link = f"/results?{urlencode({'search': file.name})}"
        detail = f"run {file.run_id}, {file.run.data_date}"
        yield Found("result", file.name, file.run.extract.name, detail, link, _fits(file.name, words, file.run.extract.name))


@dataclass(frozen=True, slots=True)
class _Table:
    """``low``: all its names in small letters, by which most are passed over at once."""

    name: str
    kind: str
    columns: tuple[str, ...]
    low: str

    @classmethod
    def of(cls, table: Mapping[str, Any], source: str) -> _Table:
        columns = tuple(str(column["name"]) for column in table["columns"])
        return cls(names_of(table), str(table["kind"]), columns, " ".join((source, names_of(table), *columns)).lower())


class _Names:
    """Of tables and columns, by address, as its stored catalogue has them; read again when that was gathered anew."""

    def __init__(self) -> None:
        self.lock = threading.Lock()
        self.known: dict[int, tuple[datetime, list[_Table]]] = {}

    def of(self, address: Address) -> list[_Table]:
        """Each table."""
        gathered = address.catalogue_at
        assert gathered is not None
        with self.lock:
            known = self.known.get(address.pk)
        if known is None or known[0] != gathered:
            known = (gathered, [_Table.of(table, address.source.name) for table in address.catalogue or []])
            with self.lock:
                self.known[address.pk] = known
        return known[1]


_names = _Names()


def _tables(words: Sequence[str]) -> Iterator[Found]:
    """Of each source in the first environment where it was browsed; what its others have besides is found by browsing."""
    seen: set[int] = set()
    for address in Address.objects.exclude(catalogue_at=None).select_related("source", "environment"):
        if address.source_id in seen:
            continue
        seen.add(address.source_id)
        source, environment = address.source.name, address.environment.name
        for table in _names.of(address):
            if not all(word.lower() in table.low for word in words):
                continue
            link = f"/sources/{quote(source)}?{urlencode({'environment': environment, 'table': table.name})}"
            fits = fit(table.name, words, source)
            if fits is not None:
                yield Found("table", table.name, source, f"{table.kind} in {environment}", link, fits)
                continue
            for column in table.columns:
                fits = fit(column, words, f"{table.name} {source}")
                if fits is not None:
                    yield Found("column", column, f"{source} {table.name}", environment, link, fits)
