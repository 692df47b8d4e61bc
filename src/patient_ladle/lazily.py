"""Modules that most processes never need, read when something of them is first asked for.

A start reads whatever its modules import, in each process of a service; a driver or a parser of a few hundred modules, which
only some runs need, would cost all of them a quarter of it.
"""

from __future__ import annotations

from importlib import import_module
from types import ModuleType
from typing import Any


class _Later(ModuleType):
    def __getattr__(self, name: str) -> Any:
        found = import_module(self.__name__)
        self.__dict__.update(vars(found))  # from now on nothing stands between
        return getattr(found, name)


def lazily(name: str) -> ModuleType:
    """The module of that name, not yet read. For type checkers import it beside, under ``TYPE_CHECKING``."""
    return _Later(name)
