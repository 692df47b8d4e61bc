"""Inputs of a combination in the ledger: each is a run of its own, a member of the combination's run, or a stored result.

Rules and theory
----------------
* A member is made when all that gives it values is there. It has the environment, the data date and the due time of the run
  it is for, its own source, login, places, quiet hours, log and attempts; its result is kept as texts and is not delivered.
* What stands where is worked out anew at each look. A member that has finished stays for later attempts of its run; one whose
  files are gone meanwhile is made again.
* Two inputs of one extract with the same values are one member.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from django.conf import settings

from patient_ladle.core.errors import BadInput, InputFailed, LadleError
from patient_ladle.core.files.formats import get_format
from patient_ladle.core.inputs.declared import DEEPEST, Input, in_order, inputs_of
from patient_ladle.core.results.columns import Column
from patient_ladle.core.values.parameters import BoundValues, resolve
from patient_ladle.service.extracts.inputs import values_handed
from patient_ladle.service.extracts.models import Extract, Revision
from patient_ladle.service.extracts.named import input_extract
from patient_ladle.service.extracts.sensitive_values import opened
from patient_ladle.service.lookups.services import tables_of
from patient_ladle.words import spaced

from .making import new_run
from .models import ResultFile, Run
from .states import ENDED, FINISHED, HELD, NOT_DELIVERED, REJECTED

KEPT_AS = "parquet"
KEPT_OPTIONS = {"types": "text"}
"""How a member's result is kept: nothing of it can be unfit for that, or be lost."""
LOOKED_AT = 20
"""Earlier runs among which a stored result is looked for."""


@dataclass(slots=True)
class Look:
    """Where the inputs of a run stand: what it waits for in words, why it cannot go on, and members that were just made."""

    waits: list[str] = field(default_factory=list)
    failed: InputFailed | None = None
    cause: str = ""
    """The code of what a member failed by."""
    made: list[Run] = field(default_factory=list)


def look(run: Run) -> Look:
    """At the inputs of a run, locked, that has a combination's revision; makes the members that can be made, saved, not
    settled. The run's ``inputs`` are brought up to date and saved."""
    found = Look()
    declared = [each for each in in_order(inputs_of(run.revision.inputs)) if each.extract]
    kept = {each["name"]: each for each in run.inputs}
    runs = Run.objects.select_related("extract", "revision").in_bulk([each["run"] for each in kept.values()])
    standing: dict[str, Run] = {}
    for each in declared:
        member = runs.get(kept[each.name]["run"]) if each.name in kept else None
        if member is not None and member.state == FINISHED and not files_of(member, each.statement):
            member = None
        if member is None:
            before = [drawn.input for drawn in each.drawn().values()]
            missing = [name for name in before if not _is_there(name, declared, standing)]
            if missing:
                found.waits.append(f"input {missing[0]}, whose values input {each.name} takes")
                continue
            try:
                member = _taken_or_made(run, each, declared, standing, found, kept)
            except LadleError as error:
                found.failed = _failed(each, None, error.to_dict())
                found.cause = error.code
                break
        standing[each.name] = member
        _judge(each, member, found)
        if found.failed:
            break
    run.inputs = [kept[each.name] for each in declared if each.name in kept]
    run.save(update_fields=["inputs"])
    return found


def _is_there(name: str, declared: Sequence[Input], standing: Mapping[str, Run]) -> bool:
    """A lookup always is; an extract once its run has finished and is not held."""
    given = next((each for each in declared if each.name.lower() == name.lower()), None)
    if given is None:
        return True
    member = standing.get(given.name)
    return member is not None and member.state == FINISHED and member.held not in NOT_DELIVERED


def _judge(given: Input, member: Run, found: Look) -> None:
    words = f"input {given.name}, run {member.pk} of {member.extract.name}"
    if member.state not in ENDED:
        found.waits.append(words)
    elif member.state != FINISHED:
        found.failed = _failed(given, member, member.error or {})
        found.cause = str((member.error or {}).get("code", ""))
    elif member.held == HELD:
        found.waits.append(f"{words}, to be released")
    elif member.held == REJECTED:
        found.failed = _failed(given, member, {"message": f"it was rejected by {member.held_by}.", "hint": ""})


def _failed(given: Input, member: Run | None, error: Mapping[str, Any]) -> InputFailed:
    which = f", run {member.pk} of {member.extract.name}, is {spaced(member.held or member.state)}" if member else ""
    said = str(error.get("message") or "it was stopped.")
    hint = str(error.get("hint") or "Look at its log, then start this run again.")
    facts = {"input": given.name, **({"run": member.pk} if member else {})}
    return InputFailed(f"input '{given.name}'{which}: {said}", hint, **facts)


