"""COLLADA: real files of the assimp and pybullet packages, judged by pycollada and by what the specification (Khronos, 1.4.1) says of units and axes."""

from __future__ import annotations

import io
from pathlib import Path

import collada
import numpy as np
import pytest
from scipy.spatial import cKDTree

from demo.textures import png
from quilt_core import formats
from quilt_core.errors import FileError
from quilt_core.formats.channels import LAYOUT, Arrangement
from quilt_core.formats.pictures import pictures
from quilt_core.formats.wiring import plan
from quilt_core.model.scene import Scene
from tests.real_files import path
from tests.shapes import one_material

REAL = [
    ("assimp", f"Collada/{n}")
    for n in (
        "duck.dae", "cube_with_2UVs.DAE", "cube_tristrips.dae", "sphere.dae", "COLLADA.dae", "regr01.dae", "cube_UTF16LE.dae", "cube_xmlspecialchars.dae",
        "anims_with_full_rotations_between_keys.DAE", "library_animation_clips.dae", "teapot_instancenodes.DAE", "kwxport_test_vcolors.dae",
    )
] + [("pybullet", "duck.dae"), ("pybullet", "racecar/meshes/hokuyo.dae")]  # fmt: skip
UNSEEN = ("Collada/library_animation_clips.dae",)  # pycollada cannot follow its skin
HUT = """<?xml version="1.0" encoding="utf-8"?>
<COLLADA xmlns="http://www.collada.org/2005/11/COLLADASchema" version="1.4.1">
 <asset><unit name="inch" meter="0.0254"/><up_axis>Z_UP</up_axis></asset>
 <library_images><image id="img"><init_from>old%20paint.png</init_from></image></library_images>
 <library_effects><effect id="fx"><profile_COMMON>
  <newparam sid="surf"><surface type="2D"><init_from>img</init_from></surface></newparam>
  <newparam sid="samp"><sampler2D><source>surf</source></sampler2D></newparam>
  <technique sid="t"><phong><emission><color>0 0 0 1</color></emission><diffuse><texture texture="samp" texcoord="Detail"/></diffuse>
   <shininess><float>12</float></shininess></phong></technique></profile_COMMON></effect>
  <effect id="plain"><profile_COMMON><technique sid="t"><lambert><diffuse><color>0.2 0.4 0.6 1</color></diffuse></lambert></technique></profile_COMMON></effect>
 </library_effects>
 <library_materials><material id="m1" name="Plank"><instance_effect url="#fx"/></material>
  <material id="m2" name="Rope"><instance_effect url="#plain"/></material></library_materials>
 <library_geometries><geometry id="hut" name="Hut"><mesh>
  <source id="p"><float_array id="p-a" count="15">0 0 0  10 0 0  10 10 0  0 10 0  5 5 10</float_array>
   <technique_common><accessor source="#p-a" count="5" stride="3"><param name="X" type="float"/><param name="Y" type="float"/><param name="Z" type="float"/></accessor></technique_common></source>
  <source id="t"><float_array id="t-a" count="12">0 0 9  1 0 9  1 1 9  0 1 9</float_array>
   <technique_common><accessor source="#t-a" count="4" stride="3"><param name="S" type="float"/><param name="T" type="float"/><param name="P" type="float"/></accessor></technique_common></source>
  <source id="d"><float_array id="d-a" count="6">0.5 0.5 0.75 0.5 0.5 0.75</float_array>
   <technique_common><accessor source="#d-a" count="3" stride="2"><param name="S" type="float"/><param name="T" type="float"/></accessor></technique_common></source>
  <vertices id="v"><input semantic="POSITION" source="#p"/></vertices>
  <polylist material="planks" count="2"><input semantic="VERTEX" source="#v" offset="0"/><input semantic="TEXCOORD" source="#t" offset="1" set="0"/>
   <input semantic="TEXCOORD" source="#d" offset="2" set="3"/><vcount>4 3</vcount>
   <p>0 0 0 1 1 1 2 2 2 3 3 0  0 0 0 1 1 1 4 2 2</p></polylist>
  <triangles material="ropes" count="1"><input semantic="VERTEX" source="#v" offset="0"/><input semantic="TEXCOORD" source="#t" offset="0" set="0"/>
   <p>1 2 3</p></triangles>
 </mesh></geometry></library_geometries>
 <library_visual_scenes><visual_scene id="s"><node id="yard" name="Yard"><translate>100 0 0</translate>
   <node id="a" name="First"><rotate>0 0 1 90</rotate><instance_geometry url="#hut"><bind_material><technique_common>
     <instance_material symbol="planks" target="#m1"><bind_vertex_input semantic="Detail" input_semantic="TEXCOORD" input_set="3"/></instance_material>
     <instance_material symbol="ropes" target="#m2"/></technique_common></bind_material></instance_geometry></node>
   <node id="b" name="Second"><scale>2 2 2</scale><instance_geometry url="#hut"/></node></node></visual_scene></library_visual_scenes>
 <scene><instance_visual_scene url="#s"/></scene>
</COLLADA>
"""


