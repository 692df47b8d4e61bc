import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):
    """All of this app at once, for a new database; an older one goes step by step."""

    replaces = [
        ("extracts", "0001_initial"),
        ("extracts", "0002_shared_values"),
        ("extracts", "0003_names_and_tags"),
        ("extracts", "0004_output"),
        ("extracts", "0005_after"),
        ("extracts", "0006_guards"),
        ("extracts", "0007_keeping"),
    ]

    initial = True

    dependencies = [
        ("sources", "0001_squashed_0003_quiet_hours"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.CreateModel(
            name="Extract",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=64, unique=True)),
                ("folder", models.CharField(blank=True, default="", max_length=200)),
                ("number", models.PositiveIntegerField(default=0)),
                ("tags", models.JSONField(default=list)),
                ("keep_days", models.PositiveIntegerField(null=True)),
                ("keep_runs", models.PositiveIntegerField(null=True)),
                ("archived_at", models.DateTimeField(null=True)),
                ("created_at", models.DateTimeField(auto_now_add=True)),
                ("after", models.ManyToManyField(related_name="before", to="extracts.extract")),
                (
                    "owner",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT, related_name="+", to=settings.AUTH_USER_MODEL
                    ),
                ),
            ],
            options={
                "ordering": ["folder", "name"],
            },
        ),
        migrations.CreateModel(
            name="FormerName",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=64, unique=True)),
                ("left_at", models.DateTimeField(auto_now_add=True)),
                (
                    "extract",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="former_names", to="extracts.extract"
                    ),
                ),
            ],
        ),
        migrations.CreateModel(
            name="SharedValue",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=64, unique=True)),
                ("note", models.TextField(blank=True, default="")),
                ("values", models.JSONField(default=dict)),
                ("changed_at", models.DateTimeField(auto_now=True)),
                (
                    "changed_by",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT, related_name="+", to=settings.AUTH_USER_MODEL
                    ),
                ),
            ],
            options={
                "ordering": ["name"],
            },
        ),
        migrations.CreateModel(
            name="Revision",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("number", models.PositiveIntegerField()),
                ("saved_at", models.DateTimeField(auto_now_add=True)),
                ("change_note", models.TextField(blank=True, default="")),
                ("statement", models.TextField()),
                ("parameters", models.JSONField(default=list)),
                ("formats", models.JSONField(default=list)),
                ("file_name", models.CharField(default="{extract}-{data_date}", max_length=200)),
                ("output", models.JSONField(default=dict)),
                ("guards", models.JSONField(default=list)),
                ("deliver_into", models.CharField(blank=True, default="", max_length=500)),
                ("notes", models.TextField(blank=True, default="")),
                (
                    "author",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT, related_name="+", to=settings.AUTH_USER_MODEL
                    ),
                ),
                (
                    "extract",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT, related_name="revisions", to="extracts.extract"
                    ),
                ),
                (
                    "source",
                    models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name="+", to="sources.source"),
                ),
            ],
            options={
                "ordering": ["-number"],
                "constraints": [models.UniqueConstraint(fields=("extract", "number"), name="one_revision")],
            },
        ),
    ]
