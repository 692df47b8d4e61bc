"""The combining engine, asked while steps are compiled: see ``Judge``."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any

import duckdb

from patient_ladle.core.errors import BadInput, LadleError, StatementFailed, StatementWrong
from patient_ladle.core.ports import Statement
from patient_ladle.core.results.arrow_text import canonical_array
from patient_ladle.core.statements.languages.duckdb import DUCKDB
from patient_ladle.core.statements.scanner import replace_parameters
from patient_ladle.core.steps.at import Field, is_own
from patient_ladle.core.values.parameters import BoundValues

from ..sources.duckdb_session import bind_values, translate


class EngineJudge:
    """``live``: there are rows, so that values in them can be found."""

    def __init__(self, connection: duckdb.DuckDBPyConnection, values: BoundValues, live: bool = False) -> None:
        self.connection, self.values, self.live = connection, values, live

    def tree(self, expression: str) -> Mapping[str, Any]:
        text = "select " + replace_parameters(expression, DUCKDB, lambda name: f"$p_{name}").text
        found: Mapping[str, Any] = json.loads(self._asked("select json_serialize_sql(?)", [text])[0][0])
        return found

    def described(self, query: str) -> list[Field]:
        text, bound = self._bound(query)
        return [Field(str(name), str(kind)) for name, kind, *_ in self._asked(f"describe {text}", bound)]

    def fits(self, text: str, type_: str) -> bool:
        exact = re.sub(r"DECIMAL\(.*\)", "DECIMAL(38, 18)", type_)
        [(fits,)] = self._asked(f"select try_cast($1 as {exact}) = try_cast($1 as {type_})", [text])
        return bool(fits)

    def found(self, query: str) -> list[Any] | None:
        if not self.live:
            return None
        text, bound = self._bound(query)
        try:
            table = self.connection.sql(text, params=bound).to_arrow_table()
        except duckdb.Error as error:
            raise translated(error) from error
        return list(canonical_array(table.column(0).combine_chunks()).to_pylist())

    def row(self, query: str) -> tuple[Any, ...]:
        """The only row of a statement."""
        text, bound = self._bound(query)
        [row] = self._asked(text, bound)
        return row

    def _bound(self, query: str) -> tuple[str, dict[str, Any] | None]:
        made, bound = bind_values(Statement(query, self.values), query)
        return made.text, bound or None

    def _asked(self, query: str, bound: Any) -> list[tuple[Any, ...]]:
        try:
            return self.connection.execute(query, bound).fetchall()
        except duckdb.Error as error:
            raise translated(error) from error


_TOLD = (
    (r"^Division by zero", "a division by zero", "Write nullif(b, 0) below the line, which gives null there."),
    (
        r"(?i)^Overflow|out of range",
        "a number grows beyond what its kind holds",
        "Cast to double, or compute with smaller numbers.",
    ),
)
"""What the engine says while it reckons, in words that help whoever wrote a step."""


def translated(error: duckdb.Error) -> LadleError:
    """An error of the engine, while steps are compiled or carried out."""
    return _in_words(translate(error), str(error))


def raise_in_words(error: LadleError) -> None:
    """Of a statement while it is carried out: raises what helps whoever wrote it, where that is another error; a refusal ends a
    run as any wrong statement does."""
    made = _in_words(error, error.message.partition(": ")[2])
    if isinstance(made, BadInput):
        made = StatementWrong(made.message, made.hint, **made.facts)
    if made is not error:
        raise made from error


def _in_words(error: LadleError, text: str) -> LadleError:
    said = re.sub(r"^[A-Za-z ]+ Error: ", "", text.strip().splitlines()[0]) if text.strip() else ""
    for pattern, words, hint in _TOLD:
        if re.search(pattern, said):
            return StatementFailed(f"{words}: {re.sub(r'[.!]+( .*)?$', '', said)}.", hint)
    return error


def refuse_own_names(names: list[str]) -> None:
    """A column that is called as the hidden one would be taken for it. Raises BadInput."""
    if any(is_own(name) for name in names):
        raise BadInput(
            "a column is called 'ladle row', which the service uses itself.", "Give it another name in the statement."
        )
