"""A surface looks after carrying paint over, and after conversion, as it looked before: one property at a time, by the viewer of the tests' own."""

from __future__ import annotations

import copy
import io
import json
import math
import struct
from collections.abc import Mapping
from pathlib import Path

import collada
import numpy as np
import pygltflib
import pytest
from PIL import Image
from plyfile import PlyData
from pxr import Usd, UsdGeom

from quilt_core import formats
from quilt_core.errors import QuiltError
from quilt_core.formats import rewire
from quilt_core.formats.export import add, checked
from quilt_core.formats.model import Model
from quilt_core.formats.pictures import pictures
from quilt_core.formats.wiring import Wiring
from quilt_core.model.scene import Floats, Scene
from quilt_core.model.tiles import Grid
from quilt_core.textures import seen
from quilt_core.textures.paint import Coat, Laid, Old, Sheet, paint, wiring
from quilt_core.textures.paint import Paint as Painted
from tests.kit import files as kit
from tests.kit.files import Map, Paint, Plate, dents, plate, waves
from tests.kit.viewer import compared, of_file, placed

LEAST = 45.0  # decibels
MAP = 400


def all_maps(**more: object) -> dict[str, Map]:
    """A picture of every kind that glTF has."""
    made = {"base colour": waves(1), "metal and roughness": waves(2), "normal": dents(3), "occlusion": waves(4), "emission": waves(5)}
    return {kind: Map(values, **more) for kind, values in made.items()}  # type: ignore[arg-type]


def full(**more: object) -> Paint:
    """A material with a picture of every kind, and factors that change nothing."""
    return Paint("full", all_maps(), metal=1.0, roughness=1.0, emission=(1.0, 1.0, 1.0), **more)  # type: ignore[arg-type]


RGBA = Map(waves(7, 4))
# One property each: the material that has it, beside one with every map and one with plain factors.
PROPERTIES: dict[str, Paint] = {
    "plain": Paint("one", colour=(0.8, 0.2, 0.1), metal=0.5, roughness=0.895, emission=(0.1, 0.2, 0.3)),
    "base colour factor": Paint("one", {"base colour": Map(waves(11))}, colour=(0.9, 0.5, 0.3)),
    "metal and roughness factors": Paint("one", {"metal and roughness": Map(waves(12))}, metal=0.6, roughness=0.7),
    "emission factor": Paint("one", {"emission": Map(waves(13))}, emission=(0.5, 0.25, 1.0)),
    "emission above one": Paint("one", {"emission": Map(waves(13))}, emission=(0.5, 0.25, 1.0), shine=4.0),
    "normal scale": Paint("one", {"normal": Map(dents(14))}, normal_scale=0.4),
    "occlusion strength": Paint("one", {"occlusion": Map(waves(15))}, strength=0.3),
    "blend": Paint("one", {"base colour": RGBA}, mode="BLEND"),
    "blend with a factor": Paint("one", {"base colour": RGBA}, mode="BLEND", opacity=0.5),
    "blend without a picture": Paint("one", colour=(0.2, 0.4, 0.9), mode="BLEND", opacity=0.35),
    "mask": Paint("one", {"base colour": RGBA}, mode="MASK", cutoff=0.4),
    "opaque with a fourth channel": Paint("one", {"base colour": RGBA}),
    "clamp": Paint("one", {"base colour": Map(waves(16), wrap=("clamp", "clamp"))}),
    "mirror": Paint("one", {"base colour": Map(waves(17), wrap=("mirror", "mirror"))}),
    "one transform": Paint("one", {k: Map(m.values, moved=((0.3, 0.1), 0.4, (0.8, 1.3))) for k, m in all_maps().items()}, metal=1.0, emission=(1, 1, 1)),
    "transforms that differ": Paint("one", {"base colour": Map(waves(18), moved=((0.2, 0.0), 0.0, (2.0, 2.0))), "normal": Map(dents(19), moved=((0.0, 0.3), 0.7, (1.5, 1.5))),
                                            "occlusion": Map(waves(20))}),
    "opacity map": Paint("one", {"base colour": Map(waves(23)), "opacity": Map(waves(24))}, mode="BLEND"),
    "unlit": Paint("one", {"base colour": Map(waves(21))}, unlit=True),
    "two sides": Paint("one", {"base colour": Map(waves(22))}, double_sided=True),
}  # fmt: skip
HELD = {
    "glb": set(PROPERTIES) - {"opacity map"},
    "usda": set(PROPERTIES) - {"emission above one", "unlit"},
    "obj": {
        "plain",
        "base colour factor",
        "emission factor",
        "clamp",
        "blend without a picture",
        "opaque with a fourth channel",
        "opacity map",
    },
}


