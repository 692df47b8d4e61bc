"""Diagnostics on a statement as it is typed: what its text tells, the database's own word, and what the catalogues add."""

from __future__ import annotations

import time
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from django.utils import timezone

from patient_ladle.core.errors import BadInput, LadleError, from_dict
from patient_ladle.core.statements.diagnostics import Diagnostic, of_refusal, of_unused
from patient_ladle.core.statements.languages import QueryLanguage
from patient_ladle.core.statements.parts import Part, place
from patient_ladle.core.values.parameters import Parameter
from patient_ladle.service.children import combining
from patient_ladle.service.children.judging import judged
from patient_ladle.service.people.models import Person
from patient_ladle.service.sources.models import Address, Environment
from patient_ladle.service.sources.reading import language_of
from patient_ladle.service.sources.understanding import diagnostic_of, elsewhere, kept_catalogue, understand
from patient_ladle.words import amount

from . import inputs
from .inputs import columns_of


@dataclass(frozen=True, slots=True)
class Combined:
    """What a statement without a source combines, in an environment."""

    environment: Environment
    inputs: Sequence[dict[str, Any]]

    def columns(self, person: Person) -> dict[str, Any]:
        """Of each input. Raises what keeps a source from being asked, or an input from being read."""
        return columns_of(person, self.inputs, self.environment)


def tables_of(columns: Mapping[str, Any]) -> list[dict[str, Any]]:
    """Inputs with their columns, as a catalogue has its tables."""

    def shown(column: Mapping[str, str]) -> dict[str, str]:
        kind = column["kind"]
        return {"name": column["name"], "type": column["source_type"] or kind, "kind": kind, "comment": ""}

    return [
        {"schema": "", "name": name, "kind": "table", "columns": [shown(column) for column in each]}
        for name, each in columns.items()
    ]


def diagnose(
    person: Person,
    address: Address | None,
    text: str,
    parameters: Sequence[dict[str, Any]],
    combined: Combined | None = None,
    used: Collection[str] = (),
) -> dict[str, Any]:
    """Diagnostics in the order of their places, and what is known of each statement. ``address``: None without a source, where
    ``combined`` says what is combined; ``used``: names of parameters that something else than the text uses."""
    began = time.monotonic()
    language = language_of(address.source if address else None)
    declared, diagnostics = _declared(parameters)
    usable = not diagnostics
    of_text, parts = judged(language.diagnostics, text, declared)
    needless = of_unused([parameter for parameter in declared if parameter.name in used], set())
    diagnostics += [each for each in of_text if each not in needless]
    described: dict[Part, dict[str, Any]] = {}
    asked = [part for part in parts if usable and not _has_error(text, part, diagnostics)]
    if asked and address:
        try:
            found = understand(person, address, [part.text for part in asked], [p.to_dict() for p in declared])
            described = dict(zip(asked, found, strict=True))
            for part in asked:
                diagnostics += _of_answer(described[part], text, part, language, address)
        except LadleError as error:
            diagnostics += _of_silence(error, text, language, address)
    catalogue = kept_catalogue(address) if address else None
    if asked and combined is not None and combined.inputs:
        found, told = _of_inputs(person, combined, text, asked, declared, language)
        described, diagnostics = dict(zip(asked, found, strict=False)), [*diagnostics, *told]
    if parts and catalogue is not None:
        said = text.lower()
        named = [table for table in catalogue if table["name"].lower() in said]  # the others cannot matter, and are many
        diagnostics += judged(language.diagnostics_on_columns, text, declared, named)
    return {
        "diagnostics": [diagnostic.to_dict() for diagnostic in sorted(diagnostics, key=lambda r: (r.line, r.column))],
        "asked": bool(described),
        "statements": [_shown(text, part, described.get(part, {})) for part in parts],
        "seconds": round(time.monotonic() - began, 3),
    }


def _of_inputs(
    person: Person,
    combined: Combined,
    text: str,
    parts: Sequence[Part],
    declared: Sequence[Parameter],
    language: QueryLanguage,
) -> tuple[list[dict[str, Any]], list[Diagnostic]]:
    """What the combining engine makes of each statement, and what it has against them or keeps it from being asked."""
    try:
        inputs.understood(combined.inputs, "select 1")
        inputs.check(combined.inputs, declared)
        columns = combined.columns(person)
        found = judged(combining.columns_of, [part.text for part in parts], columns, list(declared))
    except BadInput as error:
        return [], [of_refusal(error)]
    except LadleError as error:
        return [], [Diagnostic("warning", error.code, f"an input could not be understood: {error.message}", error.hint)]
    wrong = [(part, from_dict(each["error"])) for part, each in zip(parts, found, strict=True) if "error" in each]
    tables = tables_of(columns)
    return found, [language.diagnostic_on_error(error, text, part.text, tables, []) for part, error in wrong]


def _has_error(text: str, part: Part, diagnostics: Sequence[Diagnostic]) -> bool:
    """Whether the text alone tells that the database would not understand the statement."""
    begins, ends = place(text, part.start), place(text, part.end)
    return any(r.severity == "error" and begins <= (r.line, r.column) <= ends for r in diagnostics)


def _shown(text: str, part: Part, found: dict[str, Any]) -> dict[str, Any]:
    body = text[part.start : part.end]
    first = part.start + len(body) - len(body.lstrip())
    return {
        "title": part.title,
        "line": place(text, first)[0],
        "end_line": place(text, part.end)[0],
        "columns": found.get("columns") or [],
    }


def _declared(parameters: Sequence[dict[str, Any]]) -> tuple[list[Parameter], list[Diagnostic]]:
    """The declarations that can be used, and a diagnostic for each that cannot."""
    declared, diagnostics = [], []
    for item in parameters:
        try:
            declared.append(Parameter.from_dict(item))
        except BadInput as error:
            diagnostics.append(of_refusal(error))
        except TypeError:
            diagnostics.append(Diagnostic("error", "bad_input", "a parameter has no name.", "Give each parameter a name."))
    return declared, diagnostics


def _of_answer(found: dict[str, Any], text: str, part: Part, language: QueryLanguage, address: Address) -> list[Diagnostic]:
    if "error" not in found:
        return []
    return [diagnostic_of(from_dict(found["error"]), language, address, text, part.text)]


def _of_silence(error: LadleError, text: str, language: QueryLanguage, address: Address) -> list[Diagnostic]:
    """The source could not be asked: why, what its last check said, and what its stored catalogue makes of the names."""
    said = f"the source could not be asked: {error.message}"
    failed = next((step for step in address.last_check or [] if not step["passed"]), None)
    if failed and address.last_check_at:
        minutes = int((timezone.now() - address.last_check_at).total_seconds() // 60)
        ago = f"{amount(minutes, 'minute')} ago" if minutes < 120 else f"{minutes // 60} hours ago"
        said += f" The check of this source failed {ago} at {failed['step']}."
    diagnostics = [Diagnostic("warning", error.code, said, error.hint)]
    catalogue = kept_catalogue(address)
    if catalogue is not None:
        diagnostics += language.diagnostics_on_names(text, catalogue, elsewhere(address))
    return diagnostics
