"""The trade's words."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("sources", "0003_quiet_hours")]

    operations = [
        migrations.RenameField("source", "places", "max_runs"),
        migrations.RenameField("source", "connect_seconds", "connect_timeout_seconds"),
        migrations.RenameField("source", "deadline_seconds", "query_timeout_seconds"),
    ]
