"""Materials pointed at new pictures: copies where a material is spread over tiles, one for each tile where that is asked for."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pygltflib
import pytest
from pxr import Usd, UsdGeom, UsdShade

from demo.glb import two_channels
from demo.shapes import Part, box
from demo.textures import png
from quilt_core import formats
from quilt_core.formats import rewire
from quilt_core.formats.pictures import pictures
from quilt_core.formats.wiring import plan
from quilt_core.model.scene import Scene
from tests.shapes import one_material

from .test_ply import CORNERS
from .test_usd import SHED, package

MAPS = {(0, 1001): {"base colour": "textures/a.1001.png"}, (0, 1002): {"base colour": "textures/a.1002.png"}}
BODIES = {"textures/a.1001.png": png("wheel"), "textures/a.1002.png": png("sack")}
OBJ = b"""mtllib old.mtl
v 0 0 0
v 1 0 0
v 1 1 0
v 0 1 0
vt 0 0
vt 1 0
vt 1 1
vt 0 1
o left
usemtl wood
f 1/1 2/2 3/3
f 1/1 3/3 4/4
f 2/2 3/3 4/4
usemtl iron
f 1/1 2/2 4/4
o right
f 1/1 2/2 3/3 4/4
"""
MTL = b"# by hand\nnewmtl wood\nKd 0.5 0.4 0.3\nmap_Kd wood.png\nbump dents.png\n\nnewmtl iron\nKd 0.2 0.2 0.2\n"


def spots(scene: Scene, tiles: list[list[int]]) -> dict[int, tuple[np.ndarray, np.ndarray]]:
    """All on sheet 0; tiles 1001, 1002, or 0 for triangles that are on none."""
    arrays = [np.array(t) for t in tiles]
    return {m: (np.where(t > 0, 0, -1), t) for m, t in enumerate(arrays)}


def test_only_the_libraries_that_an_obj_names_count() -> None:
    """Two files of a folder have a material of one name each, in a library each: neither becomes the other's."""
    red, green = (
        b"newmtl wood\nKd 1 0 0\nmap_Kd red.png\nnewmtl iron\nKd 0.2 0.2 0.2\n",
        b"newmtl wood\nKd 0 1 0\nd 0.5\nmap_Kd green.png\n",
    )
    beside = {"green.mtl": green, "old.mtl": red, "zinc.mtl": b"newmtl zinc\nKd 0 0 1\n"}
    scene = formats.read(OBJ, "a.obj", 1.0, beside)
    wiring = plan(scene, spots(scene, [[1001, 1002, 1001, 0], [1002, 1002]]), MAPS, {0: "Sheet 1"})
    library = rewire(scene, {"": OBJ}, beside, wiring).files["a.mtl"].decode()
    assert "Kd 1 0 0" in library and "0 1 0" not in library and "d 0.5" not in library and "zinc" not in library


@pytest.mark.parametrize(
    ("library", "picture"), [("looks/old.mtl", "looks/wood.png"), ("../looks/old.mtl", "../looks/wood.png"), ("looks/old.mtl", "wood.png")]
)
def test_pictures_of_a_library_are_counted_from_its_folder(library: str, picture: str) -> None:
    """Common practice, no source: from the library's folder; where nothing is there, from the mesh. The library that is written beside the mesh says it from there."""
    body = OBJ.replace(b"old.mtl", library.encode())
    beside = {library: MTL, picture: BODIES["textures/a.1001.png"]}
    scene = formats.read(body, "a.obj", 1.0, beside)
    assert picture in scene.references
    wiring = plan(scene, spots(scene, [[0, 0, 0, 1001], [0, 0]]), MAPS, {0: "Sheet 1"})
    written = rewire(scene, {"": body}, beside, wiring).files["a.mtl"].decode()
    assert f"map_Kd {picture}" in written


@pytest.mark.parametrize("line", [b"mtllib first.mtl second.mtl", b"mtllib first.mtl\nmtllib second.mtl", b"mtllib all of it.mtl"])
def test_a_statement_names_one_library_with_spaces_or_several(line: bytes) -> None:
    # Several names in one statement: the format's description by its maker, from memory. Of one name in two libraries the last one counts.
    first, second = b"newmtl wood\nKd 1 0 0\n", b"newmtl wood\nKd 0 0 1\nnewmtl iron\nKd 0 0.5 0\n"
    beside = {"first.mtl": first, "second.mtl": second, "all of it.mtl": second}
    body = OBJ.replace(b"mtllib old.mtl", line)
    scene = formats.read(body, "a.obj", 1.0, beside)
    assert {m.name: m.colour for m in scene.materials} == {"wood": (0, 0, 1), "iron": (0, pytest.approx(0.2140, abs=1e-4), 0)}
    assert set(scene.references) == ({"all of it.mtl"} if b"all" in line else {"first.mtl", "second.mtl"})
    wiring = plan(scene, spots(scene, [[1001, 1002, 1001, 0], [1002, 1002]]), MAPS, {0: "Sheet 1"})
    library = rewire(scene, {"": body}, beside, wiring).files["a.mtl"].decode()
    assert "Kd 0 0 1" in library and "Kd 1 0 0" not in library


