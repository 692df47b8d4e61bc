"""The HTTP interface as it is on the wire: problems, roles, keys, pages, ranges."""

from __future__ import annotations

import importlib
import json
import pkgutil
import re
import threading
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from pathlib import Path

import httpx
import psycopg
import pytest

import patient_ladle
from patient_ladle.client import RunFailed
from patient_ladle.core import errors
from tests.command import PATIENCE
from tests.conftest import PASSWORD, until

ROOT = Path(__file__).parents[2]


@pytest.fixture
def finished(service):
    """A finished run with three files."""
    with service.ladle("runner") as ladle:
        return ladle.runs.wait(ladle.runs.start("district_use")["id"], PATIENCE)


ASK = "Ask the author of the extract, who sees the details."


def problem(answer, status, code):
    assert answer.status_code == status, answer.text
    assert answer.headers["content-type"] == "application/problem+json"
    body = answer.json()
    assert (body["status"], body["code"]) == (status, code)
    assert body["request_id"] == answer.headers["x-request-id"]
    assert body["message"]
    assert body["hint"]
    assert "Traceback" not in answer.text
    return body


def addresses():
    document = json.loads((ROOT / "docs/openapi.json").read_text())
    for path, methods in document["paths"].items():
        for method in methods:
            if "sign-in" not in path:
                yield (
                    method.upper(),
                    re.sub(
                        r"\{number\}",
                        "1",
                        re.sub(r"\{token_id\}", "1", re.sub(r"\{(name|table)\}", "x", re.sub(r"\{(row|column)\}", "0", path))),
                    ),
                )


@pytest.mark.parametrize(("method", "path"), [*addresses(), ("GET", "/api/v1/openapi.json")])
def test_nothing_answers_without_a_sign_in(service, method, path):
    answer = httpx.request(method, service.url + path, json={} if method != "GET" else None, timeout=PATIENCE)
    assert answer.status_code == 401, answer.text
    assert answer.json()["code"] == "not_signed_in"


def bodiless():
    """Calls that change something and take no body, by the API's document."""
    for path, methods in json.loads((ROOT / "docs/openapi.json").read_text())["paths"].items():
        for method, call in methods.items():
            if method not in ("get", "head") and "requestBody" not in call and "sign-in" not in path:
                yield method.upper(), re.sub(r"\{[a-z_]+\}", "1", path)


@pytest.mark.parametrize(("method", "path"), [*bodiless()])
def test_a_body_that_nothing_reads_is_refused_before_anything_is_done(http, method, path):
    answer = http(method, path.removeprefix("/api/v1"), json={"newest_revisoin": True})
    assert (answer.status_code, "it was given newest_revisoin" in answer.text) == (400, True), answer.text


def test_an_address_with_a_line_break_is_answered_as_any_other_that_is_not_there(service):
    for path in ("/api/v1/ru%0Ans", "/%0Anowhere"):
        answer = httpx.get(service.url + path, timeout=PATIENCE)
        assert answer.status_code == 404
        assert "<h1>" not in answer.text
    assert httpx.get(f"{service.url}/api/v1/ru%0Ans", timeout=PATIENCE).json()["code"] == "not_found"


NEVER = (
    "http://169.254.169.254/latest",
    "http://[fe80::1]/x",
    "http://2852039166/x",
    "http://[::ffff:a9fe:a9fe]/x",
    "http://0.0.0.0/x",
)


@pytest.mark.parametrize("url", NEVER)
def test_a_channel_to_where_nothing_may_be_sent_is_refused_when_it_is_saved(http, url):
    channel = {"name": "astray", "kind": "webhook", "settings": {"url": url}}
    assert problem(http("POST", "/channels", json=channel), 400, "bad_input")
    assert (
        http("POST", "/channels", json=channel | {"settings": {"url": "https://alerts.fennmoor.example/x"}}).status_code == 201
    )
    try:
        assert problem(http("PATCH", "/channels/astray", json={"settings": {"url": url}}), 400, "bad_input")
    finally:
        assert http("DELETE", "/channels/astray").status_code == 204


