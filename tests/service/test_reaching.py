"""A worker takes what it can reach and leaves the rest to others; what nobody can run is told, and goes on once somebody can."""

from __future__ import annotations

from datetime import timedelta

import pytest

from tests.service.hands import queue


@pytest.fixture
def hosts(repository, monkeypatch):
    """Two workers of two hosts, both there; what one of them is set to is ours to say."""
    from django.db.models.functions import Now

    from patient_ladle.service.ledger.models import Worker

    def host(name):
        return Worker.objects.create(id=name, host=f"host-{name}", pid=1, max_runs=2, beat_at=Now())

    return host("here"), host("there")


@pytest.fixture
def filed(repository, home):
    """A file source with an extract; the file can be taken away."""
    from patient_ladle.service.extracts.services import add_extract
    from patient_ladle.service.sources.services import add_source

    folder = home / "reached"
    folder.mkdir(exist_ok=True)
    (folder / "meters.csv").write_text("meter\n1\n")
    add_source("reached", "files", {"live": {"address": {"folder": str(folder)}}})
    add_extract(repository, "from_reached", "", "", source="reached", statement="select * from meters", formats=["csv"])
    add_extract(repository, "from_nothing", "", "", statement="select 1 as a")
    return folder


def claim(worker):
    from patient_ladle.service.ledger import work
    from patient_ladle.service.ledger.reaching import Reach

    return work.claim(worker, Reach())


def told():
    from patient_ladle.service.alerts.models import OpenProblem

    return list(OpenProblem.objects.filter(ended_at=None).values_list("title", flat=True))


class OfAHost:
    """What this host's variables say, until the test is over."""

    def __init__(self, monkeypatch):
        self.__dict__["monkeypatch"] = monkeypatch

    def __getattr__(self, name):
        from django.conf import settings

        return getattr(settings, name)

    def __setattr__(self, name, value):
        from django.conf import settings

        self.monkeypatch.setattr(settings, name, value)


@pytest.fixture
def settings(repository, monkeypatch):
    return OfAHost(monkeypatch)


def roots_of(settings, worker, home, tmp_path):
    settings.SOURCE_ROOTS = [tmp_path if worker.pk == "here" else home]


def test_what_one_host_may_not_read_is_left_to_the_other(hosts, filed, repository, settings, tmp_path, home):
    here, there = hosts
    [run] = queue(repository, "from_reached")
    roots_of(settings, here, home, tmp_path)
    assert claim(here) is None
    run.refresh_from_db()
    assert (run.state, run.attempt) == ("queued", 0)
    roots_of(settings, there, home, tmp_path)
    assert claim(there) == run
    assert not run.refusals.exists()
    assert told() == []


def test_a_file_that_is_not_here_is_asked_of_the_others_first(hosts, filed, repository):
    here, there = hosts
    queue(repository, "from_reached")
    moved = filed.rename(filed.with_name("moved"))
    assert claim(here) is None
    moved.rename(filed)
    assert claim(there) is not None
    queue(repository, "from_reached")
    filed.rename(moved)
    assert claim(here) is None
    assert claim(there) is not None  # nobody has it: the run itself says so, in the source's own words
    moved.rename(filed)


def test_other_runs_are_not_held_up_by_one_that_this_host_cannot_carry_out(hosts, filed, repository, settings, tmp_path, home):
    here, _ = hosts
    queue(repository, "from_reached")
    [other] = queue(repository, "from_nothing")
    roots_of(settings, here, home, tmp_path)
    assert claim(here) == other


def test_what_nobody_can_run_ends_at_once_where_somebody_waits_for_it(hosts, filed, repository, settings, tmp_path):
    [run] = queue(repository, "from_reached")
    settings.SOURCE_ROOTS = [tmp_path]
    for worker in hosts:
        assert claim(worker) is None
    run.refresh_from_db()
    assert run.state == "not_run"
    assert "no worker can run it (host-here: '" in run.error["message"]
    assert "is outside the folders that sources of this service may lie in; host-there: '" in run.error["message"]


def due(person, **more):
    """A run of a schedule that is due."""
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.processes.scheduler import database_now, tick
    from patient_ladle.service.schedules.models import Schedule
    from patient_ladle.service.schedules.services import add_schedule

    add_schedule(person, "reached-daily", extract="from_reached", environment="live", rule="daily 06:00", zone="UTC", **more)
    Schedule.objects.update(next_due_at=database_now() - timedelta(seconds=30))
    tick()
    return Run.objects.get(extract__name="from_reached")


def pass_time(run):
    """The minute until it is looked at again, and until the workers' words count no more."""
    from patient_ladle.service.ledger.models import Run

    Run.objects.filter(pk=run.pk, state="waiting").update(wait_until="2026-01-01T00:00:00Z")
    run.refusals.update(at="2026-01-01T00:00:00Z")


def test_what_was_due_waits_for_somebody_who_can_people_are_told_once_and_it_goes_on(
    hosts, filed, repository, settings, tmp_path, home
):
    from patient_ladle.service.processes.scheduler import look_after_waiting

    run = due(repository)
    settings.SOURCE_ROOTS = [tmp_path]
    for _ in range(2):
        for worker in hosts:
            assert claim(worker) is None
        run.refresh_from_db()
        assert run.state == "waiting"
        assert run.waits_for.startswith("a worker that can run it (host-here: '")
        assert told() == ["source reached in live can be read by no worker"]
        pass_time(run)
        look_after_waiting()
    settings.SOURCE_ROOTS = [home]
    assert claim(hosts[1]) == run
    run.refresh_from_db()
    assert (run.state, run.waits_for, run.failures, run.lost) == ("running", "", 0, 0)