def hut(text: str = HUT) -> Scene:
    return formats.read(text.encode(), "hut.dae", 1.0, {"old paint.png": png("wheel")})


def by_pycollada(data: bytes, set_: int | None = None) -> np.ndarray:
    """Corners of all faces as pycollada places them, (k, 3 or 5) positions and UVs of a set, in the file's units; each once, sorted."""
    document = collada.Collada(io.BytesIO(data), ignore=[collada.common.DaeError])
    rows = []
    for bound in [*document.scene.objects("geometry"), *document.scene.objects("controller")]:
        for p in bound.primitives():
            if not hasattr(p, "vertex_index") or p.vertex_index is None or "Line" in type(p).__name__:
                continue
            corner = p.vertex[p.vertex_index].reshape(-1, 3)
            if set_ is not None:
                if len(p.texcoordset) <= set_:
                    continue
                corner = np.hstack(
                    [corner, p.texcoordset[set_][p.texcoord_indexset[set_]].reshape(-1, p.texcoordset[set_].shape[1])[:, :2]]
                )
            rows.append(corner)
    return np.concatenate(rows).astype(float)


def apart(a: np.ndarray, b: np.ndarray) -> float:
    """The greatest distance from a row of either to the nearest one of the other."""
    return max(float(cKDTree(y).query(x)[0].max()) for x, y in ((a, b), (b, a)))


def ours(scene: Scene, channel: int | None = None, of: np.ndarray | None = None) -> np.ndarray:
    """The same by our reader, with the matrix `of` (4, 4) taken back from metres."""
    rows = []
    for o in scene.objects:
        mesh, world = scene.meshes[o.mesh], (np.eye(4) if of is None else of) @ o.world
        placed = (mesh.positions @ world[:3, :3].T + world[:3, 3])[mesh.triangles]
        if channel is None:
            rows.append(placed.reshape(-1, 3))
        elif channel in mesh.channels:
            source = mesh.channels[channel]
            has = (source.triangles >= 0).all(axis=1)
            rows.append(np.dstack([placed[has], source.uvs[source.triangles[has]]]).reshape(-1, 5))
    return np.concatenate(rows)


def back(scene: Scene) -> np.ndarray:
    """From metres, y up, to the units and axes of the file that a scene came from."""
    asset = collada.Collada(io.BytesIO(scene.source), ignore=[collada.common.DaeError]).assetInfo
    unit = asset.unitmeter or 1.0
    turn = {"Z_UP": [[1, 0, 0], [0, 0, -1], [0, 1, 0]], "X_UP": [[0, 1, 0], [-1, 0, 0], [0, 0, 1]]}.get(asset.upaxis, np.eye(3))
    out = np.eye(4)
    out[:3, :3] = np.array(turn) / unit
    return out


@pytest.mark.reference("COLLADA: places and texture coordinates of real files", "pycollada")
@pytest.mark.parametrize(("package", "name"), REAL)
def test_real_files_place_their_corners_as_pycollada_does(package: str, name: str) -> None:
    if name in UNSEEN:
        return
    data = path(package, name).read_bytes()
    scene = formats.read(data, Path(name).name)
    assert apart(ours(scene, None, back(scene)), by_pycollada(data)) < 1e-3
    for c in {c for m in scene.meshes for c in m.channels}:
        assert apart(ours(scene, c, back(scene)), by_pycollada(data, c)) < 1e-3