def test_health_is_told_whatever_hangs(orm, monkeypatch):
    """The ledger's database takes a connection and says nothing more: one look waits for it, however often it is asked."""
    from patient_ladle.service.runs import health

    looks, go_on = [], threading.Event()

    def hangs():
        looks.append(1)
        assert go_on.wait(PATIENCE)
        return []

    monkeypatch.setattr(health, "what_does_not_run", hangs)
    monkeypatch.setattr(health, "ANSWER_SECONDS", 0.05)
    monkeypatch.setattr(health, "_LOOKS", [])
    for _ in range(3):
        answer = health.health(None)
        assert (answer.status_code, json.loads(answer.content)["status"]) == (503, "away")
    assert len(looks) == 1
    go_on.set()
    until(lambda: json.loads(health.health(None).content)["status"] == "well")
    monkeypatch.setattr(health, "what_does_not_run", lambda: ["worker"])
    until(lambda: json.loads(health.health(None).content)["status"] == "nothing_runs")


def test_the_apis_document_is_made_once_however_often_it_is_asked_for(repository, monkeypatch):
    from rest_framework.test import APIRequestFactory, force_authenticate

    from patient_ladle.service.common import document_api

    made, make = [], document_api.ApiDocument._get_schema_response
    monkeypatch.setattr(document_api, "_MADE", [])
    monkeypatch.setattr(document_api.ApiDocument, "_get_schema_response", lambda *given: made.append(1) or make(*given))

    def asked():
        request = APIRequestFactory().get("/api/v1/openapi.json")
        force_authenticate(request, repository)
        return document_api.ApiDocument.as_view()(request)

    answers = [asked() for _ in range(3)]
    assert len(made) == 1
    assert {answer.content for answer in answers} == {answers[0].content}
    assert (
        json.loads(answers[0].content)["paths"].keys() == json.loads((ROOT / "docs/openapi.json").read_text())["paths"].keys()
    )


def test_health_and_the_sign_in_page_answer(service):
    assert httpx.get(f"{service.url}/healthz", timeout=PATIENCE).json()["status"] == "well"
    page = httpx.get(f"{service.url}/runs/1", timeout=PATIENCE)
    assert page.status_code == 200
    assert 'content="none"' in page.text
    nonce = re.search(r"'nonce-([\w-]+)'", page.headers["content-security-policy"]).group(1)
    assert nonce in page.text
    assert "unsafe-inline" not in page.headers["content-security-policy"].split("style-src-attr")[0]


WRITES = [
    ("reader", "POST", "/runs", {"extract": "samples"}),
    ("reader", "POST", "/runs/1/cancel", {}),
    ("runner", "POST", "/extracts", {"name": "x", "source": "metering", "statement": "select 1"}),
    ("runner", "PATCH", "/extracts/samples", {"notes": "x"}),
    ("runner", "POST", "/schedules", {"name": "x"}),
    ("runner", "POST", "/sources/metering/check", {}),
    ("author", "POST", "/sources", {"name": "x"}),
    ("author", "DELETE", "/sources/metering", None),
    ("author", "POST", "/environments", {"name": "x"}),
    ("author", "GET", "/people", None),
    ("author", "POST", "/people", {"name": "x"}),
]


@pytest.mark.parametrize(("name", "method", "path", "body"), WRITES)
def test_a_role_that_may_not_is_told_which_may(http, name, method, path, body):
    found = problem(http(method, path, name, json=body), 403, "not_allowed")
    assert re.search(rf"'{name}' is signed in as {name}; this needs \w+", found["message"])


@pytest.mark.parametrize(
    ("given", "status", "code", "words"),
    [
        ({"content": b"{not json", "headers": {"Content-Type": "application/json"}}, 400, "bad_input", "the body is not JSON"),
        ({"content": b"a=1", "headers": {"Content-Type": "text/plain"}}, 400, "bad_input", "Content-Type: application/json"),
        ({"json": [1]}, 400, "bad_input", "not a JSON object"),
        ({"json": {"extract": "samples", "vaules": {}}}, 400, "unknown_name", "Did you mean 'values'?"),
        ({"json": {}}, 400, "bad_input", "extract: "),
        ({"json": {"extract": "sampels"}}, 400, "unknown_name", "Did you mean 'samples'?"),
        ({"json": {"extract": "samples", "formats": ["jsn"]}}, 400, "unknown_name", "Did you mean 'json'?"),
        ({"json": {"extract": "samples", "environment": "liv"}}, 400, "unknown_name", "Did you mean 'live'?"),
        ({"json": {"extract": "samples", "environment": "rehearsal"}}, 400, "bad_input", "has no address in environment"),
        ({"json": {"extract": "samples", "values": {"abov": 1}}}, 400, "unknown_name", "Did you mean 'above'?"),
        ({"json": {"extract": "samples", "values": {"above": "x"}}}, 400, "value_wrong", "a number such as 12.5"),
        ({"json": {"extract": "samples", "data_date": "2026-02-30"}}, 400, "bad_input", "Give a day that exists"),
        ({"json": {"extract": "samples", "revision": 99}}, 404, "not_found", "Its revisions are 1 to 1."),
        ({"content": b"x" * 3_000_000}, 413, "too_large", "at most 2,097,152 are taken"),
    ],
)
def test_a_wrong_body_is_answered_with_cause_and_next_step(http, given, status, code, words):
    assert words in problem(http("POST", "/runs", **given), status, code)["detail"]


