"""Work on outlines, which is done in the judging processes: nothing here needs the service's records."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from patient_ladle.core.errors import BadInput
from patient_ladle.core.results.source_profile import Subject
from patient_ladle.core.statements.languages import LANGUAGES
from patient_ladle.core.statements.outlines.base import Compiled, Counting, Remark
from patient_ladle.core.statements.outlines.joins import Proposal, proposals
from patient_ladle.core.statements.outlines.looks import whole_tables
from patient_ladle.core.statements.outlines.outline import Outline
from patient_ladle.core.statements.views import Filter
from patient_ladle.core.values.parameters import Parameter

Table = dict[str, Any]


@dataclass(frozen=True, slots=True)
class Compilation:
    """What became of an outline: remarks, and the statement where none of them is an error."""

    remarks: tuple[Remark, ...]
    compiled: Compiled | None


def compiled(language: str, given: Any, catalogue: Sequence[Table] | None, declared: Sequence[Parameter]) -> Compilation:
    """What is to be said of it, and its statement."""
    outlines = LANGUAGES[language].outlines()
    try:
        outline = Outline.from_dict(given)
    except BadInput as error:
        return Compilation((Remark.of(error),), None)
    remarks = tuple(outlines.remarks(outline, catalogue, declared))
    wrong = any(each.severity == "error" for each in remarks)
    return Compilation(remarks, None if wrong else outlines.compiled(outline, catalogue, declared))


def proposed(given: Any, table: str, catalogue: list[Table], alias: str) -> list[Proposal]:
    """How a table may join those of an outline. Raises BadInput and its family."""
    return proposals(Outline.from_dict(given), table, catalogue, alias)


def read_back(language: str, text: str, catalogue: list[Table] | None, declared: list[Parameter]) -> tuple[Outline, str]:
    """The outline of a statement, and what it compiles to. Raises BadInput that says what would be lost."""
    outlines = LANGUAGES[language].outlines()
    outline = outlines.read(text, catalogue, declared)
    wrong = [each for each in outlines.remarks(outline, catalogue, declared) if each.severity == "error"]
    if wrong:
        raise BadInput(f"the statement cannot be an outline: {wrong[0].message}", wrong[0].hint)
    return outline, outlines.compiled(outline, catalogue, declared).statement


def counted(language: str, given: Any, catalogue: list[Table] | None, declared: list[Parameter]) -> Counting:
    """What counts the rows after each part. Raises BadInput."""
    outlines = LANGUAGES[language].outlines()
    outline = Outline.from_dict(given)
    wrong = [each for each in outlines.remarks(outline, catalogue, declared) if each.severity == "error"]
    if wrong:
        raise BadInput(f"{wrong[0].to_dict()['part']}: {wrong[0].message}", wrong[0].hint, where=wrong[0].where)
    return outlines.counting(outline, catalogue, declared)


def whole(language: str, names: list[str], catalogue: list[Table], labels: bool) -> str:
    """Statements for tables as they are. Raises BadInput and its family."""
    return LANGUAGES[language].outlines().together(whole_tables(names, catalogue, labels), catalogue)


def profile_can_be_told(language: str, table: Table, column: str, filters: Sequence[Filter]) -> None:
    """Whether there is such a column, and filters that fit. Raises BadInput and its family."""
    Subject(LANGUAGES[language], table, column, filters).checked()
