"""Adding, editing, removing and checking sources."""

from __future__ import annotations

import re
from typing import Any

from django.conf import settings
from django.db import transaction
from django.db.models import ProtectedError
from django.utils import timezone

from patient_ladle.adapters.sources import get_engine
from patient_ladle.core.errors import BadInput, Conflict
from patient_ladle.service.children.interactive import check_in_child

from .models import Address, Environment, Source
from .queries import address_in, environment_named, secret_of, source_named

NAME = re.compile(r"[a-z][a-z0-9_-]{0,62}")


def check_name(kind: str, name: str) -> str:
    """A name that works in addresses, files and shells. Raises BadInput."""
    if not NAME.fullmatch(name):
        raise BadInput(
            f"'{name}' cannot be the name of a {kind}.",
            "Use small letters, digits, _ and -, beginning with a letter; at most 63.",
        )
    return name


def add_environment(name: str, note: str) -> Environment:
    """Raises BadInput, Conflict."""
    check_name("environment", name)
    if Environment.objects.filter(name=name).exists():
        raise Conflict(f"there is an environment '{name}' already.", "Choose another name.")
    return Environment.objects.create(name=name, note=note)


def _refuse_own_database(engine: str, fields: dict[str, Any]) -> None:
    own = settings.DATABASES["default"]
    same_host = fields.get("host") in (own["HOST"], "localhost", "127.0.0.1", "::1")
    if engine == "postgresql" and same_host and str(fields.get("port")) == own["PORT"]:
        raise BadInput(
            "this address is the service's own database server.", "Aim the source at the database that holds the data."
        )


def _save_address(source: Source, environment: str, given: dict[str, Any]) -> None:
    place = environment_named(environment)
    fields = get_engine(source.engine).checked_address(given.get("address") or {})
    _refuse_own_database(source.engine, fields)
    old = Address.objects.filter(source=source, environment=place).first()
    secret = given.get("secret")
    if old is not None and secret is None:
        if old.secret and old.fields != fields:
            raise BadInput(
                f"the address of '{source.name}' in '{environment}' changes, so its password is needed again.",
                "Give the password with the change.",
            )
        secret = old.secret
    if old is not None and (old.fields, old.secret) == (fields, secret):
        return
    changed = {"fields": fields, "secret": secret or "", "last_check": None, "last_check_at": None}
    Address.objects.update_or_create(source=source, environment=place, defaults=changed)


@transaction.atomic
def add_source(name: str, engine: str, addresses: dict[str, Any], **settings_given: Any) -> Source:
    """A new source with its addresses by environment. Raises BadInput, Conflict."""
    check_name("source", name)
    get_engine(engine)
    if Source.objects.filter(name=name).exists():
        raise Conflict(f"there is a source '{name}' already.", "Choose another name, or edit that source.")
    source = Source.objects.create(name=name, engine=engine, **settings_given)
    for environment, given in addresses.items():
        _save_address(source, environment, given)
    return source


@transaction.atomic
def edit_source(name: str, changes: dict[str, Any]) -> Source:
    """Change note, places, deadline or addresses; an address given as null is removed."""
    source = source_named(name)
    for environment, given in (changes.pop("addresses", None) or {}).items():
        if given is None:
            Address.objects.filter(source=source, environment=environment_named(environment)).delete()
        else:
            _save_address(source, environment, given)
    for key, value in changes.items():
        setattr(source, key, value)
    source.save()
    return source


def remove_source(name: str) -> None:
    """Raises Conflict while extracts, or the record of runs, refer to it."""
    try:
        source_named(name).delete()
    except ProtectedError as error:
        users = sorted({str(getattr(o, "extract", o)) for o in error.protected_objects})[:5]
        raise Conflict(
            f"source '{name}' is in use: {', '.join(users)}.", "Point those extracts at another source first."
        ) from None


def check_source(name: str, environment: str | None) -> list[Address]:
    """Check one address, or all of a source; the result is kept with its time."""
    source = source_named(name)
    if environment:
        addresses = [address_in(source, environment_named(environment))]
    else:
        addresses = list(source.addresses.select_related("environment"))
    for address in addresses:
        address.last_check = check_in_child(source.engine, address.fields, secret_of(address))
        address.last_check_at = timezone.now()
        Address.objects.filter(pk=address.pk).update(last_check=address.last_check, last_check_at=address.last_check_at)
    return addresses
