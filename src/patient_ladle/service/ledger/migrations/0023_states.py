from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("extracts", "0001_squashed_0007_keeping"),
        ("runs", "0022_tidied_states"),
        ("schedules", "0008_decisions"),
        ("sources", "0001_squashed_0003_quiet_hours"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.AddConstraint(
            model_name="run",
            constraint=models.CheckConstraint(
                condition=models.Q(
                    models.Q(
                        ("ended_at__isnull", True),
                        ("publishing__isnull", True),
                        ("state", "waiting"),
                        ("wait_until__isnull", False),
                    ),
                    models.Q(
                        ("ended_at__isnull", True),
                        ("publishing__isnull", True),
                        ("state", "queued"),
                        ("wait_until__isnull", True),
                    ),
                    models.Q(
                        ("ended_at__isnull", True),
                        ("started_at__isnull", False),
                        ("state", "running"),
                        ("wait_until__isnull", True),
                    ),
                    models.Q(
                        ("ended_at__isnull", False),
                        ("error__isnull", True),
                        ("started_at__isnull", False),
                        ("state", "finished"),
                        ("wait_until__isnull", True),
                    ),
                    models.Q(
                        ("ended_at__isnull", False),
                        ("error__isnull", False),
                        ("publishing__isnull", True),
                        ("state", "failed"),
                        ("wait_until__isnull", True),
                    ),
                    models.Q(
                        ("ended_at__isnull", False),
                        ("publishing__isnull", True),
                        ("state", "cancelled"),
                        ("wait_until__isnull", True),
                    ),
                    models.Q(
                        ("ended_at__isnull", False),
                        ("error__isnull", False),
                        ("publishing__isnull", True),
                        ("state", "not run"),
                        ("wait_until__isnull", True),
                    ),
                    _connector="OR",
                ),
                name="state_of_a_run",
            ),
        ),
        migrations.AddConstraint(
            model_name="run",
            constraint=models.CheckConstraint(
                condition=models.Q(
                    models.Q(("deliver_at__isnull", True), ("delivery", ""), ("delivery_error__isnull", True)),
                    models.Q(
                        ("deliver_at__isnull", False),
                        ("deliver_until__isnull", False),
                        ("delivery", "waiting"),
                        ("delivery_plan__isnull", False),
                        ("publishing__isnull", True),
                        ("state", "finished"),
                    ),
                    models.Q(
                        ("deliver_until__isnull", False),
                        ("delivery", "under way"),
                        ("delivery_plan__isnull", False),
                        ("state", "finished"),
                    ),
                    models.Q(
                        ("deliver_at__isnull", True),
                        ("delivery", "delivered"),
                        ("delivery_error__isnull", True),
                        ("delivery_plan__isnull", True),
                        ("publishing__isnull", True),
                        ("state", "finished"),
                    ),
                    models.Q(
                        ("deliver_at__isnull", True),
                        ("delivery", "failed"),
                        ("delivery_error__isnull", False),
                        ("delivery_plan__isnull", False),
                        ("publishing__isnull", True),
                        ("state", "finished"),
                    ),
                    models.Q(
                        ("deliver_at__isnull", True),
                        ("delivery", "left"),
                        ("delivery_plan__isnull", False),
                        ("publishing__isnull", True),
                        ("state", "finished"),
                    ),
                    _connector="OR",
                ),
                name="delivery_of_a_run",
            ),
        ),
        migrations.AddConstraint(
            model_name="run",
            constraint=models.CheckConstraint(
                condition=models.Q(
                    ("held", ""),
                    models.Q(("held", "held"), ("state__in", ("running", "finished"))),
                    models.Q(("held", "released"), ("state__in", ("running", "finished"))),
                    models.Q(("delivery_plan__isnull", True), ("held", "rejected"), ("state__in", ("running", "finished"))),
                    _connector="OR",
                ),
                name="hold_of_a_run",
            ),
        ),
    ]
