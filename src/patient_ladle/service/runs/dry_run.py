"""What a run would do, worked out without running: nothing here opens a session with a source."""

from __future__ import annotations

import json
import shlex
import statistics
from collections.abc import Collection, Mapping, Sequence
from datetime import date
from typing import Any

from django.utils import timezone

from patient_ladle.adapters.deliveries import kind_of
from patient_ladle.adapters.sources import get_engine
from patient_ladle.core.files.output import OutputSettings
from patient_ladle.core.ports import Statement
from patient_ladle.core.runs.engine import RunJob, name_fields
from patient_ladle.core.values.parameters import Parameter
from patient_ladle.service.children.judging import judged
from patient_ladle.service.children.stepping import words_of as words_of_steps
from patient_ladle.service.common.caller import sees_all
from patient_ladle.service.common.clock import today
from patient_ladle.service.common.targets import targets_of
from patient_ladle.service.extracts.inputs import foreseen
from patient_ladle.service.extracts.models import Extract, Revision
from patient_ladle.service.extracts.shared_values import with_shared
from patient_ladle.service.ledger.delivering import known_of
from patient_ladle.service.ledger.models import Run
from patient_ladle.service.ledger.owning import owned_by_others, words_of
from patient_ladle.service.ledger.states import FINISHED
from patient_ladle.service.lookups.services import resolved
from patient_ladle.service.sources.models import Address, Environment
from patient_ladle.service.sources.queries import environment_named
from patient_ladle.service.sources.reading import Reading, engine_of, language_of, limits_of

from .services import default_environment, is_published, runnable

LOOKED_AT = 100
EARLIER_RUNS = 10
"""Finished runs of the same extract and environment that the expectation is taken from."""


BEFORE_STEPS = "# the rows before the steps, which the service does after the fetch\n"


def dry_run(body: dict[str, Any], url: str) -> dict[str, Any]:
    """Statements with what would be bound, address, files, delivery, expectation, warnings, and code that runs it.

    Raises BadInput and its family as starting the run would.
    """
    extract, revision = runnable(body)
    environment = environment_named(body.get("environment") or default_environment())
    source, limits = revision.source, limits_of(revision.source)
    address, language = Reading(source, environment).address(), language_of(source)
    day, given = body.get("data_date") or today(), body.get("values") or {}
    declared = revision.declared
    given_in_all = with_shared(declared, given, environment)
    values = resolved(declared, given_in_all, day, timezone.now().replace(microsecond=0))
    shown = values.as_text()
    formats = list(dict.fromkeys(body.get("formats") or revision.formats))
    about = {
        "extract": extract.name,
        "folder": extract.folder,
        "dataDate": day.isoformat(),
        "environment": environment.name,
        "run": "N",
    }
    parts, told = judged(language.filled_parts, revision.statement, values)
    statement = Statement(revision.statement, values)
    job = RunJob(
        extract.name,
        revision.file_name,
        statement,
        tuple(formats),
        parts=tuple(parts),
        output=OutputSettings.from_dict(revision.output).with_changes(body.get("output") or {}),
        names=name_fields(about, values),
    )
    published = is_published(extract, revision, body)
    targets = targets_of(revision.deliver_into) if published else ()
    files = [file for target in targets or ("",) for file in _files(job, target)]
    return {
        "extract": extract.name,
        "revision": revision.number,
        "source": revision.source_name,
        "engine": engine_of(source),
        "environment": environment.name,
        "reads": {key: str(value) for key, value in address.fields.items()} if address else {},
        "place": get_engine(engine_of(source)).place(address.fields) if address else _without_source(revision),
        "inputs": foreseen(revision.inputs, environment, values, day, timezone.now()),
        "steps": words_of_steps(revision.steps),
        "data_date": day,
        "values": shown,
        "statements": [
            {
                "title": each.title,
                "text": each.text,
                "bound": {name: shown[name] for name in each.names},
                "filled_in": each.filled_in,
            }
            for each in told
        ],
        "files": files,
        "deliver_into": ", ".join(targets),
        "expected": _expected(extract, environment.pk, {p.name for p in declared if p.sensitive}, given_in_all),
        "limits": {"rows": limits.max_rows, "bytes": limits.max_bytes, "seconds": limits.query_timeout_seconds},
        "warnings": [
            *_warnings(extract, revision, address, files, published),
            *_of_others(extract, environment, files),
            *_of_targets(targets),
        ],
        "code": {
            **code_of(
                extract.name, environment.name, declared, given, formats, body.get("data_date"), url, body.get("publish")
            ),
            "driver": (BEFORE_STEPS if revision.steps else "")
            + get_engine(engine_of(source)).driver_code(
                address.fields, [language.fill_in(each.text, values).text for each in told]
            )
            if address and sees_all()
            else "",
        },
    }


def _without_source(revision: Revision) -> str:
    return "its inputs alone" if revision.inputs else "its values alone"


def _files(job: RunJob, target: str) -> list[dict[str, Any]]:
    made, kind = [], kind_of(target)
    for name, format_name, statement in job.planned_files():
        place = kind.place(target, name) if target else ""
        there = bool(place) and kind.stands(place)
        made.append(
            {
                "name": name,
                "format": format_name,
                "statement": job.parts[statement].title if statement is not None and len(job.parts) > 1 else "",
                "options": dict(job.output.options.get(format_name, {})),
                "delivered_path": place,
                "there": there,
                "overwrites": there and job.output.files["if_exists"] == "overwrite",
            }
        )
    return made


