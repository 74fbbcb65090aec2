"""The figures of inspection, packing and proof as plain dictionaries, whose keys are those of every report."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
import shapely
from numpy.typing import NDArray

from ..measure.proof import LayoutProof, outside, prove
from ..model.scene import Floats, Scene
from ..model.tiles import Grid
from ..uv.analysis import IDENTITY, MeshIslands, analyse, object_density, transform_regions
from ..uv.density import Spread, densities, spread, world_areas
from ..uv.stretch import stretch
from ..words import counted
from .verdict import Asked, narrower, verdict

if TYPE_CHECKING:  # a report of a layout that is there needs no packer
    from ..arrange.sheet import SheetPacking
    from ..pack import Recipe

Analysed = tuple[Scene, list[MeshIslands | None]]


def analyse_all(scenes: list[Scene], channel: int) -> list[Analysed]:
    """Every scene with the islands of its meshes in one channel."""
    return [(s, analyse(s, channel)) for s in scenes]


def pieces_of(analysed: list[Analysed]) -> list[MeshIslands]:
    """All meshes that have islands, in order."""
    return [p for _, pieces in analysed for p in pieces if p is not None]


def density_figures(found: Spread | None) -> dict[str, float] | None:
    """A spread of densities in px/m as reports have it."""
    return None if found is None else {"median": found.median, "min": found.least, "max": found.greatest}


def _objects(analysed: list[Analysed], map_px: int) -> list[dict[str, Any]]:
    out = []
    for scene, pieces in analysed:
        seen: dict[int, int] = {}
        for o in scene.objects:
            piece = pieces[o.mesh]
            number = seen.get(o.mesh, 0)
            seen[o.mesh] = number + 1
            mesh = scene.meshes[o.mesh]
            entry: dict[str, Any] = {
                "file": scene.file,
                "name": o.name,
                "path": o.path,
                "triangles": len(mesh.triangles),
                "channels": sorted(mesh.channels),
                "islands": 0,
                "world_area_m2": _world_area(scene, o.mesh, number),
                "uv_area": 0.0,
                "density_px_per_m": None,
            }
            if piece is not None:
                found = object_density(piece, None, number, map_px)[1]
                entry.update(islands=piece.islands.count, uv_area=float(piece.islands.area.sum()), density_px_per_m=density_figures(found))
            out.append(entry)
    return out


def _world_area(scene: Scene, mesh: int, number: int) -> float:
    placing = [o for o in scene.objects if o.mesh == mesh][number]
    return float(world_areas(scene.meshes[mesh], placing).sum())


def _rounded(value: float | None) -> float | None:
    return None if value is None else round(value, 5)


def inspect_report(scenes: list[Scene], channel: int, map_px: int, tiles: tuple[int, int] = (1, 1)) -> dict[str, Any]:
    """What is in the files and what is wrong; overlaps count within a file, since files have maps of their own."""
    analysed = analyse_all(scenes, channel)
    proofs = [prove([p for p in pieces if p is not None], None, map_px, tiles) for _, pieces in analysed]
    gaps = [p.gap_px for p in proofs if p.gap_px is not None]
    pieces = pieces_of(analysed)
    missing = [
        {"file": s.file, "object": o.name, "faces": _faces_without(s, o.mesh, channel)}
        for s, _ in analysed
        for o in s.objects
        if _faces_without(s, o.mesh, channel)
    ]
    return {
        "objects": _objects(analysed, map_px),
        "islands": sum(p.islands for p in proofs),
        "map_px": map_px,
        "channel": channel,
        "faults": {
            "no_uv": missing,
            "overlap": {
                "pairs": sum(p.overlap_pairs for p in proofs),
                "self": sum(p.overlap_self for p in proofs),
                "px": round(sum(p.overlap_px for p in proofs), 3),
                "cut_short": any(p.cut for p in proofs),
            },
            "flipped": sum(p.flipped for p in proofs),
            "outside": sum(p.outside for p in proofs),
            "outside_any_tile": sum(int(outside(p.islands.box).sum()) for p in pieces),
            "zero_area": sum(p.islands.zero_triangles for p in pieces),
            "stretch": _stretch(analysed, channel),
            "gap": {"smallest_px": _rounded(min(gaps) if gaps else None)},
        },
        "warnings": [f"{s.file}: {w}" for s in scenes for w in s.warnings],
    }


def _faces_without(scene: Scene, mesh: int, channel: int) -> int:
    m = scene.meshes[mesh]
    source = m.channels.get(channel)
    return len(m.triangles) if source is None else int((source.triangles < 0).any(axis=1).sum())


def _stretch(analysed: list[Analysed], channel: int) -> dict[str, float | None]:
    found = [
        stretch(s.meshes[o.mesh], s.meshes[o.mesh].channels[channel], o)
        for s, pieces in analysed
        for o in s.objects
        if pieces[o.mesh] is not None
    ]
    real = [f for f in found if f is not None]
    return {
        "l2_worst_object": _rounded(max((f[0] for f in real), default=None)),  # type: ignore[type-var]
        "linf_worst_triangle": _rounded(max((f[1] for f in real), default=None)),  # type: ignore[type-var]
    }


def overall_density(pieces: list[MeshIslands], transforms: list[Floats] | None, map_px: int | Floats) -> Spread | None:
    """Spread of the density over all islands, each in its largest placing.

    Parameters
    ----------
    pieces : the meshes; transforms : (n, 5) for each, None for UVs as they were read
    map_px : texels along a side of a tile; (n,) for every island where tiles differ

    Returns
    -------
    median, least and greatest in px/m; None without any area
    """
    if not pieces:
        return None
    scales = [np.ones(p.islands.count) if transforms is None else transforms[i][:, 2] for i, p in enumerate(pieces)]
    uv = np.concatenate([p.islands.area * s**2 for p, s in zip(pieces, scales, strict=True)])
    world = np.concatenate([p.world_area for p in pieces])
    return spread(densities(uv, world, map_px), world)


def proof_figures(proof: LayoutProof) -> dict[str, Any]:
    """A proof as figures for reports and screens."""
    return {
        "overlap": {"pairs": proof.overlap_pairs, "self": proof.overlap_self, "px": round(proof.overlap_px, 3)},
        "smallest_gap_px": _rounded(proof.gap_px),
        "smallest_margin_px": _rounded(proof.margin_px),
        "outside": proof.outside,
        "flipped": proof.flipped,
    }


def bleed_figures(
    pieces: list[MeshIslands], transforms: list[Floats] | None, grid: Grid, padding_px: float, twins: NDArray[np.int64] | None
) -> dict[str, Any]:
    """The bleed proof of a layout, as `SheetBleed.as_dict` tells it.

    Parameters
    ----------
    transforms : (n, 5) for each piece, None for UVs as they were read; padding_px : that will be painted
    twins : (n,) group of islands that share their texels, -1 for none
    """
    from ..measure.sheet_bleed import sheet_bleed  # takes a quarter of a second to load, and what only looks into files proves nothing

    regions = np.concatenate([p.outlines.regions for p in pieces]) if pieces else np.zeros(0, object)
    placed = regions if transforms is None else transform_regions(regions, np.concatenate(transforms))
    return sheet_bleed(pieces, transforms, placed, grid, padding_px, twins=twins).as_dict()


def shrunk(pieces: list[MeshIslands], islands: Sequence[int]) -> list[str]:
    """What is told of islands (numbers through all pieces) that no map could hold at the common density."""
    names = [p.objects[0].name for p in pieces for _ in range(p.islands.count)]
    found = Counter(names[i] for i in islands)
    return [
        f"{name}: {counted(n, 'island is', 'islands are')} smaller, for no map could hold it at the common density"
        for name, n in found.items()
    ]


def without_area(pieces: list[MeshIslands]) -> list[str]:
    """What is told of islands that cover nothing: they are lines or points in the UV plane, and no gap is measured to them."""
    empty = [int(shapely.is_empty(p.outlines.regions).sum()) for p in pieces]
    return [
        f"{p.objects[0].name}: {counted(n, 'island covers', 'islands cover')} nothing in the UV plane"
        for p, n in zip(pieces, empty, strict=True)
        if n
    ]


def _grid_of(recipe: Recipe) -> Grid:
    plain = Grid(recipe.map_px, recipe.columns, recipe.rows)
    return replace(plain, tile_px=dict(zip(plain.numbers, recipe.tile_px or plain.sizes, strict=True)))


def _px_of_islands(pieces: list[MeshIslands], transforms: list[Floats] | None, recipe: Recipe) -> Floats:
    """The resolution of the tile that each island (n,) lies in."""
    grid = _grid_of(recipe)
    regions = np.concatenate([p.outlines.regions for p in pieces])
    return grid.px_of(shapely.bounds(regions if transforms is None else transform_regions(regions, np.concatenate(transforms))))


def pack_report(
    pieces: list[MeshIslands], proof: LayoutProof, packed: SheetPacking, recipe: Recipe, seconds: float, transforms: list[Floats] | None = None,
    twins: NDArray[np.int64] | None = None,
) -> dict[str, Any]:  # fmt: skip
    """Figures of a packing; everything measured comes from the proof (of what was written), not from the packer.

    `ok` says whether the packing did its part: nothing overlaps or lies outside, gaps and margins are what the recipe asks for. What was wrong with
    single islands before stands in the verdict's reasons.
    """
    map_px, seed = recipe.map_px, recipe.seed
    asked = Asked(recipe.padding_px, recipe.margin_px)

    density = overall_density(pieces, transforms, map_px if recipe.tile_px is None else _px_of_islands(pieces, transforms, recipe))
    names = [f"{p.objects[0].name} island {i}" for p in pieces for i in range(p.islands.count)]
    measured = proof_figures(proof) | {"map_px": map_px}
    bleed = bleed_figures(pieces, transforms, _grid_of(recipe), recipe.padding_px, twins)
    said = verdict(measured, bleed, asked)
    return {
        "coverage": round(sum(c for c, _ in proof.coverage.values()) / max(1, len(proof.coverage)), 6),
        "density_px_per_m": None if density is None else density.median,
        "density_spread_px_per_m": density_figures(density),
        "tiles": [{"tile": t, "coverage": round(c, 6), "islands": n} for t, (c, n) in sorted(proof.coverage.items())],
        "smallest_gap_px": _rounded(proof.gap_px),
        "smallest_margin_px": _rounded(proof.margin_px),
        "overlap_pairs": proof.overlap_pairs,
        "overlap_self": proof.overlap_self,
        "flipped": proof.flipped,
        "bleed": bleed,
        "ok": not proof.overlap_pairs and not proof.outside and not narrower(measured, asked),
        "verdict": said.line,
        "reasons": said.reasons,
        "islands": proof.islands,
        "flat_islands": packed.flat,
        "without_area": without_area(pieces),
        "shrunk_islands": [names[i] for i in packed.shrunk],
        "objects": sum(len(p.objects) for p in pieces),
        "map_px": map_px,
        "seconds": round(seconds, 2),
        "seed": seed,
        "passes": packed.result.passes,
        "stopped": packed.result.stopped,
        # Without transforms the pieces are as they were written: packed already.
        "limiting": limiting(pieces, transforms or [np.tile(IDENTITY, (p.islands.count, 1)) for p in pieces]),
    }


def limiting(pieces: list[MeshIslands], transforms: list[Floats], only: list[NDArray[np.bool_]] | None = None) -> list[str]:
    """The islands (of those in `only`) that bound the scale: those that span a tile, and those that fill a quarter of one.

    Parameters
    ----------
    pieces : the meshes; transforms : (n, 5) for each
    only : (n,) for each, the islands that count; None for all

    Returns
    -------
    sentences that name the islands
    """
    out = []
    for number, (piece, similarities) in enumerate(zip(pieces, transforms, strict=True)):
        size = (piece.islands.box[:, 2:] - piece.islands.box[:, :2]).max(axis=1) * similarities[:, 2]
        area = piece.islands.area * similarities[:, 2] ** 2
        mine = True if only is None else only[number]
        for i in np.flatnonzero(((size > 0.9) | (area > 0.25)) & mine):
            why = f"spans {size[i] * 100:.0f} % of the tile" if size[i] > 0.9 else f"fills {area[i] * 100:.0f} % of a tile"
            out.append(f"{piece.objects[0].name}, island {i}: {why}")
    return out[:20]


def density_rows(
    name: str, file: str, areas: tuple[Floats, Floats], map_px: float | Floats, weight: Floats, target: float | None, first: int
) -> list[dict[str, Any]]:
    """Density of every island of an object, for a report: px/m and px/cm, weight, and how far it is from target times weight.

    Parameters
    ----------
    areas : (n,) UV and world areas; weight : (n,); first : number of the object's first island
    """
    d = densities(areas[0], areas[1], map_px)
    rows = []
    for i, (value, w) in enumerate(zip(d, weight, strict=True)):
        known = bool(np.isfinite(value))
        rows.append(
            {
                "file": file,
                "object": name,
                "island": i + 1,
                "number_in_file": first + i,
                "world_area_m2": float(areas[1][i]),
                "uv_area": float(areas[0][i]),
                "px_per_m": round(float(value), 4) if known else None,
                "px_per_cm": round(float(value) / 100, 6) if known else None,
                "weight": float(w),
                "of_target": round(float(value / (target * w)), 5) if known and target else None,
            }
        )
    return rows
