"""The contract of a source engine: what an address of it holds, how a session is opened, browsed, and checked."""

from __future__ import annotations

import contextlib
import functools
import inspect
import re
import threading
import time
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any, ClassVar, NoReturn

from patient_ladle.core.errors import (
    BadInput,
    LadleError,
    RunCancelled,
    SourceDatabaseMissing,
    SourceSignInRefused,
    SourceTlsRefused,
    SourceUnreachable,
    StatementRefused,
    unknown_name,
)
from patient_ladle.core.ports import SourceSession, Statement
from patient_ladle.core.results.columns import Column
from patient_ladle.core.statements.dialects import Dialect
from patient_ladle.core.statements.languages import QueryLanguage
from patient_ladle.core.statements.parts import Rendered
from patient_ladle.core.statements.plans import Plan
from patient_ladle.core.statements.scanner import one_reading_statement, replace_parameters
from patient_ladle.core.statements.scope import scope_of
from patient_ladle.core.statements.words import words_of
from patient_ladle.core.values.parameters import Parameter, Value

from .network import knock, way_in

CONNECT_SECONDS = 10.0
"""A server that has not answered by then is reported as unreachable, unless the source sets another time."""


@dataclass(frozen=True, slots=True)
class AddressField:
    """One field of an address. ``guarded``: changing it demands the secret again, for it decides who gets to see it."""

    kind: type
    note: str
    required: bool = False
    choices: tuple[str, ...] = ()
    guarded: bool = False
    is_path: bool = False


@dataclass(frozen=True, slots=True)
class About:
    """What a server says of itself. ``clock_seconds``: how far its clock is ahead of ours; None where it has none."""

    version: str
    time_zone: str = ""
    encoding: str = ""
    clock_seconds: float | None = None

    def in_words(self) -> str:
        """One line for a person."""
        parts = [self.version]
        parts += [f"time zone {self.time_zone}"] if self.time_zone else []
        parts += [f"encoding {self.encoding}"] if self.encoding else []
        if self.clock_seconds is not None:
            ahead = self.clock_seconds
            parts.append(
                "clocks agree" if abs(ahead) < 2 else f"its clock is {abs(ahead):.0f} s {'ahead' if ahead > 0 else 'behind'}"
            )
        return ", ".join(parts)


MOST_CHARACTERS = 1_000
_HOST = re.compile(r"[A-Za-z0-9_](?:[A-Za-z0-9_.-]*[A-Za-z0-9_.])?|[0-9A-Fa-f:.]+(?:%[\w.-]+)?")
"""A name of a host, or an IP address; a list of hosts or a folder of sockets is none."""
TLS_FILES = {
    "ssl_ca": AddressField(str, "file of the authority's certificate", guarded=True, is_path=True),
    "ssl_certificate": AddressField(str, "file of the client's certificate", guarded=True, is_path=True),
    "ssl_key": AddressField(str, "file of the client certificate's key", guarded=True, is_path=True),
}
"""The same in every engine that encrypts."""


def database_file(given: str) -> Path:
    """A database that is one file. Raises SourceUnreachable or SourceDatabaseMissing, whichever part is not there."""
    path = Path(given)
    if not path.parent.is_dir():
        raise SourceUnreachable(f"there is no folder '{path.parent}' on this host.", "Correct the path of the source.")
    if not path.is_file():
        raise SourceDatabaseMissing(f"there is no file '{path}' on this host.", "Correct the path of the source.")
    return path


def missing_name(said: str, patterns: Mapping[str, str]) -> dict[str, str]:
    """``missing`` (table or column) and ``name``, from the database's own words; empty where they are about another thing."""
    for pattern, kind in patterns.items():
        found = re.search(pattern, said)
        if found:
            return {"missing": kind, "name": found.group(1).replace('"', "").replace("`", "")}
    return {}


def gated(statement: Statement, dialect: Dialect) -> str:
    """The statement's text without its closing semicolon, if it is one that only reads: also with its names in place.

    Raises StatementRefused.
    """
    text = one_reading_statement(statement.text, dialect)
    if any(parameter.type == "identifier" for parameter in statement.values.parameters.values()):
        one_reading_statement(with_names(statement, text, dialect), dialect)
    return text


PERMITTED = "permitted"
"""In the address that a session is opened at: names that an administrator permits for the source (``Source.permitted``)."""


def permitted_in(address: Mapping[str, Any]) -> Sequence[str]:
    """What else statements of this source may call and read, by name."""
    return tuple(address.get(PERMITTED) or ())


def with_names(statement: Statement, text: str, dialect: Dialect) -> str:
    """The text with the names of tables and columns that were chosen in place; its other parameters stay."""
    return rendered(statement, text, dialect, lambda parameter, _: f":{parameter.name}").text


