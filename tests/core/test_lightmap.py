"""A light map's UVs: judged by shapely on the triangles themselves, and by arithmetic."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
import trimesh

from quilt_core.arrange.lightmap import light_map
from quilt_core.errors import QuiltError
from quilt_core.model.scene import UvChannel
from quilt_core.unwrap.skin import Laying, Skin, laying_of, skin_of
from quilt_core.uv.areas import signed_areas
from quilt_core.uv.islands import find_islands

from .test_unwrap import mesh_of


def stacked(bare: bool) -> tuple[Skin, Laying]:
    """A box whose six sides lie on each other, one of them mirrored; or without UVs."""
    box = trimesh.creation.box((1, 2, 3))
    points, faces = np.asarray(box.vertices), np.asarray(box.faces)
    mesh = mesh_of(points, faces)
    if bare:
        skin = skin_of(mesh)
        n = len(skin.kept)
        return skin, Laying(np.full((n, 3, 2), np.nan), np.zeros(3 * n, bool), np.full(n, -1))
    normal = np.asarray(box.face_normals)
    uv = np.zeros((len(faces), 3, 2))
    for k, f in enumerate(faces):
        axis = int(np.argmax(np.abs(normal[k])))
        uv[k] = np.delete(points[f], axis, axis=1) / 10
    side = np.unique(np.round(normal, 3), axis=0, return_inverse=True)[1].reshape(-1)
    rows, index = np.unique(np.column_stack([np.repeat(side, 3), np.round(uv.reshape(-1, 2), 9)]), axis=0, return_inverse=True)
    mesh.channels[0] = UvChannel(rows[:, 1:].copy(), index.reshape(-1, 3).astype(np.int32))
    skin = skin_of(mesh)
    return skin, laying_of(skin, mesh.channels[0], find_islands(mesh, mesh.channels[0]).of_triangle)


@pytest.mark.parametrize("bare", [False, True])
def test_every_place_lies_once_apart_by_whole_texels_at_one_density(bare: bool) -> None:
    skin, laying = stacked(bare)
    px, texels = 128, 3
    made = light_map(skin, laying, px, texels, 0.5)
    uv = made.revised.channel.uvs[made.revised.channel.triangles]
    island = made.revised.island
    assert made.anew.all() == bare and (made.anew.any() == bare)
    assert uv.min() >= 0 and uv.max() <= 1 and (signed_areas(uv) > 0).all()
    regions = [shapely.union_all(shapely.polygons(uv[island == k]).tolist()) for k in np.unique(island)]
    gaps = [float(a.distance(b)) * px for i, a in enumerate(regions) for b in regions[i + 1 :]]
    assert min(gaps, default=99.0) >= texels - 1e-6
    low = np.array([r.bounds[:2] for r in regions]) * px
    assert np.abs(low - np.round(low)).max() < 1e-6
    density = np.array([r.area for r in regions]) / [skin.surface.area[island == k].sum() for k in np.unique(island)]
    assert np.ptp(density) < 1e-6 * density.mean()
    assert len(regions) == (6 if not bare else len(regions))
    assert sum(r.area for r in regions) == pytest.approx(np.abs(signed_areas(uv)).sum())


def test_what_cannot_be_is_refused() -> None:
    skin, laying = stacked(False)
    with pytest.raises(QuiltError, match="px wide"):
        light_map(skin, laying, 8, 1)
    with pytest.raises(QuiltError, match="quarter"):
        light_map(skin, laying, 64, 16)
