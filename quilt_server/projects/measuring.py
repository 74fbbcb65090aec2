"""The figures and findings that every new layout gets: measured whole, or only for what is other than in the layout before."""

from __future__ import annotations

import io
from collections.abc import Callable
from dataclasses import dataclass, fields
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from quilt_core.arrange.texel_grid import edges_on_grid
from quilt_core.arrays import pack_arrays
from quilt_core.delivery import report
from quilt_core.measure.lie import Lie, measured, updated
from quilt_core.measure.proof import LayoutProof, Marked, marked, proof_of
from quilt_core.measure.revised import after_revision
from quilt_core.measure.shapes import IslandShapes, joined, shapes_of
from quilt_core.model.scene import Floats
from quilt_core.model.tiles import Grid, column_row, corners_of
from quilt_core.textures import template
from quilt_core.uv.density import densities, spread

from .models import Layout
from .opened import arrays_of
from .reading import Parts, regions_of, sheet_numbers, twin_groups
from .sheets import grid, of_sheet, sheets

VERSION = 2  # counts up when what is measured, or what it means, changes

Stop = Callable[[], bool]


@dataclass(frozen=True)
class Measured:
    """A layout as it was measured: rows (n, 5) of all islands, and how they lie."""

    shapes: IslandShapes
    rows: Floats
    lie: Lie
    on_purpose: Marked


def lie_of(layout: Layout) -> tuple[Lie, Marked] | None:
    """How a layout's islands lie; None where this version never measured it."""
    if layout.measured != VERSION or not layout.findings:
        return None
    a = arrays_of(layout, "findings")
    return Lie(**{f.name: a[f.name] for f in fields(Lie)}), Marked(a["marked_pairs"], a["marked_area"], a["marked_at"])


def rows_of(layout: Layout) -> Floats:
    """A layout's rows (n, 5) over the islands that it was measured with."""
    transforms = arrays_of(layout, "transforms")
    return np.concatenate([transforms[str(file)][first : first + count] for file, first, count in layout.pieces] or [np.zeros((0, 5))])


def measure(
    layout: Layout, parts: Parts, rows: Floats, settings: dict[str, Any], before: Layout | None = None, stop: Stop = lambda: False,
    stayed: NDArray[np.int64] | None = None, parts_before: Parts | None = None,
) -> None:  # fmt: skip
    """Prove a layout (n, 5) as it stands, sheet by sheet, and find how its islands lie.

    Parameters
    ----------
    parts : of whole files, so that what is left out keeps its numbers
    before : the layout that this one was made from; only what is other is measured
    stayed : where islands became others, the number (m,) of every island of the layout before (those of `parts_before`) that is as it was, -1 for others

    Raises
    ------
    Cancelled : `stop` said so
    """
    chosen = parts.chosen
    on, twins = sheet_numbers(chosen, parts, settings), twin_groups(parts, settings)
    were = parts if parts_before is None else parts_before
    known = None if before is None or [list(p) for p in were.places] != before.pieces else lie_of(before)
    old_rows = None if known is None or before is None else rows_of(before)
    if known is not None and old_rows is not None and stayed is not None:
        lie = after_revision((were.shapes, known[0], old_rows), (parts.shapes, rows, on), stayed, stop)
        before = known = old_rows = None  # tiles and bleed are proven anew
    elif known is None or old_rows is None:
        lie = measured(parts.shapes, rows, on, stop)
    else:
        lie = updated(parts.shapes, known[0], old_rows, rows, on, stop)
    found = Measured(parts.shapes, rows, lie, marked(parts.shapes, lie, rows, twins))
    same = _untouched(before, known, old_rows, rows, lie)
    every = {str(s["id"]): figures_of(found, parts, of_sheet(settings, s["id"]), same.get(s["id"])) for s in sheets(settings)}
    d, world = _all_densities(found, settings)
    overall = spread(d, world)
    layout.figures = layout.figures | {"sheets": every, "density": None if overall is None else overall.median}
    bleed = _still_proven(before, known, old_rows, rows, lie)
    if bleed:
        layout.figures |= {"bleed": bleed}
    layout.findings = pack_arrays(
        lie.arrays() | {"marked_pairs": found.on_purpose.pairs, "marked_area": found.on_purpose.area, "marked_at": found.on_purpose.at}
    )
    layout.pieces, layout.measured = [list(p) for p in parts.places], VERSION
    if layout.kind == "pack":
        shown = layout.sheet if str(layout.sheet) in every else sheets(settings)[0]["id"]
        layout.picture = small_picture(parts, rows, on == shown, grid(of_sheet(settings, shown)), 640)


