"""Inputs of combinations: checked against the extracts and lookups that they name, now and as these change."""

from __future__ import annotations

from collections.abc import Callable, Container, Iterator, Mapping, Sequence
from datetime import date, datetime, timezone
from typing import Any

from django.db.models import Q

from patient_ladle.adapters.readers import INPUTS, VALUES
from patient_ladle.core.errors import BadInput, Conflict, LadleError, StatementWrong, from_dict, of_field, unknown_name
from patient_ladle.core.inputs.declared import DEEPEST, Input, in_order, inputs_of, is_handed, refused
from patient_ladle.core.values.parameters import BUILT_IN, SOME_DAY, BoundValues, Parameter, resolve
from patient_ladle.service.children import combining, stepping
from patient_ladle.service.children.judging import judged
from patient_ladle.service.lookups.services import lookup_named, resolved, tables_of, with_allowed
from patient_ladle.service.people.models import Person
from patient_ladle.service.sources.models import Environment, Source
from patient_ladle.service.sources.queries import address_in
from patient_ladle.service.sources.reading import Reading, language_of
from patient_ladle.service.sources.understanding import understand

from .models import Extract, FormerName, Revision, with_heads
from .named import input_extract
from .shared_values import with_shared
from .steps import lookups_of


def understood(given: Any, statement: str) -> list[dict[str, Any]]:
    """Inputs as they are kept; all that can be told of them and of the statement by themselves. Raises BadInput."""
    return judged(combining.understood, given or [], statement)


def check(inputs: Sequence[Mapping[str, Any]], declared: Sequence[Parameter], name: str = "") -> None:
    """What inputs name is there and fits; nothing reads itself. ``name``: of the combination, empty while it has none.

    Raises BadInput and its family, with the fact ``where``.
    """
    own = {parameter.name: parameter for parameter in declared}
    for number, each in enumerate(inputs_of(inputs)):
        if each.lookup:
            with _of_input(number, "lookup"):
                if lookup_named(each.lookup).archived_at is not None:
                    raise Conflict(
                        f"the lookup '{each.lookup}' is archived.", f"Restore it: ladle lookup restore {each.lookup}."
                    )
            continue
        with _of_input(number, "extract"):
            extract = input_extract(each.extract)
        _check_values(number, each, extract.head, own)
        parts = len(judged(language_of(extract.head.source).parts, extract.head.statement))
        if each.statement > max(parts, 1):
            what = f"'{extract.name}' has {parts} statements, and there is no number {each.statement}"
            raise refused(number, "statement", what, f"Give 1 to {parts}." if parts > 1 else "Leave it out.")
    _check_circles(name, inputs)


class _of_input:
    """Refusals from within are of one field of one input."""

    def __init__(self, number: int, field: str) -> None:
        self.number, self.field = number, field

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind: Any, error: BaseException | None, trace: Any) -> None:
        if isinstance(error, LadleError) and "where" not in error.facts:
            at = f"inputs[{self.number}].{self.field}"
            made = type(error)(f"input {self.number + 1}: {error.message}", error.hint, **{**error.facts, "where": at})
            raise made from error


def _check_values(number: int, given: Input, revision: Revision, own: Mapping[str, Parameter]) -> None:
    theirs = {parameter.name: parameter for parameter in revision.declared}
    for name in given.values:
        if name not in theirs:
            with _of_input(number, f"values.{name}"):
                raise unknown_name("parameter", name, theirs, f"'{given.extract}' has none.")
    for name, value in given.constants().items():
        if value is not None:
            with _of_input(number, f"values.{name}"):
                [parameter] = with_allowed([theirs[name]])
                parameter.read(value, SOME_DAY)
    _check_handed(number, given, theirs, own)
    for name in given.drawn():
        if not theirs[name].is_list:
            hint = 'Declare it there as a list: "is_list": true.'
            raise refused(
                number, f"values.{name}", f"'{name}' of '{given.extract}' takes one value, and a column has many", hint
            )
    for name, parameter in theirs.items():
        if parameter.required and parameter.default is None and not parameter.shared and given.values.get(name) is None:
            what = f"the parameter '{name}' of '{given.extract}' needs a value"
            raise refused(number, f"values.{name}", what, 'Give one, or hand one on: {"parameter": …}.')


def _check_handed(number: int, given: Input, theirs: Mapping[str, Parameter], own: Mapping[str, Parameter]) -> None:
    for name, handed in given.handed().items():
        parameter = own.get(handed) or BUILT_IN.get(handed)
        if parameter is None:
            with _of_input(number, f"values.{name}"):
                raise unknown_name("parameter", handed, [*own, *BUILT_IN], "The combination declares none.")
        if parameter.sensitive and not theirs[name].sensitive:
            what = f"'{handed}' is sensitive, and '{name}' of '{given.extract}' is not"
            raise refused(number, f"values.{name}", what, "Make that one sensitive, too: its values are shown and kept.")


