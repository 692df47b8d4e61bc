"""What groups of calls share: the verbs, and names in paths."""

from __future__ import annotations

from typing import Any
from urllib.parse import quote

from .transport import Transport

Listed = list
"""A list, where a class has a method of that name."""


def name_in_path(name: object) -> str:
    """The name as a path holds it."""
    return quote(str(name), safe="")


class Group:
    """A noun's calls."""

    def __init__(self, transport: Transport) -> None:
        self.transport = transport

    def _get(self, path: str, **params: Any) -> Any:
        return self.transport.call("GET", path, params={k: v for k, v in params.items() if v is not None})

    def _post(self, path: str, body: Any = None, **headers: str) -> Any:
        return self.transport.call("POST", path, json=body if body is not None else {}, headers=headers)

    def _patch(self, path: str, body: Any, **headers: str) -> Any:
        return self.transport.call("PATCH", path, json=body, headers=headers)

    def _put(self, path: str, body: Any) -> Any:
        return self.transport.call("PUT", path, json=body)

    def _delete(self, path: str) -> None:
        self.transport.call("DELETE", path)
