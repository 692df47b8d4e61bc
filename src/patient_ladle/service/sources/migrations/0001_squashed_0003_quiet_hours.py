import django.db.models.deletion
import patient_ladle.service.common.fields
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):
    """All of this app at once, for a new database; an older one goes step by step."""

    replaces = [
        ("sources", "0001_initial"),
        ("sources", "0002_looking_around"),
        ("sources", "0003_quiet_hours"),
    ]

    initial = True

    dependencies = [
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.CreateModel(
            name="Environment",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=64, unique=True)),
                ("note", models.TextField(blank=True, default="")),
            ],
            options={
                "ordering": ["id"],
            },
        ),
        migrations.CreateModel(
            name="Source",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=64, unique=True)),
                ("engine", models.CharField(max_length=32)),
                ("note", models.TextField(blank=True, default="")),
                ("group", models.CharField(blank=True, default="", max_length=64)),
                ("places", models.PositiveSmallIntegerField(default=2)),
                ("connect_seconds", models.PositiveSmallIntegerField(default=10)),
                ("max_rows", models.BigIntegerField(null=True)),
                ("max_bytes", models.BigIntegerField(null=True)),
                ("deadline_seconds", models.PositiveIntegerField(default=3600)),
                ("quiet_hours", models.CharField(blank=True, default="", max_length=200)),
                ("quiet_zone", models.CharField(blank=True, default="", max_length=64)),
                ("created_at", models.DateTimeField(auto_now_add=True)),
            ],
            options={
                "ordering": ["name"],
            },
        ),
        migrations.CreateModel(
            name="Address",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("fields", models.JSONField(default=dict)),
                ("secret", patient_ladle.service.common.fields.SecretField(blank=True, default="")),
                ("last_check", models.JSONField(null=True)),
                ("last_check_at", models.DateTimeField(null=True)),
                ("catalogue", models.JSONField(null=True)),
                ("catalogue_at", models.DateTimeField(null=True)),
                (
                    "environment",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT, related_name="addresses", to="sources.environment"
                    ),
                ),
                (
                    "source",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="addresses", to="sources.source"
                    ),
                ),
            ],
            options={
                "ordering": ["environment_id"],
            },
        ),
        migrations.CreateModel(
            name="Inquiry",
            fields=[
                ("id", models.CharField(max_length=32, primary_key=True, serialize=False)),
                ("kind", models.CharField(max_length=16)),
                ("request", models.JSONField(default=dict)),
                ("state", models.CharField(default="waiting", max_length=16)),
                ("cancel_asked", models.BooleanField(default=False)),
                ("result", models.JSONField(null=True)),
                ("error", models.JSONField(null=True)),
                ("asked_at", models.DateTimeField(auto_now_add=True, db_index=True)),
                ("started_at", models.DateTimeField(null=True)),
                ("ended_at", models.DateTimeField(null=True)),
                ("deadline_at", models.DateTimeField()),
                (
                    "address",
                    models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="+", to="sources.address"),
                ),
                (
                    "person",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="+", to=settings.AUTH_USER_MODEL
                    ),
                ),
                (
                    "source",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="inquiries", to="sources.source"
                    ),
                ),
            ],
        ),
        migrations.AddConstraint(
            model_name="address",
            constraint=models.UniqueConstraint(fields=("source", "environment"), name="one_address"),
        ),
    ]