def plates(tangents: bool = False, colours: bool = False) -> list[Plate]:
    return [
        plate("left", 0.0, 0, -0.3, 1.3, tangents, colours),
        plate("middle", 1.5, 1, 0.0, 1.0, tangents),
        plate("right", 3.0, 2, 0.0, 1.0, tangents),
    ]


def for_format(material: Paint, ending: str) -> Paint:
    """A material as a format can have it: MTL knows no occlusion, and roughness and metal in pictures of their own."""
    if ending != "obj":
        return material
    known = {k: m for k, m in material.maps.items() if k in ("base colour", "emission", "normal", "opacity")}
    if "metal and roughness" in material.maps:
        m = material.maps["metal and roughness"]
        known |= {
            "roughness": Map(m.values[:, :, 1], m.channel, m.wrap, m.moved),
            "metal": Map(m.values[:, :, 2], m.channel, m.wrap, m.moved),
        }
    return Paint(**{**material.__dict__, "maps": known})


def three(material: Paint, ending: str, **more: bool) -> tuple[dict[str, bytes], str, list[Plate]]:
    """The files of three plates: one with the material, one with every map, one with plain factors."""
    found = plates(**more)
    paints = [
        for_format(p, ending)
        for p in (material, full(), Paint("plain", colour=(0.3, 0.6, 0.2), metal=0.25, roughness=0.5, emission=(0.0, 0.1, 0.0)))
    ]
    return kit.WRITERS[ending](found, paints), f"kit.{ending}", found


