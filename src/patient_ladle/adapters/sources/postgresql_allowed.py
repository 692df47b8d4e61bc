"""What a statement may call and read in PostgreSQL: allowed by a rule or by name, each with its reason; all else is refused.

Rules go by what the server says of a function: whether it is the server's own, in which language it is written, whether its
result follows from its arguments alone, and what it takes. Functions that people wrote in SQL or a trusted language cannot
leave the read-only transaction and have the login's rights only: they may be called, with a remark. One in C, of an
extension or anybody's, can do anything whatever its name: an administrator permits it for one source, by name.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from patient_ladle.core.statements.languages.sql import words
from patient_ladle.core.statements.references import Name, References

from .allowed import not_allowed

_INNER = words(
    """internal cstring trigger event_trigger pg_node_tree index_am_handler table_am_handler tsm_handler
        fdw_handler language_handler pg_ddl_command refcursor"""
)
"""What only the server makes, for itself."""
_LOOKING = words(
    """text name oid xid cid tid regclass regproc regprocedure regoper regoperator regtype regrole regnamespace
        regconfig regdictionary regcollation aclitem aclitem[] text[] oidvector xml"""
)
"""Types whose values may be names of something: a function that takes one could look it up, or run it."""
_NAMING = _LOOKING - {"oid", "xid", "cid", "tid", "oidvector"}
"""Those of them that are no numbers."""
_OF_THE_SERVER = ("pg_", "inet_", "txid_", "lo_", "binary_upgrade_", "fmgr_")
"""How names begin that tell of the server, its sessions and its files."""


@dataclass(frozen=True, slots=True)
class Function:
    """One function, as the server describes it."""

    name: str
    schema: str
    language: str
    trusted: bool
    volatility: str
    """``i`` immutable, ``s`` stable, ``v`` volatile."""
    definer: bool
    """It has its owner's rights."""
    takes: tuple[str, ...]
    gives: str
    behind: str = ""
    """The aggregate, operator or type that is made of it, if it is not called by its own name."""
    shares: bool = False
    """The server's own has something of the same name."""
    unmet: bool = False
    """It takes a type of another schema, and no table that is named has a column of it."""

    @property
    def is_own(self) -> bool:
        """Of the server itself."""
        return self.schema == "pg_catalog"

    @property
    def full_name(self) -> str:
        """With its schema."""
        return f"{self.schema}.{self.name}"


def _computes(one: Function) -> bool:
    return one.volatility == "i"


def _writes_values(one: Function) -> bool:
    named = one.name.startswith(_OF_THE_SERVER)
    return one.volatility == "s" and bool(one.takes) and not named and not _LOOKING & {*one.takes}


RULES: Mapping[str, tuple[Callable[[Function], bool], str]] = {
    "computes": (_computes, "its result follows from its arguments alone, so it looks at nothing else"),
    "writes values": (
        _writes_values,
        "it takes values that name nothing and writes or compares them by the session's zone and formats, which are ours",
    ),
}
"""For functions of the server's own that take and give nothing inner. Of an aggregate, each function that it is made of counts."""

