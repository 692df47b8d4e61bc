"""What the contract asks of each query language, in its own words."""

from __future__ import annotations

from patient_ladle.core.statements.languages import LANGUAGES
from patient_ladle.core.statements.languages.sql import SqlLanguage
from tests.toy.toy import TOY

SQL_LANGUAGES = {name: member for name, member in LANGUAGES.items() if isinstance(member, SqlLanguage)}
"""Those of one lexer, whose texts are cut alike."""
SQL = {
    "two": "-- By zone\nselect name from districts where zone = :zone;\n-- All\nselect 1 as one",
    "refused": ("select 1;\n  delete from districts", 2, 3),
    "none": "-- only words",
    "used_twice": "select :zone as z, name from districts where zone = :zone and :day is not null",
    "no_parameter": "select ':zone' as z -- :zone\n, :day as d",
    "unclosed": "select /* :zone */ 'North', :day",
}
CASES = {
    "postgresql": SQL | {"no_parameter": "select ':zone' as z, $$ :zone $$ as y, x::zone -- :zone\n, :day as d"},
    "mariadb": SQL | {"no_parameter": "select \":zone\" as z, `:zone` # :zone\n, :day as d"},
    "sqlite": SQL | {"no_parameter": "select [:zone] as z -- :zone\n, :day as d"},
    "duckdb": SQL,
    "documents": {
        "two": '// By zone\n{"find": "districts", "filter": {"zone": :zone}};\n/* All */ {"count": "districts"}',
        "refused": ('{"find": "districts"};\n  {"delete": "districts"}', 2, 4),
        "none": "// only words",
        "used_twice": '{"find": "districts", "filter": {"$or": [{"zone": :zone}, {"name": :zone}, {"day": {"$lt": :day}}]}}',
        "no_parameter": '{"find": ":zone", // :zone\n"filter": {"a:zone": "\\":zone", "day": :day}}',
        "unclosed": '{"find": "districts", "filter": {"zone": /* :zone */ "North", "day": :day}}',
    },
    "toy": {
        "two": "# By zone\npick name from districts where zone is :zone\n---\n# All\npick name from districts",
        "refused": ("pick name from districts\n---\n  drop districts", 3, 3),
        "none": "# only words",
        "used_twice": "pick name, zone from districts where zone is :zone # and :zone\n---\npick name from districts where zone is :zone\n---\npick name from districts where name is :day",
        "no_parameter": "# :zone\npick name from districts where name is :day",
        "unclosed": "pick name from districts where zone is <zone: \"North\"",
    },
}  # fmt: skip
OTHERS = {"toy": TOY}
"""Languages that no engine that ships names."""
