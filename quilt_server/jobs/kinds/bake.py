"""The test bake of a sheet: its maps as pictures, and what went wrong."""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Mapping
from typing import Any, ClassVar

import numpy as np
from django.db import transaction
from numpy.typing import NDArray
from pydantic import Field, StrictStr

from quilt_core.errors import QuiltError
from quilt_core.measure.bake import MAPS, Baked, bake
from quilt_core.measure.map_seams import SEAM_LIMIT
from quilt_core.measure.staging import Laid, staged
from quilt_core.model.pairs import Key, pairs_by_name
from quilt_core.model.scene import Floats
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
from ..progress import say, steps

MOST_PLACES = 400  # that are told of one kind


class Bake(Asked):
    """The sheet (None for the first), the greatest size of a map, rays for each texel, the maps, how far the cage stands off in metres, bits, for low
    objects the one that each gets its detail from, and the percentage of a map's range that the sides of a good seam may differ by."""

    words: ClassVar = {"pairs": "Pairs name the low object and the one that it gets its detail from."}
    sheet: Whole | None = None
    px: Whole | None = None
    rays: Whole | None = None
    maps: list[StrictStr] | None = None
    cage: Real | None = None
    depth: Whole | None = None
    pairs: dict[StrictStr, StrictStr] | None = Field(default=None, max_length=10_000)
    seam_percent: Real = 100 * SEAM_LIMIT

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        usual = {
            "sheet": sheets(settings)[0]["id"],
            "px": 1024,
            "rays": 32,
            "maps": list(MAPS),
            "cage": None,
            "depth": 8,
            "pairs": {},
        }
        out = usual | self.model_dump(exclude_none=True)
        sheet_by(settings, out["sheet"])
        if not (16 <= out["px"] <= 8192 and 1 <= out["rays"] <= 1024 and out["depth"] in (8, 16)):
            raise QuiltError("A test bake has 16 to 8192 px, 1 to 1024 rays a texel, and 8 or 16 bits.")
        if not out["maps"] or not set(out["maps"]) <= set(MAPS):
            raise QuiltError(f"The maps of a test bake are {', '.join(MAPS)}.")
        if out["cage"] is not None and not 0 < out["cage"] < 1e6:
            raise QuiltError("The cage stands off by more than 0 m.")
        if not 0 < out["seam_percent"] <= 100:
            raise QuiltError("The sides of a seam may differ by more than 0 and up to 100 % of a map's range.")
        if not all(re.fullmatch(r"\d+/\d+", k) for pair in out["pairs"].items() for k in pair):
            raise QuiltError(self.words["pairs"])
        return out


def pairs_of(chosen: list[Chosen], asked: Mapping[str, str]) -> dict[Key, Key]:
    """The detailed object of each low one: the ones that were chosen by key, and by name where a `_high` has one `_low`."""
    number = {f"{c.file.pk}/{n}": (f, n) for f, c in enumerate(chosen) for n in range(len(c.scene.objects))}
    own = {number[low]: number[high] for low, high in asked.items() if low in number and high in number}
    return {low: high for low, high in (pairs_by_name([[o.name for o in c.scene.objects] for c in chosen]) | own).items() if low != high}


def _laid(chosen: list[Chosen], parts: Parts, rows: Floats, on: NDArray[np.bool_]) -> list[Laid]:
    """The files as they lie by similarities (n, 5), of whose islands those `on` (n,) the sheet are baked."""
    out = []
    transforms, marks = iter(parts.pieced(rows)), iter(parts.pieced(on))
    for c in chosen:
        uvs = [None if p is None else transform_rows(p.uvs, p.islands.of_row, next(transforms)) for p in c.pieces]
        out.append(Laid(c.scene, c.pieces, uvs, [None if p is None else next(marks) for p in c.pieces], kept_normals(c.file)))
    return out


def run_bake(job: Job) -> None:
    """Bake one sheet; the maps are in the job's output, the figures in its result."""
    _, head, before = head_of(job)
    settings = settings_of(head)
    percent = float(job.params["seam_percent"])
    number = int(job.params["sheet"])
    flat = of_sheet(settings, number)
    say(job, "Reading the meshes")
    chosen = choose(head)
    parts = parts_of(chosen)
    on = sheet_numbers(chosen, parts, settings) == number
    if not on.any():
        raise QuiltError("Nothing lies on this sheet. Move objects to it first.")
    stage = staged(_laid(chosen, parts, parts.whole(arrays_of(before, "transforms")), on), pairs_of(chosen, job.params["pairs"]))
    tiles = grid(flat)
    body = io.BytesIO()
    found: list[dict[str, Any]] = []
    with zipfile.ZipFile(body, "w", zipfile.ZIP_STORED) as archive:
        of_tile = [(tile, min(px, int(job.params["px"]))) for tile, px in zip(tiles.numbers, tiles.sizes, strict=True)]
        for tile, size in steps(job, of_tile, lambda t: f"Baking tile {t[0]} at {t[1]} px", (0.1, 1.0)):
            baked = bake(
                stage.low, stage.high, size, column_row(tile), tuple(job.params["maps"]), int(job.params["rays"]), None, job.params["cage"],
                percent / 100, stage.half_range,
            )  # fmt: skip
            if not baked.covered.any():
                continue
            for kind, values in baked.maps.items():
                archive.writestr(path_of(number, tile, kind), encoded(values, "png", int(job.params["depth"])))
            found.append(_told(tile, size, baked))
    with transaction.atomic():
        job.put_out(body.getvalue())
        job.result = {
            "sheet": number,
            "layout": before.pk,
            "tiles": found,
            "pairs": stage.detailed,
            "half_range": stage.half_range,
            "seam_percent": percent,
            "maps": [m for m in MAPS if found and m in found[0]["maps"]],
        }


def _told(tile: int, px: int, baked: Baked) -> dict[str, Any]:
    """The figures of a tile, and the places where something went wrong."""

    def places(at: Floats) -> list[list[float]]:
        return np.round(at[:: max(1, len(at) // MOST_PLACES)], 6).tolist()

    return {
        "tile": tile, "px": px, "maps": list(baked.maps), "twice": baked.twice, "missed": len(baked.missed), "missed_at": places(baked.missed),
        "seams": {
            k: s.as_dict() | {"bad_at": places(s.bad)}
            for k, s in baked.seams.items()
        },
    }  # fmt: skip


KINDS = (Kind("bake", run_bake, Bake),)
