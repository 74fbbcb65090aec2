"""Carry-over against arithmetic: pictures come back, vectors turn with their islands, sizes keep their ratios."""

from __future__ import annotations

import numpy as np
import pytest
from PIL import Image

from quilt_core.formats.pictures import stored_values
from quilt_core.model.similarity import applied
from quilt_core.textures.carry import (
    Patch,
    carry,
    difference,
    difference_picture,
    linear_maps,
    mips_of,
    picture_of,
    to_linear,
    to_srgb,
)

SQUARE = np.array([[[0, 0], [1, 0], [1, 1]], [[0, 0], [1, 1], [0, 1]]], float)


def smooth(size: int, seed: int = 0) -> np.ndarray:
    """A made-up picture without sharp edges: a resampled one can be told from it only by real faults."""
    rng = np.random.default_rng(seed)
    small = Image.fromarray((rng.random((8, 8, 3)) * 255).astype(np.uint8), "RGB")
    return np.asarray(small.resize((size, size), Image.Resampling.BICUBIC), np.float32) / 255


def laid(angle: float, mirror: float, scale: float, u: float, v: float) -> np.ndarray:
    row = np.repeat(np.array([[angle, mirror, scale, u, v]]), 6, axis=0)
    return applied(row, SQUARE.reshape(-1, 2)).reshape(2, 3, 2)


def middle(angle: float, mirror: float, scale: float) -> tuple[float, float]:
    """The offset at which the square's middle comes to the middle of the tile."""
    c, s = 0.5 * scale * np.cos(angle), 0.5 * scale * np.sin(angle)
    return 0.5 - (c * mirror - s), 0.5 - (s * mirror + c)


def psnr(a: np.ndarray, b: np.ndarray) -> float:
    return float(10 * np.log10(1 / max(1e-12, np.mean((a.astype(float) - b) ** 2))))


def test_srgb_and_back() -> None:
    """IEC 61966-2-1: 0.5 stored is 0.2140 in linear light."""
    x = np.linspace(0, 1, 256, dtype=np.float32)
    assert to_srgb(to_linear(x)) == pytest.approx(x, abs=1e-5)
    assert float(to_linear(np.float32([0.5]))[0]) == pytest.approx(0.2140, abs=1e-4)


def test_the_same_layout_gives_the_same_picture() -> None:
    picture = smooth(64)
    found = carry([Patch(SQUARE, SQUARE, mips_of(picture, "base colour"))], "base colour", 64)
    assert found.covered.all() and found.bare == 0
    assert np.abs(found.values - picture).max() < 1e-4


@pytest.mark.parametrize("angle", [0, np.pi / 2, np.pi, 0.4])
@pytest.mark.parametrize("mirror", [1.0, -1.0])
@pytest.mark.parametrize("kind", ["base colour", "roughness"])
def test_forth_and_back(angle: float, mirror: float, kind: str) -> None:
    """A picture carried into a turned and mirrored island and back again: PSNR over 38 dB (46 dB for whole quarter turns)."""
    picture = smooth(128)
    new = laid(angle, mirror, 0.6, *middle(angle, mirror, 0.6))
    there = carry([Patch(new, SQUARE, mips_of(picture, kind))], kind, 512)
    back = carry([Patch(SQUARE, new, mips_of(there.values, kind))], kind, 128)
    inner = slice(4, -4)
    assert psnr(back.values[inner, inner], picture[inner, inner]) > (38 if angle == 0.4 else 46)
    seen = difference([Patch(new, SQUARE, mips_of(picture, kind))], there, kind, 512)
    assert seen.psnr > 38 and seen.mean < 1.5 and len(seen.at) > 100_000
    assert seen.high < 6 and difference_picture(seen, 64).size == (64, 64)


@pytest.mark.reference("sRGB: averages are of light, not of stored values", "IEC 61966-2-1")
def test_shrinking_averages_in_linear_light() -> None:
    """Arithmetic: black and white texels in equal parts are half the light, 188 of 255 in sRGB; as data they are 128."""
    stripes = np.zeros((64, 64, 3), np.float32)
    stripes[:, ::2] = 1
    for kind, wanted in (("base colour", 188), ("roughness", 128)):
        found = carry([Patch(SQUARE, SQUARE, mips_of(stripes, kind))], kind, 8)
        assert np.asarray(picture_of(found.values)) == pytest.approx(wanted, abs=1)