def _check_circles(name: str, inputs: Sequence[Mapping[str, Any]]) -> None:
    """Raises Conflict where a combination would need its own result, BadInput where it is too deep."""

    def walk(way: tuple[str, ...], inputs: Sequence[Mapping[str, Any]]) -> None:
        if len(way) > DEEPEST:
            shown = " → ".join(way)
            raise BadInput(
                f"combinations stand in each other {len(way)} deep ({shown}); at most {DEEPEST} are taken.",
                "Combine more in one statement.",
            )
        for each in inputs:
            if not each.get("extract"):
                continue
            extract = input_extract(each["extract"])
            if extract.name in way:
                raise Conflict(
                    f"'{way[0]}' would need its own result ({' → '.join([*way, extract.name])}).",
                    "Take one of them out of the circle.",
                )
            if extract.head.inputs:
                walk((*way, extract.name), extract.head.inputs)

    with of_field("inputs"):
        walk((name or "the combination",), inputs)


def handed_in(given: Mapping[str, Any]) -> list[str]:
    """Names of the parameters that an input, not checked yet, hands on."""
    values = given.get("values")
    return [str(v["parameter"]) for v in values.values() if is_handed(v)] if isinstance(values, Mapping) else []


def users_of(extract: Extract) -> list[str]:
    """Names of the combinations whose newest revision has it as an input."""
    names = {extract.name, *FormerName.objects.filter(extract=extract).values_list("name", flat=True)}
    named = Q()
    for name in names:
        named |= Q(inputs__contains=[{"extract": name}])
    found = Revision.objects.filter(named).values_list("extract", flat=True)
    heads = with_heads(Extract.objects.filter(pk__in=found, archived_at=None))
    return sorted(each.name for each in heads if any(one.get("extract") in names for one in each.head.inputs))


def _nowhere_known(revision: Revision, statement: int) -> list[dict[str, str]]:
    return []


columns_of_last_run: Callable[[Revision, int], list[dict[str, str]]] = _nowhere_known
"""Columns that a result of the extract had last, as its files have them; the ledger, above, lends what looks there."""


def columns_of(person: Person, inputs: Sequence[Mapping[str, Any]], environment: Environment) -> dict[str, Any]:
    """Columns of each input, by its name, as the sources understand the statements; nothing is read.

    Raises what keeps a source from being asked, StatementWrong for what it refuses.
    """
    found: dict[str, Any] = {}
    for each in inputs_of(inputs):
        if each.lookup:
            [table] = tables_of([each.lookup])
            found[each.name] = [{"name": c.name, "kind": c.kind, "source_type": ""} for c in table.columns]
        else:
            found[each.name] = _columns_of_extract(person, input_extract(each.extract).head, each.statement, environment)
    return found


def _columns_of_extract(person: Person, revision: Revision, statement: int, environment: Environment) -> list[Any]:
    language = language_of(revision.source)
    part = judged(language.parts, revision.statement)[statement - 1]
    plain = [parameter.to_dict() for parameter in revision.declared]
    inner: dict[str, Any] = {}
    if revision.source is not None:
        [answer] = understand(person, address_in(revision.source, environment), [part.text], plain)
    else:
        inner = columns_of(person, revision.inputs, environment)
        [answer] = judged(combining.columns_of, [part.text], inner, list(revision.declared))
    if "error" in answer:
        error = from_dict(answer["error"])
        raise StatementWrong(f"'{revision.extract.name}' cannot be understood: {error.message}", error.hint)
    columns = answer["columns"] or columns_of_last_run(revision, statement)
    if not columns:
        raise Conflict(
            f"the columns of '{revision.extract.name}' are known once it was read.",
            "Preview the combination, or run that extract once.",
        )
    if revision.steps and answer["columns"]:
        lookups = lookups_of(revision.steps)
        told = judged(stepping.checked, revision.steps, columns, list(revision.declared), lookups, statement, inner)
        if told["error"]:
            raise from_dict(told["error"])
        columns = next((step["columns"] for step in reversed(told["steps"]) if step["columns"]), columns)
    chosen = list(_choice(revision.output, part.title))
    return judged(combining.in_shape, columns, chosen) if chosen and answer["columns"] else list(columns)


def _choice(output: Mapping[str, Any], title: str) -> Iterator[Any]:
    columns = output.get("columns") or []
    yield from columns if isinstance(columns, list) else columns.get(title) or columns.get("") or []


