"""A query language that is no SQL, and an engine that speaks it, to see that nothing else need know of either.

    # Districts of the north
    pick name, zone from districts
    where zone is :zone
    ---
    pick reading from readings

A line of three dashes parts statements; the first comment of each is its title. A value filled in stands in angle brackets
after its parameter's name: ``<zone: "North">``.
"""

from __future__ import annotations

import json
import re

from patient_ladle.adapters.sources.memory import MemoryEngine
from patient_ladle.core.errors import BadInput, StatementRefused, StatementWrong
from patient_ladle.core.results.columns import Column
from patient_ladle.core.statements.languages import QueryLanguage
from patient_ladle.core.statements.parts import Part, Rendered, place, refuse_unfit, refused_at
from patient_ladle.core.values.parameters import MASK, as_text

_PARAMETER = re.compile(r":([a-z_][a-z0-9_]*)(?!\w)")
_FILLED = re.compile(r"<([a-z_][a-z0-9_]*): ((?:[^<>\"]|\"(?:[^\"\\]|\\.)*\")*)>")
_PICK = re.compile(r"pick\s+([\w, ]+?)\s+from\s+(\w+)(?:\s+where\s+(\w+)\s+is\s+(?::(\w+)|<\w+: (.*)>))?\s*\Z")


def _written(value):
    """As JSON, where all but letters, digits and spaces stands as its code units: nothing in it is a sign of the language."""
    if not isinstance(value, str):
        return json.dumps(value)
    units = value.encode("utf-16-be")
    pairs = [units[at : at + 2] for at in range(0, len(units), 2)]
    plain = [pair.decode("utf-16-be", "replace") for pair in pairs]
    return (
        '"'
        + "".join(c if re.fullmatch("[A-Za-z0-9 ]", c) else f"\\u{p.hex()}" for c, p in zip(plain, pairs, strict=True))
        + '"'
    )


class ToyLanguage(QueryLanguage):
    name, title = "toy", "picks"

    def parts(self, text):
        refuse_unfit(text)
        found, at = [], 0
        for piece in re.split(r"(?m)^(---)$", text):
            code = self._code(piece).strip()
            if piece != "---" and code:
                if not code.startswith("pick"):
                    raise refused_at(
                        text, at + piece.index(code[0]), f"a statement begins with '{code.split()[0]}'", "Begin it with pick."
                    )
                title = re.search(r"(?m)^#\s*(.*)$", piece)
                blank = re.sub(r"[^\n]", " ", text[:at])
                found.append(
                    Part(title.group(1) if title else f"statement {len(found) + 1}", blank + piece, at, at + len(piece))
                )
            at += len(piece)
        if not found:
            raise StatementRefused("the statement is empty.", "Write: pick column from table.")
        return found

    @staticmethod
    def _code(text):
        return re.sub(r"(?m)#.*$", lambda found: " " * len(found.group()), text)

    def parameters(self, text):
        return list(dict.fromkeys(found.group(1) for found in _PARAMETER.finditer(self._code(text))))

    def fill_in(self, text, bound):
        out, spans, last = [], [], 0
        for found in _PARAMETER.finditer(self._code(text)):
            name = found.group(1)
            if name not in bound.parameters:
                raise BadInput(f"the statement uses ':{name}', which is not declared.", "Declare the parameter.")
            value = MASK if bound.parameters[name].sensitive else as_text(bound.values[name])
            out += [text[last : found.start()], f"<{name}: {_written(value)}>"]
            spans.append((sum(map(len, out[:-1])), len(out[-1]), found.start(), len(found.group())))
            last = found.end()
        return Rendered("".join([*out, text[last:]]), tuple(spans))

    def restore(self, text):
        made = _FILLED.sub(lambda found: f":{found.group(1)}", text)
        if "<" in self._code(made):
            line, column = place(made, made.index("<"))
            raise BadInput(f"a value is not closed at line {line}, column {column}.", "Close it: >.", line=line, column=column)
        return made


def read(text, values, tables):
    """Rows of a table, all of them or those where a column is a value."""
    found = _PICK.match(ToyLanguage._code(text).strip())
    if found is None:
        raise StatementWrong("that is no pick.", "Write: pick column, column from table where column is :value.")
    columns, rows = tables.get(found.group(2), (None, None))
    if columns is None:
        raise StatementWrong(
            f"there is no table '{found.group(2)}'.", "Name one that is there.", missing="table", name=found.group(2)
        )
    names = [column.name for column in columns]
    chosen = [names.index(name.strip()) for name in found.group(1).split(",")]
    if found.group(3):
        wanted = values[found.group(4)] if found.group(4) else json.loads(found.group(5))
        rows = [row for row in rows if row[names.index(found.group(3))] == wanted]
    return [columns[n] for n in chosen], [[row[n] for n in chosen] for row in rows]


TOY = ToyLanguage()
TABLES = {
    "districts": (
        [Column("name", "text"), Column("zone", "text")],
        [("Alder Moor", "North"), ("Birch Fen", "South"), ("Otter Reach", "North")],
    )
}
ENGINE = MemoryEngine("toy", "Toy tables", TOY, TABLES, read)
