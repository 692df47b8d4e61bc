"""Outlines for document stores: the stages in their order, and what a document store has not."""

from __future__ import annotations

import pytest

from patient_ladle.core.errors import BadInput
from patient_ladle.core.statements.languages import LANGUAGES
from patient_ladle.core.statements.outlines.outline import Outline

from . import column, table

DOCUMENTS = LANGUAGES["documents"].outlines()
CATALOGUE = [
    table("contacts", [column("contact", "text"), column("opened_at", "zoned"), column("minutes", "integer", True),
                       column("customer.town", "text", True), column("meter_id", "integer", True)], None),
    table("meters", [column("meter_id", "integer"), column("serial", "text")], None),
]  # fmt: skip
JOIN = {"table": "meters", "as": "m", "join": "left", "on": [{"left": "c.meter_id", "right": "m.meter_id"}]}
CONTACTS = {"outline": 1, "from": {"table": "contacts", "as": "c"}}


def test_stages_stand_in_the_order_of_the_outline():
    outline = CONTACTS | {
        "with": [JOIN],
        "where": {"all": [{"column": "c.opened_at", "test": "in_period", "value": "last month"},
                          {"none": [{"column": "m.serial", "test": "begins_with", "value": "A."}]}]},
        "show": [{"column": "c.customer.town", "name": "town"}, {"column": "c.opened_at", "bucket": "month"},
                 {"expression": '{"$multiply": ["$minutes", 60]}', "aggregate": "sum", "name": "seconds"}],
        "grouped": [{"column": "c.customer.town"}, {"column": "c.opened_at", "bucket": "month"}],
        "sorted": [{"by": "seconds", "descending": True}], "first": 5,
    }  # fmt: skip
    made = DOCUMENTS.compiled(Outline.from_dict(outline), CATALOGUE, [])
    assert (
        made.statement
        == """{"aggregate": "contacts",
 "pipeline": [{"$lookup": {"from": "meters", "localField": "meter_id", "foreignField": "meter_id", "as": "m"}},
              {"$addFields": {"m": {"$cond": [{"$gt": ["$meter_id", null]}, "$m", []]}}},
              {"$unwind": {"path": "$m", "preserveNullAndEmptyArrays": true}},
              {"$match": {"$and": [{"$and": [{"opened_at": {"$gte": :opened_at_period_from}}, {"$expr": {"$lte": [{"$dateToString": {"date": "$opened_at", "format": "%Y-%m-%d"}}, {"$dateToString": {"date": :opened_at_period_to, "format": "%Y-%m-%d"}}]}}]}, {"$and": [{"m.serial": {"$ne": null}}, {"$nor": [{"m.serial": {"$regex": "^A\\\\.", "$options": "i"}}]}]}]}},
              {"$group": {"_id": {"k0": {"$ifNull": ["$customer.town", null]}, "k1": {"$ifNull": [{"$dateToString": {"date": "$opened_at", "format": "%Y-%m-01"}}, null]}}, "v2": {"$sum": {"$multiply": ["$minutes", 60]}}}},
              {"$project": {"_id": 0, "town": "$_id.k0", "month": "$_id.k1", "seconds": "$v2"}},
              {"$sort": {"seconds": -1}},
              {"$limit": 5}]}"""
    )
    assert [p.name for p in made.parameters] == ["opened_at_period"]
    assert made.part_at(made.statement.index("$multiply")) == "grouped"
    assert LANGUAGES["documents"].names_used(made.statement) == ["opened_at_period_from", "opened_at_period_to"]


REFUSED = [
    ({"with": [JOIN | {"join": "full"}]}, "with[0]", "no full join"),
    ({"with": [JOIN | {"on": []}]}, "with[0]", "one pair of fields"),
    ({"show": [{"column": "minutes", "aggregate": "median"}]}, "show[0]", "cannot be told"),
    ({"show": [{"column": "opened_at", "bucket": "week"}]}, "show[0]", "has no week"),
    ({"show": [{"expression": "minutes * 2", "name": "x"}]}, "show[0]", "is no expression"),
    ({"show": [{"expression": '1, "sort": {"x": 1}', "name": "x"}]}, "show[0]", "goes on behind its end"),
    ({"show": [{"expression": '1}; {"find": "meters", "filter": {}', "name": "x"}]}, "show[0]", "goes on behind its end"),
    ({"show": [{"aggregate": "count"}], "having": {"none": [{"aggregate": "count", "test": "more", "value": 1}]}}, "having", "one comparison"),
    ({"show": [{"column": "minutes"}], "sorted": [{"by": "minutes", "nulls": "last"}]}, "sorted[0]", "are the least"),
    ({"where": {"column": "contact", "test": "contains", "value": {"parameter": "word"}}}, "where", "asked 'contains' with a text"),
]  # fmt: skip


@pytest.mark.parametrize(("parts", "where", "words"), REFUSED, ids=[words for _, _, words in REFUSED])
def test_what_a_document_store_has_not_is_said(parts, where, words):
    found = DOCUMENTS.remarks(Outline.from_dict(CONTACTS | parts), CATALOGUE, [])
    assert any(each.where == where and words in each.message for each in found if each.severity == "error"), found


def test_a_command_is_not_read_back_and_that_is_said():
    with pytest.raises(BadInput, match="cannot be read back"):
        DOCUMENTS.read('{"find": "contacts"}', CATALOGUE, [])


def test_a_condition_on_groups_may_stand_in_a_group_of_one():
    alone = {"aggregate": "count", "test": "more", "value": 1}
    grouped = CONTACTS | {"show": [{"column": "contact"}, {"aggregate": "count"}], "grouped": [{"column": "contact"}]}
    made = [
        DOCUMENTS.compiled(Outline.from_dict(grouped | {"having": each}), CATALOGUE, []) for each in (alone, {"all": [alone]})
    ]
    assert '{"$match": {"h": {"$gt": 1}}}' in made[0].statement
    assert made[0].statement == made[1].statement
