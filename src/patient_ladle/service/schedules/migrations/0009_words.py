"""The trade's words."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("schedules", "0008_decisions")]

    operations = [
        migrations.RenameField("schedule", "missed", "catch_up"),
        migrations.RenameField("schedule", "missed_hours", "catch_up_hours"),
        migrations.RenameField("schedule", "missed_most", "catch_up_limit"),
        migrations.RenameField("schedule", "overlap", "while_running"),
        migrations.RenameField("schedule", "run_minutes", "timeout_minutes"),
    ]
