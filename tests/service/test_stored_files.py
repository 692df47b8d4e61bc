"""Stored files are read through in turn; what is damaged is on record, told, read by nothing and given to nobody."""

from __future__ import annotations

import hashlib
import shutil
import threading
from datetime import timedelta
from pathlib import Path

import pytest

from patient_ladle.core.errors import InputDamaged, NotFound, ResultDamaged, StoreUnreadable
from patient_ladle.core.files.formats import checked_options

from .hands import queue
from .test_members import end, shown

DATA = b"name\nBirch Fen\n"


@pytest.fixture
def stored(repository):
    """``made(**what)``: a finished run with one file in the store; its path and its row."""
    from django.conf import settings

    from patient_ladle.service.ledger.identity import check
    from patient_ladle.service.ledger.models import Identity, ResultFile, Run
    from patient_ladle.service.ledger.stores import store
    from tests.service.hands import put

    check(adopt=True)
    Identity.objects.update(store_mark=store().mark())
    made_runs = []

    def made(data=DATA, **what):
        [run] = queue(repository, "from_wide")
        put(run, "finished", attempt=1, statements=[{"title": "", "rows": 1, "columns": []}])
        result = store().result(str(run.pk), 1)
        result.create("use.csv").write(data)
        result.finish("use.csv")
        proven = {"sha256": hashlib.sha256(data).hexdigest(), "bytes": len(data), "rows": 1}
        file = ResultFile.objects.create(
            run=run, attempt=1, name="use.csv", format="csv", media_type="text/csv", **{**proven, **what}
        )
        made_runs.append(run)
        return Path(settings.RESULT_STORE) / str(run.pk) / "1" / "use.csv", file

    yield made
    for run in made_runs:
        store().discard(str(run.pk), 1)
    Run.objects.filter(pk__in=[run.pk for run in made_runs]).delete()


def looked(file):
    from patient_ladle.service.ledger.stored_files import look_through

    found = look_through(file)
    file.refresh_from_db()
    return found, file.damage


def told():
    from patient_ladle.service.alerts.models import Alert

    return list(Alert.objects.order_by("at").values_list("kind", "title"))


def flipped(path):
    path.write_bytes(DATA[:-2] + b"x\n")


DAMAGES = {
    "its bytes are not those that were proven": flipped,
    f"it has {len(DATA) - 1:,} bytes; {len(DATA):,} were proven": lambda path: path.write_bytes(DATA[:-1]),
    "it is not there": lambda path: path.unlink(),
}


@pytest.mark.parametrize("words", DAMAGES)
def test_what_is_not_what_was_proven_is_on_record_told_and_over_once_it_is_restored(stored, words):
    from patient_ladle.service.ledger.stored_files import refuse_damaged

    path, file = stored()
    assert looked(file) == (True, "")
    DAMAGES[words](path)
    assert looked(file) == (False, words)
    assert looked(file) == (False, words)
    assert told() == [("damaged", "1 stored file of results is damaged")]
    assert [line.text for line in file.run.log.all()] == [f"'use.csv' in the result store is damaged: {words}"]
    with pytest.raises(ResultDamaged, match=words.replace(".", r"\.")):
        refuse_damaged(file)
    path.write_bytes(DATA)
    refuse_damaged(file)
    file.refresh_from_db()
    assert (file.damage, file.damaged_at) == ("", None)
    assert told()[-1] == ("recovered", "stored results are as they were proven")


def test_another_damaged_file_is_told_with_the_first(stored):
    from patient_ladle.service.alerts.models import Alert

    for _ in range(2):
        path, file = stored()
        flipped(path)
        looked(file)
    assert told() == [("damaged", "1 stored file of results is damaged"), ("changed", "2 stored files of results are damaged")]
    assert Alert.objects.order_by("-at").first().cause.count("use.csv") == 2


def away(monkeypatch, path):
    from patient_ladle.adapters.stores.folder import FolderStore

    def hang(*_):
        raise StoreUnreadable("the store is away.", "")

    monkeypatch.setattr(FolderStore, "open", hang)


def of_another(monkeypatch, path):
    """An empty folder, as of a mount that is not there."""
    from django.conf import settings

    empty = path.parents[2].with_name("empty-mount")
    empty.mkdir(exist_ok=True)
    monkeypatch.setattr(settings, "RESULT_STORE", str(empty))


def broken(monkeypatch, path):
    import io

    from patient_ladle.adapters.stores.folder import FolderStore

    class Bad(io.BytesIO):
        def read(self, *_):
            raise OSError(5, "Input/output error")

    monkeypatch.setattr(FolderStore, "open", lambda *_: Bad(DATA))


@pytest.mark.parametrize("fault", [away, of_another, broken])
def test_a_store_that_is_away_or_another_says_nothing_of_its_files(stored, monkeypatch, fault):
    path, file = stored()
    before = file.looked_at
    fault(monkeypatch, path)
    assert looked(file) == (None, "")
    assert file.looked_at == before
    assert told() == []


