"""Codes have underscores, and are the trade's."""

from django.db import migrations


def renamed(apps, schema_editor):
    schedules = apps.get_model("schedules", "Schedule").objects
    schedules.filter(while_running="alongside").update(while_running="parallel")
    schedules.filter(on_holiday="next working day").update(on_holiday="next_working_day")


class Migration(migrations.Migration):
    dependencies = [("schedules", "0009_words")]

    operations = [migrations.RunPython(renamed, migrations.RunPython.noop)]
