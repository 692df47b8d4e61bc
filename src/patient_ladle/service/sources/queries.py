"""Finding sources, environments and addresses by name, with the nearest right name where there is none."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db.models import Q
from django.db.models.functions import Now

from patient_ladle.adapters.sources import Engine, get_engine
from patient_ladle.adapters.sources.base import PERMITTED
from patient_ladle.adapters.sources.network import way_in
from patient_ladle.core.errors import BadInput, SecretUnreadable, SourceUnreachable, unknown_name
from patient_ladle.service.common.fields import UnreadableSecret

from .models import RUNNING, Address, Environment, Source

CLAIM_LOCK = 0x1AD1E01
"""Advisory lock of claiming: counting what reads a source and taking a place is one step."""


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
    found = Address.objects.select_related("source", "environment").filter(source=source, environment=environment).first()
    if found is None:
        there = Address.objects.filter(source=source).values_list("environment__name", flat=True)
        raise BadInput(
            f"source '{source.name}' has no address in environment '{environment.name}'.",
            f"It has one in: {', '.join(there)}." if there else "Give it one: ladle source edit.",
        )
    return found


def sources_with_a_free_place() -> list[int]:
    """Ids of the sources that fewer runs and queries read at this moment than their ``max_runs``.

    Only what runs now is looked at, through its partial index, never all that ever ran.
    """
    taken: Counter[int] = Counter()
    queries = Q(queries__state=RUNNING, queries__deadline_at__gt=Now())
    inputs = Q(queries_of_inputs__state=RUNNING, queries_of_inputs__deadline_at__gt=Now())
    for reading in (Q(runs__state="running"), queries, inputs):
        taken.update(Source.objects.filter(reading).values_list("pk", flat=True))  # once for each that reads
    return [number for number, max_runs in Source.objects.values_list("pk", "max_runs") if taken[number] < max_runs]


def refuse_other_paths(engine: Engine, fields: Mapping[str, Any]) -> None:
    """Files of a source lie below the roots that the service allows, also behind links. Raises BadInput."""
    roots = [Path(os.path.realpath(root)) for root in settings.SOURCE_ROOTS]
    for key, field in engine.fields.items():
        if not field.is_path or not fields.get(key):
            continue
        path = Path(os.path.realpath(fields[key]))
        if not any(path.is_relative_to(root) for root in roots):
            raise BadInput(
                f"'{fields[key]}' is outside the folders that sources of this service may lie in.",
                f"Put it below {', '.join(map(str, settings.SOURCE_ROOTS))}, or widen LADLE_SOURCE_ROOTS.",
            )


def refuse_unsafe(engine: Engine, fields: Mapping[str, Any]) -> None:
    """Paths outside the roots, link-local hosts, the service's own database. Asked when saved and again at each use."""
    refuse_other_paths(engine, fields)
    if "host" not in fields:
        return
    try:
        way_in(str(fields["host"]), int(fields["port"]), 2)
    except SourceUnreachable:
        return  # a name that is not known now: it is judged when it is used


def connection_spec(address: Address) -> dict[str, Any]:
    """A reader of the source (``adapters.readers``); the secret is among it. Raises BadInput."""
    engine = get_engine(address.source.engine)
    refuse_unsafe(engine, address.fields)
    return {
        "kind": "source",
        "engine": engine.name,
        "address": address.fields | {PERMITTED: [each["name"] for each in address.source.permitted]},
        "secret": secret_of(address),
        "connect_timeout_seconds": address.source.connect_timeout_seconds,
    }


def secret_of(address: Address) -> str:
    """The login's secret: kept here, or a reference ``env:LADLE_SOURCE_…`` or ``file:name`` resolved now.

    Raises BadInput, SecretUnreadable.
    """
    if isinstance(address.secret, UnreadableSecret):
        raise SecretUnreadable(
            f"the secret of '{address.source.name}' in '{address.environment.name}' cannot be read with the keys of this host.",
            "Put keys/secrets.key of the service back, or give the secret anew: ladle source edit.",
        )
    kind, _, rest = address.secret.partition(":")
    if kind == "env" and rest.startswith("LADLE_SOURCE_"):
        if rest not in os.environ:
            raise BadInput(f"the variable {rest} is not set where the service runs.", "Set it and restart the service.")
        return os.environ[rest]
    if kind == "file":
        folder: Path = settings.SOURCE_SECRETS
        path: Path = (folder / rest).resolve()
        if not path.is_relative_to(folder.resolve()) or not path.is_file():
            raise BadInput(f"there is no secret file '{rest}' in the service's folder of source secrets.", "Put it there.")
        return path.read_text().strip()
    return str(address.secret)
