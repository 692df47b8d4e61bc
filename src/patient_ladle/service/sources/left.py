"""Sessions in a source that nobody minds any more: whoever had them was ended without a word."""

from __future__ import annotations

import logging
from collections.abc import Mapping
from concurrent.futures import Future

from patient_ladle.adapters.sources import get_engine
from patient_ladle.core.aside import aside
from patient_ladle.core.errors import LadleError

from .models import Environment, Source
from .queries import address_in, refuse_unsafe, secret_of

log = logging.getLogger("ladle.sources")


def end_left(source: Source | None, environment: Environment, identity: Mapping[str, str]) -> Future[None] | None:
    """End the session that a child had, by what it told of it, in a thread of its own; None where there is none to end.

    The source frees what it does; where that fails it is in the log, and the source's own limits end it.
    """
    session = identity.get("session", "")
    if source is None or not session:
        return None
    engine = get_engine(source.engine)
    try:
        address = address_in(source, environment)
        refuse_unsafe(engine, address.fields)
        secret = secret_of(address)
    except LadleError as error:
        log.warning("session %s of source %s is left: %s", session, source.name, error.message)
        return None
    fields, seconds, name = address.fields, float(source.connect_timeout_seconds), source.name

    def carry_out() -> None:
        try:
            engine.end_left(fields, secret, session, seconds)
        except Exception as error:  # noqa: BLE001 - whatever a driver says: nobody waits for this
            log.warning("session %s of source %s is left: %s", session, name, str(error).split("\n")[0])

    return aside(carry_out)
