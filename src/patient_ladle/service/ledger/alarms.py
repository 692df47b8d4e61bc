"""What of runs and due times people are told.

Rules and theory
----------------
* A problem belongs to the thing that is wrong: a source that cannot be reached is one problem, however many extracts
  fail by it; an extract that fails night after night is one, too, until its cause changes.
* Runs of schedules tell everybody of failures; a run that somebody started, by hand or with a token, tells that person, of
  its failure, of its end, or of nothing, as they choose. A held delivery is always told.
* A run that is *not run* because of another's failure tells nothing: that failure is told already.
* An input of a combination tells of its source and of the store only; all else is told by the run that it is for.
"""

from __future__ import annotations

import shutil
from collections import Counter
from collections.abc import Sequence

from django.conf import settings
from django.db import connection, transaction
from django.utils import timezone

from patient_ladle.adapters.deliveries import in_words
from patient_ladle.core.errors import LadleError, StoreUnwritable, general_words
from patient_ladle.core.runs.due_decisions import LATE_AFTER
from patient_ladle.core.values.calendars.clock import check_zone
from patient_ladle.service.alerts.models import Alert
from patient_ladle.service.alerts.services import open_problem, resolve_problem, tell, tell_one
from patient_ladle.service.common.caller import SEES_ALL
from patient_ladle.service.common.clock import database_now
from patient_ladle.service.people.models import TOLD_ENDED, TOLD_FAILED, TOLD_NOTHING
from patient_ladle.service.schedules.models import Schedule
from patient_ladle.service.sources.reading import Reading
from patient_ladle.words import amount, spaced

from .models import SOURCE_CODES, STORE_CODES, Backfill, Run
from .states import DELIVERED, DELIVERY_FAILED, FAILED, FINISHED, HELD, LIVE, NOT_RUN
from .stores import store

FOLDER_CODES = ("store_unwritable", "disk_full")
"""Faults of a delivery's target, whatever is delivered to it."""
_STORE = "the result store cannot be used"
NAMED = 20
"""Schedules that an alert of missed due times names."""
SCARCE_BYTES = 5 << 30
"""Free space in the result store below which people are told: days, not minutes, before the end."""


def _extract_key(run: Run) -> str:
    return f"extract:{run.extract_id}:{run.environment_id}"


def where_of(run: Run) -> str:
    """Its extract and environment, as a title begins."""
    return f"{run.extract.name} in {run.environment.name}"


def run_ended(run: Run, told_already: bool = False) -> None:
    """The run has come to its last state; in the transaction that says so."""
    _tell_starter(run)
    where, path = where_of(run), f"/runs/{run.pk}"
    source = Reading(run.source, run.environment)
    if run.state == FINISHED:
        if run.held == HELD:
            cause = "; ".join(finding["text"] for finding in run.findings if finding["then"] == "hold")
            next_step = "Look at its files, then release or reject them."
            open_problem(f"held:{run.pk}", "held", f"{where}: run {run.pk} is held", cause, next_step, path)
            return
        resolve_problem("store", "the result store can be used again", f"Run {run.pk} has finished.", path)
        resolve_problem(source.key, f"{source.name} is back", f"Run {run.pk} has finished.", path)
        if run.member_of is not None:
            return
        resolve_problem(
            _extract_key(run), f"{where} runs again", f"Run {run.pk} has finished with {amount(run.rows or 0, 'row')}.", path
        )
        if run.finish_by and not run.late and run.due_time:
            schedule = run.due_time.schedule
            resolve_problem(
                f"late:{schedule.pk}", f"{schedule.name} is in time again", f"Run {run.pk} has finished in time.", path
            )
        return
    asked = run
    while asked.member_of is not None:
        asked = asked.member_of
    if asked.due_time is None or run.backfill or told_already or run.state not in (FAILED, NOT_RUN):
        return
    error = run.error or {}
    cause, hint, code = error.get("message", ""), error.get("hint", ""), error.get("code", "")
    if code in STORE_CODES:
        open_problem("store", "failed", _STORE, cause, hint, path, mark=code)
    elif code in SOURCE_CODES:
        open_problem(source.key, "source_unreachable", f"{source.name} cannot be read", cause, hint, path, mark=code)
    elif asked is run:
        kind = "failed" if run.state == FAILED else "not_run"
        open_problem(_extract_key(run), kind, f"{where}: {spaced(kind)}", cause, hint, path, mark=f"{code} {cause}")


