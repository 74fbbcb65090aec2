"""Proof of a layout that is already in the files, whoever made it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..faults.density import times_beyond
from ..measure.proof import prove, twins_of
from ..model.scene import Scene
from ..model.tiles import Grid, column_row
from ..uv.analysis import MeshIslands
from ..uv.density import densities
from ..words import counted, plain
from .report import analyse_all, bleed_figures, density_figures, overall_density, pieces_of, proof_figures
from .verdict import Asked, Part, verdict

# Faults of single islands, as their UVs came, and islands that share texels: packing neither makes nor mends them, so they can be taken.
ALLOWED = ("self", "mirrored", "twins")
# What is told, and is a reason to fail only for whoever says so.
REFUSED = ("mirrored", "thin", "density")


@dataclass(frozen=True)
class Wanted:
    """What a layout has to hold. `padding_px`, `margin_px`: None for none asked; `allow` words of `ALLOWED`; `refuse` words of `REFUSED`; `density` in px/m that
    islands are compared with, None for their own median; `band` in percent around it."""

    padding_px: float | None = None
    margin_px: float | None = None
    allow: tuple[str, ...] = ()
    refuse: tuple[str, ...] = ()
    density: float | None = None
    band: float = 10.0


def verify_report(scenes: list[Scene], channel: int, map_px: int, wanted: Wanted) -> dict[str, Any]:
    """Proof of the layout that all files share. What was asked for must hold; how far colours stay apart is proven where the padding that will be painted is
    known; all other faults are told as the browser tells them."""
    pieces = pieces_of(analyse_all(scenes, channel))
    twins = twins_of(pieces) if pieces and "twins" in wanted.allow else None
    proof = prove(pieces, None, map_px, twins=twins)
    figures = proof_figures(proof)
    counts = {"self": figures["overlap"]["self"], "mirrored": figures["flipped"], "twins": 0 if twins is None else int((twins >= 0).sum())}
    bleed = (
        None if wanted.padding_px is None else bleed_figures(pieces, None, _grid_around(proof.coverage, map_px), wanted.padding_px, twins)
    )
    more = [] if pieces else [Part("none", f"no object has UVs in channel {channel}", True)]
    found = verdict(
        figures | {"map_px": map_px},
        bleed,
        Asked(wanted.padding_px, wanted.margin_px),
        wanted.allow,
        (*wanted.refuse, "gap", "margin"),
        [*more, *_off_density(pieces, map_px, wanted)],
    )
    return {
        "ok": found.ok,
        "verdict": found.line,
        "reasons": found.reasons[: found.heavy],
        "faults": found.reasons[found.heavy :],
        "bleed": bleed,
        "allowed": {word: counts[word] for word in wanted.allow if counts[word]},
        **figures,
        "islands": proof.islands,
        "map_px": map_px,
        "coverage": round(sum(c for c, _ in proof.coverage.values()) / max(1, len(proof.coverage)), 6),
        "density_px_per_m": density_figures(overall_density(pieces, None, map_px)),
    }


def _off_density(pieces: list[MeshIslands], map_px: int, wanted: Wanted) -> list[Part]:
    """How many islands are off the density that is wanted, by more than the band, on either side."""
    spread = overall_density(pieces, None, map_px)
    if spread is None:
        return []
    target = spread.median if wanted.density is None else wanted.density
    d = np.concatenate([densities(p.islands.area, p.world_area, map_px) for p in pieces])
    factor = np.maximum(*(times_beyond(d, np.full(len(d), target), side) for side in (-1, 1)))
    off = np.isfinite(factor) & (factor > 1 + wanted.band / 100)
    if not off.any():
        return []
    words = counted(int(off.sum()), "island is", "islands are")
    most = plain(float(factor[off].max()), 3)
    return [Part("density", f"{words} off {plain(target)} px/m by more than {wanted.band:g} %, up to {most} times")]


def _grid_around(tiles: Iterable[int], map_px: int) -> Grid:
    """The least grid that holds these tiles."""
    corners = [column_row(t) for t in tiles]
    return Grid(map_px, 1 + max((c for c, _ in corners), default=0), 1 + max((r for _, r in corners), default=0))
