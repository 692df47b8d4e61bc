"""What somebody searches for: what was meant is what is read, whatever it is made of."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.values.search import MOST_WORDS, fit, read_search

FIELDS = ("tag", "state", "owner")
BARE = st.text("abcdeZ0_.:*%é'-/", min_size=1, max_size=8).filter(lambda w: w.partition(":")[0].lower() not in FIELDS)
QUOTED = st.text("ab :\tZé'", min_size=1, max_size=8).filter(str.strip)
TERM = st.tuples(st.sampled_from((*FIELDS, "TAG", "State")), st.one_of(BARE, QUOTED))


@given(
    st.lists(
        st.one_of(BARE.map(lambda w: ("", w, False)), QUOTED.map(lambda w: ("", w, True)), TERM.map(lambda t: (*t, None))),
        max_size=8,
    )
)
def test_what_was_meant_is_read(meant):
    text = " ".join(
        f"{field}:" * bool(field) + (f'"{word}"' if quoted or any(each.isspace() for each in word) else word)
        for field, word, quoted in meant
    )
    found = read_search(text, FIELDS)
    assert list(found.words) == [word for field, word, _ in meant if not field]
    for name in FIELDS:
        assert list(found.terms.get(name, ())) == [word for field, word, _ in meant if field.lower() == name]


@given(st.text(max_size=200))
def test_whatever_is_typed_is_read(text):
    found = read_search(text, FIELDS)
    assert len(found.words) + sum(map(len, found.terms.values())) <= MOST_WORDS
    assert all(found.words)


def test_what_is_no_term_is_a_word():
    assert read_search('tag: a::int x:y "open', FIELDS).words == ("tag:", "a::int", "x:y", "open")


NAMES = st.text("abcde_ .-/", min_size=1, max_size=12).filter(str.strip)


@given(NAMES, st.lists(st.text("abcdeAB", min_size=1, max_size=3), max_size=3), NAMES)
def test_a_name_fits_the_better_the_more_of_it_was_typed(name, words, beside):
    found = fit(name, words, beside)
    met = bool(words) and all(word.lower() in f"{name} {beside}".lower() for word in words)
    assert (found is not None) == met
    if found is None:
        return
    said = " ".join(words).lower()
    assert (found == 0) == (name.lower() == said)
    assert (found <= 1) == name.lower().startswith(said)
    assert found <= 3 or not all(word.lower() in name.lower() for word in words)


@pytest.mark.parametrize(
    ("name", "typed", "fits"),
    [
        ("readings", ["readings"], 0), ("readings_2026", ["READ"], 1), ("all_readings", ["read"], 2), ("spreadings", ["read"], 3),
        ("regulation/water quality", ["water", "reg"], 2), ("meters", ["met", "live"], 4), ("meters", ["x"], None), ("meters", [], None),
    ],
)  # fmt: skip
def test_how_well_a_name_fits(name, typed, fits):
    assert fit(name, typed, "in live") == fits