@pytest.mark.parametrize(
    ("statement", "words"),
    [
        ("delete from districts", "begins with 'delete' at line 1, column 1"),
        ("select 1; delete from districts", "begins with 'delete' at line 1, column 11"),
        ("select :x", "uses ':x', which is not declared"),
        ("select 'a", "is never closed"),
        ("select '" + "x" * 300_000 + "'", "at most 262,144 are taken"),
    ],
)
def test_a_statement_that_is_not_one_reading_statement_is_not_saved(http, statement, words):
    code = "bad_input" if "declared" in words else "statement_refused"
    found = problem(http("POST", "/extracts", json={"name": "never", "source": "metering", "statement": statement}), 400, code)
    assert words in found["detail"]
    problem(http("GET", "/extracts/never"), 404, "unknown_name")


def test_other_addresses_and_methods(http):
    problem(http("GET", "/nowhere"), 404, "not_found")
    problem(http("PUT", "/runs"), 405, "method_not_allowed")
    problem(http("GET", "/runs/999999"), 404, "not_found")
    assert "Did you mean 'failed'?" in problem(http("GET", "/runs?state=faild"), 400, "unknown_name")["detail"]
    problem(http("GET", "/runs?since=yesterday"), 400, "bad_input")


def test_a_key_starts_one_run_however_often_it_comes(http, service):
    body = {"extract": "samples", "values": {"above": "0.1"}}

    def call(_):
        return http("POST", "/runs", json=body, headers={"Idempotency-Key": "night-1"})

    with ThreadPoolExecutor(8) as pool:
        answers = list(pool.map(call, range(8)))
    assert {a.status_code for a in answers} <= {200, 201}
    assert [a.status_code for a in answers].count(201) == 1
    assert len({a.json()["id"] for a in answers}) == 1
    other = http("POST", "/runs", json={"extract": "samples"}, headers={"Idempotency-Key": "night-1"})
    problem(other, 422, "idempotency_mismatch")
    another_person = http("POST", "/runs", "runner", json=body, headers={"Idempotency-Key": "night-1"})
    assert another_person.status_code == 201


def test_two_authors_cannot_overwrite_each_other(http):
    body = {"name": "shared", "source": "metering", "statement": "select 1 as a"}
    made = http("POST", "/extracts", json=body)
    assert (made.status_code, made.headers["etag"]) == (201, '"1"')
    first = http("PATCH", "/extracts/shared", "author", json={"statement": "select 2 as a"}, headers={"If-Match": '"1"'})
    assert (first.status_code, first.headers["etag"]) == (200, '"2"')
    found = problem(
        http("PATCH", "/extracts/shared", json={"statement": "select 3"}, headers={"If-Match": '"1"'}), 412, "edited_meanwhile"
    )
    assert "'shared' is at revision 2, saved by author; you began from 1." in found["message"]
    problem(http("PATCH", "/extracts/shared", json={"notes": "x"}, headers={"If-Match": "abc"}), 400, "bad_input")
    problem(http("POST", "/extracts", json=body), 409, "conflict")
    restored = http("POST", "/extracts/shared/restore", json={"revision": 1}).json()
    assert (restored["revision"]["number"], restored["revision"]["statement"]) == (3, "select 1 as a")
    assert [r["number"] for r in http("GET", "/extracts/shared/revisions").json()] == [3, 2, 1]