def test_the_longest_unseen_goes_first_and_each_within_its_time(stored):
    """Ten days of an upkeep that looks at one file each two hours: no file of thirty is ever older than seven days."""
    from django.utils import timezone

    from patient_ladle.service.ledger.models import ResultFile
    from patient_ladle.service.ledger.stored_files import WITHIN, next_to_look_through

    begin = timezone.now()
    _, file = stored()
    ResultFile.objects.bulk_create(
        ResultFile(run=file.run, attempt=1, name=f"{n}.csv", format="csv", media_type="x", rows=0, bytes=0, sha256="0" * 64)
        for n in range(29)
    )
    ResultFile.objects.update(looked_at=begin)
    ResultFile.objects.filter(name="3.csv").update(looked_at=begin - timedelta(days=4))
    ResultFile.objects.filter(name="4.csv").update(removed_at=begin, looked_at=begin - timedelta(days=40))
    assert next_to_look_through(begin).name == "3.csv"
    oldest, looks = timedelta(0), 0
    for hours in range(0, 240, 2):
        now = begin + timedelta(hours=hours)
        found = next_to_look_through(now)
        if found is not None:
            oldest, looks = max(oldest, now - found.looked_at), looks + 1
            ResultFile.objects.filter(pk=found.pk).update(looked_at=now)
    assert timedelta(days=4) <= oldest <= WITHIN
    assert looks < 4 * 29  # and none is read again and again


def test_reading_through_takes_no_more_than_its_share_of_a_core(stored, monkeypatch):
    from patient_ladle.service.ledger import stored_files

    _, file = stored(b"x" * (5 << 20))
    spent, stop = [], threading.Event()
    assert stored_files.look_through(file, spent.append)
    assert len(spent) == 5
    rested = []
    monkeypatch.setattr(stop, "wait", rested.append)
    stored_files._rest(2.0, stop)
    assert 2.0 / (2.0 + rested[0]) == pytest.approx(0.05)


@pytest.mark.parametrize("why", ["it is not there", "its bytes are not those that were proven"])
def test_a_combination_makes_a_damaged_input_anew_at_once_and_counts_no_attempt(repository, stored, combination, why):
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.models import ResultFile, Worker
    from patient_ladle.service.processes.scheduler import look_after_waiting

    combination([{"name": "w", "extract": "from_wide", "stored": True}])
    queue(repository, "from_wide")
    before = end("from_wide", format="csv")
    [run] = queue(repository, "both")
    assert run.inputs[0]["run"] == before.pk
    claimed = ledger.claim(Worker.objects.first())
    ledger.fail(claimed, InputDamaged("it is damaged.", "", run=before.pk, file="x.csv", why=why))
    run.refresh_from_db()
    assert (run.state, run.failures, run.waits_for) == ("waiting", 0, "its damaged input to be made anew")
    assert ResultFile.objects.get(run=before).damage == why
    look_after_waiting()
    run.refresh_from_db()
    [member] = run.members.all()
    assert run.inputs == [{"name": "w", "run": member.pk, "stored": False}]
    end("from_wide")
    look_after_waiting()
    assert end("both").state == "finished"
    assert shown()[-1] == ("from_wide", "finished")


def test_where_the_store_is_another_the_run_is_tried_again_and_nothing_is_called_damaged(
    repository, stored, combination, monkeypatch
):
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.models import ResultFile, Run, Worker

    path, _ = stored()
    combination([{"name": "w", "extract": "from_wide", "stored": True}])
    queue(repository, "from_wide")
    before = end("from_wide", format="csv")
    [run] = queue(repository, "both")
    Run.objects.filter(pk=run.pk).update(max_attempts=3)
    of_another(monkeypatch, path)
    ledger.fail(
        ledger.claim(Worker.objects.first()),
        InputDamaged("it is damaged.", "", run=before.pk, file="x.csv", why="it is not there"),
    )
    run.refresh_from_db()
    assert (run.state, run.failures) == ("waiting", 1)
    assert ResultFile.objects.get(run=before).damage == ""


def test_a_child_says_of_a_stored_input_what_is_wrong_with_it(stored):
    from django.conf import settings

    from patient_ladle.adapters.combining.combined import stored_rows
    from patient_ladle.core.results.columns import Column

    path, file = stored()
    told = {
        "name": "use.csv",
        "format": "csv",
        "options": checked_options("csv", {}),
        "compression": "none",
        "sha256": file.sha256,
    }
    job = {"store": str(settings.RESULT_STORE), "run": file.run_id, "attempt": 1, "files": [told]}
    column = Column("name", "text", "text")
    assert sum(batch.rows for batch in stored_rows(job, [column], [0])) == 1
    for words, damage in DAMAGES.items():
        damage(path)
        with pytest.raises(InputDamaged) as raised:
            list(stored_rows(job, [column], [0]))
        assert raised.value.facts == {"run": file.run_id, "file": "use.csv", "why": raised.value.facts["why"]}
        assert raised.value.facts["why"] in words or "bytes" in words
    shutil.rmtree(path.parent, ignore_errors=True)
    assert isinstance(raised.value.__context__, NotFound | None)
