from django.db import migrations

WORDS = {"many": "is_list", "least": "minimum", "most": "maximum"}


def renamed(words):
    def rename(apps, _):
        for each in apps.get_model("extracts", "Revision").objects.exclude(parameters=[]).iterator():
            each.parameters = [{words.get(key, key): value for key, value in one.items()} for one in each.parameters]
            each.save(update_fields=["parameters"])

    return rename


class Migration(migrations.Migration):
    dependencies = [("extracts", "0010_without_source")]

    operations = [migrations.RunPython(renamed(WORDS), renamed({new: old for old, new in WORDS.items()}))]
