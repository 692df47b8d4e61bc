"""Interactive work on a source: asked, minded in a bounded child, polled, cancelled. Its record is in the database, so
that any web process can answer for it.

Rules and theory
----------------
* A query takes one of its source's ``max_runs``, as a run does, under the same lock.
* It ends at its deadline, whatever happens to the process that minds it. Cancel, deadline and memory are told to the
  child first, which stops the statement in the source, and ended by force shortly after.
* What it found is kept for an hour, for whoever asked and administrators only.
* Its child is kept warm for the next one, where it came to a good end; ended by force or by a fault it is replaced.
"""

from __future__ import annotations

import logging
import threading
import time
import uuid
from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Any

from django.db import DatabaseError, InterfaceError, connection, transaction
from django.utils import timezone

from patient_ladle import variables
from patient_ladle.adapters.sources import get_engine
from patient_ladle.core.errors import (
    BadInput,
    Conflict,
    DeadlineExceeded,
    LadleError,
    NotFound,
    RunCancelled,
    ServiceFault,
    StatementFailed,
    WorkerLost,
    from_dict,
    unknown_name,
)
from patient_ladle.core.statements.catalogue import find_table
from patient_ladle.core.statements.views import Filter, View, in_words
from patient_ladle.core.values.parameters import Parameter, masked
from patient_ladle.service.children.judging import judged
from patient_ladle.service.children.launch import Child
from patient_ladle.service.children.outlining import profile_can_be_told
from patient_ladle.service.children.pool import ChildPool
from patient_ladle.service.common.alone import guarded
from patient_ladle.service.people.models import Person

from .left import end_left
from .models import CANCELLED, FAILED, FINISHED, RUNNING, WAITING, Address, Environment, InteractiveQuery, Source
from .queries import CLAIM_LOCK, address_in, connection_spec, environment_named, source_named, sources_with_a_free_place
from .reading import language_of
from .understanding import diagnostic_of

log = logging.getLogger("ladle.queries")

KINDS = ("check", "catalogue", "rows", "count", "counts", "profile")
OF_STATEMENTS = ("preview", "total", "choices", "plan")
"""Kinds that are asked of a statement, by ``ask_statement``."""
DEADLINE_SECONDS = variables.QUERY_SECONDS.value()
PLACE_SECONDS = 10.0
"""How long a query waits for a place of its source before it says who has them all."""
GRACE_SECONDS = 2.0
"""From being told to stop to being ended by force."""
LOST_SECONDS = 30.0
"""After its deadline: whoever minds it would have ended it by force and said why."""
POLL_SECONDS = 0.2
MEMORY_BYTES = variables.QUERY_MEMORY_MB.value() << 20
KEPT = timedelta(hours=1)
MOST_ROWS = 1_000
IDLE, WARM = 2, 1
"""Idle children of one web process at most, and those that are ready before anybody asks."""
WARM_AFTER_SECONDS = 20.0
"""A service is busy enough while it starts."""
CHILDREN = ChildPool(IDLE)
STALE = timedelta(hours=6)
"""A catalogue older than this is gathered anew in the background when somebody looks at it."""


def ask(person: Person, name: str, request: dict[str, Any]) -> InteractiveQuery:
    """Start a query; answers at once. Raises BadInput and its family for what can be told at once."""
    source = source_named(name)
    kind = request.get("kind", "rows")
    if kind not in KINDS:
        raise unknown_name("kind of query", kind, KINDS)
    address = address_in(source, environment_named(request["environment"]))
    given = {key: value for key, value in request.items() if key not in ("kind", "environment")}
    if kind in ("check", "catalogue"):
        job: dict[str, Any] = {"do": kind, "reader": connection_spec(address)}
    else:
        job = _profile_job(address, given) if kind == "profile" else _view_job(address, kind, given)
    return _started(person, address, kind, given, job)


def ask_statement(person: Person, address: Address, kind: str, job: dict[str, Any]) -> InteractiveQuery:
    """Start a query of a statement that was checked: its first rows, or their number."""
    return _started(person, address, kind, {}, {"do": "rows", **job, "reader": connection_spec(address)})


def ask_without_source(
    person: Person, environment: Environment, kind: str, job: dict[str, Any], reads: Sequence[Source]
) -> InteractiveQuery:
    """The same of a statement without a source, whose job has its reader. ``reads``: what its inputs read, each a place."""
    return _started(person, None, kind, {"environment": environment.name}, {"do": "rows", **job}, reads)


