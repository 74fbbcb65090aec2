"""A file whose UVs were made anew knows the one that it was made from."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("projects", "0005_transforms")]
    operations = [
        migrations.AddField(
            "sourcefile",
            "before",
            models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, related_name="+", to="projects.sourcefile"),
        ),
    ]
