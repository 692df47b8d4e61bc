"""What can be said of a statement as it is typed: each diagnostic with its place, its cause and a proposal.

Rules and theory
----------------
* Nothing is run. What the text alone tells is said at once; names and syntax are the database's own word (its prepare
  step), to which the stored catalogues add where a missing name is to be found.
* A wrong hint is worse than none: a column is only looked up in tables that are surely meant, a type is only compared
  where the description tells it, and a name that is nowhere gets no proposal.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Mapping, Sequence
from typing import Any

from ..errors import LadleError, StatementRefused, nearest
from ..values.parameters import BUILT_IN, Parameter, bound_names
from .catalogue import full_name_of, names_of
from .diagnostics import Diagnostic, OtherCatalogue, Table, diagnostic_at, of_refusal, of_undeclared, of_unused
from .dialects import Dialect
from .parts import Part, place
from .scanner import refuse_slices, statements
from .scope import Scope, scope_of
from .words import Word, words_of

MOST_DIAGNOSTICS = 100
"""Of one kind in one text: nobody reads more, and each is looked up in the text."""


_COMPARES = ("=", "<", ">", "<=", ">=", "<>", "!=")
_CLASSES = {
    "integer": "number", "decimal": "number", "float": "number", "text": "text", "boolean": "boolean", "date": "date",
    "timestamp": "date", "zoned": "date",
}  # fmt: skip
_PARAMETER_CLASSES = {kind: _CLASSES[kind] for kind in ("integer", "decimal", "text", "boolean", "date", "timestamp")}


def find_tables(catalogue: Sequence[Table], name: str) -> list[Table]:
    """Tables that a name as written may mean: in full, or by its last part."""
    wanted, last = name.lower(), name.rpartition(".")[2].lower()
    exact = [table for table in catalogue if wanted in (names_of(table).lower(), full_name_of(table).lower())]
    return exact or ([] if "." in name else [table for table in catalogue if table["name"].lower() == last])


def of_text(text: str, dialect: Dialect, declared: Sequence[Parameter]) -> list[Diagnostic]:
    """What the text alone tells: refusals, parameters, lists, a star."""
    try:
        parts = statements(text, dialect)
        refuse_slices(text, dialect, bound_names(declared))
    except StatementRefused as error:
        return [of_refusal(error)]
    known = {part.name: parameter for parameter in declared for part in parameter.parts()} | dict(BUILT_IN)
    used: set[str] = set()
    found: list[Diagnostic] = []
    for part in parts:
        words = words_of(part.text, dialect)
        for at, word in enumerate(words):
            if word.kind == "parameter":
                name = word.text[1:]
                used.add(name)
                if len(found) < MOST_DIAGNOSTICS:
                    found += _of_parameter(text, words, at, name, known, dialect)
        found += _of_star(text, words)
    return found + of_unused(declared, used)


def of_text_and_parts(text: str, dialect: Dialect, declared: Sequence[Parameter]) -> tuple[list[Diagnostic], list[Part]]:
    """``of_text``, and the statements; none where the text is refused as a whole."""
    try:
        parts = statements(text, dialect)
    except StatementRefused:
        parts = []
    return of_text(text, dialect, declared), parts


def _of_parameter(
    text: str, words: Sequence[Word], at: int, name: str, known: Mapping[str, Parameter], dialect: Dialect
) -> list[Diagnostic]:
    word = words[at]

    def error(code: str, message: str, hint: str) -> list[Diagnostic]:
        return [diagnostic_at(text, "error", code, message, hint, word.start, len(word.text))]

    if name not in known:
        return [of_undeclared(text, name, known, word.start, len(word.text))]
    before = [each.text.lower() for each in words[max(0, at - 2) : at]]
    by_any = dialect.list_test == "= any(…)"
    if known[name].is_list:
        if before[-2:] == ["in", "("]:
            right = f"= any(:{name})" if by_any else f"in :{name}"
            return error("list_in_parentheses", f"':{name}' is a list, and stands in parentheses after in.", f"Write {right}.")
    elif known[name].type != "identifier" and (before[-2:] == ["any", "("] if by_any else before[-1:] == ["in"]):
        message = f"a list of values stands here, and ':{name}' takes one value."
        return error("parameter_takes_one", message, f"Declare '{name}' as taking many.")
    return []


def _of_star(text: str, words: Sequence[Word]) -> list[Diagnostic]:
    """``select *`` from tables: what the file holds then depends on what somebody adds to the table."""
    depth, select = 0, False
    made = scope_of(words).made if any(word.text == "*" for word in words) else set()
    begins = [at for at, word in enumerate(words[:-1]) if word.is_word("from")]
    for at, word in enumerate(words):
        depth += (word.text == "(") - (word.text == ")")
        if depth:
            continue
        if word.is_word("select"):
            select = True
        elif word.is_word("from"):
            select = False
        before = words[at - 1] if at else word
        starred = word.text == "*" and (before.is_word("select", "distinct", "all") or before.text in (",", "."))
        if select and starred and _reads_a_table(words, begins, at, made):
            hint = "Name the columns that the file is to have."
            return [diagnostic_at(text, "note", "star", "the columns of '*' change with the table.", hint, word.start, 1)]
    return []


def _reads_a_table(words: Sequence[Word], begins: Sequence[int], at: int, made: set[str]) -> bool:
    """Whether a table follows the next ``from`` (they stand at ``begins``), and not a name that the statement makes itself."""
    number = bisect_left(begins, at)
    if number == len(begins):
        return False
    after = words[begins[number] + 1]
    return after.kind in ("word", "name") and after.text.lower() not in made


def of_types(text: str, dialect: Dialect, declared: Sequence[Parameter], catalogue: Sequence[Table]) -> list[Diagnostic]:
    """A parameter compared with a column of another type, where the description tells. Not where types are the values'."""
    known = {part.name: part for parameter in declared for part in parameter.parts()} | dict(BUILT_IN)
    found = []
    for part in statements(text, dialect):
        words = words_of(part.text, dialect)
        scope = scope_of(words)
        for at, word in enumerate(words):
            if word.kind != "parameter" or word.text[1:] not in known:
                continue
            if at + 1 < len(words) and words[at + 1].text == "::":
                continue  # the author says the type
            for column, table in _compared(words, at, scope, catalogue):
                parameter = known[word.text[1:]]
                ours, theirs = _PARAMETER_CLASSES.get(parameter.type), _CLASSES.get(column["kind"])
                if ours and theirs and ours != theirs:
                    where = f"{table}.{column['name']}"
                    message = f"':{parameter.name}' is declared as {parameter.type}, and {where} is {column['type']}."
                    hint = "Declare the parameter with the column's type, or compare with another column."
                    found.append(diagnostic_at(text, "warning", "other_type", message, hint, word.start, len(word.text)))
    return found


