"""The record of a material: placings of pictures, what is kept as JSON, and MTL's statements."""

from __future__ import annotations

import json
import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from quilt_core import formats
from quilt_core.formats.gltf.looks import transform_json
from quilt_core.formats.obj.mtl import blocks_of, kept_options, material, split_options
from quilt_core.model.material import Material, affine_of, as_dict, flipped, from_dict, parted, placed_uvs
from tests.kit.files import Map, Paint, dents, png, waves
from tests.kit.handed import CASES, PROPERTIES, three

ANGLES, SCALES, SHIFTS = st.floats(-3, 3), st.floats(0.1, 5) | st.floats(-5, -0.1), st.floats(-4, 4)


@given(ANGLES, SCALES, SCALES, SHIFTS, SHIFTS)
def test_a_placing_is_told_as_a_turn_scales_and_a_shift(angle: float, sx: float, sy: float, tx: float, ty: float) -> None:
    """UsdTransform2d's order: scaled, turned, then moved; put together again it is the same placing."""
    c, s = math.cos(angle), math.sin(angle)
    matrix = np.array([[c * sx, -s * sy, tx], [s * sx, c * sy, ty]])
    found = parted(matrix)
    assert found is not None
    a, (x, y), shift = found
    again = np.column_stack([np.array([[math.cos(a), -math.sin(a)], [math.sin(a), math.cos(a)]]) @ np.diag([x, y]), shift])
    assert again == pytest.approx(matrix, abs=1e-9)


@given(ANGLES, SCALES, SCALES, SHIFTS, SHIFTS)
def test_a_placing_in_gltf_reads_the_same_texel(angle: float, sx: float, sy: float, tx: float, ty: float) -> None:
    """KHR_texture_transform as its text multiplies it, on a v that counts downward."""
    c, s = math.cos(angle), math.sin(angle)
    placed = affine_of(np.array([[c * sx, -s * sy, tx], [s * sx, c * sy, ty]]))
    said = transform_json(placed)
    uv = np.array([0.3, 0.8])
    if placed is None or said is None:
        assert placed is None
        return
    r = said["rotation"]
    down = (
        np.array([[math.cos(r), math.sin(r)], [-math.sin(r), math.cos(r)]]) @ (np.array(said["scale"]) * [uv[0], 1 - uv[1]])
        + said["offset"]
    )
    assert [down[0], 1 - down[1]] == pytest.approx(placed_uvs(uv, placed), abs=1e-6)


@given(st.lists(st.floats(-5, 5), min_size=6, max_size=6))
def test_turning_v_over_twice_changes_nothing(values: list[float]) -> None:
    matrix = np.array(values).reshape(2, 3)
    assert flipped(flipped(matrix)) == pytest.approx(matrix, abs=1e-9)


def test_a_skewed_placing_has_no_parts() -> None:
    assert parted(np.array([[1.0, 0.5, 0.0], [0.0, 1.0, 0.0]])) is None and parted(np.zeros((2, 3))) is None
    assert affine_of(np.array([[1.0, 0.0, 0.0], [0.0, 1.0, 0.0]])) is None


@pytest.mark.parametrize(
    ("ending", "name"), [c for c in CASES if c[1] in ("plain", "mask", "clamp", "transforms that differ", "normal scale")]
)
def test_records_are_the_same_after_json(ending: str, name: str) -> None:
    made, main, _ = three(PROPERTIES[name], ending)
    for m in formats.read(made[main], main, 1.0, made).materials:
        assert from_dict(json.loads(json.dumps(as_dict(m)))) == m


@pytest.mark.parametrize(
    ("text", "path", "kept"),
    [
        ("wood.png", "wood.png", ""),
        ("old wood, dark.png", "old wood, dark.png", ""),
        ("-s 2 3 1 -o 0.5 0 0 wood.png", "wood.png", ""),
        ("-bm 0.4 -clamp on a b.png", "a b.png", "-bm 0.4"),
        ("-s 2 wood.png", "wood.png", ""),
        ("-imfchan r -texres 256 -mm 0 1 x.png", "x.png", "-imfchan r -texres 256 -mm 0 1"),
        ("-o 1 2 3 4.png", "4.png", ""),
        ("-blendu off -blendv off y.png", "y.png", "-blendu off -blendv off"),
        ("-wood.png", "-wood.png", ""),
        ("C:\\maps\\wood.png", "C:\\maps\\wood.png", ""),
    ],
)  # fmt: skip
def test_options_before_a_path(text: str, path: str, kept: str) -> None:
    assert split_options(text)[1] == path and kept_options(text) == kept


def of(text: str, **files: bytes) -> Material:
    return material("a", blocks_of(f"newmtl a\n{text}\n".encode())["a"], {k.replace("__", "."): v for k, v in files.items()})


def test_what_statements_say() -> None:
    m = of("Kd .5\nKs 1 0 0\nKe 0 2 0\nNs 30\nd 0.25\nTr 0.1\nPr 0.4\nPm 1\nNi 1.45")
    # 0.5 in sRGB is 0.2140 of linear light (IEC 61966-2-1: ((0.5 + 0.055) / 1.055) ^ 2.4).
    assert m.colour == pytest.approx((((0.5 + 0.055) / 1.055) ** 2.4,) * 3) and (m.specular, m.emission, m.gloss) == (
        (1, 0, 0),
        (0, 1, 0),
        30,
    )
    assert (m.opacity, m.alpha, m.roughness, m.metal) == (0.25, "blend", 0.4, 1), "d counts before Tr"
    assert of("Tr 0.25").opacity == 0.75 and of("d 0").opacity is None, "what nothing is seen of is a slip"
    assert of("Kd 0 0 0\nmap_Kd a.png").colour == (1, 1, 1) and of("Kd 0 0 0").colour == (0, 0, 0)
    assert of("Kd nan 0 0\nPr inf").colour is None and of("Pr inf").roughness is None
    assert of("map_Kd a.png\nmap_d a.png").see_through and not of("map_Kd a.png\nmap_d b.png").see_through
    t = of("map_Kd -s 2 4 -o .1 .2 -clamp on a.png").textures["map_Kd"]
    assert t.wrap == ("clamp", "clamp") and placed_uvs(np.array([1.0, 1.0]), t.placed) == pytest.approx([2.1, 4.2])


def test_what_a_bump_picture_holds_is_seen_in_it() -> None:
    kinds = {
        name: of("map_bump x.png", x__png=png(v)).maps for name, v in (("normals", dents(1)), ("grey", waves(2, 1)), ("colours", waves(3)))
    }
    assert [list(k) for k in kinds.values()] == [["normal"], ["height"], ["height"]]
    assert list(of("bump gone.png").maps) == ["height"] and list(of("norm gone.png").maps) == ["normal"]


def test_the_kit_has_what_it_says() -> None:
    """A picture that a case is about differs from the one beside it, or the case would judge nothing."""
    pictures = [m.values for p in PROPERTIES.values() for m in p.maps.values() if isinstance(m, Map)]
    assert all(np.ptp(v) > 60 for v in pictures) and all(isinstance(p, Paint) for p in PROPERTIES.values())
