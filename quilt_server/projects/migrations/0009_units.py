"""Files that say their unit were read at the size that they say, whatever unit was chosen for those that do not."""

from django.apps.registry import Apps
from django.db import migrations
from django.db.backends.base.schema import BaseDatabaseSchemaEditor

SAYS = (".gltf", ".glb", ".dae", ".usd", ".usda", ".usdc", ".usdz")


def as_they_say(apps: Apps, editor: BaseDatabaseSchemaEditor) -> None:
    """The factor of such files is 1."""
    for file in apps.get_model("projects", "SourceFile").objects.exclude(unit_m=1.0):
        if file.name.lower().endswith(SAYS):
            file.unit_m = 1.0
            file.save(update_fields=["unit_m"])


class Migration(migrations.Migration):
    dependencies = [("projects", "0008_proposals")]
    operations = [migrations.RunPython(as_they_say, migrations.RunPython.noop)]
