"""What a statement may call and read in SQLite: the engine asks for each function and each table before it carries anything out."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Collection
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from patient_ladle.core.statements.languages.sql import words
from patient_ladle.core.statements.languages.sqlite import SQLITE

FUNCTIONS = words(
    """-> ->> abs acos acosh asin asinh atan atan2 atanh avg bm25 ceil ceiling char coalesce concat concat_ws cos cosh count
    cume_dist current_date current_time current_timestamp date datetime degrees dense_rank exp first_value floor format fts5 glob
    group_concat hex highlight if ifnull iif instr json json_array json_array_insert json_array_length json_error_position
    json_extract json_group_array json_group_object json_insert json_object json_patch json_pretty json_quote json_remove
    json_replace json_set json_type json_valid jsonb jsonb_array jsonb_array_insert jsonb_extract jsonb_group_array
    jsonb_group_object jsonb_insert jsonb_object jsonb_patch jsonb_remove jsonb_replace jsonb_set julianday lag
    last_insert_rowid last_value lead length like likelihood likely ln log log10 log2 lower ltrim match matchinfo max median min
    mod nth_value ntile nullif octet_length offsets percent_rank percentile percentile_cont percentile_disc pi pow power printf
    quote radians random randomblob rank replace round row_number rtrim sign sin sinh snippet soundex sqlite_version sqrt
    strftime string_agg substr substring subtype sum tan tanh time timediff total total_changes changes trim trunc typeof unhex
    unicode unistr unistr_quote unixepoch unlikely upper zeroblob rtreedepth rtreenode"""
)
"""They reckon with the values that they are given, tell the clock, a number by chance, or the engine's version. Not among them:
what loads code, writes to a log, runs a tokenizer, tells how the engine was built, or repairs an index."""
TABLES = words("sqlite_master sqlite_schema sqlite_sequence sqlite_stat1 sqlite_stat4 json_each json_tree")
"""The engine's own that a statement may read: of tables and their sizes, and members of JSON. All others of its own tell of the
engine, of this connection or of pages of the file."""
_READING = (sqlite3.SQLITE_SELECT, sqlite3.SQLITE_RECURSIVE)
"""Besides them ``data_version``, a number by which the engine's full text search sees that its index is another."""


@dataclass(frozen=True, slots=True)
class Known:
    """Names in small letters: of what the file holds, and of the engine's own tables."""

    tables: frozenset[str]
    own: frozenset[str]


def known_to(connection: sqlite3.Connection) -> Known:
    """Looks, and has every virtual table made known: under an authorizer none can be."""
    rows = connection.execute(
        "select lower(name), coalesce(sql, '') from sqlite_master where type in ('table', 'view')"
    ).fetchall()
    virtual = [str(name) for name, sql in rows if str(sql).lower().startswith("create virtual")]
    for name in ("json_each", "json_tree", *virtual):
        with suppress(sqlite3.Error):  # of a module that is not here: whoever reads it is told
            connection.execute("select 1 from " + SQLITE.quoted(name) + " limit 0").fetchall()
    own = {str(name).lower() for (name,) in connection.execute("select name from pragma_module_list")}
    return Known(frozenset(str(name) for name, _ in rows), frozenset(own))


def _folded(name: str) -> str:
    """As SQLite compares names: letters beyond ASCII are told apart."""
    return "".join(char.lower() if char.isascii() else char for char in name)


def authorizer(known: Known, permitted: Collection[str], refused: list[str]) -> Callable[..., int]:
    """For ``set_authorizer``; what is refused by name is put into ``refused``."""
    tables = known.tables

    def is_own(name: str) -> bool:
        return name in known.own or name.startswith(("pragma_", "sqlite_"))

    functions = FUNCTIONS | {name.lower() for name in permitted}
    readable = TABLES | {*tables} | {_folded(name) for name in permitted}

    def judge(action: int, first: str | None, second: str | None, _schema: str | None, _by: str | None) -> int:
        what: Any = None
        if action == sqlite3.SQLITE_FUNCTION:
            what = None if (second or "").lower() in functions else f"a call of '{second}'"
        elif action == sqlite3.SQLITE_READ:
            # A table of which no column is read may be one that the statement makes itself (with …).
            name = _folded(first or "")
            fine = not name or name in readable or (not second and not is_own(name))
            what = None if fine else f"'{first}', which tells of the engine"
        elif action not in _READING and (action, first) != (sqlite3.SQLITE_PRAGMA, "data_version"):
            return sqlite3.SQLITE_DENY
        if what is None:
            return sqlite3.SQLITE_OK
        refused.append(what)
        return sqlite3.SQLITE_DENY

    return judge
