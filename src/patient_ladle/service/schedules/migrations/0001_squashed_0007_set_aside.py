import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):
    """All of this app at once, for a new database; an older one goes step by step."""

    replaces = [
        ("schedules", "0001_initial"),
        ("schedules", "0002_unattended"),
        ("schedules", "0003_delivery_folders"),
        ("schedules", "0004_night"),
        ("schedules", "0005_steps_of_an_extract"),
        ("schedules", "0006_untold_due_times"),
        ("schedules", "0007_set_aside"),
    ]

    initial = True

    dependencies = [
        ("extracts", "0001_squashed_0007_keeping"),
        ("sources", "0001_squashed_0003_quiet_hours"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.CreateModel(
            name="HolidayCalendar",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=64, unique=True)),
                ("country", models.CharField(blank=True, default="", max_length=2)),
                ("region", models.CharField(blank=True, default="", max_length=16)),
                ("text", models.TextField(blank=True, default="")),
                (
                    "created_by",
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
            name="Schedule",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("name", models.CharField(max_length=64, unique=True)),
                ("rule", models.CharField(max_length=200)),
                ("zone", models.CharField(max_length=64)),
                ("first_date", models.DateField(null=True)),
                ("last_date", models.DateField(null=True)),
                ("exceptions", models.JSONField(default=list)),
                ("on_holiday", models.CharField(default="run", max_length=20)),
                ("missed", models.CharField(default="latest", max_length=8)),
                ("missed_hours", models.PositiveIntegerField(null=True)),
                ("missed_most", models.PositiveIntegerField(null=True)),
                ("overlap", models.CharField(default="wait", max_length=12)),
                ("spread_seconds", models.PositiveIntegerField(default=0)),
                ("attempts", models.PositiveSmallIntegerField(default=3)),
                ("run_minutes", models.PositiveIntegerField(default=1440)),
                ("finish_by", models.TimeField(null=True)),
                ("priority", models.CharField(default="normal", max_length=8)),
                ("values", models.JSONField(default=dict)),
                ("formats", models.JSONField(default=list)),
                ("deliver_into", models.CharField(blank=True, default="", max_length=500)),
                ("next_due_at", models.DateTimeField(db_index=True, null=True)),
                ("fault", models.CharField(blank=True, default="", max_length=400)),
                ("fault_at", models.DateTimeField(null=True)),
                ("look_again_at", models.DateTimeField(null=True)),
                ("paused_at", models.DateTimeField(null=True)),
                ("paused_until", models.DateTimeField(null=True)),
                ("paused_by", models.CharField(blank=True, default="", max_length=64)),
                ("pause_reason", models.CharField(blank=True, default="", max_length=200)),
                ("removed_at", models.DateTimeField(null=True)),
                (
                    "calendar",
                    models.ForeignKey(
                        null=True,
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="schedules",
                        to="schedules.holidaycalendar",
                    ),
                ),
                (
                    "created_by",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT, related_name="+", to=settings.AUTH_USER_MODEL
                    ),
                ),
                (
                    "environment",
                    models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name="+", to="sources.environment"),
                ),
                (
                    "extract",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT, related_name="schedules", to="extracts.extract"
                    ),
                ),
            ],
            options={
                "ordering": ["name"],
            },
        ),
        migrations.CreateModel(
            name="DueTime",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("due_at", models.DateTimeField()),
                ("data_date", models.DateField()),
                ("decision", models.CharField(max_length=16)),
                ("reason", models.CharField(max_length=400)),
                ("untold", models.BooleanField(default=False)),
                ("decided_at", models.DateTimeField(auto_now_add=True)),
                (
                    "schedule",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT, related_name="due_times", to="schedules.schedule"
                    ),
                ),
            ],
            options={
                "ordering": ["-due_at"],
                "indexes": [
                    models.Index(
                        condition=models.Q(("decision", "run"), _negated=True),
                        fields=["decided_at"],
                        name="due_times_without_run",
                    ),
                    models.Index(condition=models.Q(("untold", True)), fields=["id"], name="due_times_untold"),
                ],
                "constraints": [models.UniqueConstraint(fields=("schedule", "due_at"), name="one_record_per_due_time")],
            },
        ),
        migrations.CreateModel(
            name="SequenceStep",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("place", models.PositiveSmallIntegerField()),
                ("values", models.JSONField(default=dict)),
                ("formats", models.JSONField(default=list)),
                (
                    "extract",
                    models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name="steps", to="extracts.extract"),
                ),
                (
                    "schedule",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="steps", to="schedules.schedule"
                    ),
                ),
            ],
            options={
                "ordering": ["place"],
                "constraints": [models.UniqueConstraint(fields=("schedule", "place"), name="one_step_of_a_place")],
            },
        ),
    ]