def tables_by_alias(text: str, dialect: Dialect) -> dict[str, str]:
    """What a statement calls its tables, in small letters, and what they are."""
    return dict(scope_of(words_of(text, dialect)).tables)


def rendered(statement: Statement, text: str, dialect: Dialect, put: Callable[[Parameter, Value], str]) -> Rendered:
    """The text with ``put(parameter, value)`` in place of each occurrence of a value, and names quoted.

    Raises StatementRefused for a parameter that nobody declared.
    """
    bound = statement.values

    def put_name(name: str) -> str:
        if name not in bound.parameters:
            raise StatementRefused(f"the statement uses ':{name}', which is not declared.", "Declare the parameter.")
        parameter, value = bound.parameters[name], bound.values[name]
        return dialect.quoted_path(str(value)) if parameter.type == "identifier" else put(parameter, value)

    return replace_parameters(text, dialect, put_name)


def refuse_other_count(found: int, wanted: int) -> None:
    """The database must see as many parameters as were put into the text: else it reads the text in another way than we do."""
    if found != wanted:
        raise StatementRefused(
            f"the database finds {found} parameters in the statement where {wanted} are written.",
            "Write the strings and comments around the parameters in a plainer way.",
        )


CANCEL_AGAIN_SECONDS = 0.25
"""A stop that comes between two of a session's statements stops neither: it is sent again until the session is over."""
LET_GO_SECONDS = 10.0
"""A source that has not stopped by then is frozen, or not there any more: its connection is broken."""


_ANSWERING = frozenset(
    [
        "identity",
        "describe",
        "understand",
        "batches",
        "probe",
        "release_snapshot",
        "prove_read_only",
        "harmful_rights",
        "about",
        "catalogue",
        "plan",
    ]
)
_ENDING = frozenset(["stop", "end", "let_go"])


def _answering(method: Callable[..., Any]) -> Callable[..., Any]:
    """The method, whose driver's errors come out as ours; also of rows that it gives one after the other."""

    def of_ours(session: ProbingSession, error: Exception) -> NoReturn:
        raise session.translated(error) from error

    if inspect.isgeneratorfunction(method):

        @functools.wraps(method)
        def giving(self: ProbingSession, *args: Any, **given: Any) -> Iterator[Any]:
            try:
                yield from method(self, *args, **given)
            except self.driver_errors as error:
                of_ours(self, error)

        return giving

    @functools.wraps(method)
    def answering(self: ProbingSession, *args: Any, **given: Any) -> Any:
        try:
            return method(self, *args, **given)
        except self.driver_errors as error:
            of_ours(self, error)

    return answering


def _ending(method: Callable[..., Any]) -> Callable[..., Any]:
    """The method, for which a driver that fails has let go as well."""

    @functools.wraps(method)
    def ending(self: ProbingSession, *args: Any, **given: Any) -> None:
        with contextlib.suppress(*self.driver_errors):
            method(self, *args, **given)

    return ending


class ProbingSession(SourceSession):
    """A source session that can also say what it found there.

    An engine gives ``stop`` (end what runs in the source at this moment; safe to call at any time) and ``end`` (let go of
    the connection), and calls ``go_on`` before each step that may take long.
    """

    driver_errors: tuple[type[Exception], ...] = ()
    """What its driver raises. Whatever of it a method lets through comes out ``translated``."""

    def __init__(self) -> None:
        self.cancelled = False
        self.remarks: Sequence[str] = ()
        self.over = threading.Event()

    def __init_subclass__(cls, **given: Any) -> None:
        super().__init_subclass__(**given)
        for name, method in list(vars(cls).items()):
            if name in _ANSWERING:
                setattr(cls, name, _answering(method))
            elif name in _ENDING:
                setattr(cls, name, _ending(method))

    def translated(self, error: Exception) -> LadleError:
        """An error of the driver in our words."""
        raise NotImplementedError

    def stop(self) -> None:
        """Stop the statement that runs at this moment, if any."""
        raise NotImplementedError

    def end(self) -> None:
        """Let go of the connection; may be called twice."""
        raise NotImplementedError

    def go_on(self) -> None:
        """Raises RunCancelled once the session was cancelled."""
        if self.cancelled:
            raise RunCancelled("the statement was stopped in the source.", "Start it again when it is wanted.")

    def cancel(self) -> None:
        self.cancelled = True
        self.stop()
        threading.Thread(target=self._stop_until_over, daemon=True).start()

    def _stop_until_over(self) -> None:
        began = time.monotonic()
        while not self.over.wait(CANCEL_AGAIN_SECONDS):
            if time.monotonic() - began > LET_GO_SECONDS:
                self.let_go()
                return
            self.stop()

    def let_go(self) -> None:
        """Break the connection, so that whoever waits for the source waits no longer; from any thread."""
        self.end()

    def close(self) -> None:
        self.over.set()
        self.end()

    def probe(self) -> str:
        """Read something harmless; returns what was read, in words."""
        raise NotImplementedError

    def understand(self, statement: Statement) -> Sequence[Column]:
        """``describe``, for a statement that will not be fetched: nothing of it is run."""
        return self.describe(statement)

    def plan(self, statement: Statement) -> Plan:
        """How the database means to carry it out; it is never run for that. ``understand`` comes first.

        Raises BadInput where the database does not say.
        """
        raise BadInput(
            "this kind of source does not say how it carries out a statement.", "Look at the preview's time instead."
        )

    def release_snapshot(self) -> None:
        """Let go of the snapshot: the session is kept open only to understand statements."""

    def prove_read_only(self) -> str:
        """Try a write that changes nothing even if it were let through; returns who refused it. Raises SourceWritable."""
        raise NotImplementedError

    def harmful_rights(self) -> list[str]:
        """What the login could do that the session cannot forbid, in words; empty for a login that may only read."""
        return []

    def about(self) -> About:
        """Version, time zone, encoding, clock."""
        raise NotImplementedError

    def catalogue(self) -> list[dict[str, Any]]:
        """Everything there is to read: tables and views (core.statements.catalogue), by schema and name."""
        raise NotImplementedError


