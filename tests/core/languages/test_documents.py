"""Commands of document stores: read as a reader of JSON that we did not write reads them, judged wherever something hides,
given values that stay values."""

from __future__ import annotations

import inspect
import json
import random
import re
from contextlib import nullcontext
from datetime import date, datetime, timedelta, timezone
from decimal import Decimal
from pathlib import Path

import mongomock
import pytest
from hypothesis import assume, example, given
from hypothesis import strategies as st

from patient_ladle.core.errors import BadInput, StatementRefused
from patient_ladle.core.statements.documents.commands import COMMANDS
from patient_ladle.core.statements.documents.completing import EXPRESSIONS, QUERY, TOGETHER
from patient_ladle.core.statements.documents.operators import CODE, OPERATORS, STAGES, VARIABLES, WRITES
from patient_ladle.core.statements.documents.reading import MAX_DEPTH, reading
from patient_ladle.core.statements.languages.documents import DOCUMENTS
from patient_ladle.core.values.parameters import BoundValues, Parameter

TEXTS = st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0"), max_size=8)
VALUES = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**63), 2**63 - 1) | st.floats(allow_nan=False, allow_infinity=False) | TEXTS,
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(TEXTS, inner, max_size=4),
    max_leaves=20,
)


def plain(node):
    """What a node is, as the reader of JSON in Python's library gives it."""
    if node.kind == "object":
        return {key.value: plain(value) for key, value in node.pairs()}
    return [plain(each) for each in node.items()] if node.kind == "array" else node.value


def slowly(text):
    """The same judged by that reader; None where it is no JSON, or such as a store would read in another way."""

    def once(pairs):
        if len({key for key, _ in pairs}) < len(pairs):
            raise ValueError("twice")
        return dict(pairs)

    try:
        made = json.loads(text, object_pairs_hook=once, parse_int=number_of, parse_constant=number_of)
        json.dumps(made, allow_nan=False).encode()
        json.dumps(made, ensure_ascii=False).encode()
    except (ValueError, RecursionError):
        return None
    return made


def number_of(text):
    made = int(text)
    if not -(2**63) <= made < 2**63:
        raise ValueError("too large")
    return made


@given(value=VALUES, indent=st.sampled_from([None, 1]), ascii_only=st.booleans(), chance=st.randoms(use_true_random=False))
def test_what_is_json_is_read_as_it_is_whatever_comments_stand_in_it(value, indent, ascii_only, chance):
    text = json.dumps(value, indent=indent, ensure_ascii=ascii_only)
    [read] = reading(text)
    assert json.dumps(plain(read.node)) == json.dumps(value)
    assert text[read.node.start : read.node.end] == text
    out, within = [], False
    for at, letter in enumerate(text):
        out.append(letter)
        within ^= letter == '"' and (len(text[:at]) - len(text[:at].rstrip("\\"))) % 2 == 0
        if not within and letter in "{[,:" and chance.random() < 0.5:
            out.append(chance.choice(["/* a * b; } */", "// ]\n", " ", "\n", "/**/", '/* " */']))
    [read] = reading("".join(out))
    assert json.dumps(plain(read.node)) == json.dumps(value)


PIECES = ["{", "}", "[", "]", ",", ":", '"a"', '"b"', '"\\u0041"', '"\\x"', '"\\ud800"', "1", "-0", "01", "1.", "1e5", "1e999", ".5", "+1", "-",
          "NaN", "9223372036854775808", "true", "nul", "null", " ", "\n", "\t", "'a'", '"a', "é", "\x01", '"\x01"', "\u00a0"]  # fmt: skip


@given(st.lists(st.sampled_from(PIECES), max_size=12).map("".join))
def test_what_is_no_json_is_refused_with_its_place_and_the_rest_is_not(text):
    wanted = slowly(text)
    try:
        found = [plain(each.node) for each in reading(text)]
        assume(not DOCUMENTS.parameters(text))  # which JSON has not
    except StatementRefused as error:
        lines = text.split("\n")
        assert 1 <= error.facts["line"] <= len(lines)
        assert 1 <= error.facts["column"] <= len(lines[error.facts["line"] - 1]) + 1
        assert error.hint
        found = []
    if found:
        assert json.dumps(found) == json.dumps([wanted])
    else:
        assert wanted is None


