"""``…__any``: one of many numbers, sent as one array. ``in`` sends one parameter each, which for thousands takes longer to
write than to look up."""

from __future__ import annotations

from typing import Any

from django.db.models import AutoField, BigAutoField, ForeignKey, Lookup


@BigAutoField.register_lookup
@AutoField.register_lookup
@ForeignKey.register_lookup
class AnyOf(Lookup):
    """The right side is a list of numbers, none of them null."""

    lookup_name = "any"
    prepare_rhs = False

    def as_sql(self, compiler: Any, connection: Any) -> Any:
        """PostgreSQL's ``= any``."""
        column, given = self.process_lhs(compiler, connection)
        return f"{column} = any(%s)", [*given, list(self.rhs)]