def test_a_file_is_served_whole_in_parts_and_only_as_a_download(http, finished):
    [file] = [f for f in finished["files"] if f["format"] == "csv"]
    path = f"/runs/{finished['id']}/files/{file['name']}"
    whole = http("GET", path)
    assert len(whole.content) == file["bytes"]
    assert whole.headers["content-disposition"].startswith("attachment")
    assert whole.headers["x-content-type-options"] == "nosniff"
    assert whole.headers["content-security-policy"] == "sandbox"
    for given, expected in [
        ("bytes=0-9", whole.content[:10]),
        ("bytes=10-", whole.content[10:]),
        ("bytes=-5", whole.content[-5:]),
    ]:
        part = http("GET", path, headers={"Range": given, "If-Range": whole.headers["etag"]})
        assert (part.status_code, part.content) == (206, expected)
    for known, status in ((whole.headers["etag"], 304), (f'"old", W/{whole.headers["etag"]}', 304), ("*", 304), ('"old"', 200)):
        again = http("GET", path, headers={"If-None-Match": known})
        assert (again.status_code, len(again.content)) == (status, 0 if status == 304 else len(whole.content)), known
        assert again.headers["etag"] == whole.headers["etag"]
    stale = http("GET", path, headers={"Range": "bytes=0-9", "If-Range": '"old"'})
    assert (stale.status_code, stale.content) == (200, whole.content)
    beyond = http("GET", path, headers={"Range": "bytes=99999999-"})
    assert (beyond.status_code, beyond.headers["content-range"]) == (416, f"bytes */{file['bytes']}")
    descriptor = http("GET", f"/runs/{finished['id']}/files/datapackage.json").json()
    assert descriptor["ladle"]["values"]["zones"] == ["North", "South"]
    problem(http("GET", f"/runs/{finished['id']}/files/..%2F..%2Fsecrets.key"), 404, "not_found")
    problem(http("GET", f"/runs/{finished['id']}/files/other.csv"), 404, "unknown_name")


def test_lists_come_in_pages_that_do_not_shift(http, finished):
    first = http("GET", "/runs?page_size=1").json()
    assert first["results"][0]["id"] >= finished["id"]
    second = httpx.get(first["next"], headers=http("GET", "/me").request.headers, timeout=PATIENCE).json()
    assert second["results"][0]["id"] < first["results"][0]["id"]


def test_secrets_go_in_and_never_come_out(http, service):
    secret = "hush-hush-42"
    address = {"host": "127.0.0.1", "port": 5, "database": "d", "user": "u"}
    http(
        "POST",
        "/sources",
        json={"name": "quiet", "engine": "postgresql", "addresses": {"live": {"address": address, "secret": secret}}},
    )
    answers = [http("GET", "/sources").text, http("POST", "/sources/quiet/check").text]
    changed = http("PATCH", "/sources/quiet", json={"addresses": {"live": {"address": address | {"port": 6}}}})
    assert "its password is needed again" in problem(changed, 400, "bad_input")["message"]
    kept = http("PATCH", "/sources/quiet", json={"addresses": {"live": {"address": address}}, "max_runs": 3})
    assert (kept.status_code, kept.json()["addresses"][0]["has_secret"]) == (200, True)
    with psycopg.connect(service.database_url()) as connection:
        [stored] = connection.execute("select secret from sources_address where fields ->> 'database' = 'd'").fetchone()
    assert not [text for text in [*answers, stored, *service.log] if secret in text]
    assert http("DELETE", "/sources/quiet").status_code == 204


def test_a_source_in_use_stays_and_the_services_own_database_is_no_source(http, service):
    assert "is in use: " in problem(http("DELETE", "/sources/metering"), 409, "conflict")["message"]
    port = int((service.data / "keys" / "ledger.port").read_text())
    address = {"host": "localhost", "port": port, "database": "ladle", "user": "ladle"}
    body = {"name": "own", "engine": "postgresql", "addresses": {"live": {"address": address, "secret": "x"}}}
    assert "the service's own database" in problem(http("POST", "/sources", json=body), 400, "bad_input")["message"]
    assert (
        "Did you mean 'sqlite'?"
        in problem(http("POST", "/sources", json={"name": "x", "engine": "sqllite"}), 400, "unknown_name")["hint"]
    )


