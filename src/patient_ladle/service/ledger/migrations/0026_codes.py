"""Codes have underscores, and options of formats have the trade's names."""

from importlib import import_module

from django.db import migrations

options = import_module("patient_ladle.service.extracts.migrations.0009_codes").options


def renamed(apps, schema_editor):
    runs = apps.get_model("runs", "Run").objects
    runs.filter(state="not run").update(state="not_run")
    runs.filter(delivery="under way").update(delivery="in_progress")
    for file in apps.get_model("runs", "ResultFile").objects.exclude(options={}).iterator():
        file.options = options(file.options)
        file.save(update_fields=["options"])


class Migration(migrations.Migration):
    dependencies = [("runs", "0025_words"), ("extracts", "0009_codes")]

    operations = [migrations.RunPython(renamed, migrations.RunPython.noop)]
