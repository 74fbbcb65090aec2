"""UVs of a file's meshes that were made here stand beside its original, and what made them."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("projects", "0006_before")]

    operations = [
        migrations.AddField("sourcefile", "revision", models.CharField(max_length=64, default="")),
        migrations.AddField("sourcefile", "operation", models.JSONField(default=dict)),
    ]
