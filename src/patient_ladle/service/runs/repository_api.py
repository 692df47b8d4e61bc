"""The list of extracts over HTTP, with the state of each at a glance."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from patient_ladle.core.values.search import read_search
from patient_ladle.service.common.api import flag_in
from patient_ladle.service.common.caller import sees_all
from patient_ladle.service.extracts import api
from patient_ladle.service.extracts.models import Extract
from patient_ladle.service.extracts.searching import below, listed, marks_of, searched
from patient_ladle.service.ledger.states import DELIVERIES, HELD, REJECTED, RELEASED, STATES
from patient_ladle.service.people.authentication import SignedIn

from .glance import SEARCHED, Glance, glances, in_states, trouble_in_words

FIELDS = ("tag", "source", "owner", "folder", "state")


class LastRunView(serializers.Serializer[Any]):
    id = serializers.IntegerField()
    environment = serializers.CharField(source="environment.name")
    state = serializers.ChoiceField(STATES)
    held = serializers.ChoiceField(["", HELD, RELEASED, REJECTED])
    delivery = serializers.ChoiceField(
        ["", *DELIVERIES], help_text="What has become of it; empty: none was wanted, or it is held."
    )
    late = serializers.BooleanField()
    warned = serializers.BooleanField()
    empty = serializers.BooleanField()
    rows = serializers.IntegerField(allow_null=True)
    queued_at = serializers.DateTimeField()
    ended_at = serializers.DateTimeField(allow_null=True)


_MOMENTS = serializers.DateTimeField()


def _in_words(at: datetime | None) -> str | None:
    return _MOMENTS.to_representation(at) if at else None


class ExtractLine(serializers.Serializer[Any]):
    name = serializers.CharField(source="extract.name")
    folder = serializers.CharField(source="extract.folder")
    owner = serializers.CharField(source="extract.owner")
    number = serializers.IntegerField(source="extract.number")
    archived_at = serializers.DateTimeField(source="extract.archived_at", allow_null=True)
    source = serializers.CharField(source="extract.source")  # type: ignore[assignment]  # a field of that name
    notes = serializers.CharField(source="extract.notes")
    saved_at = serializers.DateTimeField(source="extract.saved_at")
    tags = serializers.ListField(source="extract.tags", child=serializers.CharField())
    last_run = LastRunView(allow_null=True, help_text="Its newest run, whoever or whatever started it; null: none yet.")
    problem = serializers.SerializerMethodField(help_text="What is wrong with the last run, in words; empty: nothing.")
    next_due_at = serializers.DateTimeField(allow_null=True, help_text="Of its schedules that are not paused; null: none.")
    schedules = serializers.IntegerField(help_text="So many run it.")
    paused = serializers.IntegerField(help_text="So many of them are paused.")
    favourite = serializers.BooleanField(source="mark.favourite", default=False, help_text="Of whoever asks.")
    opened_at = serializers.DateTimeField(
        source="mark.opened_at", default=None, allow_null=True, help_text="When whoever asks had it in hand last; null: never."
    )

    def get_problem(self, glance: Glance) -> str:
        return trouble_in_words(glance.last_run, sees_all())

    def to_representation(self, instance: Glance) -> dict[str, Any]:
        """What the fields say, without asking each of them: thousands of lines are one answer."""
        extract, mark, run = instance.extract, instance.mark, instance.last_run
        return {
            "name": extract.name,
            "folder": extract.folder,
            "owner": extract.owner,
            "number": extract.number,
            "archived_at": _in_words(extract.archived_at),
            "source": extract.source,
            "notes": extract.notes,
            "saved_at": _in_words(extract.saved_at),
            "tags": extract.tags,
            "last_run": self.fields["last_run"].to_representation(run) if run else None,
            "problem": self.get_problem(instance),
            "next_due_at": _in_words(instance.next_due_at),
            "schedules": instance.schedules,
            "paused": instance.paused,
            "favourite": mark.favourite if mark else False,
            "opened_at": _in_words(mark.opened_at) if mark else None,
        }


class Repository(api.Extracts):
    @extend_schema(
        operation_id="extracts",
        parameters=[
            OpenApiParameter(
                "search",
                str,
                description="Words in names, folders, tags, notes and, for authors, statements; all of them are met. "
                f"`{':`, `'.join(FIELDS)}:` before a word say where. States: {', '.join(SEARCHED)}.",
            ),
            OpenApiParameter("folder", str, description="This one and those below it."),
            OpenApiParameter("tag", str),
            OpenApiParameter("archived", bool),
            OpenApiParameter("favourite", bool, description="Only favourites of whoever asks."),
        ],
        responses=ExtractLine(many=True),
    )
    def get(self, request: SignedIn) -> Response:
        given = request.query_params
        search = read_search(given.get("search", ""), FIELDS)
        found = Extract.objects.filter(archived_at__isnull=not flag_in(request, "archived"), in_repository=True)
        if given.get("folder"):
            found = found.filter(below(given["folder"]))
        if given.get("tag"):
            found = found.filter(tags__contains=[given["tag"]])
        if flag_in(request, "favourite"):
            found = found.filter(marks__person=request.user, marks__favourite=True)
        extracts = listed(searched(found, search, sees_all()))
        shown = in_states(glances(extracts, marks_of(request.user, extracts)), search.terms.get("state", ()))
        return Response(ExtractLine(shown, many=True).data)
