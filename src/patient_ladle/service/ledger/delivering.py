"""A delivery's end is its own: what is stored and proven stays, and is delivered later when it could not be at once.

Rules and theory
----------------
* A finished run's delivery is waiting, under way, delivered, failed or left. It is tried again with growing waits until
  its time is over, or at once *failed* when it cannot pass by itself; then a person decides: again, elsewhere, or left.
* Each later try copies from the result store anew, under a mark of its own, and proves what it copied by the
  checksums on record. Nothing is shown before its intent is recorded.
* A try belongs to the worker and the number that stand in the run's row. Whoever does not find them there is fenced.
* Only one try at a time goes to a target from one worker: a target that hangs holds up no other.
* What a target is, and how something gets there, its kind alone knows (``adapters/deliveries``).
"""

from __future__ import annotations

import json
import logging
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import timedelta
from typing import Any

from django.conf import settings
from django.db import transaction
from django.db.models import Q, QuerySet
from django.utils import timezone

from patient_ladle.adapters.deliveries import in_words, kind_named, kind_of, mark_of
from patient_ladle.core.errors import (
    BadInput,
    Conflict,
    Fenced,
    LadleError,
    ProofFailed,
    ServiceFault,
    StoreUnwritable,
    unknown_name,
)
from patient_ladle.core.files.naming import file_stem
from patient_ladle.core.files.output import OutputSettings
from patient_ladle.core.ports import DeliveryPlan
from patient_ladle.core.runs.engine import DESCRIPTOR, descriptor_name, name_fields
from patient_ladle.core.runs.retrying import RetryPolicy
from patient_ladle.core.values.parameters import resolve
from patient_ladle.service.common.targets import targets_of
from patient_ladle.service.extracts.sensitive_values import opened
from patient_ladle.service.people.models import Person

from .alarms import delivery_is_over, not_delivered_yet
from .clearing import clear_after
from .models import DeliveryTarget, Run, Worker
from .owning import claim_names, own_names
from .reaching import lack_of_delivery, refuse, refused_by
from .run_log import add_log, delivered_words, wake_workers
from .states import DELIVERED, DELIVERY, DELIVERY_FAILED, LEFT, RELEASED, TO_DELIVER, UNDER_WAY
from .stored_files import look_through
from .stores import store
from .waiting import tell_followers

log = logging.getLogger("ladle.deliveries")

FIRST_WAIT_SECONDS = 5.0
"""Before the second try; doubled each time, up to a quarter of an hour."""
UNTOLD_TRIES = 2
"""So many failed tries pass before people are told: a share that is mounted anew is there again by then."""
CANDIDATES = 50
CHOICES = ("again", "elsewhere", "left")


def plan_of(data: Mapping[str, Any] | None) -> DeliveryPlan | None:
    """As it was recorded."""
    return DeliveryPlan.from_dict(data) if data else None


def deliver_prepared(row: Run, plan: DeliveryPlan, resumed: bool) -> None:
    """Let what was prepared be seen, and record what became of it; in the transaction that holds the run's row.

    Raises nothing of the delivery's own.
    """
    done = (row.delivery_plan or {}).get("delivered", [])
    try:
        claim_names(row, plan)
        taken = kind_named(plan.kind).commit(plan, resumed, done)
    except LadleError as error:
        not_delivered(row, plan, error)
    except Exception:
        log.exception("the delivery of run %s", row.pk)
        not_delivered(row, plan, _fault(row))
    else:
        _delivered(row, plan, taken)


def known_of(targets: Sequence[str]) -> dict[str, str]:
    """What earlier deliveries have taught about targets."""
    return dict(DeliveryTarget.objects.filter(target__in=targets).values_list("target", "known"))


def _fault(row: Run) -> ServiceFault:
    return ServiceFault("the delivery met a fault of the service's own.", "Its log has the details under this run.", run=row.pk)


