"""What an extract publishes, said once: API, client, command line and console all ask here.

* The runs of its schedules, and runs by hand as the extract stands or that somebody published. A run by hand with other
  values, formats or an older revision is a trial: it is not delivered, and gives its files to whoever knows its number.
* In the default environment, unless another one is asked for.
* Never what a guard holds back or an author has rejected. Whoever asks is told of it, by which guard, and what is next.
* The latest is the newest of them, by the one order of results, that has the format.
"""

from __future__ import annotations

from dataclasses import dataclass

from django.db import transaction
from django.db.models import QuerySet

from patient_ladle.core.errors import Conflict, NotFound, ResultHeld
from patient_ladle.service.common.caller import sees_all
from patient_ladle.service.extracts.models import Extract
from patient_ladle.service.ledger.delivering import deliver_after_all
from patient_ladle.service.ledger.models import NEWEST_FIRST, NO_MEMBER, ResultFile, Run
from patient_ladle.service.ledger.run_log import add_log
from patient_ladle.service.ledger.states import ENDED, FINISHED, HELD, NOT_DELIVERED, REJECTED, RUNNING
from patient_ladle.service.people.models import Person
from patient_ladle.service.sources.models import Environment
from patient_ladle.service.sources.queries import environment_named
from patient_ladle.words import spaced

from .services import default_environment


@dataclass(frozen=True, slots=True)
class Latest:
    """The newest published run, and a newer one that would be it if a guard did not hold it."""

    run: Run
    newer_held: Run | None


def published_runs(extract: Extract | int, environment: Environment | int) -> QuerySet[Run]:
    """Newest first."""
    runs = Run.objects.filter(extract=extract, environment=environment, state=FINISHED, published=True)
    return runs.exclude(held__in=NOT_DELIVERED).order_by(*NEWEST_FIRST)


def latest(extract: Extract, environment: str = "", form: str = "") -> Latest:
    """The newest published result, ``form`` among its files where one is given. Raises NotFound with what is in the way."""
    wanted = environment_named(environment or default_environment())
    kept = ResultFile.objects.filter(removed_at=None, **({"format": form} if form else {}))
    published = published_runs(extract, wanted)
    run = published.filter(pk__in=kept.filter(run__extract=extract).values("run")).first()
    held = _held(extract, wanted)
    if held is not None and run is not None and _rank(held) < _rank(run):
        held = None
    if run is not None:
        return Latest(run, held)
    where = f"'{extract.name}' in {wanted.name}"
    if held is not None:
        raise NotFound(f"the only result of {where} is held: {held_words(held)}", held_hint(held))
    newest = published.first()
    if newest is not None:
        there = ", ".join(sorted(set(newest.files.filter(removed_at=None).values_list("format", flat=True))))
        if form and there:
            raise NotFound(f"no published result of {where} has a {form} file.", f"Run {newest.pk} has: {there}.")
        raise NotFound(f"the results of {where} are not kept any more.", f"Run it again: ladle run again {newest.pk}")
    trial = Run.objects.filter(NO_MEMBER, extract=extract, environment=wanted, state=FINISHED, held="").order_by("-id").first()
    if trial is not None:
        raise NotFound(
            f"nothing of {where} is published: run {trial.pk} is a trial until somebody publishes it.",
            f"Publish it: ladle run publish {trial.pk}. Or take its files by its number.",
        )
    raise NotFound(f"{where} has no result yet.", f"Give it a schedule, or start it: ladle run start {extract.name} --publish")


def _rank(run: Run) -> tuple[object, ...]:
    return run.data_date, run.due_at, run.pk


def _held(extract: Extract, environment: Environment) -> Run | None:
    runs = Run.objects.filter(extract=extract, environment=environment, state=FINISHED, published=True, held=HELD)
    return runs.order_by(*NEWEST_FIRST).first()


def held_words(run: Run) -> str:
    """Which guard holds a run, or who has rejected it."""
    if run.held == REJECTED:
        return f"run {run.pk}, rejected by {run.held_by}" + (f": {run.held_note}." if run.held_note else ".")
    texts = "; ".join(each["text"] for each in run.findings if each["then"] == "hold")
    return f"run {run.pk}, by its guard: {texts}."


def held_hint(run: Run) -> str:
    """What becomes of a held run, and by whom."""
    if run.held == REJECTED:
        return f"It stays in the result store. Run it again: ladle run again {run.pk}"
    return f"An author releases it: ladle run release {run.pk}. Or rejects it: ladle run reject {run.pk}"


def refuse_held(run: Run) -> None:
    """Files that are held or rejected are authors' only. Raises ResultHeld."""
    if run.held in NOT_DELIVERED and not sees_all():
        raise ResultHeld(f"these files are held back: {held_words(run)}", held_hint(run), run=run.pk)


@transaction.atomic
def publish(person: Person, number: int) -> Run:
    """From now on it counts among what its extract publishes, and is delivered. Raises Conflict, NotFound."""
    run = Run.numbered(number, locked=True)
    if run.member_of_id is not None:
        raise Conflict(
            f"run {number} is an input of run {run.member_of_id}, and is no result by itself.",
            f"Run the extract: ladle run start {run.extract.name} --publish",
        )
    if run.state in ENDED and run.state != FINISHED:
        raise Conflict(f"run {number} has no result: it is {spaced(run.state)}.", f"Run it again: ladle run again {number}")
    if run.held in NOT_DELIVERED:
        raise Conflict(f"the result is {run.held}: {held_words(run)}", held_hint(run))
    if run.state == RUNNING:
        raise Conflict(f"run {number} has begun, as a trial.", f"Publish it when it has finished: ladle run publish {number}")
    if run.state == FINISHED:
        _deliver(run)
    run.store_only = False
    return _set(run, True, f"published by {person.name}")


def _deliver(run: Run) -> None:
    """An older result is not put over a newer one's files."""
    newer = published_runs(run.extract_id, run.environment_id).first()
    if newer is None or _rank(newer) < _rank(run):
        deliver_after_all(run)
    else:
        add_log(run, "info", f"not delivered: run {newer.pk} is published and newer", "deliver")


@transaction.atomic
def withdraw(person: Person, number: int, note: str) -> Run:
    """From now on it does not; delivered files stay where they are. Raises NotFound."""
    because = f": {note}" if note else ""
    return _set(Run.numbered(number, locked=True), False, f"withdrawn from what is published by {person.name}{because}")


def _set(run: Run, published: bool, words: str) -> Run:
    if run.published != published:
        run.published = published
        run.save()
        add_log(run, "info", words)
    return run