@pytest.mark.reference("COLLADA that is written, real files", "pycollada")
@pytest.mark.parametrize(("package", "name"), REAL)
def test_a_real_file_gets_new_uvs_and_keeps_the_rest(package: str, name: str) -> None:
    data = path(package, name).read_bytes()
    scene = formats.read(data, Path(name).name)
    channel = 1 if name.endswith("2UVs.DAE") else 0
    uvs = {n: m.channels[channel].uvs for n, m in enumerate(scene.meshes) if channel in m.channels}
    same = formats.write(scene, uvs, channel)[""]
    assert same == scene.key.body, "what was not moved leaves as it came"
    if not uvs:
        return
    # Every row goes its own way, so that rows which shared a texture coordinate must part.
    moved = {n: uv * 0.25 + 0.001 * np.arange(len(uv))[:, None] % 0.7 for n, uv in uvs.items()}
    body = formats.write(scene, moved, channel)[""]
    again = formats.read(body, Path(name).name)
    for n, m in enumerate(scene.meshes):
        for c, source in m.channels.items():
            wanted = moved[n] if c == channel and n in moved else source.uvs
            found = again.meshes[n].channels[c]
            assert np.allclose(found.uvs[found.triangles], wanted[source.triangles], atol=1e-6)
        assert (again.meshes[n].triangles == m.triangles).all() and (again.meshes[n].materials == m.materials).all()
    if name in UNSEEN:
        return
    assert np.array_equal(by_pycollada(body), by_pycollada(data)), "pycollada sees the same corners"
    assert apart(ours(again, channel, back(scene)), by_pycollada(body, channel)) < 1e-3


@pytest.mark.reference("COLLADA: unit and up axis", "COLLADA 1.4.1 (Khronos), <unit> and <up_axis>")
def test_units_axes_places_sets_and_materials() -> None:
    scene = hut()
    assert [(o.path, o.mesh) for o in scene.objects] == [("Yard/First", 0), ("Yard/Second", 0)] and len(scene.meshes) == 1
    # An inch is 0.0254 m; Z_UP turns (x, y, z) into (x, z, -y): the tip at (5, 5, 10) stands at (95, 5, 10) after the turn of 90 degrees.
    tip = scene.objects[0].world @ [5, 5, 10, 1]
    assert tip[:3] == pytest.approx(np.array([95, 10, -5]) * 0.0254)
    mesh = scene.meshes[0]
    assert sorted(mesh.channels) == [0, 1] and (mesh.channels[1].triangles[-1] == -1).all(), "the ropes have no second set"
    assert [m.name for m in scene.materials] == ["Plank", "Rope"] and mesh.materials.tolist() == [0, 0, 0, 1]
    assert scene.materials[0].channels == {"diffuse": 1} and scene.materials[1].colour == pytest.approx(
        tuple(((c + 0.055) / 1.055) ** 2.4 for c in (0.2, 0.4, 0.6))
    )
    assert pictures(scene, {"old paint.png": png("wheel")})[0]["base colour"] == png("wheel")
    assert scene.warnings == ["'hut' is placed with other materials too; it has those of its first place here"]


def test_a_channel_is_added_where_an_index_was_shared() -> None:
    scene = hut()
    rows = scene.meshes[0].channels[0].uvs
    body = formats.write(scene, {0: rows * 0.5}, 2)[""]
    again = hut(body.decode())
    first, new = again.meshes[0].channels[0], again.meshes[0].channels[2]
    assert np.allclose(new.uvs[new.triangles], 0.5 * first.uvs[first.triangles]) and np.array_equal(first.uvs, rows)
    over = hut(formats.write(scene, {0: rows * 0.5}, 0)[""].decode()).meshes[0].channels[0]
    old = scene.meshes[0].channels[0]
    assert np.allclose(over.uvs[over.triangles], 0.5 * rows[old.triangles])
    assert body.count(b"float_array id=") == HUT.count("float_array id=") + 1


def test_sets_are_dealt_out_anew_and_materials_follow() -> None:
    scene = hut()
    laid = {0: scene.meshes[0].channels[0].uvs + 0.1}
    body = formats.rearrange(scene, laid, Arrangement((1, LAYOUT)))[""]
    again = hut(body.decode())
    assert again.materials[0].channels == {"diffuse": 0}
    was, now = scene.meshes[0].channels, again.meshes[0].channels
    assert np.allclose(now[1].uvs[now[1].triangles], laid[0][was[0].triangles])
    use = (was[1].triangles >= 0).all(axis=1)
    assert np.allclose(now[0].uvs[now[0].triangles[use]], was[1].uvs[was[1].triangles[use]])
    only = hut(formats.rearrange(scene, laid, Arrangement((LAYOUT,)))[""].decode())
    assert sorted(only.meshes[0].channels) == [0]


