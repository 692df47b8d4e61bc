"""Every kind of target promises the same: unseen until committed, all or nothing, rolled forward, cleared by its mark."""

from __future__ import annotations

import hashlib
import io
import json

import pytest

from patient_ladle.adapters.deliveries import KINDS, delivery_targets, kind_of, mark_of
from patient_ladle.core.errors import BadInput, LadleError, NameTaken, StoreUnwritable
from patient_ladle.core.ports import DeliveryPlan

from .cases import CASES
from .memory_kind import Shelves

DATA = {"use.csv": b"a\n1\n", "use.json": b"[]\n"}
NAMES = [("use.csv", "use-24.csv"), ("use.json", "use-24.json"), ("datapackage.json", "use-24.datapackage.json")]


def test_every_kind_has_its_case():
    assert {*KINDS} <= {*CASES}


@pytest.fixture(params=sorted(CASES))
def case(request, tmp_path):
    made = CASES[request.param](tmp_path)
    made.both = made.kind.targets([made.wanted("regulator"), made.wanted("works")], made.roots)
    made.taught = {}
    return made


def prepared(case, attempt=1, number=1, **manner):
    delivery = case.kind.begin(mark_of("7", attempt, number), lambda name: io.BytesIO(DATA[name]))
    return delivery, delivery.prepare(case.both, NAMES, manner, lambda names: {"paths": [*names.values()]}, case.taught)


def seen(case):
    return [case.files(target) for target in case.both]


def unseen(case):
    return [name for target in case.both for name in case.files(target, unseen=True)]


def whole():
    made = {name: DATA[stored] for stored, name in NAMES[:-1]}
    return made, {"paths": ["use-24.csv", "use-24.json"]}


def is_whole(case):
    for found in seen(case):
        described = found.pop("use-24.datapackage.json")
        assert (found, json.loads(described)) == whole()
    return not unseen(case)


def test_what_is_prepared_is_unseen_and_a_plan_survives_its_journal(case):
    _, plan = prepared(case)
    assert (seen(case), len(unseen(case))) == ([{}, {}], 6)
    assert DeliveryPlan.from_dict(json.loads(json.dumps(plan.to_dict()))) == plan
    assert plan.kind == case.kind.name
    assert [[place for place, _ in each] for each in [[(m[1], m[2]) for m in moves] for moves in plan.copies()]] == [
        [case.kind.place(target, name) for target in case.both] for _, name in NAMES[:-1]
    ]
    assert all(digest == hashlib.sha256(DATA[stored]).hexdigest()
               for (stored, _), moves in zip(NAMES, plan.copies(), strict=False) for _, _, digest in moves)  # fmt: skip
    assert all(place.startswith(case.kind.prefix) and not case.kind.stands(place) for place in case.kind.open_places(plan))
    assert case.kind.commit(DeliveryPlan.from_dict(plan.to_dict())) == []
    assert is_whole(case)
    assert all(case.kind.stands(place) for place in plan.delivered()[0])
    assert case.kind.open_places(plan) == []
    assert {*case.kind.learned(plan)} == {*case.both}
    assert all(target in case.kind.describe(case.both) for target in case.both)


@pytest.mark.parametrize("how", ["dropped", "swept"])
def test_what_will_not_be_committed_leaves_nothing(case, how):
    delivery, plan = prepared(case)
    delivery.drop() if how == "dropped" else case.kind.sweep(plan)
    assert (seen(case), unseen(case)) == ([{}, {}], [])
    with pytest.raises(StoreUnwritable, match="is not there any more"):
        case.kind.commit(plan)
    assert seen(case) == [{}, {}]


def test_a_commit_is_rolled_forward_and_what_was_taken_is_said(case):
    _, plan = prepared(case)
    case.kind.commit(plan)
    assert case.kind.commit(plan, resumed=True) == []
    case.take(case.both[0], "use-24.csv")
    assert case.kind.commit(plan, resumed=True) == [case.kind.place(case.both[0], "use-24.csv")]


def test_a_place_that_was_filled_before_is_left_alone(case):
    _, plan = prepared(case)
    done = case.kind.place(case.both[0], "use-24.csv")
    case.kind.commit(plan, done=[done])
    assert (case.kind.stands(done), case.kind.stands(case.kind.place(case.both[1], "use-24.csv"))) == (False, True)


def test_a_target_that_is_away_takes_nothing_anywhere_and_is_cleared_later(case):
    _, plan = prepared(case)
    case.kind.commit(plan)
    _, later = prepared(case, attempt=2)
    before = seen(case)
    with case.away(case.both[1]):
        assert case.both[1] in case.kind.check(case.both[1])
        assert case.kind.check(case.both[0]) == ""
        assert case.kind.clear(case.both[1], lambda *_: True) is False
        with pytest.raises(StoreUnwritable) as fault:
            case.kind.commit(later)
        assert case.files(case.both[0]) == before[0]
        assert fault.value.hint
        with pytest.raises(LadleError):
            prepared(case, attempt=3)
    assert seen(case) == before
    assert [case.kind.clear(target, lambda run, attempt, number: attempt >= 2) for target in case.both] == [True, True]
    assert (seen(case), unseen(case)) == (before, [])


def test_only_tries_that_are_over_are_cleared(case):
    prepared(case)
    _, plan = prepared(case, number=2)
    asked = []
    for target in case.both:
        assert case.kind.clear(target, lambda *of: asked.append(of) or of == (7, 1, 1))
    assert {*asked} == {(7, 1, 1), (7, 1, 2)}
    assert len(unseen(case)) == 6
    case.kind.commit(plan)
    assert is_whole(case)


def test_a_name_that_is_taken_is_refused_before_anything_is_prepared(case):
    _, plan = prepared(case)
    case.kind.commit(plan)
    with pytest.raises(NameTaken):
        prepared(case, attempt=2, if_exists="fail")
    assert is_whole(case)


def test_what_can_be_no_target_is_refused(case):
    with pytest.raises(BadInput):
        case.kind.targets([case.wrong], case.roots)


def test_a_delivery_goes_to_targets_of_one_kind(monkeypatch, tmp_path):
    monkeypatch.setitem(KINDS, "shelf", Shelves())
    assert (kind_of("shelf:works").name, kind_of("/srv/works").name) == ("shelf", "folder")
    assert delivery_targets([tmp_path], "shelf:works; shelf:works ;") == ("shelf:works",)
    with pytest.raises(BadInput, match="two kinds: 'works' and 'shelf:works'"):
        delivery_targets([tmp_path], "works; shelf:works")
