"""Who is calling, for what is shown to them: readers and runners see nothing of how a source is reached or asked."""

from __future__ import annotations

from contextvars import ContextVar
from typing import Any, ClassVar

from rest_framework import serializers

from patient_ladle.core.errors import LadleError, general_words

_role: ContextVar[str | None] = ContextVar("role", default=None)
SEES_ALL = ("author", "administrator")


def set_role(role: str | None) -> None:
    """The role of whoever is answered in this thread from now on; None: nobody has signed in."""
    _role.set(role)


def sees_all() -> bool:
    """Whether statements, addresses, logins and the database's own words may be shown. Outside of requests: yes."""
    role = _role.get()
    return role is None or role in SEES_ALL


def sees_secrets() -> bool:
    """Whether an address that is itself a secret may be shown."""
    return _role.get() in (None, "administrator")


def shown(error: LadleError) -> LadleError:
    """An error as the caller may see it."""
    if sees_all():
        return error
    words = general_words(error.code, error.to_dict())
    if words["message"] != error.message:
        error.message, error.hint, error.facts = words["message"], words["hint"], {}
    return error


class ForAuthors(serializers.Serializer[Any]):
    # Leaves fields empty that only authors see. No docstring: it would stand in the API's document.

    for_authors: ClassVar[tuple[str, ...]] = ()
    errors_in: ClassVar[tuple[str, ...]] = ("error",)

    def to_representation(self, instance: Any) -> Any:
        made = super().to_representation(instance)
        if sees_all():
            return made
        for name in self.for_authors:
            if name in made:
                made[name] = _empty(made[name])
        for name in self.errors_in:
            if made.get(name):
                words = general_words(str(made[name]["code"]), made[name])
                made[name] = {key: words.get(key, value) for key, value in made[name].items()}
        return made


def _empty(value: Any) -> Any:
    return next((kind() for kind in (str, list, dict) if isinstance(value, kind)), None)
