"""What else a file keeps in another format: places, hierarchy, colours of vertices, and what COLLADA has words for."""

from __future__ import annotations

import io
from pathlib import Path

import collada
import numpy as np
import pygltflib
import pytest
from plyfile import PlyData
from pxr import Usd, UsdGeom

from quilt_core import formats
from tests.kit.files import Map, Paint, waves
from tests.kit.handed import PROPERTIES, converted, three
from tests.kit.opened import of_file, placed


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


def in_srgb(*linear: float) -> tuple[float, ...]:
    """IEC 61966-2-1, for values above 0.0031308."""
    return tuple(1.055 * x ** (1 / 2.4) - 0.055 for x in linear)


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
    assert (
        one.emission[:3] == pytest.approx(in_srgb(0.1, 0.2, 0.3))
        and one.transparency == 0.5
        and one.double_sided
        and not plain.double_sided
    )
    assert one.diffuse.sampler.surface.image.path == one.transparent.sampler.surface.image.path
    body = files["other.dae"].decode()
    assert body.count("<wrap_s>CLAMP</wrap_s>") == 1 and body.count("<wrap_t>MIRROR</wrap_t>") == 1
    assert plain.diffuse[:3] == pytest.approx(in_srgb(0.3, 0.6, 0.2)) and any("roughness" in n and "'plain'" in n for n in notes)
    again = formats.read(files["other.dae"], "other.dae", 1.0, files)
    was = formats.read(made[main], main)
    for a, b in zip(was.materials, again.materials, strict=True):
        assert (a.alpha, a.double_sided, a.opacity if a.alpha == "blend" else None) == (
            b.alpha,
            b.double_sided,
            b.opacity if b.alpha == "blend" else None,
        )
        assert {k: t.wrap for k, t in b.maps.items()} == {k: a.maps[k].wrap for k in b.maps}
