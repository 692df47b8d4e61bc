"""Texts of others, made fit for the record: whatever characters, however long."""

from __future__ import annotations

import json

from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.keepable import MOST_CHARACTERS, keepable, keepable_text, said
from tests.profile import examples

TEXTS = st.text(st.one_of(st.characters(exclude_categories=()), st.sampled_from("\0\ud800\udfff\x01\x7f\x85\ufffe\n")))
VALUES = st.recursive(
    st.one_of(TEXTS, st.integers(), st.none(), st.booleans()),
    lambda inner: st.one_of(st.lists(inner), st.dictionaries(TEXTS, inner)),
    max_leaves=10,
)


def texts_in(value):
    if isinstance(value, str):
        yield value
    for each in value.items() if isinstance(value, dict) else value if isinstance(value, (list, tuple)) else ():
        yield from texts_in(each)


@examples(5)
@given(VALUES, st.sampled_from(["done", "failed", "log"]))
def test_whatever_a_child_says_can_be_kept_and_what_can_be_is_as_it_was(value, kind):
    line = json.dumps({"kind": kind, "said": value}).encode()
    heard = said(line)
    for text in texts_in(heard):
        assert "\0" not in text
        text.encode()  # no half of a pair
        assert len(text) <= MOST_CHARACTERS + 60
    if not any("\0" in text or any("\ud800" <= c <= "\udfff" for c in text) for text in texts_in(value)):
        assert heard["said"] == value


def test_what_cannot_be_kept_is_marked_and_what_is_too_long_says_so():
    assert keepable_text("a\0b\ud800c\U0001f701") == "a\u2400b\ufffdc\U0001f701"
    assert keepable({"a\0": ["\0", 1, None]}) == {"a\u2400": ["\u2400", 1, None]}
    long = said(json.dumps({"kind": "failed", "error": {"message": "x" * 10_000_000}}).encode())["error"]["message"]
    assert long.endswith("x … (9,996,000 more characters)")
    assert said(b'{"kind": "done", "result": [NaN, -Infinity]}')["result"] == ["NaN", "-Infinity"]
    whole = said(json.dumps({"kind": "done", "result": "x" * 100_000}).encode())["result"]
    assert len(whole) == 100_000, "a result is as long as it is"