_CLOCKS = "a clock or a number by chance; it changes nothing"
_TEXTS = "it takes texts apart or puts them together, by the session's formats; none of them is a name"
_SEARCH = "full text search with the dictionaries that the server has; the text is words"
_TABLES = "it tells of tables, columns and types only"
_OF_SESSION = "it tells of this session alone"
_SIZES = "the size of a table that is named"
FUNCTIONS: Mapping[str, str] = {
    **dict.fromkeys(words(
        """random setseed random_normal clock_timestamp timeofday now statement_timestamp transaction_timestamp
        gen_random_uuid uuidv4 uuidv7 pg_sleep pg_sleep_for pg_sleep_until array_sample array_shuffle"""
    ), _CLOCKS
    ),
    **dict.fromkeys(words(
        """anytextcat textanycat concat concat_ws format to_char to_date to_number to_timestamp date_part
        date_trunc extract timezone make_timestamptz array_to_string quote_literal quote_nullable xml
        xml_is_well_formed convert convert_from convert_to length textsend namesend xml_send
        jsonb_path_exists_tz jsonb_path_match_tz jsonb_path_query_tz jsonb_path_query_array_tz
        jsonb_path_query_first_tz date_add date_subtract age json_build_array json_build_object
        jsonb_build_array jsonb_build_object"""
    ), _TEXTS
    ),
    **dict.fromkeys(words(
        """to_tsvector json_to_tsvector jsonb_to_tsvector to_tsquery plainto_tsquery phraseto_tsquery
        websearch_to_tsquery ts_headline ts_match_tt ts_match_tq ts_debug ts_parse ts_token_type
        get_current_ts_config"""
    ), _SEARCH
    ),
    **dict.fromkeys(words(
        """format_type obj_description col_description pg_get_viewdef pg_get_constraintdef pg_get_indexdef
        pg_get_expr pg_get_partkeydef pg_get_partition_constraintdef pg_get_serial_sequence pg_table_is_visible
        pg_type_is_visible pg_typeof pg_basetype pg_column_size pg_column_compression pg_collation_for
        to_regclass to_regtype to_regnamespace regclass pg_partition_tree pg_partition_ancestors
        pg_partition_root pg_sequence_parameters pg_get_keywords oidvectortypes pg_char_to_encoding
        pg_encoding_to_char"""
    ), _TABLES
    ),
    **dict.fromkeys(words(
        """current_database current_schema current_schemas current_user session_user getdatabaseencoding
        pg_client_encoding current_query currval lastval pg_is_in_recovery version pg_my_temp_schema
        row_security_active pg_collation_actual_version pg_timezone_names pg_timezone_abbrevs pg_trigger_depth"""
    ), _OF_SESSION
    ),
    **dict.fromkeys(words(
        """pg_relation_size pg_table_size pg_indexes_size pg_total_relation_size"""
    ), _SIZES),
    **dict.fromkeys(["bernoulli", "system"], "a sample of a table"),
    "current_setting": "of the few settings that the gate lets be asked for",
    "pg_xact_commit_timestamp": "when a row was written",
}  # fmt: skip
"""Functions of the server's own under no rule: all that go by the name are allowed."""

TYPES = words(
    """regclass regtype regnamespace regproc regprocedure regoper regoperator regconfig regdictionary
        regcollation"""
)
"""Types of the server's own that look a name up and that a statement may name: of tables, types and text search. ``regrole`` and
``aclitem`` tell of accounts."""
_OF_TABLES = "of tables, columns, types, keys and comments, which a login that may sign in can see"
CATALOGUE: Mapping[str, Mapping[str, str]] = {
    "pg_catalog": dict.fromkeys(words(
        """pg_class pg_attribute pg_attrdef pg_type pg_namespace pg_constraint pg_index pg_indexes pg_tables
        pg_views pg_matviews pg_description pg_enum pg_range pg_inherits pg_partitioned_table pg_sequence
        pg_sequences pg_collation pg_am pg_opclass pg_opfamily pg_operator pg_cast pg_depend pg_stats
        pg_stats_ext pg_statistic_ext pg_timezone_names pg_timezone_abbrevs pg_ts_config pg_ts_dict pg_aggregate"""
    ), _OF_TABLES
    ),
    "information_schema": dict.fromkeys(words(
        """attributes character_sets check_constraint_routine_usage check_constraints collations
        collation_character_set_applicability column_column_usage column_domain_usage column_udt_usage columns
        constraint_column_usage constraint_table_usage domain_constraints domain_udt_usage domains element_types
        information_schema_catalog_name key_column_usage referential_constraints schemata sequences sql_features
        sql_sizing table_constraints tables user_defined_types view_column_usage view_table_usage views"""
    ), _OF_TABLES
    ),
}  # fmt: skip
"""Relations of the server's own schemas that a statement may read; what is in none tells of accounts, sessions or the server."""