def _taken_or_made(
    run: Run, given: Input, declared: Sequence[Input], standing: Mapping[str, Run], found: Look, kept: dict[str, Any]
) -> Run:
    """A run of this very combination, a stored result, or a new member; noted in ``kept``. Raises BadInput and its family."""
    same = next((e for e in declared if e.name in standing and _same(e, given)), None)
    if same is not None:
        kept[given.name] = {**kept[same.name], "name": given.name}
        return standing[same.name]
    extract = input_extract(given.extract)
    revision = _revision(run, given, extract)
    values = values_handed(given, values_of(run))
    stored = _stored(run, given, revision, values) if given.stored and not given.drawn() else None
    if stored is not None:
        kept[given.name] = {"name": given.name, "run": stored.pk, "stored": True}
        return stored
    made = _made(run, given, extract, revision, values, standing)
    made.save()
    found.made.append(made)
    kept[given.name] = {"name": given.name, "run": made.pk, "stored": False}
    return made


def _same(first: Input, second: Input) -> bool:
    return (first.extract, first.values, first.stored) == (second.extract, second.values, second.stored)


def _revision(run: Run, given: Input, extract: Extract) -> Revision:
    """The newest, but a run again takes those of the run that it repeats."""
    earlier = run.again_of
    if earlier is not None and earlier.revision_id == run.revision_id:
        number = next((each["run"] for each in earlier.inputs if each["name"] == given.name), None)
        before = Run.objects.select_related("revision__source").filter(pk=number or 0, extract=extract).first()
        if before is not None:
            return before.revision
    return extract.head


def values_of(run: Run) -> BoundValues:
    """The values of a run, as they are in effect."""
    return resolve(run.revision.declared, opened(run.values), run.data_date, run.due_at)


def _made(
    run: Run, given: Input, extract: Extract, revision: Revision, values: dict[str, Any], standing: Mapping[str, Run]
) -> Run:
    depth, outer = 1, run.member_of
    while outer is not None:
        depth, outer = depth + 1, outer.member_of
    if depth > DEEPEST:
        raise BadInput(f"combinations stand in each other more than {DEEPEST} deep.", "Take one of them out of the circle.")
    by_name = {name.lower(): member for name, member in standing.items()}
    drawn = {
        name: {
            "input": of.input,
            "column": of.column,
            "run": by_name[of.input.lower()].pk if of.input.lower() in by_name else None,
        }
        for name, of in given.drawn().items()
    }
    own = {key: revision.output[key] for key in ("columns", "documents") if key in revision.output}
    made = new_run(
        extract,
        revision,
        run.environment,
        {**values, **{name: [] for name in drawn}},
        [KEPT_AS],
        run.data_date,
        run.due_at,
        member_of=run,
        drawn=drawn,
        started_by=run.started_by,
        priority=run.priority,
        max_attempts=run.max_attempts,
        give_up_at=run.give_up_at,
        backfill=run.backfill,
        store_only=True,
        output={**own, "formats": {KEPT_AS: KEPT_OPTIONS}},
    )
    for name, of in drawn.items():
        made.values_in_effect[name] = f"the values of column '{of['column']}' of input '{of['input']}'"
    return made


def _stored(run: Run, given: Input, revision: Revision, values: Mapping[str, Any]) -> Run | None:
    """A proven result of the same revision, environment, data date and values; None where there is none that can be read as
    it was."""
    if ":due_time" in revision.statement:
        return None
    wanted = resolve(revision.declared, values, run.data_date, run.due_at)
    runs = Run.objects.filter(revision=revision, environment=run.environment, data_date=run.data_date, state=FINISHED)
    runs = runs.exclude(held__in=NOT_DELIVERED).filter(drawn={}).select_related("extract", "revision").order_by("-pk")
    for each in runs[:LOOKED_AT]:
        same = all(wanted.values[name] == value for name, value in values_of(each).values.items() if name != "due_time")
        if same and files_of(each, given.statement):
            return each
    return None


def files_of(run: Run, statement: int) -> list[ResultFile]:
    """Files of the store that hold one statement's result, from 1, as it was; none where there are none any more."""
    if len(run.statements) < statement:
        return []
    columns = [Column.from_dict(column) for column in run.statements[statement - 1]["columns"]]
    altered = run.output is not None and run.member_of_id is None
    formed = any(choice.get("pattern") for choice in _choices(run.revision.output))
    by_format: dict[str, list[ResultFile]] = {}
    for file in run.files.filter(statement=statement - 1):
        by_format.setdefault(file.format, []).append(file)
    for name in sorted(by_format, key=lambda name: name != KEPT_AS):
        files, member = by_format[name], get_format(name)
        whole = all(
            file.removed_at is None and file.damaged_at is None and member.keeps_all(file.options, columns) for file in files
        )
        as_came = name == KEPT_AS and files[0].options.get("types") == KEPT_OPTIONS["types"]
        if whole and not member.gathers and not altered and (as_came or not formed):
            return sorted(files, key=lambda file: file.part or 0)
    return []


