"""Inputs of combinations in the ledger: made, waited for, taken from the store, failed, held, cancelled, done again."""

from __future__ import annotations

from datetime import date, timedelta

import pytest

from patient_ladle.core.errors import BadInput, Conflict, ConnectionLost, StatementWrong

from .hands import queue, worker
from .test_waiting import settled, tick

COLUMNS = [{"name": "a", "kind": "integer", "source_type": "INTEGER"}]


def outcome(format="parquet", rows=1, **options):
    """What a child tells of a run of one statement; its file is in no store, for nobody here reads it."""
    file = {
        "name": f"x.{format}", "format": format, "media_type": "x", "rows": rows, "bytes": 9, "sha256": "0" * 64,
        "options": {"types": "text"} if format == "parquet" else options,
    }  # fmt: skip
    statements = [{"title": "", "rows": rows, "columns": COLUMNS}]
    return {"statements": statements, "files": [file | {"statement": 0}], "warnings": [], "delivery": None}


def shown():
    """Each run's extract and state, in the order in which they were made."""
    from patient_ladle.service.ledger.models import Run

    return [(run.extract.name, run.state) for run in Run.objects.select_related("extract").order_by("id")]


def end(name, error=None, **told):
    """The next queued run, of that extract, comes to its end."""
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.models import Worker

    run = ledger.claim(Worker.objects.first() or worker("w"))
    assert run.extract.name == name
    ledger.fail(run, error) if error else ledger.publish(run, outcome(**told))
    run.refresh_from_db()
    return run


def test_a_combination_waits_for_its_inputs_and_goes_when_they_have_finished(repository, combination):
    combination()
    [run] = queue(repository, "both")
    assert shown() == [("both", "waiting"), ("from_wide", "queued"), ("from_narrow", "queued")]
    members = list(run.members.order_by("id"))
    assert run.waits_for.startswith(f"input w, run {members[0].pk} of from_wide; input n, run ")
    assert {(m.environment, m.data_date, m.due_at, m.started_by, m.store_only) for m in members} == {
        (run.environment, run.data_date, run.due_at, run.started_by, True)
    }
    end("from_wide")
    assert shown()[0] == ("both", "waiting")
    end("from_narrow")
    assert shown()[0] == ("both", "queued")
    run.refresh_from_db()
    assert run.inputs == [
        {"name": "w", "run": members[0].pk, "stored": False}, {"name": "n", "run": members[1].pk, "stored": False},
    ]  # fmt: skip
    assert end("both").state == "finished"


def test_an_input_that_fails_fails_the_run_with_its_name_and_cause_and_stops_the_others(repository, combination):
    combination()
    [run] = queue(repository, "both")
    failed = end("from_wide", StatementWrong("no such column: b (line 1, column 8).", "Correct it."))
    run.refresh_from_db()
    assert (run.state, run.error["code"], run.error["hint"]) == ("failed", "input_failed", "Correct it.")
    assert run.error["message"] == (
        f"input 'w', run {failed.pk} of from_wide, is failed: no such column: b (line 1, column 8)."
    )
    assert shown() == [("both", "failed"), ("from_wide", "failed"), ("from_narrow", "cancelled")]
    assert run.log.last().level == "error"


def test_an_input_is_tried_again_as_its_run_would_be(repository, combination):
    from patient_ladle.service.ledger.models import Run

    combination()
    queue(repository, "both")
    Run.objects.update(max_attempts=2)
    end("from_wide", ConnectionLost("it broke.", ""))
    assert shown()[:2] == [("both", "waiting"), ("from_wide", "waiting")]
    assert settled(timedelta(hours=1))[:2] == ["waiting", "queued"]


def test_a_later_attempt_of_the_run_keeps_what_its_inputs_gave(repository, combination):
    from patient_ladle.service.ledger.models import ResultFile, Run

    combination()
    queue(repository, "both")
    end("from_wide"), end("from_narrow")
    Run.objects.filter(extract__name="both").update(max_attempts=3)
    end("both", ConnectionLost("it broke.", ""))
    assert [state for _, state in shown()] == ["waiting", "finished", "finished"]
    assert settled(timedelta(hours=1)) == ["queued", "finished", "finished"]
    end("both", ConnectionLost("it broke.", ""))
    ResultFile.objects.filter(run__extract__name="from_wide").update(removed_at="2026-11-24T06:00:00Z")
    settled(timedelta(hours=2))
    assert shown() == [
        ("both", "waiting"), ("from_wide", "finished"), ("from_narrow", "finished"), ("from_wide", "queued"),
    ]  # fmt: skip


