"""The trade's words in the settings of revisions."""

from django.db import migrations

OPTIONS = {
    "absent": "null_as", "stand_in": "replacement", "line_end": "line_ending", "date_form": "date_format",
    "time_form": "time_format", "timestamp_form": "timestamp_format", "decimal_sign": "decimal_separator",
    "thousands_sign": "thousands_separator", "true_word": "true_as", "false_word": "false_as",
    "guard_formulas": "escape_formulas", "unfit_numbers": "unrepresentable_numbers",
    "unfit_dates": "unrepresentable_dates", "not_finite": "nan_as", "codec": "compression",
}
IF_EXISTS = {"replace": "overwrite", "number": "rename", "refuse": "fail"}


def options(given):
    return {OPTIONS.get(name, name): value for name, value in given.items()}


def columns(given):
    if isinstance(given, dict):
        return {title: columns(each) for title, each in given.items()}
    return [
        {("pattern" if key == "form" else key): value for key, value in each.items()} if isinstance(each, dict) else each
        for each in given
    ]


def output(given):
    made = dict(given)
    if "formats" in made:
        made["formats"] = {name: options(each) for name, each in made["formats"].items()}
    if "columns" in made:
        made["columns"] = columns(made["columns"])
    if "files" in made:
        names = {"packing": "compression", "existing": "if_exists"}
        made["files"] = {names.get(name, name): value for name, value in made["files"].items()}
        if "if_exists" in made["files"]:
            made["files"]["if_exists"] = IF_EXISTS.get(made["files"]["if_exists"], made["files"]["if_exists"])
    return made


def renamed(apps, schema_editor):
    for revision in apps.get_model("extracts", "Revision").objects.exclude(output={}, guards=[], parameters=[]).iterator():
        revision.output = output(revision.output)
        revision.parameters = [
            {("sensitive" if key == "private" else key): value for key, value in each.items()} for each in revision.parameters
        ]
        revision.guards = [
            each | {"guard": "not_null"} if each.get("guard") == "no_absent" else each for each in revision.guards
        ]
        revision.save(update_fields=["output", "guards", "parameters"])


class Migration(migrations.Migration):
    # Values of sensitive parameters are sealed before, by the name that they had.
    dependencies = [("extracts", "0008_words"), ("runs", "0013_private_values")]

    operations = [migrations.RunPython(renamed, migrations.RunPython.noop)]