def rule_of(one: Function) -> str:
    """The rule, or ``by name``, under which a function of the server's own may be called; empty where it may not."""
    if one.name in FUNCTIONS:
        return "by name"
    if _INNER & {*one.takes, one.gives}:
        return ""
    return next((name for name, (holds, _) in RULES.items() if holds(one)), "")


def may_be_called(one: Function) -> bool:
    """Without an administrator's word. One that only shares a name with the server's own is not met without a value of its type."""
    if one.is_own:
        return bool(rule_of(one)) or bool(one.behind and not _looks(one))
    return one.trusted or _is_not_met(one)


def _is_not_met(one: Function) -> bool:
    return one.shares and one.unmet and one.volatility == "i"


def _looks(one: Function) -> bool:
    """Of a function that an aggregate is made of, which takes its inner state."""
    return one.volatility == "v" or bool(_LOOKING & {*one.takes} and one.volatility != "i")


def may_make_a_type(one: Function) -> bool:
    """Whether a value of a type may be read from text by this function, its own or that of a type within it."""
    if not one.is_own:
        return one.trusted
    return not one.gives.startswith(("reg", "aclitem")) or one.gives in TYPES


def may_be_an_operator(one: Function) -> bool:
    """A symbol may belong to several operators; one in C is let go by when it computes with values that are no texts."""
    return may_be_called(one) or (one.volatility == "i" and not _NAMING & {*one.takes})


