"""A small catalogue of Fennmoor Water, and outlines over it."""

from __future__ import annotations

from patient_ladle.core.statements.languages import LANGUAGES
from tests.core.languages.cases import SQL_LANGUAGES


def column(name, kind, nullable=False, type_=None):
    return {"name": name, "type": type_ or kind, "kind": kind, "nullable": nullable, "default": None, "comment": ""}


def table(name, columns, key, references=(), rows=None, schema=""):
    keys = [{"columns": [here], "schema": schema, "table": to, "to_columns": [there]} for here, to, there in references]
    return {"schema": schema, "name": name, "kind": "table", "comment": "", "rows_about": rows, "columns": columns,
            "primary_key": [key] if key else [], "unique_keys": [], "foreign_keys": keys, "indexes": []}  # fmt: skip


CATALOGUE = [
    table("districts", [column("district_id", "integer"), column("name", "text", type_="text"), column("zone", "text", True)],
          "district_id", rows=8),
    table("meters", [column("meter_id", "integer"), column("district_id", "integer"), column("serial", "text"),
                     column("fitted_on", "date"), column("replaces", "integer", True)],
          "meter_id", [("district_id", "districts", "district_id"), ("replaces", "meters", "meter_id")], 800),
    table("readings", [column("reading_id", "integer"), column("meter_id", "integer"), column("read_at", "timestamp"),
                       column("litres", "decimal"), column("estimated", "boolean", True), column("photo", "binary", True)],
          "reading_id", [("meter_id", "meters", "meter_id")], 500_000),
    table("repairs", [column("repair_id", "integer"), column("meter_id", "integer"), column("cost", "decimal", True)],
          "repair_id", [("meter_id", "meters", "meter_id")], 90),
    table("weather", [column("day", "date"), column("station", "text"), column("rain_mm", "decimal")], None, rows=400),
    table("tariffs", [column("zone", "text"), column("price", "decimal")], "zone"),
]  # fmt: skip
SQL = {name: member.outlines() for name, member in SQL_LANGUAGES.items()}
POSTGRESQL = LANGUAGES["postgresql"].outlines()
CONSUMPTION = {
    "outline": 1,
    "from": {"table": "readings", "as": "r"},
    "with": [
        {"table": "meters", "as": "m", "on": [{"left": "r.meter_id", "right": "m.meter_id"}]},
        {"table": "districts", "as": "d", "on": [{"left": "m.district_id", "right": "d.district_id"}]},
    ],
    "show": [
        {"column": "d.name", "name": "district"}, {"column": "r.read_at", "bucket": "month"},
        {"column": "r.litres", "aggregate": "sum", "name": "litres"},
    ],
    "where": {"all": [{"column": "r.read_at", "test": "in_period", "value": "last quarter"},
                      {"column": "r.estimated", "value": False}]},
    "grouped": [{"column": "d.name"}, {"column": "r.read_at", "bucket": "month"}],
    "having": {"column": "r.litres", "aggregate": "sum", "test": "more", "value": 500_000},
    "sorted": [{"by": "district"}, {"by": "month"}],
}  # fmt: skip
