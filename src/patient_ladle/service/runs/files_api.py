"""Files of runs over HTTP: found, looked into, downloaded singly, as one archive or as the latest of their extract."""

from __future__ import annotations

import base64
import io
import logging
import os
import re
import zipfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from functools import partial
from typing import Any, BinaryIO, NoReturn, TypeVar, cast
from urllib.parse import quote

from django.conf import settings
from django.db import connection
from django.http import FileResponse, HttpResponse, StreamingHttpResponse
from django.http.response import HttpResponseBase
from django.utils.http import parse_etags
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, OpenApiResponse, extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from waitress.channel import ClientDisconnected

from patient_ladle import variables
from patient_ladle.core.errors import NotFound, ResultDamaged, unknown_name
from patient_ladle.core.files.formats import checked_options, get_format
from patient_ladle.core.files.reading import Wanted
from patient_ladle.core.files.sent import BrokenOff, Watched
from patient_ladle.core.results.columns import Column
from patient_ladle.core.runs.engine import DESCRIPTOR
from patient_ladle.service.children.file_preview import StoredAt, preview_of, profile_at
from patient_ladle.service.children.judging import judged_within
from patient_ladle.service.common.api import RoleView, number_in, page_of, page_parameters, paged
from patient_ladle.service.common.caller import ForAuthors
from patient_ladle.service.common.problems import RangeWrong
from patient_ladle.service.extracts.named import extract_named
from patient_ladle.service.ledger.models import ResultFile, Run
from patient_ladle.service.ledger.states import FINISHED, HELD, REJECTED, RELEASED
from patient_ladle.service.ledger.stored_files import (
    OTHER_BYTES,
    found_damaged,
    found_damaged_aside,
    is_our_store,
    refuse_damaged,
    wrong_length,
)
from patient_ladle.service.ledger.stores import store
from patient_ladle.service.people.authentication import SignedIn
from patient_ladle.service.sources.browse_api import ProfileView
from patient_ladle.words import spaced

from .listed import RESULT_FILTERS, RESULT_SORTS, results_asked_for, results_shown
from .published import held_hint, held_words, latest, refuse_held

log = logging.getLogger("ladle.results")
T = TypeVar("T")
PREVIEW_SECONDS = variables.QUERY_SECONDS.value()
"""Seconds that a preview of a stored file may take, the way to the store among it."""


class FileView(ForAuthors):
    for_authors = ("delivered_path", "delivered_also")
    run = serializers.IntegerField(source="run_id")
    name = serializers.CharField()
    format = serializers.CharField()
    media_type = serializers.CharField()
    rows = serializers.IntegerField()
    bytes = serializers.IntegerField()
    sha256 = serializers.CharField()
    statement = serializers.IntegerField(
        source="statement_number", help_text="Which statement of the extract it holds, from 1; the first of several."
    )
    part = serializers.IntegerField(allow_null=True, help_text="Which part of a split result, from 1.")
    compression = serializers.CharField()
    sheets = serializers.ListField(
        child=serializers.JSONField(),
        source="numbered_sheets",
        help_text="Of a workbook: name, number of its statement from 1, rows.",
    )
    removed_at = serializers.DateTimeField(allow_null=True, help_text="When it was removed from the result store.")
    damage = serializers.CharField(
        help_text="What is wrong with it in the result store; empty: nothing that is known. A damaged file is given to nobody."
    )
    delivered_path = serializers.CharField(help_text="Empty: not delivered.")
    delivered_also = serializers.ListField(child=serializers.CharField(), help_text="Its paths in further folders.")


class ResultLine(FileView):
    held = serializers.ChoiceField(
        ["", HELD, RELEASED, REJECTED], source="run.held", help_text="Held and rejected files are shown to authors only."
    )
    published = serializers.BooleanField(source="run.published", help_text="Else it is a trial, which nobody has published.")
    extract = serializers.CharField(source="run.extract.name")
    environment = serializers.CharField(source="run.environment.name")
    data_date = serializers.DateField(source="run.data_date")
    ended_at = serializers.DateTimeField(source="run.ended_at")


READING_SHARE = 0.6
"""Of them for reading; what was read is to be reckoned with after it."""


class FilePreview(serializers.Serializer[Any]):
    columns = serializers.ListField(child=serializers.CharField())
    rows = serializers.ListField(child=serializers.ListField(child=serializers.CharField(allow_null=True)))
    complete = serializers.BooleanField(help_text="These are all the rows there are.")


