"""A saved project opened: every part is proven before anything is believed, and rows get numbers of their own here. See `saving`."""

from __future__ import annotations

import hashlib
import json
import zipfile
from collections.abc import Callable, Mapping
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from django.db import connections
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from quilt_cli.child import FINDING, Limit, bounded, bytes_of
from quilt_core.arrays import pack_arrays, unpack_arrays
from quilt_core.errors import FileError
from quilt_core.words import cut

from ..archives import DAMAGED
from ..schemas import Settings
from . import files as kept_files
from .copies import figures_of_copy, key_of_copy, settings_of_copy
from .measuring import VERSION as MEASURED
from .measuring import measure
from .models import Layout, Project, Reading, Snapshot, SourceFile
from .reading import choose, parts_of
from .saving import BLOBS, FORMAT, VERSION
from .sources import kept_scene, make_reading, store
from .stale import inputs_of
from .state import RECIPE

_LARGEST_TABLE = 512 << 20
Number = int


class _Row(BaseModel):
    """What a newer program added is left out."""

    model_config = ConfigDict(extra="ignore")
    id: Number


class _File(_Row):
    name: str = Field(max_length=400)
    original_id: str = Field(pattern="^[0-9a-f]{64}$")
    unit_m: float = Field(ge=1e-6, le=1e6)
    companions: dict[str, str] = {}
    warnings: list[str] = []
    materials: list[dict[str, Any]] = []
    revision: str = Field("", pattern="^([0-9a-f]{64})?$")
    operation: dict[str, Any] = {}
    before_id: Number | None = None


class _Layout(_Row):
    kind: str = Field(max_length=16)
    name: str = Field("", max_length=120)
    figures: dict[str, Any] = {}
    recipe: dict[str, Any] = {}
    channel: int = Field(0, ge=0, le=7)
    measured: int = 0
    pieces: list[tuple[int, int, int]] = []
    discarded: bool = False
    sheet: int = 1
    inputs: dict[str, Any] = {}


class _Snapshot(_Row):
    parent_id: Number | None = None
    label: str = Field(max_length=120)
    layout_id: Number | None = None
    files: list[Number]
    left_out: list[str] = []
    settings: dict[str, Any] = {}
    kept: dict[str, Number] = {}


class _Tables(BaseModel):
    model_config = ConfigDict(extra="ignore")
    project: dict[str, Any] = {}
    files: list[_File]
    layouts: list[_Layout]
    snapshots: list[_Snapshot]
    head: Number | None
    fresh: dict[str, list[str]] = {}


