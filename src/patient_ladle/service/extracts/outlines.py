"""Outlines in the service: compiled against a source's stored catalogue, kept beside the text in a revision."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from patient_ladle.core.errors import BadInput
from patient_ladle.core.statements.outlines.base import Counting
from patient_ladle.core.statements.outlines.joins import Proposal
from patient_ladle.core.statements.outlines.looks import of_look
from patient_ladle.core.statements.outlines.outline import Outline
from patient_ladle.core.statements.views import Filter
from patient_ladle.core.values.parameters import Parameter
from patient_ladle.service.children import outlining
from patient_ladle.service.children.judging import judged
from patient_ladle.service.sources.models import Address, Source
from patient_ladle.service.sources.queries import source_named
from patient_ladle.service.sources.reading import language_of
from patient_ladle.service.sources.understanding import kept_catalogue

from .sensitive_values import opened_declaration

FROM_OUTLINE = "said in the outline"
"""The note of a parameter that an outline has brought: a date phrase of one of its conditions."""
Table = dict[str, Any]


def catalogue_of(source: Source | None, address: Address | None = None) -> list[Table] | None:
    """The stored catalogue of an address, or else the newest of the source's; None where none was gathered."""
    if address is not None and address.catalogue_at is not None:
        return kept_catalogue(address)
    if source is None:
        return None
    newest = Address.objects.filter(source=source).exclude(catalogue_at=None).order_by("-catalogue_at").first()
    return kept_catalogue(newest) if newest else None


def about(catalogue: Sequence[Table] | None, names: Iterable[str]) -> list[Table] | None:
    """The catalogue with columns of these tables only: the others cannot matter but by name and keys, and are many."""
    if catalogue is None:
        return None
    wanted = {name.rpartition(".")[2].lower() for name in names}
    return [table if table["name"].lower() in wanted else table | {"columns": []} for table in catalogue]


def named_in(outline: Any) -> list[str]:
    """Names of tables in an outline that is not checked yet."""
    given = outline if isinstance(outline, Mapping) else {}
    joins = given.get("with") if isinstance(given.get("with"), list) else []
    places = [given.get("from"), *(joins or [])]
    return [str(place.get("table", "")) for place in places if isinstance(place, Mapping)]


def in_order(kept: Any) -> Any:
    """A kept outline with its parts in the order in which one thinks; one of a schema that is not read any more as it is."""
    try:
        return None if kept is None else Outline.from_dict(kept).to_dict()
    except BadInput:
        return kept


def compile_outline(
    source: Source | None, given: Any, declared: Sequence[Parameter], address: Address | None = None
) -> outlining.Compilation:
    """Remarks and statement. Raises BadInput where the source's language knows no outlines."""
    catalogue = about(catalogue_of(source, address), named_in(given))
    return judged(outlining.compiled, language_of(source).name, given, catalogue, list(declared))


def with_statement(content: dict[str, Any], before: Mapping[str, Any] | None) -> dict[str, Any]:
    """The content to be saved, its statement from the outline where one is given. Raises BadInput.

    A statement by hand leaves the outline behind: it stays with the revision that it belongs to.
    """
    if content.get("outline") is None:
        changed = "statement" in content and (before is None or content["statement"] != before["statement"])
        if changed:
            given = content.get("parameters")
            kept = merged(given if given is not None else (before or {}).get("parameters") or [], (), content["statement"])
            return content | {"outline": None, "parameters": kept}
        if before is None and "statement" not in content:
            raise BadInput("neither a statement nor an outline is given.", "Give one of them.", field="statement")
        return content
    source = content["source"] if "source" in content else (before or {}).get("source") or ""
    given = content.get("parameters")
    declarations = list(given if given is not None else (before or {}).get("parameters") or [])
    declared = [Parameter.from_dict(opened_declaration(item)) for item in declarations]
    made = compile_outline(source_named(source) if source else None, content["outline"], declared)
    if made.compiled is None:
        first = made.remarks[0]
        words = f"{first.to_dict()['part']}: {first.message}" if first.where else first.message
        raise BadInput(f"the outline: {words}", first.hint, field="outline", where=first.where)
    statement = made.compiled.statement
    if "statement" in content and content["statement"].strip() != statement.strip():
        raise BadInput(
            "the statement is not what the outline compiles to.", "Give one of them: the outline, or the text.", field="outline"
        )
    outline = Outline.from_dict(content["outline"]).to_dict()
    return content | {
        "outline": outline,
        "statement": content.get("statement", statement),
        "parameters": merged(declarations, made.compiled.parameters, statement),
    }


def merged(declarations: Sequence[Mapping[str, Any]], brought: Sequence[Parameter], statement: str) -> list[dict[str, Any]]:
    """The declarations with those that an outline brings; those that an earlier state of it brought are gone."""
    own = {each.name: each for each in brought}
    kept = [
        dict(item) | ({"default": own[item["name"]].default} if item["name"] in own else {})
        for item in declarations
        if item.get("note") != FROM_OUTLINE or item["name"] in own or f":{item['name']}" in statement
    ]
    names = {item["name"] for item in kept}
    return kept + [each.to_dict() | {"note": FROM_OUTLINE} for each in brought if each.name not in names]


def proposed_joins(source: Source, given: Any, table: str, alias: str, address: Address | None) -> list[Proposal]:
    """How a table may join those of an outline. Raises BadInput and its family."""
    catalogue = gathered(source, address)
    return judged(outlining.proposed, given, table, about(catalogue, [*named_in(given), table]) or [], alias)


def gathered(source: Source, address: Address | None) -> list[Table]:
    """The stored catalogue. Raises BadInput where none was gathered."""
    catalogue = catalogue_of(source, address)
    if catalogue is None:
        raise BadInput(
            f"the tables of source '{source.name}' have not been looked at.", f"Look first: ladle source browse {source.name}."
        )
    return catalogue


def read_back(source: Source | None, text: str, declared: Sequence[Parameter], address: Address | None) -> tuple[Outline, str]:
    """The outline of a statement by hand, and what it compiles to. Raises BadInput that says what would be lost."""
    catalogue = catalogue_of(source, address)
    said = text.lower()
    named = [table["name"] for table in catalogue or [] if table["name"].lower() in said]
    return judged(outlining.read_back, language_of(source).name, text, about(catalogue, named), list(declared))


def counted(source: Source | None, given: Any, declared: Sequence[Parameter], address: Address | None) -> Counting:
    """What counts the rows after each table and each condition. Raises BadInput."""
    catalogue = about(catalogue_of(source, address), named_in(given))
    return judged(outlining.counted, language_of(source).name, given, catalogue, list(declared))


def of_whole_tables(source: Source, names: Sequence[str], labels: bool, address: Address | None) -> str:
    """Statements for tables as they are. Raises BadInput and its family."""
    catalogue = gathered(source, address)
    return judged(outlining.whole, language_of(source).name, list(names), catalogue, labels)


def looked(table: Mapping[str, Any], look: Mapping[str, Any], as_parameters: bool) -> tuple[Outline, list[Parameter]]:
    """The outline of a look at a table. Raises BadInput and its family."""
    filters = [Filter.from_dict(each) for each in look.get("filters") or ()]
    columns = look.get("columns") or ()
    sort, descending = str(look.get("sort") or ""), bool(look.get("descending"))
    return of_look(table, filters, sort, descending, columns, as_parameters)
