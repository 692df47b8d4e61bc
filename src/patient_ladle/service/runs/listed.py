"""Which runs, result files and schedules a list shows, and in which orders: of thousands, of a million."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from datetime import timezone as zones
from typing import Any

from django.db.models import Exists, F, OuterRef, Q, QuerySet, Subquery, Value
from django.db.models.functions import Coalesce
from django.utils import timezone
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter
from rest_framework.request import Request

from patient_ladle.core.errors import BadInput, unknown_name
from patient_ladle.core.runs.due_decisions import RUN
from patient_ladle.core.values.search import read_search
from patient_ladle.service.common.api import number_in
from patient_ladle.service.common.caller import sees_all
from patient_ladle.service.extracts.models import Extract
from patient_ladle.service.ledger.models import BY_LENGTH, BY_ROWS, NO_MEMBER, ResultFile, Run
from patient_ladle.service.ledger.states import (
    DELIVERY_FAILED,
    FINISHED,
    HELD,
    LEFT,
    NOT_DELIVERED,
    REJECTED,
    RELEASED,
    STATES,
    TO_DELIVER,
    UNDER_WAY,
)
from patient_ladle.service.schedules.models import DueTime, Schedule
from patient_ladle.service.schedules.services import schedules_with

MARKS = {
    "held": Q(held=HELD),
    "rejected": Q(held=REJECTED),
    "released": Q(held=RELEASED),
    "late": Q(late=True),
    "warned": Q(warned=True),
    "empty": Q(empty=True),
    "not_delivered": Q(delivery__in=(TO_DELIVER, UNDER_WAY, DELIVERY_FAILED, LEFT)),
    "published": Q(published=True, state=FINISHED) & ~Q(held__in=NOT_DELIVERED),
}
"""What runs are asked for by beside their state: most of these have finished."""

NEVER = datetime(1, 1, 2, tzinfo=zones.utc)
FAR = datetime(9999, 12, 30, tzinfo=zones.utc)
RUN_SORTS = {
    "id": F("id"),
    "extract": F("extract__name"),
    "environment": F("environment__name"),
    "state": F("state"),
    "data_date": F("data_date"),
    "took": BY_LENGTH,
    "rows": BY_ROWS,
}
RESULT_SORTS = {
    "id": F("id"),
    "name": F("name"),
    "extract": F("run__extract__name"),
    "rows": F("rows"),
    "bytes": F("bytes"),
    "data_date": F("run__data_date"),
}
SCHEDULE_SORTS = {
    "name": F("name"),
    "extract": F("extract__name"),
    "environment": F("environment__name"),
    "next_due": Coalesce(F("next_due_at"), Value(FAR)),
    "last_due": Coalesce(F("last_due_at"), Value(NEVER)),
}
"""By name, what a list can be sorted by; absent values count as the least, a due time that never comes as the last."""

_SEARCH = OpenApiParameter("search", str, description="Words in names and folders of extracts; all of them are met.")
RUN_FILTERS = [
    _SEARCH,
    OpenApiParameter("extract", str),
    OpenApiParameter("schedule", str),
    OpenApiParameter("environment", str),
    OpenApiParameter("backfill", int, description="Only the runs of that backfill, by its number."),
    OpenApiParameter("member_of", int, description="The inputs of a combination's run, which are left out else."),
    OpenApiParameter("state", str, enum=(*STATES, *MARKS)),
    OpenApiParameter("since", OpenApiTypes.DATETIME, description="Queued then or later."),
    OpenApiParameter("until", OpenApiTypes.DATETIME, description="Queued before."),
]
RESULT_FILTERS = [
    OpenApiParameter("search", str, description="Words in names of files, and in names and folders of extracts; all are met."),
    OpenApiParameter("extract", str),
    OpenApiParameter("environment", str),
    OpenApiParameter("format", str),
]
SCHEDULE_STATES = ("active", "paused", *STATES, "held", "not_delivered", "late", "warned", "empty")
SCHEDULE_FILTERS = [
    OpenApiParameter("search", str, description="In names, and in names and folders of what they run."),
    OpenApiParameter("environment", str),
    OpenApiParameter("state", str, enum=SCHEDULE_STATES, description="Of itself, or of a run of its latest due time that ran."),
]


def _moment(name: str, text: str) -> datetime:
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        raise BadInput(f"'{name}' was given '{text}', which is not a time.", "Give 2026-11-24T06:05:00Z.") from None
    return found if found.tzinfo else found.replace(tzinfo=timezone.get_current_timezone())


def holding(words: Sequence[str], *fields: str) -> Q:
    """Each word in one of the fields."""
    made = Q()
    for word in words:
        either = Q()
        for field in fields:
            either |= Q(**{f"{field}__icontains": word})
        made &= either
    return made


def results_shown() -> QuerySet[ResultFile]:
    """Files that are in the store and may be shown to the caller."""
    found = ResultFile.objects.filter(run__state=FINISHED, run__member_of=None, removed_at=None)
    found = found.select_related("run__extract", "run__environment")
    return found if sees_all() else found.exclude(run__held__in=NOT_DELIVERED)


def _extracts_with(words: tuple[str, ...]) -> list[int]:
    """Of their names and folders; numbers, because a list of them is found by an index of runs, however many runs there are."""
    return list(Extract.objects.filter(holding(words, "name", "folder")).values_list("pk", flat=True))


def runs_asked_for(request: Request, found: QuerySet[Run]) -> QuerySet[Run]:
    """Those of ``found`` that the request's RUN_FILTERS leave. Raises BadInput, UnknownName."""
    given = request.query_params
    if given.get("search"):
        found = found.filter(extract__in=_extracts_with(read_search(given["search"], ()).words))
    if given.get("extract"):
        named = Q(name=given["extract"]) | Q(former_names__name=given["extract"])
        found = found.filter(extract__in=list(Extract.objects.filter(named).values_list("pk", flat=True).distinct()))
    if given.get("schedule"):
        found = found.filter(due_time__schedule__name=given["schedule"])
    if given.get("environment"):
        found = found.filter(environment__name=given["environment"])
    if given.get("backfill"):
        found = found.filter(of_backfill=number_in(request, "backfill", 0))
    inputs = given.get("member_of")
    found = found.filter(member_of=number_in(request, "member_of", 0)) if inputs else found.filter(NO_MEMBER)
    if given.get("state"):
        found = found.filter(_of_state(given["state"]))
    if given.get("since"):
        found = found.filter(queued_at__gte=_moment("since", given["since"]))
    if given.get("until"):
        found = found.filter(queued_at__lt=_moment("until", given["until"]))
    return found