def _expected(
    extract: Extract, environment_id: int, sensitive: Collection[str], given: Mapping[str, Any]
) -> dict[str, Any] | None:
    """Median rows and seconds of earlier runs that were given the same values; of any, where there were none such; None where
    there were none at all."""
    earlier = Run.objects.filter(extract=extract, environment=environment_id, state=FINISHED).order_by("-id")[:LOOKED_AT]
    ended = [run for run in earlier if run.started_at and run.ended_at and run.rows is not None]
    if not ended:
        return None
    wanted = _comparable(given, sensitive)
    same = [run for run in ended if _comparable(run.values, sensitive) == wanted]
    found = (same or ended)[:EARLIER_RUNS]
    seconds = [(run.ended_at - run.started_at).total_seconds() for run in found if run.ended_at and run.started_at]
    rows = [run.rows or 0 for run in found]
    return {
        "rows": int(statistics.median(rows)),
        "rows_min": min(rows),
        "rows_max": max(rows),
        "seconds": round(statistics.median(seconds), 1),
        "runs": len(found),
        "same_values": bool(same),
    }


def _comparable(values: Mapping[str, Any], sensitive: Collection[str]) -> dict[str, str]:
    """Values as they were given, for a look at whether they are the same; sensitive ones are left out."""
    return {name: str(value) for name, value in values.items() if name not in sensitive and value not in (None, "")}


def _warnings(
    extract: Extract, revision: Revision, address: Address | None, files: Sequence[Mapping[str, Any]], published: bool
) -> list[str]:
    said = []
    checked = (address.last_check or []) if address else []
    failed = next((step for step in checked if not step["passed"]), None)
    if failed:
        said.append(f"the last check of this source stopped at {failed['step']}: {failed['detail']}")
    if address and address.last_check is None:
        said.append("this source was never checked in this environment.")
    there = [str(file["name"]) for file in files if file["there"]]
    if there:
        if_exists = OutputSettings.from_dict(revision.output).files["if_exists"]
        becomes = {
            "overwrite": "would be overwritten",
            "rename": "the new ones would be renamed",
            "fail": "the run would be refused",
        }
        said.append(f"already delivered, and {becomes[if_exists]}: {', '.join(there)}.")
    if revision.number != extract.number:
        said.append(f"this is revision {revision.number}; the newest is {extract.number}.")
    if revision.deliver_into and not published:
        said.append("this is a trial: nothing is delivered, unless it is started to be published.")
    if not revision.deliver_into:
        said.append("nothing is delivered: the extract names no folder. The files stay in the result store.")
    return said


def _of_targets(targets: Sequence[str]) -> list[str]:
    known = known_of(targets)
    return list(filter(None, (kind_of(target).check(target, known.get(target, "")) for target in targets)))


def _of_others(extract: Extract, environment: Environment, files: Sequence[Mapping[str, Any]]) -> list[str]:
    paths = [str(file["delivered_path"]) for file in files if file["overwrites"]]
    return [f"{words_of(name)}: this would not be delivered." for name in owned_by_others(paths, extract.pk, environment.pk)]


def code_of(  # noqa: PLR0913 - all that a command that starts a run is given
    name: str,
    environment: str,
    declared: Sequence[Parameter],
    given: Mapping[str, Any],
    formats: Sequence[str],
    data_date: date | None,
    url: str,
    publish: bool | None = None,
) -> dict[str, str]:
    """A command and a few lines of Python that start this run, wait for it and save its files. Sensitive values come from
    the environment of whoever runs it."""
    sensitive = {p.name for p in declared if p.sensitive}
    words = ["ladle", "run", "start", shlex.quote(name), "--env", shlex.quote(environment)]
    for key, value in given.items():
        if key in sensitive:
            words += ["--set", f'{key}="${_variable(key)}"']
            continue
        for item in value if isinstance(value, list) else [value]:
            plain = item if isinstance(item, str) else json.dumps(item)
            words += ["--set", shlex.quote(f"{key}={plain}")]
    words += ["--data-date", data_date.isoformat()] if data_date else []
    words += ["--formats", ",".join(formats), *_PUBLISH[publish], "--into", "."]
    shown = {key: value for key, value in given.items() if key not in sensitive}
    lines = ", ".join(
        [f"{key!r}: {value!r}" for key, value in shown.items()]
        + [f"{key!r}: os.environ[{_variable(key)!r}]" for key in given if key in sensitive]
    )
    dated = f", data_date={data_date.isoformat()!r}" if data_date else ""
    dated += "" if publish is None else f", publish={publish}"
    python = (
        "import os\n\nfrom patient_ladle.client import Ladle\n\n"
        f'with Ladle({url!r}, os.environ["LADLE_TOKEN"]) as ladle:\n'
        f"    values = {{{lines}}}\n"
        f"    run = ladle.runs.start({name!r}, environment={environment!r}, values=values, formats={list(formats)!r}{dated})\n"
        '    run = ladle.runs.wait(run["id"])\n'
        '    print(ladle.runs.save_files(run, "."))\n'
    )
    return {"command": " ".join(words), "python": python}


_PUBLISH: Mapping[bool | None, list[str]] = {None: [], True: ["--publish"], False: ["--trial"]}


def _variable(name: str) -> str:
    return f"LADLE_VALUE_{name.upper()}"
