"""What a statement may call, ask and read in MariaDB: listed by name; all else is refused, unless an administrator permits it.

A name that is called and not listed is one of people's own functions, which the server must know as a stored one: it cannot
leave the read-only transaction and has the login's rights, or its owner's. A function that was loaded from a library is in no
list, whatever its name.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from typing import Any

from patient_ladle.core.statements.languages.mariadb import MARIADB, bound_literal
from patient_ladle.core.statements.languages.sql import words
from patient_ladle.core.statements.references import Name, references
from patient_ladle.core.statements.words import Word, words_of

from .allowed import not_allowed

_NUMBERS = words(
    """abs acos asin atan atan2 bin bit_count ceil ceiling conv cos cot crc32 crc32c degrees exp floor format greatest hex least ln
    log log10 log2 mod oct pi pow power radians rand round sformat sign sin sqrt tan truncate"""
)
_TEXTS = words(
    """ascii bit_length char char_length character_length charset chr coercibility collation compress concat
    concat_operator_oracle concat_ws elt encrypt export_set extractvalue field find_in_set from_base64 insert instr lcase left
    length lengthb locate lower lpad lpad_oracle ltrim ltrim_oracle make_set mid natural_sort_key octet_length ord position quote
    regexp_instr regexp_replace regexp_substr repeat replace replace_oracle reverse right rpad rpad_oracle rtrim rtrim_oracle
    soundex space strcmp substr substr_oracle substring substring_index to_base64 to_char trim trim_oracle ucase uncompress
    uncompressed_length unhex updatexml upper weight_string aes_decrypt aes_encrypt decode decode_histogram decode_oracle encode
    md5 old_password password random_bytes sha sha1 sha2"""
)
_DATES = words(
    """add_months adddate addtime convert_tz curdate current_date current_time current_timestamp curtime date date_add
    date_format date_sub datediff day dayname dayofmonth dayofweek dayofyear extract from_days from_unixtime get_format hour
    last_day localtime localtimestamp makedate maketime microsecond minute month monthname now period_add period_diff quarter
    sec_to_time second str_to_date subdate subtime sysdate time time_format time_to_sec timediff timestamp timestampadd
    timestampdiff to_days to_seconds unix_timestamp utc_date utc_time utc_timestamp week weekday weekofyear year yearweek"""
)
_CHOICES = words(
    "case cast coalesce convert decode if ifnull interval isnull json_table name_const nullif nvl nvl2 value values row"
)
_GROUPS = words(
    """avg bit_and bit_or bit_xor count cume_dist dense_rank first_value group_concat json_arrayagg json_objectagg lag last_value
    lead max median min nth_value ntile percent_rank percentile_cont percentile_disc rank row_number std stddev stddev_pop
    stddev_samp sum var_pop var_samp variance"""
)
_DOCUMENTS = words(
    """column_add column_check column_create column_delete column_exists column_get column_json column_list json_array
    json_array_append json_array_insert json_compact json_contains json_contains_path json_depth json_detailed json_equals
    json_exists json_extract json_insert json_keys json_length json_loose json_merge json_merge_patch json_merge_preserve
    json_normalize json_object json_overlaps json_pretty json_query json_quote json_remove json_replace json_search json_set
    json_type json_unquote json_valid json_value"""
)
_PLACES = words(
    """geometrycollection geometryfromtext geometryfromwkb glength linestring mbrcontains mbrequal mbrintersects mbroverlaps
    mbrwithin multilinestring multipoint multipolygon point polygon st_area st_asbinary st_asgeojson st_astext st_aswkb st_aswkt
    st_boundary st_buffer st_centroid st_contains st_convexhull st_crosses st_difference st_dimension st_disjoint st_distance
    st_distance_sphere st_endpoint st_envelope st_equals st_exteriorring st_geomcollfromtext st_geometryfromtext st_geometryn
    st_geometrytype st_geomfromgeojson st_geomfromtext st_geomfromwkb st_interiorringn st_intersection st_intersects st_isclosed
    st_isempty st_isring st_issimple st_length st_linefromtext st_linestringfromtext st_numgeometries st_numinteriorrings
    st_numpoints st_overlaps st_pointfromtext st_pointn st_pointonsurface st_polyfromtext st_polygonfromtext st_relate st_srid
    st_startpoint st_symdifference st_touches st_union st_within st_x st_y"""
)
_ADDRESSES = words("inet6_aton inet6_ntoa inet_aton inet_ntoa is_ipv4 is_ipv4_compat is_ipv4_mapped is_ipv6")
_OF_SESSION = words(
    """connection_id current_role current_user database found_rows last_insert_id row_count rownum schema schemas session_user
    sleep sys_guid system_user user uuid uuid_short version"""
)
FUNCTIONS: Mapping[str, str] = {
    **dict.fromkeys(_NUMBERS | _TEXTS | _CHOICES | _GROUPS, "it reckons with the values that it is given"),
    **dict.fromkeys(_DATES, "it reckons with dates, or tells the clock"),
    **dict.fromkeys(_DOCUMENTS | _PLACES | _ADDRESSES, "it takes a value apart or puts one together"),
    **dict.fromkeys(_OF_SESSION, "it tells of this session alone, or waits"),
}
"""By name, with the reason. What is refused opens files, takes locks, reads keys of the server, waits for other servers or
measures it: load_file, get_lock, des_encrypt, master_pos_wait, benchmark, and what a later release brings."""
_BEFORE_PARENTHESES = MARIADB.reserved | words(
    """against any as columns nested bit blob boolean datetime enum exists fields first ignored index key last lateral nchar numeric nvarchar of
    over partition query rollup set signed some text within bool dec fixed inet4 inet6 json number raw clob varchar2 year
    sql_cache sql_no_cache system_time"""
)
"""Words of the grammar that may stand there and call nothing."""
VARIABLES = words(
    """autocommit big_tables character_set_client character_set_connection character_set_database character_set_results
    character_set_server collation_connection collation_database collation_server default_week_format div_precision_increment
    error_count group_concat_max_len identity in_transaction innodb_lock_wait_timeout last_insert_id lc_time_names
    lock_wait_timeout lower_case_table_names max_allowed_packet max_sort_length max_statement_time sql_big_selects sql_mode
    sql_select_limit system_time_zone time_zone timestamp tx_isolation tx_read_only transaction_isolation transaction_read_only
    version version_comment wait_timeout warning_count"""
)
"""``@@`` variables that a statement may ask: of how its own session reads, counts and writes."""
CATALOGUE = words(
    """character_sets check_constraints collation_character_set_applicability collations columns geometry_columns
    key_column_usage keywords partitions referential_constraints schemata spatial_ref_sys sql_functions statistics table_constraints tables views"""
)
"""Tables of ``information_schema`` that a statement may read: of tables, columns, keys and character sets."""
OWN_DATABASES = ("information_schema", "mysql", "performance_schema", "sys")


class Judge:
    """Of one statement. ``asked``: query → rows. ``database``: that of names without one. ``permitted``: names."""

    def __init__(
        self, asked: Callable[[str], Sequence[Sequence[Any]]], text: str, database: str, permitted: Collection[str]
    ) -> None:
        self.asked, self.text, self.database = asked, text, database
        self.permitted = {name.lower() for name in permitted}

    def judge(self) -> list[str]:
        """Remarks on what may be called. Raises StatementRefused, with line and column, for what may not."""
        found = references(self.text, MARIADB)
        every = words_of(self.text, MARIADB)
        for name, at in _variables(every):
            if name not in VARIABLES and name not in self.permitted and f"@@{name}" not in self.permitted:
                raise not_allowed(self.text, at, f"'@@{name}', which tells of the server", f"@@{name}")
        for each in found.names:
            self._relation(each)
        made = _made_by_with(every)
        unknown = [call for call in found.calls if call.start not in made and not self._is_known(call)]
        return self._own(unknown) if unknown else []

    def _relation(self, name: Name) -> None:
        path = [part.lower() for part in name.path]
        if self.database.lower() in OWN_DATABASES:
            raise not_allowed(self.text, name.start, f"'{self.database}', the database of this source, is the server's own")
        if len(path) > 1 and path[0] in OWN_DATABASES and not (path[0] == "information_schema" and path[1] in CATALOGUE):
            said = f"{path[0]}.{path[1]}"
            if said not in self.permitted:
                raise not_allowed(self.text, name.start, f"'{said}', which tells of the server", said)

    def _is_known(self, call: Name) -> bool:
        if len(call.path) > 1:
            return False
        name = call.last.lower()
        return name in FUNCTIONS or name in self.permitted or (name in _BEFORE_PARENTHESES and not call.quoted[0])

    def _own(self, calls: Sequence[Name]) -> list[str]:
        """Those that the server must know as stored functions."""
        wanted = {(call.path[-2] if len(call.path) > 1 else self.database, call.last) for call in calls}
        said = ", ".join(f"({bound_literal(schema)}, {bound_literal(name)})" for schema, name in sorted(wanted))
        rows = self.asked(
            "select routine_schema, routine_name, security_type, sql_data_access from information_schema.routines"
            f" where routine_type = 'FUNCTION' and (routine_schema, routine_name) in ({said}) order by 1, 2"
        )
        known = {(str(schema).lower(), str(name).lower()) for schema, name, *_ in rows}
        for call in calls:
            schema = call.path[-2] if len(call.path) > 1 else self.database
            path = ".".join(call.path).lower()
            if (schema.lower(), call.last.lower()) not in known and path not in self.permitted:
                raise not_allowed(
                    self.text,
                    call.start,
                    f"a call of '{path}', which is none of those that only read and no stored function",
                    path,
                )
        return [
            f"function {schema}.{name} {what}"
            for schema, name, security, access in rows
            for what in (
                *(["has its owner's rights, which may be more than the login's"] if security == "DEFINER" else []),
                *(["says that it writes, which the session refuses"] if access == "MODIFIES SQL DATA" else []),
            )
        ]


def _variables(words: Sequence[Word]) -> Iterator[tuple[str, int]]:
    """Names after ``@@``, in small letters, and their places; of ``@@global.name`` the last part."""
    for at in range(len(words) - 2):
        if words[at].text == words[at + 1].text == "@" and words[at + 2].kind in ("word", "name"):
            last = at + 2
            while last + 2 < len(words) and words[last + 1].text == "." and words[last + 2].kind in ("word", "name"):
                last += 2
            yield words[last].text.lower(), words[at].start


def _made_by_with(words: Sequence[Word]) -> set[int]:
    """Places of the names in ``with name (columns) as (…)``, which call nothing."""
    found = set()
    for at, word in enumerate(words):
        if word.kind not in ("word", "name") or at + 1 >= len(words) or words[at + 1].text != "(" or at == 0:
            continue
        before = words[at - 1]
        if not (before.is_word("with", "recursive") or (before.text == "," and at > 1 and words[at - 2].text == ")")):
            continue
        end = at + 2
        while end < len(words) and (words[end].kind in ("word", "name") or words[end].text == ","):
            end += 1
        closes = end + 2 < len(words) and words[end].text == ")"
        if closes and words[end + 1].is_word("as") and words[end + 2].text == "(":
            found.add(word.start)
    return found
