"""Steps on behalf of the web, in the processes that judge people's texts."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import duckdb

from patient_ladle.adapters.combining.judge import EngineJudge
from patient_ladle.adapters.combining.shaped import checked_chain
from patient_ladle.adapters.combining.typing import type_of
from patient_ladle.adapters.sources.duckdb_session import SAFE
from patient_ladle.core.errors import BadInput, LadleError
from patient_ladle.core.results.columns import Column
from patient_ladle.core.statements.languages.duckdb import DUCKDB
from patient_ladle.core.steps import declared as d
from patient_ladle.core.steps.at import At, Field
from patient_ladle.core.steps.chain import Chain
from patient_ladle.core.steps.expressions import in_brackets, judge
from patient_ladle.core.steps.lookups import InputTable, Lookup, tables_by_key
from patient_ladle.core.steps.words import in_words
from patient_ladle.core.values.parameters import BoundValues, Parameter, samples


@dataclass(frozen=True, slots=True)
class Understood:
    """Steps that were read: plain JSON, the parameters, the lookups and the inputs that they name."""

    steps: list[dict[str, Any]]
    parameters: tuple[str, ...]
    lookups: tuple[str, ...]
    inputs: tuple[str, ...] = ()


def _engine(values: BoundValues) -> EngineJudge:
    return EngineJudge(duckdb.connect(":memory:", config=SAFE), values)


def expressions_of(step: Any) -> Iterator[tuple[str, str, bool]]:
    """Field, text, and whether it is over groups, of each expression of a step."""
    if isinstance(step, d.Filter):
        yield "where", step.where, False
    if isinstance(step, d.Compute):
        yield "as", step.as_, False
    if isinstance(step, d.Group):
        yield from ((f"columns[{place}].as", each.as_, True) for place, each in enumerate(step.columns))


def understood(given: Any) -> Understood:
    """All that can be told without the result's columns. Raises BadInput; its fact ``where`` names the step and the field."""
    steps = d.steps_of(given)
    engine = _engine(samples([]))
    chain = Chain(engine, [], "", {}, {})
    names: list[str] = []
    for number, step in enumerate(steps):
        at = At(chain, number, step)
        with at.named():
            for field, text, aggregates in expressions_of(step):
                names += DUCKDB.parameters(text)
                judge(engine.tree(in_brackets(text)), at.where(field), aggregates)
    looking = [step for step in steps if isinstance(step, d.LookUp)]
    lookups = dict.fromkeys(step.lookup for step in looking if step.lookup is not None)
    inputs = dict.fromkeys(step.input for step in looking if step.input is not None)
    return Understood(d.plain_steps(steps), tuple(dict.fromkeys(names)), tuple(lookups), tuple(inputs))


def checked(
    given: Any,
    columns: Sequence[Mapping[str, str]],
    parameters: Sequence[Parameter],
    lookups: Sequence[Lookup],
    statement: int,
    inputs: Mapping[str, Sequence[Mapping[str, str]]],
) -> dict[str, Any]:
    """Each step with its words and the columns after it, and what is wrong with the first that is.

    ``columns``: of the result; without them the words are all that can be told. ``inputs``: theirs, of a combination.
    """
    steps = d.steps_of(given)
    start = [Column.from_dict(each) for each in columns]
    met = [InputTable(name, [Field(c["name"], type_of(Column.from_dict(c))) for c in known]) for name, known in inputs.items()]
    engine = _engine(samples(list(parameters)))
    told: list[dict[str, Any]] = [
        {"number": n + 1, "words": in_words(step), "step": d.tag_of(step), "columns": None} for n, step in enumerate(steps)
    ]
    if not start:
        return {"steps": told, "error": None}
    numbered = d.numbered(steps, statement)
    error: LadleError | None = None
    chain = checked_chain(engine, start, (), tables_by_key(lookups, met))
    try:
        chain.extend(numbered)
    except LadleError as found:
        error = found
    for stage in chain.stages:
        told[stage.number]["columns"] = [_column(field) for field in stage.fields]
    return {"steps": told, "error": error.to_dict() if error else None}


def _column(field: Field) -> dict[str, str]:
    return {"name": field.name, "kind": field.kind}


def words_of(given: Any) -> list[str]:
    """Each step as a sentence; of steps that a later release would not read any more, what is kept of them."""
    try:
        return [in_words(step) for step in d.steps_of(given)]
    except BadInput:
        return [json.dumps(each, ensure_ascii=False) for each in given]