def test_new_pictures_reach_copies_of_a_material_as_pycollada_sees_it() -> None:
    scene = hut()
    tiles = np.array([1001, 1001, 1002, 0])
    maps = {(0, t): {"base colour": f"new.{t}.png", "normal": f"bumps.{t}.png"} for t in (1001, 1002)}
    wiring = plan(scene, {0: (np.where(tiles > 0, 0, -1), tiles)}, maps, {0: "Sheet"})
    wiring.pictures = {p: png("sack") for m in wiring.materials for p in m.maps.values()}
    wiring.channel = 0
    done = formats.rewire(scene, {"": HUT.encode()}, {}, wiring)
    assert set(done.files) == {"", "new.1001.png", "new.1002.png", "bumps.1001.png", "bumps.1002.png"}
    again = formats.read(done.files[""], "hut.dae", 1.0, done.files)
    names = [again.materials[k].name for k in again.meshes[0].materials]
    assert names == ["Plank", "Plank", "Plank.1002", "Rope"] and done.order[0].tolist() == [0, 1, 2, 3]
    shown = {m.name: m.images for m in again.materials}
    assert shown["Plank"] == {"diffuse": "new.1001.png", "bump": "bumps.1001.png"}
    assert shown["Plank.1002"]["diffuse"] == "new.1002.png" and again.materials[0].channels["diffuse"] == 0
    document = collada.Collada(io.BytesIO(done.files[""]))
    bound = next(iter(document.scene.objects("geometry")))
    found = {p.material.name: p.material.effect.diffuse.sampler.surface.image.path for p in bound.primitives() if p.material.name != "Rope"}
    assert found == {"Plank": "new.1001.png", "Plank.1002": "new.1002.png"}
    assert document.materials["m1"].effect.shininess == 12.0, "what else the material says stays"


def test_triangles_are_named_in_their_new_order_when_faces_part() -> None:
    scene = hut()
    labels = np.array([1002, 1002, 1001, 0])
    maps = {(0, t): {"base colour": f"new.{t}.png"} for t in (1001, 1002)}
    wiring = plan(scene, {0: (np.where(labels > 0, 0, -1), labels)}, maps, {0: "Sheet"}, one_material(scene))
    wiring.pictures = {p: png("sack") for m in wiring.materials for p in m.maps.values()}
    done = formats.rewire(scene, {"": HUT.encode()}, {}, wiring)
    again = formats.read(done.files[""], "hut.dae", 1.0, done.files)
    was, now = scene.meshes[0], again.meshes[0]
    assert (now.positions[now.triangles] == was.positions[was.triangles[done.order[0]]]).all()


BAD = {
    "a DTD": (HUT.replace("<COLLADA", '<!DOCTYPE a [<!ENTITY b "c">]><COLLADA', 1), "document type"),
    "half a file": (HUT[:900], "not whole XML"),
    "another root": ("<a/>", "not <COLLADA>"),
    "an index that is not there": (HUT.replace("4 2 2</p>", "9 2 2</p>"), "POSITION"),
    "a negative index": (HUT.replace("4 2 2</p>", "-4 2 2</p>"), "of"),
    "a word for a number": (HUT.replace("5 5 10<", "5 5 ten<"), "no number"),
    "NaN": (HUT.replace("5 5 10<", "5 5 nan<"), "not a number"),
    "counts that do not fit": (HUT.replace("4 3</vcount>", "4 4</vcount>"), "corners"),
    "a short source": (HUT.replace('count="5" stride="3"', 'count="50" stride="3"'), "promises"),
    "no length": (HUT.replace('meter="0.0254"', 'meter="0"'), "unit"),
    "a circle": (HUT.replace('<node id="a" name="First">', '<node id="a" name="First"><instance_node url="#yard"/>'), "inside itself"),
    "a great offset": (HUT.replace('offset="2" set="3"', 'offset="2000000000" set="3"'), "offset"),
    "nothing": (HUT.replace("instance_geometry", "instance_nothing"), "no mesh"),
}


@pytest.mark.parametrize("case", BAD)
def test_bad_files_are_refused_with_the_place(case: str) -> None:
    text, words = BAD[case]
    with pytest.raises(FileError) as told:
        hut(text)
    assert "hut.dae" in str(told.value) and words in str(told.value)


@pytest.mark.parametrize("seed", range(8))
def test_a_damaged_file_is_read_or_refused_in_words(seed: int) -> None:
    random = np.random.default_rng(seed)
    source = path("assimp", "Collada/regr01.dae").read_bytes() if seed % 2 else HUT.encode()
    for _ in range(60):
        body = bytearray(source)
        for at in random.integers(0, len(body), 1 + int(random.integers(6))):
            body[at : at + int(random.integers(1, 4))] = bytes(
                random.choice(list(b'0123456789 <>"#-/axp\xff'), int(random.integers(0, 4))).tolist()
            )
        try:
            formats.read(bytes(body), "a.dae")
        except FileError as e:
            assert "a.dae" in str(e)
