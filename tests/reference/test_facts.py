"""Facts of the trade and of arithmetic, each with its source beside it."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
import shapely

from demo.textures import png
from quilt_cli.main import main
from quilt_core import formats
from quilt_core.arrange.sheet import pack_sheet
from quilt_core.edit.repairs import flip_back
from quilt_core.measure.bleed import bleed
from quilt_core.measure.proof import flipped
from quilt_core.model.tiles import Grid
from quilt_core.pack import Recipe, pack
from quilt_core.textures.tile_images import named
from quilt_core.uv.analysis import IDENTITY, analyse, object_density
from quilt_core.uv.density import densities
from tests.core.test_faults import pieces_of, squares
from tests.shapes import PLANE, gltf_plane


@pytest.mark.reference(
    "UDIM tiles of a 10 x 2 grid, and how their files are called", "common practice, no source; MaterialX and OpenUSD number tiles so"
)
def test_a_grid_of_ten_by_two_is_1001_to_1020_with_files_named_by_tile() -> None:
    numbers = Grid(64, 10, 2).numbers
    assert numbers == list(range(1001, 1021)) and named("name.{tile}.png", "s", numbers[-1], "k") == "name.1020.png"
    assert [1001 + c + 10 * r for r in range(2) for c in range(10)] == numbers


@pytest.mark.reference("The origin of v: up in OBJ, down in glTF", "glTF 2.0 (Khronos) 3.8.4; OBJ by habit, no source")
def test_one_plane_has_one_layout_whatever_its_format_counts_from() -> None:
    """The raw numbers of the glTF are 1 - v of the OBJ's; read, both give the same UVs, and written into the other they are turned over again."""
    obj, gltf = formats.read(PLANE, "a.obj"), formats.read(gltf_plane([{"mesh": 0}]), "a.gltf")

    def corners(scene: object) -> np.ndarray:
        mesh = scene.meshes[0]  # type: ignore[attr-defined]
        rows = np.hstack([mesh.positions[mesh.triangles].reshape(-1, 3), mesh.channels[0].uvs[mesh.channels[0].triangles].reshape(-1, 2)])
        return np.unique(rows, axis=0)

    assert np.allclose(corners(obj), corners(gltf))
    lifted = formats.write(gltf, {0: gltf.meshes[0].channels[0].uvs * 0.5})[""]
    document = json.loads(lifted)
    import base64

    data = base64.b64decode(
        document["buffers"][document["bufferViews"][document["accessors"][1]["bufferView"]]["buffer"]]["uri"].partition(",")[2]
    )
    view = document["bufferViews"][document["accessors"][1]["bufferView"]]
    raw = np.frombuffer(data[view.get("byteOffset", 0) :][: view["byteLength"]], "<f4").reshape(-1, 2)
    assert raw[:, 1].min() == pytest.approx(0.5) and raw[:, 1].max() == pytest.approx(1.0), "the lower left quarter is below in a picture"


@pytest.mark.reference(
    "Density of a metre that fills a map, halved scales, maps that are not square", "arithmetic: D = map px x sqrt(UV area / world area)"
)
def test_density_is_arithmetic() -> None:
    scene = formats.read(PLANE, "a.obj")
    piece = analyse(scene, 0)[0]
    assert piece is not None
    found = object_density(piece, None, 0, 1024)[0][0]
    assert found == pytest.approx(1024) and found / 100 == pytest.approx(10.24), "px/m, and px/cm"
    half = IDENTITY.reshape(1, 5).copy()
    half[0, 2] = 0.5
    assert object_density(piece, half, 0, 1024)[0][0] == pytest.approx(512)
    one = np.ones(1)
    assert densities(one, one, float(np.sqrt(2048 * 512)))[0] == pytest.approx(1024), "2048 x 512 px"


@pytest.mark.reference("Padding on the usual map sizes: 4, 8, 16 and 32 px at 512 to 4096", "common practice, no source")
@pytest.mark.parametrize(("px", "padding"), [(512, 4), (1024, 8), (2048, 16), (4096, 32)])
def test_the_usual_padding_is_the_same_share_of_every_map_and_clean_down_to_the_same_size(px: int, padding: int) -> None:
    gap = padding / px
    pieces = pieces_of(squares([(0.25, 0.25, 0.5, 0.5), (0.5 + gap, 0.25, 0.75 + gap, 0.5)]))
    regions = np.concatenate([p.outlines.regions for p in pieces])
    found = bleed(pieces, None, regions, px, padding)
    assert gap == 1 / 128 and px >> found.clean == 256, "the mip of 256 px is the last clean one on every map size"


@pytest.mark.reference(
    "A padding of p px is a texel wide down to level floor(log2 p)", "common practice, no source; measured here on the mip chain"
)
@pytest.mark.parametrize("padding", [2, 4, 8, 16])
def test_the_rule_of_thumb_is_one_level_more_than_what_is_clean(padding: int) -> None:
    px = 256
    pieces = pieces_of(squares([(0.25, 0.25, 0.5, 0.5), (0.5 + padding / px, 0.25, 0.75 + padding / px, 0.5)]))
    found = bleed(pieces, None, np.concatenate([p.outlines.regions for p in pieces]), px, padding)
    assert found.thumb == int(np.floor(np.log2(padding))) and padding / 2**found.thumb >= 1
    assert found.clean == found.thumb - 1, "bilinear samples reach half a texel further than the rule thinks"