@pytest.mark.parametrize(
    ("text", "line", "column", "says"),
    [
        ('{"find": "a",}', 1, 13, "a comma stands before }"),
        ('{"find": "a"\n "filter": {}}', 2, 2, "a comma or } is wanted"),
        ('{"find" "a"}', 1, 9, "a colon is wanted after 'find'"),
        ("{\"find\": 'a'}", 1, 10, "in single quotes"),
        ('{find: "a"}', 1, 2, "a name in double quotes is wanted"),
        ('{"find": "a", "find": "b"}', 1, 15, "'find' stands a second time"),
        ('{"find": a}', 1, 10, "a value is wanted, and 'a' stands there"),
        ('{"find": "a", "limit": 012}', 1, 24, "a number that JSON does not know"),
        ('{"find": "a', 1, 10, "a text begins and has no end"),
        ('{"find": "a", /* open', 1, 15, "a comment begins and has no end"),
        ('{"find": "a", "filter": {', 1, 26, "the text ends"),
        ('{"find": "a", "filter": {"x": : y}}', 1, 33, "a parameter's name is wanted"),
        ('{"find": "a", "filter": {"x": :Zone}}', 1, 32, "a parameter's name is wanted"),
        ('{"find": "a", "filter": {"x": 99999999999999999999}}', 1, 31, "more than 64 bits"),
        ('{"find": "a"} {"find": "b"}', 1, 15, "one statement ends here"),
        ("[" * (MAX_DEPTH + 1), 1, MAX_DEPTH + 1, "levels"),
        ('["find"]', 1, 1, "a command is wanted"),
        ("{}", 1, 1, "a command is wanted"),
        ('{"fnd": "a"}', 1, 2, "Did you mean 'find'?"),
        ('{"find": 3}', 1, 10, "the name of a collection is wanted"),
        ('{"find": "a", "filtre": {}}', 1, 15, "Did you mean 'filter'?"),
        ('{"find": "a", "filter": [1]}', 1, 25, "'filter' is not an object"),
        ('{"aggregate": "a"}', 1, 1, "aggregate has no 'pipeline'"),
        ('{"aggregate": "a", "pipeline": {"$match": {}}}', 1, 32, "'pipeline' is not a list"),
        ('{"aggregate": "a", "pipeline": [{"$macth": {}}]}', 1, 34, "Did you mean '$match'?"),
        ('{"aggregate": "a", "pipeline": [{"$match": {}, "$limit": 1}]}', 1, 33, "not exactly one name"),
        ('{"distinct": "a"}', 1, 1, "distinct has no 'key'"),
        ('{"find": "a", "batchSize": 5}', 1, 15, "'batchSize' is no field of find"),
    ],
)
def test_a_mistake_is_told_at_its_place(text, line, column, says):
    with pytest.raises(StatementRefused) as refused:
        DOCUMENTS.parts(text)
    assert says in f"{refused.value.message} {refused.value.hint}"
    assert (refused.value.facts["line"], refused.value.facts["column"]) == (line, column)


