"""Projects of the first version of the database live on: what files held of their only channel becomes a reading."""

from __future__ import annotations

import pytest
from django.db import connection
from django.db.migrations.executor import MigrationExecutor

from quilt_server.checks import whole_settings
from quilt_server.projects import files
from quilt_server.projects.faults import faults_of
from quilt_server.projects.models import Project, Snapshot
from quilt_server.projects.objects import object_rows
from quilt_server.projects.state import RECIPE, settings_of


@pytest.mark.django_db(transaction=True)
def test_what_files_held_becomes_readings() -> None:
    executor = MigrationExecutor(connection)
    old = executor.migrate([("projects", "0001_initial")]).apps
    project = old.get_model("projects", "Project").objects.create(name="Old")
    original = old.get_model("projects", "Original").objects.create(sha="0" * 64, data=b"v 0 0 0")
    info = [{"name": "plane", "islands": [0, 1]}]
    file = old.get_model("projects", "SourceFile").objects.create(
        project=project, name="a.obj", original=original, objects_info=info, areas=b"areas", geometry=b"geometry"
    )
    ruled = {"turns": {"1:0": "free"}, "padding_px": 3.0}
    snapshot = old.get_model("projects", "Snapshot").objects.create(project=project, label="Turn", settings=ruled)
    executor = MigrationExecutor(connection)
    new = executor.migrate(executor.loader.graph.leaf_nodes()).apps
    kept = new.get_model("projects", "Snapshot").objects.get(pk=snapshot.pk).settings
    assert kept == {"rotations": {"1:0": "free"}, "padding_px": 3.0}, "settings have the names of today"
    reading = new.get_model("projects", "Reading").objects.get()
    assert reading.file_id == file.pk and reading.channel == 0 and reading.objects_info == info
    assert bytes(reading.geometry) == b"geometry"
    assert files.get("0" * 64) == b"v 0 0 0", "originals are files now"


@pytest.mark.django_db
def test_settings_of_older_snapshots_are_filled_up() -> None:
    """A snapshot written before a setting existed takes its usual value; without findings it has no faults to show."""
    project = Project.objects.create(name="Old")
    snapshot = Snapshot.objects.create(project=project, label="Old", settings={"map_px": 512, "padding_px": 2.0})
    found = settings_of(snapshot)
    assert found["map_px"] == 512 and found["padding_px"] == 2.0
    assert {k: v for k, v in found.items() if k not in ("map_px", "padding_px")} == {
        k: v for k, v in RECIPE.items() if k not in ("map_px", "padding_px")
    }
    older = whole_settings(found | {"sheets": [{"id": 1, "name": "Sheet 1"}]})
    assert older["sheets"][0]["columns"] == 1 and older["sheets"][0]["channel"] is None
    assert settings_of(None) == RECIPE and faults_of(snapshot) == [] and object_rows(snapshot) == []
