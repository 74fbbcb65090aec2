"""Real files made by others, against general-purpose libraries (trimesh, shapely) and the figures of an independent script."""

from __future__ import annotations

import json
import shutil
import subprocess
from pathlib import Path

import numpy as np
import pygltflib
import pytest
import shapely
import trimesh

from quilt_cli import files
from quilt_cli.main import main
from quilt_core import formats
from quilt_core.delivery.report import inspect_report
from quilt_core.errors import FileError
from quilt_core.formats.export import add, checked
from quilt_core.formats.model import Model
from quilt_core.uv.analysis import analyse
from quilt_core.uv.density import world_areas
from tests.kit.opened import placed
from tests.real_files import path

WEB = Path(__file__).resolve().parents[2] / "web"
GOOD = [
    ("webxr", "hp-mixed-reality/left.glb"),
    ("webxr", "htc-vive-cosmos/left.glb"),
    ("webxr", "magicleap-two/none.glb"),
    ("webxr", "generic-trigger-squeeze/left.glb"),
    ("threebox", "Soldier.glb"),
    ("gradio", "Duck.glb"),
    ("pybullet", "a1/meshes/trunk.obj"),
    ("pybullet", "samurai_monastry.obj"),
    ("assimp", "glTF2/BoxTexcoords-glTF/boxTexcoords.gltf"),
    ("assimp", "OBJ/WusonOBJ.obj"),
    ("assimp", "OBJ/number_formats.obj"),
    ("assimp", "OBJ/box_UTF16BE.obj"),
    ("assimp", "OBJ/box_longline.obj"),
    ("assimp", "OBJ/regr01.obj"),
]


@pytest.mark.parametrize(("package", "file"), GOOD)
def test_reading_and_writing_changes_nothing(package: str, file: str) -> None:
    source = path(package, file)
    scene = files.read(source, 1.0)
    uvs = {i: m.channels[0].uvs for i, m in enumerate(scene.meshes) if 0 in m.channels}
    written = formats.write(scene, uvs)
    if scene.format == "obj":
        assert written[""] == source.read_bytes()
        return
    again = formats.read(written[""], source.name, 1.0, files.Beside(source.parent))
    assert again.key.json == scene.key.json
    for a, b in zip(again.meshes, scene.meshes, strict=True):
        assert np.array_equal(a.positions, b.positions)
        assert all(np.allclose(a.channels[c].uvs, b.channels[c].uvs, atol=1e-6) for c in b.channels)


@pytest.mark.reference("Islands of real files", "counts of an independent script (test-material.md)")
# Figures of an independent script over the same files (measured once, by the steering side).
@pytest.mark.parametrize(
    ("package", "file", "islands"),
    [
        ("webxr", "hp-mixed-reality/left.glb", 54),
        ("webxr", "htc-vive-cosmos/left.glb", 122),
        ("webxr", "magicleap-two/none.glb", 162),
        ("pybullet", "a1/meshes/trunk.obj", 555),
    ],
)
def test_island_counts_of_an_independent_script(package: str, file: str, islands: int) -> None:
    assert inspect_report([files.read(path(package, file), 1.0)], 0, 512)["islands"] == islands


@pytest.mark.reference("Islands of real files", "trimesh")
@pytest.mark.parametrize("file", ["hp-mixed-reality/left.glb", "magicleap-two/none.glb"])
def test_islands_against_trimesh(file: str) -> None:
    """Reference: trimesh's connected components over corners merged at six decimals."""
    scene = files.read(path("webxr", file), 1.0)
    for mesh, piece in zip(scene.meshes, analyse(scene, 0), strict=True):
        assert piece is not None
        rows = mesh.channels[0].triangles
        position = np.zeros((len(piece.uvs), 3))
        position[rows] = mesh.positions[mesh.triangles]
        merged = np.unique(np.round(np.hstack([position, piece.uvs]), 6), axis=0, return_inverse=True)[1].ravel()[rows]
        edges = np.concatenate([merged[:, [0, 1]], merged[:, [1, 2]]])
        assert piece.islands.count == len(trimesh.graph.connected_components(edges, nodes=np.unique(merged), min_len=1))


@pytest.mark.reference("World areas and positions", "trimesh")
def test_world_area_and_positions_against_trimesh() -> None:
    source = path("webxr", "hp-mixed-reality/left.glb")
    wanted = sum(g.area for g in trimesh.load_scene(source).dump())
    report = inspect_report([files.read(source, 1.0)], 0, 512)
    assert sum(o["world_area_m2"] for o in report["objects"]) == pytest.approx(wanted, rel=1e-6)


