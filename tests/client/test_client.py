"""The client library against the running service, and against one that misbehaves."""

from __future__ import annotations

import http.server
import threading

import psycopg
import pytest
from hypothesis import given
from hypothesis import strategies as st

from patient_ladle.client import CallFailed, Ladle, NotReachable, RunFailed, transport
from patient_ladle.client.errors import ClientError, FileDamaged
from patient_ladle.client.runs import _lines
from tests.command import PATIENCE
from tests.conftest import until


def test_from_extract_to_rows(service, tmp_path):
    with service.ladle("runner") as ladle:
        assert "district_use" in [e["name"] for e in ladle.extracts.list(folder="regulation")]
        assert ladle.extracts.get("district_use")["revision"]["parameters"][0]["name"] == "zones"
        seen = []
        run = ladle.runs.start("district_use", values={"zones": ["North"]}, data_date="2026-11-10")
        run = ladle.runs.wait(run["id"], PATIENCE, progress=lambda r: seen.append(r["state"]))
        assert seen[-1] == "finished"
        assert (run["rows"], run["data_date"], run["values_in_effect"]["zones"]) == (1, "2026-11-10", ["North"])
        saved = ladle.runs.save_files(run, tmp_path)
        assert [p.name for p in saved[-1:]] == [f"run-{run['id']}.datapackage.json"]
        assert sorted(p.name for p in tmp_path.iterdir()) == sorted([*(f["name"] for f in run["files"]), saved[-1].name])
        [row] = ladle.runs.rows(run)
        assert (row["name"], row["readings"]) == ("Alder Moor", 4319)
        texts = [line["text"] for line in ladle.runs.log(run["id"], follow=True)]
        assert texts[0] == "(details are shown to authors)"
        assert any(text.startswith("proven: district_use-2026-11-10.csv, 1 row") for text in texts)
    with service.ladle("author") as ladle:
        texts = [line["text"] for line in ladle.runs.log(run["id"], follow=True)]
        assert texts[0].startswith("attempt 1 on")
        assert texts[-1] == "finished: 1 row"


def test_a_run_again_says_whether_the_source_gave_the_same(service):
    with service.ladle("runner") as ladle:
        first = ladle.runs.wait(ladle.runs.start("district_use", data_date="2026-11-05")["id"], PATIENCE)
        second = ladle.runs.wait(ladle.runs.again(first["id"])["id"], PATIENCE)
    assert (second["again_of"], second["data_date"], second["same_as_before"]) == (first["id"], "2026-11-05", True)
    sums = [{f["format"]: f["sha256"] for f in run["files"]} for run in (first, second)]
    assert [sums[0][form] == sums[1][form] for form in ("csv", "json", "xlsx")] == [True, True, False], (
        "a workbook tells its run"
    )


def test_rows_of_a_csv_result_and_results_by_extract(service):
    with service.ladle() as ladle:
        run = ladle.runs.wait(ladle.runs.start("samples", formats=["csv"])["id"], PATIENCE)
        assert [r["point"] for r in ladle.runs.rows(run["id"])] == ["SP-1", "SP-2", "SP-3"]
        assert run["id"] in [f["run"] for f in ladle.runs.results("samples")]
        xlsx = ladle.runs.wait(ladle.runs.start("samples", formats=["xlsx"])["id"], PATIENCE)
        with pytest.raises(ClientError, match="has no plain CSV or JSON file"):
            next(ladle.runs.rows(xlsx))


def test_a_run_that_fails_says_why_and_delivers_nothing(service):
    with service.ladle("author") as ladle:
        run = ladle.runs.start("broken")
        with pytest.raises(RunFailed, match=r"column d.nmae does not exist \(line 1, column 8\)") as failed:
            ladle.runs.wait(run["id"], PATIENCE)
    assert failed.value.run["error"]["code"] == "statement_wrong"
    assert failed.value.run["files"] == []
    assert not (service.data / "results" / str(run["id"])).exists()


def test_a_cancel_stops_the_statement_in_the_source(service, cluster):
    with service.ladle("runner") as ladle:
        run = ladle.runs.start("slow")
        with psycopg.connect(cluster.url("metering"), autocommit=True) as watch:
            busy = "select count(*) from pg_stat_activity where usename = 'reader' and state = 'active' and query ilike 'copy%'"
            until(lambda: watch.execute(busy).fetchone() != (0,))
            ladle.runs.cancel(run["id"])
            with pytest.raises(RunFailed, match="cancelled"):
                ladle.runs.wait(run["id"], PATIENCE)
            until(lambda: watch.execute(busy).fetchone() == (0,))
    assert not (service.data / "deliveries" / "slow").exists() or not list((service.data / "deliveries" / "slow").iterdir())


