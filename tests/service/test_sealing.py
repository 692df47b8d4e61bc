"""Private values that were kept plain by an earlier release."""

from __future__ import annotations

import importlib


def test_private_values_kept_plain_before_are_sealed_once_and_mean_the_same(repository):
    from django.apps import apps

    from patient_ladle.service.extracts.models import Extract, Revision
    from patient_ladle.service.extracts.sensitive_values import opened
    from patient_ladle.service.extracts.services import add_extract
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.schedules.models import Schedule, SequenceStep
    from patient_ladle.service.schedules.services import add_schedule

    if not Extract.objects.filter(name="by_code").exists():
        declared = [{"name": "code", "sensitive": True, "default": "d-1"}, {"name": "zone", "default": "North"}]
        add_extract(
            repository, "by_code", "", "", source="wide", statement="select :code as c, :zone as z", parameters=declared
        )
    extract = Extract.objects.get(name="by_code")
    plain = {"code": "sesame", "zone": "South"}
    revision = extract.head
    made = add_schedule(repository, "coded", extract="from_wide", environment="live", rule="0 6 1 1 *", zone="UTC",
                        then=[{"extract": "by_code"}])  # fmt: skip
    own = add_schedule(repository, "own", extract="by_code", environment="live", rule="0 6 1 1 *", zone="UTC")
    for model in (Schedule.objects.filter(pk=own.pk), SequenceStep.objects.filter(schedule=made)):
        assert model.update(values=plain) == 1
    run = Run.objects.create(extract=extract, revision=revision, source=revision.source, environment=made.environment,
                             data_date="2026-11-10", due_at=revision.saved_at, values=plain)  # fmt: skip

    before = [
        {"private" if key == "sensitive" else key: value for key, value in p.to_dict().items()} for p in revision.declared
    ]
    Revision.objects.filter(pk=revision.pk).update(parameters=before)
    migration = importlib.import_module("patient_ladle.service.ledger.migrations.0013_private_values")
    for _ in range(2):
        migration.seal_private_values(apps, None)
        kept = [Run.objects.get(pk=run.pk).values, Schedule.objects.get(pk=own.pk).values, made.steps.get().values]
        for values in kept:
            assert (list(values["code"]), values["zone"], opened(values)) == (["sealed"], "South", plain)
        found = Revision.objects.get(pk=revision.pk)
        assert [list(p["default"]) if isinstance(p["default"], dict) else p["default"] for p in found.parameters] == [
            ["sealed"],
            "North",
        ]
    importlib.import_module("patient_ladle.service.extracts.migrations.0009_codes").renamed(apps, None)
    found.refresh_from_db()
    assert [p.default for p in found.declared] == ["d-1", "North"]
