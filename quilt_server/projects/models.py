"""What is kept. Layouts and snapshots are never changed: undo moves a project's pointer among its snapshots."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, ClassVar

from django.contrib.auth.models import User
from django.db import models

from . import files
from .asker import current_id


class Project(models.Model):
    """The work on one set of files. `tried`: how many tries were made in it, forgotten ones too."""

    name = models.CharField(max_length=120)
    created = models.DateTimeField(auto_now_add=True)
    modified = models.DateTimeField(auto_now=True)
    deleted = models.DateTimeField(null=True)
    demo = models.BooleanField(default=False)
    tried = models.IntegerField(default=0)
    head = models.ForeignKey("Snapshot", null=True, on_delete=models.SET_NULL, related_name="+")
    owner = models.ForeignKey(User, null=True, on_delete=models.SET_NULL, related_name="+", default=current_id)


class Share(models.Model):
    """Somebody else who may look at a project, and perhaps change it."""

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="shares")
    user = models.ForeignKey(User, on_delete=models.CASCADE, related_name="+")
    change = models.BooleanField(default=False)

    class Meta:
        constraints: ClassVar = [models.UniqueConstraint(fields=["project", "user"], name="shared_once")]


class Original(models.Model):
    """An uploaded file, kept once in the data folder under its SHA-256; see `files`."""

    sha = models.CharField(max_length=64, primary_key=True)
    size = models.BigIntegerField(default=0)

    @property
    def data(self) -> bytes:
        """Its bytes."""
        return files.get(self.sha)


class ProjectBlob(models.Model):
    """Bytes that came in with a project, by their hash: who may see the project may see them, and nobody else, whatever is called by that hash anywhere."""

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="blobs")
    sha = models.CharField(max_length=64, db_index=True)

    class Meta:
        constraints: ClassVar = [models.UniqueConstraint(fields=["project", "sha"], name="held_once")]

    @staticmethod
    def hold(project_id: int, shas: Iterable[str]) -> None:
        """Bytes with these hashes belong to a project from now on."""
        rows = [ProjectBlob(project_id=project_id, sha=s) for s in sorted(set(shas))]
        ProjectBlob.objects.bulk_create(rows, ignore_conflicts=True)


class SourceFile(models.Model):
    """A mesh file of a project. `companions`: path to hash of the files beside it; `materials`: see `sources.materials_of`. `unit_m`: metres in one of its units; for
    formats that say that, how many times as large as they say everything is. `before`: the
    file with the UVs that these were made from, which its old pictures are read by; `revision`: hash of UVs that were made here (see `revisions`), by the
    `operation`, with its parameters."""

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="files")
    name = models.CharField(max_length=400)
    original = models.ForeignKey(Original, on_delete=models.PROTECT)
    unit_m = models.FloatField(default=1.0)
    companions = models.JSONField(default=dict)
    warnings = models.JSONField(default=list)
    materials = models.JSONField(default=list)
    revision = models.CharField(max_length=64, default="")
    operation = models.JSONField(default=dict)
    before = models.ForeignKey("self", null=True, on_delete=models.SET_NULL, related_name="+")

    def save(self, *args: Any, **given: Any) -> None:
        """Keep it; what it is made of belongs to its project."""
        super().save(*args, **given)
        ProjectBlob.hold(self.project_id, self.hashes())

    def hashes(self) -> set[str]:
        """Of everything that it needs."""
        images = {sha for m in self.materials for sha in m.get("images", {}).values()}
        return {self.original_id, *self.companions.values(), *images} | ({self.revision} if self.revision else set())


class Reading(models.Model):
    """What a file holds in one of its UV channels: its objects with their islands. `geometry`: see `geometry.py`; islands: see `sources`."""

    file = models.ForeignKey(SourceFile, on_delete=models.CASCADE, related_name="readings")
    channel = models.IntegerField(default=0)
    objects_info = models.JSONField(default=list)
    geometry = models.BinaryField()

    class Meta:
        constraints: ClassVar = [models.UniqueConstraint(fields=["file", "channel"], name="one_reading_of_a_channel")]


class Layout(models.Model):
    """One similarity per island of every file (`transforms`: npz, file id to (n, 5)) in one channel, with its proof by sheet.

    A try of the packer is of one `sheet`; `members` (npz, file id to (n,) bool; empty: all) are the islands that it laid. `inputs` is what it
    was made from, to tell when it is stale. `findings`: arrays of how its islands lie, over those of the meshes in `pieces` [file id, first island, count]; `measured`: by
    which version of measuring, 0 for never.
    """

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="layouts")
    created = models.DateTimeField(auto_now_add=True)
    kind = models.CharField(max_length=16)
    name = models.CharField(max_length=120, default="")
    figures = models.JSONField(default=dict)
    recipe = models.JSONField(default=dict)
    channel = models.IntegerField(default=0)
    transforms = models.BinaryField()
    findings = models.BinaryField(default=b"")
    measured = models.IntegerField(default=0)
    pieces = models.JSONField(default=list)
    picture = models.BinaryField(default=b"")
    discarded = models.BooleanField(default=False)
    sheet = models.IntegerField(default=1)
    members = models.BinaryField(default=b"")
    inputs = models.JSONField(default=dict)


class Snapshot(models.Model):
    """One state of a project: its files, left-out objects, settings and layout. `parent` is what undo goes back to.

    `kept`: the try that each sheet's layout came from, sheet number to layout id. `proposal`: it is only looked at: no step leads to it until it is taken.
    `broken`: it could not be shown, so that the project went back to the step before it; no step leads to it either.
    `author`: who made it, where people sign in. `work`: what led to it from its parent, see `doing`; of a state that began a project, all that was done before.
    """

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="snapshots")
    parent = models.ForeignKey("self", null=True, on_delete=models.SET_NULL, related_name="children")
    created = models.DateTimeField(auto_now_add=True)
    label = models.CharField(max_length=120)
    layout = models.ForeignKey(Layout, null=True, on_delete=models.PROTECT)
    files = models.JSONField(default=list)
    left_out = models.JSONField(default=list)
    settings = models.JSONField(default=dict)
    kept = models.JSONField(default=dict)
    proposal = models.BooleanField(default=False)
    broken = models.BooleanField(default=False)
    work = models.JSONField(default=list)
    author = models.ForeignKey(User, null=True, on_delete=models.SET_NULL, related_name="+", default=current_id)


class Job(models.Model):
    """Work for the worker process. state: waiting, running, done, failed, stopped, interrupted. `span`: which part of the whole the present step is,
    known in the process that works. `dropped`: what it left is wanted no more, see `made`."""

    OVER: ClassVar = ("done", "failed", "stopped", "interrupted")
    span = (0.0, 1.0)
    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="jobs")
    kind = models.CharField(max_length=16)
    state = models.CharField(max_length=16, default="waiting")
    created = models.DateTimeField(auto_now_add=True)
    params = models.JSONField(default=dict)
    progress = models.JSONField(default=dict)
    draft = models.BinaryField(default=b"")
    cancel = models.BooleanField(default=False)
    dropped = models.BooleanField(default=False)
    error = models.TextField(default="")
    result = models.JSONField(default=dict)
    output_sha = models.CharField(max_length=64, default="")
    asker = models.ForeignKey(User, null=True, on_delete=models.SET_NULL, related_name="+", default=current_id)

    @property
    def output(self) -> bytes:
        """What the job put out: a file of the data folder."""
        return files.get(self.output_sha)

    def save(self, *args: Any, **given: Any) -> None:
        """Keep it; what was uploaded for it belongs to its project."""
        super().save(*args, **given)
        if "update_fields" not in given:
            ProjectBlob.hold(self.project_id, (f["sha"] for f in self.params.get("files", ()) if isinstance(f, dict) and "sha" in f))

    def put_out(self, data: bytes) -> None:
        """Keep what the job puts out."""
        self.output_sha = files.put(data)
