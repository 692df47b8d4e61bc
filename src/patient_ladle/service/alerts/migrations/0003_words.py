"""The trade's words: alerts about open problems."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("notices", "0002_own_runs")]

    operations = [
        migrations.RemoveConstraint("sending", "one_sending_a_channel"),
        migrations.RenameModel("Notice", "Alert"),
        migrations.RenameModel("Trouble", "OpenProblem"),
        migrations.RenameField("alert", "trouble", "problem"),
        migrations.RenameField("sending", "notice", "alert"),
        migrations.RenameField("sending", "said", "response"),
        migrations.RenameField("summary", "notice", "alert"),
        migrations.AlterField(
            "alert", "problem",
            models.ForeignKey(
                null=True, on_delete=django.db.models.deletion.CASCADE, related_name="alerts", to="notices.openproblem"
            ),
        ),
        migrations.AddConstraint(
            "sending", models.UniqueConstraint(fields=("alert", "channel"), name="one_sending_a_channel")
        ),
    ]
