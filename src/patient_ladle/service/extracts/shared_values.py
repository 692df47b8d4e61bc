"""Shared values: kept once, by environment, and used as the default of parameters in many extracts."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from django.db import transaction

from patient_ladle.core.errors import BadInput, Conflict, unknown_name
from patient_ladle.core.values.parameters import Parameter
from patient_ladle.service.common.names import check_name
from patient_ladle.service.lookups.services import with_allowed
from patient_ladle.service.people.models import Person
from patient_ladle.service.sources.models import Environment
from patient_ladle.service.sources.queries import environment_named

from .models import Extract, Revision, SharedValue, with_heads

SharedOf = Callable[[Environment, frozenset[str]], dict[str, Any]]
MAX_TEXT = 10_000
"""Characters of one value as JSON: a list of codes fits, a table does not."""


def shared_value_named(name: str, locked: bool = False) -> SharedValue:
    """Raises UnknownName."""
    query = SharedValue.objects.select_for_update() if locked else SharedValue.objects.select_related("changed_by")
    found: SharedValue | None = query.filter(name=name).first()
    if found is None:
        known = SharedValue.objects.values_list("name", flat=True)
        raise unknown_name("shared value", name, known, "Set one: ladle value set.")
    return found


def users_of(name: str) -> list[tuple[Extract, Parameter]]:
    """Extracts whose newest revision takes the shared value as a default, with the parameter that does."""
    heads = Revision.objects.filter(parameters__contains=[{"shared": name}]).values_list("extract", flat=True)
    found = []
    for extract in with_heads(Extract.objects.filter(pk__in=heads)):
        found += [(extract, p) for p in extract.head.declared if p.shared == name]
    return found


def shared_values(environment: Environment, names: frozenset[str]) -> dict[str, Any]:
    """Those of these names that have a value in the environment."""
    kept = SharedValue.objects.filter(name__in=names)
    return {value.name: value.values[environment.name] for value in kept if value.values.get(environment.name) is not None}


def shared_in(environment: Environment, declared: Sequence[Parameter], look_up: SharedOf = shared_values) -> dict[str, Any]:
    """The shared values that these parameters name, as they stand in the environment."""
    names = frozenset(parameter.shared for parameter in declared if parameter.shared)
    return look_up(environment, names) if names else {}


def with_shared(
    declared: Sequence[Parameter], given: Mapping[str, Any], environment: Environment, look_up: SharedOf = shared_values
) -> dict[str, Any]:
    """The given values, and the shared ones where none was given: a run keeps what it was started with."""
    shared = shared_in(environment, declared, look_up)
    taken = {p.name: shared[p.shared] for p in declared if given.get(p.name) is None and p.shared in shared}
    return {**given, **taken}


@transaction.atomic
def set_shared_value(person: Person, name: str, values: Mapping[str, Any], note: str | None) -> SharedValue:
    """Change the values of some environments; None removes one. Every extract that uses it must be able to read it."""
    check_name("shared value", name)
    found = SharedValue.objects.select_for_update().filter(name=name).first() or SharedValue(name=name)
    for environment, value in values.items():
        environment_named(environment)
        if len(str(value)) > MAX_TEXT:
            raise BadInput(f"the value is longer than {MAX_TEXT:,} characters.", "Keep such data in a table of the source.")
        if isinstance(value, Mapping):
            raise BadInput("a shared value is a text, a number, true or false, or a list of these.", "Give one of them.")
        if value is not None:
            for extract, parameter in users_of(name):
                _refuse_unreadable(extract, parameter, value)
        found.values = {**found.values, environment: value}
    found.values = {key: value for key, value in found.values.items() if value is not None}
    found.note = found.note if note is None else note
    found.changed_by = person
    found.save()
    return found


def _refuse_unreadable(extract: Extract, parameter: Parameter, value: Any) -> None:
    try:
        with_allowed([Parameter.from_dict({**parameter.to_dict(), "default": value})])
    except BadInput as error:
        raise BadInput(
            f"extract '{extract.name}' uses this value and cannot take it: {error.message}",
            "Give a value that it can take, or change the extract's parameter first.",
        ) from None


@transaction.atomic
def remove_shared_value(name: str) -> None:
    """Only while nothing uses it. Raises Conflict."""
    found = shared_value_named(name, locked=True)
    users = sorted({extract.name for extract, _ in users_of(name)})
    if users:
        raise Conflict(f"the shared value '{name}' is used by {', '.join(users)}.", "Change these extracts first.")
    found.delete()
