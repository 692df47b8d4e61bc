"""Ledger, keys, store and data directory: what does not belong together is told, and nothing is made or written meanwhile."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

from patient_ladle.adapters.stores.folder import FolderStore
from patient_ladle.core.errors import Conflict, StoreUnwritable


@pytest.fixture
def ours(repository, tmp_path):
    """A ledger with an id, whose data directory and store are the test's own; ``ours.check()`` is a start."""
    from django.test import override_settings

    from patient_ladle.service.ledger import identity
    from patient_ladle.service.ledger.models import Identity

    class Ours:
        data, store = tmp_path / "data", tmp_path / "results"

        @staticmethod
        def check(adopt=False, **settings):
            with override_settings(**{"DATA": Ours.data, "RESULT_STORE": Ours.store} | settings):
                return identity.check(adopt)

        @staticmethod
        def refused(match, **settings):
            before = {path: path.read_bytes() for path in tmp_path.rglob("*") if path.is_file()}
            row = Identity.objects.values().first()
            with pytest.raises(Conflict, match=match) as refused:
                Ours.check(**settings)
            assert {path: path.read_bytes() for path in tmp_path.rglob("*") if path.is_file()} == before, "nothing is written"
            assert Identity.objects.values().first() == row
            return refused.value.hint

    Identity.objects.all().delete()
    assert Ours.check() == []
    yield Ours
    Identity.objects.all().delete()


def test_the_first_start_gives_an_id_to_all_and_the_next_ones_find_it(ours):
    from patient_ladle.service.ledger.models import Identity

    known = Identity.objects.get()
    assert (ours.data / "ledger.id").read_text() == known.ledger
    assert (ours.store / ".store").read_text() == known.store_mark
    assert ours.check() == []
    (ours.data / "ledger.id").unlink()
    assert ours.check() == []
    assert (ours.data / "ledger.id").read_text() == known.ledger, "another host of the same ledger"


def test_keys_that_are_others_or_are_missing_are_refused_until_a_person_takes_new_ones(ours, tmp_path):
    keys = ours.data / "keys"
    keys.rename(tmp_path / "kept")
    hint = ours.refused("is not there: it holds those that the secrets")
    assert "Copy keys/secrets.key" in hint
    assert "--adopt" in hint
    assert not (keys / "secrets.key").exists(), "no key is made in silence"
    (tmp_path / "kept").rename(keys)
    assert ours.check() == []
    from patient_ladle.service.common.keys import secret_box

    other = tmp_path / "other"
    secret_box(other)
    shutil.copy(other / "keys" / "secrets.key", keys / "secrets.key")
    secret_box.cache_clear()
    ours.refused("has other keys than those")
    assert ours.check(adopt=True) == []
    assert ours.check() == []


def test_a_store_that_is_another_or_empty_or_gone_is_refused_and_one_that_is_away_is_not(ours, tmp_path, monkeypatch):
    ours.store.rename(tmp_path / "mounted elsewhere")
    assert "Mount it" in ours.refused("has no mark: it is empty, not mounted")
    assert not ours.store.exists()
    ours.store.mkdir()
    (ours.store / ".store").write_text("another")
    ours.refused(r"is another one \(mark another\)")
    shutil.rmtree(ours.store)
    ours.store.write_text("a file where a folder was")
    ours.refused("has no mark")
    ours.store.unlink()
    with monkeypatch.context() as away:
        away.setattr(FolderStore, "mark", lambda *_, **__: (_ for _ in ()).throw(StoreUnwritable("the share does not answer.")))
        assert ours.check() == ["the result store cannot be looked at: the share does not answer."]
    (tmp_path / "mounted elsewhere").rename(ours.store)
    assert ours.check() == []


def test_another_ledgers_data_directory_is_refused(ours):
    (ours.data / "ledger.id").write_text("0123456789abcdef")
    assert "LADLE_DATABASE_URL" in ours.refused("belongs to ledger 0123456789abcdef")
    assert ours.check(adopt=True) == []
    assert ours.check() == []


def test_an_empty_ledger_beside_what_another_one_left_is_refused(ours, monkeypatch):
    from patient_ladle.service.ledger import identity
    from patient_ladle.service.ledger.models import Identity

    monkeypatch.setattr(identity, "_is_in_use", lambda: False)
    kept = Identity.objects.get()
    Identity.objects.all().delete()
    ours.refused("and the service database is empty")
    (ours.data / "ledger.id").unlink()
    (ours.store / "7").mkdir()
    ours.refused("the result store holds results, and the service database is empty")
    assert ours.check(adopt=True) == []
    assert Identity.objects.get().ledger != kept.ledger


def test_a_ledger_older_than_its_store_is_refused_and_goes_on_above_it_if_a_person_says_so(ours, repository):
    from patient_ladle.service.ledger import identity

    from .hands import queue

    [before] = queue(repository, "from_wide")
    highest = before.pk + 40
    (ours.store / str(highest)).mkdir()
    assert "Restore a later dump" in ours.refused(f"has results of runs up to {highest}")
    assert ours.check(adopt=True) == []
    [after] = queue(repository, "from_wide")
    assert after.pk == highest + 1, "no two runs ever have the same name in the store"
    assert identity._last_number() == after.pk


def test_every_process_of_the_service_asks(ours, monkeypatch, capsys):
    import argparse

    from patient_ladle.service import __main__ as module
    from patient_ladle.service.ledger import identity

    def stranger(adopt=False):
        raise Conflict("the result store is another one.", "Mount it.")

    monkeypatch.setattr(identity, "check", stranger)
    given = argparse.Namespace(adopt=False, alone=True, max_runs=1, after=None)
    for start in (module._web, module._worker, module._scheduler, module._migrate):
        assert start(given) == identity.STRANGER
        assert "Mount it." in capsys.readouterr().err
    assert not (Path(ours.data) / "first-sign-in.txt").exists()
