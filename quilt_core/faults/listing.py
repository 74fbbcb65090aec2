"""Findings as a list for people: how many, where, how heavy, and what to do; at a map size, padding and band."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..density import densities
from ..measure.lie import LEAST_OVERLAP
from ..measure.proof import EDGE
from ..scene import Floats
from ..tiles import Grid
from ..words import counted, plain
from .findings import Findings

TINY_PX = 4.0  # texels; an island below cannot hold one clean texel of paint
STRETCHED = 1.5  # L2 above this shows on a checker


@dataclass(frozen=True)
class Limits:
    """What a sheet asks for: its tiles, padding and margin in px, the target density (None: the median), the band
    in percent around it, and a team's least and greatest density (None: no limit). `weight` (n,) multiplies the target; `twice_px`: texels that overlaps write
    more than once, where that is known."""

    grid: Grid
    padding_px: float
    margin_px: float
    target: float | None = None
    band: float = 10.0
    least: float | None = None
    greatest: float | None = None
    weight: Floats | None = None
    twice_px: float | None = None


@dataclass
class Fault:
    """One kind of fault.

    title : how many of what; detail: how bad; heavy : 3 the bake fails, 2 it shows, 1 worth knowing, 0 meant so; islands (k,)
    concerned, the worst first; places (q, 2) in UV, value (q,) and the two islands `pairs` (q, 2) where the fault is a place; `repair` names what mends
    it without unwrapping, or is empty
    """

    kind: str
    heavy: int
    count: int
    title: str
    detail: str
    remedy: str
    islands: NDArray[np.int64]
    places: Floats = field(default_factory=lambda: np.zeros((0, 2)))
    values: Floats = field(default_factory=lambda: np.zeros(0))
    repair: str = ""
    pairs: NDArray[np.int64] = field(default_factory=lambda: np.zeros((0, 2), np.int64))


def target_of(f: Findings, limits: Limits) -> float | None:
    """The density that islands are compared with: the one asked for, or the median by surface area."""
    if limits.target is not None:
        return limits.target
    d = densities(f.uv_area, f.world, limits.grid.px_of(f.box))
    good = np.isfinite(d)
    if not good.any():
        return None
    order = np.argsort(d[good])
    total = np.cumsum(f.world[good][order])
    return float(d[good][order][int(np.searchsorted(total, 0.5 * total[-1]))])


def outside_kinds(f: Findings, grid: Grid) -> tuple[NDArray[np.bool_], NDArray[np.bool_], NDArray[np.bool_]]:
    """(n,) each: islands astride a tile border; wholly in a tile that the sheet does not have; where UDIM has no tile."""
    with np.errstate(invalid="ignore"):
        tile = np.floor(0.5 * (f.box[:, :2] + f.box[:, 2:]))
        beyond = (f.box[:, :2] < tile - EDGE) | (f.box[:, 2:] > tile + 1 + EDGE)
        astride: NDArray[np.bool_] = np.asarray(beyond.any(axis=1))
        nowhere = ((tile < 0).any(axis=1) | (tile[:, 0] >= 10) | (tile[:, 1] >= 100)) & ~astride
        other = ((tile[:, 0] >= grid.columns) | (tile[:, 1] >= grid.rows)) & ~astride & ~nowhere
    return astride, other, nowhere


def margins(f: Findings) -> Floats:
    """Distance (n,) of each island to the border of the tile its middle lies in, in UV units; negative outside."""
    tile = np.floor(0.5 * (f.box[:, :2] + f.box[:, 2:]))
    return np.minimum(f.box[:, :2] - tile, tile + 1 - f.box[:, 2:]).min(axis=1)


def listing(f: Findings, limits: Limits) -> list[Fault]:
    """All faults that were found, the heaviest first."""
    found = [make(f, limits) for make in _KINDS]
    return sorted((x for x in found if x is not None and x.count), key=lambda x: (-x.heavy, -x.count))


def _worst(which: NDArray[np.bool_], by: NDArray[np.generic]) -> NDArray[np.int64]:
    chosen = np.flatnonzero(which)
    return chosen[np.argsort(-np.asarray(by, float)[chosen], kind="stable")]


def _overlap(f: Findings, limits: Limits) -> Fault:
    real = ~f.twins
    n = int((f.overlaps - f.twin_overlaps).sum()) // 2
    pairs = counted(n, "pair of islands overlaps", "pairs of islands overlap")
    return Fault(
        "overlap", 3, n, f"at least {pairs}" if f.cut.any() else pairs, _written_twice(limits),
        "Pack the sheet, or move one of each pair: a bake writes both into the same texels.",
        np.flatnonzero(f.overlaps > f.twin_overlaps), f.overlap_at[real], f.overlap_area[real] * limits.grid.px_at(f.overlap_at[real]) ** 2,
        pairs=f.overlap_pairs[real],
    )  # fmt: skip


def _written_twice(limits: Limits) -> str:
    """How much of the map overlaps cost, in words; empty where that was not measured."""
    if not limits.twice_px:
        return ""
    texels = float(sum(px * px for px in limits.grid.sizes))
    share = min(1.0, limits.twice_px / texels)
    return (
        f"{share * 100:.1f} % of the map is written twice"
        if share >= 5e-4
        else f"{max(limits.twice_px, 0.01):.2g} texels are written twice"
    )


def _is_marked(f: Findings) -> NDArray[np.bool_]:
    """(k,) which of the listed overlapping pairs are marked as twins."""
    n = len(f.area)
    return np.isin(f.overlap_pairs[:, 0] * n + f.overlap_pairs[:, 1], f.marked_pairs[:, 0] * n + f.marked_pairs[:, 1])


def _twins(f: Findings, limits: Limits) -> Fault:
    n = int(f.twin_overlaps.sum()) // 2 - len(f.marked_pairs)
    which = f.twins & ~_is_marked(f)
    return Fault(
        "twins", 3, n, counted(n, "pair of islands lies exactly on each other", "pairs of islands lie exactly on each other"), "of one shape",
        "Mark them as twins where they share paint on purpose; else pack: a bake writes both into the same texels.",
        np.unique(f.overlap_pairs[which]), f.overlap_at[which], f.overlap_area[which] * limits.grid.px_at(f.overlap_at[which]) ** 2, "twins",
        f.overlap_pairs[which],
    )  # fmt: skip


def _marked(f: Findings, limits: Limits) -> Fault:
    n = len(f.marked_pairs)
    return Fault(
        "marked", 0, n, counted(n, "pair of islands lies exactly on each other", "pairs of islands lie exactly on each other"), "on purpose",
        "They are marked as twins: packing keeps them on each other.", np.unique(f.marked_pairs), f.marked_at,
        f.marked_area * limits.grid.px_at(f.marked_at) ** 2, "untwin", f.marked_pairs,
    )  # fmt: skip


def _self_overlap(f: Findings, limits: Limits) -> Fault:
    bad = f.own > LEAST_OVERLAP
    n = int(bad.sum())
    return Fault(
        "self", 3, n, counted(n, "island overlaps itself", "islands overlap themselves"),
        f"{f.own[bad].sum() / max(f.uv_area[bad].sum(), 1e-30) * 100:.1f} % of them lies double" if n else "",
        "Cut and unwrap them anew where the mesh was made: moving them does not help.", _worst(bad, f.own),
    )  # fmt: skip


def _islands(
    kind: str, heavy: int, bad: NDArray[np.bool_], by: NDArray[np.generic], words: tuple[str, str], detail: str, remedy: str, repair: str = ""
) -> Fault:  # fmt: skip
    """A fault of single islands: those that are `bad` (n,), the worst `by` (n,) first; `words` for one and for several."""
    n = int(bad.sum())
    return Fault(kind, heavy, n, counted(n, *words), detail, remedy, _worst(bad, by), repair=repair)


def _flipped(f: Findings, limits: Limits) -> Fault:
    remedy = "Flip them back: letters painted on them read backwards, normal maps turn inside out."
    return _islands("flipped", 2, f.flipped, f.area, ("island is mirrored", "islands are mirrored"), "", remedy, "flip")


def _turned(f: Findings, limits: Limits) -> Fault:
    return _islands(
        "turned", 2, f.turned > 0, f.turned, ("island holds triangles that are turned over", "islands hold triangles that are turned over"),
        counted(int(f.turned.sum()), "triangle", "triangles"), "They fold over in the UV plane: unwrap these islands anew.",
    )  # fmt: skip


def _astride(f: Findings, limits: Limits) -> Fault:
    astride, _, _ = outside_kinds(f, limits.grid)
    return _islands(
        "astride", 3, astride, -np.nan_to_num(margins(f), nan=0.0),
        ("island lies across the border of a tile", "islands lie across the border of a tile"), "",
        "Bring them into the tile, or pack: a bake wraps them around or cuts them off.", "into_tile",
    )  # fmt: skip


def _outside(f: Findings, limits: Limits) -> Fault:
    _, other, nowhere = outside_kinds(f, limits.grid)
    bad = other | nowhere
    far = np.abs(np.nan_to_num(f.box, nan=0.0)).max(axis=1)
    detail = f"up to {plain(far[bad].max())} tiles away" if bad.any() else ""
    words = ("island lies outside the sheet", "islands lie outside the sheet")
    return _islands("outside", 2, bad, far, words, detail, "Bring them into the tile by whole tiles, or pack.", "into_tile")


def _zero(f: Findings, limits: Limits) -> Fault:
    return _islands(
        "zero_uv", 1, f.zero_uv > 0, f.zero_uv,
        ("island holds triangles without area in the UV plane", "islands hold triangles without area in the UV plane"),
        counted(int(f.zero_uv.sum()), "triangle", "triangles"), "They get no texels. Unwrap them where they are seen.",
    )  # fmt: skip


def _zero_world(f: Findings, limits: Limits) -> Fault:
    return _islands(
        "zero_world", 1, f.zero_world > 0, f.zero_world,
        ("island holds triangles without area on the model", "islands hold triangles without area on the model"),
        counted(int(f.zero_world.sum()), "triangle", "triangles"), "Nobody sees them. Remove the degenerate faces where the mesh was made.",
    )  # fmt: skip


def _stretch(f: Findings, limits: Limits) -> Fault:
    with np.errstate(invalid="ignore"):
        bad = f.l2 > STRETCHED
    worst = np.nanmax(f.l2[bad]) if bad.any() else 0.0
    return _islands(
        "stretch", 2, bad, np.nan_to_num(f.l2), ("island is stretched", "islands are stretched"), f"L2 up to {plain(worst, 3)}; 1 is none",
        "The checker's squares are not square there: unwrap these islands anew.",
    )  # fmt: skip


def _gap(f: Findings, limits: Limits) -> Fault:
    px = f.gap * limits.grid.px_at(f.gap_at)
    bad = px < limits.padding_px - 1e-3
    n = int(bad.sum())
    return Fault(
        "gap", 2, n, counted(n, "gap is narrower", "gaps are narrower") + f" than {limits.padding_px:g} px",
        f"the least is {px[bad].min():.2f} px" if n else "",
        "Pack the sheet, or move the islands apart: colours bleed across at smaller mip levels.",
        np.unique(f.gap_pairs[bad]), f.gap_at[bad], px[bad], pairs=f.gap_pairs[bad],
    )  # fmt: skip


def _margin(f: Findings, limits: Limits) -> Fault:
    found = np.nan_to_num(margins(f), nan=np.inf)
    astride, _, _ = outside_kinds(f, limits.grid)
    bad = (found * limits.grid.px_of(f.box) < limits.margin_px - 1e-3) & ~astride
    words = (
        f"island is nearer to the border than {limits.margin_px:g} px",
        f"islands are nearer to the border than {limits.margin_px:g} px",
    )
    return _islands("margin", 1, bad, -found, words, "", "Pack the sheet, or move them inward: a repeated tile bleeds across its border.")


def _tiny(f: Findings, limits: Limits) -> Fault:
    texels = f.area * limits.grid.px_of(f.box) ** 2
    words = (f"island is smaller than {TINY_PX:g} texels", f"islands are smaller than {TINY_PX:g} texels")
    return _islands(
        "tiny", 1, texels < TINY_PX, -texels, words, "", "Make them larger, use a larger map, or join them with their neighbours."
    )


def _split(f: Findings, limits: Limits) -> Fault:
    n = len(f.split)
    return Fault(
        "split", 1, n, counted(n, "pair of islands is only kept apart", "pairs of islands are only kept apart") + " by duplicate vertices", "",
        "Join them: they count as one island then, and the vertices of the file stay as they are.", np.unique(f.split), repair="weld",
    )  # fmt: skip


def _crowded(f: Findings, limits: Limits) -> Fault:
    n = int(f.crowded.sum())
    return Fault(
        "crowded", 1, n, counted(n, "edge has", "edges have") + " more than two faces", "",
        "Inner faces waste texels: remove them where the mesh was made.", _worst(f.crowded_island > 0, f.crowded_island),
    )  # fmt: skip


def _against(f: Findings, limits: Limits) -> Fault:
    n = int(f.against.sum())
    return Fault(
        "against", 1, n, counted(n, "edge joins faces", "edges join faces") + " that are wound the other way", "",
        "Make the face directions agree where the mesh was made: half of them read as mirrored.",
        _worst(f.against_island > 0, f.against_island),
    )  # fmt: skip


def _starved(f: Findings, limits: Limits) -> Fault | None:
    return _density(f, limits, -1)


def _lavish(f: Findings, limits: Limits) -> Fault | None:
    return _density(f, limits, 1)


def _density(f: Findings, limits: Limits, side: int) -> Fault | None:
    """Islands outside the band or the team's limits, on one side."""
    target = target_of(f, limits)
    if target is None:
        return None
    d = densities(f.uv_area, f.world, limits.grid.px_of(f.box))
    wanted = target * (np.ones(len(d)) if limits.weight is None else limits.weight)
    with np.errstate(invalid="ignore"):
        if side < 0:
            floor = np.maximum(wanted / (1 + limits.band / 100), limits.least or 0.0)
            bad, worst = d < floor, wanted / d
        else:
            bad, worst = d > np.minimum(wanted * (1 + limits.band / 100), limits.greatest or np.inf), d / wanted
    worst = np.nan_to_num(worst, posinf=np.inf)
    factor = float(worst[bad].max()) if bad.any() else 1.0
    cure = limits.grid.px * factor
    detail = f"up to {plain(factor, 3)} times {'too blurred' if side < 0 else 'too sharp'}"
    remedy = "Even the density"
    if side < 0 and cure <= 16384:
        remedy += f"; the most blurred one would need a map of {2 ** int(np.ceil(np.log2(cure)))} px as it is"
    where = "below" if side < 0 else "above"
    words = (f"island is {where} the band", f"islands are {where} the band")
    return _islands("starved" if side < 0 else "lavish", 2, bad, worst, words, detail, remedy + ".", "even")


_KINDS: tuple[Callable[[Findings, Limits], Fault | None], ...] = (
    _overlap, _twins, _marked, _self_overlap, _flipped, _turned, _astride, _outside, _zero, _zero_world, _stretch, _gap, _margin, _tiny, _split,
    _crowded, _against, _starved, _lavish,
)  # fmt: skip