def test_a_held_input_is_waited_for_until_somebody_decides(repository, combination):
    from patient_ladle.service.extracts.services import save_extract
    from patient_ladle.service.ledger.holding import reject, release

    for decide, state in ((release, "queued"), (reject, "failed")):
        save_extract(repository, "from_wide", None, "", guards=[{"guard": "rows", "at_least": 5}])
        if state == "queued":
            combination()
        [run] = queue(repository, "both")
        held = end("from_wide")
        end("from_narrow")
        run.refresh_from_db()
        assert (held.held, run.state, run.waits_for) == (
            "held", "waiting", f"input w, run {held.pk} of from_wide, to be released",
        )  # fmt: skip
        decide(repository, held.pk, "the meter swap")
        run.refresh_from_db()
        assert run.state == state
        if state == "queued":
            end("both")
    assert "it was rejected by amir" in run.error["message"]
    save_extract(repository, "from_wide", None, "", guards=[])


def test_a_cancel_goes_through_to_the_inputs_and_an_input_can_be_cancelled_alone(repository, combination):
    from patient_ladle.service.ledger import work as ledger
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.runs.services import cancel_run

    combination()
    [run] = queue(repository, "both")
    running = ledger.claim(worker("w"))
    cancel_run(repository, run.pk)
    running.refresh_from_db()
    assert (running.state, running.cancel_asked_by) == ("running", "amir")
    assert shown() == [("both", "cancelled"), ("from_wide", "running"), ("from_narrow", "cancelled")]
    Run.objects.update(member_of=None)
    Run.objects.all().delete()
    [run] = queue(repository, "both")
    cancel_run(repository, run.members.get(extract__name="from_narrow").pk)
    run.refresh_from_db()
    assert (run.state, run.error["code"]) == ("failed", "input_failed")
    assert "input 'n'" in run.error["message"]
    assert shown()[1] == ("from_wide", "cancelled")


def test_a_run_that_is_given_up_leaves_no_input_behind(repository, combination):
    combination()
    [run] = queue(repository, "both")
    settled(timedelta(hours=25))
    run.refresh_from_db()
    assert (run.state, [state for _, state in shown()[1:]]) == ("not_run", ["cancelled", "cancelled"])
    assert "it waited for input w" in run.error["message"]


PARAMETERS = [{"name": "codes", "is_list": True}, {"name": "month", "type": "period", "default": "last month"}]


@pytest.fixture
def asked(repository):
    """An extract with parameters, for as long as a test lasts."""
    from patient_ladle.service.extracts.models import Extract
    from patient_ladle.service.extracts.services import add_extract
    from patient_ladle.service.ledger.models import Run

    statement = "select 1 as a where 'x' in (:codes) and :month_from < :month_to"
    yield add_extract(repository, "asked", "", "", source="wide", statement=statement, parameters=PARAMETERS)
    Run.objects.update(again_of=None, member_of=None)
    Run.objects.all().delete()
    Extract.objects.get(name="asked").revisions.all().delete()
    Extract.objects.get(name="asked").delete()


