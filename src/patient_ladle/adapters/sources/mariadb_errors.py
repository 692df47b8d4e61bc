"""MariaDB's errors in our words, whichever of the two drivers raised them: both give ``(number, text)``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import pymysql

from patient_ladle.core.errors import (
    ConnectionLost,
    LadleError,
    RunCancelled,
    SourceDatabaseMissing,
    SourceNotReadable,
    SourceSignInRefused,
    SourceTlsRefused,
    SourceUnreachable,
    StatementFailed,
    StatementRefused,
    StatementWrong,
)
from patient_ladle.core.statements.parts import Rendered, place

from .base import missing_name
from .network import no_answer, nothing_listens

_MISSING = {
    r"^Table '[^'.]+\.([^']+)' doesn't exist": "table",
    r"^Unknown column '([^']+)' in": "column",
}


def translate(error: Exception, text: str = "", rendered: Rendered | None = None) -> LadleError:
    """The one map from the driver's errors to ours, by the server's error number."""
    number = error.args[0] if error.args and isinstance(error.args[0], int) else 0
    said = str(error.args[1] if len(error.args) > 1 else error).rstrip(".")
    if number in (1317, 3024):
        return RunCancelled("the statement was stopped in the source.", "Start it again when it is wanted.")
    if number in (0, 2003, 2006, 2013, 1053, 1927, 4031, 1080) or isinstance(error, (pymysql.InterfaceError, OSError)):
        return ConnectionLost(
            f"the connection to the source broke: {said or 'it is closed'}.", "Start the run again; it may pass."
        )
    if number in (1040, 1203):
        return SourceUnreachable(f"the source has no room for the session: {said}.", "Try again later.")
    if number in (1792, 1290):
        return StatementRefused(f"the statement would write: {said}.", "An extract only reads; take that part out.")
    if number in (1142, 1143, 1044, 1227, 1370):
        return SourceNotReadable(f"the login may not read this: {said}.", "Ask for the right to select from it.")
    if number in (1205, 1213):
        return StatementFailed(f"the database failed while running the statement: {said}.", "Start the run again.")
    if number in (1146, 1054, 1064, 1052, 1305, 1049, 1109, 1630, 1582, 1055, 1056, 1066, 1060, 1222, 1235, 1295, 1241, 1248):
        where, placed = _placed(said, text, rendered)
        facts = {**placed, **missing_name(said, _MISSING)}
        return StatementWrong(
            f"the database rejected the statement: {said}{where}.",
            "Correct the statement and save it again.",
            **facts,
        )
    return StatementFailed(
        f"the database failed while running the statement: {said}.", "Correct the statement or the data it meets."
    )


def _placed(said: str, text: str, rendered: Rendered | None) -> tuple[str, dict[str, int]]:
    """The server gives a line for syntax at most: the name or the rest it quotes is looked for in the author's text."""
    quoted = said.split("'")[1] if said.count("'") > 1 else ""
    if "near '" in said:
        quoted = said.split("near '", 1)[1].rsplit("'", 1)[0]
        at = rendered.text.find(quoted) if rendered is not None and quoted else -1
        if at < 0 or rendered is None or rendered.text.count(quoted) != 1:
            return "", {}
        line, column = place(text, rendered.original(at))
    else:
        word = quoted if text.count(quoted) == 1 else quoted.rpartition(".")[2]
        if not word or text.count(word) != 1:
            return "", {}
        line, column = place(text, text.index(word))
    return f" (line {line}, column {column})", {"line": line, "column": column}


def connect_failed(error: Exception, address: Mapping[str, Any], seconds: float) -> LadleError:
    """What the driver said of an attempt to connect, by the step that failed. ``seconds``: the timeout that was given."""
    number = error.args[0] if error.args and isinstance(error.args[0], int) else 0
    said = str(error.args[1] if len(error.args) > 1 else error)
    host, port = address["host"], address["port"]
    if number == 1049:
        return SourceDatabaseMissing(
            f"there is no database '{address['database']}' at {host}:{port}.", "Correct the database of the source."
        )
    if number == 1044:
        return SourceDatabaseMissing(
            f"the login '{address['user']}' may not use a database '{address['database']}' at {host}:{port}, if there is one.",
            "Correct the database of the source, or ask for the right to select from it.",
        )
    if "SSL" in said or "certificate" in said or "TLS" in said or number in (2026, 3159):
        return SourceTlsRefused(
            f"no encrypted connection to {host}:{port}: {said}.", "Correct the source's ssl_mode or its certificates."
        )
    if number in (1045, 1698, 1130, 1251, 1862, 1820):
        return SourceSignInRefused(
            f"the server at {host}:{port} refused the login '{address['user']}'.",
            "Correct the user or the password of the source.",
        )
    if "timed out" in said or "timeout" in said.lower():
        return no_answer(host, port, seconds)
    if "refused" in said:
        return nothing_listens(host, port)
    return SourceUnreachable(f"no connection to {host}:{port}: {said}.", "Check that the database runs and accepts logins.")
