"""What the core must know of a database's way of writing SQL: facts of which each member of ``languages`` has its own.

``refused_calls`` change something although they stand in a statement that only reads: they are refused by name before
anything is sent. What a name does not give away (a function of the database's own authors, say) is stopped by the
read-only session, or by the login's rights alone; docs/sources.md lists which.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field

READ_OTHERWISE = frozenset(
    re.findall(
        r"\w+",
        """alter any array between charset connect_by_root current_catalog current_date current_time current_timestamp
        current_user describe drop fetch for force glob grant if ilike insert install interval lateral like list localtime
        localtimestamp map notnull nullable object partitioned_by qualify range regexp revoke rlike rollback row session_user
        struct tablesample uncache values with xor""",
    )
)
"""Words that a database may take as a name without quotes, and one that reads its statements takes for something else."""


@dataclass(frozen=True, slots=True, eq=False)
class Dialect:
    """Lexical facts, and the few words that browsing needs; nothing here is about what a statement means."""

    name: str
    nested_comments: bool = False
    """``/* a /* b */ c */`` is one comment (PostgreSQL; not the SQL standard)."""
    dollar_quotes: bool = False
    """``$tag$ … $tag$`` is a string."""
    escape_strings: bool = False
    """``E'\\''`` is a string with backslash escapes."""
    backslash_escapes: bool = False
    """A backslash escapes in every string (MariaDB, unless its sql_mode says otherwise)."""
    double_quoted_strings: bool = False
    """``"…"`` is a string, not a name."""
    hash_comments: bool = False
    """``#`` begins a comment, and ``--`` only before white space."""
    executable_comments: bool = False
    """``/*! … */`` is run: refused wherever it stands."""
    subscripts: bool = False
    """``a[1:n]`` is a slice, so a colon inside a subscript is no parameter."""
    bracket_names: bool = False
    """``[a name]`` is a quoted identifier."""
    backtick_names: bool = False
    double_colon_casts: bool = False
    """``x::date`` (PostgreSQL, DuckDB)."""
    assignments: bool = False
    """``:=`` means something."""
    loose_colons: bool = False
    """A colon may stand between a name and its value: ``{a: 1}``."""
    marks: str = ""
    """Characters that stand outside strings in an honest statement, beyond those of every dialect."""
    reading_words: tuple[str, ...] = ("select", "with", "values")
    """The words a statement that only reads may begin with."""
    refused_calls: frozenset[str] = frozenset()
    refused_names: frozenset[str] = frozenset()
    """Tables and views that tell of the server and its accounts rather than of the data; ``schema.`` is all of a schema."""
    setting_call: str = ""
    """The call that tells a setting; only ``told_settings`` may be asked for, by name."""
    told_settings: frozenset[str] = frozenset()
    refused_words: frozenset[str] = frozenset()
    """Word sequences that make a reading statement do more: ``for update``."""
    name_quote: str = '"'
    plain_name: str = r"[^\W\d][\w$]*"
    """Names of this form need no quotes."""
    reserved: frozenset[str] = frozenset()
    """Words that name nothing without quotes, wherever a name may stand."""
    folds_names: bool = False
    """A name without quotes is read in small letters."""
    typed_columns: bool = True
    """A column has a type, and not only its values."""
    list_test: str = "= any(…)"
    """How a value is looked for in a list parameter: ``= any(:p)``, or ``in :p`` without parentheses."""
    periods: dict[str, str] = field(default_factory=dict)
    """``day``, ``week``, ``month``, ``quarter``, ``year`` to an expression over ``{column}``: the first day of it."""
    contains_test: str = "lower(cast({column} as text)) like '%' || lower({parameter}) || '%'"

    text_types: str = ""
    """Types of columns that a text is compared with as it is; of every other one a text becomes the column's own type first.
    Empty: the database sees to that."""
    told_as_text: str = ""
    """Types without an equality of their own: their text is compared."""
    from_base64: str = "{parameter}"
    """Binary values are shown, and asked for, in base64."""

    nested_from_json: str = ""
    """Lists, and what else holds values, are shown, and asked for, in JSON."""

    def compared(self, column: str, type_: str, kind: str, typed: bool) -> tuple[str, str]:
        """Both sides of a comparison of a quoted column with ``{parameter}``, which is ``typed`` where it has its kind."""
        if kind == "binary":
            return column, self.from_base64
        if self.told_as_text and re.fullmatch(self.told_as_text, type_, re.IGNORECASE):
            return f"cast({column} as text)", "{parameter}"
        if not self.text_types or (typed and kind != "float") or re.fullmatch(self.text_types, type_, re.IGNORECASE):
            return column, "{parameter}"
        form = self.nested_from_json if kind == "json" and type_[-1] in "])" and self.nested_from_json else "{parameter}"
        return column, f"cast({form} as {type_})"

    def quoted(self, name: str) -> str:
        """A name as an identifier, whatever it holds."""
        return f"{self.name_quote}{name.replace(self.name_quote, self.name_quote * 2)}{self.name_quote}"

    def quoted_path(self, name: str) -> str:
        """``schema.table`` with each part quoted."""
        return ".".join(self.quoted(part) for part in name.split("."))

    def written(self, name: str) -> str:
        """``schema.table`` as a person would write it: quoted where its letters ask for it."""
        return ".".join(self.identifier(part) for part in name.split("."))

    def identifier(self, name: str) -> str:
        """One name as a person would write it, whatever it holds."""
        return name if self._is_plain(name) else self.quoted(name)

    def _is_plain(self, name: str) -> bool:
        plain, word = re.fullmatch(self.plain_name, name) is not None, name.lower()
        plain = plain and word not in self.reserved and word not in READ_OTHERWISE
        letters = all(char.isascii() or char.isalpha() for char in name)  # ² and its like are digits to some, letters to others
        return plain and letters and not (self.folds_names and name != word)
