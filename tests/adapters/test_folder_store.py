"""Store, then deliver: at a delivered name there is the whole file or the one before it, whatever goes wrong."""

from __future__ import annotations

import errno
import grp
import hashlib
import json
import os
import subprocess
from collections import Counter
from pathlib import Path

import pytest

from patient_ladle.adapters import disk
from patient_ladle.adapters.deliveries import delivery_targets, kind_named, mark_of
from patient_ladle.adapters.deliveries import folder as delivery
from patient_ladle.adapters.stores import folder as folder_module
from patient_ladle.adapters.stores.folder import FolderStore
from patient_ladle.core.errors import BadInput, DiskFull, LadleError, NameTaken, NotFound, StoreUnwritable
from patient_ladle.core.ports import Statement
from patient_ladle.core.results.columns import Column
from patient_ladle.core.runs.engine import RunJob, run_extract
from patient_ladle.core.runs.memory import ManualClock, MemoryLedger, MemorySession

COLUMNS = [Column("id", "integer"), Column("note")]
ROWS = [(n, f"reading {n}") for n in range(20_000)]
FOLDERS = kind_named("folder")


def store_in(root):
    """A store whose root is there, as its mark makes it."""
    if not root.exists():
        root.mkdir()
    return FolderStore(root)


def run(tmp_path, formats=("csv", "json"), rows=ROWS, attempt=1, ledger=None):
    store = store_in(tmp_path / "results")
    job = RunJob("r", "readings", Statement("select 1"), formats, (str(tmp_path / "out"),))
    folder, clock = store.result("7", attempt), ManualClock()
    delivery = FOLDERS.begin(mark_of("7", attempt), folder.open)
    return run_extract(job, lambda: MemorySession(COLUMNS, rows), folder, ledger or MemoryLedger(), clock, delivery), store


def everything(tmp_path):
    return sorted(str(p.relative_to(tmp_path)) for p in tmp_path.rglob("*") if p.is_file())


def test_files_and_descriptor_stand_in_store_and_delivery_and_nothing_else_does(tmp_path):
    outcome, _ = run(tmp_path)
    names = ["readings.csv", "readings.json"]
    assert everything(tmp_path) == sorted(
        [f"results/7/1/{n}" for n in [*names, "datapackage.json"]] + [f"out/{n}" for n in [*names, "readings.datapackage.json"]]
    )
    for name in names:
        stored = tmp_path / "results/7/1" / name
        assert stored.read_bytes() == (tmp_path / "out" / name).read_bytes()
        assert os.stat(stored).st_mode & 0o777 == 0o600
    descriptor = json.loads((tmp_path / "out/readings.datapackage.json").read_text())
    assert [r["path"] for r in descriptor["resources"]] == names
    assert outcome.rows == 20_000


def test_a_crash_between_renames_is_rolled_on(tmp_path):
    plans = []

    class Crashing(MemoryLedger):
        def publish(self, outcome, deliver):
            plans.append(outcome.delivery)
            os.rename(*outcome.delivery.moves[0][:2])

    run(tmp_path, ledger=Crashing())
    assert not (tmp_path / "out/readings.json").exists()
    FOLDERS.commit(plans[0])
    FOLDERS.commit(plans[0])
    assert [p for p in everything(tmp_path) if p.startswith("out/")] == [
        "out/readings.csv",
        "out/readings.datapackage.json",
        "out/readings.json",
    ]


def test_a_stale_attempt_cannot_deliver_over_a_later_one(tmp_path):
    plans = []

    class Stale(MemoryLedger):
        def publish(self, outcome, deliver):
            plans.append(outcome.delivery)

    run(tmp_path, ledger=Stale())
    FOLDERS.sweep(plans[0])
    run(tmp_path, rows=ROWS[:10], attempt=2)
    before = (tmp_path / "out/readings.csv").read_bytes()
    with pytest.raises(StoreUnwritable, match="is not there any more"):
        FOLDERS.commit(plans[0])
    assert len(FOLDERS.commit(plans[0], resumed=True)) == 3, "its files were renamed and have given way to later ones"
    assert (tmp_path / "out/readings.csv").read_bytes() == before


