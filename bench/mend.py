"""Unwrapping real models anew against the UVs that their makers gave them: `python -m bench.mend [stretch [bent]]`.

For every model: charts, seam length over the root of the area (ours, theirs), share of the surface under a stretch of 1.1 and 1.5 (ours, theirs), area of the
charts over their hulls, seconds. With "bent" flat sides need not stay flat. Judged by the singular values of numpy and by shapely's unions, not by the measures of the unwrapping itself.
"""

from __future__ import annotations

import statistics
import sys
import time

import numpy as np
import shapely

from quilt_core import formats
from quilt_core.errors import QuiltError
from quilt_core.model.scene import Floats, Scene, UvChannel
from quilt_core.unwrap.meshes import Options, unwrap
from quilt_core.unwrap.scenes import seam_length
from tests.real_files import path

CONTROLLERS = (
    "oculus-touch-v2/left", "oculus-touch-v3/left", "pico-4/left", "pico-neo2/left", "pico-neo3/left", "hp-mixed-reality/left", "meta-quest-touch-plus/left",
    "meta-quest-touch-pro/left", "microsoft-mixed-reality/left", "samsung-odyssey/left", "valve-index/left", "htc-vive-focus-3/left", "generic-hand/left",
    "magicleap-one/none", "oculus-go/left", "yvr-touch/left", "generic-trigger/none", "generic-button/none", "generic-touchpad/none",
    "generic-trigger-squeeze/none", "google-daydream/none",
)  # fmt: skip
OTHERS = (("gradio", "Duck.glb"), ("assimp", "Collada/COLLADA.dae"), ("assimp", "Collada/duck.dae"), ("pybullet", "racecar/meshes/chassis.dae"),
          ("pybullet", "racecar/meshes/hokuyo.dae"), ("pybullet", "franka_panda/meshes/visual/link2.obj"))  # fmt: skip


def stretch(scene: Scene, mesh: int, channel: UvChannel) -> tuple[Floats, Floats]:
    """Ratio of the singular values (T,) of every triangle by numpy's SVD, infinite for folded ones and those without area; and areas (T,)."""
    m = scene.meshes[mesh]
    world = next(o.world for o in scene.objects if o.mesh == mesh)
    p = (m.positions @ world[:3, :3].T)[m.triangles]
    edges = np.stack([p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]], axis=2)
    area = 0.5 * np.linalg.norm(np.cross(edges[:, :, 0], edges[:, :, 1]), axis=1)
    uv = channel.uvs[np.maximum(channel.triangles, 0)]
    plane = np.stack([uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]], axis=2)
    good = (np.abs(np.linalg.det(plane)) > 1e-14) & (area > 0) & (channel.triangles >= 0).all(axis=1)
    out = np.full(len(area), np.inf)
    values = np.linalg.svd(edges[good] @ np.linalg.inv(plane[good]), compute_uv=False)
    out[good] = values[:, 0] / np.maximum(values[:, 1], 1e-300)
    return out, area


def hull_share(channel: UvChannel) -> float:
    """Area of the islands over that of their hulls, by shapely."""
    uv = channel.uvs[channel.triangles]
    size = 0.5 * np.abs(np.linalg.det(np.stack([uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]], axis=2)))
    whole = shapely.get_parts(shapely.union_all(shapely.buffer(shapely.polygons(uv[size > 0]), 1e-9)))
    return float(shapely.area(whole).sum() / shapely.area(shapely.convex_hull(whole)).sum())


def main() -> None:
    """Print a line for every model and the medians."""
    options = Options(stretch=float(sys.argv[1]) if len(sys.argv) > 1 else 1.25, keep_flat="bent" not in sys.argv)
    rows = []
    for package, name in [*(("webxr", f"{n}.glb") for n in CONTROLLERS), *OTHERS]:
        try:
            scene = formats.read(path(package, name).read_bytes(), name.rsplit("/", 1)[-1], 1.0, {})
        except (OSError, QuiltError) as e:
            print(f"{name}: {e}")
            continue
        begin = time.perf_counter()
        made = {n: unwrap(m, options, next(o.world for o in scene.objects if o.mesh == n)[:3, :3]) for n, m in enumerate(scene.meshes)}
        seconds = time.perf_counter() - begin
        ours = [stretch(scene, n, u.channel) for n, u in made.items()]
        ratio, area = (np.concatenate([x[k] for x in ours]) for k in (0, 1))
        theirs = [stretch(scene, n, m.channels[0]) for n, m in enumerate(scene.meshes) if 0 in m.channels]
        total = area.sum()
        seam = sum(seam_length(scene, n, u.channel) for n, u in made.items()) / np.sqrt(total)
        old = sum(seam_length(scene, n, m.channels[0]) for n, m in enumerate(scene.meshes) if 0 in m.channels) / np.sqrt(total)
        hull = sum(hull_share(u.channel) * u.area for u in made.values()) / sum(u.area for u in made.values())
        under = [float(area[ratio < k].sum() / total) for k in (1.1, 1.5)]
        was = [sum(float(a[r < k].sum()) for r, a in theirs) / total for k in (1.1, 1.5)] if theirs else [np.nan, np.nan]
        unsound = sum(u.unsound for u in made.values())
        rows.append((sum(u.charts for u in made.values()), seam, old, *under, *was, hull, seconds, len(ratio), unsound))
        print(
            f"{name:38} {len(ratio):6} triangles {rows[-1][0]:4} charts, seam {seam:5.2f} ({old:5.2f}), under 1.1 {under[0]:.3f} ({was[0]:.3f}), "
            f"under 1.5 {under[1]:.4f} ({was[1]:.4f}), hull {hull:.2f}, {seconds:5.1f} s, unsound {unsound}", flush=True,
        )  # fmt: skip
    table = np.array(rows, float)
    known = table[table[:, 2] > 0]
    print(
        f"{len(table)} models: median seam {np.median(table[:, 1]):.2f}, ratio to theirs {statistics.median(known[:, 1] / known[:, 2]):.2f} (worst "
        f"{(known[:, 1] / known[:, 2]).max():.2f}), under 1.1 {np.median(table[:, 3]):.3f}, under 1.5 {np.median(table[:, 4]):.4f} (least "
        f"{table[:, 4].min():.4f}), hull {np.median(table[:, 7]):.2f}, unsound {int(table[:, 10].sum())}, {table[:, 8].sum():.0f} s"
    )  # fmt: skip


if __name__ == "__main__":
    main()
