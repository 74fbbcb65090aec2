"""Scenes written in other formats, read again by other libraries: trimesh (OBJ, PLY, GLB), pygltflib (GLB) and usd-core (USD)."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pygltflib
import pytest
import trimesh
from pxr import Usd, UsdGeom, UsdShade

from demo.textures import png
from quilt_core import formats
from quilt_core.errors import QuiltError
from quilt_core.formats import EXPORTS, normals
from quilt_core.formats.compare import differs
from quilt_core.formats.export import add, checked, export
from quilt_core.formats.model import Model
from quilt_core.formats.pictures import pictures
from quilt_core.model.scene import Scene
from tests.real_files import path

from .test_ply import CORNERS
from .test_usd import CRATES, SHED

PAINT = {"textures/paint.png": png("wheel")}
MIRRORED = SHED.replace("(100, 0, 50)", "(100, 0, 50)\n    double3 xformOp:scale = (-1, 1, 2)").replace(
    '["xformOp:translate"]', '["xformOp:translate", "xformOp:scale"]'
)


def shed(text: str = MIRRORED) -> tuple[Scene, Model]:
    scene = formats.read(text.encode(), "shed.usda", 1.0, PAINT)
    model = Model()
    add(model, scene, PAINT)
    return scene, model


def world(scene: Scene, channel: int = 0) -> np.ndarray:
    """Corners of all triangles in the world with their UVs, (k, 5), sorted; the order of a mirrored one's corners is that of its front."""
    rows = []
    for o in scene.objects:
        mesh = scene.meshes[o.mesh]
        source = mesh.channels[channel]
        placed = mesh.positions @ o.world[:3, :3].T + o.world[:3, 3]
        rows.append(np.column_stack([placed[mesh.triangles.reshape(-1)], source.uvs[source.triangles.reshape(-1)]]))
    found = np.unique(np.round(np.concatenate(rows), 4) + 0.0, axis=0)
    return found


def volume(scene: Scene) -> float:
    """Six times the signed volume below all triangles, which turns over when faces do."""
    total = 0.0
    for o in scene.objects:
        mesh = scene.meshes[o.mesh]
        placed = mesh.positions @ o.world[:3, :3].T + o.world[:3, 3] - 50.0
        a, b, c = (placed[mesh.triangles[:, k]] for k in range(3))
        total += float((a * np.cross(b, c)).sum()) * (-1 if o.mirrored else 1)
    return total


@pytest.mark.parametrize("format", EXPORTS)
def test_every_format_holds_the_same_scene(format: str) -> None:
    scene, model = shed()
    files = export(model, format, "yard")
    again = formats.read(files[f"yard.{format}"], f"yard.{format}", 1.0, files)
    assert np.allclose(world(again), world(scene), atol=2e-4)
    assert differs(model, format, again) < 1e-6
    changed = formats.read(
        export(shed(MIRRORED.replace("(0.6, 0.6)", "(0.6, 0.7)"))[1], format, "yard")[f"yard.{format}"], f"yard.{format}"
    )
    assert differs(model, format, changed) == pytest.approx(0.1), "what differs is seen"
    assert volume(again) == pytest.approx(volume(scene), rel=1e-4), "what is mirrored still shows its front"
    if format != "ply":  # no objects there
        assert [o.path.split("/")[-1].split(".")[-1] for o in again.objects] == ["Wall", "Mirror"]
    assert sum(len(m.triangles) for m in again.meshes) == 4
    if format != "glb":
        assert [np.diff(m.polygons.faces).tolist() for m in again.meshes] == ([[4, 3, 3]] if format == "ply" else [[4, 3], [3]]), (
            "polygons stay"
        )
    base = [p.get("base colour") for p in pictures(again, files)]
    assert base[0] == PAINT["textures/paint.png"]