def laid_out(scene: Scene) -> dict[int, Floats]:
    """New UVs for the rows of every mesh: each half turned, some mirrored, all in cells of their own."""
    out, cell = {}, 0
    for m, mesh in enumerate(scene.meshes):
        source = mesh.channels[0]
        middle = (mesh.positions[:, 0].min() + mesh.positions[:, 0].max()) / 2
        right = np.zeros(len(source.uvs), bool)
        centre = mesh.positions[mesh.triangles][:, :, 0].mean(axis=1) > middle
        right[source.triangles[centre].reshape(-1)] = True
        new = source.uvs.copy()
        for half in (False, True):
            angle = 0.5 + 0.7 * cell
            turn = np.array([[math.cos(angle), -math.sin(angle)], [math.sin(angle), math.cos(angle)]]) @ np.diag(
                [-1.0 if cell % 3 == 1 else 1.0, 1.0]
            )
            rows = source.uvs[right == half] @ turn.T
            rows = (rows - rows.min(axis=0)) / np.ptp(rows, axis=0).max()
            new[right == half] = (rows * 0.92 + 0.04 + [cell % 3, cell // 3]) / 3
            cell += 1
        out[m] = new
    return out


def painted(scene: Scene, beside: Mapping[str, bytes], uvs: Mapping[int, Floats], per_sheet: bool, px: int = MAP) -> tuple[Painted, Wiring]:
    meshes = {
        m: Laid(uv[scene.meshes[m].channels[0].triangles], np.zeros(len(scene.meshes[m].triangles), np.int64)) for m, uv in uvs.items()
    }
    maps = [
        {kind: Old(kind + str(n), lambda body=body: body) for kind, body in found.items()}
        for n, found in enumerate(pictures(scene, beside))
    ]  # type: ignore[misc]
    coat = Coat(scene, meshes, maps)
    found = paint([coat], [Sheet(0, "S", Grid(px))], per_sheet)
    return found, wiring(found, coat, {0: "S"}, per_sheet, 0)


def delivered(made: dict[str, bytes], main: str, per_sheet: bool) -> tuple[dict[str, bytes], Painted]:
    """The files as they leave."""
    scene = formats.read(made[main], main, 1.0, made)
    uvs = laid_out(scene)
    found, wired = painted(scene, made, uvs, per_sheet)
    written = formats.write(scene, uvs, 0)
    out = rewire(scene, written, made, wired).files
    return {**made, **wired.pictures, **{k or main: v for k, v in out.items()}}, found


def check(before: dict[str, bytes], after: dict[str, bytes], main: str, other: str, found: list[Plate], but: tuple[str, ...] = ()) -> None:
    off = compared(of_file(before, main), of_file(after, other), kit.points_on(found))
    bad = {name: round(db, 1) for name, db in off.items() if name not in but and db < (20 if name == "alpha" and "mask" in but else LEAST)}
    assert not bad and {"colour", "metal", "roughness", "normal", "emission"} <= off.keys(), (bad, off)


CASES = [(e, p) for e in ("glb", "usda", "obj") for p in PROPERTIES if p in HELD.get(e, set(PROPERTIES))]


@pytest.mark.reference(
    "Carried paint, one property a file: factors, alpha, wrap modes, transforms, tangents",
    "a viewer of the tests' own on pygltflib and usd-core",
)
@pytest.mark.parametrize("per_sheet", [False, True])
@pytest.mark.parametrize(("ending", "name"), CASES)
def test_carried_paint_looks_as_before(ending: str, name: str, per_sheet: bool) -> None:
    made, main, found = three(PROPERTIES[name], ending)
    after, _ = delivered(made, main, per_sheet)
    check(made, after, main, main, found, ("mask",) if name == "mask" else ())


@pytest.mark.parametrize("per_sheet", [False, True])
@pytest.mark.parametrize("name", ["plain", "one transform", "transforms that differ", "normal scale"])
def test_stored_tangents_turn_with_their_islands(name: str, per_sheet: bool) -> None:
    made, main, found = three(PROPERTIES[name], "glb", tangents=True)
    after, _ = delivered(made, main, per_sheet)
    check(made, after, main, main, found)
    assert not np.isnan(of_file(after, main).tangents).any()


def test_tangents_of_uvs_that_are_no_turn_of_the_old_ones_are_left_out() -> None:
    made, main, _ = three(PROPERTIES["plain"], "glb", tangents=True)
    scene = formats.read(made[main], main)
    bent = {m: _spun(mesh.channels[0].uvs) for m, mesh in enumerate(scene.meshes)}
    after = formats.write(scene, bent, 0)
    assert np.isnan(of_file({main: after[""]}, main).tangents).all()
    same = formats.write(scene, {m: mesh.channels[0].uvs for m, mesh in enumerate(scene.meshes)}, 0)
    assert np.array_equal(of_file({main: same[""]}, main).tangents, of_file(made, main).tangents)


def _spun(uv: Floats) -> Floats:
    """UVs turned around their middle, the more the farther from it."""
    out = uv - 0.5
    angle = 6 * np.linalg.norm(out, axis=1)
    return np.column_stack([np.cos(angle) * out[:, 0] - np.sin(angle) * out[:, 1], np.sin(angle) * out[:, 0] + np.cos(angle) * out[:, 1]])


def converted(made: dict[str, bytes], main: str, ending: str) -> tuple[dict[str, bytes], list[str]]:
    """The file in another format, with the UVs and the pictures that it has."""
    model = Model()
    add(model, formats.read(made[main], main, 1.0, made), made)
    name, files, notes = checked(model, ending, "other")
    assert name == f"other.{ending}"
    return {path: body for path, (body, _) in files.items()}, notes


# What is said of a property where a target has no place for it.
SAID = {
    ("emission above one", "obj"): "", ("occlusion strength", "obj"): "occlusion map", ("normal scale", "obj"): "scale of normals", ("mask", "obj"): "cutoff",
    ("mirror", "obj"): "mirrored", ("one transform", "obj"): "turned", ("transforms that differ", "obj"): "turned", ("unlit", "obj"): "unlit",
    ("unlit", "usda"): "unlit", ("two sides", "obj"): "two sides",
}  # fmt: skip
UNSEEN = {"occlusion strength": "occlusion", "normal scale": "normal", "mask": "alpha", "mirror": "colour"}


@pytest.mark.reference("Converted materials, one property a file", "a viewer of the tests' own on pygltflib, usd-core and MTL")
@pytest.mark.parametrize(("ending", "name", "target"), [(e, n, t) for e, n in CASES for t in ("glb", "usda", "obj")])
def test_a_converted_file_looks_as_before_or_says_what_is_lost(name: str, ending: str, target: str) -> None:
    made, main, found = three(PROPERTIES[name], ending)
    after, notes = converted(made, main, target)
    off = compared(of_file(made, main), of_file(after, f"other.{target}"), kit.points_on(found))
    bad = {k for k, db in off.items() if db < LEAST}
    said = SAID.get((name, target), "")
    if bad:
        assert said and any(said in n and "'one'" in n for n in notes), (bad, off, notes)
    surface, was = of_file(after, f"other.{target}"), of_file(made, main)
    if target != "obj":
        assert [look.double_sided for look in surface.looks] == [look.double_sided for look in was.looks]
        assert [look.mode for look in surface.looks] == [look.mode for look in was.looks]


def hierarchy() -> bytes:
    """A post with a hinge (no mesh) that carries a door, and a hook (no mesh) on the door; one thing kept by a program at each of three places."""
    made, main, _ = three(PROPERTIES["plain"], "glb", colours=True)
    g = pygltflib.GLTF2.load_from_bytes(made[main])
    g.nodes[0].name, g.nodes[0].children, g.nodes[0].translation = "post", [3], [1.0, 2.0, 0.0]
    g.nodes[1].name, g.nodes[1].children, g.nodes[1].extras = "door", [4], {"weight": 3}
    g.nodes += [
        pygltflib.Node(name="hinge", children=[1], rotation=[0, 0.6, 0, 0.8]),
        pygltflib.Node(name="hook", translation=[0.0, 0.5, 0.1]),
    ]
    g.scenes[0].nodes = [0, 2]
    g.meshes[0].extras, g.materials[0].extras = {"note": "by hand"}, {"shop": 7}
    return b"".join(g.save_to_bytes())


def places(ending: str, files: dict[str, bytes], tmp_path: Path) -> dict[str, np.ndarray]:
    """World matrices by name, by the libraries of the formats."""
    for path, body in files.items():
        (tmp_path / path).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / path).write_bytes(body)
    out: dict[str, np.ndarray] = {}
    if ending == "glb":
        g = pygltflib.GLTF2.load_from_bytes(files["other.glb"])

        def walk(n: int, above: np.ndarray) -> None:
            node = g.nodes[n]
            out[node.name] = above @ (np.array(node.matrix).reshape(4, 4).T if node.matrix else placed(node))
            for child in node.children or ():
                walk(child, out[node.name])

        for n in g.scenes[0].nodes:
            walk(n, np.eye(4))
    elif ending == "dae":
        scene = collada.Collada(str(tmp_path / "other.dae")).scene

        def down(node: collada.scene.Node, above: np.ndarray) -> None:
            out[node.xmlnode.get("name")] = above @ node.matrix
            for child in node.children:
                if isinstance(child, collada.scene.Node):
                    down(child, out[node.xmlnode.get("name")])

        for node in scene.nodes:
            down(node, np.eye(4))
    else:
        stage = Usd.Stage.Open(str(tmp_path / f"other.{ending}"))
        for prim in stage.Traverse():
            if prim.IsA(UsdGeom.Xformable):
                out.setdefault(prim.GetName(), np.array(UsdGeom.Xformable(prim).ComputeLocalToWorldTransform(0)).T)
    return out


@pytest.mark.reference("Pivots, hierarchy, extras and vertex colours after conversion", "pygltflib, usd-core, pycollada")
@pytest.mark.parametrize("ending", ["glb", "usda", "dae"])
def test_places_without_a_mesh_keep_their_place_and_their_children(ending: str, tmp_path: Path) -> None:
    data = hierarchy()
    files, notes = converted({"kit.glb": data}, "kit.glb", ending)
    was, now = places("glb", {"other.glb": data}, tmp_path), places(ending, files, tmp_path)
    assert {"post", "hinge", "door", "hook", "right"} <= now.keys()
    for name, matrix in was.items():
        assert now[name] == pytest.approx(matrix, abs=1e-6), name
    if ending == "glb":
        g = pygltflib.GLTF2.load_from_bytes(files["other.glb"])
        assert next(n.extras for n in g.nodes if n.name == "door") == {"weight": 3}
        assert g.meshes[0].extras == {"note": "by hand"} and g.materials[0].extras == {"shop": 7} and not notes
    else:
        assert any("keeps" in n and "door" in n for n in notes)
        assert any("colours of vertices" in n for n in notes) == (ending == "dae")
    if ending != "dae":
        after, before = of_file(files, f"other.{ending}"), of_file({"kit.glb": data}, "kit.glb")
        assert np.allclose(after.colours[:8].mean(axis=(0, 1)), before.colours[:8].mean(axis=(0, 1)), atol=1e-6)


@pytest.mark.parametrize("deep", [False, True])
def test_heights_stay_heights_of_one_channel_with_what_was_said_of_them(deep: bool) -> None:
    grey = waves(31, 1)[:, :, 0]
    values = (grey.astype(np.uint16) * 257) if deep else grey
    material = Paint("one", {"base colour": Map(waves(30)), "height": Map(values, moved=((0.1, 0.2), 0.0, (1.5, 1.5)))})
    found = plates()
    made = kit.obj(found, [material, for_format(full(), "obj"), Paint("plain")])
    after, done = delivered(made, "kit.obj", False)
    path = done.maps[0, 1001]["height"]
    assert f"map_Bump -bm 0.4 {path}" in after["kit.mtl"].decode()
    picture = Image.open(io.BytesIO(after[path]))
    assert picture.mode == ("I;16" if deep else "L")
    if not deep:
        off = compared(of_file(made, "kit.obj"), of_file(after, "kit.obj"), kit.points_on(found[:1]))
        assert off["height"] > LEAST and off["normal"] > LEAST


def test_a_normal_map_under_a_bump_statement_is_one() -> None:
    """Programs write them there (common practice, no source): it turns with its islands, and stays under its statement."""
    found = plates()
    made = kit.obj(found, [Paint("one", {"height": Map(dents(32))}), for_format(full(), "obj"), Paint("plain")])
    scene = formats.read(made["kit.obj"], "kit.obj", 1.0, made)
    assert [t.kind for t in scene.materials[0].textures.values()] == ["normal"]
    after, done = delivered(made, "kit.obj", False)
    assert f"map_Bump -bm 0.4 {done.maps[0, 1001]['normal']}" in after["kit.mtl"].decode()
    renamed = {path: body.replace(b"map_Bump -bm 0.4", b"norm") for path, body in after.items() if path == "kit.mtl"}
    was = {path: body.replace(b"map_Bump -bm 0.4", b"norm") for path, body in made.items() if path == "kit.mtl"}
    off = compared(of_file({**made, **was}, "kit.obj"), of_file({**after, **renamed}, "kit.obj"), kit.points_on(found))
    assert off["normal"] > LEAST


def test_what_is_left_out_keeps_its_paint() -> None:
    """Two plates of one material, of which one is left out: it is not shown the other's new picture."""
    found = plates()
    found[1].paint = 0
    made = kit.gltf(found, [PROPERTIES["base colour factor"], full(), Paint("plain")])
    scene = formats.read(made["kit.glb"], "kit.glb")
    uvs = {m: uv for m, uv in laid_out(scene).items() if m != 1}
    _, wired = painted(scene, made, uvs, False)
    out = rewire(scene, formats.write(scene, uvs, 0), made, wired).files
    off = compared(of_file(made, "kit.glb"), of_file({"kit.glb": out[""]}, "kit.glb"), kit.points_on(found))
    assert off["colour"] > LEAST


def test_one_material_says_what_it_cannot_say() -> None:
    """Of materials that are cut out, blended, opaque and unlit, each kind gets a material; the others are one."""
    found = [plate(f"p{n}", 1.5 * n, n, 0.0, 1.0) for n in range(4)]
    paints = [PROPERTIES[n] for n in ("blend", "mask", "unlit", "base colour factor")]
    for n, p in enumerate(paints):
        paints[n] = Paint(**{**p.__dict__, "name": f"m{n}"})
    made = kit.gltf(found, paints)
    after, done = delivered(made, "kit.glb", True)
    g = pygltflib.GLTF2.load_from_bytes(after["kit.glb"])
    used = {g.materials[p.material].name for m in g.meshes for p in m.primitives}
    assert used == {"S", "S.seen_through", "S.cut_out", "S.unlit"}
    assert len({p["file"] for p in done.figures}) == len(done.maps[0, 1001]) and any("a material of its own" in n for n in done.notes)
    check(made, after, "kit.glb", "kit.glb", found, ("mask",))


@pytest.mark.parametrize("per_sheet", [False, True])
def test_old_pictures_that_nothing_reads_leave_the_file(per_sheet: bool) -> None:
    """Read by pygltflib: as many images as maps, each a whole picture; the old ones' bytes are gone."""
    made, main, _ = three(PROPERTIES["base colour factor"], "glb")
    after, done = delivered(made, main, per_sheet)
    g = pygltflib.GLTF2.load_from_bytes(after[main])
    assert len(g.images) == len(g.textures) == len(done.maps[0, 1001])
    bodies = [g.bufferViews[i.bufferView] for i in g.images]
    shown = {g.binary_blob()[v.byteOffset : v.byteOffset + v.byteLength] for v in bodies}
    assert shown == set(done.shown.values())
    assert len(after[main]) < sum(len(b) for b in shown) + 40_000, "geometry and JSON alone beside the new pictures"


def test_colours_of_vertices_that_are_not_read_are_told() -> None:
    body = b"v 0 0 0 1 0 0\nv 1 0 0 0 1 0\nv 1 1 0 0 0 1\nvt 0 0\nvt 1 0\nvt 1 1\nf 1/1 2/2 3/3\n"
    assert converted({"a.obj": body}, "a.obj", "glb")[1] == ["Of a.obj are left out: the colours of its vertices."]
    plain = body.replace(b" 1 0 0\n", b"\n").replace(b" 0 1 0\n", b"\n").replace(b" 0 0 1\n", b"\n")
    assert converted({"a.obj": plain}, "a.obj", "glb")[1] == []


@pytest.mark.parametrize("ending", ["glb", "usda"])
def test_colours_of_vertices_go_along(ending: str) -> None:
    """The brightness of each corner is kept to the rounding of bytes (IEC 61966-2-1 between stored bytes and light)."""
    body = b"ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\nproperty uchar red\nproperty uchar green\nproperty uchar blue\nelement face 1\nproperty list uchar int vertex_indices\nend_header\n0 0 0 255 128 0\n1 0 0 0 255 64\n1 1 0 10 20 30\n3 0 1 2\n"
    files, notes = converted({"a.ply": body}, "a.ply", ending)
    stored = np.array([[255, 128, 0], [0, 255, 64], [10, 20, 30]]) / 255
    light = np.where(stored <= 0.04045, stored / 12.92, ((stored + 0.055) / 1.055) ** 2.4)
    assert (
        np.sort(of_file(files, f"other.{ending}").colours[0, :, :3], axis=0) == pytest.approx(np.sort(light, axis=0), abs=1e-6)
        and not notes
    )
    back, _ = converted(files, f"other.{ending}", "ply")
    rows = PlyData.read(io.BytesIO(back["other.ply"]))["vertex"]
    assert sorted(zip(rows["red"], rows["green"], rows["blue"], strict=True)) == [(0, 255, 64), (10, 20, 30), (255, 128, 0)]


def looked_at(made: dict[str, bytes], after: dict[str, bytes], main: str) -> list[dict[str, object]]:
    """What the program itself says of a delivery."""
    before, now = (formats.read(x[main], main, 1.0, x) for x in (made, after))
    maps = [{kind: Old(kind, lambda body=body: body) for kind, body in found.items()} for found in pictures(before, made)]  # type: ignore[misc]
    return seen.compare(seen.of_coat(Coat(before, {}, maps)), seen.of_scene(now, after, {}), 0, MAP)


@pytest.mark.parametrize("per_sheet", [False, True])
@pytest.mark.parametrize(
    "name", ["plain", "emission above one", "normal scale", "occlusion strength", "blend with a factor", "clamp", "transforms that differ"]
)
def test_the_program_sees_no_difference_where_there_is_none(name: str, per_sheet: bool) -> None:
    made, main, _ = three(PROPERTIES[name], "glb")
    after, _ = delivered(made, main, per_sheet)
    found = looked_at(made, after, main)
    assert min(f["psnr"] for f in found) > 40 and {f["material"] for f in found} == {"one", "full", "plain"}
    assert seen.reasons(seen.summed(found)) == []


def test_the_program_names_what_looks_other() -> None:
    """Each fault that was once overlooked, planted into a delivery: a factor lost, a map of another kind, glass that became opaque."""
    made, main, _ = three(PROPERTIES["blend"], "glb")
    after, _ = delivered(made, main, False)
    for change, kind, who in (
        (lambda g: setattr(g.materials[2].pbrMetallicRoughness, "roughnessFactor", 1.0), "roughness", "plain"),
        (lambda g: setattr(g.materials[0], "alphaMode", "OPAQUE"), "opacity", "one"),
        (lambda g: setattr(g.materials[1], "emissiveFactor", [0, 0, 0]), "emission", "full"),
        (lambda g: g.materials[1].normalTexture.__setattr__("index", g.materials[1].occlusionTexture.index), "normal", "full"),
    ):
        g = pygltflib.GLTF2.load_from_bytes(after[main])
        change(g)
        found = looked_at(made, {main: b"".join(g.save_to_bytes())}, main)
        told, worst = seen.reasons(seen.summed(found)), seen.by_material(found)[0]
        assert (worst["material"], worst["kind"]) == (who, kind)
        assert len(told) == 1 and kind in told[0] and f"'{who}'" in told[0], (kind, told)


@pytest.mark.reference("Materials in COLLADA: colours, opacity, wrap modes, two sides", "pycollada; COLLADA 1.4.1 (Khronos), <sampler2D>")
def test_collada_says_of_a_material_what_it_has_words_for() -> None:
    glass = Paint(
        "one",
        {"base colour": Map(waves(7, 4), wrap=("clamp", "mirror"))},
        mode="BLEND",
        opacity=0.5,
        double_sided=True,
        emission=(0.1, 0.2, 0.3),
    )
    made, main, _ = three(glass, "glb")
    files, notes = converted(made, main, "dae")
    document = collada.Collada(io.BytesIO(files["other.dae"]))
    by = {m.name: m.effect for m in document.materials}
    one, plain = by["one"], by["plain"]
    assert one.emission[:3] == pytest.approx((0.1, 0.2, 0.3)) and one.transparency == 0.5 and one.double_sided and not plain.double_sided
    assert one.diffuse.sampler.surface.image.path == one.transparent.sampler.surface.image.path
    body = files["other.dae"].decode()
    assert body.count("<wrap_s>CLAMP</wrap_s>") == 1 and body.count("<wrap_t>MIRROR</wrap_t>") == 1
    assert plain.diffuse[:3] == pytest.approx((0.3, 0.6, 0.2)) and any("roughness" in n and "'plain'" in n for n in notes)
    again = formats.read(files["other.dae"], "other.dae", 1.0, files)
    was = formats.read(made[main], main)
    for a, b in zip(was.materials, again.materials, strict=True):
        assert (a.alpha, a.double_sided, a.opacity if a.alpha == "blend" else None) == (
            b.alpha,
            b.double_sided,
            b.opacity if b.alpha == "blend" else None,
        )
        assert {k: t.wrap for k, t in b.maps.items()} == {k: a.maps[k].wrap for k in b.maps}


@pytest.mark.parametrize("per_sheet", [False, True])
def test_a_picture_that_did_not_come_is_named(per_sheet: bool) -> None:
    found = plates()
    made = kit.obj(found, [PROPERTIES["base colour factor"], for_format(full(), "obj"), Paint("plain")])
    del made["one.base_colour.png"]
    after, done = delivered(made, "kit.obj", per_sheet)
    assert [n for n in done.notes if "did not come" in n] == [
        "kit.obj: 'one.base_colour.png', the base colour of 'one', did not come along: nothing of it is in the new maps"
    ]
    assert per_sheet or "map_Kd one.base_colour.png" in after["kit.mtl"].decode(), "the reference stays"


HURT: tuple[object, ...] = (None, -1, 99, 1e308, "x", [], {}, [1], True, [None, None], {"index": -1}, 10**20)


def test_hurt_materials_are_refused_in_words_or_carried() -> None:
    """A document with one value of its materials, textures, nodes or accessors replaced: every stage takes it, or refuses it by name; nothing else happens."""
    made, main, _ = three(PROPERTIES["transforms that differ"], "glb", tangents=True)
    data = made[main]
    length = struct.unpack("<I", data[12:16])[0]
    document, rest = json.loads(data[20 : 20 + length]), data[20 + length :]
    spots = [p for p in _spots(document) if p[0] in ("materials", "textures", "images", "samplers", "nodes", "meshes", "accessors")]
    random = np.random.default_rng(4)
    taken = 0
    for n in range(40):
        hurt = copy.deepcopy(document)
        *way, last = spots[random.integers(len(spots))]
        place = hurt
        for k in way:
            place = place[k]
        place[last] = HURT[n % len(HURT)]
        text = json.dumps(hurt).encode()
        text += b" " * (-len(text) % 4)
        body = struct.pack("<III", 0x46546C67, 2, 20 + len(text) + len(rest)) + struct.pack("<II", len(text), 0x4E4F534A) + text + rest
        try:
            scene = formats.read(body, main)
            uvs = {m: mesh.channels[0].uvs for m, mesh in enumerate(scene.meshes) if 0 in mesh.channels}
            _, wired = painted(scene, {}, uvs, bool(n % 2), 16)
            formats.read(rewire(scene, formats.write(scene, uvs, 0), {}, wired).files[""], main)
            converted({main: body}, main, ("glb", "usda", "obj")[n % 3])
            taken += 1
        except QuiltError as e:
            assert str(e)
    assert taken > 5


def _spots(value: object, way: tuple[object, ...] = ()) -> list[tuple[object, ...]]:
    """The way to every value of a document."""
    inner = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    return [x for k, v in inner for x in ((*way, k), *_spots(v, (*way, k)))]