_OTHERS = """insert update delete drop create createIndexes dropDatabase dropIndexes findAndModify renameCollection mapReduce eval $eval
collMod shutdown killOp getMore explain currentOp createUser grantRolesToUser setParameter fsync compact reIndex convertToCapped
hostInfo listDatabases serverStatus validate bulkWrite copydb clone replSetStepDown logRotate"""
_STAGES_NOT = """$out $merge $currentOp $listSessions $listLocalSessions $planCacheStats $indexStats $collStats $changeStream
$changeStreamSplitLargeEvent $listSampledQueries $shardedDataDistribution $queryStats $querySettings $documents $mergeCursors
$_internalInhibitOptimization $search"""
OTHERS, STAGES_NOT = _OTHERS.split(), _STAGES_NOT.split()
FUNCTION = {"body": "function() { return 1 }", "args": [], "lang": "js"}
HOSTILE = [
    *({name: "contacts", "documents": [{"a": 1}]} for name in OTHERS),
    *({"aggregate": "contacts", "pipeline": [{stage: "stolen"}]} for stage in STAGES_NOT),
    *(
        {"aggregate": "contacts", "pipeline": [outer([{stage: "stolen"}])]}
        for stage in STAGES_NOT
        for outer in (
            lambda inner: {"$facet": {"one": inner}},
            lambda inner: {"$lookup": {"from": "contacts", "as": "x", "pipeline": inner}},
            lambda inner: {"$unionWith": {"coll": "contacts", "pipeline": inner}},
            lambda inner: {"$facet": {"one": [{"$lookup": {"from": "c", "as": "x", "pipeline": [{"$facet": {"two": inner}}]}}]}},
        )
    ),
    {"find": "contacts", "filter": {"$where": "sleep(1000) || true"}},
    {"find": "contacts", "filter": {"$or": [{"a": 1}, {"$and": [{"$where": "1"}]}]}},
    {"find": "contacts", "filter": {"a": {"$code": "function() {}"}}},
    {"find": "contacts", "filter": {"$expr": {"$function": FUNCTION}}},
    {"find": "contacts", "projection": {"a": {"$function": FUNCTION}}},
    {"find": "contacts", "let": {"a": {"$function": FUNCTION}}},
    {"count": "contacts", "query": {"$where": "true"}},
    {"distinct": "contacts", "key": "a", "query": {"$where": "true"}},
    {"aggregate": "contacts", "pipeline": [{"$match": {"$expr": {"$function": FUNCTION}}}]},
    {"aggregate": "contacts", "pipeline": [{"$addFields": {"x": {"$function": FUNCTION}}}]},
    {"aggregate": "contacts", "pipeline": [{"$group": {"_id": None, "x": {"$accumulator": {"lang": "js"}}}}]},
    {"aggregate": 1, "pipeline": [{"$currentOp": {}}]},
    {"find": "contacts", "$db": "admin"},
    {"find": "contacts", "maxTimeMS": 0},
    {"find": "contacts", "tailable": True},
    {"find": "contacts", "writeConcern": {"w": 1}},
]  # fmt: skip


@pytest.mark.parametrize("command", HOSTILE, ids=lambda each: json.dumps(each)[:60])
def test_what_is_not_only_reading_is_refused(command):
    with pytest.raises(StatementRefused) as refused:
        DOCUMENTS.gate(json.dumps(command))
    assert refused.value.facts["line"] == 1


def test_there_are_enough_of_them():
    assert len(HOSTILE) > 100


def hidden(value, chance, name):
    """The value with ``{name: 1}`` as one of all its parts."""
    if isinstance(value, dict) and value and chance.random() < 0.7:
        key = chance.choice(list(value))
        return value | {key: hidden(value[key], chance, name)}
    if isinstance(value, list) and value and chance.random() < 0.7:
        at = chance.randrange(len(value))
        return [*value[:at], hidden(value[at], chance, name), *value[at + 1 :]]
    return {name: 1}


@given(VALUES, st.sampled_from(sorted(WRITES | CODE)), st.integers())
def test_what_writes_or_runs_code_is_found_at_any_depth(value, name, seed):
    assume(not any(word in json.dumps(value) for word in WRITES | CODE))
    command = {"find": "contacts", "filter": {"inner": value}}
    assert DOCUMENTS.gate(json.dumps(command))
    text = json.dumps(hidden(command | {"filter": {"inner": value}}, random.Random(seed), name), ensure_ascii=False)
    with pytest.raises(StatementRefused):
        DOCUMENTS.gate(text)
    written = text.replace(f'"{name}"', "".join(['"', *(f"\\u{ord(letter):04x}" for letter in name), '"']))
    with pytest.raises(StatementRefused):
        DOCUMENTS.gate(written)


def test_every_word_that_another_implementation_knows_is_listed_or_left_out_for_a_reason():
    source = inspect.getsource(mongomock.aggregate) + inspect.getsource(mongomock.filtering)
    known = set(re.findall(r"'(\$[a-zA-Z]+)'", source))
    assert len(known) > 140
    assert known - OPERATORS - STAGES - VARIABLES == {*STAGES_NOT, "$where"} & known
    assert {*QUERY, *EXPRESSIONS, *TOGETHER} <= OPERATORS


def test_the_page_lists_what_is_listed():
    page = (Path(__file__).parents[3] / "docs/sources.md").read_text().split("| in document stores | |")[1].split("\n\n")[0]
    assert {*re.findall(r"`(\$+\w+)`", page)} == OPERATORS | STAGES | VARIABLES


