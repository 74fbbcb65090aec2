"""Originals and outputs move from the database into files of the data folder; what readings knew of areas is kept beside them."""


from django.db import migrations, models


def to_files(apps, schema_editor):
    """Write every original as a file, one after the other, so that memory holds one at a time."""
    from quilt_server.projects.files import path_of, write_whole

    original = apps.get_model("projects", "Original")
    for sha in original.objects.values_list("sha", flat=True):
        row = original.objects.get(pk=sha)
        data = bytes(row.data)
        if not path_of(sha).exists():
            write_whole(path_of(sha), data)
        original.objects.filter(pk=sha).update(size=len(data))


class Migration(migrations.Migration):
    dependencies = [("projects", "0003_sheets")]

    operations = [
        migrations.AddField("original", "size", models.BigIntegerField(default=0)),
        migrations.RunPython(to_files, migrations.RunPython.noop),
        migrations.RemoveField("original", "data"),
        migrations.RemoveField("reading", "areas"),
        migrations.AddField("layout", "measured", models.IntegerField(default=0)),
        migrations.RemoveField("job", "output"),
        migrations.AddField("job", "output_sha", models.CharField(default="", max_length=64)),
    ]
