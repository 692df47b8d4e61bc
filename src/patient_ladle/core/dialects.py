"""What the core must know of a database's way of writing text; one entry an engine.

``refused_calls`` change something although they stand in a statement that only reads: they are refused by name before
anything is sent. What a name does not give away (a function of the database's own authors, say) is stopped by the
read-only session, or by the login's rights alone; docs/sources.md lists which.
"""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
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
    reading_words: tuple[str, ...] = ("select", "with", "values")
    """The words a statement that only reads may begin with."""
    refused_calls: frozenset[str] = frozenset()
    refused_words: tuple[str, ...] = ()
    """Word sequences that make a reading statement do more: ``for update``."""
    name_quote: str = '"'
    list_test: str = "= any(…)"
    """How a value is looked for in a list parameter: ``= any(:p)``, or ``in :p`` without parentheses."""
    casts: dict[str, str] = field(default_factory=dict)
    """Parameter type to the type that a bound value is cast to, where the engine has to be told."""
    periods: dict[str, str] = field(default_factory=dict)
    """``day``, ``month``, ``year`` to an expression over ``{column}``."""
    contains_test: str = "lower(cast({column} as text)) like '%' || lower({parameter}) || '%'"

    def quoted(self, name: str) -> str:
        """A name as an identifier, whatever it holds."""
        return f"{self.name_quote}{name.replace(self.name_quote, self.name_quote * 2)}{self.name_quote}"

    def quoted_path(self, name: str) -> str:
        """``schema.table`` with each part quoted."""
        return ".".join(self.quoted(part) for part in name.split("."))


def _words(text: str) -> frozenset[str]:
    return frozenset(text.split())


_CASTS = {"text": "text", "integer": "bigint", "decimal": "numeric", "boolean": "boolean", "date": "date"}
POSTGRESQL = Dialect(
    "postgresql",
    casts=_CASTS,
    nested_comments=True,
    dollar_quotes=True,
    escape_strings=True,
    subscripts=True,
    reading_words=("select", "with", "values", "table"),
    refused_calls=_words(
        """set_config pg_terminate_backend pg_cancel_backend pg_notify pg_reload_conf pg_rotate_logfile
        pg_advisory_lock pg_advisory_lock_shared pg_try_advisory_lock pg_try_advisory_lock_shared pg_advisory_xact_lock
        pg_advisory_xact_lock_shared pg_try_advisory_xact_lock pg_try_advisory_xact_lock_shared pg_advisory_unlock
        pg_advisory_unlock_all pg_advisory_unlock_shared pg_logical_emit_message pg_create_restore_point pg_switch_wal
        pg_export_snapshot lo_create lo_creat lo_import lo_export lo_from_bytea lo_put lo_unlink lo_open lowrite lo_truncate
        lo_truncate64 pg_read_file pg_read_binary_file pg_ls_dir pg_stat_file pg_promote pg_wal_replay_pause
        pg_wal_replay_resume pg_drop_replication_slot pg_create_logical_replication_slot
        pg_create_physical_replication_slot pg_logical_slot_get_changes pg_logical_slot_peek_changes dblink dblink_exec
        dblink_connect dblink_connect_u dblink_open dblink_send_query query_to_xml query_to_xml_and_xmlschema
        cursor_to_xml nextval setval pg_stat_reset pg_stat_reset_shared pg_stat_statements_reset"""
    ),
    refused_words=("for update", "for no key update", "for share", "for key share", "into"),
    periods={period: f"cast(date_trunc('{period}', {{column}}) as date)" for period in ("day", "month", "year")},
    contains_test="cast({column} as text) ilike '%' || {parameter} || '%'",
)
MARIADB = Dialect(
    "mariadb",
    backslash_escapes=True,
    double_quoted_strings=True,
    hash_comments=True,
    executable_comments=True,
    backtick_names=True,
    name_quote="`",
    list_test="in …",
    refused_calls=_words(
        """get_lock release_lock release_all_locks load_file master_pos_wait master_gtid_wait nextval setval sys_exec sys_eval
        benchmark"""
    ),
    refused_words=(
        "for update", "lock in share mode", "into", "procedure analyse", "next value for", "previous value for",
    ),
    periods={
        "day": "cast({column} as date)",
        "month": "cast(date_format({column}, '%Y-%m-01') as date)",
        "year": "cast(date_format({column}, '%Y-01-01') as date)",
    },
    contains_test="cast({column} as char) like concat('%', {parameter}, '%')",
)  # fmt: skip
SQLITE = Dialect(
    "sqlite",
    list_test="in …",
    bracket_names=True,
    backtick_names=True,
    refused_calls=frozenset({"load_extension", "writefile", "readfile", "edit", "fts3_tokenizer"}),
    periods={
        "day": "date({column})", "month": "strftime('%Y-%m-01', {column})", "year": "strftime('%Y-01-01', {column})",
    },
)  # fmt: skip
DUCKDB = Dialect(
    "duckdb",
    casts=_CASTS | {"text": "varchar", "decimal": "decimal(38, 10)", "timestamp": "timestamp"},
    dollar_quotes=True,
    escape_strings=True,
    subscripts=True,
    reading_words=("select", "with", "values", "table", "from"),
    refused_calls=frozenset(
        {"nextval", "pg_notify", "checkpoint", "force_checkpoint", "read_blob", "read_text", "query", "query_table"}
    ),
    refused_words=("into",),
    periods={period: f"cast(date_trunc('{period}', {{column}}) as date)" for period in ("day", "month", "year")},
    contains_test="cast({column} as varchar) ilike '%' || {parameter} || '%'",
)

DIALECTS = {dialect.name: dialect for dialect in (POSTGRESQL, MARIADB, SQLITE, DUCKDB)}