def test_textures_of_different_size_keep_their_texel_ratio() -> None:
    """A 64 and a 32 px texture on one sheet: the island of the first is twice as wide for the same texels, and both come out sharp."""
    a, b = smooth(64, 1), smooth(32, 2)
    patches = [Patch(SQUARE * 0.5, SQUARE, mips_of(a, "roughness")), Patch(SQUARE * 0.25 + [0.5, 0.5], SQUARE, mips_of(b, "roughness"))]
    found = carry(patches, "roughness", 128)
    assert np.abs(found.values[64:, :64] - a).max() < 1e-4
    assert np.abs(found.values[32:64, 64:96] - b).max() < 1e-4


def test_padding_takes_the_nearest_colour_and_bare_triangles_the_neutral_one() -> None:
    red = np.broadcast_to(np.float32([1, 0, 0]), (4, 4, 3))
    patches = [Patch(SQUARE * 0.25 + [0.25, 0.25], SQUARE, mips_of(red, "roughness")), Patch(SQUARE * 0.25 + [0.7, 0.7], SQUARE, None)]
    all_ = carry(patches, "roughness", 64)
    assert all_.bare == 2 and all_.values[63, 0].tolist() == [1, 0, 0]
    near = carry(patches, "normal", 64, reach=4)
    assert near.values[0, 0].tolist() == [0.5, 0.5, 1.0]
    assert carry(patches, "roughness", 64, corner=(1, 0)).covered.sum() == 0


def lit(normals: np.ndarray, light: np.ndarray, frame: np.ndarray) -> np.ndarray:
    """Lambert's law with the stored normals (k, 3) and the tangent frame (3, 3) of the surface: rows are where u, v and the normal point."""
    n = (normals * 2 - 1) @ frame
    return np.clip(n @ light / np.linalg.norm(n, axis=1), 0, 1)


@pytest.mark.reference("A turned normal map is lit as before", "Lambert's law")
@pytest.mark.parametrize(("angle", "mirror"), [(0.0, 1.0), (np.pi / 2, 1.0), (0.7, 1.0), (0.0, -1.0), (1.1, -1.0)])
def test_a_turned_normal_map_is_lit_as_before(angle: float, mirror: float) -> None:
    """A flat square in the plane: old tangents along x and y; in the new layout they are where its u and v point on the surface. The light that
    each point sends is the same before and after (up to resampling)."""
    rng = np.random.default_rng(3)
    tilt = smooth(64, 5)[:, :, :2] - 0.5
    vector = np.dstack([tilt, np.ones((64, 64))])
    picture = (vector / np.linalg.norm(vector, axis=2, keepdims=True) * 0.5 + 0.5).astype(np.float32)
    row = np.array([[angle, mirror, 0.5, *middle(angle, mirror, 0.5)]])
    new = laid(*row[0])
    patch = Patch(new, SQUARE, mips_of(picture, "normal"))
    there = carry([patch], "normal", 512)
    points = rng.uniform(0.1, 0.9, (400, 2))
    at = applied(np.repeat(row, 400, axis=0), points)
    old = picture[((1 - points[:, 1]) * 64).astype(int), (points[:, 0] * 64).astype(int)]
    now = there.values[((1 - at[:, 1]) * 512).astype(int), (at[:, 0] * 512).astype(int)]
    c, s = np.cos(angle), np.sin(angle)
    # x = M R(-a) new / scale: where the new u and v point on the surface.
    frame = np.array([[mirror * c, -s, 0], [mirror * s, c, 0], [0, 0, 1]])
    light = np.array([0.5, 0.3, 0.8]) / np.linalg.norm([0.5, 0.3, 0.8])
    before, after = lit(old, light, np.eye(3)), lit(now, light, frame)
    assert np.abs(before - after).mean() < 0.01
    if angle or mirror < 0:
        assert np.abs(before - lit(old, light, frame)).mean() > 0.02, "vectors that are not turned would be lit otherwise"


def test_turns_of_triangles() -> None:
    for angle, mirror in ((0.3, 1.0), (2.0, -1.0)):
        m = linear_maps(laid(angle, mirror, 3.0, 0.1, 0.2), SQUARE)[0].reshape(2, 2)
        assert m @ [1, 0] == pytest.approx(mirror * np.array([np.cos(angle), np.sin(angle)]))
        assert m @ [0, 1] == pytest.approx([-np.sin(angle), np.cos(angle)])


def test_sixteen_bit_grey_keeps_its_depth() -> None:
    grey = Image.fromarray(np.arange(0, 65536, 257, dtype=np.uint16).reshape(16, 16))
    assert stored_values(grey)[0, 1, 0] == pytest.approx(257 / 65535)
