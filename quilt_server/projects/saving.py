"""A project as one file: a zip of its originals, its states, its layouts and kept tries, with a manifest that proves each part. Documented in `docs/formats.md`."""

from __future__ import annotations

import hashlib
import json
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from django.utils import timezone

from . import files
from .models import Layout, Project, Snapshot, SourceFile
from .room import named_by
from .stale import fresh_inputs
from .state import all_work

FORMAT, VERSION = "untold quilt project", 1
NEEDS = 1  # the oldest version of this format whose readers understand what is written now
BLOBS = ("transforms", "findings", "members", "picture")
FILE_FIELDS = ("name", "original_id", "unit_m", "companions", "warnings", "materials", "revision", "operation", "before_id")
LAYOUT_FIELDS = ("kind", "name", "figures", "recipe", "channel", "measured", "pieces", "discarded", "sheet", "inputs")
SNAPSHOT_FIELDS = ("parent_id", "label", "layout_id", "files", "left_out", "settings", "kept", "work")


def save(project: Project, target: Path, history: bool) -> None:
    """Write a project into a file.

    Parameters
    ----------
    history : with the steps that led to its state, and all tries; else the state and the tries that it keeps
    """
    snapshots = list(_chain(project.head)) if history else [s for s in (project.head,) if s is not None]
    sources = _sources({f for s in snapshots for f in s.files})
    layouts = _layouts(project, snapshots, history)
    tables = {
        "project": {"name": project.name},
        "files": [{"id": f.pk, **{k: getattr(f, k) for k in FILE_FIELDS}} for f in sources],
        "layouts": [{"id": x.pk, **{k: getattr(x, k) for k in LAYOUT_FIELDS}} for x in layouts],
        "snapshots": [
            {"id": s.pk, **{k: getattr(s, k) for k in SNAPSHOT_FIELDS}} | ({} if history else {"work": all_work(s)}) for s in snapshots
        ],
        "head": project.head_id,
        "fresh": fresh_inputs(project.head),
    }
    shas = named_by(sources) | {p["sha"] for s in snapshots for p in s.settings.get("pictures", {}).values()}
    listed: list[dict[str, Any]] = []
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED, compresslevel=3) as archive:

        def put(path: str, body: bytes) -> None:
            archive.writestr(path, body)
            listed.append({"path": path, "bytes": len(body), "sha256": hashlib.sha256(body).hexdigest()})

        put("project.json", json.dumps(tables, allow_nan=False).encode())
        for sha in sorted(shas):
            put(f"originals/{sha}", files.get(sha))
        for x in layouts:
            for name in BLOBS:
                put(f"layouts/{x.pk}/{name}", bytes(getattr(x, name)))
        manifest = {
            "format": FORMAT,
            "version": VERSION,
            "needs": NEEDS,
            "saved": timezone.now().isoformat(),
            "history": history,
            "parts": listed,
        }
        archive.writestr("manifest.json", json.dumps(manifest, indent=1))


def _chain(head: Snapshot | None) -> Iterator[Snapshot]:
    while head is not None:
        yield head
        head = head.parent


def _sources(wanted: set[int]) -> list[SourceFile]:
    """Files with all that their UVs were made from, in the order in which they came."""
    found = {f.pk: f for f in SourceFile.objects.filter(pk__in=wanted)}
    while older := {f.before_id for f in found.values() if f.before_id} - set(found):
        found |= {f.pk: f for f in SourceFile.objects.filter(pk__in=older)}
    return [found[k] for k in sorted(found)]


def _layouts(project: Project, snapshots: list[Snapshot], history: bool) -> list[Layout]:
    wanted = {s.layout_id for s in snapshots if s.layout_id} | {int(v) for s in snapshots for v in s.kept.values() if v}
    if history:
        wanted |= set(project.layouts.filter(kind="pack", discarded=False).values_list("pk", flat=True))
    return list(Layout.objects.filter(pk__in=wanted, project=project).order_by("pk"))