def test_failed_sign_ins_are_slowed_and_sessions_need_their_csrf_token(service):
    with service.ladle() as ladle:
        ladle.people.add("forgetful", PASSWORD, "reader")
    body = {"name": "forgetful", "password": "wrong"}
    codes = [httpx.post(f"{service.url}/api/v1/sign-in/token", json=body, timeout=PATIENCE).json()["code"] for _ in range(7)]
    assert (codes[:5], codes[-1]) == (["not_signed_in"] * 5, "slow_down")
    with httpx.Client(base_url=service.url, timeout=PATIENCE) as browser:
        right = {"name": "runner", "password": PASSWORD}
        assert "X-CSRFToken" in problem(browser.post("/api/v1/sign-in", json=right), 403, "not_allowed")["hint"]
        browser.get("/")
        token = {"X-CSRFToken": browser.cookies["csrftoken"]}
        assert browser.post("/api/v1/sign-in", json=right, headers=token).status_code == 200
        assert browser.get("/api/v1/me").json() == {"name": "runner", "role": "runner", "zone": "UTC"}
        refused = problem(browser.post("/api/v1/runs", json={"extract": "samples"}), 403, "not_allowed")
        assert "X-CSRFToken" in refused["hint"], "no wider role helps"
        token = {"X-CSRFToken": browser.cookies["csrftoken"]}
        assert browser.post("/api/v1/runs", json={"extract": "samples"}, headers=token).status_code == 201


def test_a_token_reaches_no_further_than_its_maker_and_ends_when_revoked(http, service):
    problem(http("POST", "/tokens", "runner", json={"name": "t", "role": "author"}), 400, "bad_input")
    made = http("POST", "/tokens", "administrator", json={"name": "t", "role": "reader"}).json()

    def use():
        bearer = {"Authorization": f"Bearer {made['secret']}"}
        return httpx.post(f"{service.url}/api/v1/runs", json={"extract": "samples"}, headers=bearer, timeout=PATIENCE)

    problem(use(), 403, "not_allowed")
    assert http("DELETE", f"/tokens/{made['id']}").status_code == 204
    problem(use(), 401, "not_signed_in")


def test_every_due_time_is_recorded_once_and_runs_once(http, service):
    hour = (datetime.now(UTC) + timedelta(hours=12)).hour  # far from now: nothing falls due of itself while the test runs
    body = {
        "name": "each-day",
        "extract": "district_use",
        "environment": "live",
        "rule": f"0 {hour} * * *",
        "zone": "UTC",
    }
    made = http("POST", "/schedules", json=body).json()
    assert len(made["next_due"]) == 5
    back = "update schedules_schedule set next_due_at = next_due_at - interval '{} days' where name = 'each-day'"
    with psycopg.connect(service.database_url(), autocommit=True) as connection:
        connection.execute(back.format(7))
        found = until(lambda: (r := http("GET", "/schedules/each-day/due-times").json()["results"]) and len(r) >= 7 and r)
        assert Counter(d["decision"] for d in found) == {"run": 1, "missed": 6}
        [([run], data_date)] = [(d["runs"], d["data_date"]) for d in found if d["runs"]]
        connection.execute(back.format(6))
        until(
            lambda: connection.execute(
                "select 1 from schedules_schedule where name = 'each-day' and next_due_at > now()"
            ).fetchone()
        )
        ran = (
            "select count(*) from runs_run r join schedules_duetime d on d.id = r.due_time_id where d.schedule_id = (select id"
        )
        ran += " from schedules_schedule where name = 'each-day')"
        assert connection.execute(ran).fetchone() == (1,)
    record = until(lambda: (r := http("GET", f"/runs/{run}").json())["state"] == "finished" and r)
    assert (record["schedule"], record["data_date"]) == ("each-day", data_date)
    http("POST", "/schedules/each-day/pause", json={"reason": "meter swap"})
    with psycopg.connect(service.database_url(), autocommit=True) as connection:
        connection.execute(back.format(20))
    due_times = lambda: http("GET", "/schedules/each-day/due-times").json()["results"]  # noqa: E731
    skipped = until(lambda: [d for d in due_times() if d["decision"] == "skipped"])[0]
    assert skipped["reason"] == "paused by administrator: meter swap"
    assert http("POST", "/schedules/each-day/resume").json()["paused_at"] is None
    assert http("DELETE", "/schedules/each-day").status_code == 204


