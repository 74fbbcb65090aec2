"""A surface looks after carrying paint over, and after conversion, as it looked before: one property at a time, by the viewer of the tests' own."""

from __future__ import annotations

import copy
import io
import json
import struct

import numpy as np
import pygltflib
import pytest
from PIL import Image

from quilt_core import formats
from quilt_core.errors import QuiltError
from quilt_core.formats import rewire
from quilt_core.model.scene import Floats
from tests.kit import files as kit
from tests.kit.files import Map, Paint, Plate, dents, plate, waves
from tests.kit.handed import CASES, PROPERTIES, converted, delivered, for_format, full, laid_out, painted, plates, three
from tests.kit.opened import of_file
from tests.kit.viewer import compared

LEAST = 45.0  # decibels


def check(before: dict[str, bytes], after: dict[str, bytes], main: str, other: str, found: list[Plate], but: tuple[str, ...] = ()) -> None:
    off = compared(of_file(before, main), of_file(after, other), kit.points_on(found))
    bad = {name: round(db, 1) for name, db in off.items() if name not in but and db < (20 if name == "alpha" and "mask" in but else LEAST)}
    assert not bad and {"colour", "metal", "roughness", "normal", "emission"} <= off.keys(), (bad, off)


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


# What is said of a property where a target has no place for it.
SAID = {
    ("emission above one", "obj"): "", ("occlusion strength", "obj"): "occlusion map", ("normal scale", "obj"): "scale of normals", ("mask", "obj"): "cutoff",
    ("mirror", "obj"): "mirrored", ("one transform", "obj"): "turned", ("transforms that differ", "obj"): "turned", ("unlit", "obj"): "unlit",
    ("unlit", "usda"): "unlit", ("two sides", "obj"): "two sides",
}  # fmt: skip


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