def _finished(number: int) -> Run:
    run = Run.numbered(number)
    if run.state != FINISHED:
        raise NotFound(f"run {number} has no files: it is {spaced(run.state)}.", "Wait until it has finished.")
    gone = run.files.exclude(removed_at=None).first()
    if gone is not None and gone.removed_at is not None:
        raise NotFound(
            f"the files of run {number} were removed on {gone.removed_at.date().isoformat()}: their time to be kept was over.",
            f"Start it again, for the same data date: ladle run again {number}",
        )
    refuse_held(run)
    return run


def _file_of(run: Run, name: str) -> ResultFile:
    file = run.files.filter(name=name).first()
    if file is None:
        raise unknown_name(f"file of run {run.pk}", name, run.files.values_list("name", flat=True))
    return file


def _opened(file: ResultFile) -> BinaryIO:
    """The stored file, if it has the length that was proven. Raises ResultDamaged, NotFound, StoreUnreadable."""
    refuse_damaged(file)
    try:
        opened = store().open(str(file.run_id), file.attempt, file.name)
    except NotFound:
        if is_our_store():
            found_damaged(file, "it is not there")
        raise
    size = opened.seek(0, os.SEEK_END)
    if size != file.bytes:
        opened.close()
        _refuse_from_now_on(file, wrong_length(size, file.bytes))
    opened.seek(0)
    return opened


def _refuse_from_now_on(file: ResultFile, why: str) -> NoReturn:
    found_damaged(file, why)
    file.refresh_from_db()
    refuse_damaged(file)
    raise ResultDamaged(f"the stored file '{file.name}' is damaged: {why}.")  # it was removed meanwhile


def _watched(file: ResultFile, opened: BinaryIO) -> BinaryIO:
    """Looked at on its way: what is not what was proven is broken off before its end."""

    def damaged() -> None:
        found_damaged_aside(file, OTHER_BYTES)

    return cast(BinaryIO, Watched(opened, file.sha256, file.bytes, damaged))


def _looked_into(file: ResultFile, look: Callable[[StoredAt], T]) -> T:
    """What a process of its own reads in the stored file."""
    refuse_damaged(file)
    try:
        return look(StoredAt(str(settings.RESULT_STORE), str(file.run_id), file.attempt, file.name, file.sha256, file.bytes))
    except ResultDamaged:
        _refuse_from_now_on(file, OTHER_BYTES)


def _descriptor(run: Run) -> BinaryIO:
    return store().open(str(run.pk), run.attempt, DESCRIPTOR)


class RunFile(RoleView):
    """One stored file; ``datapackage.json`` is the descriptor. Serves a single range (RFC 9110, section 14)."""

    @extend_schema(operation_id="run_file", responses={(200, "application/octet-stream"): OpenApiResponse(OpenApiTypes.BINARY)})
    def get(self, request: SignedIn, number: int, name: str) -> HttpResponseBase:
        run = _finished(number)
        if name == DESCRIPTOR:
            return _download(request, _descriptor(run), name, "application/json", f'"{run.pk}.{run.attempt}"')
        file = _file_of(run, name)
        return _of_file(request, file)


class RunFilePreview(RoleView):
    """The first rows of a stored file, as they stand in it."""

    @extend_schema(
        operation_id="run_file_preview",
        parameters=[OpenApiParameter("rows", int), OpenApiParameter("sheet", str)],
        responses=FilePreview,
    )
    def get(self, request: SignedIn, number: int, name: str) -> Response:
        file = _file_of(_finished(number), name)
        wanted = number_in(request, "rows", 50, 1, 1_000)
        options = checked_options(file.format, file.options)
        sheet = request.query_params.get("sheet", "")

        def look(at: StoredAt) -> dict[str, Any]:
            return judged_within(PREVIEW_SECONDS, preview_of, at, file.format, options, file.compression, wanted, sheet)

        return Response(_looked_into(file, look))


class RunFileProfile(RoleView):
    """A column of a stored file at a glance: of all its rows, or of as many as can be read in the time there is."""

    @extend_schema(
        operation_id="run_file_profile",
        parameters=[OpenApiParameter("column", str, required=True), OpenApiParameter("sheet", str)],
        responses=ProfileView,
    )
    def get(self, request: SignedIn, number: int, name: str) -> Response:
        run = _finished(number)
        file = _file_of(run, name)
        options = checked_options(file.format, file.options)
        wanted = Wanted(file.format, options, file.compression, request.query_params.get("sheet", ""), _columns_in(run, file))
        column, seconds = request.query_params.get("column", ""), PREVIEW_SECONDS * READING_SHARE

        def look(at: StoredAt) -> dict[str, Any]:
            return judged_within(PREVIEW_SECONDS, profile_at, at, wanted, column, seconds)

        return Response(ProfileView(_looked_into(file, look)).data)


