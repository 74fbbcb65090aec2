"""What is kept of a batch: the job, and what became of each asset. The results themselves are files, see `library.results_of`."""

from __future__ import annotations

from typing import ClassVar

from django.contrib.auth.models import User
from django.db import models

from ..projects.asker import current_id


class Batch(models.Model):
    """One job over a folder of the library. state: waiting, running, done, failed, stopped, interrupted.

    `folder`: below the library; `group`: see `jobfile.batch.assets_of`; `job`: the values of the job file; `seconds`: that its last run took; `begun`: when that began.
    """

    OVER: ClassVar = ("done", "failed", "stopped", "interrupted")
    name = models.CharField(max_length=120)
    created = models.DateTimeField(auto_now_add=True)
    owner = models.ForeignKey(User, null=True, on_delete=models.SET_NULL, related_name="+", default=current_id)
    folder = models.CharField(max_length=1000)
    group = models.CharField(max_length=200, default="file")
    job = models.JSONField(default=dict)
    state = models.CharField(max_length=16, default="waiting")
    cancel = models.BooleanField(default=False)
    begun = models.DateTimeField(null=True)
    seconds = models.FloatField(default=0.0)
    workers = models.IntegerField(default=0)
    error = models.TextField(default="")


class Asset(models.Model):
    """An asset of a batch: its files below `folder`, which is below the library. state: waiting, done, unchanged, failed. `row`: what a batch tells of it; `rank` and
    `far` put what needs somebody's eye first, see `jobfile.summary.place_of`."""

    batch = models.ForeignKey(Batch, on_delete=models.CASCADE, related_name="assets")
    name = models.CharField(max_length=1000)
    folder = models.CharField(max_length=1000)
    files = models.JSONField(default=list)
    state = models.CharField(max_length=16, default="waiting")
    rank = models.IntegerField(default=9)
    far = models.FloatField(default=0.0)
    row = models.JSONField(default=dict)

    class Meta:
        constraints: ClassVar = [models.UniqueConstraint(fields=["batch", "name"], name="an_asset_once")]
        indexes: ClassVar = [models.Index(fields=["batch", "rank", "far", "name"])]
