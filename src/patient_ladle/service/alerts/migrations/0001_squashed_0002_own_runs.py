import django.db.models.deletion
import patient_ladle.service.common.fields
import patient_ladle.service.alerts.models
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):
    """All of this app at once, for a new database; an older one goes step by step."""

    replaces = [
        ("notices", "0001_initial"),
        ("notices", "0002_own_runs"),
    ]

    initial = True

    dependencies = [
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.CreateModel(
            name="Channel",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=64, unique=True)),
                ("kind", models.CharField(max_length=16)),
                ("settings", models.JSONField(default=dict)),
                ("secret", patient_ladle.service.common.fields.SecretField(blank=True, default="")),
                ("kinds", models.JSONField(default=list)),
                ("active", models.BooleanField(default=True)),
                ("for_people", models.BooleanField(default=False)),
            ],
            options={
                "ordering": ["name"],
            },
        ),
        migrations.CreateModel(
            name="Notice",
            fields=[
                (
                    "id",
                    models.CharField(
                        default=patient_ladle.service.alerts.models._new_id, max_length=32, primary_key=True, serialize=False
                    ),
                ),
                ("kind", models.CharField(max_length=20)),
                ("title", models.CharField(max_length=200)),
                ("cause", models.TextField()),
                ("next_step", models.TextField(blank=True, default="")),
                ("path", models.CharField(blank=True, default="", max_length=200)),
                ("at", models.DateTimeField(auto_now_add=True, db_index=True)),
                (
                    "person",
                    models.ForeignKey(
                        null=True, on_delete=django.db.models.deletion.CASCADE, related_name="+", to=settings.AUTH_USER_MODEL
                    ),
                ),
            ],
            options={
                "ordering": ["-at", "-id"],
            },
        ),
        migrations.CreateModel(
            name="Seen",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("until", models.DateTimeField()),
                (
                    "person",
                    models.OneToOneField(
                        on_delete=django.db.models.deletion.CASCADE, related_name="+", to=settings.AUTH_USER_MODEL
                    ),
                ),
            ],
        ),
        migrations.CreateModel(
            name="Summary",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("date", models.DateField(unique=True)),
                (
                    "notice",
                    models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="+", to="notices.notice"),
                ),
            ],
        ),
        migrations.CreateModel(
            name="Trouble",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("key", models.CharField(max_length=200)),
                ("title", models.CharField(max_length=200)),
                ("mark", models.CharField(max_length=200)),
                ("count", models.PositiveIntegerField(default=1)),
                ("began_at", models.DateTimeField(auto_now_add=True)),
                ("seen_at", models.DateTimeField(auto_now=True)),
                ("ended_at", models.DateTimeField(null=True)),
            ],
            options={
                "ordering": ["-id"],
                "constraints": [
                    models.UniqueConstraint(condition=models.Q(("ended_at", None)), fields=("key",), name="one_open_trouble")
                ],
            },
        ),
        migrations.AddField(
            model_name="notice",
            name="trouble",
            field=models.ForeignKey(
                null=True, on_delete=django.db.models.deletion.CASCADE, related_name="notices", to="notices.trouble"
            ),
        ),
        migrations.CreateModel(
            name="Sending",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("state", models.CharField(default="waiting", max_length=16)),
                ("attempts", models.PositiveSmallIntegerField(default=0)),
                ("next_at", models.DateTimeField()),
                ("said", models.TextField(blank=True, default="")),
                ("to", models.CharField(blank=True, default="", max_length=200)),
                ("sent_at", models.DateTimeField(null=True)),
                (
                    "channel",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="sendings", to="notices.channel"
                    ),
                ),
                (
                    "notice",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="sendings", to="notices.notice"
                    ),
                ),
            ],
            options={
                "ordering": ["-id"],
                "indexes": [models.Index(condition=models.Q(("state", "waiting")), fields=["next_at"], name="sendings_to_do")],
                "constraints": [models.UniqueConstraint(fields=("notice", "channel"), name="one_sending_a_channel")],
            },
        ),
    ]