def _columns_in(run: Run, file: ResultFile) -> list[list[Column]]:
    """What is known of the columns of each table in a file."""
    of = [int(sheet[1]) for sheet in file.numbered_sheets] or [file.statement_number]
    known = {number: statement["columns"] for number, statement in enumerate(run.statements, 1)}
    return [[Column(each["name"], each["kind"], each["source_type"]) for each in known.get(number, [])] for number in of]


class RunZip(RoleView):
    """All files of a run and their descriptor, as one archive."""

    @extend_schema(operation_id="run_archive", responses={(200, "application/zip"): OpenApiResponse(OpenApiTypes.BINARY)})
    def get(self, request: SignedIn, number: int) -> HttpResponseBase:
        run = _finished(number)
        members = [(file.name, partial(_taken, file)) for file in run.files.all()]
        members.append((DESCRIPTOR, partial(_descriptor, run)))
        for _, opened in members:
            opened().close()  # what is missing is said before anything is sent
        response = StreamingHttpResponse(_archived(members), content_type="application/zip")
        name = f"{run.extract.name}-{run.data_date}-run-{run.pk}.zip"
        response["Content-Disposition"] = f"attachment; filename*=UTF-8''{quote(name)}"
        response["Content-Security-Policy"] = "sandbox"
        return response


class _Pieces:
    """What was written since it was last taken."""

    def __init__(self) -> None:
        self.pieces: list[bytes] = []

    def write(self, data: bytes) -> int:
        self.pieces.append(bytes(data))
        return len(data)

    def flush(self) -> None:
        return None

    def taken(self) -> bytes:
        found, self.pieces = b"".join(self.pieces), []
        return found


def _taken(file: ResultFile) -> BinaryIO:
    return _watched(file, _opened(file))


def _archived(members: Sequence[tuple[str, Callable[[], BinaryIO]]]) -> Iterator[bytes]:
    """Piece by piece; a member that is not what was proven breaks the archive off, so that nobody takes it for whole."""
    out = _Pieces()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:  # type: ignore[call-overload]
        for name, opened in members:
            with closing(opened()) as file, archive.open(zipfile.ZipInfo(name), "w", force_zip64=True) as entry:
                try:
                    while piece := file.read(1 << 20):
                        entry.write(piece)
                        yield out.taken()
                except BrokenOff:
                    raise ClientDisconnected from None  # the server's own word for an answer that goes on no further
    yield out.taken()


class NewerHeld(serializers.Serializer[Any]):
    run = serializers.IntegerField(source="pk")
    why = serializers.SerializerMethodField(help_text="By which guard.")
    next = serializers.SerializerMethodField(help_text="What becomes of it, and by whom.")

    def get_why(self, run: Run) -> str:
        return held_words(run)

    def get_next(self, run: Run) -> str:
        return held_hint(run)


class LatestView(serializers.Serializer[Any]):
    run = serializers.IntegerField(source="run.pk")
    environment = serializers.CharField(source="run.environment.name")
    data_date = serializers.DateField(source="run.data_date")
    ended_at = serializers.DateTimeField(source="run.ended_at")
    files = FileView(many=True, source="run.files")
    newer_held = NewerHeld(allow_null=True, help_text="A newer result that a guard holds back; null: there is none.")


class LatestRun(RoleView):
    """What the extract published last: in the default environment, by its schedules or on purpose."""

    @extend_schema(
        operation_id="latest_run",
        parameters=[OpenApiParameter("environment", str), OpenApiParameter("format", str, description="That it must have.")],
        responses=LatestView,
    )
    def get(self, request: SignedIn, name: str) -> Response:
        form = request.query_params.get("format", "")
        found = latest(extract_named(name), request.query_params.get("environment", ""), get_format(form).name if form else "")
        return Response(LatestView(found).data)


