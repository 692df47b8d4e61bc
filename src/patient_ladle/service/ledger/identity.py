"""Ledger, keys, result store and data directory know each other by an id kept in all of them.

Rules and theory
----------------
* The ledger's id stands in the ledger and in ``ledger.id`` of each data directory. A word sealed with the keys stands in
  the ledger and opens only with them. The store's mark stands in the store and in the ledger.
* A start that finds a stranger, an older ledger, or nothing where something was, refuses, and says the ways out. Nothing is
  made, written or removed before.
* Numbers of runs name folders of the store. A ledger that is taken up again with a store that has seen higher numbers
  begins above them, so that no two runs ever have the same name.
* A store that is away is no stranger: runs wait for it.
"""

from __future__ import annotations

import logging
import secrets
from pathlib import Path

from cryptography.fernet import InvalidToken
from django.conf import settings
from django.db import connection, transaction

from patient_ladle.adapters.created_once import create_once
from patient_ladle.core.errors import Conflict, StoreUnwritable
from patient_ladle.service.common.keys import secret_box, secrets_file
from patient_ladle.service.extracts.models import Extract

from .models import Identity, Run
from .stores import store

log = logging.getLogger("ladle.service")

IDENTITY_LOCK = 0x1AD1E04
STRANGER = 78
"""Exit status of a process that refuses to run: starting it again does not help."""
_ADOPT = "If all of them are meant to belong together from now on: ladle service start --adopt."


def _ledger_file() -> Path:
    return Path(settings.DATA) / "ledger.id"


def check(adopt: bool = False) -> list[str]:
    """Make sure that all belong together, or make it so at the very first start; returns what is out of the ordinary.

    ``adopt``: a person has said that they do. Raises Conflict.
    """
    with transaction.atomic():
        with connection.cursor() as cursor:
            cursor.execute("select pg_advisory_xact_lock(%s)", [IDENTITY_LOCK])
        known = Identity.objects.first()
        here = _ledger_file().read_text().strip() if _ledger_file().is_file() else ""
        if known is None:
            return _begin(here, adopt)
        if here and here != known.ledger and not adopt:
            raise Conflict(
                f"the data directory '{settings.DATA}' belongs to ledger {here}, "
                f"and the service database is ledger {known.ledger}.",
                f"Aim LADLE_DATA or LADLE_DATABASE_URL at the one that belongs to the other. {_ADOPT}",
            )
        _check_keys(known, adopt)
        words = _check_store(known, adopt)
        known.save()
        if here != known.ledger:
            _ledger_file().unlink(missing_ok=True)
            create_once(_ledger_file(), known.ledger, 0o600)
        return words


def _is_in_use() -> bool:
    return Extract.objects.exists() or Run.objects.exists()


def _begin(here: str, adopt: bool) -> list[str]:
    """A ledger without an id: a new one, or one of an earlier release, which brings all that it has."""
    old = _is_in_use()
    if here and not old and not adopt:
        raise Conflict(
            f"the data directory '{settings.DATA}' belongs to ledger {here}, and the service database is empty.",
            "Restore the ledger's dump into it, or aim LADLE_DATABASE_URL or LADLE_DATA at where the ledger is. "
            "To begin with an empty one, move that directory away.",
        )
    known = Identity(ledger=secrets.token_hex(8))
    try:
        mark = store().mark(make=False)
        if mark and not old and not adopt and _highest() > 0:
            raise Conflict(
                "the result store holds results, and the service database is empty.",
                f"Restore the ledger's dump, or aim LADLE_RESULT_STORE at an empty folder or bucket. {_ADOPT}",
            )
        known.store_mark = mark or store().mark()
        words: list[str] = []
    except StoreUnwritable as error:
        words = [f"the result store cannot be looked at: {error.message}"]
    known.sealed = secret_box(settings.DATA).encrypt(known.ledger.encode()).decode()
    known.save()
    if not words:
        _number_above(_highest())
    _ledger_file().unlink(missing_ok=True)
    create_once(_ledger_file(), known.ledger, 0o600)
    return words


def _check_keys(known: Identity, adopt: bool) -> None:
    path = secrets_file(settings.DATA)
    try:
        if path.is_file() or adopt:
            opened = secret_box(settings.DATA).decrypt(known.sealed.encode()).decode()
            if opened == known.ledger:
                return
    except InvalidToken:
        pass
    if adopt:
        known.sealed = secret_box(settings.DATA).encrypt(known.ledger.encode()).decode()
        log.warning("new keys were taken: what was sealed with others has to be given anew, source by source")
        return
    found = "has other keys than" if path.is_file() else "is not there: it holds"
    raise Conflict(
        f"'{path}' {found} those that the secrets of ledger {known.ledger} were sealed with.",
        "Copy keys/secrets.key from the service's backup, or from another of its hosts. Without them: ladle service start "
        "--adopt makes new ones, and all secrets have to be given anew.",
    )


def _check_store(known: Identity, adopt: bool) -> list[str]:
    try:
        mark = store().mark(make=False)
        if not known.store_mark:  # it was away at the first start
            known.store_mark = mark or store().mark()
        if mark == known.store_mark:
            highest = _highest()
            if highest <= _last_number():
                return []
            if not adopt:
                raise Conflict(
                    f"the result store has results of runs up to {highest}, and the ledger knows of runs up to "
                    f"{_last_number()}: it is older than the store.",
                    "Restore a later dump. Or go on with this one, new runs numbered above those: ladle service start --adopt.",
                )
            _number_above(highest)
            return []
        if not adopt:
            what = f"is another one (mark {mark}) than" if mark else "has no mark: it is empty, not mounted, or not"
            raise Conflict(
                f"the result store '{settings.RESULT_STORE}' {what} that of ledger {known.ledger} (mark {known.store_mark}).",
                f"Mount it, or aim LADLE_RESULT_STORE at it. {_ADOPT}",
            )
        known.store_mark = mark or store().mark()
        _number_above(_highest())
    except StoreUnwritable as error:
        return [f"the result store cannot be looked at: {error.message}"]
    return []


def _highest() -> int:
    return max(store().runs(), default=0)


def _last_number() -> int:
    with connection.cursor() as cursor:
        cursor.execute("select case when is_called then last_value else last_value - 1 end from runs_run_id_seq")
        return int(cursor.fetchone()[0])


def _number_above(highest: int) -> None:
    if highest > _last_number():
        with connection.cursor() as cursor:
            cursor.execute("select setval('runs_run_id_seq', %s)", [highest])
