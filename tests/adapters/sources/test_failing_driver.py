"""Whatever a driver raises, and whenever, comes out of a session as an error of ours."""

from __future__ import annotations

from contextlib import contextmanager

import pytest

from patient_ladle.adapters.sources import postgresql
from patient_ladle.core.errors import LadleError
from patient_ladle.core.ports import Statement

from .test_contract import any_case as case  # noqa: F401  # a fixture

METHODS = {
    "identity": lambda session: session.identity(),
    "describe": lambda session: session.describe(session.asked),
    "understand": lambda session: session.understand(session.asked),
    "probe": lambda session: session.probe(),
    "release_snapshot": lambda session: session.release_snapshot(),
    "prove_read_only": lambda session: session.prove_read_only(),
    "harmful_rights": lambda session: session.harmful_rights(),
    "about": lambda session: session.about(),
    "catalogue": lambda session: session.catalogue(),
    "rows": lambda session: list(session.batches()),
    "first rows": lambda session: list(session.batches(soon=True)),
}


class Broken:
    """Every call of it, or of anything that it has, raises."""

    def __init__(self, error):
        self.__dict__["error"] = error

    def __getattr__(self, name):
        return self

    def __setattr__(self, name, value):
        return None

    def __call__(self, *args, **given):
        raise self.error

    def __enter__(self):
        raise self.error

    def __iter__(self):
        raise self.error

    def __exit__(self, *about):
        return None


@contextmanager
def broken(case, error_class, described=False):  # noqa: F811
    """A session whose driver breaks from now on; what it held is closed in the end."""
    session = case.open()
    session.asked = Statement(case.one)
    if described:
        session.describe(session.asked)
    real, error = session.connection, error_class("the driver broke")
    session.connection = Broken(error)
    if hasattr(session, "rows"):  # what takes rows off the wire holds the connection too
        session.rows.connection = session.connection
    if getattr(session, "cursor", None) is not None:
        session.cursor = session.connection
    yield session
    session.connection = real
    if hasattr(session, "rows"):
        session.rows.connection = real
    session.close()


def kinds_of_errors(case):  # noqa: F811
    """Of the driver, and of the line to a server."""
    session = case.open()
    session.close()
    classes = session.driver_errors
    own = [each for base in classes for each in base.__subclasses__() if base is not OSError]
    return [*classes, *own, *([ConnectionResetError, TimeoutError] if OSError in classes else [])]


@pytest.mark.parametrize("name", METHODS)
def test_a_driver_that_fails_gives_an_error_of_ours(case, name, monkeypatch):  # noqa: F811
    for error_class in kinds_of_errors(case):
        with broken(case, error_class, described="rows" in name) as session:
            monkeypatch.setattr(postgresql, "RawServerCursor", session.connection)  # one of a broken connection warns
            try:
                METHODS[name](session)
            except LadleError as error:
                assert error.message
                assert error.hint
            session.stop()
            session.let_go()


def test_those_that_ask_the_driver_do_fail(case):  # noqa: F811
    """So that the test above does not pass because nothing was asked."""
    for name in getattr(case.words, "ASKS", ("describe", "prove_read_only", "rows")):
        with (
            broken(case, sorted(kinds_of_errors(case), key=str)[0], described=name == "rows") as session,
            pytest.raises(LadleError),
        ):
            METHODS[name](session)
