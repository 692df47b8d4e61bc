"""The trade's words; rules about codes that change are made anew once they have changed."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0024_attempts_to_clear")]

    operations = [
        migrations.RemoveConstraint("run", "state_of_a_run"),
        migrations.RemoveConstraint("run", "delivery_of_a_run"),
        migrations.RemoveIndex("run", "deliveries_open"),
        migrations.RenameField("worker", "places", "max_runs"),
        migrations.RenameField("worker", "release", "version"),
        migrations.RenameField("resultfile", "packing", "compression"),
        migrations.AlterField("run", "delivery", models.CharField(max_length=12, blank=True, default="")),
    ]