def _choices(output: Mapping[str, Any]) -> list[Mapping[str, Any]]:
    given = output.get("columns") or []
    both = given if isinstance(given, list) else [choice for each in given.values() for choice in each]
    return [choice for choice in both if isinstance(choice, Mapping)]


def stored_job(name: str, run: Run, statement: int) -> dict[str, Any]:
    """What a child needs to read a stored result."""
    result = run.statements[statement - 1]
    return {
        "kind": "stored",
        "name": name,
        "store": str(settings.RESULT_STORE),
        "run": run.pk,
        "attempt": run.attempt,
        "columns": result["columns"],
        "rows": result["rows"],
        "files": [
            {key: getattr(file, key) for key in ("name", "format", "options", "compression", "sha256")}
            for file in files_of(run, statement)
        ],
    }


def input_jobs(run: Run) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """What the child of a combination loads, and what the descriptor says of it: what proves it and names nobody's sources, as
    whoever may read the file need not see the inputs (``inputs_told`` has the rest). Raises UnknownName, Conflict.
    """
    kept = {each["name"]: each for each in run.inputs}
    members = Run.objects.select_related("extract", "revision", "environment", "source").in_bulk(
        [each["run"] for each in kept.values()]
    )
    jobs, told = [], []
    for each in inputs_of(run.revision.inputs):
        if each.lookup:
            [table] = tables_of([each.lookup])
            jobs.append({"kind": "lookup", "name": each.name, "lookup": table.to_dict()})
            told.append({"lookup": each.lookup, "revision": table.revision, "rows": len(table.rows)})
            continue
        member = members[kept[each.name]["run"]]
        job = stored_job(each.name, member, each.statement)
        jobs.append(job)
        told.append(
            {
                "run": member.pk,
                "attempt": member.attempt,
                "dataDate": member.data_date.isoformat(),
                "stored": kept[each.name]["stored"],
                "rows": job["rows"],
                "hashes": [f"sha256:{file['sha256']}" for file in job["files"]],
            }
        )
    return jobs, told


def drawn_jobs(run: Run) -> dict[str, Any]:
    """Where the child of a member finds the values that come from other inputs. Raises UnknownName, Conflict."""
    if not run.drawn or run.member_of is None:
        return {}
    declared = {each.name.lower(): each for each in inputs_of(run.member_of.revision.inputs)}
    jobs: dict[str, Any] = {}
    for name, of in run.drawn.items():
        given = declared[of["input"].lower()]
        if of["run"] is None:
            [table] = tables_of([given.lookup])
            source: dict[str, Any] = {"kind": "lookup", "lookup": table.to_dict()}
        else:
            source = stored_job(given.name, Run.objects.select_related("revision").get(pk=of["run"]), given.statement)
        jobs[name] = {"input": of["input"], "column": of["column"], "given": source}
    return jobs


def columns_of_last_run(revision: Revision, statement: int) -> list[dict[str, str]]:
    """Those of the newest result of the extract, in any environment; none where there is none."""
    runs = Run.objects.filter(extract=revision.extract, state=FINISHED).order_by("-pk").values_list("statements", flat=True)
    found = runs.first() or []
    return list(found[statement - 1]["columns"]) if len(found) >= statement else []


def inputs_told(run: Run) -> list[dict[str, Any]]:
    """Each input of a combination's run, for a person: lookups, members, stored results, and what is still to come."""
    kept = {each["name"]: each for each in run.inputs}
    runs = Run.objects.select_related("extract", "revision", "source").in_bulk([each["run"] for each in kept.values()])
    told = []
    for each in inputs_of(run.revision.inputs):
        taken = kept.get(each.name)
        member = runs.get(taken["run"]) if taken else None
        result = member.statements[each.statement - 1] if member and len(member.statements) >= each.statement else None
        told.append(
            {
                "name": each.name,
                "extract": member.extract.name if member else each.extract,
                "lookup": each.lookup,
                "statement": each.statement,
                "run": member.pk if member else None,
                "revision": member.revision.number if member else None,
                "source": member.source_name if member else "",
                "state": member.state if member else "",
                "held": member.held if member else "",
                "stored": bool(taken and taken["stored"]),
                "rows": result["rows"] if result else member.rows if member else None,
                "login": member.identity.get("login", "") if member else "",
                "values_in_effect": member.values_in_effect if member else {},
            }
        )
    return told
