from django.conf import settings
from django.db import migrations, models
from django.db.models import F
from django.db.models.functions import Coalesce, Now

LIVE = ("waiting", "queued", "running")
UNKNOWN = {"code": "error", "message": "its cause was not recorded.", "hint": "", "transient": False, "facts": {}}


def tidy(apps, _editor):
    """Fields that an earlier release left beside a state that they do not go with."""
    runs = apps.get_model("runs", "Run").objects
    runs.filter(state="waiting", wait_until=None).update(wait_until=Now())
    runs.exclude(state="waiting").update(wait_until=None)
    runs.filter(state__in=LIVE).update(ended_at=None)
    runs.exclude(state__in=LIVE).filter(ended_at=None).update(ended_at=Coalesce("started_at", "queued_at"))
    runs.filter(state__in=("running", "finished"), started_at=None).update(started_at=F("queued_at"))
    runs.filter(state="finished").update(error=None)
    runs.filter(state__in=("failed", "not run"), error__isnull=True).update(error=UNKNOWN)
    runs.exclude(state="running").exclude(state="finished", delivery="under way").update(publishing=None)
    runs.filter(delivery__in=("waiting", "under way", "failed", "left"), delivery_plan__isnull=True).update(delivery="")
    runs.filter(delivery__in=("", "delivered")).update(delivery_error=None, deliver_at=None)
    runs.filter(delivery__in=("failed", "left")).update(deliver_at=None)
    runs.filter(delivery="failed", delivery_error__isnull=True).update(delivery_error=UNKNOWN)
    runs.filter(delivery="delivered").update(delivery_plan=None)
    runs.filter(delivery="waiting", deliver_at=None).update(deliver_at=Now())
    runs.filter(delivery__in=("waiting", "under way"), deliver_until=None).update(deliver_until=Now())
    runs.filter(held="rejected").update(delivery_plan=None)


class Migration(migrations.Migration):
    dependencies = [
        ("extracts", "0001_squashed_0007_keeping"),
        ("runs", "0001_squashed_0021_what_was_published"),
        ("schedules", "0008_decisions"),
        ("sources", "0001_squashed_0003_quiet_hours"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.RunPython(tidy, migrations.RunPython.noop),
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