def _tell_starter(run: Run) -> None:
    if run.of_backfill_id is not None:
        tell_of_backfill(run)
    person = run.started_by
    if (
        person is None
        or run.member_of_id is not None
        or run.backfill
        or person.own_runs == TOLD_NOTHING
        or run.state not in (FINISHED, FAILED, NOT_RUN)
    ):
        return
    if run.state == FINISHED:
        if person.own_runs == TOLD_ENDED:
            held = " Its delivery is held." if run.held else ""
            words = f"It has {amount(run.rows or 0, 'row')}.{held}"
            tell_one(person, f"{where_of(run)}: run {run.pk} has finished", words, "", f"/runs/{run.pk}")
        return
    error = run.error or {}
    if person.role not in SEES_ALL:
        error = general_words(str(error.get("code", "")), error)
    title = f"{where_of(run)}: run {run.pk} " + ("has failed" if run.state == FAILED else "was not run")
    tell_one(person, title, error.get("message", ""), error.get("hint", ""), f"/runs/{run.pk}")


def tell_of_backfill(run: Run) -> None:
    """To whoever started it, with the last run of it that ends, unless somebody cancelled it as a whole.

    Its row is locked, so that of two runs that end at once one is the last.
    """
    found = (
        Backfill.objects.select_for_update(of=("self",)).select_related("person", "schedule").get(pk=run.of_backfill_id or 0)
    )
    if found.told or found.runs.filter(state__in=LIVE).exclude(pk=run.pk).exists():
        return
    found.told = True
    found.save(update_fields=["told"])
    states = Counter(found.runs.exclude(pk=run.pk).values_list("state", flat=True)) + Counter([run.state])
    well = set(states) <= {FINISHED}
    if found.cancelled_by:
        return
    if found.person.own_runs == TOLD_ENDED or (found.person.own_runs == TOLD_FAILED and not well):
        counts = ", ".join(f"{count:,} {state}" for state, count in sorted(states.items()))
        hint = "" if well else f"Fix the cause, then repeat it: ladle backfill repeat {found.pk}."
        title = f"backfill {found.pk} of {found.schedule.name} has ended"
        tell_one(found.person, title, f"{found.first} to {found.last}: {counts}.", hint, "/schedules")


def _delivery_keys(run: Run, targets: Sequence[str]) -> tuple[str, str]:
    """A folder that cannot be written is one problem for all that goes there; what else fails is the extract's own."""
    return f"delivery:{';'.join(targets)}"[:200], f"delivery-of:{run.extract_id}:{run.environment_id}"


def not_delivered_yet(run: Run, targets: Sequence[str], error: LadleError) -> None:
    """The run's result is stored and could not be delivered, so far or for good."""
    of_targets, of_extract = _delivery_keys(run, targets)
    failed = run.delivery == DELIVERY_FAILED
    if error.code in FOLDER_CODES:
        key, title = of_targets, f"nothing can be delivered into {in_words(targets)}"
    elif error.code in STORE_CODES:
        key, title = "store", _STORE
    else:
        key, title = of_extract, f"{where_of(run)}: run {run.pk} is not delivered"
    hint = f"{error.hint} Then: ladle run deliver {run.pk}, --into other folders, or --leave it." if failed else error.hint
    cause = f"{error.message} The result of run {run.pk} is stored and proven." + ("" if failed else " It is tried again.")
    open_problem(key, "not_delivered", title, cause, hint, f"/runs/{run.pk}", mark=f"{error.code} {run.delivery}")


def delivery_is_over(run: Run, targets: Sequence[str], words: str, of_targets_too: bool) -> None:
    """It was delivered, or a person has decided. ``of_targets_too``: something was delivered there, or nothing waits to be."""
    of_targets, of_extract = _delivery_keys(run, targets)
    if of_targets_too:
        title = f"deliveries into {in_words(targets)} work again"
        if run.delivery != DELIVERED:
            title = f"nothing waits to be delivered into {in_words(targets)}"
        resolve_problem(of_targets, title, f"Run {run.pk}: {words}", f"/runs/{run.pk}")
    resolve_problem(of_extract, f"{where_of(run)}: the delivery of run {run.pk} is settled", words, f"/runs/{run.pk}")


