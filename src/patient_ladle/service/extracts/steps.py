"""Steps of an extract: kept in its revisions, checked as far as its columns are known, with the lookups that they name."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from django.db.models import Q

from patient_ladle.core.errors import BadInput, of_field, unknown_name
from patient_ladle.core.results.guards import ON_STEPS, Guard, is_named
from patient_ladle.core.steps.lookups import Lookup as Table
from patient_ladle.core.values.parameters import Parameter
from patient_ladle.service.children import stepping
from patient_ladle.service.children.judging import judged
from patient_ladle.service.lookups.services import lookup_in_use, lookup_named, tables_of
from patient_ladle.words import amount

from .models import Extract, Revision, with_heads

NONE: Mapping[str, Any] = {}


def understood(given: Any) -> stepping.Understood:
    """What steps say, and that the lookups are there. Raises BadInput and its family."""
    with of_field("steps"):
        found = judged(stepping.understood, given or [])
        for name in found.lookups:
            lookup_in_use(name)
    return found


def lookups_of(steps: Sequence[Mapping[str, Any]], guards: Sequence[Mapping[str, Any]] = ()) -> list[Table]:
    """The tables that steps and guards look up in, as they are now. Raises UnknownName, Conflict."""
    names = [step["lookup"] for step in steps if step.get("lookup") and not step.get("off")]
    return tables_of([*names, *(guard["lookup"] for guard in guards if "lookup" in guard)])


def looks_up_inputs(steps: Sequence[Mapping[str, Any]]) -> bool:
    """Whether one of the steps looks up in an input of the combination."""
    return any(step.get("input") and not step.get("off") for step in steps)


def refuse_other_inputs(steps: Sequence[Mapping[str, Any]], inputs: Sequence[Mapping[str, Any]]) -> None:
    """Raises BadInput where a step looks up in what is no input of the extract."""
    known = [str(each["name"]) for each in inputs]
    for number, step in enumerate(steps):
        name = step.get("input")
        if name and name.lower() not in [each.lower() for each in known]:
            error = unknown_name("input", name, known, "Only a combination has inputs.")
            message, facts = f"step {number + 1}, input: {error.message}", {"where": f"steps[{number}].input"}
            raise BadInput(message, error.hint, field="steps", **facts)


def check_guards(guards: Sequence[Guard], steps: Sequence[Mapping[str, Any]]) -> None:
    """The steps and lookups that guards name are there, and fit. Raises BadInput and its family."""
    for guard in guards:
        if guard.kind == "in_lookup":
            key = lookup_named(guard.given["lookup"]).head.key
            if len(key) != len(guard.given["columns"]):
                raise BadInput(
                    f"the key of the lookup '{guard.given['lookup']}' is {', '.join(key)}, and the guard names"
                    f" {amount(len(guard.given['columns']), 'column')}.",
                    "Name as many, in the order of the key.",
                )
        if guard.kind in ON_STEPS:
            named = guard.given["step"]
            places = [{"name": each.get("name", ""), "number": number} for number, each in enumerate(steps, 1)]
            if not any(is_named(place, named) for place in places):
                raise unknown_name(
                    "step", named, [each["name"] for each in steps if each.get("name")], "Give its name, or its number."
                )


def users_of(lookup: str) -> list[str]:
    """Names of the extracts whose newest revision uses it, in a step, in a guard, as an input or for a parameter."""
    return sorted(extract.name for extract in _using(lookup))


def _using(lookup: str) -> list[Extract]:
    named = [{"lookup": lookup}]
    anywhere = Q(steps__contains=named) | Q(guards__contains=named) | Q(inputs__contains=named)
    anywhere |= Q(parameters__contains=[{"lookup": {"name": lookup}}])
    found = Revision.objects.filter(anywhere).values_list("extract", flat=True)
    heads = with_heads(Extract.objects.filter(pk__in=found, archived_at=None))
    return [
        each
        for each in heads
        if any(part.get("lookup") == lookup for part in [*each.head.steps, *each.head.guards, *each.head.inputs])
        or any(parameter.lookup.get("name") == lookup for parameter in each.head.declared)
    ]


def columns_used_of(lookup: str, columns: Sequence[str]) -> dict[str, list[str]]:
    """Columns of a lookup that extracts need by name, each with where: steps, parameters, statements of combinations."""
    found: dict[str, list[str]] = {}
    for extract in _using(lookup):
        for where, names in _named_in(extract.head, lookup, columns):
            for name in names:
                found.setdefault(name, []).append(f"{extract.name} ({where})")
    return found


def _named_in(head: Revision, lookup: str, columns: Sequence[str]) -> Iterator[tuple[str, list[str]]]:
    for number, step in enumerate(head.steps, 1):
        if step.get("lookup") == lookup:
            yield f"step {number}", [each["as"] for each in (*step["on"], *step["columns"])]
    for parameter in head.declared:
        if parameter.lookup.get("name") == lookup:
            yield (
                f"parameter {parameter.name}",
                [parameter.lookup[key] for key in ("column", "label") if key in parameter.lookup],
            )
    if any(given.get("lookup") == lookup for given in head.inputs):
        words = {word.lower() for word in re.findall(r"\w+", head.statement)}
        yield "its statement", [name for name in columns if set(re.findall(r"\w+", name.lower())) <= words]


def checked(
    steps: Any,
    columns: Sequence[Mapping[str, str]],
    parameters: Sequence[Parameter],
    statement: int = 1,
    inputs: Mapping[str, Any] = NONE,
) -> dict[str, Any]:
    """Each step with its words and the columns after it, and what is wrong with the first that is. ``inputs``: columns of those
    of a combination."""
    found = understood(steps)
    lookups = lookups_of(found.steps)
    return judged(stepping.checked, found.steps, list(columns), list(parameters), lookups, statement, dict(inputs))
