"""New UVs for objects that have none or cannot be saved: each file that changes becomes one with other UVs, and everything else in it stays."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import StrictBool, StrictStr

from quilt_core import formats
from quilt_core.arrays import pack_arrays
from quilt_core.errors import QuiltError
from quilt_core.model.scene import Floats, Scene
from quilt_core.unwrap.meshes import Options, shelves
from quilt_core.unwrap.scenes import Figures, beyond_saving, figures, renewed
from quilt_core.uv.analysis import IDENTITY, MeshIslands, analyse

from ...projects.geometry import island_starts
from ...projects.keys import FileKeys
from ...projects.measuring import measure
from ...projects.models import Job, Layout, Snapshot, SourceFile
from ...projects.opened import arrays_of
from ...projects.reading import choose, parts_of
from ...projects.sheets import of_sheet, sheets
from ...projects.sources import make_reading, read_source, store
from ...projects.state import settings_of
from ..kind import Asked, Kind, Real
from ..landing import head_of, land
from ..progress import StopFlag, report_progress


class Unwrap(Asked):
    """The objects by key (None: all that cannot be saved), and how they are cut."""

    words: ClassVar = {"objects": "Objects are chosen by their keys.", "stretch": "The allowed stretch is from 1.02 to 4."}
    objects: list[StrictStr] | None = None
    stretch: Real = 1.25
    hard_edges: Real | None = None
    material_borders: StrictBool = False
    keep_seams: StrictBool = False
    keep_flat: StrictBool = True

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        Options(self.stretch, self.hard_edges, self.material_borders, self.keep_seams, self.keep_flat)
        return self.model_dump()


class _File:
    """A file whose UVs are made anew."""

    def __init__(self, job: Job, file: SourceFile, settings: dict[str, Any], keys: set[str] | None, stop: StopFlag) -> None:
        self.old, self.channel, self.welded = file, int(settings["channel_in"]), file.pk in settings["welded"]
        self.scene = read_source(file)
        self.pieces = analyse(self.scene, self.channel, self.welded)
        self.was = {m: figures(self.scene, m, self.channel, p) for m, p in enumerate(self.pieces)}
        meshes = sorted({o.mesh for n, o in enumerate(self.scene.objects) if keys is None or f"{file.pk}/{n}" in keys})
        if keys is None:
            meshes = [m for m in meshes if beyond_saving(self.was[m])]
        options = Options(*(job.params[k] for k in ("stretch", "hard_edges", "material_borders", "keep_seams", "keep_flat")))
        self.made, self.refused = renewed(
            self.scene, meshes, self.channel, options, stop, lambda text: report_progress(job, {"text": text})
        )

    def write(self) -> None:
        """The file with its new UVs, read as anybody else would; its row is not saved yet."""
        body = formats.revise(self.scene, {m: u.channel for m, u in self.made.items()}, self.channel)
        old = self.old
        beside = {path: store(data) for path, data in body.items() if path}
        self.new = SourceFile(
            project_id=old.project_id, name=old.name, original_id=store(body[""]), unit_m=old.unit_m, companions={**old.companions, **beside},
            warnings=old.warnings, materials=old.materials, before=old,
        )  # fmt: skip
        self.new_scene: Scene = read_source(self.new)
        self.new_pieces: list[MeshIslands | None] = analyse(self.new_scene, self.channel, self.welded)

    def numbers(self) -> NDArray[np.int64]:
        """The new number of every old island of the file; -1 for those of meshes that were made anew."""
        old_starts, new_starts = island_starts(self.pieces), island_starts(self.new_pieces)
        out = np.full(old_starts[-1], -1, np.int64)
        for m in range(len(self.pieces)):
            count = old_starts[m + 1] - old_starts[m]
            if m not in self.made and count == new_starts[m + 1] - new_starts[m]:
                out[old_starts[m] : old_starts[m + 1]] = new_starts[m] + np.arange(count)
        return out

    def now(self, mesh: int) -> Figures:
        """Figures of a mesh's new UVs."""
        return figures(self.new_scene, mesh, self.channel, self.new_pieces[mesh])

    def told(self) -> list[dict[str, Any]]:
        """What was done to which object, before and after."""
        rows: list[dict[str, Any]] = []
        for n, o in enumerate(self.scene.objects):
            if o.mesh in self.made:
                rows.append(
                    {
                        "key": f"{self.new.pk}/{n}",
                        "name": o.name,
                        "was": self.was[o.mesh].as_dict(),
                        "now": self.now(o.mesh).as_dict(),
                        "why": "",
                    }
                )
            elif o.mesh in self.refused:
                rows.append(
                    {
                        "key": f"{self.old.pk}/{n}",
                        "name": o.name,
                        "was": self.was[o.mesh].as_dict(),
                        "now": None,
                        "why": self.refused[o.mesh],
                    }
                )
        return rows


