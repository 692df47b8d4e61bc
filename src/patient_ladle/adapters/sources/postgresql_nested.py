"""Arrays and composite values of PostgreSQL as JSON, each member in its canonical form: moments in UTC, bytes as base64.

The server's own JSON of them depends on the session's zone and writes bytes in hex.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

TREE = """
with recursive found(oid) as (
  select unnest(%s::oid[])
  union
  select part.oid from found join pg_catalog.pg_type t on t.oid = found.oid cross join lateral (
    select t.typelem where t.typcategory = 'A' and t.typelem <> 0
    union all select t.typbasetype where t.typbasetype <> 0
    union all select a.atttypid from pg_catalog.pg_attribute a
      where t.typtype = 'c' and a.attrelid = t.typrelid and a.attnum > 0 and not a.attisdropped
  ) as part(oid)
)
select t.oid::int8, t.typtype::text, case when t.typcategory = 'A' and t.typtype <> 'd' then t.typelem else 0 end::int8, t.typbasetype::int8,
  array(select a.attname::text from pg_catalog.pg_attribute a
    where t.typtype = 'c' and a.attrelid = t.typrelid and a.attnum > 0 and not a.attisdropped order by a.attnum),
  array(select a.atttypid::int8 from pg_catalog.pg_attribute a
    where t.typtype = 'c' and a.attrelid = t.typrelid and a.attnum > 0 and not a.attisdropped order by a.attnum)
from found join pg_catalog.pg_type t on t.oid = found.oid"""
RECORD = 2249
"""The type of a row that has no type of its own: its members are not known before it is there."""
_MOST_DEPTH = 8


@dataclass(frozen=True, slots=True)
class Type:
    """What a type is made of: elements of an array, the base of a domain, members of a composite."""

    kind: str
    element: int
    base: int
    names: Sequence[str]
    members: Sequence[int]


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

    def _form(self, oid: int, value: str, depth: int) -> str:
        """``value`` itself where the server's JSON of it is canonical already."""
        found = self.types.get(oid)
        if found is None or depth > _MOST_DEPTH:
            return self.leaf(oid, value)
        if found.base:
            return self._form(found.base, value, depth)
        if found.element:
            at = f"i{depth}"
            member = f"({value})[{at}]"
            inner = self._form(found.element, member, depth + 1)
            if inner == member:
                return value
            each = f"array(select {inner} from generate_subscripts({value}, 1) as {at} order by {at})"
            # An array of several dimensions has no members by one number: it keeps the server's form.
            return f"case when {value} is null then null when array_ndims({value}) > 1 then to_json({value}) else to_json({each}) end"
        if found.members:
            pairs = [(name, f"({value}).{self.quoted(name)}") for name in found.names]
            inner_of = [self._form(of, part, depth + 1) for of, (_, part) in zip(found.members, pairs, strict=True)]
            if inner_of == [part for _, part in pairs]:
                return value
            row = ", ".join(f"{made} as {self.quoted(name)}" for made, (name, _) in zip(inner_of, pairs, strict=True))
            return f"case when ({value})::text is null then null else (select to_json(r{depth}) from (select {row}) as r{depth}) end"
        return self.leaf(oid, value)