def test_values_are_handed_on_and_taken_from_a_column_of_another_input(repository, asked, combination):
    from patient_ladle.service.ledger.members import drawn_jobs, input_jobs

    combination(
        [
            {
                "name": "a",
                "extract": "asked",
                "values": {"codes": {"input": "w", "column": "a"}, "month": {"parameter": "when"}},
            },
            {"name": "w", "extract": "from_wide"},
        ],
        parameters=[{"name": "when", "type": "period", "default": "this month"}],
    )
    [run] = queue(repository, "both")
    assert shown() == [("both", "waiting"), ("from_wide", "queued")]
    assert run.waits_for == f"input w, run {run.members.get().pk} of from_wide; input w, whose values input a takes"
    wide = end("from_wide")
    member = run.members.get(extract=asked)
    today = member.data_date
    assert member.values["month"]["from"] == date(today.year, today.month, 1).isoformat()
    assert member.values_in_effect["codes"] == "the values of column 'a' of input 'w'"
    assert member.drawn == {"codes": {"input": "w", "column": "a", "run": wide.pk}}
    [job] = drawn_jobs(member).values()
    assert (job["given"]["run"], job["given"]["files"][0]["name"], job["given"]["rows"]) == (wide.pk, "x.parquet", 1)
    end("asked")
    run.refresh_from_db()
    jobs, told = input_jobs(run)
    assert [(each["name"], each["kind"], each["run"]) for each in jobs] == [
        ("a", "stored", member.pk),
        ("w", "stored", wide.pk),
    ]
    assert [(each["run"], each["rows"]) for each in told] == [(member.pk, 1), (wide.pk, 1)]
    assert not {"name", "extract", "values", "source", "login"} & {key for each in told for key in each}


def test_two_inputs_of_one_extract_with_the_same_values_are_one_run(repository, combination):
    combination([{"name": "one", "extract": "from_wide"}, {"name": "two", "extract": "from_wide"}])
    queue(repository, "both")
    assert shown() == [("both", "waiting"), ("from_wide", "queued")]


def test_a_stored_result_is_taken_where_the_author_allows_it_and_it_is_the_same(repository, combination):
    from patient_ladle.service.extracts.services import save_extract
    from patient_ladle.service.ledger.models import ResultFile, Run

    combination([{"name": "w", "extract": "from_wide", "stored": True}])
    queue(repository, "from_wide")
    before = end("from_wide", format="csv")
    [run] = queue(repository, "both")
    assert (run.state, run.inputs) == ("queued", [{"name": "w", "run": before.pk, "stored": True}])
    end("both")
    for other in (
        lambda: Run.objects.filter(pk=before.pk).update(data_date=before.data_date - timedelta(days=1)),
        lambda: Run.objects.filter(pk=before.pk).update(held="rejected"),
        lambda: ResultFile.objects.filter(run=before).update(options={"null_as": "-"}),
        lambda: ResultFile.objects.filter(run=before).update(format="xlsx"),
        lambda: Run.objects.filter(pk=before.pk).update(output={"columns": ["a"]}),
        lambda: save_extract(repository, "from_wide", None, "", statement="select 2 as a"),
    ):
        kept = (Run.objects.filter(pk=before.pk).values().get(), ResultFile.objects.filter(run=before).values().get())
        other()
        [run] = queue(repository, "both")
        assert (run.state, run.members.count()) == ("waiting", 1)
        Run.objects.filter(pk=before.pk).update(**kept[0])
        ResultFile.objects.filter(run=before).update(**kept[1])
        for live in Run.objects.filter(member_of=run):
            live.delete()
        run.delete()
    save_extract(repository, "from_wide", None, "", statement="select 1 as a")


def test_a_run_again_takes_the_revisions_of_the_first_one(repository, combination):
    from patient_ladle.service.extracts.services import save_extract
    from patient_ladle.service.runs.services import run_again

    combination([{"name": "w", "extract": "from_wide"}])
    [run] = queue(repository, "both")
    first = end("from_wide")
    end("both")
    save_extract(repository, "from_wide", None, "", statement="select 3 as a")
    again = run_again(repository, run.pk)
    assert again.members.get().revision_id == first.revision_id
    newest = run_again(repository, run.pk, newest=True)
    assert newest.members.get().revision_id == first.revision_id  # the combination's own revision is the same
    with pytest.raises(Conflict, match=f"is an input of run {again.pk}") as refused:
        end("from_wide")
        run_again(repository, again.members.get().pk)
    assert refused.value.hint == f"Start that one again: ladle run again {again.pk}"
    save_extract(repository, "from_wide", None, "", statement="select 1 as a")


def test_combinations_of_combinations_are_members_of_members(repository, combination):
    combination([{"name": "w", "extract": "from_wide"}], "inner")
    combination([{"name": "i", "extract": "inner"}], "outer")
    queue(repository, "outer")
    assert shown() == [("outer", "waiting"), ("inner", "waiting"), ("from_wide", "queued")]
    end("from_wide"), end("inner")
    assert end("outer").state == "finished"