def test_what_was_due_and_could_be_run_by_nobody_ends_with_its_time(hosts, filed, repository, settings, tmp_path):
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.processes.scheduler import look_after_waiting

    run = due(repository)
    settings.SOURCE_ROOTS = [tmp_path]
    for worker in hosts:
        claim(worker)
    Run.objects.filter(pk=run.pk).update(give_up_at="2026-01-01T00:00:00Z", wait_until="2026-01-01T00:00:00Z")
    look_after_waiting()
    run.refresh_from_db()
    assert run.state == "not_run"
    assert "no worker could run it until 2026-01-01 00:00 UTC (host-here: '" in run.error["message"]


def test_a_worker_that_comes_is_asked_at_once(hosts, filed, repository, settings, tmp_path):
    from django.utils import timezone

    from patient_ladle.service.ledger.reaching import ask_anew

    run = due(repository)
    settings.SOURCE_ROOTS = [tmp_path]
    for worker in hosts:
        claim(worker)
    ask_anew()
    run.refresh_from_db()
    assert run.wait_until <= timezone.now()


@pytest.mark.parametrize(
    "change", [{"draining": True}, {"beat_at": "2026-01-01T00:00:00Z"}, {"gone_at": "2026-01-01T00:00:00Z"}]
)
def test_whoever_is_not_there_or_takes_nothing_is_not_waited_for(hosts, filed, repository, settings, tmp_path, change):
    from patient_ladle.service.ledger.models import Worker

    Worker.objects.filter(pk="there").update(**change)
    [run] = queue(repository, "from_reached")
    settings.SOURCE_ROOTS = [tmp_path]
    claim(hosts[0])
    run.refresh_from_db()
    assert run.state == "not_run"


@pytest.mark.parametrize("secret", ["env:LADLE_SOURCE_REACHED", "file:reached"])
def test_a_secret_that_is_kept_on_one_host_is_wanted_there(hosts, filed, repository, settings, tmp_path, monkeypatch, secret):
    from patient_ladle.service.sources.models import Address

    Address.objects.filter(source__name="reached").update(secret=secret)
    [run] = queue(repository, "from_reached")
    assert claim(hosts[0]) is None
    settings.SOURCE_SECRETS = tmp_path
    (tmp_path / "reached").write_text("hush")
    monkeypatch.setenv("LADLE_SOURCE_REACHED", "hush")
    assert claim(hosts[1]) == run


def test_a_mount_that_hangs_holds_up_no_other_run(hosts, filed, repository, monkeypatch):
    import threading

    from patient_ladle.service.ledger import reaching

    answers = threading.Event()
    monkeypatch.setattr(reaching.os.path, "exists", lambda path: answers.wait(60))
    queue(repository, "from_reached")
    [other] = queue(repository, "from_nothing")
    assert claim(hosts[0]) == other
    answers.set()


def test_a_run_whose_result_would_go_where_this_host_may_not_deliver_is_left_to_the_other(
    hosts, repository, settings, tmp_path
):
    from patient_ladle.service.ledger.models import Run

    [run] = queue(repository, "from_wide")
    Run.objects.filter(pk=run.pk).update(deliver_into=str(settings.DELIVERY_ROOTS[0] / "regulation"), store_only=False)
    ours, settings.DELIVERY_ROOTS = settings.DELIVERY_ROOTS, [tmp_path]
    assert claim(hosts[0]) is None
    settings.DELIVERY_ROOTS = ours
    assert claim(hosts[1]) == run


def delivering(repository, settings):
    """A finished run whose delivery waits."""
    from django.utils import timezone

    from patient_ladle.service.ledger.states import TO_DELIVER
    from tests.service.hands import put

    [run] = queue(repository, "from_nothing")
    target = str(settings.DELIVERY_ROOTS[0] / "regulation")
    plan = {"kind": "folder", "targets": [target], "moves": [], "wished": [["a.csv", "a.csv"]], "own": {}}
    put(run, "finished", delivery=TO_DELIVER, delivery_plan=plan, deliver_at=timezone.now(), deliver_until=timezone.now())
    return run


def test_a_delivery_is_left_to_a_host_that_may_deliver_there(hosts, filed, repository, settings, tmp_path):
    from patient_ladle.service.ledger.delivering import claim_delivery

    run = delivering(repository, settings)
    ours, settings.DELIVERY_ROOTS = settings.DELIVERY_ROOTS, [tmp_path]
    assert claim_delivery(hosts[0]) is None
    settings.DELIVERY_ROOTS = ours
    assert claim_delivery(hosts[1]) == run
    assert not run.refusals.exists()


def test_a_delivery_that_nobody_can_make_fails_and_is_told(hosts, filed, repository, settings, tmp_path):
    from patient_ladle.service.ledger.delivering import claim_delivery

    run = delivering(repository, settings)
    settings.DELIVERY_ROOTS = [tmp_path]
    for worker in hosts:
        assert claim_delivery(worker) is None
    run.refresh_from_db()
    assert run.delivery == "failed"
    assert "no worker can deliver there: host-here: '" in run.delivery_error["message"]
    assert told() == [f"from_nothing in live: run {run.pk} is not delivered"]