def _still_proven(
    before: Layout | None, known: tuple[Lie, Marked] | None, old_rows: Floats | None, rows: Floats, lie: Lie
) -> dict[str, Any]:  # fmt: skip
    """The bleed proofs of the layout before that hold: those of sheets where nothing moved, came or went."""
    if before is None or known is None or old_rows is None or len(old_rows) != len(rows):
        return {}
    moved = (rows != old_rows).any(axis=1) | (known[0].sheet != lie.sheet)
    touched = set(known[0].sheet[moved].tolist()) | set(lie.sheet[moved].tolist())
    return {s: proof for s, proof in before.figures.get("bleed", {}).items() if int(s) not in touched}


def _untouched(
    before: Layout | None, known: tuple[Lie, Marked] | None, old_rows: Floats | None, rows: Floats, lie: Lie
) -> dict[int, dict[int, tuple[float, float]]]:  # fmt: skip
    """By sheet, the covered shares of tiles in which every island lies, and overlaps, as it did in the layout before."""
    if before is None or known is None or old_rows is None or len(old_rows) != len(rows) or len(known[1].pairs) or lie.cut.any():
        return {}
    old = known[0]
    moved = (rows != old_rows).any(axis=1) | (old.sheet != lie.sheet) | (old.overlaps != lie.overlaps)
    touched = {
        (int(s), int(c), int(r))
        for a in (old, lie)
        for s, (c, r) in zip(a.sheet[moved], np.nan_to_num(corners_of(a.box[moved]), nan=-1.0), strict=True)
    }
    out: dict[int, dict[int, tuple[float, float]]] = {}
    for s, figures in before.figures.get("sheets", {}).items():
        tiles = {t["tile"]: (t["coverage"], t["twice"]) for t in figures.get("tiles", []) if "twice" in t}
        out[int(s)] = {n: v for n, v in tiles.items() if (int(s), *column_row(n)) not in touched}
    return out


def figures_of(
    found: Measured, parts: Parts, flat: dict[str, Any], known: dict[int, tuple[float, float]] | None = None
) -> dict[str, Any]:  # fmt: skip
    """The proven figures of one sheet, whose settings are `flat`; `known` are covered shares of tiles where nothing is other."""
    tiles, sheet = grid(flat), int(flat["sheet"]["id"])
    proof = proof_of(
        found.shapes, found.lie, found.rows, lambda k: regions_of(parts, found.rows, k), tiles, sheet, False, found.on_purpose, known
    )
    mine = np.flatnonzero(found.lie.sheet == sheet)
    d, world = _densities(found, mine, tiles)
    overall = spread(d, world)
    # Of tiles that no island lies in nothing is covered, and nothing is lost by them: coverage is over the tiles in use.
    used = {n: c for n, c in proof.coverage.items() if n in tiles.numbers} or proof.coverage
    texels = {n: tiles.tile_px.get(n, tiles.px) ** 2 for n in used}
    return {
        **report.proof_figures(proof), "islands": proof.islands, "map_px": tiles.px, "twins": proof.twins,
        "coverage": sum(c * texels[n] for n, (c, _) in used.items()) / max(1, sum(texels.values())),
        "density": None if overall is None else overall.median,
        "tiles": _tile_figures(found, parts, mine, tiles, proof, d, world),
        "grid": _grid_figures(found, parts, mine, tiles) if flat["texel_grid"] else None,
    }  # fmt: skip


def _grid_figures(found: Measured, parts: Parts, mine: NDArray[np.int64], tiles: Grid) -> dict[str, int]:
    """How many straight edges of the islands `mine` (k,) lie on whole texels of their tiles."""
    on, edges = edges_on_grid(regions_of(parts, found.rows, mine), tiles)
    return {"edges": edges, "on": on}


