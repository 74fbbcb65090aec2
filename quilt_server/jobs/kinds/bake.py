"""The test bake of a sheet: its maps as pictures, and what went wrong."""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np
from django.db import transaction
from numpy.typing import NDArray
from pydantic import Field, StrictStr

from quilt_core.errors import QuiltError
from quilt_core.measure.bake import MAPS, High, LowMesh, bake, curvature_of, normals_of, partner, shading
from quilt_core.model.scene import Floats, MeshObject
from quilt_core.model.tiles import column_row
from quilt_core.textures.tile_images import encoded
from quilt_core.uv.analysis import transform_rows

from ...projects.models import Job
from ...projects.opened import arrays_of
from ...projects.reading import Chosen, Parts, choose, parts_of, sheet_numbers
from ...projects.sheets import grid, of_sheet, sheet_by, sheets
from ...projects.sources import kept_normals
from ...projects.state import settings_of
from ..kind import Asked, Kind, Real, Whole
from ..landing import head_of
from ..outputs import path_of
from ..progress import report_progress

MOST_MISSED = 400


class Bake(Asked):
    """The sheet (None for the first), the greatest size of a map, rays for each texel, the maps, how far the cage stands off in metres, bits, and for
    low objects the one that each gets its detail from."""

    words: ClassVar = {"pairs": "Pairs name the low object and the one that it gets its detail from."}
    sheet: Whole | None = None
    px: Whole | None = None
    rays: Whole | None = None
    maps: list[StrictStr] | None = None
    cage: Real | None = None
    depth: Whole | None = None
    pairs: dict[StrictStr, StrictStr] | None = Field(default=None, max_length=10_000)

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        usual = {"sheet": sheets(settings)[0]["id"], "px": 1024, "rays": 32, "maps": list(MAPS), "cage": None, "depth": 8, "pairs": {}}
        out = usual | self.model_dump(exclude_none=True)
        sheet_by(settings, out["sheet"])
        if not (16 <= out["px"] <= 8192 and 1 <= out["rays"] <= 1024 and out["depth"] in (8, 16)):
            raise QuiltError("A test bake has 16 to 8192 px, 1 to 1024 rays a texel, and 8 or 16 bits.")
        if not out["maps"] or not set(out["maps"]) <= set(MAPS):
            raise QuiltError(f"The maps of a test bake are {', '.join(MAPS)}.")
        if out["cage"] is not None and not 0 < out["cage"] < 1e6:
            raise QuiltError("The cage stands off by more than 0 m.")
        if not all(re.fullmatch(r"\d+/\d+", k) for pair in out["pairs"].items() for k in pair):
            raise QuiltError(self.words["pairs"])
        return out


@dataclass
class _Stage:
    """Everything that is baked, by owner number: low parts with UVs, detailed meshes, and curvature."""

    parts: list[LowMesh]
    curve: list[Floats]
    high: dict[int, High]
    names: list[str]


def _world(o: MeshObject, positions: Floats) -> Floats:
    return positions @ o.world[:3, :3].T + o.world[:3, 3]


def pairs_of(chosen: list[Chosen], asked: Mapping[str, str]) -> dict[str, str]:
    """The detailed object of each low one, by key: the ones that were chosen, and by name where a `_high` has one `_low`."""
    found: dict[str, dict[bool, str]] = {}
    for c in chosen:
        for n, o in enumerate(c.scene.objects):
            pair = partner(o.name)
            if pair:
                found.setdefault(pair[0], {}).setdefault(pair[1], f"{c.file.pk}/{n}")
    named = {both[False]: both[True] for both in found.values() if len(both) == 2}
    return {low: high for low, high in (named | dict(asked)).items() if low != high}


