"""Any characters, in any place that a source could say them back from: an answer that can be kept, or a clear refusal."""

from __future__ import annotations

import json
from datetime import date, datetime, timezone

import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.adapters.sources import get_engine
from patient_ladle.core.errors import LadleError
from patient_ladle.core.keepable import MOST_CHARACTERS, keepable_text, said
from patient_ladle.core.ports import Statement
from patient_ladle.core.runs.preview import PreviewLimits, first_rows
from patient_ladle.core.values.parameters import Parameter, resolve
from tests.adapters.sources.small_tables import DAY
from tests.profile import examples

ODD = st.text(
    st.one_of(
        st.sampled_from("\0\ud800\udc00\udfff\x01\x07\x08\x1a\x1b\x7f\x85\u2028\ufeff\ufffe\uffff\r\n'\"`\\;%:$[{"),
        st.characters(exclude_categories=()),
    ),
    min_size=1,
    max_size=12,
)
PLACES = ("cell", "name", "missing", "table", "comment", "wrong", "value")
AT = datetime(2026, 11, 24, 6, 5, tzinfo=timezone.utc)


def of_sql(engine, place, odd):
    """A statement that has the text in that place."""
    quote = "`" if engine == "mariadb" else '"'
    name = quote + odd.replace(quote, quote * 2) + quote
    text = "'" + (odd.replace("\\", "\\\\") if engine == "mariadb" else odd).replace("'", "''") + "'"
    return {
        "cell": f"select {text} as a from zones",
        "name": f"select 1 as {name}",
        "missing": f"select zones.{name} from zones",
        "table": f"select * from {name}",
        "comment": f"select 1 as a /* {odd} */",
        "wrong": f"select cast({text} as int) as a",
        "value": "select :v as a",
    }[place]


def of_documents(place, odd):
    asked = {
        "cell": {"find": "zones", "filter": {"name": odd}},
        "name": {"find": "zones", "projection": {odd: 1}},
        "missing": {"aggregate": "zones", "pipeline": [{"$" + odd: 1}]},
        "table": {"find": odd},
        "comment": {odd: "zones"},
        "wrong": {"find": "zones", "filter": {"name": {"$" + odd: 1}}},
        "value": {"find": "zones", "filter": {"name": "?"}},
    }[place]
    return json.dumps(asked, ensure_ascii=False).replace('"?"', ":v")


def answered(source, text, value=None):
    """As a child would tell it: the rows, or what is wrong; nothing else may happen."""
    try:
        declared = [Parameter("v")] if ":v" in text else []
        bound = resolve(declared, {"v": value} if declared else {}, DAY, AT)
        session = source.engine.open(source.address, source.secret)
        try:
            told = {"kind": "done", "result": first_rows(session, Statement(text, bound), PreviewLimits(rows=5))}
        finally:
            session.close()
    except LadleError as error:
        assert error.code not in ("service_fault", "worker_lost"), error
        told = {"kind": "failed", "error": error.to_dict()}
    return told, said(json.dumps(told).encode())


@examples(1.5)
@given(st.sampled_from(PLACES), ODD)
def test_whatever_is_asked_is_answered_in_words_that_can_be_kept(source, place, odd):
    text = of_documents(place, odd) if source.name == "documents" else of_sql(source.name, place, odd)
    told, heard = answered(source, text, odd)
    kept = json.dumps(heard, ensure_ascii=False)
    kept.encode()
    assert "\\u0000" not in kept
    if told["kind"] == "done":
        assert heard == json.loads(
            json.dumps(told), object_hook=lambda made: {keepable_text(k): v for k, v in made.items()}
        ) or (keepable_text(odd) != odd), "what can be kept is as it was"


LONG = {
    "postgresql": "select cast(repeat('x', 10000000) as int) as a",
    "mariadb": "select * from zones where name = cast(json_extract(repeat('x', 10000000), '$.a') as char) as a",
    "sqlite": "select json_extract(printf('%.*c', 10000000, 'x'), '$') as a",
    "duckdb": "select cast(repeat('x', 10000000) as int) as a",
    "files": "select cast(repeat('x', 10000000) as int) as a",
}


@pytest.mark.parametrize("source", sorted(LONG), indirect=True)
def test_an_error_of_ten_megabytes_is_told_as_far_as_a_person_reads(source):
    told, heard = answered(source, LONG[source.name])
    assert told["kind"] == "failed"
    assert len(heard["error"]["message"]) < MOST_CHARACTERS + 60


@examples(1)
@given(st.binary(max_size=200), st.sampled_from(["csv", "json", "jsonl", "tsv", "parquet"]))
def test_a_file_of_any_bytes_is_read_or_refused_in_words_that_can_be_kept(home, data, suffix):
    folder = home / "any-bytes"
    folder.mkdir(exist_ok=True)
    for old in folder.iterdir():
        old.unlink()
    (folder / f"wide.{suffix}").write_bytes(data)
    engine = get_engine("files")
    for text in ("select * from wide", "select count(*) as n from wide"):
        try:
            session = engine.open({"folder": str(folder)}, "")
            try:
                told = {
                    "kind": "done",
                    "result": first_rows(session, Statement(text, resolve([], {}, DAY, AT)), PreviewLimits(rows=5)),
                }
            finally:
                session.close()
        except LadleError as error:
            assert error.code not in ("service_fault", "worker_lost"), error
            told = {"kind": "failed", "error": error.to_dict()}
        kept = json.dumps(said(json.dumps(told).encode()), ensure_ascii=False)
        kept.encode()
        assert "\\u0000" not in kept


EDGES = (
    "0001-01-01",
    "0001-01-02",
    "1582-10-10",
    "9999-12-30",
    "9999-12-31",
    "10000 years ago",
    "99999999 days ago",
    "last month",
    "2024-02-29",
)


@pytest.mark.parametrize("kind", ["date", "timestamp", "period"])
@pytest.mark.parametrize("day", ["0001-01-01", "9999-12-31", "2026-11-24"])
def test_the_first_and_the_last_day_are_bound_or_refused(source, kind, day):
    names = ("v_from", "v_to") if kind == "period" else ("v",)
    text = (
        json.dumps({"find": "reads", "filter": {"read_at": {"$gt": "?"}}}).replace('"?"', f":{names[-1]}")
        if source.name == "documents"
        else "select " + ", ".join(f":{name} as {name}" for name in names)
    )
    for value in (
        EDGES if kind != "period" else [*EDGES, *((EDGES[0], each) for each in EDGES), *((each, EDGES[4]) for each in EDGES)]
    ):
        try:
            bound = resolve(
                [Parameter("v", kind)], {"v": list(value) if isinstance(value, tuple) else value}, date.fromisoformat(day), AT
            )
            session = source.engine.open(source.address, source.secret)
            try:
                first_rows(session, Statement(text, bound), PreviewLimits(rows=5))
            finally:
                session.close()
        except LadleError as error:
            assert error.code not in ("service_fault", "worker_lost"), (value, error)
