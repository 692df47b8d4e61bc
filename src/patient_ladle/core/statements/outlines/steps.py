"""How many rows there are after each table and each condition of an outline: where rows are lost, where they double."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import msgspec

from ...values.parameters import Parameter
from .base import Counting, Step
from .compiling import Writer
from .outline import Condition, Outline, Place, Shown, Term
from .tables import Tables

_COUNT = (Shown(aggregate="count", name="row_count"),)


@dataclass(frozen=True, slots=True)
class _Asked:
    step: Step
    outline: Outline
    most: bool = False


def steps(outline: Outline) -> Iterator[tuple[str, Outline]]:
    """The path of each part that changes how many rows there are, and the outline that counts them after it."""
    made = Outline(from_=outline.from_, show=_COUNT)
    yield "from", made
    for number, join in enumerate(outline.with_):
        made = msgspec.structs.replace(made, with_=(*made.with_, join))
        yield f"with[{number}]", made
    where = outline.where
    if where is None:
        return
    if where.all_ is None:
        yield "where", msgspec.structs.replace(made, where=where)
        return
    for number in range(len(where.all_)):
        yield f"where.all[{number}]", msgspec.structs.replace(made, where=Condition(all_=where.all_[: number + 1]))


def counting(outline: Outline, tables: Tables, writer: Writer) -> Counting:
    """One statement with a column for each step: all of one moment. Raises BadInput."""
    asked: list[_Asked] = []
    for where, counted in steps(outline):
        asked.append(_Asked(Step(f"step_{len(asked) + 1}", where, "rows"), counted))
        if where.startswith("with["):
            join = outline.with_[int(where[5:-1])]
            columns = tuple(dict.fromkeys(pair.right for pair in join.on if pair.is_ == "="))
            own = [tables.column(each, where).name for each in columns]
            if own and tables.is_key(join.alias, own) is False:
                alone = Outline(
                    from_=Place(table=join.table, as_=join.said_as), show=_COUNT,
                    grouped=tuple(Term(column=c) for c in columns),
                    where=Condition(all_=tuple(Condition(column=c, test="is_not_null") for c in columns)),
                )  # fmt: skip
                asked.append(_Asked(Step(f"step_{len(asked) + 1}", where, "times"), alone, most=True))
    parts: list[str] = []
    parameters: dict[str, Parameter] = {}
    for each in asked:
        made = writer.of(each.outline)
        compiled = made.compiled()
        parameters |= {parameter.name: parameter for parameter in compiled.parameters}
        inner = compiled.statement.replace("\n", "\n     ")
        if each.most:
            inner = f"select max(row_count) from (\n     {inner}) as each_of"
        parts.append(f"  ({inner}) as {each.step.name}")
    return Counting("select\n" + ",\n".join(parts), tuple(parameters.values()), tuple(each.step for each in asked))
