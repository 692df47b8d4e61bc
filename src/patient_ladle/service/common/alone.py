"""Members of a loop treated one by one: a fault of one is recorded where it belongs, and the others go on."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from typing import TypeVar

import psycopg
from django.db import InterfaceError, OperationalError, close_old_connections, connection, transaction

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


@contextmanager
def guarded(doing: str, by: logging.Logger, when_away: Callable[[], object] = lambda: None) -> Iterator[None]:
    """One look of a thread that is to go on whatever happens: a fault in here is logged, and the next look comes."""
    try:
        yield
    except AWAY as error:
        by.warning("%s: the service database does not answer: %s", doing, str(error).split("\n")[0])
        when_away()
        connection.close()
    except Exception:  # noqa: BLE001  # it is logged with its trace
        by.exception("%s: a fault of the service's own", doing)
    finally:
        close_old_connections()