def _compared(words: Sequence[Word], at: int, scope: Scope, catalogue: Sequence[Table]) -> list[tuple[Mapping[str, Any], str]]:
    """The column on the other side of a comparison, with its table; none unless it is surely that one."""
    if at > 1 and words[at - 1].text in _COMPARES and words[at - 2].kind in ("word", "name"):
        last = at - 2
        first = last - 2 if last > 1 and words[last - 1].text == "." else last
    elif at + 2 < len(words) and words[at + 1].text in _COMPARES and words[at + 2].kind in ("word", "name"):
        first = at + 2
        last = first + 2 if first + 2 < len(words) and words[first + 1].text == "." else first
    else:
        return []
    follows = words[last + 1].text if last + 1 < len(words) else ""
    before = words[first - 1].text if first else ""
    if follows in ("(", ".", "::", "+", "-", "*", "/") or before in (".", "+", "-", "*", "/", "|"):
        return []
    qualifier = words[first].text if first != last else ""
    return [(column, names_of(table)) for table, column in columns_named(scope, catalogue, words[last].text, qualifier)][:1]


def columns_named(scope: Scope, catalogue: Sequence[Table], name: str, qualifier: str) -> list[tuple[Table, Mapping[str, Any]]]:
    """The one column that a name surely means, with its table; empty where that is not sure."""
    if qualifier:
        written = scope.tables.get(qualifier.lower())
        tables = [find_tables(catalogue, written)] if written else []
    elif scope.simple and all(scope.tables.values()):
        tables = [find_tables(catalogue, written) for written in scope.tables.values()]
    else:
        return []
    if any(len(group) != 1 for group in tables):
        return []
    found = [(group[0], c) for group in tables for c in group[0]["columns"] if c["name"].lower() == name.lower()]
    return found if len(found) == 1 else []


