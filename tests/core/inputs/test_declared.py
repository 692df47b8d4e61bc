"""Inputs of a combination as they are declared: kept as they were, refused with their place, put in order."""

from __future__ import annotations

import jsonschema
import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.errors import BadInput
from patient_ladle.core.inputs.declared import Drawn, in_order, inputs_of, schema

DECLARED = [
    {"name": "meters", "extract": "meters_by_district", "statement": 2, "values": {"month": {"parameter": "month"}, "top": 5}},
    {"name": "calls", "extract": "calls", "values": {"towns": {"input": "Meters", "column": "district"}}, "stored": True},
    {"name": "names", "lookup": "districts"},
]


def test_a_declaration_comes_back_as_it_was_and_the_schema_knows_it():
    made = inputs_of(DECLARED)
    assert [each.to_dict() for each in made] == DECLARED
    jsonschema.validate({"inputs": DECLARED}, schema())
    assert made[0].handed() == {"month": "month"}
    assert made[0].constants() == {"top": 5}
    assert made[1].drawn() == {"towns": Drawn("Meters", "district")}


REFUSED = [
    ("x", "", "a list", "name"),
    ([{}], "inputs[0]", "name", "It takes"),
    (["meters"], "inputs[0]", "no object", "extract"),
    ([{"name": "a b", "extract": "x"}], "inputs[0].name", "cannot be the name", "underscores"),
    ([{"name": "a"}], "inputs[0].extract", "an extract or a lookup", "which"),
    ([{"name": "a", "extract": "x", "lookup": "y"}], "inputs[0].extract", "one of the two", ""),
    ([{"name": "a", "lookup": "y", "values": {"b": 1}}], "inputs[0].lookup", "takes no values", ""),
    ([{"name": "a", "extrct": "x"}], "inputs[0]", "unknown field 'extrct'", "Did you mean 'extract'?"),
    ([{"name": "a", "extract": "x", "statement": 0}], "inputs[0].statement", ">= 1", ""),
    ([{"name": "a", "extract": "x", "values": {"b": {"column": "c"}}}], "inputs[0].values.b", "no value", "parameter"),
    ([{"name": "a", "extract": "x"}, {"name": "A", "extract": "y"}], "inputs[1].name", "input 1 is called 'A' too", ""),
    ([{"name": "a", "extract": "x", "values": {"b": {"input": "c", "column": "d"}}}], "inputs[0].values.b", "no input 'c'", ""),
    ([{"name": "a", "extract": "x", "values": {"b": {"input": "A", "column": "d"}}}], "inputs[0].values", "for ever", "constants"),
    ([{"name": f"n{n}", "extract": "x"} for n in range(21)], "", "21 inputs; at most 20", "first"),
]  # fmt: skip


@pytest.mark.parametrize(("given", "where", "message", "hint"), REFUSED, ids=[str(n) for n in range(len(REFUSED))])
def test_what_is_no_declaration_is_refused_with_its_place(given, where, message, hint):
    with pytest.raises(BadInput) as refused:
        inputs_of(given)
    assert message in refused.value.message
    assert hint in refused.value.hint
    assert refused.value.facts.get("where", "") == where


@given(st.integers(1, 9), st.data())
def test_each_input_comes_after_those_whose_values_it_takes(count, data):
    """Whatever takes from whatever, without a circle; in a circle nothing of it is left to begin."""
    names = [f"n{number}" for number in range(count)]
    places = data.draw(st.permutations(range(count)))
    declared = []
    for number, name in enumerate(names):
        before = [other for other in range(count) if places[other] < places[number]]
        taken = data.draw(st.lists(st.sampled_from(before), unique=True, max_size=3)) if before else []
        values = {f"v{other}": {"input": names[other], "column": "c"} for other in taken}
        declared.append({"name": name, "extract": "x", **({"values": values} if values else {})})
    done = set()
    for each in in_order(inputs_of(declared)):
        assert {drawn.input for drawn in each.drawn().values()} <= done
        done.add(each.name)
    assert done == set(names)
