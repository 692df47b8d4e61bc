from django.db import migrations


def renamed(plan):
    """A plan of a delivery with the words of today."""
    own = {"replaces": plan["replaces"], "mounts": plan.get("mounts", {})} if plan["moves"] else {}
    rest = {key: plan[key] for key in ("moves", "wished", "delivered") if key in plan}
    return {"kind": "folder", "targets": plan["folders"], **rest, "own": own}


def plans(apps, editor):
    Run = apps.get_model("runs", "Run")
    for run in Run.objects.exclude(delivery_plan__isnull=True, publishing__isnull=True).iterator():
        if run.delivery_plan and "folders" in run.delivery_plan:
            run.delivery_plan = renamed(run.delivery_plan)
        intent = (run.publishing or {}).get("delivery")
        if intent and "folders" in intent:
            run.publishing = {**run.publishing, "delivery": renamed(intent)}
        run.save(update_fields=["delivery_plan", "publishing"])


class Migration(migrations.Migration):
    dependencies = [("runs", "0027_rules")]

    operations = [migrations.RunPython(plans, migrations.RunPython.noop)]
