"""Adding, editing, removing and checking sources."""

from __future__ import annotations

import logging
import re
from collections.abc import Sequence
from typing import Any

from django.conf import settings
from django.db import transaction
from django.db.models import ProtectedError
from django.utils import timezone

from patient_ladle.adapters.sources import ENGINES, get_engine
from patient_ladle.adapters.sources.urls import from_url
from patient_ladle.core.errors import BadInput, Conflict
from patient_ladle.core.values.quiet_hours import QuietHours
from patient_ladle.service.children.interactive import check_in_child
from patient_ladle.service.common.names import check_name

from .models import Address, Environment, Source
from .queries import address_in, connection_spec, environment_named, refuse_unsafe, source_named

log = logging.getLogger("ladle.service")


def add_environment(name: str, note: str) -> Environment:
    """Raises BadInput, Conflict."""
    check_name("environment", name)
    if Environment.objects.filter(name=name).exists():
        raise Conflict(f"there is an environment '{name}' already.", "Choose another name.")
    return Environment.objects.create(name=name, note=note)


def edit_environment(name: str, note: str) -> Environment:
    """Raises UnknownName."""
    found = environment_named(name)
    found.note = note
    found.save()
    return found


def remove_environment(name: str) -> None:
    """Raises UnknownName, and Conflict while anything refers to it."""
    try:
        environment_named(name).delete()
    except ProtectedError as error:
        users = sorted({_user_of(each) for each in error.protected_objects})
        shown = ", ".join(users[:5]) + (f" and {len(users) - 5} more" if len(users) > 5 else "")
        raise Conflict(f"environment '{name}' is in use: {shown}.", "Only one that nothing used is removed.") from None


def _user_of(used: Any) -> str:
    if isinstance(used, Address):
        return f"source {used.source.name}"
    kind = used._meta.verbose_name
    return f"{kind} {getattr(used, 'name', None) or used.pk}"


def _fields_and_secret(source: Source, given: dict[str, Any]) -> tuple[dict[str, Any], str | None]:
    """From fields, or from a pasted URL whose password goes straight to where secrets are kept."""
    if not given.get("url"):
        return dict(given.get("address") or {}), given.get("secret")
    pasted = from_url(given["url"], ENGINES.values())
    if pasted.engine != source.engine:
        raise BadInput(f"the URL is one of {pasted.engine}; '{source.name}' is {source.engine}.", "Paste a URL of that engine.")
    return pasted.fields | dict(given.get("address") or {}), pasted.secret or given.get("secret")


def _save_address(source: Source, environment: str, given: dict[str, Any]) -> None:
    place, engine = environment_named(environment), get_engine(source.engine)
    raw, secret = _fields_and_secret(source, given)
    fields = engine.checked_address(raw)
    refuse_unsafe(engine, fields)
    old = Address.objects.filter(source=source, environment=place).first()
    if old is not None and secret is None:
        guarded = [key for key, field in engine.fields.items() if field.guarded and old.fields.get(key) != fields.get(key)]
        if old.secret and guarded:
            raise BadInput(
                f"{', '.join(guarded)} of '{source.name}' in '{environment}' changes, so its password is needed again.",
                "Give the password with the change.",
            )
        secret = old.secret
    if old is not None and (old.fields, old.secret) == (fields, secret):
        return
    unknown = {"last_check": None, "last_check_at": None, "catalogue": None, "catalogue_at": None}
    changed = {"fields": fields, "secret": secret or "", **unknown}
    Address.objects.update_or_create(source=source, environment=place, defaults=changed)


def _check_quiet(source: Source) -> None:
    QuietHours.from_text(source.quiet_hours, source.quiet_zone or settings.TIME_ZONE)


_PERMITTED_NAME = re.compile(r"[^\s,;'()]{1,200}")


def _permit(source: Source, names: Sequence[str], by: str) -> None:
    """From now on these and no others; who permitted each, and when, stays with it. Raises BadInput."""
    known = {str(each["name"]).lower(): each for each in source.permitted}
    now, made = timezone.now().isoformat(timespec="seconds"), {}
    for name in names:
        if not _PERMITTED_NAME.fullmatch(name):
            raise BadInput(f"'{name}' is no name of a function, type or relation.", "Give one, such as public.similarity.")
        if name.lower() not in known:
            log.info("%s permits '%s' for source '%s'", by or "the service", name, source.name)
        made[name.lower()] = known.get(name.lower()) or {"name": name, "by": by, "at": now}
    for name in known.keys() - made.keys():
        log.info("%s permits '%s' for source '%s' no longer", by or "the service", name, source.name)
    source.permitted = list(made.values())


@transaction.atomic
def add_source(
    name: str, engine: str, addresses: dict[str, Any], by: str = "", permitted: Sequence[str] = (), **settings_given: Any
) -> Source:
    """A new source with its addresses by environment; ``by``: who permits. Raises BadInput, Conflict."""
    check_name("source", name)
    get_engine(engine)
    if Source.objects.filter(name=name).exists():
        raise Conflict(f"there is a source '{name}' already.", "Choose another name, or edit that source.")
    source = Source(name=name, engine=engine, **settings_given)
    _permit(source, permitted, by)
    _check_quiet(source)
    source.save()
    for environment, given in addresses.items():
        _save_address(source, environment, given)
    return source


@transaction.atomic
def edit_source(name: str, changes: dict[str, Any], by: str = "") -> Source:
    """Change note, limits, addresses or what is permitted; an address given as null is removed."""
    source = source_named(name)
    if "permitted" in changes:
        _permit(source, changes.pop("permitted"), by)
    for environment, given in (changes.pop("addresses", None) or {}).items():
        if given is None:
            Address.objects.filter(source=source, environment=environment_named(environment)).delete()
        else:
            _save_address(source, environment, given)
    for key, value in changes.items():
        setattr(source, key, value)
    _check_quiet(source)
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
        addresses = list(source.addresses.select_related("environment", "source"))
    for address in addresses:
        address.last_check = check_in_child(connection_spec(address))
        address.last_check_at = timezone.now()
        Address.objects.filter(pk=address.pk).update(last_check=address.last_check, last_check_at=address.last_check_at)
    return addresses