@pytest.mark.reference("USD that is written: primvars, places, bindings", "usd-core")
def test_usd_core_sees_channels_materials_and_places(tmp_path: Path) -> None:
    files = export(shed()[1], "usda", "yard")
    (tmp_path / "yard.usda").write_bytes(files["yard.usda"])
    stage = Usd.Stage.Open(str(tmp_path / "yard.usda"))
    wall = stage.GetPrimAtPath("/yard/Shed/Wall")
    assert (
        str(stage.GetDefaultPrim().GetPath()) == "/yard"
        and UsdGeom.GetStageMetersPerUnit(stage) == 1
        and UsdGeom.GetStageUpAxis(stage) == "Y"
    )
    api = UsdGeom.PrimvarsAPI(wall)
    assert np.array(api.GetPrimvar("st").ComputeFlattened())[4:] == pytest.approx(np.array([(0.6, 0.6), (0.9, 0.6), (0.7, 0.9)]))
    assert np.array(api.GetPrimvar("st1").ComputeFlattened())[4:] == pytest.approx(np.array([(0, 0.5), (1, 0.5), (0.5, 1)]))
    place = UsdGeom.XformCache().GetLocalToWorldTransform(wall)
    assert place.Transform((0, 0, 100)) == pytest.approx((1, 2.5, 0))
    bound = [
        UsdShade.MaterialBindingAPI(s.GetPrim()).ComputeBoundMaterial()[0]
        for s in UsdShade.MaterialBindingAPI(wall).GetMaterialBindSubsets()
    ]
    assert [m.GetPrim().GetName() for m in bound] == ["Paint", "Bare"]
    reader = UsdShade.Shader(stage.GetPrimAtPath("/yard/Looks/Paint/SheetUv"))
    assert reader.GetInput("varname").Get() == "st1", "the old picture is read by the channel that it was read by"


def test_instances_stay_one_mesh_in_a_glb() -> None:
    scene = formats.read(CRATES.encode(), "crates.usda")
    model = Model()
    add(model, scene, {})
    gltf = pygltflib.GLTF2.load_from_bytes(export(model, "glb", "crates")["crates.glb"])
    assert len(gltf.meshes) == 1 and [n.mesh for n in gltf.nodes if n.mesh is not None] == [0, 0, 0]
    assert [n.name for n in gltf.nodes if n.children] == ["Parts", "Crate", "One", "Two"]


@pytest.mark.parametrize("format", ["obj", "glb", "ply", "usdc", "dae"])
def test_a_real_model_keeps_shape_normals_and_pictures(format: str) -> None:
    """A controller of the webxr package: its area and its normals as trimesh reads them (USD: as our reader does)."""
    source = path("webxr", "oculus-touch-v2/left.glb").read_bytes()
    scene = formats.read(source, "left.glb")
    model = Model()
    add(model, scene, {})
    files = export(model, format, "touch")
    again = formats.read(files[f"touch.{format}"], f"touch.{format}", 1.0, files)
    shared = format in ("glb", "dae")  # these keep a mesh that several objects place
    expected = [len(m.triangles) for m in scene.meshes] if shared else [len(scene.meshes[o.mesh].triangles) for o in scene.objects]
    assert sum(len(m.triangles) for m in again.meshes) == sum(expected)
    assert np.allclose(world(again)[:, :3].min(axis=0), world(scene)[:, :3].min(axis=0), atol=1e-4)
    before, after = _facing(scene), _facing(again)
    assert before == pytest.approx(after, abs=1e-3) and before > 0.9
    shown = {p.get("base colour") for p in pictures(again, files)} - {None}
    assert shown == {p.get("base colour") for p in pictures(scene, {})} - {None} and shown
    if format not in ("usdc", "dae"):
        loaded = trimesh.load(io.BytesIO(files[f"touch.{format}"]), file_type=format, process=False, force="mesh", skip_materials=True)
        whole = trimesh.load(io.BytesIO(source), file_type="glb", process=False, force="mesh", skip_materials=True)
        assert loaded.area == pytest.approx(whole.area, rel=1e-4) and len(loaded.faces) == len(whole.faces)


