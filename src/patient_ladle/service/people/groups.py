"""Groups of people: each gives its members a role, unless theirs reaches further."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

from django.db import transaction
from django.db.models import QuerySet

from patient_ladle.core.errors import BadInput, Conflict, unknown_name

from .models import ROLES, Person, PersonGroup

NAME = re.compile(r"[a-z0-9][a-z0-9._-]{0,63}")


def check_name(name: str, whose: str) -> None:
    """Raises BadInput."""
    if not NAME.fullmatch(name):
        raise BadInput(f"'{name}' cannot be a {whose}'s name.", "Use small letters, digits and . _ - only.")


def check_role(role: str) -> str:
    """The role, or UnknownName."""
    if role not in ROLES:
        raise unknown_name("role", role, ROLES)
    return role


def groups() -> QuerySet[PersonGroup]:
    """All of them, with their members."""
    return PersonGroup.objects.prefetch_related("members")


def group_named(name: str) -> PersonGroup:
    """Raises UnknownName."""
    found = groups().filter(name=name).first()
    if found is None:
        raise unknown_name("group", name, PersonGroup.objects.values_list("name", flat=True))
    return found


def add_group(name: str, role: str = "reader", note: str = "", members: Sequence[str] = ()) -> PersonGroup:
    """A new group. Raises BadInput, Conflict, UnknownName."""
    check_name(name, "group")
    with transaction.atomic():
        hold_everybody()
        if PersonGroup.objects.filter(name=name).exists():
            raise Conflict(f"there is a group '{name}' already.", "Choose another name, or edit that group.")
        made = PersonGroup.objects.create(name=name, role=check_role(role), note=note)
        made.members.set(_people_named(members))
        settle_roles()
    return group_named(name)


def edit_group(
    name: str, role: str | None = None, note: str | None = None, members: Sequence[str] | None = None
) -> PersonGroup:
    """What is given is changed; ``members`` are all of them. The last active administrator stays one."""
    with transaction.atomic():
        hold_everybody()
        group = group_named(name)
        group.role = group.role if role is None else check_role(role)
        group.note = group.note if note is None else note
        group.save()
        if members is not None:
            group.members.set(_people_named(members))
        settle_roles()
    return group_named(name)


def remove_group(name: str) -> None:
    """Its members keep their own roles, and those of their other groups."""
    with transaction.atomic():
        hold_everybody()
        group_named(name).delete()
        settle_roles()


def hold_everybody() -> None:
    """Until the transaction ends nobody else changes a role: of two such changes at once, the later sees the other."""
    list(Person.objects.order_by("pk").select_for_update(no_key=True).values_list("pk", flat=True))


def settle_roles() -> None:
    """Writes to everybody the role in effect. Raises Conflict where no active administrator would be left."""
    for person in Person.objects.prefetch_related("member_of"):
        reached = max([person.own_role, *(each.role for each in person.member_of.all())], key=ROLES.index)
        if reached != person.role:
            person.role = reached
            person.save(update_fields=["role"])
    if not Person.objects.filter(role="administrator", is_active=True).exists():
        raise Conflict("this would leave the service without an administrator.", "Make somebody else one first.")


def _people_named(names: Iterable[str]) -> list[Person]:
    wanted = set(names)
    found = list(Person.objects.filter(name__in=wanted))
    missing = sorted(wanted - {each.name for each in found})
    if missing:
        raise unknown_name("person", missing[0], Person.objects.values_list("name", flat=True))
    return found