def test_an_obj_gets_copies_for_the_tiles_that_a_material_is_spread_over() -> None:
    scene = formats.read(OBJ, "a.obj", 1.0, {"old.mtl": MTL})
    wiring = plan(scene, spots(scene, [[1001, 1002, 1001, 0], [1002, 1002]]), MAPS, {0: "Sheet 1"})
    assert [(m.name, m.like) for m in wiring.materials] == [("wood", 0), ("iron.1002", 1), ("wood.1002", 0)]
    out = rewire(scene, {"": OBJ}, {"old.mtl": MTL}, wiring).files
    again = formats.read(out[""], "a.obj", 1.0, out)
    names = [again.materials[m].name for mesh in again.meshes for m in mesh.materials]
    assert names == ["wood", "wood.1002", "wood", "iron", "iron.1002", "iron.1002"], "what is left out keeps its material as it was"
    shown = {m.name: m.images.get("map_Kd") for m in again.materials}
    assert shown == {"wood": "textures/a.1001.png", "wood.1002": "textures/a.1002.png", "iron": None, "iron.1002": "textures/a.1002.png"}
    library = out["a.mtl"].decode()
    assert (
        library.startswith("# by hand")
        and library.count("Kd 0.5 0.4 0.3") == 2
        and library.count("dents.png") == 2
        and "wood.png" not in library
    )
    assert [line for line in out[""].split(b"\n") if line.startswith(b"f ")] == [
        line for line in OBJ.split(b"\n") if line.startswith(b"f ")
    ]


def test_one_material_for_each_tile() -> None:
    scene = formats.read(OBJ, "a.obj", 1.0, {"old.mtl": MTL})
    wiring = plan(scene, spots(scene, [[1001, 1002, 1001, 0], [1002, 1002]]), MAPS, {0: "Sheet 1"}, one_material(scene))
    out = rewire(scene, {"": OBJ}, {"old.mtl": MTL}, wiring).files
    again = formats.read(out[""], "a.obj", 1.0, out)
    names = [again.materials[m].name for mesh in again.meshes for m in mesh.materials]
    assert names == ["Sheet_1.1001", "Sheet_1.1002", "Sheet_1.1001", "iron", "Sheet_1.1002", "Sheet_1.1002"]
    assert b"newmtl Sheet_1.1002\nmap_Kd textures/a.1002.png\nKd 1 1 1" in out["a.mtl"] and b"wood.png" in out["a.mtl"]


def test_faces_without_a_material_stay_without() -> None:
    bare = OBJ.replace(b"usemtl wood\n", b"").replace(b"usemtl iron\n", b"")
    scene = formats.read(bare, "a.obj")
    wiring = plan(scene, spots(scene, [[1001, 0, 0, 0], [0, 0]]), MAPS, {0: "S"}, one_material(scene))
    again = formats.read(rewire(scene, {"": bare}, {}, wiring).files[""], "a.obj")
    assert [again.materials[m].name for m in again.meshes[0].materials] == ["S.1001", "unpainted", "unpainted", "unpainted"]


def test_a_ply_numbers_its_pictures() -> None:
    scene = formats.read(CORNERS, "a.ply")
    out = rewire(scene, {"": CORNERS}, {}, plan(scene, spots(scene, [[1001, 1001, 1002]]), MAPS, {0: "S"})).files
    again = formats.read(out[""], "a.ply")
    assert [again.materials[m].images["TextureFile"] for m in again.meshes[0].materials] == ["textures/a.1001.png"] * 2 + [
        "textures/a.1002.png"
    ]
    plain = CORNERS.replace(b"property int texnumber\n", b"").replace(b".5 0\n3 3", b".5\n3 3").replace(b".9 1\n", b".9\n")
    scene = formats.read(plain, "a.ply")
    out = rewire(scene, {"": plain}, {}, plan(scene, spots(scene, [[1001, 1001, 1002]]), MAPS, {0: "S"}, one_material(scene))).files
    again = formats.read(out[""], "a.ply")
    assert again.meshes[0].materials.tolist() == [0, 0, 1] and b"property int texnumber" in out[""]
    left = rewire(scene, {"": plain}, {}, plan(scene, spots(scene, [[1001, 1001, 0]]), MAPS, {0: "S"}, one_material(scene))).files
    again = formats.read(left[""], "a.ply")
    assert [again.materials[m].images["TextureFile"] for m in again.meshes[0].materials] == ["textures/a.1001.png"] * 2 + ["crate.png"]