def ask_again_or_reuse(person: Person, address: Address, kind: str, job: dict[str, Any], kept: timedelta) -> InteractiveQuery:
    """As ``ask_statement``, but what somebody else was answered a moment ago is the answer."""
    recent = InteractiveQuery.objects.filter(
        address=address, kind=kind, state=FINISHED, request__statement=job["statement"], ended_at__gt=timezone.now() - kept
    )
    found = recent.order_by("-ended_at").first()
    if found is None:
        return ask_statement(person, address, kind, job)
    found.pk, found.person = uuid.uuid4().hex, person
    found.save(force_insert=True)
    return found


def _started(
    person: Person,
    address: Address | None,
    kind: str,
    given: dict[str, Any],
    job: dict[str, Any],
    reads: Sequence[Source] = (),
) -> InteractiveQuery:
    now = timezone.now()
    InteractiveQuery.objects.filter(asked_at__lt=now - KEPT).delete()
    made = InteractiveQuery.objects.create(
        id=uuid.uuid4().hex,
        source=address.source if address else None,
        address=address,
        person=person,
        kind=kind,
        request=given | _kept(job),
        deadline_at=now + timedelta(seconds=DEADLINE_SECONDS + PLACE_SECONDS),
    )
    if reads:
        made.reads.set(reads)
    names = [address.source.name] if address else [each.name for each in reads]
    threading.Thread(target=_mind, args=(made.pk, names, job), daemon=True).start()
    return made


def _kept(job: dict[str, Any]) -> dict[str, Any]:
    """What is kept of a request, to be shown: sensitive values are in the job alone."""
    kept: dict[str, Any] = {key: job[key] for key in ("statement", "parameters", "values", "active_filters") if key in job}
    declared = [Parameter.from_dict(item) for item in kept.get("parameters", [])]
    sensitive = {parameter.name for parameter in declared if parameter.sensitive}
    if sensitive:
        kept["values"] = masked(declared, kept.get("values", {}))
        kept["parameters"] = [{**p, "default": None} if p["name"] in sensitive else p for p in kept["parameters"]]
    return kept


def query_numbered(person: Person, role: str, number: str) -> InteractiveQuery:
    """One's own query, or anybody's for an administrator. Raises NotFound."""
    known = InteractiveQuery.objects.select_related("source", "address__environment").defer("address__catalogue")
    found = known.filter(pk=number).first()
    if found is None or (found.person_id != person.pk and role != "administrator"):
        raise NotFound("there is no such query, or it is over an hour old.", "Ask again.")
    if found.state in (WAITING, RUNNING) and found.deadline_at < timezone.now() - timedelta(seconds=LOST_SECONDS):
        _end_as_lost(found.pk)
        found.refresh_from_db()
    return found


def _end_as_lost(number: str) -> None:
    _end(number, FAILED, error=WorkerLost("the process that minded this was lost.", "Ask again.").to_dict())


def end_lost(now: datetime) -> int:
    """Queries whose deadline is long past: nobody minds them any more, and perhaps nobody asks. Returns how many."""
    past = InteractiveQuery.objects.filter(state__in=(WAITING, RUNNING), deadline_at__lt=now - timedelta(seconds=LOST_SECONDS))
    numbers = list(past.values_list("pk", flat=True))
    for number in numbers:
        log.warning("query %s: nobody minds it any more", number)
        _end_as_lost(number)
    return len(numbers)


def cancel(person: Person, role: str, number: str) -> InteractiveQuery:
    """Ask it to stop; its statement is stopped in the source. One that has ended meanwhile stays as it is. Raises NotFound."""
    found = query_numbered(person, role, number)
    if found.state not in (WAITING, RUNNING):
        return found
    InteractiveQuery.objects.filter(pk=found.pk).update(cancel_asked=True)
    found.cancel_asked = True
    return found


def catalogue_of(address: Address) -> list[dict[str, Any]]:
    """The stored catalogue. Raises Conflict while there is none."""
    if address.catalogue is None:
        raise Conflict(
            f"'{address.source.name}' in '{address.environment.name}' has not been browsed yet.",
            "Gather its catalogue first: ladle source browse NAME --refresh.",
        )
    return list(address.catalogue)