class Opened:
    """The file of a project while it is opened. `say` tells how far it is."""

    def __init__(self, name: str, path: Path, say: Callable[[str, float], None]) -> None:
        self.name, self.say = name, say
        try:
            self.archive = zipfile.ZipFile(path)
            manifest = json.loads(self._read("manifest.json", 64 << 20))
            self.parts = {str(p["path"]): (int(p["bytes"]), str(p["sha256"])) for p in manifest["parts"]}
            if manifest["format"] != FORMAT:
                raise self.fail("it is no saved project", "Choose a file that was saved here, or bring meshes into a project.")
            needs = int(manifest["needs"])
        except (*DAMAGED, TypeError) as e:
            raise self.fail("it is no saved project, or damaged", "Save it again, or choose another file.") from e
        if needs > VERSION:
            raise self.fail(f"a newer program saved it (version {needs}; this one reads {VERSION})", "Bring this program up to date.")
        try:
            self.tables = _Tables.model_validate_json(self.part("project.json", _LARGEST_TABLE))
        except ValidationError as e:
            place = ".".join(str(x) for x in e.errors()[0]["loc"])
            raise self.fail(f"its table '{place[:60]}' is damaged", "Save it again.") from e

    def fail(self, what: str, remedy: str) -> FileError:
        """An error about this file."""
        return FileError(self.name, what, "", remedy)

    def _read(self, path: str, most: int) -> bytes:
        if self.archive.getinfo(path).file_size > most:
            raise ValueError(path)
        return self.archive.read(path)

    def part(self, path: str, most: int | None = None) -> bytes:
        """A part of the file, as it was saved.

        Raises
        ------
        FileError : it is missing or other than it was
        """
        size, sha = self.parts.get(path, (-1, ""))
        try:
            if not 0 <= size <= (most or size) or self.archive.getinfo(path).file_size != size:
                raise ValueError(path)
            body = self.archive.read(path)
        except DAMAGED as e:
            raise self.fail(f"its part '{path[:80]}' is missing or damaged", "Save it again, or copy the file again.") from e
        if hashlib.sha256(body).hexdigest() != sha:
            raise self.fail(f"its part '{path[:80]}' is not what was saved", "Save it again, or copy the file again.")
        return body

    def into(self, project: Project) -> None:
        """Make it the content of an empty project, which has no state before the last step of this.

        Raises
        ------
        QuiltError : damaged, or a file in it cannot be read
        """
        t = self.tables
        self.originals = {p.partition("/")[2] for p in self.parts if p.startswith("originals/")}
        for n, sha in enumerate(sorted(self.originals)):
            self.say("Taking its files out", 0.3 * n / max(1, len(self.originals)))
            body = self.part(f"originals/{sha}")
            if hashlib.sha256(body).hexdigest() != sha:
                raise self.fail(f"its original {sha[:12]} is not what it is called", "Save it again.")
            store(body)
        blobs = {x.id: {k: self.part(f"layouts/{x.id}/{k}") for k in BLOBS} for x in t.layouts}
        numbers = self._files(project)
        self._readings(numbers)
        self._snapshots(project, numbers, self._layouts(project, numbers, blobs))

    def named(self, project: Project) -> str:
        """Give the project the name that it was saved under."""
        name = cut(str(self.tables.project.get("name") or project.name), 116)
        Project.objects.filter(pk=project.pk).update(name=name)
        return name

    def _files(self, project: Project) -> dict[int, int]:
        numbers: dict[int, int] = {}
        for f in sorted(self.tables.files, key=lambda f: f.id):
            row = f.model_dump(exclude={"id", "before_id"})
            shas = {f.original_id, *f.companions.values(), *([f.revision] if f.revision else [])}
            shas |= {sha for m in f.materials for sha in m.get("images", {}).values()}
            # Only what came in the file itself: that the data folder has a hash says nothing about who may see it.
            if not shas <= self.originals:
                raise self.fail(f"what {f.name} was made of is not in it", "Save it again.")
            if f.before_id is not None and f.before_id not in numbers:
                raise self.fail(f"what {f.name} was made from is not in it", "Save it again.")
            made = SourceFile.objects.create(project=project, before_id=numbers.get(f.before_id) if f.before_id else None, **row)
            numbers[f.id] = made.pk
        return numbers

    def _readings(self, numbers: Mapping[int, int]) -> None:
        wanted = sorted(
            {
                (f, int(s.settings.get("channel_in", 0)), w)
                for s in self.tables.snapshots
                for f in s.files
                for w in {False, f in s.settings.get("welded", [])}
            }
        )
        for n, (old, channel, welded) in enumerate(wanted):
            if old not in numbers or not 0 <= channel <= 7:
                raise self.fail("a state in it names a file that is not in it", "Save it again.")
            file = SourceFile.objects.get(pk=numbers[old])
            self.say(f"Reading {file.name}", 0.3 + 0.5 * n / max(1, len(wanted)))
            _read(file, channel, welded).save()

    def _layouts(self, project: Project, numbers: Mapping[int, int], blobs: Mapping[int, Mapping[str, bytes]]) -> dict[int, Layout]:
        counts: dict[int, set[int]] = {}
        for r in Reading.objects.filter(file_id__in=numbers.values()).only("file_id", "objects_info"):
            counts.setdefault(r.file_id, set()).add(r.objects_info[0]["file_islands"] if r.objects_info else 0)
        out = {}
        files = dict(numbers)
        for x in self.tables.layouts:
            blob = {k: self._renumbered(blobs[x.id][k], files, counts, k == "transforms") for k in ("transforms", "members")}
            whole = all(p[0] in files for p in x.pieces)
            made = Layout(
                project=project, kind=x.kind, name=x.name, channel=x.channel, discarded=x.discarded, sheet=x.sheet, inputs={}, **blob,
                figures=figures_of_copy(x.figures, files), recipe=settings_of_copy(RECIPE | x.recipe, files) if x.recipe else {},
                picture=blobs[x.id]["picture"], pieces=[[files.get(f, 0), first, count] for f, first, count in x.pieces],
                measured=x.measured if x.measured == MEASURED and whole else 0, findings=blobs[x.id]["findings"] if x.measured == MEASURED and whole else b"",
            )  # fmt: skip
            if made.findings:
                self._checked(partial(unpack_arrays, made.findings))
            made.save()
            out[x.id] = made
        return out

    def _checked(self, work: Callable[[], Any]) -> Any:
        try:
            return work()
        except Exception as e:
            raise self.fail("one of its layouts is damaged", "Save it again.") from e

    def _renumbered(self, blob: bytes, files: Mapping[int, int], counts: Mapping[int, set[int]], rows: bool) -> bytes:
        if not blob:
            return b""
        found = self._checked(lambda: {int(k): np.array(v) for k, v in unpack_arrays(blob).items()})
        out = {}
        for old, values in found.items():
            if old not in files:
                continue
            if rows and (values.ndim != 2 or values.shape[1] != 5 or not np.isfinite(values).all() or np.abs(values).max(initial=0) > 1e9):
                raise self.fail("one of its layouts is damaged", "Save it again.")
            if files[old] in counts and len(values) not in counts[files[old]]:
                raise self.fail("one of its layouts is of other islands than its files have", "Save it again.")
            out[str(files[old])] = values
        return pack_arrays(out)

    def _snapshots(self, project: Project, numbers: Mapping[int, int], layouts: Mapping[int, Layout]) -> None:
        files, made = dict(numbers), dict[int, Snapshot]()
        for s in sorted(self.tables.snapshots, key=lambda s: s.id):
            if s.layout_id is not None and s.layout_id not in layouts:
                raise self.fail(f"the layout of its step '{cut(s.label, 40)}' is not in it", "Save it again.")
            try:
                settings = Settings(**settings_of_copy(RECIPE | s.settings, files)).model_dump()
            except (ValidationError, ValueError, KeyError, TypeError, AttributeError) as e:
                raise self.fail(f"the settings of its step '{s.label[:40]}' are damaged", "Save it again.") from e
            settings["pictures"] = {k: p for k, p in settings["pictures"].items() if p["sha"] in self.originals}
            layout = layouts.get(s.layout_id) if s.layout_id else None
            made[s.id] = Snapshot.objects.create(
                project=project, parent=made.get(s.parent_id) if s.parent_id else None, label=s.label, layout=layout, files=[files[f] for f in s.files],
                left_out=[key_of_copy(k, files) for k in s.left_out], settings=settings, kept={k: layouts[v].pk for k, v in s.kept.items() if v in layouts},
            )  # fmt: skip
            self._measured(made[s.id])
        head = made.get(self.tables.head) if self.tables.head is not None else None
        Project.objects.filter(pk=project.pk).update(head=head)
        if head is not None:
            now = inputs_of(head)
            for sheet, keys in self.tables.fresh.items():
                if sheet in head.kept and sheet.isdigit() and int(sheet) in now:
                    old = next((x.inputs for x in self.tables.layouts if x.id in layouts and layouts[x.id].pk == head.kept[sheet]), {})
                    inputs = {k: now[int(sheet)].get(k) if k in keys else old[k] for k in old}
                    Layout.objects.filter(pk=head.kept[sheet]).update(inputs=inputs)

    def _measured(self, snapshot: Snapshot) -> None:
        """Measure a state's layout where another version of the program did it last."""
        layout = snapshot.layout
        if layout is None or layout.measured == MEASURED:
            return
        self.say("Measuring its layouts", 0.9)
        parts = parts_of(choose(snapshot, whole=True))
        measure(layout, parts, parts.whole(unpack_arrays(bytes(layout.transforms))), snapshot.settings)
        layout.save()


def _read(file: SourceFile, channel: int, welded: bool) -> Reading:
    """What a file holds in a channel, not saved yet; read in a child with bounds, as one that is brought in is."""
    size = sum(kept_files.path_of(sha).stat().st_size for sha in (file.original_id, *file.companions.values()))
    connections.close_all()  # the child opens its own

    def work(limit: Limit) -> Reading:
        scene = kept_scene(file)
        limit.allow(FINDING, bytes_of(scene))
        return make_reading(file, scene, channel, welded)

    return bounded(work, file.name, size)
