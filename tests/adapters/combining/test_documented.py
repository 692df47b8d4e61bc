"""docs/steps.md has every kind of step with its fields, and every function, and no other."""

from __future__ import annotations

import re
from pathlib import Path

import msgspec

from patient_ladle.core.steps.declared import KINDS, Step
from patient_ladle.core.steps.expressions import AGGREGATES, FUNCTIONS

TEXT = (Path(__file__).parents[3] / "docs" / "steps.md").read_text()
COMMON = {field.encode_name for field in msgspec.structs.fields(Step)}


def test_every_step_stands_there_with_its_fields():
    rows = {
        row[0]: set(re.findall(r"`(\w+)`", row[1])) for row in re.findall(r"^\| `(\w+)` \| [^|]* \| ([^|]*) \|$", TEXT, re.M)
    }
    assert rows.keys() == KINDS.keys()
    for name, kind in KINDS.items():
        own = {field.encode_name for field in msgspec.structs.fields(kind)} - COMMON
        assert own <= rows[name], (name, own - rows[name])


def test_every_function_stands_there_and_no_other():
    functions, aggregates = (re.search(f"<!-- {part} -->\n(.*?)\n\n", TEXT, re.S)[1] for part in ("functions", "aggregates"))
    assert set(re.findall(r"`(\w+)`", functions)) == FUNCTIONS
    assert set(re.findall(r"`(\w+)`", aggregates)) - {"distinct"} == AGGREGATES - {"count_star"}
