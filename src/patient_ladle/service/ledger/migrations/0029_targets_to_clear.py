from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0028_targets")]

    operations = [
        migrations.RenameModel("DeliveryFolder", "DeliveryTarget"),
        migrations.RenameField("DeliveryTarget", "path", "target"),
        migrations.RenameField("DeliveryTarget", "mount", "known"),
        migrations.RemoveConstraint("FolderToClear", "one_clearing_of_a_folder"),
        migrations.RenameModel("FolderToClear", "TargetToClear"),
        migrations.RenameField("TargetToClear", "folder", "target"),
        migrations.AddConstraint(
            "TargetToClear", models.UniqueConstraint(fields=["run", "target"], name="one_clearing_of_a_target")
        ),
    ]