def _facing(scene: Scene) -> float:
    """How well normals agree with the faces that they stand on: the mean cosine."""
    out = []
    for n, mesh in enumerate(scene.meshes):
        normal = normals(scene, n)
        assert normal is not None
        a, b, c = (mesh.positions[mesh.triangles[:, k]] for k in range(3))
        face = np.cross(b - a, c - a)
        face /= np.maximum(np.linalg.norm(face, axis=1, keepdims=True), 1e-30)
        out.append((normal * face[:, None, :]).sum(axis=2).reshape(-1))
    return float(np.concatenate(out).mean())


def test_several_scenes_in_one_file() -> None:
    model = Model()
    for text, prefix in ((SHED, "a/"), (SHED.replace("paint.png", "other.png"), "b/")):
        scene = formats.read(text.encode(), "shed.usda")
        add(model, scene, {"textures/paint.png": png("wheel"), "textures/other.png": png("sack")}, prefix=prefix)
    ply = formats.read(CORNERS, "crate.ply")
    add(model, ply, {"crate.png": png("sack")}, prefix="c/")
    assert [look.name for look in model.looks] == ["Paint", "Bare", "Paint.2", "crate", "lid"]
    files = export(model, "glb", "all")
    again = formats.read(files["all.glb"], "all.glb")
    assert [o.path for o in again.objects] == ["a/Shed/Wall", "a/Shed/Mirror", "b/Shed/Wall", "b/Shed/Mirror", "c/crate"]
    assert differs(model, "glb", again) < 1e-6
    with pytest.raises(QuiltError, match="'fbx' is not a format that is written here"):
        export(model, "fbx", "all")


def test_normals_of_an_obj_are_read_by_number() -> None:
    text = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nvn 0 0 1\nvn 0 1 0\nf 1//1 2//-1 3//1\n"
    scene = formats.read(text, "a.obj")
    assert np.array_equal(normals(scene, 0)[0], [(0, 0, 1), (0, 1, 0), (0, 0, 1)])
    assert normals(formats.read(text.replace(b"3//1", b"3//9"), "a.obj"), 0) is None


@pytest.mark.parametrize("format", EXPORTS)
def test_a_uv_far_from_the_tile_is_no_reason_to_refuse_a_file(format: str) -> None:
    """A 32-bit number near 1e9 is exact to 64 (IEEE 754); what lies near the tile is compared as strictly as ever."""
    far = MIRRORED.replace("(0.6, 0.6)", "(1000000001, -300000001)")
    assert far != MIRRORED
    _, model = shed(far)
    main, files, _ = checked(model, format, "yard")
    assert main == f"yard.{format}"
    made = {path: body for path, (body, _) in files.items()}
    again = formats.read(made[main], main, 1.0, made)
    mesh = next(m for m in again.meshes for c in m.channels.values() if np.abs(c.uvs).max() < 10 or len(again.meshes) == 1)
    number = min(mesh.channels)
    near = np.flatnonzero(np.abs(mesh.channels[number].uvs).max(axis=1) < 10)
    mesh.channels[number].uvs[near[0]] += 0.01
    assert differs(model, format, again) == pytest.approx(0.01, rel=0.1)


@pytest.mark.parametrize("format", ["obj", "glb", "ply", "usdc", "dae"])
def test_permuted_uvs_are_seen_by_the_check_of_what_was_written(format: str) -> None:
    """Seen: u and v were sorted each by itself, so UVs that were given to other corners passed."""
    _, model = shed(SHED)
    files = export(model, format, "shed")
    again = formats.read(files[f"shed.{format}"], f"shed.{format}", 1.0, files)
    assert differs(model, format, again) < 1e-4
    mesh = again.meshes[0]
    number = min(mesh.channels)
    uvs = mesh.channels[number].uvs
    swapped = uvs.copy()
    # The same numbers in every column, at other corners.
    first, last = np.flatnonzero(np.abs(uvs - uvs[0]).max(axis=1) > 0.01)[[0, -1]]
    swapped[[0, first, last], 0] = uvs[[first, last, 0], 0]
    mesh.channels[number] = type(mesh.channels[number])(swapped, mesh.channels[number].triangles)
    assert differs(model, format, again) > 1e-3