def test_a_circle_is_refused_when_it_is_saved_and_so_is_what_is_too_deep(repository, combination):
    from patient_ladle.service.extracts.services import archive_extract, move_extract, restore_extract, save_extract

    combination([{"name": "w", "extract": "from_wide"}], "c1")
    for number in range(2, 9):
        combination([{"name": "i", "extract": f"c{number - 1}"}], f"c{number}")
    with pytest.raises(BadInput, match=r"9 deep .*at most 8"):
        combination([{"name": "i", "extract": "c8"}], "c9")
    with pytest.raises(Conflict, match=r"'c1' would need its own result .c1 → c3 → c2 → c1."):
        save_extract(repository, "c1", None, "", inputs=[{"name": "w", "extract": "c3"}])
    move_extract("c1", None, "c1_renamed")
    with pytest.raises(Conflict, match="'c1_renamed' would need its own result"):
        save_extract(repository, "c1_renamed", None, "", inputs=[{"name": "w", "extract": "c2"}])
    save_extract(repository, "c2", None, "", inputs=[{"name": "i", "extract": "from_wide"}])
    save_extract(repository, "c1_renamed", None, "", inputs=[{"name": "w", "extract": "c2"}])
    with pytest.raises(Conflict, match="'c2' would need its own result"):
        restore_extract(repository, "c2", 1)
    save_extract(repository, "c1_renamed", None, "", inputs=[{"name": "w", "extract": "from_wide"}])
    restore_extract(repository, "c2", 1)
    with pytest.raises(Conflict, match="extract 'c1_renamed' is an input of c2"):
        archive_extract("c1_renamed")
    move_extract("c1_renamed", None, "c1")


def test_a_schedule_of_a_combination_tells_of_it_once(repository, combination):
    from patient_ladle.service.alerts.models import OpenProblem
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.runs.night import night_to
    from patient_ladle.service.schedules.services import add_schedule

    OpenProblem.objects.all().delete()
    combination()
    add_schedule(repository, "monthly", extract="both", environment="live", rule="1st of january 00:00", zone="UTC")
    tick()
    run = Run.objects.get(extract__name="both")
    assert run.due_time is not None
    assert [member.due_time for member in run.members.all()] == [None, None]
    Run.objects.update(max_attempts=1)
    end("from_wide", StatementWrong("no such column: b.", "Correct it."))
    assert [problem.key for problem in OpenProblem.objects.all()] == [f"extract:{run.extract_id}:{run.environment_id}"]
    from django.utils import timezone

    assert [need.run.pk for need in night_to(timezone.now()).needs] == [run.pk]
    OpenProblem.objects.all().delete()
    tick(2)
    run = Run.objects.filter(extract__name="both").latest("id")
    Run.objects.update(max_attempts=1)
    end("from_wide", ConnectionLost("it broke.", ""))
    [problem] = OpenProblem.objects.all()
    assert problem.key.startswith("source:")
    OpenProblem.objects.all().delete()


def test_what_is_an_input_is_not_published_by_itself(repository, combination):
    from patient_ladle.service.runs.published import publish

    combination([{"name": "w", "extract": "from_wide"}])
    [run] = queue(repository, "both")
    with pytest.raises(Conflict, match=f"is an input of run {run.pk}"):
        publish(repository, end("from_wide").pk)


def test_inputs_are_kept_in_the_store_as_long_as_what_was_made_of_them(repository, combination, monkeypatch):
    from django.utils import timezone

    from patient_ladle.service.ledger.models import ResultFile, Run
    from patient_ladle.service.runs.retention import remove_old

    combination([{"name": "w", "extract": "from_wide"}])
    for _ in range(2):
        queue(repository, "both")
        end("from_wide"), end("both", format="csv")
    remove_old(timezone.now() + timedelta(days=4_000))
    newest = Run.objects.filter(extract__name="both").latest("pk")
    left = ResultFile.objects.filter(removed_at=None).values_list("run", flat=True)
    assert {*left} == {newest.pk, newest.members.get().pk}