@pytest.mark.parametrize("call", ["write", "fsync", "rename"])
def test_a_full_disk_at_any_point_leaves_the_earlier_delivery_and_no_litter(tmp_path, monkeypatch, call):
    run(tmp_path)
    before = {p: (tmp_path / p).read_bytes() for p in everything(tmp_path)}
    faults = Counter()
    for at in range(1, 100):
        fault = _Fault(at, tmp_path / "out" / "readings")
        with monkeypatch.context() as patch:
            if call == "write":
                patch.setattr(disk.DiskFile, "write", fault.around_write(disk.DiskFile.write))
            else:
                for module in (folder_module, delivery):
                    patch.setattr(module, "sync_folder", lambda path: None)  # comes after the delivery
                patch.setattr(os, call, fault.around(getattr(os, call)))
            undelivered = None
            try:
                outcome, store = run(tmp_path, rows=ROWS[:100], attempt=2)
                error = undelivered = outcome.undelivered
            except DiskFull as fault_of_the_store:
                error = fault_of_the_store
        if not fault.happened:
            break
        assert isinstance(error, DiskFull)
        assert "no space is left" in error.message
        assert "Free some space" in error.hint
        if undelivered:
            assert [file.sha256 for file in outcome.files] == [
                hashlib.sha256((tmp_path / "results/7/2" / file.name).read_bytes()).hexdigest() for file in outcome.files
            ]
            assert (outcome.delivery.moves, outcome.delivery.targets) == ((), (str(tmp_path / "out"),))
            store.discard("7", 2)
        faults["delivery" if undelivered else "store"] += 1
        assert {p: (tmp_path / p).read_bytes() for p in everything(tmp_path)} == before
    assert faults["store"] > 2
    assert faults["delivery"] > 2 or call == "rename"
    assert at < 99


class _Fault:
    """No space at the n-th call; renames to delivered names are left alone, for a crash there is rolled on instead."""

    def __init__(self, at, spared):
        self.left, self.spared, self.happened = at, str(spared), False

    def strike(self):
        self.left -= 1
        if self.left == 0:
            self.happened = True
            raise OSError(errno.ENOSPC, "No space left on device")

    def around(self, real):
        def faulty(*given):
            if not str(given[-1]).startswith(self.spared):
                self.strike()
            return real(*given)

        return faulty

    def around_write(self, real):
        def faulty(file, data):
            try:
                self.strike()
            except OSError as error:
                file.drop()
                raise disk.translate(error, file.path.parent) from error
            return real(file, data)

        return faulty


@pytest.mark.skipif(os.geteuid() != 0, reason="mounting needs root; the injected fault above stands for it elsewhere")
def test_a_disk_that_is_really_full(tmp_path):
    small = tmp_path / "results"
    small.mkdir()
    mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=200k", "tmpfs", str(small)], check=False, capture_output=True)
    if mounted.returncode:
        pytest.fail(f"a tmpfs could not be mounted: {mounted.stderr.decode()}")
    try:
        with pytest.raises(DiskFull):
            run(tmp_path)
        assert everything(tmp_path) == []
    finally:
        subprocess.run(["umount", str(small)], check=True)


def test_a_store_below_a_file_is_not_writable_and_says_so(tmp_path):
    (tmp_path / "results").write_text("a file, no folder")
    with pytest.raises(StoreUnwritable) as refused:
        run(tmp_path)
    assert str(tmp_path / "results") in refused.value.message
    assert "rights" in refused.value.hint


def test_a_delivery_folder_that_cannot_be_made_leaves_the_result_in_the_store(tmp_path):
    (tmp_path / "out").write_text("a file, no folder")
    outcome, _ = run(tmp_path)
    assert outcome.undelivered.code == "store_unwritable"
    assert everything(tmp_path) == [
        "out",
        *(f"results/7/1/{name}" for name in ("datapackage.json", "readings.csv", "readings.json")),
    ]