def exported_regions(source: Path) -> np.ndarray:
    """Islands of an exported file by other libraries: trimesh reads, its graph joins, shapely unites."""
    out = []
    for mesh in trimesh.load_scene(source, process=False).dump():
        uv = np.asarray(mesh.visual.uv)
        key = np.unique(np.round(np.hstack([mesh.vertices, uv]), 6), axis=0, return_inverse=True)[1].ravel()[mesh.faces]
        edges = np.concatenate([key[:, [0, 1]], key[:, [1, 2]]])
        label = trimesh.graph.connected_component_labels(edges, node_count=key.max() + 1)
        for island in np.unique(label[key[:, 0]]):
            triangles = shapely.polygons(uv[mesh.faces[label[key[:, 0]] == island]])
            out.append(shapely.union_all(triangles[shapely.area(triangles) > 1e-14]))
    return np.array([r for r in out if not r.is_empty], object)


@pytest.mark.reference("Exported layouts of real files", "trimesh and pygltflib")
@pytest.mark.parametrize("file", ["hp-mixed-reality/left.glb", "htc-vive-cosmos/left.glb"])
def test_the_exported_layout_by_other_libraries(file: str, tmp_path: Path) -> None:
    """Gap, margin, overlap and coverage of the written file, with nothing of ours in between."""
    out = tmp_path / "out"
    assert main(["pack", str(path("webxr", file)), "--out", str(out), "--map", "1024", "--padding", "4", "--seconds", "2"]) == 0
    report = json.loads((out / "report.json").read_text())
    regions = exported_regions(out / "left.glb")
    tree = shapely.STRtree(regions)
    i, j = tree.query(regions, predicate="dwithin", distance=20 / 1024)
    distance = shapely.distance(regions[i], regions[j])[i != j]
    assert len(regions) == report["islands"]
    assert distance.min() * 1024 >= 4 - 1e-3
    assert distance.min() * 1024 == pytest.approx(report["smallest_gap_px"], abs=5e-3)
    u0, v0, u1, v1 = shapely.total_bounds(regions)
    assert min(u0, v0, 1 - u1, 1 - v1) * 1024 >= 2 - 1e-3
    assert shapely.union_all(regions).area == pytest.approx(report["coverage"], abs=1e-4)


@pytest.mark.reference("All else in a GLB stays", "pygltflib")
def test_everything_else_in_a_glb_survives(tmp_path: Path) -> None:
    """Skin, animations, the six other channels (they share one accessor with the first) and all names."""
    source = path("threebox", "Soldier.glb")
    before = files.read(source, 1.0)
    main(["pack", str(source), "--out", str(tmp_path / "o"), "--seconds", "0"])
    after = files.read(tmp_path / "o" / "Soldier.glb", 1.0)
    for key in ("nodes", "skins", "animations", "materials", "textures", "images", "samplers", "scenes"):
        assert after.key.json.get(key) == before.key.json.get(key)
    for a, b in zip(after.meshes, before.meshes, strict=True):
        assert np.array_equal(a.positions, b.positions) and np.array_equal(a.triangles, b.triangles)
        assert not np.allclose(a.channels[0].uvs, b.channels[0].uvs)
        assert all(np.array_equal(a.channels[c].uvs, b.channels[c].uvs) for c in range(1, 7))
    assert after.key.buffers[0][: len(before.key.buffers[0])][-1000:] == before.key.buffers[0][-1000:]


VALIDATE = """
const validator = require('gltf-validator'), fs = require('fs')
const all = process.argv.slice(1).map((f) => validator.validateBytes(new Uint8Array(fs.readFileSync(f)), { maxIssues: 0 }))
Promise.all(all).then((r) => console.log(JSON.stringify(r.map((x) => x.issues.messages.filter((m) => m.severity === 0).map((m) => m.code)))))
"""


@pytest.mark.reference("Real GLBs that are written", "Khronos' glTF validator")
@pytest.mark.parametrize(
    ("package", "file"),
    [("webxr", "hp-mixed-reality/left.glb"), ("webxr", "htc-vive-cosmos/left.glb"), ("threebox", "Soldier.glb"), ("gradio", "Duck.glb")],
)
def test_khronos_validator_finds_no_new_error(package: str, file: str, tmp_path: Path) -> None:
    """Reference: Khronos' gltf-validator (npm)."""
    source = path(package, file)
    assert main(["pack", str(source), "--out", str(tmp_path / "o"), "--seconds", "0", "--channel-out", "0"]) == 0
    node = shutil.which("node")
    assert node
    done = subprocess.run(
        [node, "-e", VALIDATE, str(source), str(tmp_path / "o" / source.name)], cwd=WEB, capture_output=True, text=True, check=True
    )
    before, after = json.loads(done.stdout)
    assert sorted(after) == sorted(before)


@pytest.mark.parametrize(
    ("file", "words"),
    [
        ("invalid/malformed.obj", "line"),
        ("invalid/empty.obj", "no face"),
        ("glTF2/MissingBin/BoxTextured.gltf", "missing"),
        ("glTF2/IndexOutOfRange/IndexOutOfRange.gltf", "vertex"),
        ("glTF2/RecursiveNodes/RecursiveNodes.gltf", "ancestor"),
    ],
)
def test_bad_real_files_are_refused_by_name(file: str, words: str) -> None:
    with pytest.raises(FileError, match=words):
        files.read(path("assimp", file), 1.0)


