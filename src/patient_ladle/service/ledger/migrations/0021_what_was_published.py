"""Runs of schedules were published, and delivered files are whose they were."""

import hashlib

from django.db import migrations


def fill(apps, schema_editor):
    run, file, name = (apps.get_model("runs", each) for each in ("Run", "ResultFile", "DeliveredName"))
    run.objects.filter(due_time__isnull=False, store_only=False).update(published=True)
    found = {}
    delivered = file.objects.exclude(delivered_path="").order_by("id").select_related("run")
    for each in delivered.only("delivered_path", "delivered_also", "run__extract_id", "run__environment_id").iterator(2_000):
        for path in (each.delivered_path, *each.delivered_also):
            key = hashlib.sha256(path.encode()).hexdigest()
            of = {"run_id": each.run_id, "extract_id": each.run.extract_id, "environment_id": each.run.environment_id}
            found[key] = name(key=key, path=path, **of)
    name.objects.bulk_create(found.values(), batch_size=2_000)


class Migration(migrations.Migration):
    dependencies = [("runs", "0020_published_and_owned_names")]

    operations = [migrations.RunPython(fill, migrations.RunPython.noop)]
