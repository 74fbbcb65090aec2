"""What only rounding keeps apart is one point from the start: there is one reading of a channel, in which those islands are joined."""

from django.db import migrations, models


def joined(apps, schema_editor):
    """Of two readings of a channel the one that joined islands stays; layouts were made of the channel alone."""
    reading = apps.get_model("projects", "Reading")
    for r in reading.objects.filter(welded=True).only("file_id", "channel"):
        reading.objects.filter(file_id=r.file_id, channel=r.channel, welded=False).delete()
    for layout in apps.get_model("projects", "Layout").objects.exclude(inputs={}).only("inputs"):
        if len(layout.inputs.get("read", [])) > 1:
            layout.inputs["read"] = layout.inputs["read"][:1]
            layout.save(update_fields=["inputs"])


class Migration(migrations.Migration):

    dependencies = [("projects", "0012_blobs")]

    operations = [
        migrations.RunPython(joined, migrations.RunPython.noop),
        migrations.RemoveConstraint(model_name="reading", name="one_reading_of_a_channel"),
        migrations.RemoveField(model_name="reading", name="welded"),
        migrations.AddConstraint(model_name="reading", constraint=models.UniqueConstraint(fields=("file", "channel"), name="one_reading_of_a_channel")),
    ]
