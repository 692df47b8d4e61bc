"""SQL of MariaDB, without ANSI_QUOTES and with backslashes that escape."""

from __future__ import annotations

from datetime import date, datetime, timezone
from decimal import Decimal

from ...values.parameters import Parameter, Value, as_text
from ..outlines.forms import Forms
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
    plain_name=r"[^\W\d_][\w$]*",  # 1e5 is a number, and _latin1 says in which letters a string is written
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
    forms=Forms(
        numbers_for_booleans=True,
        nulls_are=("first", "last"),
        parser="mysql",
        aggregates={
            "first": "cast(json_value(json_arrayagg({e} order by {by} is null, {by} limit 1), '$[0]') as {type})",
            "last": "cast(json_value(json_arrayagg({e} order by {by} desc limit 1), '$[0]') as {type})",
        },
        position="locate({v}, {e})",
        matches="{e} regexp {v}",
        in_list="{e} in {v}",
        not_in_list="{e} not in {v}",
        day_after="{v} + interval 1 day",
        zoned="timestamp {v}",
        zone="",
        nulls={"first": "{e} is not null, {e}{way}", "last": "{e} is null, {e}{way}"},
        joins=("inner", "left", "right"),
        backslash_escapes=True,
    ),
    reserved=words(
        """accessible add all alter analyze and as asc asensitive before between bigint binary blob both by call
        cascade case change char character check collate column condition constraint continue convert create cross
        cube current_date current_role current_time current_timestamp current_user cursor databases day_hour
        day_microsecond day_minute day_second dec decimal declare default delayed delete delete_domain_id desc
        describe deterministic distinct distinctrow div do_domain_ids double drop dual each else elseif enclosed
        escaped except exists exit explain false fetch float float4 float8 for force foreign from fulltext grant group
        having high_priority hour_microsecond hour_minute hour_second if ignore ignore_domain_ids in index infile
        inner inout insensitive insert int int1 int2 int3 int4 int8 integer intersect interval into is iterate join
        key keys kill leading leave left like limit linear lines load localtime localtimestamp lock long longblob
        longtext loop low_priority master_demote_to_replica master_demote_to_slave master_ssl_verify_server_cert match
        maxvalue mediumblob mediumint mediumtext middleint minute_microsecond minute_second mod modifies natural
        no_write_to_binlog not null numeric offset on optimize optionally or order out outer outfile over
        page_checksum parse_vcol_expr partition portion precision primary procedure purge range read read_write reads
        real recursive ref_system_id references regexp release rename repeat replace require resignal restrict return
        returning revoke right rlike rollup row_number rows schemas second_microsecond select sensitive separator set
        show signal smallint spatial specific sql sql_big_result sql_calc_found_rows sql_small_result sqlexception
        sqlstate sqlwarning ssl starting stats_auto_recalc stats_persistent stats_sample_pages straight_join system
        table terminated then tinyblob tinyint tinytext to trailing trigger true undo union unique unlock unsigned
        update usage use using utc_date utc_time utc_timestamp values varbinary varchar varcharacter varying when
        where while window with write xor year_month zerofill"""
    ),
    periods={
        "day": "cast({column} as date)",
        "week": "cast({column} as date) - interval weekday({column}) day",
        "quarter": "makedate(year({column}), 1) + interval quarter({column}) - 1 quarter",
        "month": "cast(date_format({column}, '%Y-%m-01') as date)",
        "year": "cast(date_format({column}, '%Y-01-01') as date)",
    },
    from_base64="from_base64({parameter})",
    contains_test="cast({column} as char) like concat('%', {parameter}, '%')",
)  # fmt: skip