def of_error(
    error: LadleError,
    text: str,
    part: str,
    dialect: Dialect,
    catalogue: Sequence[Table] | None,
    others: Sequence[OtherCatalogue],
) -> Diagnostic:
    """The database's word on a statement, with where a name that it misses is to be found."""
    diagnostic, missing, name = of_refusal(error), error.facts.get("missing"), str(error.facts.get("name", ""))
    if not missing or not name:
        return diagnostic
    hint = ""
    words = words_of(part, dialect)
    if missing == "table":
        hint = _where_table_is(name, catalogue, others)
    elif missing == "column" and catalogue is not None:
        hint = _where_column_is(name, scope_of(words), catalogue)
    message, hint = diagnostic.message, hint or diagnostic.hint
    at = _place_of(words, name, diagnostic, part)
    if at is None:
        return Diagnostic("error", f"{missing}_missing", message, hint, diagnostic.line, diagnostic.column)
    return diagnostic_at(text, "error", f"{missing}_missing", message, hint, at, len(name.rpartition(".")[2]))


def _place_of(words: Sequence[Word], name: str, diagnostic: Diagnostic, part: str) -> int | None:
    """Where the missing name stands: where the database says, else where it stands only once."""
    last = name.rpartition(".")[2].lower()
    places = [word.start for word in words if word.kind in ("word", "name") and word.text.lower() == last]
    for start in places:
        line, column = place(part, start)
        if line == diagnostic.line and abs(column - diagnostic.column) <= len(name):
            return start
    return places[0] if len(places) == 1 else None


def _where_table_is(name: str, catalogue: Sequence[Table] | None, others: Sequence[OtherCatalogue]) -> str:
    last = name.rpartition(".")[2].lower()
    known = catalogue or []
    here = [names_of(t) for t in known if t["name"].lower() == last and names_of(t).lower() != name.lower()]
    if here:
        return f"It is in another schema: write {' or '.join(here[:3])}."
    there = [each.source for each in others if any(table["name"].lower() == last for table in each.catalogue)]
    if there:
        return f"It is not in this source, but in source {' and in source '.join(there[:3])}."
    close = nearest(last, [table["name"] for table in known])
    return f"Did you mean {next(names_of(table) for table in known if table['name'] == close)}?" if close else ""


def _where_column_is(name: str, scope: Scope, catalogue: Sequence[Table]) -> str:
    qualifier, _, column = name.rpartition(".")
    by_alias = {alias: find_tables(catalogue, written) for alias, written in scope.tables.items() if written}
    holders = [
        alias for alias, tables in by_alias.items() for table in tables
        if any(c["name"].lower() == column.lower() for c in table["columns"])
    ]  # fmt: skip
    if qualifier and len(holders) == 1:
        return f"Did you mean {holders[0]}.{column}?"
    looked_in = by_alias.get(qualifier.lower(), []) if qualifier else [table for each in by_alias.values() for table in each]
    close = nearest(column, [c["name"] for table in looked_in for c in table["columns"]])
    return f"Did you mean {f'{qualifier}.' if qualifier else ''}{close}?" if close else ""


def of_names(text: str, dialect: Dialect, catalogue: Sequence[Table], others: Sequence[OtherCatalogue]) -> list[Diagnostic]:
    """Tables that the stored catalogue does not know, for when the source cannot be asked. A warning, for it may be old."""
    found = []
    for part in statements(text, dialect):
        for name, start, end in scope_of(words_of(part.text, dialect)).places:
            if not find_tables(catalogue, name) and name.partition(".")[0].lower() not in ("information_schema", "pg_catalog"):
                message = f"the stored catalogue of this source has no table '{name}'."
                hint = _where_table_is(name, catalogue, others)
                found.append(diagnostic_at(text, "warning", "table_missing", message, hint, start, end - start))
    return found