@pytest.mark.parametrize("wanted", ["../elsewhere", "/etc", "a/../../b", "link/x"])
def test_a_delivery_stays_below_its_roots(tmp_path, wanted):
    (tmp_path / "root").mkdir()
    (tmp_path / "root" / "link").symlink_to("/etc")
    with pytest.raises(BadInput, match="is outside the delivery folders"):
        delivery_targets([tmp_path / "root"], f"fine; {wanted}")


def test_a_stored_name_cannot_lead_out_of_its_folder(tmp_path):
    store = store_in(tmp_path)
    for name in ("../x", "..", "", "nothing.csv"):
        with pytest.raises(NotFound):
            store.open("7", 1, name)
    with pytest.raises(LadleError):
        store.open("7", 1, "/etc/passwd")


def _delivered(store, into, if_exists, run="1", data=b"a\n1\n", **manner):
    folder = store.result(run, 1)
    folder.create("use.csv").write(data)
    folder.finish("use.csv")
    folder.seal({"resources": []})
    names = [("use.csv", "use.csv"), ("datapackage.json", "use.datapackage.json")]
    delivery = FOLDERS.begin(mark_of(run, 1), folder.open)
    return delivery.prepare([str(into)], names, {"if_exists": if_exists, **manner}, lambda made: {"names": dict(made)})


def test_a_name_that_is_taken_between_plan_and_delivery_is_not_overwritten(tmp_path):
    store, into = store_in(tmp_path / "store"), tmp_path / "into"
    plan = _delivered(store, into, "rename")
    assert plan.own["replaces"] is False
    (into / "use.datapackage.json").write_text("somebody else's")
    with pytest.raises(NameTaken, match="is there already"):
        FOLDERS.commit(plan)
    assert not (into / "use.csv").exists(), "what was put there before the clash is taken back"
    assert (into / "use.datapackage.json").read_text() == "somebody else's"


@pytest.mark.parametrize("second_names", [True, False])
@pytest.mark.parametrize("if_exists", ["overwrite", "rename"])
def test_a_fault_at_any_rename_leaves_the_earlier_delivery_whole_or_says_what_stands(
    tmp_path, monkeypatch, if_exists, second_names
):
    """Also where the file system knows no second names, and what was there cannot be kept."""
    store, into, elsewhere = store_in(tmp_path / "store"), tmp_path / "into", tmp_path / "elsewhere"
    for folder in (into, elsewhere):
        folder.mkdir()
        (folder / "use.csv").write_text("earlier")
        (folder / "use.datapackage.json").write_text("earlier")
    before = {p: p.read_bytes() for folder in (into, elsewhere) for p in folder.iterdir()}
    real, made = {"rename": os.rename, "link": os.link}, []

    def faulty(name, at):
        def called(*given, **more):
            if name == "link" and not second_names and if_exists == "overwrite":
                raise OSError(errno.EPERM, "no second names here")
            made.append(name)
            if len(made) == at:
                raise OSError(errno.EIO, "input/output error")
            return real[name](*given, **more)

        return called

    for at in range(1, 12):
        folder = store.result(str(at), 1)
        folder.create("use.csv").write(b"a\n1\n")
        folder.finish("use.csv")
        folder.seal({"resources": []})
        names = [("use.csv", "use.csv"), ("datapackage.json", "use.datapackage.json")]
        plan = FOLDERS.begin(mark_of(str(at), 1), folder.open).prepare(
            [str(into), str(elsewhere)], names, {"if_exists": if_exists}, lambda made: {"names": dict(made)}
        )
        with monkeypatch.context() as patch:
            made.clear()
            for name in real:
                patch.setattr(os, name, faulty(name, at))
            try:
                FOLDERS.commit(plan)
            except StoreUnwritable as error:
                stands = {Path(final) for final in error.facts["delivered"]}
            else:
                assert at > len(made) or if_exists == "overwrite", "a second name that cannot be made is no fault"
                break
        assert second_names or if_exists == "rename" or len(stands) == (at - 1), "nothing was kept that could be put back"
        assert not (second_names and stands)
        assert {p: p.read_bytes() for p in before if p not in stands} == {p: d for p, d in before.items() if p not in stands}
        FOLDERS.sweep(plan)
        assert not [p.name for f in (into, elsewhere) for p in f.iterdir() if p.name.startswith(".")], "no litter"
        for path, data in before.items():
            path.write_bytes(data)
    else:
        pytest.fail("no delivery without a fault was met")


