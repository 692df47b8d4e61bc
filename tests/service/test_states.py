"""Every state of a run, a delivery, a hold and a due time with every event: the tables, the one function and the database agree."""

from __future__ import annotations

import ast
from contextlib import nullcontext
from datetime import datetime, timezone
from pathlib import Path

import pytest

import patient_ladle
from patient_ladle.core.errors import Conflict
from patient_ladle.core.runs.due_decisions import DUE_TIME
from patient_ladle.core.runs.state_tables import Fields, Move, StateTable
from tests.service.hands import queue, worker

SOURCE = Path(patient_ladle.__file__).parent
NOW = datetime(2026, 11, 24, 6, 5, tzinfo=timezone.utc)
ERROR = {"code": "error", "message": "it broke.", "hint": "", "transient": False, "facts": {}}
GIVEN = {"queue_order": NOW, "wait_until": NOW, "attempt": 1, "started_at": NOW, "error": ERROR, "not_before": NOW, "waits_for": "rain",
         "ended_at": NOW, "delivery_plan": {"targets": []}, "deliver_at": NOW, "deliver_until": NOW, "delivery_error": ERROR,
         "delivery_attempts": 1, "held_by": "amir", "held_note": "", "reason": "because"}  # fmt: skip


@pytest.fixture
def tables(orm):
    from patient_ladle.service.ledger.states import DELIVERY, FINISHED, HOLD, RUN

    return {"run": (RUN, {}), "delivery": (DELIVERY, {"state": FINISHED, "started_at": NOW, "ended_at": NOW, "wait_until": None}),
            "hold": (HOLD, {"state": FINISHED, "started_at": NOW, "ended_at": NOW, "wait_until": None})}  # fmt: skip


def reachable(table):
    """States and the events by which each is reached first."""
    found, ways = dict.fromkeys(table.first, ()), list(table.first)
    for state in ways:
        for (before, event), move in table.moves.items():
            if before == state and move.after not in found:
                found[move.after] = (*found[state], event)
                ways.append(move.after)
    return found


@pytest.mark.parametrize("name", ["run", "delivery", "hold"])
def test_every_reachable_state_takes_its_events_and_no_other_and_the_database_agrees(tables, repository, name):
    from django.db import IntegrityError, transaction

    from patient_ladle.service.ledger.models import Run

    table, begun = tables[name]
    ways, given = reachable(table), GIVEN | {"worker": worker(f"walks-{name}")}
    given["deliverer"] = given["worker"]
    assert ways.keys() == table.states.keys()

    def row_in(state):
        [run] = queue(repository, "from_wide")
        first = next((each for each in table.first if ways[state] and (each, ways[state][0]) in table.moves), state)
        changes = {"wait_until": NOW if first == "waiting" else None, **begun, table.field: first}
        Run.objects.filter(pk=run.pk).update(**changes)
        run.refresh_from_db()
        for event in ways[state]:
            table.move(run, event, **{need: given[need] for need in table.moves[getattr(run, table.field), event].needs})
        run.save()
        return run

    for state in table.states:
        for event in table.events:
            run, move = row_in(state), table.moves.get((state, event))
            assert table.faults(run) == []
            if move is None:
                before = {**vars(run)}
                with pytest.raises(Conflict, match=f"'{event}' is not possible"):
                    table.move(run, event)
                assert vars(run) == before
                assert not table.may(run, event)
                continue
            with pytest.raises(TypeError) if move.needs else nullcontext():
                table.move(row_in(state), event)
            table.move(run, event, **{need: given[need] for need in move.needs})
            assert (getattr(run, table.field), table.faults(run)) == (move.after, [])
            run.save()
        for field, wrong in [(each, None) for each in table.states[state].filled] + [
            (e, GIVEN.get(e, ERROR)) for e in table.states[state].empty
        ]:
            run = row_in(state)
            setattr(run, field, wrong)
            assert len(table.faults(run)) == 1
            with pytest.raises(IntegrityError), transaction.atomic():
                run.save()
    run = row_in(next(iter(table.states)))
    setattr(run, table.field, "gone")
    assert table.faults(run) == [f"'gone' is not a state of a {table.kind}"]
    with pytest.raises(IntegrityError), transaction.atomic():
        run.save()


def test_what_was_skipped_or_missed_runs_after_all_and_what_runs_may_be_skipped():
    assert reachable(DUE_TIME).keys() == DUE_TIME.states.keys()
    assert {pair: move.after for pair, move in DUE_TIME.moves.items()} == {
        ("run", "skip"): "skipped", **{(state, "run after all"): "run" for state in ("run", "skipped", "missed")}}  # fmt: skip


def test_a_move_lacks_nothing_that_its_state_asks_for():
    with pytest.raises(TypeError, match="'go' of a thing needs by, to"):
        StateTable("thing", "state", ["a"], {"a": Fields(), "b": Fields()}, [Move("go", ("a",), "b", ("to", "by"))]).move(
            type("Thing", (), {"state": "a"})(), "go"
        )


STATES = {"state", "delivery", "held", "decision"}
WRITING = ("service/ledger", "service/runs", "service/schedules", "service/processes", "service/children")


def writes(tree, fields):
    """Lines that assign to one of the fields, give it to ``update``, or name it among those to save."""
    for node in ast.walk(tree):
        targets = (
            node.targets
            if isinstance(node, ast.Assign)
            else [node.target]
            if isinstance(node, (ast.AugAssign, ast.AnnAssign))
            else []
        )
        for target in targets:
            for each in target.elts if isinstance(target, ast.Tuple) else [target]:
                if isinstance(each, ast.Attribute) and each.attr in fields:
                    yield node.lineno
        if isinstance(node, ast.Call) and getattr(node.func, "attr", "") in ("update", "bulk_update", "save"):
            yield from [node.lineno for word in node.keywords if word.arg in fields]
            named = [each for word in node.keywords if isinstance(word.value, ast.List) for each in word.value.elts]
            yield from [node.lineno for each in named if isinstance(each, ast.Constant) and each.value in fields]


def written(fields, folders):
    files = [path for folder in folders for path in (SOURCE / folder).rglob("*.py") if "migrations" not in path.parts]
    assert files
    return [f"{path.name}:{line}" for path in files for line in writes(ast.parse(path.read_text()), fields)]


def test_every_write_of_a_state_goes_through_its_table():
    text = "run.state, run.x = 1, 2\nrun.held = 3\nruns.update(delivery='')\nrun.save(update_fields=['state'])\nother = 1"
    assert list(writes(ast.parse(text), STATES)) == [1, 2, 3, 4]
    assert written(STATES, WRITING) == []


def test_what_was_asked_for_is_never_written_again(orm):
    from patient_ladle.service.ledger.run_parts import RunDelivery, RunOutcome, RunProgress, RunRequest
    from patient_ladle.service.ledger.states import DELIVERY, HOLD, RUN

    asked, *others = ({each.name for each in part._meta.fields} for part in (RunRequest, RunProgress, RunOutcome, RunDelivery))
    assert not asked & set().union(*others)
    assert written(asked, ("service/ledger",)) == []
    for table in (RUN, DELIVERY, HOLD):
        for move in table.moves.values():
            assert not asked & {table.field, *move.needs, *move.resets}, move.event
