from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("runs", "0030_without_source")]

    operations = [migrations.RenameField("run", "attempts_most", "max_attempts")]
