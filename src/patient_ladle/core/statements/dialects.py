"""What the core must know of a database's way of writing text; one entry an engine.

``refused_calls`` change something although they stand in a statement that only reads: they are refused by name before
anything is sent. What a name does not give away (a function of the database's own authors, say) is stopped by the
read-only session, or by the login's rights alone; docs/sources.md lists which.
"""

from __future__ import annotations

from dataclasses import dataclass, field


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
    list_test: str = "= any(…)"
    """How a value is looked for in a list parameter: ``= any(:p)``, or ``in :p`` without parentheses."""
    casts: dict[str, str] = field(default_factory=dict)
    """Parameter type to the type that a bound value is cast to, where the engine has to be told."""
    periods: dict[str, str] = field(default_factory=dict)
    """``day``, ``month``, ``year`` to an expression over ``{column}``."""
    contains_test: str = "lower(cast({column} as text)) like '%' || lower({parameter}) || '%'"

    def __reduce__(self) -> tuple[object, tuple[str]]:
        """A dialect that goes to another process is the one of that name there."""
        return _dialect_named, (self.name,)

    def quoted(self, name: str) -> str:
        """A name as an identifier, whatever it holds."""
        return f"{self.name_quote}{name.replace(self.name_quote, self.name_quote * 2)}{self.name_quote}"

    def quoted_path(self, name: str) -> str:
        """``schema.table`` with each part quoted."""
        return ".".join(self.quoted(part) for part in name.split("."))


def _dialect_named(name: str) -> Dialect:
    return DIALECTS[name]


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
    double_colon_casts=True,
    assignments=True,
    marks="@^#?",
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
        query_to_xmlschema cursor_to_xml nextval setval pg_stat_reset pg_stat_reset_shared pg_stat_statements_reset
        pg_file_write pg_file_rename pg_file_unlink pg_file_sync pg_file_read pg_logdir_ls pg_ls_logdir pg_ls_waldir
        pg_ls_tmpdir pg_ls_archive_statusdir pg_ls_logicalsnapdir pg_ls_logicalmapdir pg_ls_replslotdir pg_current_logfile
        pg_hba_file_rules pg_ident_file_mappings pg_show_all_file_settings pg_show_all_settings ts_stat ts_rewrite xpath_table
        pg_log_backend_memory_contexts pg_backup_start pg_backup_stop pg_replication_slot_advance inet_server_addr
        inet_server_port pg_config loread lo_get lo_close lo_lseek lo_lseek64 lo_tell lo_tell64"""
    ),
    refused_names=_words(
        """pg_authid pg_shadow pg_user_mapping pg_user_mappings pg_subscription pg_settings pg_file_settings pg_hba_file_rules
        pg_ident_file_mappings pg_config pg_largeobject pg_statistic pg_stat_activity pg_stat_replication
        pg_stat_wal_receiver pg_stat_statements pg_db_role_setting"""
    ),
    setting_call="current_setting",
    told_settings=_words(
        """timezone datestyle intervalstyle search_path server_version server_version_num server_encoding client_encoding
        lc_collate lc_ctype lc_messages lc_monetary lc_numeric lc_time application_name role transaction_isolation
        transaction_read_only default_transaction_read_only extra_float_digits bytea_output statement_timeout lock_timeout
        standard_conforming_strings is_superuser"""
    ),
    refused_words=frozenset({"for update", "for no key update", "for share", "for key share", "into"}),
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
    assignments=True,
    marks="@^{}",
    name_quote="`",
    list_test="in …",
    refused_calls=_words(
        """get_lock release_lock release_all_locks is_free_lock is_used_lock load_file master_pos_wait master_gtid_wait
        wait_until_sql_thread_after_gtids nextval setval lastval sys_exec sys_eval sys_get sys_set
        lib_mysqludf_sys_info benchmark wsrep_last_seen_gtid wsrep_sync_wait_upto_gtid"""
    ),
    refused_names=_words(
        """mysql. performance_schema. information_schema.processlist information_schema.global_variables
        information_schema.session_variables information_schema.system_variables information_schema.global_status
        information_schema.plugins information_schema.all_plugins information_schema.user_privileges
        information_schema.files information_schema.innodb_sys_datafiles information_schema.innodb_sys_tablespaces"""
    ),
    refused_words=frozenset(
        {
            "for update", "lock in share mode", "for share", "into", "procedure", "next value for", "previous value for",
        }
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
    nested_comments=True,
    dollar_quotes=True,
    escape_strings=True,
    subscripts=True,
    double_colon_casts=True,
    assignments=True,
    loose_colons=True,
    marks="@^#{}",
    reading_words=("select", "with", "values", "table", "from"),
    refused_calls=_words(
        """nextval pg_notify checkpoint force_checkpoint read_blob read_text read_csv read_csv_auto sniff_csv read_json
        read_json_auto read_json_objects read_json_objects_auto read_ndjson read_ndjson_auto read_ndjson_objects read_parquet
        parquet_scan parquet_metadata parquet_schema parquet_file_metadata parquet_kv_metadata parquet_bloom_probe glob
        read_duckdb query query_table json_execute_serialized_sql from_substrait duckdb_settings duckdb_databases
        duckdb_secrets which_secret duckdb_extensions duckdb_temporary_files duckdb_logs duckdb_log_contexts
        pragma_database_list pragma_storage_info pragma_user_agent pragma_platform current_setting getenv getvariable write_log
        enable_logging disable_logging set_config sleep_ms arrow_scan arrow_scan_dumb pandas_scan python_map_function
        parse_duckdb_log_message"""
    ),
    refused_names=_words("duckdb_settings duckdb_databases duckdb_secrets duckdb_extensions pg_settings"),
    refused_words=frozenset({"into"}),
    periods={period: f"cast(date_trunc('{period}', {{column}}) as date)" for period in ("day", "month", "year")},
    contains_test="cast({column} as varchar) ilike '%' || {parameter} || '%'",
)

DIALECTS = {dialect.name: dialect for dialect in (POSTGRESQL, MARIADB, SQLITE, DUCKDB)}