def run_unwrap(job: Job) -> None:
    """Unwrap the chosen objects: one undo step. What was good keeps its islands, its layout and its rules."""
    project, head, before = head_of(job)
    settings, stop = settings_of(head), StopFlag(job)
    keys = None if job.params["objects"] is None else set(job.params["objects"])
    report_progress(job, {"text": "Looking at the UVs that there are"})
    work = [_File(job, f, settings, keys, stop) for f in SourceFile.objects.filter(pk__in=head.files) if keys is None or _named(keys, f)]
    made = [w for w in work if w.made]
    why = [text for w in work for text in w.refused.values()]
    if not made:
        raise QuiltError(why[0] if why else "Nothing here is beyond saving. Select objects to unwrap them all the same.")
    transforms: dict[str, Floats] = dict(arrays_of(before, "transforms"))
    files, left_out = list(head.files), list(head.left_out)
    first = sheets(settings)[0]
    density = float(before.figures.get("density") or 0.0) / float(of_sheet(settings, first["id"])["map_px"])
    for w in made:
        w.write()
    kept = [w.numbers() for w in made]
    laid = _laid(made, kept, [transforms.pop(str(w.old.pk)) for w in made], density, int(first["columns"]))
    for w, numbers, rows in zip(made, kept, laid, strict=True):
        w.new.save()
        for welded in {False, w.welded}:
            make_reading(w.new, w.new_scene, w.channel, welded).save()
        transforms[str(w.new.pk)] = rows
        places = FileKeys(w.old.pk, w.new.pk, numbers, {n: n for n in range(len(w.scene.objects))})
        settings = places.settings(settings)
        files = [w.new.pk if f == w.old.pk else f for f in files]
        left_out = [k for k in map(places.key, left_out) if k is not None]
    report_progress(job, {"text": "Measuring again"})
    snapshot = Snapshot(files=files, left_out=left_out, settings=settings)
    parts = parts_of(choose(snapshot, whole=True))
    layout = Layout(project=project, kind="import", channel=before.channel, transforms=pack_arrays(transforms), recipe={})
    measure(layout, parts, parts.whole(transforms), settings, stop=stop)
    told = [row for w in work for row in w.told()]
    count = sum(1 for row in told if row["now"] is not None)
    job.result = {"changed": count, "objects": told}
    land(
        project, head, layout, f"Unwrap {count} {'object' if count == 1 else 'objects'}", settings=settings, files=files, left_out=left_out
    )


def _named(keys: set[str], file: SourceFile) -> bool:
    return any(k.startswith(f"{file.pk}/") for k in keys)


def _laid(work: list[_File], kept: list[NDArray[np.int64]], old: list[Floats], density: float, columns: int) -> list[Floats]:
    """The layouts (n, 5) of files: kept islands where they lie; new ones on shelves, at the density that the sheet has, beside its tiles until they
    are packed. In a sheet where nothing else lies they come into the first tile."""
    out, new, boxes = [], [], []
    for w, numbers, before in zip(work, kept, old, strict=True):
        rows = np.tile(IDENTITY, (island_starts(w.new_pieces)[-1], 1))
        stay = numbers >= 0
        rows[numbers[stay]] = before[stay]
        mine = np.setdiff1d(np.arange(len(rows)), numbers[stay])
        found = [p.islands.box for p in w.new_pieces if p is not None]
        out.append(rows)
        new.append(mine)
        boxes.append(np.concatenate(found)[mine] if found else np.zeros((0, 4)))
    box = np.concatenate(boxes)
    corner = shelves(box[:, 2:] - box[:, :2])
    high = (corner + box[:, 2:] - box[:, :2]).max(axis=0, initial=1e-30)
    alone = not density
    scale = 0.96 / float(high.max()) if alone else density
    start = np.array([0.02, 0.02]) if alone else np.array([columns + 0.05, 0.02])
    at = 0
    for rows, mine in zip(out, new, strict=True):
        part = slice(at, at + len(mine))
        rows[mine, 2] = scale
        rows[mine, 3:] = start + scale * (corner[part] - box[part, :2])
        at += len(mine)
    return out


KINDS = (Kind("unwrap", run_unwrap, Unwrap),)