def cut(random: np.random.Generator, count: int) -> np.ndarray:
    """A square cut into `count` boxes by straight cuts: they fill it whole, so the best possible coverage is known."""
    boxes = [(0.0, 0.0, 1.0, 1.0)]
    while len(boxes) < count:
        k = int(np.argmax([(c - a) * (d - b) * random.uniform(0.3, 1) for a, b, c, d in boxes]))
        a, b, c, d = boxes.pop(k)
        t = random.uniform(0.3, 0.7)
        boxes += (
            [(a, b, a + t * (c - a), d), (a + t * (c - a), b, c, d)]
            if c - a > d - b
            else [(a, b, c, b + t * (d - b)), (a, b + t * (d - b), c, d)]
        )
    return np.array([shapely.box(0, 0, c - a, d - b) for a, b, c, d in boxes], object)


@pytest.mark.reference(
    "Steps of 90 degrees keep boxes upright, and hard-surface sets come over 82 %",
    "common practice, no source; boxes cut from a square fill it whole (arithmetic)",
)
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_boxes_cut_from_a_square_come_back_very_well(seed: int) -> None:
    found = pack(cut(np.random.default_rng(seed), 24), Recipe(2048, 2, 1, passes=150)).best
    assert found.coverage > 0.82
    quarter = found.angle / (np.pi / 2)
    assert np.allclose(quarter, np.round(quarter)), "no island lies askew"


@pytest.mark.reference("Large islands first, the small ones into what they leave", "common practice, no source")
def test_small_islands_stand_in_the_hollows_of_large_ones() -> None:
    ring = shapely.box(0, 0, 10, 10).difference(shapely.box(1, 1, 9, 9))
    found = pack(np.array([ring] + [shapely.box(0, 0, 1.6, 1.6)] * 9, object), Recipe(1024, 2, 1, passes=60)).best
    assert found.coverage > 0.5, "beside the ring they would leave the tile under 0.36 full"


@pytest.mark.reference("Each tile filled to its border has a density of its own; one common scale has one", "arithmetic")
def test_tiles_filled_to_their_border_differ_and_a_common_scale_does_not() -> None:
    pieces = pieces_of(squares([(0.0, 0.0, 0.3 + 0.1 * (k % 2), 0.3) for k in range(5)]))
    sizes = {}
    for fill in ("common", "each"):
        done = np.concatenate(pack_sheet(pieces, Recipe(512, 4, 2, columns=2, passes=20, fill=fill)).transforms)
        world = np.concatenate([p.world_area for p in pieces])
        uv = np.concatenate([p.islands.area for p in pieces]) * done[:, 2] ** 2
        sizes[fill] = densities(uv, world, 512.0)
    assert np.ptp(sizes["common"]) < 1e-6 * sizes["common"].max()
    assert sizes["each"].max() > 1.05 * sizes["each"].min() and sizes["each"].min() >= sizes["common"].min() * (1 - 1e-6)


@pytest.mark.reference("Five parts, left and right, two maps each: 20 files become 2", "arithmetic, by the case that the design gives")
def test_twenty_pictures_become_two(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    before, sources = tmp_path / "before", []
    before.mkdir()
    for n in range(10):
        body = PLANE.replace(b"o plane", f"mtllib p{n}.mtl\no part{n}\nusemtl m{n}".encode())
        (before / f"p{n}.obj").write_bytes(body)
        (before / f"p{n}.mtl").write_text(f"newmtl m{n}\nKd 1 1 1\nmap_Kd p{n}_colour.png\nnorm p{n}_normal.png\n")
        for kind in ("colour", "normal"):
            (before / f"p{n}_{kind}.png").write_bytes(png("wheel" if n % 2 else "sack"))
        sources.append(str(before / f"p{n}.obj"))
    assert len(list(before.glob("*.png"))) == 20
    assert main(["pack", *sources, "--out", str(tmp_path / "packed"), "--map", "512", "--seconds", "0"]) == 0
    packed = [str(tmp_path / "packed" / Path(s).name) for s in sources]
    args = [
        "deliver",
        *packed,
        "--out",
        str(tmp_path / "out"),
        "--map",
        "512",
        "--templates",
        "none",
        "--paint",
        "--before",
        str(before),
        "--one-material",
    ]
    assert main([*args, "--name", "one"]) == 0
    shown = set()
    beside = {str(f.relative_to(tmp_path / "out")): f.read_bytes() for f in (tmp_path / "out").rglob("*") if f.is_file()}
    for n in range(10):
        scene = formats.read(beside[f"p{n}.obj"], f"p{n}.obj", 1.0, beside)
        shown |= {path for k in np.unique(scene.meshes[0].materials) for path in scene.materials[k].images.values()}
    assert shown == {"textures/one.base_colour.1001.png", "textures/one.normal.1001.png"}
    assert all((tmp_path / "out" / s).exists() for s in shown)


@pytest.mark.reference("Mirrored meshes have mirrored islands, which are flipped back", "arithmetic: the sign of a determinant")
def test_a_mesh_mirrored_by_its_node_is_flipped_back() -> None:
    scene = formats.read(gltf_plane([{"mesh": 0, "scale": [-1, 1, 1]}]), "a.gltf")
    piece = analyse(scene, 0)[0]
    assert piece is not None and np.linalg.det(scene.objects[0].world[:3, :3]) < 0
    table = IDENTITY.reshape(1, 5).copy()
    assert flipped(piece, table).all()
    assert not flipped(piece, flip_back(piece, table, np.ones(1, bool))).any()
