"""Codes have underscores."""

from django.db import migrations

KINDS = {
    "nothing runs": "nothing_runs", "not run": "not_run", "not delivered": "not_delivered",
    "source unreachable": "source_unreachable", "own run": "own_run", "try": "test", "space": "disk_space",
}


def renamed(apps, schema_editor):
    for before, after in KINDS.items():
        apps.get_model("notices", "Alert").objects.filter(kind=before).update(kind=after)
    apps.get_model("notices", "Sending").objects.filter(state="given up").update(state="failed")
    for channel in apps.get_model("notices", "Channel").objects.all():
        channel.kinds = [KINDS.get(kind, kind) for kind in channel.kinds]
        channel.save(update_fields=["kinds"])


class Migration(migrations.Migration):
    dependencies = [("notices", "0003_words")]

    operations = [migrations.RunPython(renamed, migrations.RunPython.noop)]
