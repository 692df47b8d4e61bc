"""What somebody searches for: what was meant is what is read, whatever it is made of."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.values.search import MOST_WORDS, read_search

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