def _stage(chosen: list[Chosen], parts: Parts, rows: Floats, on: NDArray[np.bool_], pairs: Mapping[str, str]) -> _Stage:
    """The objects of a sheet, placed in the world; `pairs` gives the detailed one of a low one, by key."""
    out = _Stage([], [], {}, [])
    transforms, marks = parts.pieced(rows), parts.pieced(on)
    details: dict[str, High] = {}
    own = [kept_normals(c.file) for c in chosen]
    for c, normals in zip(chosen, own, strict=True):
        for n, o in enumerate(c.scene.objects):
            if f"{c.file.pk}/{n}" in pairs.values():
                mesh = c.scene.meshes[o.mesh]
                at = _world(o, mesh.positions)
                normal = shading(normals[o.mesh], normals_of(mesh, at), mesh.triangles, o.world)
                details[f"{c.file.pk}/{n}"] = High(at, mesh.triangles.astype(np.int64), normal)
    piece_number, owner, materials, island = 0, 0, 0, 0
    for c, normals in zip(chosen, own, strict=True):
        for m, piece in enumerate(c.pieces):
            if piece is None:
                continue
            uvs = transform_rows(piece.uvs, piece.islands.of_row, transforms[piece_number])
            source, of = piece.mesh.channels[piece.channel], piece.islands.of_triangle
            for k, (n, o) in enumerate((n, o) for n, o in enumerate(c.scene.objects) if o.mesh == m):
                key = f"{c.file.pk}/{n}"
                # What is baked from is not baked itself, and throws no shadow on its own low mesh.
                if key in details:
                    continue
                # Of several placings of a mesh the first is baked; the others stand where they stand and throw shadows.
                use = (of >= 0) & marks[piece_number][np.maximum(of, 0)] & (k == 0)
                p = _world(o, piece.mesh.positions)
                smooth = normals_of(piece.mesh, p)
                normal = shading(normals[m], smooth, piece.mesh.triangles, o.world)
                spot = np.where(use[:, None, None], uvs[np.maximum(source.triangles, 0)], -1e6)
                number = piece.mesh.materials.astype(np.int64)
                out.parts.append(
                    LowMesh(p, piece.mesh.triangles.astype(np.int64), spot, (of + island).astype(np.int64), np.full(len(of), owner), np.where(number < 0, -1, number + materials), normal)
                )  # fmt: skip
                out.curve.append(curvature_of(piece.mesh, p, smooth))
                if pairs.get(key) in details:
                    out.high[owner] = details[pairs[key]]
                out.names.append(o.name)
                owner += 1
            island += piece.islands.count
            piece_number += 1
        materials += len(c.scene.materials)
    return out


def run_bake(job: Job) -> None:
    """Bake one sheet; the maps are in the job's output, the figures in its result."""
    _, head, before = head_of(job)
    settings = settings_of(head)
    number = int(job.params["sheet"])
    flat = of_sheet(settings, number)
    report_progress(job, {"text": "Reading the meshes"})
    chosen = choose(head)
    parts = parts_of(chosen)
    on = sheet_numbers(chosen, parts, settings) == number
    if not on.any():
        raise QuiltError("Nothing lies on this sheet. Move objects to it first.")
    stage = _stage(chosen, parts, parts.whole(arrays_of(before, "transforms")), on, pairs_of(chosen, job.params["pairs"]))
    tiles = grid(flat)
    body = io.BytesIO()
    found: list[dict[str, Any]] = []
    with zipfile.ZipFile(body, "w", zipfile.ZIP_STORED) as archive:
        for tile, px in zip(tiles.numbers, tiles.sizes, strict=True):
            size = min(px, int(job.params["px"]))
            report_progress(job, {"text": f"Baking tile {tile} at {size} px"})
            baked = bake(
                stage.parts, stage.high, size, column_row(tile), tuple(job.params["maps"]), int(job.params["rays"]), None, job.params["cage"], stage.curve
            )  # fmt: skip
            if not baked.covered.any():
                continue
            for kind, values in baked.maps.items():
                archive.writestr(path_of(number, tile, kind), encoded(values, "png", int(job.params["depth"])))
            found.append(
                {"tile": tile, "px": size, "maps": list(baked.maps), "twice": baked.twice, "missed": len(baked.missed),
                 "missed_at": np.round(baked.missed[:: max(1, len(baked.missed) // MOST_MISSED)], 6).tolist(),
                 "seams": {k: [round(a, 4), round(b, 4)] for k, (a, b) in baked.seams.items()}}
            )  # fmt: skip
    pairs = [stage.names[k] for k in stage.high if k < len(stage.names)]
    with transaction.atomic():
        job.put_out(body.getvalue())
        job.result = {
            "sheet": number,
            "layout": before.pk,
            "tiles": found,
            "pairs": pairs,
            "maps": [m for m in MAPS if found and m in found[0]["maps"]],
        }


KINDS = (Kind("bake", run_bake, Bake),)