@pytest.mark.parametrize("per_sheet", [False, True])
def test_a_glb_parts_its_primitives(per_sheet: bool) -> None:
    """Checked by pygltflib and by the triangles' places: each is there once, with the picture of its tile."""
    data = two_channels([box(Part("crate"), (0, 0, 0), (1, 1, 1)).uv(0.1)], 1.0, png("crane"))
    scene = formats.read(data, "iron.glb")
    tiles = np.where(np.arange(len(scene.meshes[0].triangles)) % 3 == 0, 1002, 1001)
    wiring = plan(scene, spots(scene, [tiles.tolist()]), MAPS, {0: "Sheet 1"}, one_material(scene) if per_sheet else None)
    wiring.pictures, wiring.channel = BODIES, 1
    done = rewire(scene, {"": data}, {}, wiring)
    again = formats.read(done.files[""], "iron.glb")
    order = done.order[0]
    assert sorted(order) == list(range(len(order)))
    assert again.meshes[0].positions[again.meshes[0].triangles] == pytest.approx(
        scene.meshes[0].positions[scene.meshes[0].triangles[order]]
    )
    found = pictures(again, {})
    for triangle, material in enumerate(again.meshes[0].materials):
        assert found[material]["base colour"] == BODIES[f"textures/a.{tiles[order][triangle]}.png"]
    gltf = pygltflib.GLTF2.load_from_bytes(done.files[""])
    names = [gltf.materials[p.material].name for p in gltf.meshes[0].primitives]
    assert names == (["Sheet_1.1001", "Sheet_1.1002"] if per_sheet else ["iron", "iron.1002"])
    assert {gltf.materials[p.material].pbrMetallicRoughness.baseColorTexture.texCoord for p in gltf.meshes[0].primitives} == {1}


@pytest.mark.parametrize("per_sheet", [False, True])
@pytest.mark.parametrize("zipped", [False, True])
def test_usd_binds_subsets(per_sheet: bool, zipped: bool, tmp_path: Path) -> None:
    """What usd-core computes as the bound material of every face, and the picture that its surface reads."""
    data, name = (package(tmp_path), "shed.usdz") if zipped else (SHED.encode(), "shed.usda")
    scene = formats.read(data, name)
    wiring = plan(scene, spots(scene, [[1001, 1001, 1002], [1002]]), MAPS, {0: "Sheet 1"}, one_material(scene) if per_sheet else None)
    wiring.pictures = BODIES
    out = rewire(scene, {"": data}, {}, wiring).files
    (tmp_path / f"again{name[4:]}").write_bytes(out[""])
    stage = Usd.Stage.Open(str(tmp_path / f"again{name[4:]}"))
    wall = stage.GetPrimAtPath("/Shed/Wall")
    shown = {}
    places = [(wall, [0, 1])] + [
        (s.GetPrim(), list(s.GetIndicesAttr().Get())) for s in UsdShade.MaterialBindingAPI(wall).GetMaterialBindSubsets()
    ]
    for prim, faces in places:
        material = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()[0]
        for face in faces:
            shown[face] = material
    assert [shown[f].GetPrim().GetName() for f in (0, 1)] == (["Sheet_1_1001", "Sheet_1_1002"] if per_sheet else ["Paint", "Bare"])
    there = {p.GetName() for p in stage.Traverse() if p.IsA(UsdShade.Material)}
    # 9 materials that nothing was bound to stayed, with 5 pictures that were not delivered.
    assert there == ({"Sheet_1_1001", "Sheet_1_1002"} if per_sheet else {"Paint", "Bare"})
    again = formats.read(out[""], name, 1.0, out)
    mesh = again.meshes[0]
    paths = [again.materials[m].images.get("diffuseColor") for m in mesh.materials]
    # A material without a surface of the kind that shows pictures stays as it was.
    assert paths == ["textures/a.1001.png"] * 2 + ["textures/a.1002.png" if per_sheet else None]
    if zipped:
        assert again.inside["textures/a.1001.png"] == BODIES["textures/a.1001.png"]
    family = UsdGeom.Subset.GetGeomSubsets(UsdGeom.Imageable(wall), familyName="materialBind")
    assert UsdGeom.Subset.ValidateFamily(UsdGeom.Imageable(wall), UsdGeom.Tokens.face, "materialBind")[0], family


def test_usd_copies_a_material_for_each_tile(tmp_path: Path) -> None:
    scene = formats.read(SHED.replace("indices = [1]", "indices = []").encode(), "shed.usda")
    wiring = plan(scene, spots(scene, [[1001, 1001, 1002], [0]]), MAPS, {0: "Sheet 1"})
    wiring.channel, wiring.pictures = 1, BODIES
    out = rewire(scene, {"": SHED.replace("indices = [1]", "indices = []").encode()}, {}, wiring).files
    again = formats.read(out[""], "shed.usda", 1.0, out)
    names = [again.materials[m].name for m in again.meshes[0].materials]
    assert names == ["Paint", "Paint", "Paint_1002"]
    by = {m.name: (m.images["diffuseColor"], m.channels["diffuseColor"]) for m in again.materials}
    assert by == {"Paint": ("textures/a.1001.png", 1), "Paint_1002": ("textures/a.1002.png", 1)}
