"""Arrays and composite values of PostgreSQL as JSON, and ranges, each member in its canonical form: moments in UTC, bytes as base64.

The server's own JSON of them depends on the session's zone and writes bytes in hex.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

TREE = """
with recursive ranges(type, within) as (
  select rngtypid, rngsubtype from pg_catalog.pg_range
  union all
  select (to_jsonb(r) ->> 'rngmultitypid')::oid, rngtypid from pg_catalog.pg_range r where to_jsonb(r) ? 'rngmultitypid'
), found(oid) as (
  select unnest(%s::oid[])
  union
  select part.oid from found join pg_catalog.pg_type t on t.oid = found.oid cross join lateral (
    select t.typelem where t.typcategory = 'A' and t.typelem <> 0
    union all select t.typbasetype where t.typbasetype <> 0
    union all select r.within from ranges r where r.type = t.oid
    union all select a.atttypid from pg_catalog.pg_attribute a
      where t.typtype = 'c' and a.attrelid = t.typrelid and a.attnum > 0 and not a.attisdropped
  ) as part(oid)
)
select t.oid::int8, t.typtype::text, case when t.typcategory = 'A' and t.typtype <> 'd' then t.typelem else 0 end::int8, t.typbasetype::int8,
  array(select a.attname::text from pg_catalog.pg_attribute a
    where t.typtype = 'c' and a.attrelid = t.typrelid and a.attnum > 0 and not a.attisdropped order by a.attnum),
  array(select a.atttypid::int8 from pg_catalog.pg_attribute a
    where t.typtype = 'c' and a.attrelid = t.typrelid and a.attnum > 0 and not a.attisdropped order by a.attnum),
  coalesce((select r.within::int8 from ranges r where r.type = t.oid), 0)
from found join pg_catalog.pg_type t on t.oid = found.oid"""
RECORD = 2249
"""The type of a row that has no type of its own: its members are not known before it is there."""
RECORDS = frozenset({RECORD, 2287})
"""That, and an array of such rows."""
RECORD_NOTE = "rows without a type of their own: moments inside are written in the session's zone; select their columns instead"
_MOST_DIMENSIONS = 6
"""The server's limit."""
_MOST_DEPTH = 8


@dataclass(frozen=True, slots=True)
class Type:
    """What a type is made of: elements of an array, the base of a domain, members of a composite, what a range goes over."""

    kind: str
    element: int
    base: int
    names: Sequence[str]
    members: Sequence[int]
    within: int


class Types:
    """Types by their numbers, and the expressions that write values of them."""

    def __init__(self, rows: Sequence[Sequence[Any]], leaf: Callable[[int, str], str], quoted: Callable[[str], str]) -> None:
        """``rows``: of ``TREE``; ``leaf``: the canonical expression of a plain type's value, or the value itself."""
        self.types: Mapping[int, Type] = {int(row[0]): Type(*row[1:]) for row in rows}
        self.leaf, self.quoted = leaf, quoted

    def is_nested(self, oid: int) -> bool:
        """Whether its values are written as JSON."""
        found = self.types.get(oid)
        return oid == RECORD or (found is not None and (bool(found.element or found.members) or self.is_nested(found.base)))

    def as_json(self, oid: int, value: str) -> str:
        """The expression that gives the JSON text of a nested value."""
        return f"to_json({self._form(oid, value, 0)})::text"

    def as_text(self, oid: int, value: str) -> str | None:
        """The expression that gives the text of a range or several, or None: the server's own is canonical."""
        found = self.types.get(oid)
        if found is None or not (found.within or found.base):
            return None
        made = self._form(oid, value, 0)
        return None if made == value or not self._over(oid) else made

    def _over(self, oid: int) -> int:
        """What a range, or a domain of one, goes over; 0 for other types."""
        found = self.types.get(oid)
        return 0 if found is None else found.within or self._over(found.base)

    def _form(self, oid: int, value: str, depth: int) -> str:
        """``value`` itself where the server's JSON of it is canonical already."""
        found = self.types.get(oid)
        if found is None or depth > _MOST_DEPTH:
            return self.leaf(oid, value)
        if found.base:
            return self._form(found.base, value, depth)
        if found.element:
            return self._elements(found.element, value, depth)
        if found.within:
            return self._range(found.within, value, depth)
        if found.members:
            pairs = [(name, f"({value}).{self.quoted(name)}") for name in found.names]
            inner_of = [self._form(of, part, depth + 1) for of, (_, part) in zip(found.members, pairs, strict=True)]
            if inner_of == [part for _, part in pairs]:
                return value
            row = ", ".join(f"{made} as {self.quoted(name)}" for made, (name, _) in zip(inner_of, pairs, strict=True))
            return f"case when ({value})::text is null then null else (select to_json(r{depth}) from (select {row}) as r{depth}) end"
        return self.leaf(oid, value)

    def _elements(self, element: int, value: str, depth: int) -> str:
        """An array, by the number of its dimensions: a member of several has as many subscripts."""
        names = [f"i{depth}_{number}" for number in range(1, _MOST_DIMENSIONS + 1)]
        made = []
        for dimensions in range(1, _MOST_DIMENSIONS + 1):
            member = f"({value})" + "".join(f"[{at}]" for at in names[:dimensions])
            form = self._form(element, member, depth + 1)
            if form == member:
                return value
            form = f"to_json({form})"
            for number in range(dimensions, 0, -1):
                at = names[number - 1]
                form = f"array_to_json(array(select {form} from generate_subscripts({value}, {number}) as {at} order by {at}))"
            made.append(f" when {dimensions} then {form}")
            if depth:
                break  # an array within another value: one dimension is what people keep there, and the text stays short
        return (
            f"case when {value} is null then null else case array_ndims({value}){''.join(made)} else to_json({value}) end end"
        )

    def _range(self, within: int, value: str, depth: int) -> str:
        """A range as the server reads it back, or several in braces; bounds need no quotes in their canonical form."""
        inside = self.types.get(within)
        if inside is not None and inside.within:
            one = f"r{depth}"
            form = self._form(within, one, depth + 1)
            if form == one:
                return value
            several = f"array_to_string(array(select {form} from unnest({value}) as {one} order by {one}), ',')"
            return f"case when {value} is null then null else '{{' || {several} || '}}' end"
        low, high = (self._form(within, f"{bound}({value})", depth + 1) for bound in ("lower", "upper"))
        if low == f"lower({value})":
            return value
        opens, closes = (
            f"case when lower_inc({value}) then '[' else '(' end",
            f"case when upper_inc({value}) then ']' else ')' end",
        )
        bounds = f"coalesce({low}, '') || ',' || coalesce({high}, '')"
        return (
            f"case when {value} is null then null when isempty({value}) then 'empty' else {opens} || {bounds} || {closes} end"
        )
