"""The field's own words: what a layout holds are transforms, and how an island may turn is its rotation."""

from django.db import migrations


def _rotations(apps, editor):
    """Settings, recipes and inputs that say `turns` say `rotations` from now on."""
    for model, fields in (("Snapshot", ("settings",)), ("Layout", ("recipe", "inputs"))):
        rows = apps.get_model("projects", model)
        for row in rows.objects.only("pk", *fields).iterator():
            changed = [f for f in fields if isinstance(getattr(row, f), dict) and "turns" in getattr(row, f)]
            for field in changed:
                value = dict(getattr(row, field))
                value["rotations"] = value.pop("turns")
                setattr(row, field, value)
            if changed:
                row.save(update_fields=changed)
    for row in apps.get_model("projects", "Job").objects.filter(kind="settings").only("pk", "params").iterator():
        settings = row.params.get("settings")
        if isinstance(settings, dict) and "turns" in settings:
            row.params["settings"]["rotations"] = settings.pop("turns")
            row.save(update_fields=["params"])


class Migration(migrations.Migration):
    dependencies = [("projects", "0004_files")]
    operations = [
        migrations.RenameField("layout", "tables", "transforms"),
        migrations.RunPython(_rotations, migrations.RunPython.noop),
    ]