def test_errors_carry_status_code_hint_and_request_id(service):
    with service.ladle("reader") as ladle, pytest.raises(CallFailed) as refused:
        ladle.runs.start("district_use")
    error = refused.value
    assert (error.status, error.code, len(error.request_id)) == (403, "not_allowed", 16)
    assert "this needs runner" in str(error)
    with pytest.raises(CallFailed, match="name and password do not fit"):
        Ladle.sign_in(service.url, "reader", "wrong-password")


class _Moody(http.server.BaseHTTPRequestHandler):
    """Answers 503 twice, then what was asked; counts what it got."""

    calls: list[tuple[str, str]] = []
    retry_after = ""

    def _answer(self):
        self.calls.append((self.command, self.headers.get("Idempotency-Key", "")))
        size = int(self.headers.get("Content-Length", 0))
        self.rfile.read(size)
        good = len(self.calls) > 2
        body = b"half a file" if "files" in self.path else b'{"id": 7, "state": "queued", "files": []}' if good else b"busy"
        self.send_response(200 if good or "files" in self.path else 503)
        self.send_header("Content-Length", str(len(body)))
        if self.retry_after:
            self.send_header("Retry-After", self.retry_after)
        self.end_headers()
        self.wfile.write(body)

    do_GET = do_POST = _answer

    def log_message(self, *_):
        """Silence."""


@pytest.fixture
def moody():
    _Moody.calls = []
    server = http.server.HTTPServer(("127.0.0.1", 0), _Moody)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    with Ladle(f"http://127.0.0.1:{server.server_port}", "t") as ladle:
        yield ladle
    server.shutdown()
    server.server_close()


def test_starting_a_run_is_tried_again_under_one_key(moody):
    assert moody.runs.start("x")["id"] == 7
    assert [method for method, _ in _Moody.calls] == ["POST"] * 3
    assert len({key for _, key in _Moody.calls}) == 1


@pytest.mark.parametrize(
    ("asked", "waits"), [("7", [7, 7]), ("86400", None), ("²", [0.3, 0.6]), ("-5", [0.3, 0.6]), ("soon", [0.3, 0.6])]
)
def test_a_wait_that_is_asked_for_is_kept_to_unless_nobody_would_wait_so_long(moody, monkeypatch, asked, waits):
    slept = []
    monkeypatch.setattr(transport.time, "sleep", slept.append)
    monkeypatch.setattr(_Moody, "retry_after", asked)
    if waits is None:
        with pytest.raises(CallFailed):
            moody.status()
    else:
        moody.status()
    assert (len(_Moody.calls), len(slept)) == (len(waits or []) + 1, len(waits or []))
    assert all(0.7 * want <= had <= 1.3 * want for want, had in zip(waits or [], slept, strict=True))


def test_what_is_not_safe_is_not_tried_again(moody):
    with pytest.raises(CallFailed):
        moody.runs.cancel(7)
    assert len(_Moody.calls) == 1


def test_a_damaged_file_is_not_kept(moody, tmp_path):
    run = {"id": 7, "files": [{"name": "x.csv", "sha256": "0" * 64}]}
    with pytest.raises(FileDamaged, match="arrived damaged"):
        moody.runs.save_files(run, tmp_path)
    assert list(tmp_path.iterdir()) == []


def test_no_service_is_said_with_the_next_step():
    with Ladle("http://127.0.0.1:9", "secret-token") as ladle:
        assert "secret-token" not in repr(ladle.transport)
        with pytest.raises(NotReachable, match="ladle service start"):
            ladle.status()


@given(
    st.lists(st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\n"), max_size=8), max_size=6),
    st.integers(1, 7),
    st.booleans(),
)
def test_lines_survive_any_cut_of_their_bytes(lines, size, ended):
    text = "\n".join(lines) + ("\n" if ended and lines else "")
    data = text.encode()
    pieces = [data[at : at + size] for at in range(0, len(data), size)]
    assert "".join(_lines(iter(pieces))) == text
    assert list(_lines(iter(pieces))) == [line for line in _kept_ends(text) if line]


def _kept_ends(text):
    parts = text.split("\n")
    return [part + "\n" for part in parts[:-1]] + [parts[-1]]
