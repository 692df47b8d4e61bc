import django.db.models.deletion
import django.utils.timezone
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):
    """All of this app at once, for a new database; an older one goes step by step."""

    replaces = [
        ("runs", "0001_initial"),
        ("runs", "0002_where_it_read"),
        ("runs", "0003_several_statements"),
        ("runs", "0004_output"),
        ("runs", "0005_unattended"),
        ("runs", "0006_guards"),
        ("runs", "0007_keeping"),
        ("runs", "0008_workers"),
        ("runs", "0009_delivery_folders"),
        ("runs", "0010_night"),
        ("runs", "0011_unfinished"),
        ("runs", "0012_kept_files"),
        ("runs", "0013_private_values"),
        ("runs", "0014_deliveries"),
        ("runs", "0015_pulses"),
        ("runs", "0016_identity"),
        ("runs", "0017_delivery_folders_seen"),
        ("runs", "0018_folders_to_clear"),
        ("runs", "0019_backfills"),
        ("runs", "0020_published_and_owned_names"),
        ("runs", "0021_what_was_published"),
    ]

    initial = True

    dependencies = [
        ("extracts", "0001_squashed_0007_keeping"),
        ("schedules", "0001_squashed_0007_set_aside"),
        ("sources", "0001_squashed_0003_quiet_hours"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.CreateModel(
            name="DeliveryFolder",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("path", models.CharField(max_length=1000, unique=True)),
                ("mount", models.CharField(max_length=1000)),
            ],
        ),
        migrations.CreateModel(
            name="Identity",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("ledger", models.CharField(max_length=32)),
                ("sealed", models.TextField()),
                ("store_mark", models.CharField(blank=True, default="", max_length=64)),
            ],
        ),
        migrations.CreateModel(
            name="Pulse",
            fields=[
                ("name", models.CharField(max_length=32, primary_key=True, serialize=False)),
                ("at", models.DateTimeField()),
                ("by", models.CharField(max_length=300)),
            ],
        ),
        migrations.CreateModel(
            name="Worker",
            fields=[
                ("id", models.CharField(max_length=64, primary_key=True, serialize=False)),
                ("host", models.CharField(max_length=255)),
                ("pid", models.IntegerField()),
                ("places", models.PositiveSmallIntegerField()),
                ("beat", models.BigIntegerField(default=0)),
                ("beat_at", models.DateTimeField(null=True)),
                ("release", models.CharField(blank=True, default="", max_length=32)),
                ("store_mark", models.CharField(blank=True, default="", max_length=32)),
                ("clock_seconds", models.FloatField(default=0.0)),
                ("draining", models.BooleanField(default=False)),
                ("started_at", models.DateTimeField(auto_now_add=True)),
                ("gone_at", models.DateTimeField(null=True)),
            ],
        ),
        migrations.CreateModel(
            name="Backfill",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("first", models.DateField()),
                ("last", models.DateField()),
                ("again", models.BooleanField(default=False)),
                ("deliver", models.BooleanField(default=True)),
                ("started_at", models.DateTimeField(auto_now_add=True)),
                ("cancelled_by", models.CharField(blank=True, default="", max_length=64)),
                ("told", models.BooleanField(default=False)),
                (
                    "person",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.PROTECT, related_name="+", to=settings.AUTH_USER_MODEL
                    ),
                ),
                (
                    "schedule",
                    models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name="+", to="schedules.schedule"),
                ),
            ],
            options={
                "ordering": ["-id"],
            },
        ),
        migrations.CreateModel(
            name="Run",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("step", models.PositiveSmallIntegerField(default=1)),
                ("turn", models.PositiveSmallIntegerField(default=0)),
                ("data_date", models.DateField()),
                ("due_at", models.DateTimeField()),
                ("values", models.JSONField(default=dict)),
                ("values_in_effect", models.JSONField(default=dict)),
                ("formats", models.JSONField(default=list)),
                ("state", models.CharField(default="queued", max_length=16)),
                ("not_before", models.DateTimeField(null=True)),
                ("wait_until", models.DateTimeField(null=True)),
                ("waits_for", models.CharField(blank=True, default="", max_length=400)),
                ("queue_order", models.DateTimeField(default=django.utils.timezone.now)),
                ("priority", models.SmallIntegerField(default=0)),
                ("attempts_most", models.PositiveSmallIntegerField(default=3)),
                ("give_up_at", models.DateTimeField(null=True)),
                ("finish_by", models.DateTimeField(null=True)),
                ("deliver_into", models.CharField(blank=True, default="", max_length=500)),
                ("backfill", models.BooleanField(default=False)),
                ("store_only", models.BooleanField(default=False)),
                ("published", models.BooleanField(default=False)),
                ("compared", models.JSONField(null=True)),
                ("held", models.CharField(blank=True, default="", max_length=8)),
                ("held_note", models.CharField(blank=True, default="", max_length=400)),
                ("held_by", models.CharField(blank=True, default="", max_length=64)),
                ("delivery", models.CharField(blank=True, default="", max_length=9)),
                ("delivery_plan", models.JSONField(null=True)),
                ("delivery_error", models.JSONField(null=True)),
                ("delivery_attempts", models.PositiveSmallIntegerField(default=0)),
                ("deliver_at", models.DateTimeField(null=True)),
                ("deliver_until", models.DateTimeField(null=True)),
                ("findings", models.JSONField(default=list)),
                ("stage", models.CharField(blank=True, default="", max_length=16)),
                ("stages", models.JSONField(default=list)),
                ("identity", models.JSONField(default=dict)),
                ("late", models.BooleanField(default=False)),
                ("warned", models.BooleanField(default=False)),
                ("empty", models.BooleanField(default=False)),
                ("attempt", models.PositiveSmallIntegerField(default=0)),
                ("failures", models.PositiveSmallIntegerField(default=0)),
                ("lost", models.PositiveSmallIntegerField(default=0)),
                ("cancel_asked_by", models.CharField(blank=True, default="", max_length=64)),
                ("rows", models.BigIntegerField(null=True)),
                ("bytes_read", models.BigIntegerField(null=True)),
                ("columns", models.JSONField(default=list)),
                ("statements", models.JSONField(default=list)),
                ("warnings", models.JSONField(default=list)),
                ("error", models.JSONField(null=True)),
                ("publishing", models.JSONField(null=True)),
                ("queued_at", models.DateTimeField(auto_now_add=True)),
                ("started_at", models.DateTimeField(null=True)),
                ("ended_at", models.DateTimeField(null=True)),
                (
                    "again_of",
                    models.ForeignKey(null=True, on_delete=django.db.models.deletion.PROTECT, related_name="+", to="runs.run"),
                ),
                (
                    "due_time",
                    models.ForeignKey(
                        null=True, on_delete=django.db.models.deletion.PROTECT, related_name="runs", to="schedules.duetime"
                    ),
                ),
                (
                    "environment",
                    models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name="+", to="sources.environment"),
                ),
                (
                    "extract",
                    models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name="runs", to="extracts.extract"),
                ),
                (
                    "of_backfill",
                    models.ForeignKey(
                        null=True, on_delete=django.db.models.deletion.PROTECT, related_name="runs", to="runs.backfill"
                    ),
                ),
                (
                    "revision",
                    models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name="+", to="extracts.revision"),
                ),
                (
                    "source",
                    models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name="runs", to="sources.source"),
                ),
                (
                    "started_by",
                    models.ForeignKey(
                        null=True, on_delete=django.db.models.deletion.PROTECT, related_name="+", to=settings.AUTH_USER_MODEL
                    ),
                ),
                (
                    "deliverer",
                    models.ForeignKey(
                        null=True, on_delete=django.db.models.deletion.SET_NULL, related_name="deliveries", to="runs.worker"
                    ),
                ),
                (
                    "worker",
                    models.ForeignKey(
                        null=True, on_delete=django.db.models.deletion.SET_NULL, related_name="runs", to="runs.worker"
                    ),
                ),
            ],
            options={
                "ordering": ["-id"],
            },
        ),
        migrations.CreateModel(
            name="LogLine",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("attempt", models.PositiveSmallIntegerField()),
                ("at", models.DateTimeField()),
                ("stage", models.CharField(max_length=16)),
                ("level", models.CharField(max_length=8)),
                ("text", models.TextField()),
                ("run", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="log", to="runs.run")),
            ],
            options={
                "ordering": ["id"],
            },
        ),
        migrations.CreateModel(
            name="DeliveredName",
            fields=[
                ("key", models.CharField(max_length=64, primary_key=True, serialize=False)),
                ("path", models.TextField()),
                (
                    "environment",
                    models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="+", to="sources.environment"),
                ),
                (
                    "extract",
                    models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="+", to="extracts.extract"),
                ),
                ("run", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="+", to="runs.run")),
            ],
        ),
        migrations.CreateModel(
            name="ResultFile",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("attempt", models.PositiveSmallIntegerField()),
                ("name", models.CharField(max_length=255)),
                ("format", models.CharField(max_length=32)),
                ("media_type", models.CharField(max_length=100)),
                ("rows", models.BigIntegerField()),
                ("bytes", models.BigIntegerField()),
                ("sha256", models.CharField(max_length=64)),
                ("statement", models.PositiveSmallIntegerField(default=0)),
                ("part", models.PositiveIntegerField(null=True)),
                ("packing", models.CharField(default="none", max_length=16)),
                ("options", models.JSONField(default=dict)),
                ("contents", models.JSONField(default=list)),
                ("sheets", models.JSONField(default=list)),
                ("content", models.CharField(blank=True, default="", max_length=64)),
                ("removed_at", models.DateTimeField(null=True)),
                ("delivered_path", models.CharField(blank=True, default="", max_length=1000)),
                ("delivered_also", models.JSONField(default=list)),
                ("run", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="files", to="runs.run")),
            ],
            options={
                "ordering": ["id"],
                "indexes": [models.Index(condition=models.Q(("removed_at", None)), fields=["run"], name="kept_files")],
                "constraints": [models.UniqueConstraint(fields=("run", "name"), name="one_file_of_a_name")],
            },
        ),
        migrations.CreateModel(
            name="IdempotentCall",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("key", models.CharField(max_length=128)),
                ("body_hash", models.CharField(max_length=64)),
                ("called_at", models.DateTimeField(auto_now_add=True)),
                (
                    "person",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="+", to=settings.AUTH_USER_MODEL
                    ),
                ),
                ("run", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="+", to="runs.run")),
            ],
            options={
                "constraints": [models.UniqueConstraint(fields=("person", "key"), name="one_call_per_key")],
            },
        ),
        migrations.CreateModel(
            name="FolderToClear",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("folder", models.CharField(max_length=1000)),
                ("since", models.DateTimeField(auto_now_add=True)),
                ("run", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="+", to="runs.run")),
            ],
            options={
                "constraints": [models.UniqueConstraint(fields=("run", "folder"), name="one_clearing_of_a_folder")],
            },
        ),
        migrations.AddIndex(
            model_name="run",
            index=models.Index(condition=models.Q(("state", "queued")), fields=["queue_order"], name="queued_runs"),
        ),
        migrations.AddIndex(
            model_name="run",
            index=models.Index(condition=models.Q(("state", "waiting")), fields=["wait_until"], name="waiting_runs"),
        ),
        migrations.AddIndex(
            model_name="run",
            index=models.Index(
                condition=models.Q(models.Q(("finish_by", None), _negated=True), ("late", False)),
                fields=["finish_by"],
                name="runs_to_finish_by",
            ),
        ),
        migrations.AddIndex(
            model_name="run",
            index=models.Index(condition=models.Q(("state", "running")), fields=["worker"], name="running_runs"),
        ),
        migrations.AddIndex(
            model_name="run",
            index=models.Index(fields=["extract", "-id"], name="runs_of_extract"),
        ),
        migrations.AddIndex(
            model_name="run",
            index=models.Index(
                condition=models.Q(("published", True), ("state", "finished")),
                fields=["extract", "environment", "-data_date", "-due_at", "-id"],
                name="published_runs",
            ),
        ),
        migrations.AddIndex(
            model_name="run",
            index=models.Index(fields=["queued_at"], name="runs_by_moment"),
        ),
        migrations.AddIndex(
            model_name="run",
            index=models.Index(
                condition=models.Q(("state__in", ("waiting", "queued", "running"))), fields=["due_time"], name="unfinished_runs"
            ),
        ),
        migrations.AddIndex(
            model_name="run",
            index=models.Index(condition=models.Q(("held", "held")), fields=["id"], name="held_runs"),
        ),
        migrations.AddIndex(
            model_name="run",
            index=models.Index(condition=models.Q(("delivery", "waiting")), fields=["deliver_at"], name="runs_to_deliver"),
        ),
        migrations.AddIndex(
            model_name="run",
            index=models.Index(
                condition=models.Q(("delivery__in", ("under way", "failed"))), fields=["id"], name="deliveries_open"
            ),
        ),
        migrations.AddConstraint(
            model_name="run",
            constraint=models.UniqueConstraint(fields=("due_time", "step", "turn"), name="one_run_per_step_and_turn"),
        ),
    ]