class LatestResult(RoleView):
    """The latest published file in a format: an address that stays the same while what it gives follows the runs."""

    @extend_schema(
        operation_id="latest_result",
        parameters=[
            OpenApiParameter("environment", str),
            OpenApiParameter("statement", int, description="Of an extract with several, which one, from 1."),
            OpenApiParameter("part", int, description="Of a split result, from 1."),
        ],
        responses={(200, "application/octet-stream"): OpenApiResponse(OpenApiTypes.BINARY)},
    )
    def get(self, request: SignedIn, name: str, format: str) -> HttpResponseBase:
        extract, asked = extract_named(name), request.query_params
        found = latest(extract, asked.get("environment", ""), get_format(format).name)
        files = [file for file in found.run.files.filter(removed_at=None) if file.format == get_format(format).name]
        for key, held in (("statement", "statement_number"), ("part", "part")):
            given = asked.get(key)
            if given is not None:
                files = [file for file in files if str(getattr(file, held) or 0) == given]
        if not files:
            raise NotFound(
                f"the latest result of '{extract.name}' has no such statement or part.", "Leave statement and part out."
            )
        response = _of_file(request, files[0])
        response["X-Run"] = str(found.run.pk)
        if found.newer_held is not None:
            response["X-Newer-Held-Run"] = str(found.newer_held.pk)
        return response


def _of_file(request: SignedIn, file: ResultFile) -> HttpResponseBase:
    """With the checksum of the whole (RFC 9530), so that whoever takes it can tell."""
    response = _download(request, _opened(file), file.name, file.media_type, f'"{file.sha256}"', partial(_watched, file))
    response["Repr-Digest"] = f"sha-256=:{base64.b64encode(bytes.fromhex(file.sha256)).decode()}:"
    return response


def _download(
    request: SignedIn,
    file: BinaryIO,
    name: str,
    media_type: str,
    tag: str,
    watched: Callable[[BinaryIO], BinaryIO] = lambda file: file,
) -> HttpResponseBase:
    """``watched`` is put around a file that is sent whole."""
    known = [each.removeprefix("W/") for each in parse_etags(request.headers.get("If-None-Match", ""))]
    if tag in known or "*" in known:
        file.close()
        return HttpResponse(status=304, headers={"ETag": tag, "Cache-Control": "sensitive, no-cache"})
    size = file.seek(0, os.SEEK_END)
    wanted = re.fullmatch(r"bytes=(\d*)-(\d*)", request.headers.get("Range", ""))
    if request.headers.get("If-Range", tag) != tag or (wanted and not any(wanted.groups())):
        wanted = None
    start, end = 0, size - 1
    if wanted:
        first, last = wanted.groups()
        start = int(first) if first else max(size - int(last), 0)
        end = min(int(last), size - 1) if first and last else size - 1
        if start > end:
            file.close()
            raise RangeWrong(
                f"the file has {size:,} bytes; the range begins beyond them.",
                "Ask for a part of it, or for all.",
                whole_bytes=size,
            )
    file.seek(start)
    connection.close()  # a download may take long: the next request should have it
    # A file of this machine is sent by the server's own loop, up to the length said; another is read by this thread.
    own = isinstance(file, io.BufferedReader)
    file = watched(file) if end - start + 1 == size else file
    sent = file if own else _Part(file, end - start + 1)
    response = FileResponse(sent, content_type=media_type, status=206 if wanted else 200)
    response["Content-Length"] = str(end - start + 1)
    if wanted:
        response["Content-Range"] = f"bytes {start}-{end}/{size}"
    response["Accept-Ranges"] = "bytes"
    response["ETag"] = tag
    response["Content-Disposition"] = f"attachment; filename*=UTF-8''{quote(name)}"
    response["Content-Security-Policy"] = "sandbox"
    response["Cache-Control"] = "sensitive, no-cache"
    return response


class _Part:
    """The next so many bytes of an open file, as something that can be read and closed."""

    def __init__(self, file: Any, left: int) -> None:
        self.file, self.left = file, left

    def read(self, size: int = -1) -> bytes:
        chunk: bytes = self.file.read(self.left if size < 0 else min(size, self.left))
        self.left -= len(chunk)
        return chunk

    def close(self) -> None:
        self.file.close()


class Results(RoleView):
    @extend_schema(
        operation_id="results",
        parameters=[*RESULT_FILTERS, *page_parameters(RESULT_SORTS)],
        responses=paged("Result", ResultLine),
    )
    def get(self, request: SignedIn) -> Response:
        return page_of(request, results_asked_for(request, results_shown()), ResultLine, sorts=RESULT_SORTS)
