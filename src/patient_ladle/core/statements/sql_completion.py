"""What may stand at a position of a SQL statement: columns of the right alias, tables, names that it makes, parameters, words.

Rules and theory
----------------
* The text is cut by the lexer that the gate uses, which passes over what is not finished yet.
* Parentheses make a tree. What is visible at a place are the tables of its own ``from``, then those around it, and the names
  that a ``with`` around it makes; set operators part a ``select`` from its neighbours.
* A derived table gives the columns that its ``select`` names, as far as the text tells.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from .catalogue import names_of
from .completion import MOST_PROPOSALS, Completion, Proposal
from .diagnostics import Table
from .dialects import Dialect
from .lexing import scan_unfinished
from .scope import ENDS_FROM
from .words import Word, words_in

_TYPED = re.compile(r"(?:[^\W\d][\w$]*)?\Z")
_SETS = ("union", "intersect", "except")
_JOINING = ("inner", "left", "right", "full", "outer", "cross", "natural", "lateral", "only")
_ENDS = ("where", "group", "having", "order", "limit", "offset", "fetch", "window")

MOST_DEPTH = 60
"""Queries within queries whose columns are still followed."""
MOST_COLUMNS = 2_000
"""Of one query; ``select *, *`` over the same again would make ever more."""

Columns = Sequence[tuple[str, str]]
"""Name and type of each; the type is empty where the text does not tell it."""


@dataclass(slots=True)
class _Group:
    """What stands between two parentheses, or the whole."""

    start: int
    end: int
    depth: int = 0
    items: list[Word | _Group] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class _Source:
    """A table, or what gives rows like one, under the name that it has in its statement."""

    alias: str
    table: str
    columns: Columns


_Item = Word | _Group
_Lookup = Callable[[str], Columns]


def _word(item: _Item | None) -> str:
    return item.text.lower() if isinstance(item, Word) and item.kind == "word" else ""


def _mark(item: _Item | None) -> str:
    return item.text if isinstance(item, Word) and item.kind == "mark" else ""


def _is_name(item: _Item | None) -> bool:
    return isinstance(item, Word) and item.kind in ("word", "name")


def _name(item: _Item | None) -> str:
    """A name as it is compared: in small letters unless it is quoted."""
    assert isinstance(item, Word)
    return item.text if item.kind == "name" else item.text.lower()


def _at(items: Sequence[_Item], place: int) -> _Item | None:
    return items[place] if 0 <= place < len(items) else None


def _grouped(words: Sequence[Word], start: int, end: int) -> _Group:
    open_groups = [_Group(start, end)]
    for word in words:
        if word.text == "(" and word.kind == "mark":
            inner = _Group(word.end, end, len(open_groups))
            open_groups[-1].items.append(inner)
            open_groups.append(inner)
        elif word.text == ")" and word.kind == "mark" and len(open_groups) > 1:
            open_groups.pop().end = word.start
        else:
            open_groups[-1].items.append(word)
    return open_groups[0]


def _branches(items: Sequence[_Item]) -> list[list[_Item]]:
    """The parts between set operators."""
    made: list[list[_Item]] = [[]]
    for item in items:
        if _word(item) in _SETS:
            made.append([])
        else:
            made[-1].append(item)
    return made


def _sources(items: Sequence[_Item], lookup: _Lookup, made: Mapping[str, Columns]) -> Iterator[_Source]:
    """What the ``from`` of one ``select`` names."""
    at = next((n for n, item in enumerate(items) if _word(item) == "from"), len(items))
    wanted = True
    while (at := at + 1) < len(items):
        item, said = items[at], _word(items[at])
        if said == "join" or _mark(item) == ",":
            wanted = True
        elif said in _ENDS:
            return
        elif said in ("on", "using"):
            wanted = False
        elif wanted and said not in _JOINING:
            at, source = _source_at(items, at, lookup, made)
            if source is not None:
                wanted = False
                yield source


def _source_at(items: Sequence[_Item], at: int, lookup: _Lookup, made: Mapping[str, Columns]) -> tuple[int, _Source | None]:
    item, table = items[at], ""
    if isinstance(item, _Group):
        columns: Columns = _output(item, lookup, made)
    elif _is_name(item):
        table = _name(item)
        while _mark(_at(items, at + 1)) == "." and _is_name(_at(items, at + 2)):
            table += f".{_name(items[at + 2])}"
            at += 2
        columns = made[table] if table in made else lookup(table)
        at += isinstance(_at(items, at + 1), _Group)  # a function that gives rows
    else:
        return at, None
    at += _word(_at(items, at + 1)) == "as"
    alias, after = table.rpartition(".")[2], _at(items, at + 1)
    if _is_name(after) and _word(after) not in ENDS_FROM:
        alias = _name(after)
        at += 1
    return at, _Source(alias, table, columns)


def _output(group: _Group, lookup: _Lookup, outer: Mapping[str, Columns]) -> Columns:
    """The columns that a query in parentheses gives, as far as its text tells."""
    if group.depth > MOST_DEPTH:
        return []
    made = {**outer, **_made(group.items, lookup, outer)}
    items = _branches(group.items)[0]
    froms = [n for n, item in enumerate(items) if _word(item) == "from"]
    end = froms[0] if froms else len(items)
    start = max((n for n, item in enumerate(items[:end]) if _word(item) == "select"), default=-1)
    if start < 0:
        return []
    columns: list[tuple[str, str]] = []
    chosen: list[_Item] = []
    sources: list[_Source] | None = None
    for item in [*items[start + 1 : end], None]:
        if item is not None and _mark(item) != ",":
            chosen.append(item)
            continue
        last = chosen[-1] if chosen else None
        if _mark(last) == "*":
            owner = _name(chosen[-3]) if len(chosen) > 2 and _mark(chosen[-2]) == "." and _is_name(chosen[-3]) else None
            sources = list(_sources(items, lookup, made)) if sources is None else sources
            for source in sources:
                columns += source.columns if owner in (None, source.alias) else []
        elif _is_name(last):
            columns.append((_name(last), ""))
        chosen = []
        if len(columns) > MOST_COLUMNS:
            break
    return columns[:MOST_COLUMNS]


def _made(items: Sequence[_Item], lookup: _Lookup, outer: Mapping[str, Columns]) -> dict[str, Columns]:
    """Names that ``with`` makes, each with its columns; later ones may use earlier ones."""
    made: dict[str, Columns] = {}
    if _word(_at(items, 0)) != "with":
        return made
    at = 0
    while (at := at + 1) < len(items) and _word(items[at]) != "select":
        if not _is_name(items[at]) or _word(items[at]) == "recursive":
            continue
        named, then = _at(items, at + 1), at + 1
        if isinstance(named, _Group):
            then += 1
        if _word(_at(items, then)) != "as":
            continue
        body = next(((n, item) for n, item in enumerate(items[then + 1 : then + 4]) if isinstance(item, _Group)), None)
        if body is None:
            continue
        own = [(_name(item), "") for item in named.items if _is_name(item)] if isinstance(named, _Group) else None
        made[_name(items[at])] = own if own is not None else _output(body[1], lookup, {**outer, **made})
        at = then + 1 + body[0]
    return made


def _visible(words: Sequence[Word], position: int, end: int, lookup: _Lookup) -> tuple[list[_Source], dict[str, Columns]]:
    """Everything that may be named at a position, the innermost first."""
    cuts = [word.start for word in words if word.kind == "end"]
    start = max((at for at in cuts if at < position), default=-1)
    stop = min((at for at in cuts if at >= position), default=end)
    here: _Group | None = _grouped([word for word in words if word.start > start and word.end <= stop], start, stop)
    chain: list[_Group] = []
    while here is not None:
        chain.insert(0, here)
        here = next((item for item in here.items if isinstance(item, _Group) and item.start <= position <= item.end), None)
    made: dict[str, Columns] = {}
    for group in reversed(chain):
        made.update(_made(group.items, lookup, made))
    sources: dict[str, _Source] = {}
    for group in chain:
        begun = [items for items in _branches(group.items) if items and items[0].start <= position]
        for source in _sources(begun[-1] if begun else [], lookup, made):
            if source.alias:
                sources.setdefault(source.alias, source)
    return list(sources.values()), made


def completion_at(  # noqa: PLR0913 - all that proposals are made from
    text: str,
    position: int,
    dialect: Dialect,
    tables: Sequence[Table],
    parameters: Sequence[str],
    words_of_language: Sequence[str],
    asked: bool,
) -> Completion | None:
    """Proposals at a position; None inside strings, quoted names and comments, or when nothing was typed and nobody asked."""
    before_it, unclosed = scan_unfinished(text[:position], dialect)
    last = before_it[-1] if before_it else None
    if unclosed or (last and last.kind == "comment" and not text.startswith("/*", last.start)):
        return None
    match = _TYPED.search(text[:position])
    typed = match.group() if match else ""
    begin = position - len(typed)
    if text[begin - 1 : begin] == ":" and text[begin - 2 : begin] != "::":
        return Completion(typed, tuple(Proposal(name, "parameter", "parameter", 50) for name in parameters))
    words = words_in(text, scan_unfinished(text, dialect)[0])
    known = {name: _columns(table) for table in tables for name in (names_of(table).lower(), names_of(table))}
    sources, made = _visible(words, position, len(text), lambda name: known.get(name, []))
    before = [word for word in words if word.end <= begin]
    if before and before[-1].text == "." and before[-1].end == begin:
        return _after_dot(typed, before, sources, tables, dialect)
    if not asked and not typed:
        return None
    listed = [Proposal(names_of(t), "table", t["kind"], 0, dialect.written(names_of(t))) for t in tables]
    named = [Proposal(name, "with", "made by with", 8) for name in made]
    if before and before[-1].is_word("from", "join"):
        found = [*named, *(Proposal(each.label, each.kind, each.detail, 5, each.apply) for each in listed)]
        return _cut(typed, found)
    others = [word for word in words if word.kind == "word" and not word.start < position <= word.end]
    found = [
        *(column for source in sources for column in _of(source, dialect, 10)),
        *(Proposal(each.alias, "alias", each.table or "sub-query", 6, dialect.written(each.alias)) for each in sources),
        *named,
        *(Proposal(word, "keyword", "", 1) for word in words_of_language),
        *listed,
        *(Proposal(word.text, "word", "in the text", -5) for word in others if len(word.text) > 2),
    ]
    return _cut(typed, _once(found, "" if asked else typed))


def _columns(table: Table) -> Columns:
    return [(column["name"], column["type"]) for column in table["columns"]]


def _of(source: _Source, dialect: Dialect, boost: int) -> list[Proposal]:
    where = source.table or source.alias
    return [
        Proposal(name, "column", ", ".join(filter(None, (kind, where))), boost, dialect.written(name))
        for name, kind in source.columns
    ]


def _after_dot(
    typed: str, before: Sequence[Word], sources: Sequence[_Source], tables: Sequence[Table], dialect: Dialect
) -> Completion | None:
    """Columns of an alias, or tables of a schema."""
    owner = before[-2] if len(before) > 1 else None
    if not _is_name(owner):
        return None
    source = next((each for each in sources if each.alias == _name(owner)), None)
    if source is not None:
        return _cut(typed, _of(source, dialect, 20))
    schema = f"{_name(owner)}."
    within = [(names_of(t)[len(schema) :], t["kind"]) for t in tables if names_of(t).lower().startswith(schema.lower())]
    return _cut(typed, [Proposal(name, "table", kind, 20, dialect.written(name)) for name, kind in within]) if within else None


def _once(proposals: Sequence[Proposal], there: str) -> list[Proposal]:
    """Each once, words of the text only where nothing else is called so, and not what stands there already."""
    made: dict[tuple[str, str], Proposal] = {}
    labels = {each.label.lower() for each in proposals if each.kind != "word"}
    for each in proposals:
        key = (each.kind, each.label.lower() if each.kind == "word" else each.label)
        if each.label != there and key not in made and not (each.kind == "word" and key[1] in labels):
            made[key] = each
    return list(made.values())


def _cut(typed: str, proposals: Sequence[Proposal]) -> Completion:
    """The likeliest of many."""
    if len(proposals) <= MOST_PROPOSALS:
        return Completion(typed, tuple(proposals))
    wanted = typed.casefold()
    fits = sorted(
        (each for each in proposals if wanted in each.label.casefold()),
        key=lambda each: (not each.label.casefold().startswith(wanted), -each.boost),
    )
    return Completion(typed, tuple(fits[:MOST_PROPOSALS]), complete=False)