def _of_state(state: str) -> Q:
    if state not in (*STATES, *MARKS):
        raise unknown_name("state", state, (*STATES, *MARKS))
    return MARKS.get(state, Q(state=state))


def results_asked_for(request: Request, found: QuerySet[ResultFile]) -> QuerySet[ResultFile]:
    """Those of ``found`` that the request's RESULT_FILTERS leave."""
    given = request.query_params
    for word in read_search(given.get("search", ""), ()).words:
        found = found.filter(Q(name__icontains=word) | Q(run__extract__in=_extracts_with((word,))))
    for name, field in (("extract", "run__extract__name"), ("environment", "run__environment__name"), ("format", "format")):
        if given.get(name):
            found = found.filter(**{field: given[name]})
    return found


def schedules_asked_for(request: Request) -> QuerySet[Schedule]:
    """Those that the request's SCHEDULE_FILTERS leave, each with ``last_due`` and ``last_due_at``: the number and moment of its
    latest due time that ran. Raises UnknownName."""
    given = request.query_params
    ran = DueTime.objects.filter(schedule=OuterRef("pk"), decision=RUN).order_by("-due_at")
    found = schedules_with(given.get("search", "")).annotate(
        last_due=Subquery(ran.values("pk")[:1]), last_due_at=Subquery(ran.values("due_at")[:1])
    )
    if given.get("environment"):
        found = found.filter(environment__name=given["environment"])
    state: Any = given.get("state")
    if not state:
        return found
    if state not in SCHEDULE_STATES:
        raise unknown_name("state", state, SCHEDULE_STATES)
    if state in ("active", "paused"):
        return found.filter(paused_at__isnull=state == "active")
    newest = Run.objects.filter(due_time=OuterRef("due_time"), step=OuterRef("step"), turn__gt=OuterRef("turn"))
    runs = Run.objects.filter(_of_state(state), ~Exists(newest), due_time=OuterRef("last_due"))
    return found.filter(Exists(runs))
