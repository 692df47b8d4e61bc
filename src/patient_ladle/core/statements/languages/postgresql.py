"""SQL of PostgreSQL, as its manual has it (chapter 4: lexical structure; 8.15.2: arrays; 4.1.2.3: Unicode escapes)."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from ...values.parameters import Parameter, Value, as_text
from ..outlines.forms import Forms
from .sql import SqlLanguage, cast_literal, words, zoned_cast

_CASTS = {"text": "text", "integer": "bigint", "decimal": "numeric", "boolean": "boolean", "date": "date"}
_NO_DIGIT = re.compile("[^0-9]")


def cast_of(parameter: Parameter, value: Value) -> str:
    """The type that a value is cast to, for the server has to be told."""
    name = _CASTS.get(parameter.type) or zoned_cast(value) or "timestamp"
    return f"{name}[]" if parameter.is_list else name


def bound_literal(value: Value) -> str:
    """A value as text that can be no code wherever it lands: every character but digits as its number.

    The server makes a literal of it as it reads the text, so that plans are those of the plain one.
    """
    said = as_text(value)
    if said is None:
        return "null"
    plain = _array(said) if isinstance(said, list) else str(said)
    return f"U&'{_NO_DIGIT.sub(_numbered, plain)}'"


def _numbered(found: re.Match[str]) -> str:
    number = ord(found.group())
    return f"\\{number:04X}" if number < 0x10000 else f"\\+{number:06X}"


def _array(items: Sequence[Any]) -> str:
    quoted = ['"' + str(item).replace("\\", "\\\\").replace('"', '\\"') + '"' if item is not None else "null" for item in items]
    return "{" + ",".join(quoted) + "}"


def _literal(parameter: Parameter, value: Value) -> str:
    return cast_literal(value, cast_of(parameter, value))


POSTGRESQL = SqlLanguage(
    "postgresql",
    title="SQL of PostgreSQL",
    formatter="postgresql",
    literal=_literal,
    own_words="ilike lateral returning similar tablesample materialized",
    folds_names=True,
    nested_comments=True,
    dollar_quotes=True,
    escape_strings=True,
    subscripts=True,
    double_colon_casts=True,
    assignments=True,
    marks="@^#?",
    reading_words=("select", "with", "values", "table"),
    refused_calls=words(
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
    refused_names=words(
        """pg_authid pg_shadow pg_user_mapping pg_user_mappings pg_subscription pg_settings pg_file_settings pg_hba_file_rules
        pg_ident_file_mappings pg_config pg_largeobject pg_statistic pg_stat_activity pg_stat_replication
        pg_stat_wal_receiver pg_stat_statements pg_db_role_setting"""
    ),
    setting_call="current_setting",
    told_settings=words(
        """timezone datestyle intervalstyle search_path server_version server_version_num server_encoding client_encoding
        lc_collate lc_ctype lc_messages lc_monetary lc_numeric lc_time application_name role transaction_isolation
        transaction_read_only default_transaction_read_only extra_float_digits bytea_output statement_timeout lock_timeout
        standard_conforming_strings is_superuser"""
    ),
    refused_words=frozenset({"for update", "for no key update", "for share", "for key share", "into"}),
    forms=Forms(
        parser="postgres",
        aggregates={
            "median": "percentile_cont(0.5) within group (order by {e})",
            "first": "(array_agg({e} order by {by}))[1]",
            "last": "(array_agg({e} order by {by} desc nulls last))[1]",
        },
        matches="{e} ~ {v}",
        as_text="cast({e} as text)",
    ),
    reserved=words(
        """all analyse analyze and any array as asc asymmetric authorization binary both case cast check collate
        collation column concurrently constraint create cross current_catalog current_date current_role current_schema
        current_time current_timestamp current_user default deferrable desc distinct do else end except false fetch
        for foreign freeze from full grant group having ilike in initially inner intersect into is isnull join lateral
        leading left like limit localtime localtimestamp natural not notnull null offset on only or order outer
        overlaps placing primary references returning right select session_user similar some symmetric table
        tablesample then to trailing true union unique user using variadic verbose when where window with"""
    ),
    periods={
        period: f"cast(date_trunc('{period}', {{column}}) as date)" for period in ("day", "week", "month", "quarter", "year")
    },
    text_types=r'(text|character varying|character|bpchar|name|"char"|citext|unknown)(\(\d+\))?',
    told_as_text=r"(json|jsonpath|xml|point|line|lseg|box|path|polygon|circle|pg_\w+|reg\w+|cid|refcursor|aclitem|gtsvector|txid_snapshot)(\[\])*",
    nested_from_json="array(select jsonb_array_elements_text(cast({parameter} as jsonb)))",
    from_base64="decode({parameter}, 'base64')",
    contains_test="cast({column} as text) ilike '%' || {parameter} || '%'",
)
