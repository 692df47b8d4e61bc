import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("sources", "0004_words")]

    operations = [
        migrations.RenameModel("Inquiry", "InteractiveQuery"),
        migrations.AlterField(
            "interactivequery",
            "source",
            models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="queries", to="sources.source"),
        ),
    ]