QUERY = """
with said as (
  select k as kind, s as schema, nullif(n, '')::name as name from unnest(%s::text[], %s::text[], %s::text[]) as t(k, s, n)
), in_play(oid) as (
  select t.oid from said join pg_catalog.pg_class c on c.relname = said.name
  join pg_catalog.pg_attribute a on a.attrelid = c.oid and a.attnum > 0
  join pg_catalog.pg_type b on b.oid = a.atttypid
  cross join lateral (values (b.oid), (b.typbasetype), (b.typelem)) as t(oid)
  where said.kind = 'name' and case said.schema when '' then pg_catalog.pg_table_is_visible(c.oid)
    else c.relnamespace = (select oid from pg_catalog.pg_namespace where nspname = said.schema::name) end
), called as (
  select p.oid, bool_and(said.schema = '') as may_be_other from said join pg_catalog.pg_proc p on p.proname = said.name
  where said.kind in ('call', 'field') and case said.schema when '' then pg_catalog.pg_function_is_visible(p.oid)
    else p.pronamespace = (select oid from pg_catalog.pg_namespace where nspname = said.schema::name) end
    and (said.kind = 'call' or p.pronargs - p.pronargdefaults <= 1 and p.pronargs > 0
      and exists (select from pg_catalog.pg_type t where t.oid = p.proargtypes[0] and t.typtype in ('c', 'p')))
  group by p.oid
), operators as (
  select distinct o.oprcode::oid as oid, o.oprname as symbol from said join pg_catalog.pg_operator o on o.oprname = said.name
  where said.kind = 'operator' and o.oprnamespace <> 'pg_catalog'::regnamespace
), types(oid, said) as (
  select t.oid, t.typname from said join pg_catalog.pg_type t on t.typname = said.name
  where said.kind = 'type' and (t.typnamespace <> 'pg_catalog'::regnamespace or t.typname ~ '^_?(reg|aclitem)')
), reached as (
  with recursive reached(oid, said) as (
    select oid, said from types
    union
    select inner_type.oid, reached.said from reached join pg_catalog.pg_type t on t.oid = reached.oid
    left join pg_catalog.pg_range r on r.rngtypid = t.oid
    left join pg_catalog.pg_attribute a on a.attrelid = t.typrelid and t.typrelid <> 0 and a.attnum > 0 and not a.attisdropped
    cross join lateral (values (t.typbasetype), (t.typelem), (r.rngsubtype), (a.atttypid)) as inner_type(oid)
    where inner_type.oid <> 0
  ) select reached.said, t.typinput::oid as oid from reached join pg_catalog.pg_type t on t.oid = reached.oid
), parts as (
  select called.oid as aggregate, may_be_other, part from called join pg_catalog.pg_aggregate a on a.aggfnoid = called.oid
  and a.aggfnoid >= 16384
  cross join lateral (values (a.aggtransfn), (a.aggfinalfn), (a.aggcombinefn), (a.aggserialfn), (a.aggdeserialfn),
    (a.aggmtransfn), (a.aggminvtransfn), (a.aggmfinalfn)) as p(part) where part::oid <> 0
), found as (
  select 'call' as kind, oid, '' as behind, may_be_other from called
  union all select 'part', part::oid, p.proname, may_be_other from parts join pg_catalog.pg_proc p on p.oid = parts.aggregate
  union all select 'operator', oid, symbol, true from operators
  union all select distinct 'type', oid, said, false from reached
)
select f.kind, f.behind, p.proname, n.nspname, l.lanname, l.lanpltrusted, p.provolatile::text, p.prosecdef,
  array(select pg_catalog.format_type(t, null) from unnest(p.proargtypes::oid[]) t), pg_catalog.format_type(p.prorettype, null),
  p.prokind = 'a', f.may_be_other and case f.kind when 'operator'
    then exists (select from pg_catalog.pg_operator o where o.oprname = f.behind and o.oprnamespace = 'pg_catalog'::regnamespace)
    else exists (select from pg_catalog.pg_proc o where o.proname = case f.kind when 'part' then f.behind else p.proname end
      and o.pronamespace = 'pg_catalog'::regnamespace) end,
  exists (select from unnest(p.proargtypes::oid[]) as a(oid) join pg_catalog.pg_type t on t.oid = a.oid
    where t.typnamespace <> 'pg_catalog'::regnamespace and t.oid not in (select oid from in_play where oid is not null))
from found f join pg_catalog.pg_proc p on p.oid = f.oid join pg_catalog.pg_language l on l.oid = p.prolang
join pg_catalog.pg_namespace n on n.oid = p.pronamespace order by 1, 2, 3, 4"""
"""Functions by kind: called, behind an aggregate, an operator (of other schemas) or a type (of other schemas)."""
RELATIONS = """
select distinct n.nspname, c.relname, e.extname
from unnest(%s::text[], %s::text[]) as said(s, n) join pg_catalog.pg_class c on c.relname = said.n::name
join pg_catalog.pg_namespace n on n.oid = c.relnamespace
left join pg_catalog.pg_depend d on d.classid = 'pg_class'::regclass and d.objid = c.oid and d.deptype = 'e'
left join pg_catalog.pg_extension e on e.oid = d.refobjid and d.refclassid = 'pg_extension'::regclass
where c.relkind in ('r', 'v', 'm', 'f', 'p', 't', 'S') and (n.nspname ~ '^pg_' or n.nspname = 'information_schema' or e.oid is not null)
  and case said.s when '' then pg_catalog.pg_table_is_visible(c.oid) else n.nspname = said.s::name end
order by 1, 2"""
"""What of the names is a relation of the server's own, or of an extension."""


def _folded(name: str, is_quoted: bool) -> str:
    """As the server reads it: without quotes, ASCII letters are small."""
    return name if is_quoted else "".join(letter.lower() if letter.isascii() else letter for letter in name)


def _said(names: Iterable[Name]) -> set[tuple[str, str]]:
    """Schema, or nothing, and name; of a name with dots each part may be the name, and what stands before it its schema."""
    found = set()
    for name in names:
        parts = [_folded(part, quoted) for part, quoted in zip(name.path, name.quoted, strict=True)]
        found.add((parts[-2] if len(parts) > 1 else "", parts[-1]))
    return found