def _delivered(row: Run, plan: DeliveryPlan, taken: list[str]) -> None:
    again = row.delivery_error is not None
    DELIVERY.move(row, "deliver")
    row.late = row.late or bool(row.finish_by and timezone.now() > row.finish_by)
    row.save()
    for file, (first, *others) in zip(row.files.all(), plan.delivered(), strict=False):
        file.delivered_path, file.delivered_also = first, others
        file.save(update_fields=["delivered_path", "delivered_also"])
    own_names(row, plan)
    for target, known in kind_named(plan.kind).learned(plan).items():
        DeliveryTarget.objects.update_or_create(target=target, defaults={"known": known})
    if again or row.attempt > 1:
        clear_after(row, plan.targets)
    add_log(row, "info", delivered_words(plan), "deliver")
    for words in kind_named(plan.kind).remarks(plan):
        add_log(row, "warning", words, "deliver")
    for name in taken:
        words = "had been delivered before its worker was lost, and is not there any more: somebody has taken it"
        add_log(row, "warning", f"'{name}' {words}", "deliver")
    delivery_is_over(row, plan.targets, "It was delivered." if again else "", True)
    tell_followers(row)


def not_delivered(row: Run, plan: DeliveryPlan, error: LadleError, hangs: bool = False) -> None:
    """The try has failed: nothing prepared is left, and there is a next one, or a person decides. In the transaction that
    holds the run's row.

    ``hangs``: no target is touched now; it is cleared when it answers again.
    """
    if not hangs:
        kind_named(plan.kind).sweep(plan)
    now = timezone.now()
    until = row.deliver_until or now + timedelta(hours=settings.DELIVERY_HOURS)
    patience = RetryPolicy(1_000, until, FIRST_WAIT_SECONDS)
    again, why_not = patience.again_at(error, row.delivery_attempts, now)
    done = [*(row.delivery_plan or {}).get("delivered", []), *error.facts.get("delivered", [])]
    left = {**plan.wishes().to_dict(), "delivered": list(dict.fromkeys(done))}
    known: dict[str, Any] = {"delivery_plan": left, "delivery_error": error.to_dict(), "deliver_until": until}
    if again:
        DELIVERY.move(row, "try again", deliver_at=again, **known)
    else:
        DELIVERY.move(row, "fail", **known)
    row.save()
    clear_after(row, plan.targets, now=not hangs)
    add_log(row, "warning" if again else "error", f"not delivered: {error.in_words()}", "deliver")
    for name in error.facts.get("delivered", []):
        add_log(row, "warning", f"'{name}' is delivered all the same: it was taken before it could be put back", "deliver")
    if again:
        add_log(row, "warning", f"the delivery is tried again at {again:%Y-%m-%d %H:%M:%S} UTC", "deliver")
    else:
        add_log(row, "error", f"delivery failed: {why_not}. The result is stored and proven.", "deliver")
    if not again or hangs or row.delivery_attempts > UNTOLD_TRIES:
        not_delivered_yet(row, plan.targets, error)


@transaction.atomic
def claim_delivery(worker: Worker, busy: Collection[str] = ()) -> Run | None:
    """The next delivery that is due and goes to none of these targets, made this worker's; None when there is none."""
    due = (
        Run.objects.select_for_update(skip_locked=True, of=("self",))
        .filter(delivery=TO_DELIVER, deliver_at__lte=timezone.now())
        .exclude(pk__in=refused_by(worker).values("run"))
    )
    for run in due.order_by("deliver_at", "id")[:CANDIDATES]:
        if set(run.plan["targets"]) & set(busy):
            continue
        lack = lack_of_delivery(run)
        if lack is None:
            run.refusals.all().delete()
            run.save(update_fields=DELIVERY.move(run, "claim", deliverer=worker, delivery_attempts=run.delivery_attempts + 1))
            return run
        if words := refuse(run, worker, lack):
            _nobody_can(run, words)
    return None


def _nobody_can(row: Run, why: str) -> None:
    """No worker may deliver where it is to go: a person decides."""
    error = BadInput(f"no worker can deliver there: {why}.", "Set LADLE_DELIVERY_ROOTS on a host that has the folder.")
    DELIVERY.move(row, "fail", delivery_plan=row.delivery_plan, delivery_error=error.to_dict())
    row.save()
    add_log(row, "error", f"delivery failed: {error.in_words()} The result is stored and proven.", "deliver")
    not_delivered_yet(row, row.plan["targets"], error)


def _mine(run: Run) -> QuerySet[Run]:
    """Its row, if its delivery still belongs to this worker and try."""
    tries = {"deliverer": run.deliverer_id, "delivery_attempts": run.delivery_attempts}
    return Run.objects.filter(pk=run.pk, delivery=UNDER_WAY, **tries)


