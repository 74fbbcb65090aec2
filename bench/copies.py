"""UVs of the left controllers for the right ones: how much of each was matched in which way, and what came out.

    python -m bench.copies [names ...]

The right file is shuffled first: points, faces and the corners of each. Figures beside the left one's own: share of the area under a stretch of 1.5, and
triangles folded over.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

import numpy as np

from quilt_core import formats
from quilt_core.model.scene import Floats, Mesh, Scene, UvChannel
from quilt_core.unwrap.copies import copied
from quilt_core.unwrap.flatten import frames
from quilt_core.unwrap.ledger import singular
from quilt_core.unwrap.match import matched
from quilt_core.unwrap.skin import Laying, Skin, laying_of, skin_of
from quilt_core.unwrap.topology import cut
from quilt_core.uv.areas import signed_areas
from quilt_core.uv.islands import find_islands
from tests.real_files import CACHE


def whole(scene: Scene) -> Mesh:
    """All meshes of a scene as one, in the world; without what has no UVs."""
    points, triangles, uvs, rows = [], [], [], []
    for o in scene.objects:
        m = scene.meshes[o.mesh]
        if 0 not in m.channels:
            continue
        at, first = sum(map(len, points)), sum(map(len, uvs))
        points.append(m.positions @ o.world[:3, :3].T + o.world[:3, 3])
        triangles.append(m.triangles + at)
        uvs.append(m.channels[0].uvs)
        rows.append(m.channels[0].triangles + first)
    t = np.concatenate(triangles)
    return Mesh("all", np.concatenate(points), t, np.zeros(len(t), np.int32), {0: UvChannel(np.concatenate(uvs), np.concatenate(rows))})


def shuffled(mesh: Mesh, rng: np.random.Generator) -> Mesh:
    """The same surface in another order, without UVs."""
    order = rng.permutation(len(mesh.positions))
    faces = np.argsort(order)[mesh.triangles]
    faces = np.array([np.roll(f, rng.integers(3)) for f in faces])[rng.permutation(len(faces))].astype(np.int32)
    return Mesh("other", mesh.positions[order], faces, np.zeros(len(faces), np.int32), {})


def looked(skin: Skin, lies: Laying) -> tuple[float, int]:
    """Share of the area under a stretch of 1.5, and triangles wound against their island."""
    faces = np.flatnonzero(~lies.bare)
    big, small = singular(frames(skin.surface, faces), lies.uv[faces])
    area = skin.surface.area[faces]
    sign = signed_areas(lies.uv[faces])
    of = cut(skin.surface, lies.seam).chart[faces]
    against = np.sign(np.bincount(of, sign))[of] * sign < -1e-14
    ratio = big / np.maximum(small, 1e-300)
    return float(area[ratio < 1.5].sum() / area.sum()), int(against.sum())


def read(path: Path) -> Scene:
    return formats.read(path.read_bytes(), path.name)


def main(names: list[str]) -> None:
    folder = next(CACHE.glob("webxr-*")) / "package/dist/profiles"
    print(f"{'pair':28} faces          whole  part  graph   near  away    near%  anew  a1.5 was/now   folded was/now  s")
    for left in sorted(folder.glob("*/left.glb")):
        right = left.with_name("right.glb")
        if not right.exists() or (names and left.parent.name not in names):
            continue
        one, other = whole(read(left)), shuffled(whole(read(right)), np.random.default_rng(1))
        source, skin = skin_of(one), skin_of(other)
        lies = laying_of(source, one.channels[0], find_islands(one, one.channels[0]).of_triangle)
        start = time.perf_counter()
        done = copied(source, lies, skin, matched(source, skin))
        seconds = time.perf_counter() - start
        if done is None:
            print(f"{left.parent.name:28} {len(source.kept):6} {len(skin.kept):6}  no copy  {seconds:.1f} s")
            continue
        was, now = looked(source, lies), looked(skin, done.laying)
        shares: list[Floats] = [100 * done.shares[k] for k in ("whole", "part", "graph", "near")]  # type: ignore[misc]
        print(
            f"{left.parent.name:28} {len(source.kept):6} {len(skin.kept):6}  " + " ".join(f"{x:5.1f} " for x in shares)
            + f" {done.away:.1e} {100 * done.near:5.2f} {done.anew:4}   {was[0]:.3f} {now[0]:.3f}   {was[1]:5} {now[1]:5}  {seconds:.1f}"
        )  # fmt: skip


if __name__ == "__main__":
    main(sys.argv[1:])