def refreshed_if_stale(person: Person, address: Address) -> bool:
    """Start gathering an old catalogue anew, in the background; is it being gathered?"""
    live = InteractiveQuery.objects.filter(
        address=address, kind="catalogue", state__in=(WAITING, RUNNING), deadline_at__gt=timezone.now()
    ).exists()
    if not live and address.catalogue_at and timezone.now() - address.catalogue_at > STALE:
        ask(person, address.source.name, {"kind": "catalogue", "environment": address.environment.name})
        return True
    return live


def view_of(address: Address, kind: str, given: dict[str, Any]) -> View:
    """The statement behind a view. Raises BadInput and its family."""
    table = find_table(catalogue_of(address), str(given.get("table", "")))
    browser = get_engine(address.source.engine).language.views(table)
    filters = [Filter.from_dict(item) for item in given.get("filters") or []]
    if kind == "count":
        return browser.count(filters)
    if kind == "counts":
        return browser.counts(str(given.get("column", "")), filters, str(given.get("period") or ""))
    return browser.rows(filters, str(given.get("sort") or ""), bool(given.get("descending")))


def _view_job(address: Address, kind: str, given: dict[str, Any]) -> dict[str, Any]:
    rows = int(given.get("rows") or (MOST_ROWS if kind == "counts" else 100))
    if not 0 < rows <= MOST_ROWS:
        raise BadInput(
            f"{rows} rows were asked for; 1 to {MOST_ROWS:,} are shown.", "For all of them, make it an extract and run it."
        )
    today = timezone.now().date().isoformat()
    return {
        "do": "rows",
        "rows": rows,
        "data_date": today,
        **view_of(address, kind, given).to_dict(),
        "period": str(given.get("period") or "") if kind == "counts" else "",
        "reader": connection_spec(address),
    }


def _profile_job(address: Address, given: dict[str, Any]) -> dict[str, Any]:
    table = find_table(catalogue_of(address), str(given.get("table", "")))
    filters = [Filter.from_dict(item) for item in given.get("filters") or []]
    column = str(given.get("column", ""))
    judged(profile_can_be_told, get_engine(address.source.engine).language.name, dict(table), column, filters)
    return {
        "do": "profile", "table": table, "column": column, "filters": given.get("filters") or [], "rows": MOST_ROWS,
        "active_filters": list(in_words(filters)), "data_date": timezone.now().date().isoformat(),
        "reader": connection_spec(address),
    }  # fmt: skip


def _mind(number: str, sources: Sequence[str], job: dict[str, Any]) -> None:
    """To its end, which is recorded whatever stands in it."""
    try:
        _mind_to_its_end(number, sources, job)
    except Exception:
        log.exception("query %s: what was said of it could not be kept", number)
        connection.close()
        with guarded("ending a query", log):
            _end(number, FAILED, error=_fault(number).to_dict())
    finally:
        connection.close()


def _fault(number: str) -> ServiceFault:
    return ServiceFault("the service met a fault of its own.", "Its log has the details under this number.", query=number)


def _mind_to_its_end(number: str, sources: Sequence[str], job: dict[str, Any]) -> None:
    try:
        if _took_a_place(number):
            _end(number, FINISHED, result=_carried_out(number, job))
        else:
            named = "' or '".join(sources)
            raise Conflict(
                f"as many runs and queries read '{named}' as may at once.",
                "Try again later, or raise its limit: ladle source edit --max-runs.",
                source=sources[0],
            )
    except RunCancelled as error:
        _end(number, CANCELLED, error=error.to_dict())
    except LadleError as error:
        _end(number, FAILED, error=_told_where(number, error).to_dict())
    except Exception:
        log.exception("query %s", number)
        _end(number, FAILED, error=_fault(number).to_dict())


def _told_where(number: str, error: LadleError) -> LadleError:
    """What is told of it stands, whatever keeps the rest from being found."""
    with guarded("where a missing name is", log):
        if error.facts.get("missing"):
            asked = InteractiveQuery.objects.select_related("source", "address").defer("address__catalogue").get(pk=number)
            if asked.address is not None:
                text = str(asked.request.get("statement") or "")
                error.hint = diagnostic_of(error, language_of(asked.source), asked.address, text, text).hint or error.hint
    return error