def live_reader(
    inputs: Sequence[Mapping[str, Any]], statement: str, environment: Environment, values: BoundValues, day: date
) -> tuple[dict[str, Any], set[Source]]:
    """What a preview of a statement without a source reads, checked, and the sources that its inputs read."""
    if not inputs:
        return VALUES.job(), set()
    understood(inputs, statement)
    with of_field("inputs"):
        check(inputs, [each for each in values.parameters.values() if each.name not in BUILT_IN])
        jobs, reads = live_jobs(inputs, environment, values, (), day, datetime.now(timezone.utc))
    return INPUTS.job(jobs), reads


def live_jobs(
    inputs: Sequence[Mapping[str, Any]], environment: Environment, values: BoundValues, drawn: Container[str], day: date,
    now: datetime,
) -> tuple[list[dict[str, Any]], set[Source]]:  # fmt: skip
    """What a preview loads of each input, in the order in which they are, and the sources that are read for it.

    ``values``: of the combination; ``drawn``: names of those that come from a column, and are not known yet. Raises BadInput
    and its family.
    """
    jobs: list[dict[str, Any]] = []
    reads: set[Source] = set()
    for each in in_order(inputs_of(inputs)):
        if each.lookup:
            [table] = tables_of([each.lookup])
            jobs.append({"kind": "lookup", "name": each.name, "lookup": table.to_dict()})
            continue
        unknown = next((name for name in each.handed().values() if name in drawn), None)
        if unknown is not None:
            raise BadInput(
                f"'{unknown}' takes the values of a column and hands them on to input '{each.name}': that has no preview.",
                "Start a run that is not published: its files stay in the store.",
            )
        made, sources = _live_job(each, environment, values, day, now)
        jobs.append(made)
        reads |= sources
    return jobs, reads


def values_handed(given: Input, values: BoundValues) -> dict[str, Any]:
    """What an input is given, constants and parameters of the combination, without what is null."""
    handed = {name: values.handed(parameter) for name, parameter in given.handed().items()}
    return {name: value for name, value in {**given.constants(), **handed}.items() if value is not None}


def _given_to(given: Input, revision: Revision, environment: Environment, values: BoundValues) -> dict[str, Any]:
    """The same with shared values, and with empty lists for what will come from columns."""
    wanted = {**values_handed(given, values), **{name: [] for name in given.drawn()}}
    return with_shared(revision.declared, wanted, environment)


def _live_job(
    given: Input, environment: Environment, values: BoundValues, day: date, now: datetime
) -> tuple[dict[str, Any], set[Source]]:
    revision = input_extract(given.extract).head
    drawn = {name: {"input": of.input, "column": of.column} for name, of in given.drawn().items()}
    own = _given_to(given, revision, environment, values)
    part = judged(language_of(revision.source).parts, revision.statement)[given.statement - 1]
    declared = with_allowed(revision.declared, own)
    bound = resolve(declared, own, day, now)
    reads = {revision.source} if revision.source else set[Source]()
    if revision.inputs:
        inner, reads = live_jobs(revision.inputs, environment, bound, drawn, day, now)
        reader = INPUTS.job(inner)
    else:
        reader = Reading(revision.source, environment).reader()
    return {
        "kind": "live",
        "name": given.name,
        "reader": reader,
        "statement": part.text,
        "statement_number": given.statement,
        "title": part.title,
        "parameters": [parameter.to_dict() for parameter in declared],
        "values": own,
        "drawn": drawn,
        "data_date": day.isoformat(),
        "due_at": now.isoformat(),
        "steps": revision.steps,
        "lookups": [each.to_dict() for each in lookups_of(revision.steps)],
        "output": revision.output,
    }, reads


def foreseen(
    inputs: Sequence[Mapping[str, Any]], environment: Environment, values: BoundValues, day: date, now: datetime
) -> list[dict[str, Any]]:
    """What each input would be, with its values in words; nothing is read. Raises BadInput and its family."""
    told: list[dict[str, Any]] = []
    for each in inputs_of(inputs):
        if each.lookup:
            found = {
                "extract": "",
                "lookup": each.lookup,
                "revision": lookup_named(each.lookup).number,
                "source": "",
                "values": {},
            }
        else:
            revision = input_extract(each.extract).head
            bound = resolved(revision.declared, _given_to(each, revision, environment, values), day, now).as_text()
            drawn = {name: f"the values of {of.input}.{of.column}" for name, of in each.drawn().items()}
            found = {
                "extract": revision.extract.name, "lookup": "", "revision": revision.number, "source": revision.source_name,
                "values": bound | drawn,
            }  # fmt: skip
        told.append({"name": each.name, **found})
    return told
