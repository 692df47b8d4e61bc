"""Every query language gives the service the same: parts with places, parameters, a way out and back, diagnostics, a way across."""

from __future__ import annotations

import json
import pickle
from datetime import date, datetime, timezone

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.core.errors import BadInput, LadleError, StatementRefused
from patient_ladle.core.statements.languages import LANGUAGES
from patient_ladle.core.values.parameters import Parameter, resolve

from .cases import CASES, OTHERS

ALL = LANGUAGES | OTHERS
DECLARED = [Parameter("zone"), Parameter("day", "date")]
TEXTS = st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0"), max_size=12)


def bound(zone="North", sensitive=False):
    declared = [Parameter("zone", sensitive=sensitive), Parameter("day", "date")]
    moment = datetime(2026, 11, 24, 6, 5, tzinfo=timezone.utc)
    return resolve(declared, {"zone": zone, "day": "2026-11-24"}, date(2026, 11, 24), moment)


def test_every_language_has_its_case():
    assert {*ALL} == {*CASES}


@pytest.fixture(params=sorted(CASES))
def language(request):
    return ALL[request.param]


@pytest.fixture
def words(language):
    return CASES[language.name]


def test_parts_have_titles_and_keep_their_places(language, words):
    text = words["two"]
    first, second = language.parts(text)
    assert (first.title, second.title) == ("By zone", "All")
    for part in (first, second):
        assert part.text.strip() == text[part.start : part.end].strip()
        assert part.text.index(part.text.strip()) == text.index(part.text.strip()), "lines and columns stay"
    assert [language.gate(part.text).strip() for part in (first, second)]
    with pytest.raises(StatementRefused):
        language.gate(text)


def test_what_does_not_read_is_refused_with_its_place_and_the_next_step(language, words):
    text, line, column = words["refused"]
    for work in (language.parts, language.gate, language.names_used):
        with pytest.raises(StatementRefused) as refused:
            work(text)
        assert refused.value.hint
    with pytest.raises(StatementRefused) as refused:
        language.parts(text)
    assert (refused.value.facts["line"], refused.value.facts["column"]) == (line, column)
    [diagnostic] = language.diagnostics(text, [])[0]
    assert (diagnostic.severity, diagnostic.line, diagnostic.column) == ("error", line, column)
    with pytest.raises(StatementRefused, match="empty"):
        language.parts(words["none"])


def test_parameters_are_found_once_and_only_where_they_are_some(language, words):
    assert language.parameters(words["used_twice"]) == language.names_used(words["used_twice"]) == ["zone", "day"]
    assert language.parameters(words["no_parameter"]) == ["day"]


@given(zone=TEXTS)
def test_values_go_into_the_text_and_out_again(language_of_all, zone):
    language, words = language_of_all
    for text in (words["two"], words["used_twice"], words["no_parameter"]):
        made = language.fill_in(text, bound(zone))
        assert language.restore(made.text) == text
        assert language.parameters(made.text) == []
        for start, length, author_start, author_length in made.spans:
            assert made.original(start) == author_start
            assert text[author_start : author_start + author_length].startswith(":")
            assert made.text[start + length :].startswith(text[author_start + author_length :][:1])
    parts, filled = language.filled_parts(words["two"], bound(zone))
    assert [(part.title, each.names) for part, each in zip(parts, filled, strict=True)] == [("By zone", ["zone"]), ("All", [])]


@pytest.fixture(params=sorted(CASES), scope="module")
def language_of_all(request):
    return ALL[request.param], CASES[request.param]


def test_a_sensitive_value_does_not_stand_in_the_text(language, words):
    made = language.fill_in(words["two"], bound("Heron Holt", sensitive=True))
    assert "Heron" not in made.text
    with pytest.raises(BadInput, match="not declared"):
        language.fill_in(words["two"], resolve([], {}, date(2026, 11, 24), datetime.now(timezone.utc)))


def test_what_is_not_closed_is_refused_with_its_place(language, words):
    with pytest.raises(BadInput) as refused:
        language.restore(words["unclosed"])
    assert refused.value.facts["line"] == 1
    assert refused.value.hint


def test_parameters_that_are_not_declared_or_not_used_are_remarked_on(language, words):
    diagnostics, parts = language.diagnostics(words["used_twice"], [Parameter("zones"), DECLARED[1]])
    codes = {(each.code, each.severity) for each in diagnostics}
    assert codes >= {("parameter_undeclared", "error"), ("parameter_unused", "warning")}
    assert any("Did you mean ':zones'?" in each.hint for each in diagnostics)
    assert parts == language.parts(words["used_twice"])
    assert language.diagnostics(words["used_twice"], DECLARED) == ([], parts)


def test_what_a_language_cannot_do_is_said_and_nothing_breaks(language, words):
    table = {"schema": "", "name": "districts", "kind": "table", "columns": []}
    for work in (lambda: language.total(language.parts(words["two"])[0].text), lambda: language.views(table)):
        try:
            assert work()
        except BadInput as error:
            assert language.title in error.message
    error = LadleError("it is wrong.", "Correct it.")
    assert language.diagnostic_on_error(error, words["two"], words["two"], [table], []).message == "it is wrong."
    assert language.diagnostics_on_columns(words["two"], DECLARED, [table]) == []
    language.diagnostics_on_names(words["two"], [table], [])
    language.completion(words["two"], 3, [table], ["zone"], True)
    language.refuse_misread(words["two"], ["zone"])
    language.warm()


def test_it_goes_to_another_process_and_tells_the_console_in_plain_json(language, words):
    again = pickle.loads(pickle.dumps(language))
    assert again.parts(words["two"]) == language.parts(words["two"])
    assert json.loads(json.dumps(dict(language.editor))) == dict(language.editor)
    assert language.title
