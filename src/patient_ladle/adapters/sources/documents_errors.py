"""What document stores and their driver say, in our words, by the server's error number."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from patient_ladle.core.errors import (
    ConnectionLost,
    DeadlineExceeded,
    LadleError,
    RunCancelled,
    SourceNotReadable,
    SourceSignInRefused,
    SourceTlsRefused,
    SourceUnreachable,
    StatementFailed,
    StatementWrong,
)
from patient_ladle.lazily import lazily

from .network import no_answer, nothing_listens

if TYPE_CHECKING:
    from pymongo import errors
else:
    errors = lazily("pymongo.errors")

NOT_ALLOWED = (13, 8000)
NOT_SIGNED_IN = (18, 11, 33)
_STOPPED = (11601, 237, 11602)
_OVER = (50, 262)
_LOST = (43, 91, 189, 11600, 10107, 13435, 13436, 6, 7, 89, 9001, 175, 286)
_FAILED = (96, 146, 292, 136, 112, 239, 246, 133)


def translate(error: Exception, came: bool) -> LadleError:
    """The one map from the driver's errors to ours. ``came``: documents had come already."""
    said = _words(error)
    number = error.code or 0 if isinstance(error, errors.OperationFailure) else 0
    if number in _STOPPED:
        return RunCancelled("the statement was stopped in the source.", "Start it again when it is wanted.")
    if number in _OVER:
        return DeadlineExceeded(
            f"the source stopped the statement at its time limit: {said}.",
            "Narrow the statement, or give the extract a longer deadline.",
        )
    if number in _LOST or isinstance(error, (errors.ConnectionFailure, errors.AutoReconnect, OSError)):
        return ConnectionLost(f"the connection to the source broke: {said}.", "Start the run again; it may pass.")
    if number in NOT_ALLOWED:
        return SourceNotReadable(f"the login may not read this: {said}.", "Ask for the right to read it.")
    if number in NOT_SIGNED_IN:
        return SourceSignInRefused(f"the source refused the login: {said}.", "Correct the user or the password of the source.")
    if number in _FAILED or (came and isinstance(error, errors.OperationFailure)):
        return StatementFailed(
            f"the database failed while running the statement: {said}.", "Correct the statement or the data it meets."
        )
    if isinstance(error, (errors.OperationFailure, errors.InvalidName, errors.ConfigurationError)):
        return StatementWrong(f"the database rejected the statement: {said}.", "Correct the statement and save it again.")
    return StatementFailed(f"the source's answer cannot be read: {said}.", "Look at the server, then start the run again.")


def _words(error: Exception) -> str:
    """What the server said, without the answer it said it in."""
    if isinstance(error, errors.OperationFailure) and error.details:
        return str(error.details.get("errmsg", error)).rstrip(".")
    return (str(error).partition(", full error")[0].partition(" (configured timeouts")[0]).rstrip(".") or type(error).__name__


def connect_failed(error: Exception, address: Mapping[str, Any], seconds: float) -> LadleError:
    """What the driver said of an attempt to connect, by the step that failed. ``seconds``: the timeout that was given."""
    host, port, said = address["host"], address["port"], _words(error).partition(", Timeout:")[0]
    if isinstance(error, errors.OperationFailure) and error.code in NOT_SIGNED_IN:
        return SourceSignInRefused(
            f"the server at {host}:{port} refused the login '{address.get('user', '')}'.",
            "Correct the user, the password or auth_database of the source.",
        )
    silent = isinstance(error, (errors.ServerSelectionTimeoutError, errors.NetworkTimeout))
    if "refused" in said:
        return nothing_listens(host, port)
    if address.get("ssl_mode", "disable") != "disable" and (
        silent or "SSL" in said or isinstance(error, (ValueError, OSError))
    ):
        return SourceTlsRefused(
            f"no encrypted connection to {host}:{port}: {said}.", "Correct the source's ssl_mode or its certificates."
        )
    if silent and ("timed out" in said or "No servers found yet" in said):
        return no_answer(host, port, seconds)
    return SourceUnreachable(f"no connection to {host}:{port}: {said}.", "Check that the database runs and accepts logins.")