@given(VALUES, st.from_regex(r"\$[a-zA-Z_$]{0,12}", fullmatch=True), st.integers())
@example({"a": 1}, "$toHashedIndexKey", 1)
@example({"a": 1}, "$", 1)
def test_what_is_not_listed_is_refused_at_any_depth_and_what_is_listed_is_not(value, name, seed):
    assume(not re.search(r'"\$', json.dumps(value)))
    for word in (name, random.Random(seed).choice(sorted(OPERATORS))):
        text = json.dumps({"find": "contacts", "filter": hidden({"inner": value}, random.Random(seed), word)})
        with nullcontext() if word in OPERATORS | STAGES else pytest.raises(StatementRefused):
            DOCUMENTS.gate(text)


@pytest.mark.parametrize("name", ["system.profile", "system.users", "system.js", "system.views", "system.buckets.readings"])
def test_collections_of_the_server_are_not_read(name):
    from_ = {"$lookup": {"from": name, "as": "a", "pipeline": []}}
    for command in (
        {"find": name}, {"count": name}, {"distinct": name, "key": "a"}, {"aggregate": name, "pipeline": []},
        {"aggregate": "contacts", "pipeline": [from_]}, {"aggregate": "contacts", "pipeline": [{"$facet": {"one": [from_]}}]},
        {"aggregate": "contacts", "pipeline": [{"$unionWith": name}]},
        {"aggregate": "contacts", "pipeline": [{"$unionWith": {"coll": name}}]},
        {"aggregate": "contacts", "pipeline": [{"$graphLookup": {"from": name}}]},
    ):  # fmt: skip
        with pytest.raises(StatementRefused, match="is the server's own"):
            DOCUMENTS.gate(json.dumps(command))
    with pytest.raises(StatementRefused, match=f"'{name}' is the server's own"):
        DOCUMENTS.command('{"find": :collection}', bound(collection=name))


@pytest.mark.parametrize("value", ["$secret", "$$USER_ROLES", "$$ROOT"])
def test_a_text_is_no_path_in_what_slices_a_list_either(value):
    for body in ({"$slice": [":p", 1]}, {"$ifNull": [{"$slice": [":p", 1, 2]}, 0]}):
        text = json.dumps({"aggregate": "contacts", "pipeline": [{"$addFields": {"x": body}}]}).replace('":p"', ":p")
        assert json.dumps({"$literal": value}) in json.dumps(DOCUMENTS.command(text, bound(p=value)))
    sliced = DOCUMENTS.command('{"find": "contacts", "projection": {"a": {"$slice": :p}}}', bound(p=3))
    assert sliced["projection"] == {"a": {"$slice": 3}}


def test_variables_of_the_server_tell_of_documents_alone():
    for name, let_through in (
        ("$$ROOT.a", True),
        ("$$NOW", True),
        ("$$mine.a", True),
        ("$$USER_ROLES", False),
        ("$$SEARCH_META.a", False),
    ):
        text = json.dumps({"aggregate": "contacts", "pipeline": [{"$addFields": {"x": {"$ifNull": [name, 1]}}}]})
        if let_through:
            assert DOCUMENTS.gate(text)
        else:
            with pytest.raises(StatementRefused, match="is no variable that only tells of documents"):
                DOCUMENTS.gate(text)


def test_every_stage_and_command_that_reads_is_let_through():
    for stage in STAGES:
        assert DOCUMENTS.gate(json.dumps({"aggregate": "contacts", "pipeline": [{stage: {}}]}))
    for name, more in (("find", {}), ("count", {}), ("distinct", {"key": "a"}), ("aggregate", {"pipeline": []})):
        assert DOCUMENTS.gate(json.dumps({name: "contacts"} | more))
    assert len(COMMANDS) == 4


def bound(**values):
    return BoundValues({name: Parameter(name) for name in values}, values)


ZONE = timezone(timedelta(hours=5, minutes=30))


@pytest.mark.parametrize(
    ("value", "sent"),
    [
        ("North", "North"), ('"}, {"$where": "1"', '"}, {"$where": "1"'), (7, 7), (2**40, {"$numberLong": str(2**40)}),
        (-(2**31) - 1, {"$numberLong": "-2147483649"}), (1.5, 1.5), (True, True), (None, None), (Decimal("1.50"), {"$numberDecimal": "1.50"}),
        (date(2026, 11, 24), {"$date": "2026-11-24T00:00:00Z"}), (datetime(2026, 11, 24, 6, 5), {"$date": "2026-11-24T06:05:00.000Z"}),
        (datetime(2026, 11, 24, 6, 5, 1, 999_999, ZONE), {"$date": "2026-11-24T00:35:01.999Z"}),
        (("a", "b"), ["a", "b"]), ((), []), ((date(2026, 1, 2),), [{"$date": "2026-01-02T00:00:00Z"}]),
    ],
)  # fmt: skip
def test_values_are_sent_as_what_they_are(value, sent):
    text = '{"find": "contacts", "filter": {"a": :a, "b": {"$in": [:a, ":a"]}}}'
    assert DOCUMENTS.command(text, bound(a=value)) == {"find": "contacts", "filter": {"a": sent, "b": {"$in": [sent, ":a"]}}}
    assert DOCUMENTS.restore(DOCUMENTS.fill_in(text, bound(a=value)).text) == text


