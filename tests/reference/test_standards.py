"""Published standards that the program relies on."""

from __future__ import annotations

import numpy as np
import pytest
from PIL import Image, ImageCms

from quilt_core import formats
from quilt_core.measure.bleed import bleed
from quilt_core.model.similarity import applied
from quilt_core.textures.carry import to_linear, to_srgb
from quilt_core.uv.stretch import singular_values
from quilt_core.uv.turning import linear_maps
from tests.core.test_faults import pieces_of, squares
from tests.real_files import path


@pytest.mark.reference("sRGB to linear light and back", "IEC 61966-2-1, as the colour library behind Pillow (LittleCMS) has it")
def test_srgb_is_the_one_of_littlecms() -> None:
    """CIE lightness of every grey by LittleCMS (perceptual, 8 bit), against the lightness of our linear light (CIE 1976: 116 Y^(1/3) - 16)."""
    grey = np.repeat(np.arange(256, dtype=np.uint8)[None, :, None], 3, axis=2)
    to_lab = ImageCms.buildTransform(ImageCms.createProfile("sRGB"), ImageCms.createProfile("LAB"), "RGB", "LAB")
    image = ImageCms.applyTransform(Image.fromarray(grey, "RGB"), to_lab)
    assert image is not None
    theirs = np.asarray(image)[0, :, 0] / 255 * 100
    y = to_linear(np.arange(256, dtype=np.float32) / 255).astype(float)
    ours = np.where(y > (6 / 29) ** 3, 116 * np.cbrt(y) - 16, y * (29 / 3) ** 3)
    assert np.abs(ours - theirs).max() < 0.5
    assert to_srgb(to_linear(np.float32([0.04045, 0.5, 1.0]))) == pytest.approx([0.04045, 0.5, 1.0], abs=1e-6)


@pytest.mark.reference("Mip chain of any map size", "OpenGL 4.6 core, 8.14.3, and Vulkan 1.3: level k has max(1, floor(size / 2^k)) texels")
@pytest.mark.parametrize("px", [48, 100, 255, 256, 257, 1000])
def test_the_chain_has_all_levels_down_to_one_texel(px: int) -> None:
    pieces = pieces_of(squares([(0.2, 0.2, 0.4, 0.4)]))
    sizes = [px]
    while sizes[-1] > 1:
        sizes.append(max(1, sizes[-1] // 2))
    assert bleed(pieces, None, pieces[0].outlines.regions, px, 4.0).levels == len(sizes)


@pytest.mark.reference(
    "Stretch by singular values", "Sander, Snyder, Gortler and Hoppe 2001, section 3; numpy's SVD of each triangle's Jacobian"
)
def test_singular_values_of_a_real_mesh_are_those_of_numpy() -> None:
    scene = formats.read(path("gradio", "Duck.glb").read_bytes(), "Duck.glb")
    o = scene.objects[0]
    mesh, channel = scene.meshes[o.mesh], scene.meshes[o.mesh].channels[0]
    found = singular_values(mesh, channel, o)
    p = (mesh.positions @ o.world[:3, :3].T)[mesh.triangles[found.which]]
    uv = channel.uvs[channel.triangles[found.which]]
    edges = np.stack([p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]], axis=2)
    plane = np.stack([uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]], axis=2)
    values = np.linalg.svd(edges @ np.linalg.inv(plane), compute_uv=False)
    assert found.greatest == pytest.approx(values[:, 0], rel=1e-6) and found.least == pytest.approx(values[:, 1], rel=1e-4, abs=1e-9)


def mikktspace(p: np.ndarray, uv: np.ndarray, n: np.ndarray) -> np.ndarray:
    """Tangent frames (T, 3, 3) of unshared triangles after Mikkelsen, "Simulation of wrinkled surfaces revisited" (2008), from memory: at a corner the
    tangent is the direction in which u grows on the triangle, laid into the plane of the corner's normal; the bitangent is sign x n x t, with
    the sign of the UV area. Rows: tangent, bitangent, normal at the first corner."""
    e0, e1, f0, f1 = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0], uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    area = f0[:, 0] * f1[:, 1] - f0[:, 1] * f1[:, 0]
    t = (e0 * f1[:, 1:2] - e1 * f0[:, 1:2]) * np.sign(area)[:, None]
    t -= (t * n).sum(axis=1, keepdims=True) * n
    t /= np.linalg.norm(t, axis=1, keepdims=True)
    return np.stack([t, np.sign(area)[:, None] * np.cross(n, t), n], axis=1)


@pytest.mark.reference(
    "Tangents: a normal map carried into turned and mirrored islands means the same in MikkTSpace",
    "glTF 2.0 3.7.2.1 names MikkTSpace; its definition from memory",
)
@pytest.mark.reference(
    "Rotating or mirroring an island turns the vectors of its normal map", "arithmetic in the tangent frames of MikkTSpace"
)
def test_carried_normals_are_the_same_in_the_world() -> None:
    random = np.random.default_rng(8)
    count = 400
    n = random.normal(size=(count, 3))
    n /= np.linalg.norm(n, axis=1, keepdims=True)
    # Triangles whose UVs are similar to them in the plane of their normal: only there is the bitangent the direction of v.
    side = np.cross(n, random.normal(size=(count, 3)))
    side /= np.linalg.norm(side, axis=1, keepdims=True)
    uv = random.uniform(size=(count, 3, 2))
    flip = np.where(random.random(count) < 0.5, -1.0, 1.0)
    # Every triangle is seen from its front: where the UVs are mirrored, so is their winding.
    e, f = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    back = np.sign(e[:, 0] * f[:, 1] - e[:, 1] * f[:, 0]) != flip
    uv[back] = uv[back][:, [0, 2, 1]]
    up = np.cross(n, side) * flip[:, None]
    p = uv[:, :, :1] * side[:, None] + uv[:, :, 1:] * up[:, None]
    rows = np.column_stack(
        [
            random.uniform(0, 6.28, count),
            np.where(random.random(count) < 0.5, -1, 1),
            random.uniform(0.2, 3, count),
            *random.uniform(size=(2, count)),
        ]
    )
    new = applied(np.repeat(rows, 3, axis=0), uv.reshape(-1, 2)).reshape(-1, 3, 2)
    stored = np.column_stack([random.uniform(-0.6, 0.6, (count, 2)), np.ones(count)])
    turned = stored.copy()
    turned[:, :2] = (linear_maps(new, uv).reshape(-1, 2, 2) @ stored[:, :2, None])[:, :, 0]
    before = (stored[:, None] @ mikktspace(p, uv, n))[:, 0]
    after = (turned[:, None] @ mikktspace(p, new, n))[:, 0]
    assert np.abs(before - after).max() < 1e-9
    assert np.abs((stored[:, None] @ mikktspace(p, new, n))[:, 0] - before).mean() > 0.1, "vectors that are left as they are would not be"