@dataclass(frozen=True, slots=True)
class CheckStep:
    """One step of a check: did it pass, how long it took, what was found, what to mind, what to do next."""

    step: str
    passed: bool
    seconds: float
    detail: str
    hint: str = ""
    warning: str = ""

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON."""
        return asdict(self)


class _Steps:
    """The steps so far; the first that fails is the last."""

    def __init__(self) -> None:
        self.done: list[CheckStep] = []
        self.began = time.monotonic()

    def _took(self) -> float:
        now = time.monotonic()
        took, self.began = now - self.began, now
        return took

    def passed(self, step: str, detail: str, warning: str = "") -> None:
        self.done.append(CheckStep(step, True, self._took(), detail, warning=warning))

    def failed(self, step: str, error: LadleError) -> None:
        self.done.append(CheckStep(step, False, self._took(), error.message, error.hint))

    def tried(self, step: str, action: Callable[[], str]) -> bool:
        try:
            detail = action()
        except LadleError as error:
            self.failed(step, error)
            return False
        self.passed(step, detail)
        return True


class Engine(ABC):
    """One member of the family."""

    name: ClassVar[str]
    title: ClassVar[str]
    language: ClassVar[QueryLanguage]
    fields: ClassVar[Mapping[str, AddressField]]
    takes_secret: ClassVar[bool] = True
    networked: ClassVar[bool] = True
    url_schemes: ClassVar[tuple[str, ...]] = ()
    """What a connection URL of it may begin with; the first is the usual one."""
    default_port: ClassVar[int] = 0
    """Of a networked one, where a URL names none."""

    @abstractmethod
    def open(self, address: Mapping[str, Any], secret: str, connect_timeout_seconds: float = CONNECT_SECONDS) -> ProbingSession:
        """A read-only session. Raises SourceUnreachable, SourceSignInRefused, SourceTlsRefused, SourceDatabaseMissing."""

    def databases(self, address: Mapping[str, Any], secret: str, connect_timeout_seconds: float) -> Sequence[str]:
        """Names of the databases that the login may see, for whoever named one that is not there."""
        return []

    def end_left(  # noqa: B027 - what runs within our own process goes with it
        self, address: Mapping[str, Any], secret: str, session: str, connect_timeout_seconds: float
    ) -> None:
        """End a session of ours, and what it does, when whoever had it is gone without a word: a server may not see that for
        as long as its statement takes. Of one that is over, nothing. ``session``: of its identity. Raises the driver's errors."""

    def default_schema(self, address: Mapping[str, Any]) -> str:
        """The schema whose tables need no prefix in a session at that address."""
        return "main"

    def driver_code(self, address: Mapping[str, Any], statements: Sequence[str]) -> str:
        """A few lines of Python that read the statements, values filled in, with the driver alone; empty where there are none.

        The password comes from the environment of whoever runs it.
        """
        return ""

    @property
    def url_form(self) -> str:
        """What a connection URL of it looks like."""
        way = "user:password@host:port/database" if self.networked else "/absolute/path"
        return f"{self.url_schemes[0]}://{way}" if self.url_schemes else ""

    def place(self, address: Mapping[str, Any]) -> str:
        """Where an address leads, in words without a secret."""
        if not self.networked:
            return str(next((address[name] for name, field in self.fields.items() if field.is_path and name in address), ""))
        user = f"{address['user']}@" if address.get("user") else ""
        host = f"[{address['host']}]" if ":" in str(address["host"]) else address["host"]
        return f"{user}{host}:{address['port']}/{address['database']}"

    def checked_address(self, address: Mapping[str, Any]) -> dict[str, Any]:
        """The address with every field known, typed and present. Raises BadInput."""
        for key in address:
            if key not in self.fields:
                raise unknown_name(f"field of a {self.title} address", key, self.fields)
        made = {key: self._typed(key, value) for key, value in address.items() if value not in (None, "")}
        if "host" in made and not _HOST.fullmatch(made["host"]):
            raise BadInput("the host of the address is none.", "Give a name such as db.fennmoor.example, or an IP address.")
        if not 0 < made.get("port", 1) < 65536:
            raise BadInput(f"'{made['port']}' is not a port.", "Give a number from 1 to 65535.")
        for key, field in self.fields.items():
            if field.required and key not in made:
                raise BadInput(f"a {self.title} address needs '{key}' ({field.note}).", f"Give it: {key}=…")
        return made

    def _typed(self, key: str, value: Any) -> Any:
        wanted = self.fields[key]
        try:
            made = wanted.kind(value)
        except (TypeError, ValueError):
            raise BadInput(f"'{value}' is not a {key} ({wanted.note}).", "Correct the address.") from None
        if wanted.choices and made not in wanted.choices:
            raise unknown_name(f"value of {key}", str(value), wanted.choices)
        if isinstance(made, str) and (not made.isprintable() or len(made) > MOST_CHARACTERS):
            raise BadInput(f"the {key} of the address holds what no address does.", "Write it on one line, without marks.")
        return made

    def check(
        self, address: Mapping[str, Any], secret: str, connect_timeout_seconds: float = CONNECT_SECONDS
    ) -> list[CheckStep]:
        """Step by step; stops at the first that fails, with the cause and what to do next."""
        steps = _Steps()
        if self.networked and not self._reached(steps, address, connect_timeout_seconds):
            return steps.done
        try:
            session = self.open(address, secret, connect_timeout_seconds)
        except LadleError as error:
            self._not_opened(steps, error, address, secret, connect_timeout_seconds)
            return steps.done
        try:
            who = session.identity()
            if self.networked:
                steps.passed("login", f"signed in as {who.get('login', '')}")
                steps.passed("database", f"'{who.get('database', '')}' is there")
            else:
                steps.passed("file", ", ".join(f"{key} {value}" for key, value in who.items()))
            if steps.tried("may read", session.probe) and steps.tried("read-only", session.prove_read_only):
                rights = session.harmful_rights()
                steps.passed(
                    "rights", "more than reading" if rights else "nothing that the session could not forbid", "; ".join(rights)
                )
                steps.tried("about", lambda: session.about().in_words())
        except LadleError as error:
            steps.failed("rights", error)
        finally:
            session.close()
        return steps.done

    def _reached(self, steps: _Steps, address: Mapping[str, Any], seconds: float) -> bool:
        host, port = str(address["host"]), int(address["port"])

        def listens() -> str:
            knock(host, port, seconds)
            return f"something listens at {host}:{port}"

        return steps.tried("name", lambda: f"{host} is {', '.join(way_in(host, port, seconds).addresses)}") and steps.tried(
            "port", listens
        )

    def _not_opened(
        self, steps: _Steps, error: LadleError, address: Mapping[str, Any], secret: str, connect_timeout_seconds: float
    ) -> None:
        if not self.networked:
            steps.failed("file", error)
        elif isinstance(error, SourceDatabaseMissing):
            steps.passed("login", f"signed in as {address.get('user', '')}")
            there = self.databases(address, secret, connect_timeout_seconds)
            hint = f"There is: {', '.join(there)}." if there else error.hint
            steps.failed("database", SourceDatabaseMissing(error.message, hint))
        elif isinstance(error, SourceTlsRefused):
            steps.failed("encryption", error)
        elif isinstance(error, SourceUnreachable) and error.facts.get("timeout"):
            silent = f"something listens at {address['host']}:{address['port']} and says nothing within {connect_timeout_seconds:g} s."
            steps.failed("login", SourceUnreachable(silent, "It may be hung, or no database of this kind: look at the server."))
        else:
            steps.failed("login" if isinstance(error, (SourceSignInRefused, SourceUnreachable)) else "may read", error)