def decided(run: Run) -> None:
    """A held delivery was released or rejected."""
    words = f"{run.held} by {run.held_by}" + (f": {run.held_note}" if run.held_note else "")
    resolve_problem(f"held:{run.pk}", f"{where_of(run)}: run {run.pk} is {run.held}", f"{words}.", f"/runs/{run.pk}")


def nobody_can_run(run: Run, why: str, of_targets: bool) -> None:
    """A run that was due waits for a worker that can carry it out."""
    next_step = (
        "Set what is wrong there, or start a worker on a host that has it. The run waits and is looked at again each minute."
    )
    path, cause = f"/runs/{run.pk}", f"{why}."
    if of_targets:
        key, title = _extract_key(run), f"{where_of(run)}: no worker can deliver where it is wanted"
        open_problem(key, "not_run", title, cause, next_step, path, mark="no_worker")
        return
    source = Reading(run.source, run.environment)
    open_problem(
        source.key, "source_unreachable", f"{source.name} can be read by no worker", cause, next_step, path, mark="no_worker"
    )


def run_is_late(run: Run) -> None:
    """The run has passed the moment that it was to be finished by."""
    if run.due_time is None:
        return
    schedule = run.due_time.schedule
    by = run.finish_by.astimezone(check_zone(schedule.zone)) if run.finish_by else timezone.now()
    cause = f"Run {run.pk} of {run.extract.name} is {spaced(run.state)} and was to be finished by {by:%H:%M}."
    next_step = "Look at its stage and at its source; give the schedule an earlier time if that is usual."
    open_problem(f"late:{schedule.pk}", "late", f"{schedule.name} is late", cause, next_step, f"/runs/{run.pk}", mark="late")


_MISSED = """
    with told as (update schedules_duetime set untold = false where untold returning schedule_id, due_at)
    select s.name, count(*), min(due_at) from told join schedules_schedule s on s.id = schedule_id group by 1 order by 1
"""


@transaction.atomic
def tell_missed() -> Alert | None:
    """Due times passed while no scheduler was there; one alert for all of them, once all that is due is recorded.

    They are marked with their records: what a scheduler recorded before it was killed is told by the next one.
    """
    late = Schedule.objects.filter(next_due_at__lte=database_now() - LATE_AFTER, removed_at=None)
    if late.filter(look_again_at=None).exists():
        return None  # another scheduler is at it, or was: its locks end with its connection
    with connection.cursor() as cursor:
        cursor.execute(_MISSED)
        found = cursor.fetchall()
    if not found:
        return None
    total, since = sum(count for _, count, _ in found), min(at for _, _, at in found)
    names = ", ".join(f"{name} ({count})" for name, count, _ in found[:NAMED])
    return tell(
        "missed",
        f"missed: {amount(total, 'due time')} of {amount(len(found), 'schedule')}",
        f"The service was not running at them, since {since:%Y-%m-%d %H:%M} UTC: {names}.",
        "Those that a schedule wants after all run now; backfill others: ladle backfill start.",
        "/schedules",
    )


def mind_space() -> None:
    """Say so long before the result store or a delivery folder is full, and when there is room again."""
    try:
        free = store().free_bytes()
    except StoreUnwritable as error:
        open_problem("space", "disk_space", "the result store cannot be looked at", error.message, error.hint, mark="away")
    else:
        _say_room("space", f"the result store '{settings.RESULT_STORE}'", free, "Free some, or keep results for less long.")
    for root in settings.DELIVERY_ROOTS:
        try:
            free = shutil.disk_usage(root).free
        except OSError:
            continue  # nothing was delivered there yet, or its mount is away, which its runs say
        _say_room(f"space:{root}", f"the delivery folder {root}", free, "Free some: deliveries into it fail when it is full.")


def _say_room(key: str, where: str, free: int | None, hint: str) -> None:
    if free is None:
        return
    if free < SCARCE_BYTES:
        open_problem(key, "disk_space", f"space is scarce in {where}", f"{free / 1e9:.0f} GB are left.", hint, mark="scarce")
    else:
        resolve_problem(key, f"there is room in {where}", f"{free / 1e9:.0f} GB are free.")
