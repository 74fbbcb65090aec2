"""The sets of islands that the packing benchmarks use: real models of the registries, all islands at one texel density."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import NDArray

from quilt_cli import files
from quilt_core.delivery import report
from quilt_core.model.scene import Floats
from quilt_core.uv.analysis import IDENTITY, MeshIslands, transform_regions
from quilt_core.uv.density import even_scales, island_world_areas
from tests.real_files import fetch, path


@dataclass(frozen=True)
class IslandSet:
    """A named set: files of a package, map size, padding, seconds.

    `rings`: filling holes is the point. `mesh_units`: sizes are those of the files' vertices, whatever a node scales them by.
    """

    name: str
    package: str
    files: tuple[str, ...]
    map_px: int = 512
    padding_px: float = 1.0
    seconds: float = 20.0
    rings: bool = False
    mesh_units: bool = False


def _webxr(name: str, *models: str, **more: object) -> IslandSet:
    return IslandSet(name, "webxr", tuple(f"{m}.glb" for m in models), **more)  # type: ignore[arg-type]


PLAIN = (
    _webxr("hp", "hp-mixed-reality/left"),
    _webxr("cosmos", "htc-vive-cosmos/left"),
    _webxr("mixed A", "htc-vive/none", "htc-vive-focus-plus/none", "oculus-touch/left"),
    _webxr("mixed B", "oculus-touch-v2/left", "valve-index/left", "pico-4u/left"),
    _webxr("mixed C", "generic-trigger-squeeze/none", "generic-trigger-squeeze-thumbstick/none", "google-daydream/none", "pico-g2/none"),
    _webxr("mixed D", "htc-vive-focus-3/left", "oculus-go/none", "htc-vive/none", "samsung-galaxyxr/left"),
    _webxr("mixed E", "yvr-touch/left", "microsoft-mixed-reality/left", "oculus-touch-v3/left", "generic-hand/left", "pico-neo2/left"),
)
RINGS = (
    _webxr("magicleap", "magicleap-two/none", rings=True),
    _webxr("ring A", "meta-quest-touch-plus/left", "meta-quest-touch-pro/left", rings=True),
    _webxr("ring B", "meta-quest-touch-plus-v2/left", "magicleap-two/none", "generic-touchpad/none", rings=True),
)

# Sets of 20 to 60 islands, few of them large, to see how far runs differ; constants are chosen on the first half, and the other is reported.
CHOSEN_ON = (
    _webxr("focus 3", "htc-vive-focus-3/left"),
    _webxr("touch pro", "meta-quest-touch-pro/left"),
    _webxr("touch", "oculus-touch/left"),
    _webxr("yvr", "yvr-touch/left"),
)
REPORTED = (
    _webxr("mixed reality", "microsoft-mixed-reality/left"),
    _webxr("touch v2", "oculus-touch-v2/left"),
    _webxr("index", "valve-index/left"),
    _webxr("focus plus", "htc-vive-focus-plus/none"),
    _webxr("go, a giant", "oculus-go/none"),
    _webxr("odd pair", "yvr-touch-v2/left", "samsung-odyssey/left"),
)


def all_models(mesh_units: bool = False) -> IslandSet:
    """Every model that is neither generic nor for the right hand, but one: 967 islands."""
    root = fetch("webxr")
    names = sorted(p.relative_to(root).as_posix()[:-4] for p in root.glob("*/*.glb"))
    kept = [n for n in names if not n.split("/")[1].startswith("right") and not n.startswith(("generic", "valve-index"))]
    name = "all, as files" if mesh_units else "all models"
    return _webxr(name, *kept, map_px=1024, padding_px=2.0, seconds=30.0, mesh_units=mesh_units)


def _space(piece: MeshIslands, mesh_units: bool) -> Floats:
    """Area (n,) of a piece's islands in space."""
    if not mesh_units:
        return piece.world_area
    a, b, c = (piece.mesh.positions[piece.mesh.triangles[:, k]] for k in range(3))
    return island_world_areas(piece.islands, 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1))


def regions(chosen: IslandSet) -> NDArray[np.object_]:
    """The islands (n,) of a set at one density."""
    scenes = [files.read(path(chosen.package, f), 1.0) for f in chosen.files]
    pieces = report.pieces_of(report.analyse_all(scenes, 0))
    found = np.concatenate([p.outlines.regions for p in pieces])
    owner = np.repeat(np.arange(len(pieces)), [p.islands.count for p in pieces])
    similarities = np.tile(IDENTITY, (len(found), 1))
    similarities[:, 2] = even_scales(
        np.concatenate([p.islands.area for p in pieces]), np.concatenate([_space(p, chosen.mesh_units) for p in pieces]), owner
    )
    real = ~shapely.is_empty(found)
    return transform_regions(found[real], similarities[real])
