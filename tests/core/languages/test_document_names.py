"""Completion and remarks on names in commands of document stores."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.errors import LadleError, StatementWrong
from patient_ladle.core.statements.diagnostics import OtherCatalogue
from patient_ladle.core.statements.documents.commands import STAGES
from patient_ladle.core.statements.languages.documents import DOCUMENTS


def table(name, *fields):
    return {
        "schema": "",
        "name": name,
        "kind": "table",
        "columns": [{"name": each, "type": "string", "kind": "text"} for each in fields],
    }


CATALOGUE = [table("contacts", "topic", "customer.name", "customer.town", "minutes"), table("crews", "crew")]


def proposed(text, asked=False):
    """Labels and what they would put in, at the mark ``|``."""
    position = text.index("|")
    found = DOCUMENTS.completion(text.replace("|", ""), position, CATALOGUE, ["since", "zone"], asked)
    return {each.label: each.apply or each.label for each in found.proposals} if found else {}


@pytest.mark.parametrize(
    ("text", "among", "not_among"),
    [
        ('{"f|', {"find": 'find"', "aggregate": 'aggregate"'}, ["topic", "$match"]),
        ('{"|"', {"find": "find"}, []),
        ('{"find": "c|', {"contacts": 'contacts"', "crews": 'crews"'}, ["find"]),
        ('{"find": "contacts", "|', {"filter": 'filter"', "projection": 'projection"'}, ["pipeline", "find", "topic"]),
        ('{"aggregate": "contacts", "|', {"pipeline": 'pipeline"'}, ["filter"]),
        ('{"find": "contacts", "filter": {"|', {"topic": 'topic"', "customer.town": 'customer.town"', "$or": '$or"'}, ["crew", "$gt"]),
        ('{"find": "contacts", "filter": {"$or": [{"|', {"topic": 'topic"'}, ["$gt", "$match"]),
        ('{"find": "contacts", "filter": {"topic": {"|', {"$in": '$in"', "$regex": '$regex"'}, ["topic", "$group"]),
        ('{"find": "contacts", "sort": {"|', {"minutes": 'minutes"'}, ["$gt", "$sum"]),
        ('{"aggregate": "contacts", "pipeline": [{"$m|', {"$match": '$match"', "$group": '$group"'}, ["$out", "topic", "$in"]),
        ('{"aggregate": "contacts", "pipeline": [{"$match": {"a": 1}}, {"|', {"$group": '$group"'}, ["topic"]),
        ('{"aggregate": "contacts", "pipeline": [{"$facet": {"one": [{"|', {"$group": '$group"'}, ["topic"]),
        ('{"aggregate": "contacts", "pipeline": [{"$group": {"_id": "$|', {"$topic": '$topic"'}, ["$sum", "topic"]),
        ('{"aggregate": "contacts", "pipeline": [{"$group": {"_id": null, "n": {"$s|', {"$sum": '$sum"'}, ["$match"]),
        ('{"aggregate": "contacts", "pipeline": [{"$lookup": {"|', {"from": 'from"', "as": 'as"'}, ["topic"]),
        ('{"aggregate": "contacts", "pipeline": [{"$lookup": {"from": "|', {"crews": 'crews"'}, ["topic"]),
        ('{"distinct": "contacts", "key": "|', {"customer.name": 'customer.name"'}, ["$topic"]),
        ('{"find": "contacts", "filter": {"topic": :z|', {":zone": ":zone"}, ["topic"]),
        ('{"find": "crews"};\n{"find": "contacts", "filter": {"|', {"topic": 'topic"'}, ["crew"]),
        ('{"find": "contacts", "filter": {"|"}}; {"find": "crews"}', {"topic": "topic"}, ["crew"]),
    ],
)  # fmt: skip
def test_what_may_come_next_is_proposed_and_nothing_else(text, among, not_among):
    found = proposed(text)
    assert among.items() <= found.items()
    assert not set(not_among) & set(found)


def test_where_nothing_was_begun_it_is_proposed_with_its_quotes_when_asked_for():
    assert proposed('{"find": "contacts", "filter": {|}}', asked=True)["topic"] == '"topic"'
    assert proposed('{"find": "contacts", "filter": {"topic": |}}', asked=True)[":zone"] == ":zone"
    assert proposed('{"find": "contacts", "filter": {|}}') == {}
    assert proposed('{"find": "contacts" /* fi|') == {}
    assert proposed('{"find": "contacts" // fi|') == {}


@given(
    st.lists(
        st.sampled_from(
            ["{", "}", "[", "]", ":", ",", '"', "find", "$match", "//", "/*", "*/", "\n", "contacts", "\\", ":zone", ";"]
        ),
        max_size=25,
    )
)
def test_nothing_that_is_typed_breaks_it(pieces):
    text = "".join(pieces)
    for position in range(len(text) + 1):
        DOCUMENTS.completion(text, position, CATALOGUE, ["zone"], True)


def said(text):
    return [
        (d.severity, d.code, d.line, d.column, d.length, d.message, d.hint)
        for d in DOCUMENTS.diagnostics_on_columns(text, [], CATALOGUE)
    ]


@pytest.mark.parametrize(
    ("command", "unknown"),
    [
        ({"find": "contacts", "filter": {"topic": 1, "customer": {"$ne": None}, "customer.town": "x", "minutes.of": 1}}, []),
        ({"find": "contacts", "filter": {"$or": [{"topc": 1}, {"$and": [{"towm": 1}]}]}}, ["topc", "towm"]),
        ({"find": "contacts", "filter": {"$expr": {"$gt": ["$minuts", 1]}}}, ["minuts"]),
        ({"find": "contacts", "projection": {"topic": 1, "made": {"$add": [1, 2]}, "tpic": 1}, "sort": {"nowhere": 1}}, ["tpic", "nowhere"]),
        ({"distinct": "contacts", "key": "customer.twon"}, ["customer.twon"]),
        ({"aggregate": "contacts", "pipeline": [{"$match": {"topicc": 1}}, {"$group": {"_id": "$topik", "n": {"$sum": 1}}}, {"$sort": {"n": -1}}]},
         ["topicc", "topik"]),
        ({"aggregate": "contacts", "pipeline": [{"$project": {"made": {"$literal": "$any"}, "x": "$$ROOT"}}, {"$match": {"made": 1}}]}, []),
        ({"find": "nowhere", "filter": {"x": 1}}, []),
    ],
)  # fmt: skip
def test_fields_that_no_sampled_document_has_are_remarked(command, unknown):
    text = json.dumps(command)
    found = said(text)
    assert [message.split("'")[3] for *_, message, _ in found] == unknown
    for severity, code, line, column, length, _, _ in found:
        assert (severity, code, line) == ("warning", "column_missing", 1)
        assert text[column - 1 : column - 1 + length].strip('"$') in unknown


def test_the_nearest_right_name_is_told():
    [(*_, message, hint)] = said('{"find": "contacts",\n "filter": {"topc": 1}}')
    assert (message, hint) == ("none of the sampled documents of 'contacts' has a field 'topc'.", "Did you mean 'topic'?")
    text = '{"find": "contcts"}'
    [known] = DOCUMENTS.diagnostics_on_names(text, CATALOGUE, [])
    assert (known.hint, known.column, known.length) == ("Did you mean 'contacts'?", 10, 9)
    elsewhere = [OtherCatalogue("archive", [table("contcts")])]
    [known] = DOCUMENTS.diagnostics_on_names(text, CATALOGUE, elsewhere)
    assert known.hint == "It is not in this source, but in source archive."
    error = StatementWrong(
        "there is no collection 'contcts' (line 1, column 10).", "", line=1, column=10, missing="table", name="contcts"
    )
    shown = DOCUMENTS.diagnostic_on_error(error, text, text, CATALOGUE, elsewhere)
    assert (shown.code, shown.message, shown.hint) == ("table_missing", "there is no collection 'contcts'.", known.hint)
    assert DOCUMENTS.diagnostic_on_error(LadleError("it is away."), text, text, None, []).message == "it is away."


def test_every_stage_that_may_be_sent_is_proposed():
    assert set(proposed('{"aggregate": "contacts", "pipeline": [{"|')) == set(STAGES)
