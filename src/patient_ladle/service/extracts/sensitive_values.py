"""Values of sensitive parameters at rest: each stands encrypted in its place, and is opened only where it is used.

A sealed value is ``{"sealed": "…"}``, which no value of any type looks like (Fernet; the key lies outside the database).
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any

from cryptography.fernet import InvalidToken
from django.conf import settings

from patient_ladle.core.errors import BadInput
from patient_ladle.core.values.parameters import Parameter
from patient_ladle.service.common.keys import secret_box

_MARK = "sealed"


def _is_sealed(value: Any) -> bool:
    return isinstance(value, Mapping) and list(value) == [_MARK] and isinstance(value[_MARK], str)


def seal(value: Any) -> Any:
    """Encrypted, unless it is null or so already."""
    if value is None or _is_sealed(value):
        return value
    return {_MARK: secret_box(settings.DATA).encrypt(json.dumps(value).encode()).decode()}


def open_sealed(value: Any) -> Any:
    """As it was before it was sealed, if it was. Raises BadInput for what only looks so, which anybody can send."""
    if not _is_sealed(value):
        return value
    try:
        return json.loads(secret_box(settings.DATA).decrypt(value[_MARK].encode()))
    except InvalidToken:
        raise BadInput(
            "a sensitive value cannot be read: it was not sealed with the keys of this service.", "Give it anew."
        ) from None


def sealed(declared: Sequence[Parameter], values: Mapping[str, Any]) -> dict[str, Any]:
    """The values as they are kept."""
    sensitive = {parameter.name for parameter in declared if parameter.sensitive}
    return {name: seal(value) if name in sensitive else value for name, value in values.items()}


def opened(values: Mapping[str, Any]) -> dict[str, Any]:
    """The values as they are used."""
    return {name: open_sealed(value) for name, value in values.items()}


def sealed_declaration(plain: Mapping[str, Any]) -> dict[str, Any]:
    """A parameter's declaration as it is kept: the default of a sensitive one is a value too."""
    return {**plain, "default": seal(plain.get("default"))} if plain.get("sensitive") else dict(plain)


def opened_declaration(kept: Mapping[str, Any]) -> dict[str, Any]:
    """A parameter's declaration as it is used."""
    return {**kept, "default": open_sealed(kept["default"])} if "default" in kept else dict(kept)