def _took_a_place(number: str) -> bool:
    began = time.monotonic()
    while time.monotonic() - began < PLACE_SECONDS:
        with transaction.atomic():
            with connection.cursor() as cursor:
                cursor.execute("select pg_advisory_xact_lock(%s)", [CLAIM_LOCK])
            row = InteractiveQuery.objects.filter(pk=number).first()
            if row is None or row.cancel_asked:
                raise RunCancelled("this was cancelled before it began.", "Ask again when it is wanted.")
            wanted = {row.source_id, *row.reads.values_list("pk", flat=True)} - {None}
            if wanted <= {*sources_with_a_free_place()}:
                now = timezone.now()
                ends = now + timedelta(seconds=DEADLINE_SECONDS)
                InteractiveQuery.objects.filter(pk=number).update(state=RUNNING, started_at=now, deadline_at=ends)
                return True
        time.sleep(POLL_SECONDS)
    return False


def keep_warm(after_seconds: float = WARM_AFTER_SECONDS) -> None:
    """Have children ready before anybody asks; a process that is gone before needs none."""
    timer = threading.Timer(after_seconds, CHILDREN.warm, (WARM,))
    timer.daemon = True
    timer.start()


def _carried_out(number: str, job: dict[str, Any]) -> Any:
    child = CHILDREN.take(job | {"run": number})
    watch = _Watch(number, child)
    watching = threading.Thread(target=watch.run, daemon=True)
    watching.start()
    good, identity = False, dict[str, str]()
    try:
        for said in child.told():
            if said["kind"] == "connected":
                identity = said["identity"]
            if said["kind"] == "done":
                good = True
                return said["result"]
            if said["kind"] == "failed":
                raise watch.reason or from_dict(said["error"])
    finally:
        watch.over.set()
        watching.join()  # what it says to the child must not reach the next query
        status = _parted_from(child, good and watch.reason is None)
        if status < 0 and identity:
            _end_left(number, identity)
    raise watch.reason or WorkerLost(f"the child of this query ended with status {status} and no last word.", "Try again.")


def _end_left(number: str, identity: dict[str, str]) -> None:
    with guarded("a session that was left", log):
        asked = (
            InteractiveQuery.objects.select_related("source", "address__environment").defer("address__catalogue").get(pk=number)
        )
        if asked.address is not None:
            end_left(asked.source, asked.address.environment, identity)


def _parted_from(child: Child, good: bool) -> int:
    """Kept warm, or ended and replaced; its exit status, 0 where it is kept."""
    if good:
        CHILDREN.give_back(child)
        return 0
    child.kill()
    status = child.wait()
    keep_warm(0)
    return status


class _Watch:
    """Looks after one child: deadline, memory, and a person's wish to stop."""

    def __init__(self, number: str, child: Child) -> None:
        self.number, self.child = number, child
        self.over = threading.Event()
        self.reason: LadleError | None = None

    def run(self) -> None:
        began = time.monotonic()
        while not self.over.wait(POLL_SECONDS):
            try:
                self.reason = self._reason(time.monotonic() - began)
            except (DatabaseError, InterfaceError) as error:
                log.warning("query %s: %s", self.number, str(error).split("\n")[0])
                connection.close()  # the deadline counts while the service database is away
            if self.reason is not None:
                self.child.say({"cancel": self.number})
                if not self.over.wait(GRACE_SECONDS):
                    self.child.kill()
                break
        connection.close()

    def _reason(self, seconds: float) -> LadleError | None:
        if seconds > DEADLINE_SECONDS:
            return DeadlineExceeded(
                f"this took longer than the {DEADLINE_SECONDS:g} s that a query may take, and was stopped.",
                "Narrow it with a filter, or make it an extract and run it.",
            )
        if self.child.resident_bytes() > MEMORY_BYTES:
            return StatementFailed(
                "this needed more memory than a query may take, and was stopped.", "Narrow it, or run it as an extract."
            )
        if InteractiveQuery.objects.filter(pk=self.number, cancel_asked=True).exists():
            return RunCancelled("this was cancelled.", "Ask again when it is wanted.")
        return None


def _end(number: str, state: str, result: Any = None, error: dict[str, Any] | None = None) -> None:
    ended = InteractiveQuery.objects.filter(pk=number, state__in=(WAITING, RUNNING))
    found = ended.first()
    if found is None:
        return
    now = timezone.now()
    if state == FINISHED and found.kind == "catalogue" and found.address_id:
        Address.objects.filter(pk=found.address_id).update(catalogue=result, catalogue_at=now)
        result = {"tables": len(result)}
    if state == FINISHED and found.kind == "check" and found.address_id:
        Address.objects.filter(pk=found.address_id).update(last_check=result, last_check_at=now)
        result = {"steps": result}
    ended.update(state=state, result=result, error=error, ended_at=now)
