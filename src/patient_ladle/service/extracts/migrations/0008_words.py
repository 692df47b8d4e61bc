"""The trade's words."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("extracts", "0007_keeping")]

    operations = [
        migrations.RenameField("extract", "after", "depends_on"),
        migrations.RenameField("extract", "keep_days", "retention_days"),
        migrations.RenameField("extract", "keep_runs", "retention_runs"),
    ]
