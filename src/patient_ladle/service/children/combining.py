"""Combinations on behalf of the web, in the processes that judge people's texts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import duckdb

from patient_ladle.adapters.combining.combined import described, refuse_out_of_reach
from patient_ladle.adapters.sources.duckdb_session import SAFE
from patient_ladle.core.errors import BadInput, LadleError, of_field
from patient_ladle.core.inputs.declared import inputs_of
from patient_ladle.core.ports import Statement
from patient_ladle.core.results.columns import Column
from patient_ladle.core.statements.languages.duckdb import DUCKDB
from patient_ladle.core.values.parameters import Parameter, samples


def understood(given: Any, statement: str) -> list[dict[str, Any]]:
    """Inputs as they are kept. Raises BadInput where they, or what the statement names, cannot be."""
    with of_field("inputs"):
        inputs = inputs_of(given or [])
    if inputs:
        connection = duckdb.connect(":memory:", config=SAFE)
        with of_field("statement"):
            for part in DUCKDB.parts(statement):
                refuse_out_of_reach(connection, part.text, [each.name for each in inputs], {})
    return [each.to_dict() for each in inputs]


def columns_of(
    parts: Sequence[str], inputs: Mapping[str, Sequence[Mapping[str, str]]], parameters: Sequence[Parameter]
) -> list[dict[str, Any]]:
    """Of each combining statement ``columns``, or the ``error`` that it has over inputs with these columns."""
    known = {name: [Column.from_dict(column) for column in each] for name, each in inputs.items()}
    made: list[dict[str, Any]] = []
    for part in parts:
        try:
            found = described(Statement(part, samples(list(parameters))), known)
        except LadleError as error:
            made.append({"error": error.to_dict()})
        else:
            made.append({"columns": [{"name": c.name, "kind": c.kind, "source_type": c.source_type} for c in found]})
    return made


def in_shape(columns: Sequence[Mapping[str, str]], chosen: Sequence[Any]) -> list[dict[str, str]]:
    """Columns of a result as its output's choice has them. Raises BadInput where one is not there."""
    from patient_ladle.core.files.output import OutputSettings

    known = [Column.from_dict(column) for column in columns]
    try:
        shape = OutputSettings.from_dict({"columns": list(chosen)}).shape("", known)
    except LadleError as error:
        raise BadInput(error.message, error.hint) from error
    return [{"name": c.name, "kind": c.kind, "source_type": c.source_type} for c in shape.columns]
