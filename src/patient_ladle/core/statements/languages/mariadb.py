"""SQL of MariaDB, without ANSI_QUOTES and with backslashes that escape."""

from __future__ import annotations

from datetime import date, datetime, timezone
from decimal import Decimal

from ...values.parameters import Parameter, Value, as_text
from .sql import SqlLanguage, string, words


def bound_literal(value: Value) -> str:
    """A value as text that can be no code wherever it lands: digits, or the bytes of its text in hex.

    The server takes it for the constant that it is, so that plans are those of the plain one.
    """
    if isinstance(value, tuple):
        return f"({', '.join(bound_literal(item) for item in value)})" if value else "(null)"
    if value is None:
        return "null"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, (int, Decimal)):
        plain = str(as_text(value))
        return f"({plain})" if plain.startswith("-") else plain
    if isinstance(value, datetime):
        plain = (value.astimezone(timezone.utc).replace(tzinfo=None) if value.tzinfo else value).isoformat(sep=" ")
        return f"cast({_in_hex(plain)} as datetime({6 if value.microsecond else 0}))"
    if isinstance(value, date):
        return f"cast({_in_hex(value.isoformat())} as date)"
    return _in_hex(value)


def _in_hex(text: str) -> str:
    return f"_utf8mb4 0x{text.encode().hex()}" if text else "_utf8mb4 x''"


def _literal(parameter: Parameter, value: Value) -> str:
    if isinstance(value, tuple):
        return f"({', '.join(_literal(parameter, item) for item in value)})" if value else "(null)"
    if value is None:
        return "null"
    if isinstance(value, bool | int | Decimal):
        return str(as_text(value))
    if isinstance(value, datetime) and value.tzinfo:
        return f"from_unixtime({format(Decimal(str(value.timestamp())), 'f')})"  # in whatever zone the session is
    if isinstance(value, datetime):
        return f"timestamp{string(str(as_text(value)))}"
    return f"date'{value.isoformat()}'" if isinstance(value, date) else string(value.replace("\\", "\\\\"))


MARIADB = SqlLanguage(
    "mariadb",
    title="SQL of MariaDB",
    formatter="mariadb",
    literal=_literal,
    own_words="regexp rlike straight_join interval date_format",
    plain_name=r"[\w$]+",
    backslash_escapes=True,
    double_quoted_strings=True,
    hash_comments=True,
    executable_comments=True,
    backtick_names=True,
    assignments=True,
    marks="@^{}",
    name_quote="`",
    list_test="in …",
    refused_calls=words(
        """get_lock release_lock release_all_locks is_free_lock is_used_lock load_file master_pos_wait master_gtid_wait
        wait_until_sql_thread_after_gtids nextval setval lastval sys_exec sys_eval sys_get sys_set
        lib_mysqludf_sys_info benchmark wsrep_last_seen_gtid wsrep_sync_wait_upto_gtid"""
    ),
    refused_names=words(
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
