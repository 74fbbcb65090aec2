"""Compiles all kernels once, so that no user waits for it: `python -m quilt_cli.compile_kernels`."""

from __future__ import annotations

import numpy as np

from demo.quay import small_set
from quilt_core import formats
from quilt_core.arrange.sheet import pack_sheet
from quilt_core.delivery import report
from quilt_core.measure.bleed import bleed
from quilt_core.measure.lie import measured, updated
from quilt_core.measure.proof import covered_on_texels, proof_of
from quilt_core.measure.shapes import joined, shapes_of
from quilt_core.model.tiles import Grid
from quilt_core.pack import Recipe, Rules
from quilt_core.pack.search import Search
from quilt_core.pack.shelves import shelved
from quilt_core.textures.carry import Patch, carry, difference, mips_of
from quilt_core.unwrap.shorter import small_source_side
from quilt_core.unwrap.simpler import drawn, simpler
from quilt_core.unwrap.topology import surface_of
from quilt_core.unwrap.trial import laid
from quilt_core.uv.analysis import IDENTITY, transform_regions


def measuring() -> None:
    """Measure a layout, move an island and measure that: what every change of a layout needs."""
    name, data = next(iter(small_set().items()))
    pieces = report.pieces_of(report.analyse_all([formats.read(data, name)], 0))
    shapes = joined([shapes_of(p) for p in pieces])
    rows, on = np.tile(IDENTITY, (shapes.count, 1)), np.zeros(shapes.count, np.int64)
    lie = measured(shapes, rows, on)
    moved = rows.copy()
    moved[0, 3:] += 0.3
    lie = updated(shapes, lie, rows, moved, on)
    regions = np.concatenate([p.outlines.regions for p in pieces])
    proof_of(shapes, lie, moved, lambda k: transform_regions(regions[k], moved[k]), Grid(512))
    heap = np.tile([0.0, 1.0, 1.0, 0.5, 0.5], (shapes.count, 1))
    heap[:, 3:] -= shapes.boxes(rows)[:, :2]
    covered_on_texels(shapes, measured(shapes, heap, on), heap, np.arange(shapes.count), np.ones(shapes.count, np.int64), (0, 0), 16)


# Two triangles that touch in a point, with rows of their own there.
_TOUCHING = (
    b"v 0 0 0\nv 1 0 0\nv 1 1 0\nv 2 1 0\nv 2 2 0\nvt 0 0\nvt .1 0\nvt .1 .1\nvt .1 .1\nvt .2 .1\nvt .2 .2\nf 1/1 2/2 3/3\nf 3/4 4/5 5/6\n"
)


def mending() -> None:
    """Draw the seams of a simpler copy of a small bumpy sheet, and lay it flat; part islands that touch, and a network of few nodes."""
    report.analyse_all([formats.read(_TOUCHING, "touching.obj")], 0)
    small_source_side(np.array([0, 1]), np.array([1, 0]), np.array([1, 1], np.int32), 2)
    x, y = (a.reshape(-1).astype(float) for a in np.meshgrid(np.arange(20), np.arange(20)))
    at = np.arange(400).reshape(20, 20)
    corners = [at[:-1, :-1], at[:-1, 1:], at[1:, 1:], at[1:, :-1]]
    a, b, c, d = (k.reshape(-1) for k in corners)
    s = surface_of(np.column_stack([x, y, np.sin(x + y)]), np.concatenate([np.column_stack([a, b, c]), np.column_stack([a, c, d])]))
    small = simpler(s, np.zeros(len(s.twin), bool), 300)
    drawn(s, s.length, np.ones(len(s.twin), bool), small, small.surface.twin >= 0)
    laid(s, np.zeros(len(s.twin), bool), 3, lambda: False)


def main() -> None:
    """Read, measure, pack and prove the small demo set, far enough to reach the search after the greedy passes; carry one triangle's paint over."""
    mending()
    name, data = next(iter(small_set().items()))
    pieces = report.pieces_of(report.analyse_all([formats.read(data, name)], 0))
    measuring()
    packed = pack_sheet(pieces, Recipe(map_px=512, padding_px=2, margin_px=1, passes=26))
    rows, regions = packed.transforms, np.concatenate([p.outlines.regions for p in pieces])
    shelved(Search(regions, Recipe(map_px=512), Rules(), None))
    bleed(pieces, rows, transform_regions(regions, np.concatenate(rows)), 64, 1.0)
    square = np.array([[[0, 0], [1, 0], [1, 1]]], float)
    patch = Patch(square, square, mips_of(np.zeros((2, 2, 3), np.float32), "normal"))
    difference([patch], carry([patch], "normal", 16), "normal", 16)


if __name__ == "__main__":
    main()