class Judge:
    """Asks a server about the names in one statement. ``asked``: (query, values) → rows. ``permitted``: names, in small letters."""

    def __init__(self, asked: Callable[[str, Sequence[Any]], Sequence[Any]], text: str, permitted: Collection[str]) -> None:
        self.asked, self.text, self.permitted = asked, text, {name.lower() for name in permitted}

    def judge(self, found: References) -> list[str]:
        """Remarks on what may be called. Raises StatementRefused, with line and column, for what may not."""
        self._relations(found)
        return self._functions(found)

    def _is_permitted(self, *names: str) -> bool:
        return any(name.lower() in self.permitted for name in names)

    def _relations(self, found: References) -> None:
        said = sorted(_said(found.names))
        for schema, name, extension in self.asked(RELATIONS, [[s for s, _ in said], [n for _, n in said]]):
            allowed = extension is None and name in CATALOGUE.get(schema, {})
            if not allowed and not self._is_permitted(name, f"{schema}.{name}"):
                of = f"of extension {extension}" if extension else "which tells of the server"
                raise not_allowed(self.text, self._place(found.names, name), f"'{schema}.{name}', {of}", f"{schema}.{name}")

    def _functions(self, found: References) -> list[str]:
        said = [("call", *each) for each in sorted(_said(found.calls))]
        said += [("field", *each) for each in sorted(_said(found.fields))]
        said += [("type", *each) for each in sorted(_said(found.types))]
        said += [("operator", "", symbol) for symbol in sorted(found.operators)]
        said += [("name", *each) for each in sorted(_said(found.names))]
        remarks: dict[str, None] = {}
        rows = self.asked(QUERY, [[each[place] for each in said] for place in range(3)])
        for kind, behind, name, schema, language, trusted, volatility, definer, takes, gives, is_aggregate, *more in rows:
            one = Function(name, schema, language, trusted, volatility, definer, tuple(takes), gives, behind, *more)
            if kind == "call" and is_aggregate and not one.is_own:
                continue  # what it is made of counts
            self._one(found, kind, one)
            if kind == "call" and not one.is_own:
                remarks |= dict.fromkeys(_remarks(one))
        return list(remarks)

    def _one(self, found: References, kind: str, one: Function) -> None:
        if self._is_permitted(one.name, one.full_name, *filter(None, [one.behind])):
            return
        if kind == "operator":
            if not may_be_an_operator(one) and (one.behind in found.beside or not _NAMING & {*one.takes}):
                at = found.operators[one.behind]
                what = f"the operator {one.behind} may be that of {one.full_name}, which is written in {_language(one)}"
                raise not_allowed(self.text, at, what, one.full_name)
        elif kind == "type":
            if not may_make_a_type(one):
                at = self._place(found.types, one.behind)
                why = "looks accounts up" if one.is_own else f"is made by {one.full_name}, which is written in {_language(one)}"
                raise not_allowed(self.text, at, f"the type '{one.behind}' {why}", one.behind)
        elif not may_be_called(one):
            name = one.behind or one.name
            why = "which is none of those that only read" if one.is_own else f"which is written in {_language(one)}"
            at = self._place([*found.calls, *found.fields], name)
            raise not_allowed(self.text, at, f"a call of '{name}', {why}", name if one.is_own or one.behind else one.full_name)

    def _place(self, names: Iterable[Name], name: str) -> int:
        return next((each.start for each in names if each.last.lower() == name.lower()), 0)


def _language(one: Function) -> str:
    return {"c": "C", "internal": "the server itself under another name"}.get(
        one.language, f"{one.language}, which is not trusted"
    )


def _remarks(one: Function) -> list[str]:
    told = []
    if one.definer:
        told.append(f"function {one.full_name} has its owner's rights, which may be more than the login's")
    if one.volatility == "v":
        told.append(
            f"function {one.full_name} is volatile: what it gives may differ from call to call, and it may try to write"
        )
    return told
