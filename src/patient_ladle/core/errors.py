"""Every fault a person can meet, each with a stable code, a cause in words and a next step.

Rules and theory
----------------
* ``code`` never changes once released: interfaces map it to an HTTP status and to an exit status.
* ``message`` names the thing, the value given and what would be right; it never holds a secret.
* ``hint`` is the next step, one sentence.
* ``transient`` says that the same call may work later without anybody changing anything.
* Errors cross process borders as JSON (``to_dict`` and ``from_dict``), so facts are plain values.
"""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from typing import Any, ClassVar

from .keepable import bounded, keepable, keepable_text

Facts = dict[str, Any]


class LadleError(Exception):
    """Base of all own errors; safe to show to the person who caused it."""

    code: ClassVar[str] = "error"
    transient: ClassVar[bool] = False

    def __init__(self, message: str, hint: str = "", **facts: Any) -> None:
        super().__init__(message)
        self.message = message
        self.hint = hint
        self.facts: Facts = facts

    def __reduce__(self) -> tuple[Any, ...]:
        return (from_dict, (self.to_dict(),))

    def to_dict(self) -> Facts:
        """Plain values only: code, message, hint, transient, facts; whatever a driver put into them, fit to be kept."""
        return {
            "code": self.code,
            "message": bounded(keepable_text(self.message)),
            "hint": bounded(keepable_text(self.hint)),
            "transient": self.transient,
            "facts": keepable(self.facts),
        }

    def in_words(self) -> str:
        """Message and hint as one line for a log or a terminal."""
        return f"{self.message} {self.hint}".strip()


@contextmanager
def of_field(name: str) -> Iterator[None]:
    """What is refused within was given in this field: whoever shows the error shows it there."""
    try:
        yield
    except LadleError as error:
        error.facts.setdefault("field", name)
        raise


class BadInput(LadleError):
    """Something given cannot be used as it is."""

    code = "bad_input"


class UnknownName(BadInput):
    """A name that nothing carries; proposes the nearest one that exists."""

    code = "unknown_name"


class ValueMissing(BadInput):
    """A required parameter was given no value."""

    code = "value_missing"


class ValueWrong(BadInput):
    """A parameter's value does not fit its type or is not among the allowed ones."""

    code = "value_wrong"


class StatementRefused(BadInput):
    """The text is not one statement that only reads."""

    code = "statement_refused"


class StatementWrong(LadleError):
    """The database rejects the statement: syntax, or a name it does not know."""

    code = "statement_wrong"


class StatementFailed(LadleError):
    """The database understood the statement and failed to carry it out."""

    code = "statement_failed"


class NotFound(LadleError):
    """The thing asked for is not there, or not for this person to see."""

    code = "not_found"


class NotSignedIn(LadleError):
    """No valid session or token came with the call."""

    code = "not_signed_in"


class NotAllowed(LadleError):
    """The person's role does not reach this far."""

    code = "not_allowed"


class ResultHeld(NotAllowed):
    """The files are held back by a guard, or an author rejected them."""

    code = "result_held"


class Conflict(LadleError):
    """What was asked does not fit the present state of the thing."""

    code = "conflict"


class SecretUnreadable(Conflict):
    """A kept secret was not encrypted with the keys that are here."""

    code = "secret_unreadable"


class ResultDamaged(Conflict):
    """A stored file is not the one that was proven any more."""

    code = "result_damaged"


class InputDamaged(ResultDamaged):
    """The same of a stored result that a combination reads; facts: ``run``, ``file``, ``why``."""

    code = "input_damaged"
    transient = True


class EditedMeanwhile(Conflict):
    """Somebody else saved between this person's reading and saving."""

    code = "edited_meanwhile"


class SourceUnreachable(LadleError):
    """Nothing answered at the source's address."""

    code = "source_unreachable"
    transient = True


class SourceSignInRefused(LadleError):
    """The source answered and refused the login."""

    code = "source_sign_in_refused"


class SourceTlsRefused(LadleError):
    """Source and service could not agree on encryption, or a certificate was not accepted."""

    code = "source_tls_refused"


class SourceWritable(LadleError):
    """A session that should be read-only let a write through."""

    code = "source_writable"


class ResultTooLarge(LadleError):
    """The result goes beyond the rows or bytes that its source's settings allow."""

    code = "result_too_large"


class SourceDatabaseMissing(LadleError):
    """The server or folder is there; the database is not."""

    code = "source_database_missing"


class SourceNotReadable(LadleError):
    """The login may not read what the statement names."""

    code = "source_not_readable"


class ConnectionLost(LadleError):
    """The connection to the source broke while in use."""

    code = "connection_lost"
    transient = True


class DeadlineExceeded(LadleError):
    """The statement took longer than its deadline and was stopped."""

    code = "deadline_exceeded"
    transient = True