@contextmanager
def _owned(run: Run) -> Iterator[Run]:
    """The run's row, locked, if its delivery still belongs to this worker and try. Raises Fenced."""
    with transaction.atomic():
        row = _mine(run).select_for_update(of=("self",)).first()
        if row is None:
            raise Fenced(f"the delivery of run {run.pk} is no longer this try's.", "Look at the run's log.")
        yield row


def deliver_stored(run: Run) -> None:
    """One try of a claimed delivery, to its recorded end; again after the service database was away. Raises Fenced."""
    with _owned(run) as row:
        intent = plan_of((row.publishing or {}).get("delivery"))
        if intent is not None:
            deliver_prepared(row, intent, resumed=True)
            return
    wish = DeliveryPlan.from_dict(run.plan)
    delivery = None
    try:
        if run.files.filter(removed_at__isnull=False).exists():
            raise Conflict("its files are not kept any more.", "Run it again, or leave this delivery.")
        stored = store().result(str(run.pk), run.attempt)
        delivery = kind_named(wish.kind).begin(mark_of(str(run.pk), run.attempt, run.delivery_attempts), stored.open)
        manner, known = OutputSettings.from_dict(run.output_settings).files, known_of(wish.targets)
        plan = delivery.prepare(wish.targets, wish.wished, manner, _described(run), known)
        _prove(run, plan)
        with _owned(run) as row:
            row.publishing = {"delivery": plan.to_dict()}
            row.save(update_fields=["publishing"])
        with _owned(run) as row:
            deliver_prepared(row, plan, resumed=False)
    except Fenced:
        if delivery is not None:
            delivery.drop()
        raise
    except LadleError as error:
        if delivery is not None:
            delivery.drop()
        with _owned(run) as row:
            not_delivered(row, wish, error)


def _described(run: Run) -> Any:
    """The descriptor as it is delivered, from the stored one and the names that the files are given."""
    with store().open(str(run.pk), run.attempt, DESCRIPTOR) as file:
        stored = json.load(file)
    if run.held == RELEASED:
        stored["ladle"]["released"] = run.held_note or run.held_by

    def renamed(names: Mapping[str, str]) -> dict[str, Any]:
        return {
            **stored,
            "resources": [{**each, "path": names.get(each["path"], each["path"])} for each in stored["resources"]],
        }

    return renamed


def _prove(run: Run, plan: DeliveryPlan) -> None:
    for file, moves in zip(run.files.all(), plan.copies(), strict=True):
        if any(sha256 != file.sha256 for _, _, sha256 in moves):
            look_through(file)
            raise ProofFailed(
                f"the stored file '{file.name}' is not what was proven when the run ended.",
                "Look at the result store's disk, then run it again.",
            )


def fail_delivery(run: Run) -> None:
    """A try that met a fault of the service's own, which its log has. Raises Fenced."""
    with _owned(run) as row:
        not_delivered(row, DeliveryPlan.from_dict(run.plan), _fault(run))


@transaction.atomic
def delivery_hangs(run: Run, seconds: float) -> None:
    """A try that has stood still for so long: it is fenced, told of, and made again later. One whose intent was recorded is
    told of only: what it shows is decided, and whoever comes back to it rolls it forward."""
    if not _mine(run).exists():
        return  # it has ended meanwhile
    row = _mine(run).select_for_update(of=("self",), skip_locked=True).first()
    plan = DeliveryPlan.from_dict(run.plan)
    error = StoreUnwritable(
        f"nothing of this delivery has moved for {seconds / 60:g} minutes.",
        "See whether the folders that it goes into, and the result store, answer: a disk or a mount hangs.",
    )
    if row is None or row.publishing is not None:
        not_delivered_yet(run, plan.targets, error)
        return
    not_delivered(row, plan, error, hangs=True)


def of_worker(worker_id: str) -> Q:
    """The deliveries that a worker has under way."""
    return Q(deliverer=worker_id, delivery=UNDER_WAY)


