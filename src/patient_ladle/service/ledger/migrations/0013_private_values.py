"""Values of private parameters that were saved before they were kept encrypted."""

from django.db import migrations

from patient_ladle.service.extracts.sensitive_values import seal


def _sealed(values, private):
    return {name: seal(value) if name in private else value for name, value in values.items()}


def seal_private_values(apps, _editor):
    """Defaults in revisions, and values of runs, schedules and their further steps."""
    revision, run = apps.get_model("extracts", "Revision"), apps.get_model("runs", "Run")
    schedule, step = apps.get_model("schedules", "Schedule"), apps.get_model("schedules", "SequenceStep")
    private_now = {}
    for each in revision.objects.select_related("extract").filter(parameters__contains=[{"private": True}]).order_by("number"):
        private = {parameter["name"] for parameter in each.parameters if parameter.get("private")}
        each.parameters = [_sealed(parameter, {"default"} if parameter["name"] in private else ()) for parameter in each.parameters]
        each.save(update_fields=["parameters"])
        if each.number == each.extract.number:
            private_now[each.extract_id] = private
        for made in run.objects.filter(revision=each).exclude(values={}).iterator():
            made.values = _sealed(made.values, private)
            made.save(update_fields=["values"])
    for kept in (*schedule.objects.filter(extract__in=private_now), *step.objects.filter(extract__in=private_now)):
        kept.values = _sealed(kept.values, private_now[kept.extract_id])
        kept.save(update_fields=["values"])


class Migration(migrations.Migration):

    dependencies = [
        ("runs", "0012_kept_files"),
        ("extracts", "0007_keeping"),
        ("schedules", "0006_untold_due_times"),
    ]

    operations = [migrations.RunPython(seal_private_values, migrations.RunPython.noop)]
