from django.db import migrations
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
    """Before the rules, and in a transaction of its own: the database changes no table in one that has changed its rows."""

    dependencies = [
        ("runs", "0001_squashed_0021_what_was_published"),
    ]

    operations = [migrations.RunPython(tidy, migrations.RunPython.noop)]
