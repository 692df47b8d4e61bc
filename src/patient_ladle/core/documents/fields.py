"""What a sample of documents tells of a collection's fields: path, types with their share, how often absent, a few values."""

from __future__ import annotations

from ..statements.catalogue import TableColumn
from .table import DocumentTable
from .values import KINDS, NULL, UNDEFINED

EXAMPLES = 3
_LONGEST = 24
"""Characters of a value that is shown as an example."""


def fields_of(sample: DocumentTable) -> list[TableColumn]:
    """The fields in the order in which documents have them."""
    columns = sample.columns()
    examples = _examples(sample)
    made = []
    for path, column in zip(sample.paths, columns, strict=True):
        seen = {code: seen.rows for (other, code), seen in sample.seen.items() if other == path}
        types = {KINDS[code][1]: rows for code, rows in seen.items() if code in KINDS}
        held = sum(types.values())
        type_ = ", ".join(types) or "null"
        if len(types) > 1:
            shares = sorted(types.items(), key=lambda pair: -pair[1])
            type_ = ", ".join(f"{name} {_share(rows, held)}" for name, rows in shares)
        kind = column.kind
        if kind == "any":  # a filter finds what is of its own type: that of most
            kind = KINDS[max((code for code in seen if code in KINDS), key=seen.__getitem__)][0] if column.note else "float"
        absent = sample.rows - held
        said = [f"no value in {_share(absent, sample.rows)} of {sample.rows:,} documents"] if absent else []
        said += [f"such as {', '.join(examples[column.name])}"] if examples.get(column.name) else []
        nullable = absent > 0 or NULL in seen or UNDEFINED in seen
        made.append(TableColumn(column.name, type_, kind, nullable, None, "; ".join(said)))
    return made


def _share(part: int, whole: int) -> str:
    percent = 100 * part / whole
    return f"{percent:.0f} %" if percent >= 1 else "under 1 %"


def _examples(sample: DocumentTable) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for batch in sample.batches():
        for column, cells in zip(sample.made, batch.cells, strict=True):
            mine = found.setdefault(column.name, [])
            if len(mine) < EXAMPLES and column.kind not in ("binary", "json"):
                distinct = [text for text in cells.drop_null().unique().to_pylist() if text and text not in mine]
                mine += [
                    text if len(text) <= _LONGEST else text[: _LONGEST - 1] + "…" for text in distinct[: EXAMPLES - len(mine)]
                ]
    return found