def _densities(found: Measured, mine: NDArray[np.int64], tiles: Grid) -> tuple[Floats, Floats]:
    """Densities and world areas of the islands `mine` (k,), each at the resolution of its tile."""
    area = (found.shapes.uv_area * found.rows[:, 2] ** 2)[mine]
    world = found.shapes.world[mine]
    px = np.nan_to_num(tiles.px_of(found.lie.box[mine]), nan=float(tiles.px))
    return densities(area, world, px), world


def _tile_figures(
    found: Measured, parts: Parts, mine: NDArray[np.int64], tiles: Grid, proof: LayoutProof, d: Floats, world: Floats
) -> list[dict[str, Any]]:
    """Coverage, number of islands, median density, smallest gap and margin (with the islands there) of every tile of the sheet, and of others where
    islands lie."""

    def named(*islands: int) -> list[str]:
        return [parts.name(i) for i in islands if i >= 0]

    with np.errstate(invalid="ignore"):
        corner = np.nan_to_num(corners_of(found.lie.box[mine]), nan=-1.0).astype(np.int64)
    order = np.lexsort((corner[:, 0], corner[:, 1]))
    keys, first = np.unique(corner[order][:, ::-1], axis=0, return_index=True)
    by_tile = {(int(c), int(r)): part for (r, c), part in zip(keys, np.split(order, first[1:]), strict=True)} if len(order) else {}
    out = []
    for n in sorted({*tiles.numbers, *proof.coverage}):
        share, count = proof.coverage.get(n, (0.0, 0))
        here = by_tile.get(column_row(n)) if count else None
        there = None if here is None else spread(d[here], world[here])
        px = tiles.tile_px.get(n, tiles.px)
        gaps = proof.tiles.get(n)
        out.append(
            {"tile": n, "px": px, "coverage": share, "twice": proof.again.get(n, 0.0), "islands": count, "density": None if there is None else there.median,
             "gap_px": gaps.gap_px if gaps and np.isfinite(gaps.gap_px) else None, "gap_at": named(*gaps.pair) if gaps else [],
             "margin_px": gaps.margin_px if gaps and np.isfinite(gaps.margin_px) else None, "margin_at": named(gaps.outermost) if gaps else []}
        )  # fmt: skip
    return out


def _all_densities(found: Measured, settings: dict[str, Any]) -> tuple[Floats, Floats]:
    parts = [_densities(found, np.flatnonzero(found.lie.sheet == s["id"]), grid(of_sheet(settings, s["id"]))) for s in sheets(settings)]
    return np.concatenate([np.zeros(0), *(d for d, _ in parts)]), np.concatenate([np.zeros(0), *(w for _, w in parts)])


def picture(parts: Parts, rows: Floats, mine: NDArray[np.bool_], size: int, paper: str | None = "#fbf7ee", tile: int = 1001) -> bytes:
    """PNG of one tile with the islands `mine` (n,) of a layout (n, 5)."""
    if not parts.places:
        return b""
    owner = np.repeat(parts.owners, [count for _, _, count in parts.places])
    return template.draw(regions_of(parts, rows, np.flatnonzero(mine)), owner[mine], size, tile, paper)


def small_picture(parts: Parts, rows: Floats, mine: NDArray[np.bool_], tiles: Grid, size: int = 256) -> bytes:
    """PNG of all tiles of a sheet, side by side as they lie."""
    if tiles.columns == tiles.rows == 1:
        return picture(parts, rows, mine, size)
    step = max(24, size // max(tiles.columns, tiles.rows))
    whole = Image.new("RGB", (step * tiles.columns, step * tiles.rows), "#cdbf9f")
    for n in tiles.numbers:
        column, row = column_row(n)
        body = picture(parts, rows, mine, step - 2, tile=n)
        if body:
            whole.paste(Image.open(io.BytesIO(body)).convert("RGB"), (step * column + 1, step * (tiles.rows - 1 - row) + 1))
    out = io.BytesIO()
    whole.save(out, "PNG")
    return out.getvalue()


def measured_anew(parts: Parts, rows: Floats, on: NDArray[np.int64], twins: NDArray[np.int64]) -> Measured:
    """A layout of files that were just written, measured from nothing; `on` (n,) the sheet of each island, -1 for those that do not count."""
    shapes = joined([shapes_of(p) for p in parts.pieces])
    lie = measured(shapes, rows, on)
    return Measured(shapes, rows, lie, marked(shapes, lie, rows, twins))
