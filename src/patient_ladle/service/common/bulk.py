"""Many rows at once, where the ORM's own ways cost more than the rows do: a tenth of ``bulk_create``, a hundredth of
``bulk_update``."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from django.db import connection, connections
from django.db.models import (
    BigAutoField,
    BigIntegerField,
    BooleanField,
    CharField,
    DateField,
    DateTimeField,
    Field,
    ForeignKey,
    Model,
    PositiveSmallIntegerField,
    SmallIntegerField,
)
from psycopg import sql

_PLAIN = (
    BigAutoField, BigIntegerField, BooleanField, CharField, DateField, DateTimeField, ForeignKey, PositiveSmallIntegerField,
    SmallIntegerField,
)  # fmt: skip
"""Fields whose values the driver takes as they are."""


def _is_plain(field: Field[Any, Any]) -> bool:
    return type(field) in _PLAIN and not getattr(field, "auto_now_add", False) and not getattr(field, "auto_now", False)


def copied_in(objects: Sequence[Model]) -> None:
    """Insert new objects of one model by COPY; gives each its number. Needs a transaction for all or none."""
    if not objects:
        return
    model = type(objects[0])
    table, fields, own = model._meta.db_table, model._meta.concrete_fields, connections["default"]
    ways = [(field, field.attname, _is_plain(field)) for field in fields]
    with connection.cursor() as cursor:
        cursor.execute("select nextval(pg_get_serial_sequence(%s, 'id')) from generate_series(1, %s)", [table, len(objects)])
        for each, (number,) in zip(objects, cursor.fetchall(), strict=True):
            each.pk = number
        columns = sql.SQL(", ").join(sql.Identifier(field.column) for field in fields)
        with cursor.copy(sql.SQL("copy {} ({}) from stdin").format(sql.Identifier(table), columns)) as copy:
            for each in objects:
                each._prepare_related_fields_for_save("copied_in")  # numbers of objects saved by now
                plainly = each.__dict__
                copy.write_row(
                    [
                        plainly[name] if is_plain else field.get_db_prep_save(field.pre_save(each, True), own)
                        for field, name, is_plain in ways
                    ]
                )
    for each in objects:
        each._state.adding, each._state.db = False, "default"


def moments_set(model: type[Model], column: str, moments: Mapping[int, datetime | None]) -> None:
    """One column of moments of many rows, by their numbers."""
    with connection.cursor() as cursor:
        cursor.execute(
            sql.SQL(
                "update {table} t set {column} = v.at from unnest(%s::bigint[], %s::timestamptz[]) v (id, at) where t.id = v.id"
            ).format(table=sql.Identifier(model._meta.db_table), column=sql.Identifier(column)),
            [list(moments), list(moments.values())],
        )
