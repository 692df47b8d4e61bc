"""Saving, moving, archiving and restoring extracts. Every save makes a revision; none is ever changed."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from typing import Any

from django.db import IntegrityError, transaction
from django.utils import timezone
from django.utils.crypto import salted_hmac

from patient_ladle.adapters.sources import get_engine
from patient_ladle.core.errors import BadInput, Conflict, EditedMeanwhile, NotAllowed, NotFound, of_field
from patient_ladle.core.files.formats import get_format
from patient_ladle.core.files.naming import DEFAULT_TEMPLATE, check_template
from patient_ladle.core.files.output import OutputSettings
from patient_ladle.core.results.differences import lines_between, settings_between
from patient_ladle.core.results.guards import checked_guards
from patient_ladle.core.values.parameters import Parameter, bound_names, check_declared
from patient_ladle.service.children.judging import judged
from patient_ladle.service.common.names import check_name
from patient_ladle.service.common.targets import targets_of
from patient_ladle.service.lookups.services import with_allowed
from patient_ladle.service.people.models import Person
from patient_ladle.service.people.services import person_named
from patient_ladle.service.sources.models import Source
from patient_ladle.service.sources.queries import source_named
from patient_ladle.service.sources.reading import language_of, source_name

from . import inputs as combinations
from .delivered_names import refuse_meetings_of, refuse_names_of_others
from .models import Extract, FormerName, Revision
from .named import extract_named, repository_extract
from .outlines import with_statement
from .sensitive_values import opened_declaration, sealed_declaration
from .shared_values import shared_value_named
from .steps import check_guards, refuse_other_inputs, understood

CONTENT = (
    "statement", "outline", "inputs", "steps", "parameters", "formats", "file_name", "deliver_into", "output", "guards",
    "notes",
)  # fmt: skip
"""Fields of a revision that an author gives, besides the source."""


def check_folder(folder: str) -> str:
    """A folder path such as ``regulation/water-quality``; empty is the top. Raises BadInput."""
    parts = [part for part in folder.strip("/").split("/") if part]
    for part in parts:
        if not re.fullmatch(r"[\w][\w .&-]{0,62}", part):
            raise BadInput(f"'{part}' cannot be the name of a folder.", "Use letters, digits, spaces, . & _ and -.")
    return "/".join(parts)


def _checked(content: dict[str, Any], name: str = "") -> dict[str, Any]:
    with of_field("source"):
        source = source_named(content["source"]) if content.get("source") else None
    if source is not None and content.get("inputs"):
        raise BadInput(
            f"an extract on a source, '{source.name}', takes no inputs.",
            "Leave the source out: a combination reads its inputs alone.",
            field="inputs",
        )
    language = language_of(source)
    if content.get("restore_parameters"):
        content = content | {"statement": judged(language.restore, content["statement"])}
    steps = understood(content.get("steps"))
    used = [*judged(language.names_used, content["statement"]), *steps.parameters]
    with of_field("parameters"):
        parameters = _parameters_of(content.get("parameters") or [], used)
    judged(language.refuse_misread, content["statement"], bound_names(parameters))
    inputs = combinations.understood(content.get("inputs"), content["statement"])
    with of_field("inputs"):
        combinations.check(inputs, parameters, name)
    refuse_other_inputs(steps.steps, inputs)
    formats = list(dict.fromkeys(content.get("formats") or ["csv"]))
    with of_field("formats"):
        for name in formats:
            get_format(name)
    with of_field("file_name"):
        check_template(content.get("file_name") or DEFAULT_TEMPLATE, [p.name for p in parameters])
    with of_field("output"):
        output = OutputSettings.from_dict(content.get("output") or {})
        output.check_fields([p.name for p in parameters])
    with of_field("guards"):
        guards = checked_guards(content.get("guards") or [])
        check_guards(guards, steps.steps)
    with of_field("deliver_into"):
        targets_of(content.get("deliver_into") or "")
    return {
        "source": source,
        "statement": content["statement"],
        "outline": content.get("outline"),
        "inputs": inputs,
        "steps": steps.steps,
        "parameters": [sealed_declaration(p.to_dict()) for p in parameters],
        "formats": formats,
        "file_name": content.get("file_name") or DEFAULT_TEMPLATE,
        "deliver_into": content.get("deliver_into") or "",
        "output": output.to_dict(),
        "guards": [guard.to_dict() for guard in guards],
        "notes": content.get("notes") or "",
    }


def _parameters_of(declared: Sequence[dict[str, Any]], used: Any) -> list[Parameter]:
    """Checked with all that they name. Raises BadInput and its family."""
    parameters = [Parameter.from_dict(opened_declaration(item)) for item in declared]
    check_declared(parameters, used)
    for parameter in parameters:
        if parameter.shared:
            shared_value_named(parameter.shared)
        with_allowed([parameter])
        if parameter.choices:
            chosen_from = source_named(parameter.choices["source"])
            judged(get_engine(chosen_from.engine).language.gate, parameter.choices["statement"])
    return parameters


def _add_revision(extract: Extract, author: Person, content: dict[str, Any], change_note: str) -> None:
    refuse_names_of_others(extract, content)
    extract.number += 1
    revision = Revision(extract=extract, number=extract.number, author=author, change_note=change_note, **content)
    before = extract.revisions.filter(number=extract.number - 1).first()
    if before is not None:
        refuse_meetings_of(revision, before)
    revision.save()
    extract.save()


@transaction.atomic
def add_extract(author: Person, name: str, folder: str, change_note: str, **content: Any) -> Extract:
    """A new extract with its first revision. Raises BadInput, Conflict."""
    _refuse_taken(name)
    extract = Extract(name=name, folder=check_folder(folder), owner=author)
    return _added(extract, _checked(with_statement(content, None), name), change_note or "first save")


def _added(extract: Extract, checked: dict[str, Any], change_note: str) -> Extract:
    extract.save()
    _add_revision(extract, extract.owner, checked, change_note)
    return extract


def unsaved_extract(author: Person, **content: Any) -> Extract:
    """What is run without being saved: of the same person and the same content the same one. Raises BadInput, NotAllowed."""
    checked = _checked(with_statement(content, None))
    refuse_unsaved(checked["source"], checked["statement"])
    told = checked | {"source": source_name(checked["source"]), "parameters": content.get("parameters") or []}
    words = json.dumps([author.pk, told], sort_keys=True)
    name = f"unsaved-{salted_hmac('unsaved extract', words, algorithm='sha256').hexdigest()[:12]}"
    found = Extract.objects.filter(name=name, in_repository=False).first()
    if found is not None:
        return found
    try:
        with transaction.atomic():
            made = Extract(name=name, owner=author, in_repository=False)
            return _added(made, checked, "run without being saved")
    except IntegrityError:  # the same was begun in two windows
        return extract_named(name)


def refuse_unsaved(source: Source | None, statement: str) -> None:
    """Where a source is asked for nothing but what stands in the repository. Raises NotAllowed."""
    if source is None or not source.saved_only:
        return
    saved = Revision.objects.filter(source=source, statement=statement, extract__in_repository=True)
    if not saved.exists():
        raise NotAllowed(
            f"source '{source.name}' is asked for saved statements only.",
            "Save it as an extract first, or ask an administrator: ladle source edit --unsaved yes.",
        )


def _refuse_taken(name: str, by: Extract | None = None) -> None:
    check_name("extract", name)
    if Extract.objects.filter(name=name).exists():
        raise Conflict(f"there is an extract '{name}' already.", "Choose another name, or save a revision of it.")
    former = FormerName.objects.select_related("extract").filter(name=name).first()
    if former is not None and former.extract != by:
        raise Conflict(f"'{name}' was the name of '{former.extract.name}', and still leads there.", "Choose another name.")


def _locked(name: str, revision: int | None) -> Extract:
    extract = Extract.objects.select_for_update().get(pk=extract_named(name).pk)
    if revision is not None and extract.number != revision:
        head = extract.head
        raise EditedMeanwhile(
            f"'{name}' is at revision {extract.number}, saved by {head.author.name}; you began from {revision}.",
            "Look at what changed, bring your change into it, and save again.",
            revision=extract.number,
        )
    return extract


@transaction.atomic
def save_extract(author: Person, name: str, revision: int | None, change_note: str, **content: Any) -> Extract:
    """A new revision on top of ``revision``, where anything has changed; fields not given stay. Raises EditedMeanwhile."""
    extract = _locked(name, revision)
    head = extract.head
    before = {"source": head.source_name, **{key: getattr(head, key) for key in CONTENT}}
    checked = _checked(before | with_statement(content, before), extract.name)
    if not _is_the_same(head, checked):
        _add_revision(extract, author, checked, change_note)
    return extract


def _is_the_same(head: Revision, content: Mapping[str, Any]) -> bool:
    declared = [[opened_declaration(each) for each in kept] for kept in (head.parameters, content["parameters"])]
    others = {"source", *CONTENT} - {"parameters"}
    return declared[0] == declared[1] and all(getattr(head, key) == content[key] for key in others)


@transaction.atomic
def move_extract(name: str, folder: str | None, new_name: str | None) -> Extract:
    """Another folder, another name, or both; one that was run without being saved is in the repository from then on."""
    extract = _locked(name, None)
    extract.in_repository = True
    if new_name and new_name != extract.name:
        _refuse_taken(new_name, extract)
        FormerName.objects.filter(name=new_name).delete()
        FormerName.objects.create(name=extract.name, extract=extract)
        extract.name = new_name
    if folder is not None:
        extract.folder = check_folder(folder)
    extract.save()
    return extract


@transaction.atomic
def edit_extract(name: str, tags: list[str] | None, owner: str | None) -> Extract:
    """Other tags, another owner, or both. Raises BadInput, UnknownName."""
    extract = _locked(name, None)
    if tags is not None:
        for tag in tags:
            if not re.fullmatch(r"[\w][\w .&-]{0,30}", tag):
                raise BadInput(f"'{tag}' cannot be a tag.", "Use letters, digits, spaces, . & _ and -; at most 31.")
        extract.tags = sorted(dict.fromkeys(tags))
    if owner is not None:
        extract.owner = person_named(owner)
    extract.save()
    return extract


@transaction.atomic
def copy_extract(author: Person, name: str, new_name: str, folder: str | None, source: str | None) -> Extract:
    """A new extract that begins as the newest revision of another, on the same source or another of its language."""
    old = extract_named(name)
    head = old.head
    other = source_named(source) if source else head.source
    wanted, found = language_of(head.source), language_of(other)
    if found is not wanted:
        raise BadInput(
            f"'{name}' is written in {wanted.title}, and source '{source_name(other)}' takes {found.title}.",
            f"Choose a source that takes {wanted.title}.",
        )
    content = {key: getattr(head, key) for key in CONTENT} | {"source": source_name(other)}
    made = add_extract(
        author, new_name, old.folder if folder is None else folder, f"copied from {old.name}, revision {head.number}", **content
    )
    made.tags = old.tags
    made.save()
    return made


def revision_numbered(extract: Extract, number: int) -> Revision:
    """Raises NotFound."""
    found: Revision | None = extract.revisions.select_related("source", "author").filter(number=number).first()
    if found is None:
        raise NotFound(f"'{extract.name}' has no revision {number}.", f"Its revisions are 1 to {extract.number}.")
    return found


def differences(extract: Extract, first: int, second: int) -> dict[str, Any]:
    """Between two revisions: lines of the statement, and settings. Raises NotFound."""
    before, after = revision_numbered(extract, first), revision_numbered(extract, second)
    compared = [key for key in CONTENT if key not in ("statement", "parameters", "outline")]
    settings_of = [
        {"source": each.source_name, "parameters": [p.to_dict() for p in each.declared]}
        | {key: getattr(each, key) for key in compared}
        for each in (before, after)
    ]
    return {
        "before": before,
        "after": after,
        "statement": [line.to_dict() for line in judged(lines_between, before.statement, after.statement)],
        "settings": list(settings_between(*settings_of)),
    }


@transaction.atomic
def archive_extract(name: str) -> Extract:
    """Out of sight, not gone: nothing runs it until it is restored. Raises Conflict while combinations need it."""
    extract = _locked(name, None)
    if users := combinations.users_of(extract):
        raise Conflict(f"extract '{extract.name}' is an input of {', '.join(users)}.", "Change or archive these first.")
    extract.archived_at = extract.archived_at or timezone.now()
    extract.save()
    return extract


@transaction.atomic
def set_depends_on(name: str, names: list[str]) -> Extract:
    """Its scheduled runs wait for these of the same data date. Raises Conflict where they would wait in a circle."""
    extract = _locked(name, None)
    others = [repository_extract(other) for other in dict.fromkeys(names)]
    for other in others:
        if circle := _way_back(other, extract):
            shown = " → ".join([extract.name, *circle])
            raise Conflict(
                f"'{extract.name}' cannot wait for '{other.name}': they would wait for each other for ever ({shown}).",
                "Take one of them out of the circle.",
            )
    extract.depends_on.set(others)
    return extract


@transaction.atomic
def set_retention(name: str, days: int | None, runs: int | None) -> Extract:
    """How long its results are kept in the store, and how many; None: as the service has it, and any number."""
    extract = _locked(name, None)
    extract.retention_days, extract.retention_runs = days, runs
    extract.save()
    return extract


def _way_back(start: Extract, to: Extract) -> list[str]:
    """Names from one extract along what it waits for to another; empty where there is no way."""
    ways = [(start, [start.name])]
    seen: set[int] = set()
    while ways:
        extract, way = ways.pop()
        if extract == to:
            return way
        if extract.pk not in seen:
            seen.add(extract.pk)
            ways += [(other, [*way, other.name]) for other in extract.depends_on.all()]
    return []


@transaction.atomic
def restore_extract(author: Person, name: str, revision: int | None) -> Extract:
    """Back from the archive; with a revision number, that revision's content becomes the newest."""
    extract = _locked(name, None)
    extract.archived_at = None
    if revision is not None and revision != extract.number:
        old = revision_numbered(extract, revision)
        content = {"source": old.source, **{key: getattr(old, key) for key in CONTENT}}
        with of_field("inputs"):  # what it combined then may need its own result by now
            combinations.check(old.inputs, old.declared, extract.name)
        _add_revision(extract, author, content, f"restored from revision {revision}")
    extract.save()
    return extract