@pytest.mark.reference("Draco-compressed glTF, a real file", "its uncompressed twin")
def test_a_draco_file_holds_what_its_uncompressed_twin_holds() -> None:
    """The same model of the test material as Draco and as plain GLB: objects, triangles, surface; what leaves is not compressed."""
    packed, plain = (
        files.read(path("assimp", f"glTF2/{f}"), 1.0)
        for f in ("draco/2CylinderEngine.gltf", "2CylinderEngine-glTF-Binary/2CylinderEngine.glb")
    )
    assert any("Draco" in w for w in packed.warnings) and len(packed.objects) == len(plain.objects)
    for a, b in zip(packed.objects, plain.objects, strict=True):
        one, other = (world_areas(s.meshes[o.mesh], o).sum() for s, o in ((packed, a), (plain, b)))
        # The encoder leaves out triangles that are no area, so their number may be smaller.
        assert len(packed.meshes[a.mesh].triangles) <= len(plain.meshes[b.mesh].triangles) and one == pytest.approx(other, rel=2e-3)
    out = formats.write(packed, {}, 0)
    assert b"KHR_draco" not in out[""] and "extensionsRequired" not in json.loads(out[""])


@pytest.mark.parametrize("seed", range(6))
def test_mutated_real_files(seed: int) -> None:
    """A scene or a clear error, for a real GLB and OBJ with bytes changed or cut off."""
    random = np.random.default_rng(seed)
    for package, file in (("webxr", "hp-mixed-reality/left.glb"), ("assimp", "OBJ/WusonOBJ.obj")):
        source = path(package, file)
        for _ in range(8):
            data = bytearray(source.read_bytes())
            for at in random.integers(0, min(len(data), 20_000), random.integers(1, 30)):
                data[at] = random.integers(0, 256)
            if random.random() < 0.3:
                data = data[: random.integers(0, len(data))]
            try:
                scene = formats.read(bytes(data), source.name)
            except FileError as e:
                assert source.name in str(e)
            else:
                analyse(scene, 0)


def _places(g: pygltflib.GLTF2) -> dict[str, np.ndarray]:
    """World matrices of all named nodes, by path."""
    out: dict[str, np.ndarray] = {}

    def walk(n: int, above: np.ndarray, path: str) -> None:
        node = g.nodes[n]
        world = above @ (np.array(node.matrix).reshape(4, 4).T if node.matrix else placed(node))
        out.setdefault(f"{path}/{node.name}", world)
        for child in node.children or ():
            walk(child, world, f"{path}/{node.name}")

    for n in g.scenes[g.scene or 0].nodes:
        walk(n, np.eye(4), "")
    return {path: world for path, world in out.items() if "None" not in path}


def _properties(m: pygltflib.Material) -> dict[str, object]:
    """All that a material says in the core of glTF 2.0, with its usual values where it says nothing."""
    pbr = m.pbrMetallicRoughness or pygltflib.PbrMetallicRoughness()
    maps = (pbr.baseColorTexture, pbr.metallicRoughnessTexture, m.normalTexture, m.occlusionTexture, m.emissiveTexture)
    return {
        "base": np.round(pbr.baseColorFactor or (1, 1, 1, 1), 6).tolist(), "metal": round(1.0 if pbr.metallicFactor is None else pbr.metallicFactor, 6),
        "rough": round(1.0 if pbr.roughnessFactor is None else pbr.roughnessFactor, 6), "emission": np.round(m.emissiveFactor or (0, 0, 0), 6).tolist(),
        "sides": bool(m.doubleSided), "alpha": m.alphaMode or "OPAQUE", "extras": m.extras or {}, "maps": [t is not None for t in maps],
    }  # fmt: skip


@pytest.mark.reference("Materials, pivots and hierarchy of real files that are written anew", "pygltflib")
@pytest.mark.parametrize(
    ("package", "file"),
    [("webxr", f"{n}.glb") for n in ("magicleap-two/none", "pico-4u/left", "samsung-galaxyxr/left", "logitech-mx-ink/none", "generic-hand/left", "generic-button/none")]
    + [("gradio", "Duck.glb")],
)  # fmt: skip
def test_a_glb_that_is_written_anew_keeps_what_it_was(package: str, file: str) -> None:
    data = path(package, file).read_bytes()
    model = Model()
    add(model, formats.read(data, "a.glb"), {})
    made = checked(model, "glb", "b")[1]["b.glb"][0]
    was, now = (pygltflib.GLTF2.load_from_bytes(x) for x in (data, made))
    used = {p.material for m in was.meshes for p in m.primitives if p.material is not None}
    by = {m.name: _properties(m) for m in now.materials}
    assert all(by[was.materials[k].name] == _properties(was.materials[k]) for k in used if was.materials[k].name)
    places = _places(now)
    for name, world in _places(was).items():
        assert places[name] == pytest.approx(world, abs=1e-5 * max(1, np.abs(world).max())), name
