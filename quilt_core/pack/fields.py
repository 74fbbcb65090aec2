"""What the search reads of an island: points along its outline, and a field of distances to it.

The search asks millions of times how deep one island lies in another. The smaller one answers with points
every 1.2 units along its outline, in clusters of 8 and groups of 64 with a circle around each; the larger one
with a grid of signed distances, negative inside. A ring, an island whose largest hole is more than
30 % of it, has two more grids, so that its hole can be told from its wall: distances to the island with that
hole filled, and depths in the hole.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..model.scene import Floats
from .shapes import Shapes

Singles = NDArray[np.float32]
Ints = NDArray[np.int64]

SPACING = 1.5  # units between points
CLUSTER = 8
RING = 0.3


POINT = np.dtype([("x", "f4"), ("y", "f4"), ("length", "f4")])
CIRCLE = np.dtype([("x", "f4"), ("y", "f4"), ("radius", "f4"), ("length", "f4"), ("begin", "i4"), ("end", "i4")])
ISLAND = np.dtype(
    [("diameter", "f8"), ("at", "i8"), ("filled", "i8"), ("hollow", "i8"), ("begin", "i8"), ("end", "i8")]
    + [
        ("choice", "i8"),
        ("choices", "i8"),
        ("wide", "i4"),
        ("high", "i4"),
        ("left", "f4"),
        ("low", "f4"),
        ("cell", "f4"),
        ("weight", "f4"),
        ("radius", "f4"),
    ]
)


_MOST_NODES, _FEWEST_NODES = 48_000_000, 4096  # of all distance fields, 4 bytes each; an island has the latter in any case


class Fields(NamedTuple):
    """Arrays for the kernels; positions in units about each island's centre.

    point : (P,) along the outlines, with the length that each stands for
    cluster, group : circles round points begin to end, round clusters begin to end, with their length
    grid : distances, node after node, row after row
    island : (n,) groups begin to end; grid of wide x high nodes `cell` apart from (left, low), at `at`; of a
        ring the grids with its hole filled and of its hole at `filled` and `hollow` (-1: no ring); `weight` by size; `radius` about its centre;
        its allowed poses choice to choice + choices in `choice`
    pose : (K, 4); extent : (n, K, 4); allowed : (n, K)
    product : (K, K), inverse : (K,) of the poses
    """

    point: NDArray[np.void]
    cluster: NDArray[np.void]
    group: NDArray[np.void]
    grid: Singles
    island: NDArray[np.void]
    pose: Floats
    extent: Floats
    allowed: NDArray[np.bool_]
    choice: Ints
    product: Ints
    inverse: Ints


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _points(xy, follows, first, spacing):  # type: ignore[no-untyped-def]
    """Points along all outlines with the length each stands for, clusters and the offsets of both."""
    vertices = xy.shape[0]
    many = np.empty(vertices, np.int64)
    starts = np.empty(vertices + 1, np.int64)
    starts[0] = 0
    for v in range(vertices):
        dx, dy = xy[follows[v], 0] - xy[v, 0], xy[follows[v], 1] - xy[v, 1]
        many[v] = max(1, int(np.ceil(np.sqrt(dx * dx + dy * dy) / spacing)))
        starts[v + 1] = starts[v] + many[v]
    n = starts[vertices]
    x, y, length = np.empty(n, np.float32), np.empty(n, np.float32), np.zeros(n, np.float32)
    cluster_at = np.empty(n + 1, np.int64)
    owner_at = np.zeros(first.shape[0], np.int64)
    clusters = 0
    for i in range(first.shape[0] - 1):
        held = CLUSTER
        for v in range(first[i], first[i + 1]):
            w = follows[v]
            dx, dy = xy[w, 0] - xy[v, 0], xy[w, 1] - xy[v, 1]
            half = 0.5 * np.sqrt(dx * dx + dy * dy) / many[v]
            if v == first[i] or follows[v - 1] != v:
                held = CLUSTER  # a new ring begins a new cluster
            for q in range(many[v]):
                p = starts[v] + q
                t = q / many[v]
                x[p], y[p] = xy[v, 0] + t * dx, xy[v, 1] + t * dy
                length[p] += half
                length[p + 1 if q + 1 < many[v] else starts[w]] += half
                if held == CLUSTER:
                    cluster_at[clusters] = p
                    clusters += 1
                    held = 0
                held += 1
        owner_at[i + 1] = clusters
    cluster_at[clusters] = n
    return x, y, length, cluster_at[: clusters + 1].copy(), owner_at


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _circles(x, y, length, at):  # type: ignore[no-untyped-def]
    """Circle (centre x, y, radius) and total length of each run of points at[k]:at[k + 1]."""
    out = np.empty((at.shape[0] - 1, 4), np.float32)
    for k in range(at.shape[0] - 1):
        a, b = at[k], at[k + 1]
        cx, cy = 0.5 * (x[a:b].min() + x[a:b].max()), 0.5 * (y[a:b].min() + y[a:b].max())
        r2 = 0.0
        total = 0.0
        for p in range(a, b):
            r2 = max(r2, (x[p] - cx) ** 2 + (y[p] - cy) ** 2)
            total += length[p]
        out[k, 0], out[k, 1], out[k, 2], out[k, 3] = cx, cy, np.sqrt(r2), total
    return out


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def _distance2(ax, ay, bx, by, px, py):  # type: ignore[no-untyped-def]
    dx, dy = bx - ax, by - ay
    px, py = px - ax, py - ay
    length2 = dx * dx + dy * dy
    t = 0.0 if length2 <= 0.0 else min(1.0, max(0.0, (px * dx + py * dy) / length2))
    px, py = px - t * dx, py - t * dy
    return px * px + py * py


@njit(cache=True, nogil=True)  # type: ignore[untyped-decorator]
def signed_distances(segments, left, low, cell, wide, high, out):  # type: ignore[no-untyped-def]
    """Distances from the nodes of a grid to segments (m, 4), negative inside by even-odd; out (high * wide,).

    Exact near the segments; farther off each node takes the nearest segment of its neighbours, in four sweeps,
    as the chessboard sweeps of Danielsson (1980, from memory) do with points.
    """
    best = np.full((high, wide), 1e30)
    who = np.full((high, wide), -1)
    for s in range(segments.shape[0]):
        ax, ay, bx, by = (
            (segments[s, 0] - left) / cell,
            (segments[s, 1] - low) / cell,
            (segments[s, 2] - left) / cell,
            (segments[s, 3] - low) / cell,
        )
        pieces = max(1, int(np.ceil(max(abs(bx - ax), abs(by - ay)) / 8.0)))
        for q in range(pieces):
            x0, x1 = ax + (bx - ax) * q / pieces, ax + (bx - ax) * (q + 1) / pieces
            y0, y1 = ay + (by - ay) * q / pieces, ay + (by - ay) * (q + 1) / pieces
            for row in range(max(0, int(min(y0, y1) - 1.5)), min(high, int(max(y0, y1) + 2.5))):
                for column in range(max(0, int(min(x0, x1) - 1.5)), min(wide, int(max(x0, x1) + 2.5))):
                    d2 = _distance2(ax, ay, bx, by, column, row)
                    if d2 < best[row, column]:
                        best[row, column], who[row, column] = d2, s
    for sweep in range(4):
        step_y = 1 if sweep & 1 == 0 else -1
        step_x = 1 if sweep & 2 == 0 else -1
        for r in range(high):
            row = r if step_y > 0 else high - 1 - r
            for c in range(wide):
                column = c if step_x > 0 else wide - 1 - c
                for near in range(4):
                    nr = row - step_y if near < 3 else row
                    nc = column - 1 + near if near < 3 else column - step_x
                    if nr < 0 or nr >= high or nc < 0 or nc >= wide:
                        continue
                    s = who[nr, nc]
                    if s < 0 or s == who[row, column]:
                        continue
                    d2 = _distance2(
                        (segments[s, 0] - left) / cell, (segments[s, 1] - low) / cell,
                        (segments[s, 2] - left) / cell, (segments[s, 3] - low) / cell, column, row,
                    )  # fmt: skip
                    if d2 < best[row, column]:
                        best[row, column], who[row, column] = d2, s
    crossings = np.zeros(wide + 1, np.int32)
    for row in range(high):
        y = low + row * cell
        crossings[:] = 0
        for s in range(segments.shape[0]):
            if (segments[s, 1] <= y) != (segments[s, 3] <= y):
                x = segments[s, 0] + (y - segments[s, 1]) * (segments[s, 2] - segments[s, 0]) / (segments[s, 3] - segments[s, 1])
                crossings[min(max(int(np.ceil((x - left) / cell)), 0), wide)] += 1
        inside = 0
        for column in range(wide):
            inside += crossings[column]
            d = np.sqrt(best[row, column]) * cell
            out[row * wide + column] = -d if inside & 1 else d


def _signed_area(x: Floats, y: Floats, nx: Floats, ny: Floats) -> float:
    return 0.5 * abs(float((x * ny - nx * y).sum()))


def _ring_split(segments: Floats, follows: Ints, base: int) -> NDArray[np.bool_] | None:
    """Which segments (m,) bound the largest hole of an island, if it makes the island a ring."""
    begins = np.flatnonzero(np.r_[True, follows[:-1] != np.arange(base + 1, base + len(follows))])
    if len(begins) < 2:
        return None
    cross = segments[:, 0] * segments[:, 3] - segments[:, 2] * segments[:, 1]
    area = np.abs(0.5 * np.add.reduceat(cross, begins))
    outer = int(np.argmax(area))
    area[outer], full = 0.0, area[outer]
    hole = int(np.argmax(area))
    if area[hole] <= RING * full:
        return None
    # Another part of a multipolygon is no hole: its middle lies outside of the largest ring.
    ring = np.add.reduceat(np.ones(len(segments), np.int64), begins)
    marked = np.zeros(len(segments), bool)
    marked[begins[hole] : begins[hole] + ring[hole]] = True
    px, py = segments[begins[hole], :2]
    edge = segments[begins[outer] : begins[outer] + ring[outer]]
    across = (edge[:, 1] <= py) != (edge[:, 3] <= py)
    e = edge[across]
    x = e[:, 0] + (py - e[:, 1]) * (e[:, 2] - e[:, 0]) / (e[:, 3] - e[:, 1])
    return marked if (x > px).sum() % 2 else None


def pose_tables(pose: Floats) -> tuple[Ints, Ints]:
    """Product (K, K): number of pose a applied after b; inverse (K,)."""
    m = pose.reshape(-1, 2, 2)
    products = np.einsum("aij,bjk->abik", m, m).reshape(-1, 4)
    table = np.abs(products[:, None, :] - pose[None]).sum(axis=2).argmin(axis=1).reshape(len(pose), len(pose))
    unit = int(np.abs(pose - [1.0, 0.0, 0.0, 1.0]).sum(axis=1).argmin())
    return table, np.array([int(np.flatnonzero(row == unit)[0]) for row in table])


def _circle_records(circles: Singles, at: Ints) -> NDArray[np.void]:
    out = np.empty(len(circles), CIRCLE)
    for k, name in enumerate(("x", "y", "radius", "length")):
        out[name] = circles[:, k]
    out["begin"], out["end"] = at[:-1], at[1:]
    return out


def build(shapes: Shapes, reach: float, threads: int = 2) -> Fields:
    """Points and fields of all islands. `reach`: the greatest padding in units that will be asked for."""
    n = shapes.count
    x, y, length, cluster_at, owner_at = _points(shapes.xy, shapes.follows, shapes.first, SPACING)
    point = np.empty(len(x), POINT)
    point["x"], point["y"], point["length"] = x, y, length
    counts = np.maximum(1, -(-np.diff(owner_at) // CLUSTER))
    group_at = np.concatenate([owner_at[i] + CLUSTER * np.arange(counts[i]) for i in range(n)] + [owner_at[-1:]])
    island = np.zeros(n, ISLAND)
    first = np.r_[0, np.cumsum(counts)]
    island["begin"], island["end"] = first[:-1], first[1:]
    island["diameter"], island["weight"] = shapes.diameter, (shapes.diameter / shapes.diameter.mean()) ** 0.7
    island["radius"] = np.sqrt(np.maximum.reduceat((shapes.xy**2).sum(axis=1), shapes.first[:-1]))
    choice = [np.flatnonzero(a) for a in shapes.allowed]
    island["choices"] = [len(c) for c in choice]
    island["choice"] = np.cumsum(island["choices"]) - island["choices"]
    product, inverse = pose_tables(shapes.pose)
    return Fields(
        point, _circle_records(_circles(x, y, length, cluster_at), cluster_at),
        _circle_records(_circles(x, y, length, cluster_at[group_at]), group_at), _grids(shapes, island, reach, threads), island,
        shapes.pose, shapes.extent, shapes.allowed, np.concatenate(choice), product, inverse,
    )  # fmt: skip


def _grids(shapes: Shapes, island: NDArray[np.void], reach: float, threads: int) -> Singles:
    """All distance fields; where they lie and how is written into the islands' records."""
    low, high = shapes.extent[:, 0, :2], shapes.extent[:, 0, 2:]
    cell = np.minimum(1.0, np.maximum(0.25, shapes.diameter / 16))
    # Never more nodes than the budget has for each island, whatever it looks like: a diagonal strip has a box of nothing.
    cell = np.maximum(cell, np.sqrt((high - low).prod(axis=1) / max(_FEWEST_NODES, _MOST_NODES / shapes.count)))
    around = (1.6 * reach + 2.5 * cell)[:, None]
    corner = (low - around).astype(np.float32)
    nodes = np.ceil((high + around - corner) / cell[:, None]).astype(np.int64) + 2
    segments = np.column_stack([shapes.xy, shapes.xy[shapes.follows]])
    spans = list(zip(shapes.first[:-1], shapes.first[1:], strict=True))
    rings = [_ring_split(segments[a:b], shapes.follows[a:b], a) for a, b in spans]
    is_ring = np.array([r is not None for r in rings])
    size = nodes.prod(axis=1)
    end = np.cumsum(size * np.where(is_ring, 3, 1))
    island["at"] = end - size * np.where(is_ring, 3, 1)
    island["filled"] = np.where(is_ring, island["at"] + size, -1)
    island["hollow"] = np.where(is_ring, island["at"] + 2 * size, -1)
    island["wide"], island["high"], island["cell"] = nodes[:, 0], nodes[:, 1], cell
    island["left"], island["low"] = corner[:, 0], corner[:, 1]
    grid = np.empty(end[-1], np.float32)

    def fill(i: int) -> None:
        own = segments[spans[i][0] : spans[i][1]]
        frame = float(corner[i, 0]), float(corner[i, 1]), float(cell[i]), int(nodes[i, 0]), int(nodes[i, 1])
        at, hole = int(island["at"][i]), rings[i]
        signed_distances(own, *frame, grid[at : at + size[i]])
        if hole is not None:
            signed_distances(own[~hole], *frame, grid[at + size[i] : at + 2 * size[i]])
            hollow = grid[at + 2 * size[i] : at + 3 * size[i]]
            signed_distances(own[hole], *frame, hollow)
            hollow *= -1

    with ThreadPoolExecutor(threads) as pool:
        list(pool.map(fill, np.argsort(-size * np.diff(shapes.first), kind="stable")))
    return grid