class RunCancelled(LadleError):
    """A person asked for the run to stop, and it stopped."""

    code = "cancelled"


class InputFailed(LadleError):
    """An input of a combination gave no result, so that there is nothing to combine."""

    code = "input_failed"


class ValueUnfit(LadleError):
    """A value or a result that the chosen format cannot hold."""

    code = "value_unfit"


class StoreUnwritable(LadleError):
    """The result store or a delivery folder cannot be written."""

    code = "store_unwritable"
    transient = True


class StoreUnreadable(StoreUnwritable):
    """The result store cannot be read either, or does not answer."""

    code = "store_unreadable"


class NameTaken(LadleError):
    """A file stands at the delivered name, and the output does not let it be replaced."""

    code = "name_taken"


class DiskFull(LadleError):
    """No space was left while writing a result."""

    code = "disk_full"
    transient = True


class ProofFailed(LadleError):
    """What was written is not what was fetched: the result is withheld."""

    code = "proof_failed"


class Fenced(LadleError):
    """Another worker owns the run now; this attempt's result is not accepted."""

    code = "fenced"


class WorkerLost(LadleError):
    """The worker or its child ended without a last word."""

    code = "worker_lost"
    transient = True


class OutOfMemory(LadleError):
    """The run needed more memory than one may take, and was stopped; others go on."""

    code = "out_of_memory"


class Busy(LadleError):
    """Everybody who could do the work has work."""

    code = "busy"
    transient = True


class ServiceFault(LadleError):
    """A fault of our own; its details are in the service's log."""

    code = "service_fault"


def _family(base: type[LadleError]) -> Iterable[type[LadleError]]:
    yield base
    for member in base.__subclasses__():
        yield from _family(member)


def all_codes() -> dict[str, type[LadleError]]:
    """Code to class, for the maps that interfaces keep."""
    return {member.code: member for member in _family(LadleError)}


def from_dict(data: Mapping[str, Any]) -> LadleError:
    """The error that ``to_dict`` described; an unknown code becomes the base class."""
    cls = all_codes().get(str(data.get("code")), LadleError)
    return cls(str(data.get("message", "")), str(data.get("hint", "")), **dict(data.get("facts") or {}))


_GENERAL = {
    "statement_wrong": "the database rejected the statement.",
    "statement_failed": "the database failed while running the statement.",
    "statement_refused": "the statement was refused, for it may do more than read.",
    "source_unreachable": "the source could not be reached.",
    "source_sign_in_refused": "the source refused the login.",
    "source_tls_refused": "the source and the service could not agree on encryption.",
    "source_writable": "the source's session is not read-only.",
    "source_database_missing": "the source's database is not there.",
    "source_not_readable": "the login of the source may not read what the statement names.",
    "connection_lost": "the connection to the source broke.",
    "store_unwritable": "the result could not be stored or delivered.",
    "store_unreadable": "the result store does not answer.",
    "name_taken": "a file stands at the delivered name, and is not to be replaced.",
    "worker_lost": "the worker of this run ended without a last word.",
    "disk_full": "there was no space left for the result.",
    "error": "the run met a fault.",
}
"""What may be said of an error whose own words name a server, a login, a path, a statement or a value."""
_ASK = "Ask the author of the extract, who sees the details."


def names_a_value(code: str) -> bool:
    """Whether errors of that code are in a database's words, which may hold values of the statement."""
    return code in ("statement_wrong", "statement_failed", "source_not_readable", "connection_lost", "statement_refused")


def general_words(code: str, own: Mapping[str, Any]) -> dict[str, str]:
    """``message`` and ``hint`` of an error for somebody who may not see how a source is reached or asked."""
    if code not in _GENERAL:
        return {"message": str(own.get("message", "")), "hint": str(own.get("hint", ""))}
    return {"message": _GENERAL[code], "hint": _ASK}


def nearest(given: str, known: Iterable[str], likeness: float = 0.6) -> str | None:
    """The known name most like the given one, from 0 to 1 at least so much; None when there is none."""
    by_lower = {name.lower(): name for name in known}
    found = difflib.get_close_matches(given.lower(), list(by_lower), n=1, cutoff=likeness)
    return by_lower[found[0]] if found else None


def unknown_name(kind: str, given: str, known: Iterable[str], next_step: str = "") -> UnknownName:
    """``there is no format 'jsn'. Did you mean 'json'?``, or the names there are."""
    names = sorted(known)
    close = nearest(given, names)
    if close:
        hint = f"Did you mean '{close}'?"
    elif names:
        hint = f"There is: {', '.join(names[:8])}{', …' if len(names) > 8 else ''}."
    else:
        hint = next_step or f"There is no {kind} yet."
    return UnknownName(f"there is no {kind} '{given}'.", hint, kind=kind, given=given)
