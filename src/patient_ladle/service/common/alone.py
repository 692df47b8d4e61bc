"""Members of a loop treated one by one: a fault of one is recorded where it belongs, and the others go on."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterable
from typing import TypeVar

import psycopg
from django.db import InterfaceError, OperationalError, transaction

log = logging.getLogger("ladle.service")

AWAY = (psycopg.OperationalError, OperationalError, InterfaceError)
"""The service database does not answer: a fault of nothing in it, so that everything is tried again later."""
M = TypeVar("M")


def one_by_one(
    members: Iterable[M], work: Callable[[M], object], doing: str, fault: Callable[[M, Exception], object] | None = None
) -> int:
    """Do it with each, in a transaction of its own (within another: up to a savepoint). What one raises is logged, and
    ``fault`` records it with that one. Returns how many went well. Raises what is in AWAY."""
    well = 0
    for member in members:
        try:
            with transaction.atomic():
                work(member)
            well += 1
        except AWAY:
            raise
        except Exception as error:
            log.exception("%s: %s", doing, member)
            if fault is not None:
                try:
                    with transaction.atomic():
                        fault(member, error)
                except AWAY:
                    raise
                except Exception:
                    log.exception("%s: the fault of %s could not be recorded", doing, member)
    return well
