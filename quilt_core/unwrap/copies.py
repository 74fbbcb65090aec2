"""Objects of one shape, and the UVs of one of them for the others, however they were moved, turned, scaled, mirrored or numbered."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from ..model.scene import Floats
from ..uv.areas import signed_areas
from .match import GRAPH, NONE, PART, WHOLE, Match, matched
from .near import Places, carried, seams_of
from .placing import NEAR
from .skin import Laying, Revised, Skin, revised
from .topology import cut

ALIKE = 0.9  # of its area has to be matched or near, so that something can be called a copy
CLOSE = 0.02  # of the diagonal: what is farther away is another shape


@dataclass(frozen=True)
class Copied:
    """laying : how the surface lies; its faces' `island` is the one of the other that they are of
    shares : of its area that was matched as a whole, part by part, by the graph, and by the nearest surface
    away : the greatest distance of what was matched by place, as a share of the diagonal; near : the same for what has other triangles
    anew : islands laid flat anew, since they would have folded
    """

    laying: Laying
    shares: dict[str, float]
    away: float
    near: float
    anew: int

    def revised(self, skin: Skin) -> Revised:
        """The channel of the surface. Its islands are numbered as those of the other one, so they say nothing of where they lay before. Where all of it is the
        other's its islands are too, also those that hang together by a corner."""
        return replace(revised(skin, self.laying, np.full(len(skin.kept), not self.exact)), frame=None)

    @property
    def exact(self) -> bool:
        """Whether all of it was matched."""
        return self.shares["near"] == 0

    def words(self) -> str:
        """What was not simply the same, in words; empty where all was."""
        said = []
        if self.shares["graph"] > 0:
            said.append(f"{100 * self.shares['graph']:.0f} % of it is bent and was matched by how its faces hang together")
        if self.shares["near"] > 0 and self.near > NEAR:
            said.append(
                f"{_percent(self.shares['near'])} of it has other triangles and got what the nearest surface has, at most {100 * self.near:.2g} % of the size away"
            )
        if self.anew:
            said.append(f"{self.anew} of its islands were laid flat anew")
        return "; ".join(said)


def _percent(share: float) -> str:
    return f"{100 * share:.0f} %" if share >= 0.01 else "under 1 %"


def same_shape(first: Skin, second: Skin) -> Match | None:
    """How a second surface is the first one again, with the same points in whatever order; None where it is not. Its triangles may be others where they lie on
    the first one too, as where a quad is parted along its other diagonal.

    Places of points decide: where a shape is its own image, that of the first turn that fits.
    """
    one, two = first.surface, second.surface
    if len(one.points) != len(two.points) or len(np.unique(first.cell)) != len(np.unique(second.cell)):
        return None
    found = matched(first, second, thorough=False)
    if found.known.all():
        return found
    size = max(float(np.linalg.norm(np.ptp(one.points, axis=0))), 1e-300)
    at = found.placing(two.points)
    if cKDTree(one.points).query(at)[0].max() > NEAR * size or cKDTree(at).query(one.points)[0].max() > NEAR * size:
        return None
    rest = np.flatnonzero(~found.known)
    middle = at[two.faces[rest]].mean(axis=1)
    looking = two.normal[rest] @ found.placing.turn.T / np.cbrt(abs(np.linalg.det(found.placing.turn)))
    away = Places(one, np.arange(len(one.faces))).nearest(middle, looking).away
    return found if away.max() <= NEAR * size else None


def copied(source: Skin, lies: Laying, skin: Skin, match: Match, onto: bool = False) -> Copied | None:
    """Lay a surface as the other one lies; None where too little of it is the other's.

    Parameters
    ----------
    onto : its islands are to lie on the other's; else the mirror image of one lies mirrored, so that its front stays in front
    """
    known = match.known
    area = skin.surface.area
    shares = {name: _share(area, match.way == k) for name, k in (("whole", WHOLE), ("part", PART), ("graph", GRAPH), ("near", NONE))}
    if known.all():
        laying, near, anew = _exact(lies, skin, match), 0.0, 0
    else:
        if not (lies.island >= 0).any():
            return None
        found = carried(source, lies, skin, match)
        close = known | (found.away <= CLOSE)
        if _share(area, close) < ALIKE:
            return None
        laying, anew = found.laying, found.anew
        near = float(np.max(found.away[close & ~known], initial=0.0))
    if not onto:
        laying = Laying(_in_front(skin, laying, lies), laying.seam, laying.island)
    return Copied(laying, shares, match.away, near, anew)


def _share(area: Floats, of: np.ndarray) -> float:
    return float(area[of].sum() / max(float(area.sum()), 1e-300))


def _in_front(skin: Skin, laying: Laying, lies: Laying) -> Floats:
    """UVs with those charts turned over, about the middle of all, that lie the other way round than the islands that they are of."""
    chart = cut(skin.surface, laying.seam).chart
    was = np.bincount(lies.island[lies.island >= 0], signed_areas(lies.uv[lies.island >= 0]), int(lies.island.max()) + 1)
    has = ~laying.bare
    now = np.bincount(chart[has], (signed_areas(laying.uv) * np.sign(was[np.maximum(laying.island, 0)]))[has], int(chart.max()) + 1)
    middle = np.nanmin(lies.uv[..., 0]) + np.nanmax(lies.uv[..., 0])
    return np.where((now < 0)[chart][:, None, None], laying.uv * [-1.0, 1.0] + [middle, 0.0], laying.uv)


def _exact(lies: Laying, skin: Skin, match: Match) -> Laying:
    corner = match.corner.reshape(-1)
    uv = lies.uv.reshape(-1, 2)[corner].reshape(-1, 3, 2)
    twin = skin.surface.twin
    seam = seams_of(lies, match) & (twin >= 0)
    seam[twin[twin >= 0]] |= seam[twin >= 0]
    return Laying(uv, seam, lies.island[match.corner[:, 0] // 3])