def take_over_delivery(row: Run) -> None:
    """Of a worker that was lost: rolled forward if its intent was recorded, else tried again at once; the row is locked."""
    intent = plan_of((row.publishing or {}).get("delivery"))
    if intent is not None:
        add_log(row, "warning", "its worker was lost while delivering: rolled forward from the recorded intent", "deliver")
        deliver_prepared(row, intent, resumed=True)
        return
    row.save(update_fields=DELIVERY.move(row, "hand back", deliver_at=timezone.now()))
    clear_after(row, row.plan["targets"])
    add_log(row, "warning", "its worker was lost while it prepared the delivery, which is tried again", "deliver")


def unminded_delivery(run: Run) -> None:
    """The same, of one that no thread of its worker has in hand any more. Raises Fenced."""
    with _owned(run) as row:
        take_over_delivery(row)


def to_deliver(row: Run, plan: Mapping[str, Any]) -> None:
    """From now on a worker delivers it; the row is locked and saved by the caller."""
    now = timezone.now()
    until = now + timedelta(hours=settings.DELIVERY_HOURS)
    DELIVERY.move(row, "ask for", delivery_plan=dict(plan), deliver_at=now, deliver_until=until)
    wake_workers()


def deliver_after_all(row: Run) -> None:
    """A finished trial goes where its extract delivers; the row is locked and saved by the caller. Raises Conflict."""
    row.store_only = False
    targets = targets_of(row.delivers_into)
    if row.delivery or not targets:
        return
    files = [(file.name, file.name) for file in row.files.all()]
    if row.files.filter(removed_at__isnull=False).exists():
        raise Conflict(f"the files of run {row.pk} are not kept any more.", f"Run it again: ladle run again {row.pk}")
    values = resolve(row.revision.declared, opened(row.values), row.data_date, row.due_at)
    about = {"extract": row.extract.name, "folder": row.extract.folder, "environment": row.environment.name, "run": row.pk}
    stem = file_stem(row.revision.file_name, name_fields(about, values), None, None)
    wished = (*files, (DESCRIPTOR, descriptor_name(row.extract.name, stem)))
    to_deliver(row, DeliveryPlan(kind_of(targets[0]).name, targets, wished=wished).to_dict())


@transaction.atomic
def decide_delivery(person: Person, number: int, then: str, into: str = "", note: str = "") -> Run:
    """What a person wants of a delivery that did not go well. Raises BadInput, Conflict, NotFound, UnknownName."""
    if then not in CHOICES:
        raise unknown_name("choice", then, CHOICES)
    if bool(into) != (then == "elsewhere"):
        raise BadInput(
            "folders go with 'elsewhere', and only with it.", "Name the folders that it should be delivered into instead."
        )
    run = Run.numbered(number, locked=True)
    if run.delivery not in (TO_DELIVER, DELIVERY_FAILED):
        words = {DELIVERED: "it is delivered", LEFT: "it was left undelivered", UNDER_WAY: "it is being delivered"}.get(
            run.delivery, "nothing of it waits to be delivered"
        )
        raise Conflict(f"run {number}: {words}.", "Only a delivery that failed, or waits, is decided about.")
    before = tuple(run.plan["targets"])
    because = f": {note}" if note else ""
    if then == "left":
        DELIVERY.move(run, "leave")
        add_log(run, "warning", f"{person.name} leaves it undelivered{because}", "deliver")
        delivery_is_over(run, before, f"{person.name} leaves it undelivered{because}.", _nobody_else_waits(run, before))
        tell_followers(run)
    else:
        plan = run.plan
        if then == "elsewhere":
            targets = targets_of(into)
            if not targets:
                raise BadInput(f"'{into}' names no folder.", "Name the folders that it should be delivered into instead.")
            plan = {**plan, "kind": kind_of(targets[0]).name, "targets": list(targets)}
            run.deliver_into = into
            elsewhere = f"{person.name} has it delivered elsewhere{because}."
            delivery_is_over(run, before, elsewhere, _nobody_else_waits(run, before))
        to_deliver(run, plan)
        where = f" into {in_words(plan['targets'])}" if then == "elsewhere" else ""
        add_log(run, "info", f"{person.name} has it delivered {then}{where}{because}", "deliver")
    run.save()
    clear_after(run, before)
    return run


def _nobody_else_waits(run: Run, targets: Sequence[str]) -> bool:
    """Whether no other delivery to these targets is open."""
    others = Run.objects.filter(delivery__in=(TO_DELIVER, DELIVERY_FAILED), delivery_plan__targets=list(targets))
    return not others.exclude(pk=run.pk).exists()
