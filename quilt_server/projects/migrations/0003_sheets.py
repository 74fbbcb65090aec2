"""Several sheets: tries know theirs, snapshots what each sheet keeps; pictures of materials; joined islands; figures by sheet."""

from django.db import migrations, models


def by_sheet(apps, schema_editor):
    """Figures of the only sheet that there was, and its kept try."""
    layout_model, snapshot = apps.get_model("projects", "Layout"), apps.get_model("projects", "Snapshot")
    for layout in layout_model.objects.only("figures").iterator(chunk_size=100):
        if "sheets" not in layout.figures:
            layout.figures = layout.figures | {"sheets": {"1": layout.figures}}
            layout.save(update_fields=["figures"])
    for s in snapshot.objects.filter(layout__kind="pack").iterator(chunk_size=100):
        s.kept = {"1": s.layout_id}
        s.save(update_fields=["kept"])


class Migration(migrations.Migration):
    dependencies = [("projects", "0002_readings")]

    operations = [
        migrations.AddField("sourcefile", "materials", models.JSONField(default=list)),
        migrations.AddField("reading", "welded", models.BooleanField(default=False)),
        migrations.RemoveConstraint("reading", "one_reading_of_a_channel"),
        migrations.AddConstraint(
            model_name="reading",
            constraint=models.UniqueConstraint(fields=("file", "channel", "welded"), name="one_reading_of_a_channel"),
        ),
        migrations.AddField("layout", "sheet", models.IntegerField(default=1)),
        migrations.AddField("layout", "members", models.BinaryField(default=b"")),
        migrations.AddField("layout", "inputs", models.JSONField(default=dict)),
        migrations.AddField("snapshot", "kept", models.JSONField(default=dict)),
        migrations.RunPython(by_sheet, migrations.RunPython.noop),
    ]
