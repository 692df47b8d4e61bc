"""Finding sources, environments and addresses by name, with the nearest right name where there is none."""

from __future__ import annotations

import os
from pathlib import Path

from django.conf import settings

from patient_ladle.core.errors import BadInput, unknown_name

from .models import Address, Environment, Source


def source_named(name: str) -> Source:
    """Raises UnknownName."""
    found = Source.objects.filter(name=name).first()
    if found is None:
        raise unknown_name("source", name, Source.objects.values_list("name", flat=True), "Add one: ladle source add.")
    return found


def environment_named(name: str) -> Environment:
    """Raises UnknownName."""
    found = Environment.objects.filter(name=name).first()
    if found is None:
        known = Environment.objects.values_list("name", flat=True)
        raise unknown_name("environment", name, known, "Add one: ladle environment add.")
    return found


def address_in(source: Source, environment: Environment) -> Address:
    """Raises BadInput where the source has no address in that environment."""
    found = Address.objects.filter(source=source, environment=environment).first()
    if found is None:
        there = Address.objects.filter(source=source).values_list("environment__name", flat=True)
        raise BadInput(
            f"source '{source.name}' has no address in environment '{environment.name}'.",
            f"It has one in: {', '.join(there)}." if there else "Give it one: ladle source edit.",
        )
    return found


def secret_of(address: Address) -> str:
    """The login's secret: kept here, or a reference ``env:LADLE_SOURCE_…`` or ``file:name`` resolved now."""
    kind, _, rest = address.secret.partition(":")
    if kind == "env" and rest.startswith("LADLE_SOURCE_"):
        if rest not in os.environ:
            raise BadInput(f"the variable {rest} is not set where the service runs.", "Set it and restart the service.")
        return os.environ[rest]
    if kind == "file":
        folder: Path = settings.SOURCE_SECRETS
        path = (folder / rest).resolve()
        if not path.is_relative_to(folder.resolve()) or not path.is_file():
            raise BadInput(f"there is no secret file '{rest}' in the service's folder of source secrets.", "Put it there.")
        return path.read_text().strip()
    return address.secret
