"""Readings: what a file holds in each UV channel, apart from the file; findings of layouts."""

import django.db.models.deletion
from django.db import migrations, models


def move(apps, schema_editor):
    """What files held of their first channel becomes a reading."""
    file_model, reading = apps.get_model("projects", "SourceFile"), apps.get_model("projects", "Reading")
    for file in file_model.objects.all().iterator(chunk_size=20):
        reading.objects.create(file=file, channel=0, objects_info=file.objects_info, areas=file.areas, geometry=file.geometry)


class Migration(migrations.Migration):
    dependencies = [("projects", "0001_initial")]

    operations = [
        migrations.CreateModel(
            name="Reading",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("channel", models.IntegerField(default=0)),
                ("objects_info", models.JSONField(default=list)),
                ("areas", models.BinaryField()),
                ("geometry", models.BinaryField()),
                ("file", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="readings", to="projects.sourcefile")),
            ],
        ),
        migrations.AddConstraint(
            model_name="reading",
            constraint=models.UniqueConstraint(fields=("file", "channel"), name="one_reading_of_a_channel"),
        ),
        migrations.AddField("layout", "channel", models.IntegerField(default=0)),
        migrations.AddField("layout", "findings", models.BinaryField(default=b"")),
        migrations.AddField("layout", "pieces", models.JSONField(default=list)),
        migrations.RunPython(move, migrations.RunPython.noop),
        migrations.RemoveField("sourcefile", "objects_info"),
        migrations.RemoveField("sourcefile", "areas"),
        migrations.RemoveField("sourcefile", "geometry"),
    ]