COMPUTED = [
    '{"find": "c", "filter": {"$expr": {"$eq": ["$zone", :a]}}}',
    '{"find": "c", "filter": {"$and": [{"b": 1}, {"$expr": {"$in": ["$zone", [:a]]}}]}}',
    '{"find": "c", "projection": {"b": :a}}',
    '{"find": "c", "let": {"b": :a}}',
    '{"aggregate": "c", "pipeline": [{"$match": {"$expr": {"$eq": ["$zone", :a]}}}]}',
    '{"aggregate": "c", "pipeline": [{"$addFields": {"b": {"$concat": ["x", :a]}}}]}',
    '{"aggregate": "c", "pipeline": [{"$group": {"_id": :a}}]}',
    '{"aggregate": "c", "pipeline": [{"$facet": {"f": [{"$project": {"b": :a}}]}}]}',
    '{"aggregate": "c", "pipeline": [{"$lookup": {"from": "d", "let": {"b": :a}, "pipeline": [], "as": "x"}}]}',
    '{"aggregate": "c", "pipeline": [{"$lookup": {"from": "d", "pipeline": [{"$set": {"b": :a}}], "as": "x"}}]}',
    '{"aggregate": "c", "pipeline": [{"$unionWith": {"coll": "d", "pipeline": [{"$replaceWith": {"b": :a}}]}}]}',
    '{"aggregate": "c", "pipeline": [{"$graphLookup": {"from": "d", "startWith": :a}}]}',
]
COMPARED = [
    '{"find": "c", "filter": {"zone": :a}}',
    '{"find": "c", "filter": {"zone": {"$elemMatch": {"b": {"$ne": :a}}}}}',
    '{"count": "c", "query": {"zone": :a}}',
    '{"distinct": "c", "key": "zone", "query": {"zone": {"$in": [:a]}}}',
    '{"aggregate": "c", "pipeline": [{"$match": {"zone": :a}}]}',
    '{"aggregate": "c", "pipeline": [{"$facet": {"f": [{"$match": {"zone": :a}}]}}]}',
    '{"aggregate": "c", "pipeline": [{"$lookup": {"from": "d", "pipeline": [{"$match": {"zone": :a}}], "as": "x"}}]}',
    '{"aggregate": "c", "pipeline": [{"$graphLookup": {"from": "d", "restrictSearchWithMatch": {"zone": :a}}}]}',
    '{"aggregate": "c", "pipeline": [{"$geoNear": {"query": {"zone": :a}}}]}',
]


def held(made):
    """Every text of a command with what stands directly above it."""
    found, left = [], [(made, None)]
    while left:
        here, above = left.pop()
        if isinstance(here, dict):
            left += [(each, key) for key, each in here.items()]
        elif isinstance(here, list):
            left += [(each, above) for each in here]
        else:
            found.append((here, above))
    return found


@pytest.mark.parametrize("text", [*COMPUTED, *COMPARED])
@pytest.mark.parametrize("value", ["$password", "$$ROOT", "$", ("q", "$password")])
def test_a_text_is_never_the_path_of_a_field(text, value):
    """Where expressions stand, one that begins with a dollar sign is a literal; where values are compared, it is itself."""
    made = DOCUMENTS.command(text, bound(a=value))
    given = [above for each, above in held(made) if each in (value if isinstance(value, tuple) else (value,))]
    assert given
    assert all((above == "$literal") == (text in COMPUTED) for above in given)


def test_what_was_filled_in_by_another_hand_is_told():
    with pytest.raises(BadInput, match="not declared"):
        DOCUMENTS.command('{"find": "c", "filter": {"a": :b}}', bound(a=1))
    with pytest.raises(BadInput, match="has no other that belongs to it"):
        DOCUMENTS.restore('{"find": "c" /* : */}')