def test_schedules_come_page_by_page_and_are_found_by_what_they_run(http, service):
    with service.ladle() as ladle:
        names = [f"paged-{number}" for number in (3, 1, 2, 5, 4)]
        for name in names:
            then = [{"extract": "district_use"}] if name == "paged-2" else []
            ladle.schedules.add(name, "samples", "live", "1st of january 00:00", then=then)
        first = http("GET", "/schedules?search=paged-&page_size=2").json()
        walked = list(ladle.transport.pages("/schedules", search="PAGED-", page_size=2))
        assert [s["name"] for s in walked] == sorted(names)
        assert first["results"] == walked[:2]
        assert [s["name"] for s in ladle.schedules.list("district_u") if s["name"] in names] == ["paged-2"]
        shown = service.command("schedule", "list", "--search", "district_u").stdout
        assert "samples → district_use" in shown
        assert "paged-1" not in shown
        assert "nothing matches" in service.command("schedule", "list", "--search", "nowhere").stdout
        for name in names:
            ladle.schedules.remove(name)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"rule": "* * * *"}, "has 4 fields; a crontab rule has five"),
        ({"zone": "Mars/Olympus"}, "there is no time zone 'Mars/Olympus'"),
        ({"extract": "sampels"}, "Did you mean 'samples'?"),
        ({"values": {"above": "x"}}, "a number such as 12.5"),
        ({"environment": "rehearsal"}, "has no address in environment 'rehearsal'"),
        ({"formats": ["xls"]}, "Did you mean 'xlsx'?"),
    ],
)
def test_a_schedule_that_could_not_run_is_not_saved(http, change, words):
    body = {"name": "never", "extract": "samples", "environment": "live", "rule": "0 6 * * *"} | change
    assert words in http("POST", "/schedules", json=body).json()["detail"]
    problem(http("GET", "/schedules/never"), 404, "unknown_name")


def test_the_last_night_is_told_to_every_role_and_on_the_command_line(http, service):
    with service.ladle("runner") as ladle, pytest.raises(RunFailed) as failed:
        ladle.runs.wait(ladle.runs.start("broken")["id"], PATIENCE)
    run = failed.value.run
    night = http("GET", "/last-night", "reader").json()
    need = next(each for each in night["needs"] if each["run"] == run["id"])
    assert (need["kind"], need["extract"], need["environment"]) == ("failed", "broken", "live")
    assert (need["cause"], need["hint"]) == ("the database rejected the statement.", ASK)
    own = next(each for each in http("GET", "/last-night", "author").json()["needs"] if each["run"] == run["id"])
    with service.ladle("author") as ladle:
        error = ladle.runs.get(run["id"])["error"]
    assert (own["cause"], own["hint"]) == (error["message"], error["hint"])
    assert "d.nmae" in error["message"]
    assert night["needing"] >= len(night["needs"]) > 0
    assert f"{night['counts']['failed']:,} failed" in night["sentence"]
    assert next(each for each in night["runs"] if each["id"] == run["id"])["state"] == "failed"
    said = service.command("status", name="reader").stdout
    assert night["sentence"] in said
    assert re.search(rf"^{night['needing']} needs? attention:$", said, re.MULTILINE)
    assert f"{run['id']}" in said
    assert http("GET", "/last-night", headers={"Authorization": "Bearer no"}).status_code == 401


def test_every_error_of_every_module_has_a_code_of_its_own(orm):
    for module in pkgutil.walk_packages(patient_ladle.__path__, "patient_ladle."):
        if ".migrations" not in module.name and not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    own = [c for c in errors._family(errors.LadleError) if c.__module__.startswith("patient_ladle.")]
    assert len(own) > 40
    assert sorted(c.code for c in own) == sorted({c.code for c in own})


def shape_of(schema):
    """What kind of thing it is, so far as one sentence can be of it: a list, a number, words or an object of its own."""
    if "$ref" in schema or any(each in schema for each in ("allOf", "anyOf", "oneOf")):
        named = [schema, *schema.get("allOf", []), *schema.get("anyOf", []), *schema.get("oneOf", [])]
        names = {each["$ref"].rpartition("/")[2] for each in named if "$ref" in each}
        return "text" if all(each.endswith(("Enum", "Kind", "State", "Field")) for each in names - {"NullEnum"}) else "object"
    kinds = [schema.get("type")] if isinstance(schema.get("type"), str) else schema.get("type") or []
    return {"array": "list", "integer": "number", "string": "text", "object": "object"}.get(
        next(iter({*kinds} - {"null"}), ""), "anything"
    )


def test_one_sentence_describes_things_of_one_shape():
    """What is said of a property by its name alone is said of lists, or of numbers, or of texts, and not of all of them."""
    document = json.loads((ROOT / "docs/openapi.json").read_text())
    said = {}
    for schema in document["components"]["schemas"].values():
        for name, each in schema.get("properties", {}).items():
            said.setdefault((name, each.get("description")), set()).add(shape_of(each))
    assert len(said) > 500
    mixed = {name for (name, _), shapes in said.items() if len(shapes - {"anything"}) > 1}
    assert mixed == {"addresses"}  # given by environment, and listed with it