def test_a_folder_at_a_delivered_name_is_seen_before_anything_is_renamed(tmp_path):
    store, into = store_in(tmp_path / "store"), tmp_path / "into"
    plan = _delivered(store, into, "overwrite")
    (into / "use.datapackage.json").mkdir()
    with pytest.raises(StoreUnwritable, match=r"a folder stands at '.*use\.datapackage\.json'"):
        FOLDERS.commit(plan)
    assert not (into / "use.csv").exists()
    (into / "use.datapackage.json").rmdir()
    assert FOLDERS.commit(plan) == []


def test_what_somebody_took_between_a_crash_and_its_recovery_is_not_delivered_twice(tmp_path):
    store, into = store_in(tmp_path / "store"), tmp_path / "into"
    plan = _delivered(store, into, "overwrite")
    os.rename(*plan.moves[0][:2])
    (into / "use.csv").rename(tmp_path / "taken.csv")
    assert FOLDERS.commit(plan, resumed=True) == [str(into / "use.csv")]
    assert sorted(p.name for p in into.iterdir()) == ["use.datapackage.json"]


def test_what_was_taken_before_it_could_be_put_back_is_said_and_stays_delivered(tmp_path, monkeypatch):
    store, into = store_in(tmp_path / "store"), tmp_path / "into"
    plan = _delivered(store, into, "overwrite")
    real = os.rename

    def taken_at_once(part, final):
        if str(final).endswith("datapackage.json"):
            real(into / "use.csv", tmp_path / "taken.csv")
            raise OSError(errno.EIO, "input/output error")
        real(part, final)

    with monkeypatch.context() as patch, pytest.raises(StoreUnwritable) as fault:
        patch.setattr(os, "rename", taken_at_once)
        FOLDERS.commit(plan)
    assert fault.value.facts["delivered"] == [str(into / "use.csv")]


def test_a_numbered_delivery_rolls_on_where_an_earlier_try_stopped(tmp_path):
    store, into = store_in(tmp_path / "store"), tmp_path / "into"
    FOLDERS.commit(_delivered(store, into, "rename"))
    plan = _delivered(store, into, "rename", run="2", data=b"a\n2\n")
    assert [Path(final).name for _, final, _ in plan.moves] == ["use (2).csv", "use (2).datapackage.json"]
    part, final, _ = plan.moves[0]
    os.link(part, final)  # a crash came between the two halves of the first move
    FOLDERS.commit(plan)
    FOLDERS.commit(plan)
    assert {p.name for p in into.iterdir()} == {"use.csv", "use.datapackage.json", "use (2).csv", "use (2).datapackage.json"}
    assert (into / "use (2).csv").read_bytes() == b"a\n2\n"
    assert json.loads((into / "use (2).datapackage.json").read_text()) == {"names": {"use.csv": "use (2).csv"}}


def test_mode_and_group_are_those_that_were_asked_for(tmp_path):
    store, into = store_in(tmp_path / "store"), tmp_path / "into"
    FOLDERS.commit(_delivered(store, into, "overwrite", mode="0600", group=grp.getgrgid(os.getgid()).gr_name))
    assert {p.stat().st_mode & 0o777 for p in into.iterdir()} == {0o600}
    with pytest.raises(StoreUnwritable, match="the group 'no-such-group'"):
        _delivered(store, into, "overwrite", run="2", group="no-such-group")
    with pytest.raises(NameTaken):
        _delivered(store, into, "fail", run="3")
