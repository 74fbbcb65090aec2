"""USD in and out; what is written is read again by usd-core itself, apart from the reader under test."""

from __future__ import annotations

import zipfile
from collections.abc import Callable
from io import BytesIO
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pxr import Usd, UsdGeom, UsdUtils

from quilt_core import formats
from quilt_core.delivery.report import analyse_all, pieces_of
from quilt_core.errors import FileError
from quilt_core.formats import pictures

SHED = """#usda 1.0
(
    defaultPrim = "Shed"
    metersPerUnit = 0.01
    upAxis = "Z"
)

def Xform "Shed"
{
    double3 xformOp:translate = (100, 0, 50)
    uniform token[] xformOpOrder = ["xformOp:translate"]

    def Mesh "Wall" (
        prepend apiSchemas = ["MaterialBindingAPI"]
    )
    {
        int[] faceVertexCounts = [4, 3]
        int[] faceVertexIndices = [0, 1, 2, 3, 3, 2, 4]
        point3f[] points = [(0, 0, 0), (200, 0, 0), (200, 0, 100), (0, 0, 100), (100, 0, 200)]
        texCoord2f[] primvars:light = [(0, 0), (1, 0), (1, .5), (0, .5), (.5, 1)] (
            interpolation = "vertex"
        )
        texCoord2f[] primvars:st = [(0, 0), (0.5, 0), (0.5, 0.25), (0, 0.25), (0.6, 0.6), (0.9, 0.6), (0.7, 0.9)] (
            interpolation = "faceVarying"
        )
        float2[] primvars:wind = [(0, 0)] (
            interpolation = "constant"
        )
        rel material:binding = </Looks/Paint>

        def GeomSubset "gable" (
            prepend apiSchemas = ["MaterialBindingAPI"]
        )
        {
            uniform token elementType = "face"
            uniform token familyName = "materialBind"
            int[] indices = [1]
            rel material:binding = </Looks/Bare>
        }
    }

    def Mesh "Mirror"
    {
        uniform token orientation = "leftHanded"
        int[] faceVertexCounts = [3]
        int[] faceVertexIndices = [0, 2, 1]
        point3f[] points = [(0, 0, 0), (10, 0, 0), (0, 10, 0)]
        texCoord2f[] primvars:st = [(0, 0), (0, 1), (1, 0)] (
            interpolation = "faceVarying"
        )
    }

    def Mesh "Guide"
    {
        uniform token purpose = "guide"
        int[] faceVertexCounts = [3]
        int[] faceVertexIndices = [0, 1, 2]
        point3f[] points = [(0, 0, 0), (10, 0, 0), (0, 10, 0)]
    }
}

def Scope "Looks"
{
    def Material "Paint"
    {
        token outputs:surface.connect = </Looks/Paint/Surface.outputs:surface>

        def Shader "Surface"
        {
            uniform token info:id = "UsdPreviewSurface"
            color3f inputs:diffuseColor.connect = </Looks/Paint/Colour.outputs:rgb>
            token outputs:surface
        }

        def Shader "Colour"
        {
            uniform token info:id = "UsdUVTexture"
            asset inputs:file = @textures/paint.png@
            float2 inputs:st.connect = </Looks/Paint/Reader.outputs:result>
            float3 outputs:rgb
        }

        def Shader "Reader"
        {
            uniform token info:id = "UsdPrimvarReader_float2"
            string inputs:varname = "light"
            float2 outputs:result
        }
    }

    def Material "Bare"
    {
    }
}
"""

CRATES = """#usda 1.0
(
    metersPerUnit = 1
    upAxis = "Y"
)

def Scope "Parts"
{
    def Xform "Crate"
    {
        def Mesh "Body"
        {
            int[] faceVertexCounts = [4]
            int[] faceVertexIndices = [0, 1, 2, 3]
            point3f[] points = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)]
            float2[] primvars:UVMap = [(0, 0), (1, 0), (1, 1), (0, 1)] (
                interpolation = "vertex"
            )
        }
    }
}

def "One" (
    instanceable = true
    prepend references = </Parts/Crate>
)
{
}

def "Two" (
    instanceable = true
    prepend references = </Parts/Crate>
)
{
    double3 xformOp:translate = (3, 0, 0)
    uniform token[] xformOpOrder = ["xformOp:translate"]
}
"""


def stage_of(body: bytes, folder: Path, name: str = "again.usda") -> Usd.Stage:
    """What was written, opened by usd-core."""
    (folder / name).write_bytes(body)
    return Usd.Stage.Open(str(folder / name))


def flattened(stage: Usd.Stage, path: str, name: str) -> np.ndarray:
    """UVs of a primvar at every corner (or point)."""
    return np.array(UsdGeom.PrimvarsAPI(stage.GetPrimAtPath(path)).GetPrimvar(name).ComputeFlattened())


@pytest.mark.reference("USD: primvars and st, units, up axis, materials", "OpenUSD: UsdGeom primvars, UsdPreviewSurface")
def test_units_hand_channels_and_materials() -> None:
    scene = formats.read(SHED.encode(), "shed.usda")
    assert [o.path for o in scene.objects] == ["Shed/Wall", "Shed/Mirror"], "a guide is not drawn"
    wall, mirror = scene.meshes
    assert wall.key.names == ["st", "light"] and sorted(wall.channels) == [0, 1]
    # 1 m to the right, and half a metre up, which is y here.
    assert scene.objects[0].world @ [0, 0, 0, 1] == pytest.approx([1, 0.5, 0, 1])
    assert scene.objects[0].world @ [0, 0, 100, 1] == pytest.approx([1, 1.5, 0, 1])
    assert [m.name for m in scene.materials] == ["Paint", "Bare"] and wall.materials.tolist() == [0, 0, 1]
    assert scene.materials[0].images == {"diffuseColor": "textures/paint.png"} and scene.materials[0].channels == {"diffuseColor": 1}
    assert wall.polygons is not None and np.diff(wall.polygons.faces).tolist() == [4, 3]
    a, b, c = mirror.positions[mirror.triangles[0]]
    assert np.cross(b - a, c - a)[2] > 0, "a left-handed face is turned, so that its front is its front"
    uv = mirror.channels[0].uvs[mirror.channels[0].triangles[0]]
    assert np.linalg.det([uv[1] - uv[0], uv[2] - uv[0]]) > 0
    assert pieces_of(analyse_all([scene], 0))[0].islands.count == 2
    assert pieces_of(analyse_all([scene], 1))[0].islands.count == 1


@pytest.mark.parametrize("channel", [0, 1, 2])
def test_what_usd_core_reads_is_what_was_written(channel: int, tmp_path: Path) -> None:
    scene = formats.read(SHED.encode(), "shed.usda")
    new = {n: m.channels[0].uvs * 0.5 + 0.1 for n, m in enumerate(scene.meshes)}
    body = formats.write(scene, new, channel)[""]
    stage = stage_of(body, tmp_path)
    name = ("st", "light", "st2")[channel]
    source = stage_of(SHED.encode(), tmp_path, "before.usda")
    before = flattened(source, "/Shed/Wall", "st")
    assert flattened(stage, "/Shed/Wall", name) == pytest.approx(before * 0.5 + 0.1, abs=1e-6)
    other = ("st", "st1", "st2")[channel]  # channels are numbered mesh by mesh
    assert flattened(stage, "/Shed/Mirror", other) == pytest.approx(np.array([(0, 0), (0, 1), (1, 0)]) * 0.5 + 0.1, abs=1e-6)
    if channel:
        assert flattened(stage, "/Shed/Wall", "st") == pytest.approx(before, abs=1e-7), "the old channel stays"
    assert b"materialBind" in body and b"metersPerUnit = 0.01" in body
    again = formats.read(body, "shed.usda")
    assert np.array_equal(again.meshes[0].polygons.corners, scene.meshes[0].polygons.corners)


def test_instances_share_their_mesh_and_are_written_where_they_are_made(tmp_path: Path) -> None:
    scene = formats.read(CRATES.encode(), "crates.usda")
    paths = {o.path: o.mesh for o in scene.objects}
    assert paths["One/Body"] == paths["Two/Body"]
    new = {paths["One/Body"]: scene.meshes[paths["One/Body"]].channels[0].uvs * 0.25}
    stage = stage_of(formats.write(scene, new)[""], tmp_path)
    found = UsdGeom.PrimvarsAPI(next(iter(stage.GetPrototypes())).GetChild("Body")).GetPrimvar("UVMap")
    assert np.array(found.ComputeFlattened()).max() == pytest.approx(0.25) and found.GetInterpolation() == "vertex"


def layered() -> dict[str, bytes]:
    """A scene of three layers: crates that it is composed of, and a shed that it refers to twice, as instances."""
    sheds = "".join(
        f'def "{name}" (\n    instanceable = true\n    prepend references = @./shed.usda@\n)\n{{\n}}\n' for name in ("East", "West")
    )
    root = f"#usda 1.0\n(\n    subLayers = [@./parts/crates.usda@]\n)\n\n{sheds}"
    return {"root.usda": root.encode(), "parts/crates.usda": CRATES.encode(), "shed.usda": SHED.encode()}


def test_layers_that_came_along(tmp_path: Path) -> None:
    files = layered()
    scene = formats.read(files["root.usda"], "root.usda", 1.0, files)
    assert sorted(scene.references) == ["parts/crates.usda", "shed.usda"]
    assert not scene.materials, "the paint lies outside the prim that is referred to, as usd-core says too"
    mesh = {o.path: o.mesh for o in scene.objects}
    assert mesh["Parts/Crate/Body"] == mesh["One/Body"] == mesh["Two/Body"], "what is made from a prim of the scene follows it"
    assert mesh["East/Wall"] == mesh["West/Wall"] != mesh["East/Mirror"]
    out = formats.write(scene, {n: m.channels[0].uvs * 0.5 for n, m in enumerate(scene.meshes)})
    # The shed's meshes lie inside instances, where the root layer has no say.
    assert set(out) == {"", "shed.usda"}
    (tmp_path / "parts").mkdir()
    for name, body in {**files, **{k or "root.usda": v for k, v in out.items()}}.items():
        (tmp_path / name).write_bytes(body)
    stage = Usd.Stage.Open(str(tmp_path / "root.usda"))
    for crate in ("/Parts/Crate/Body", "/One/Body", "/Two/Body"):
        assert flattened(stage, crate, "UVMap").max() == pytest.approx(0.5)
    assert flattened(stage, "/West/Wall", "st").max() == pytest.approx(0.45)
    alone = formats.read(files["root.usda"].replace(b"]", b", @./gone.usda@]"), "root.usda", 1.0, files)
    assert alone.warnings == ["'gone.usda', which it is composed of, did not come along"]


@pytest.mark.parametrize("asset", ["/etc/hosts.usda", "../outside.usda", "parts/../../x.usda", "http://host/x.usda", "C:/x.usda"])
def test_nothing_outside_the_folder_is_opened(asset: str) -> None:
    root = f"#usda 1.0\n(\n    subLayers = [@{asset}@]\n)\n".encode()
    with pytest.raises(FileError, match="outside its own folder"):
        formats.read(root, "root.usda")


CLIP = """#usda 1.0
def Mesh "m" (
    clips = {
        dictionary default = {
            asset[] assetPaths = [@%s@]
            asset manifestAssetPath = @%s@
            string primPath = "/m"
            double2[] active = [(0, 0)]
            double2[] times = [(0, 0)]
        }
    }
)
{
    int[] faceVertexCounts = [3]
    int[] faceVertexIndices = [0, 1, 2]
    point3f[] points
    texCoord2f[] primvars:st = [(0, 0), (1, 0), (0, 1)] (
        interpolation = "vertex"
    )
}
"""
MANIFEST = b'#usda 1.0\nover "m"\n{\n    point3f[] points\n}\n'
VALUES = b'#usda 1.0\nover "m"\n{\n    point3f[] points.timeSamples = { 0: [(9, 9, 9), (1, 0, 0), (0, 1, 0)] }\n}\n'


def test_values_over_time_come_from_what_came_along_and_from_nowhere_else(tmp_path: Path) -> None:
    """OpenUSD opens value clips when a value is asked for, after the stage was composed (its documentation, "Value Clips")."""
    (tmp_path / "values.usda").write_bytes(VALUES)
    (tmp_path / "manifest.usda").write_bytes(MANIFEST)
    body = CLIP % (tmp_path / "values.usda", tmp_path / "manifest.usda")
    # That usd-core itself reads it shows that the attack is one.
    stage = stage_of(body.encode(), tmp_path)
    assert stage.GetPrimAtPath("/m").GetAttribute("points").Get(0)[0] == (9, 9, 9)
    with pytest.raises(FileError, match="outside its own folder"):
        formats.read(body.encode(), "root.usda")
    own = (CLIP % ("./values.usda", "./manifest.usda")).encode()
    beside = {"values.usda": VALUES, "manifest.usda": MANIFEST}
    assert formats.read(own, "root.usda", 1.0, beside).meshes[0].positions[0].tolist() == [9, 9, 9]
    row = own.replace(b"asset manifestAssetPath = @./manifest.usda@", b'string templateAssetPath = "../../v.#.usda"')
    with pytest.raises(FileError, match="a row of files"):
        formats.read(row, "root.usda", 1.0, beside)


def test_a_reference_that_is_computed_is_refused(tmp_path: Path) -> None:
    """Expressions in asset paths are evaluated after the layer named its dependencies (OpenUSD's documentation, "Variable Expressions")."""
    (tmp_path / "values.usda").write_bytes(VALUES.replace(b"over", b"def Mesh"))
    head = f'#usda 1.0\n(\n    expressionVariables = {{\n        string W = "{tmp_path}/values.usda"\n    }}\n)\n'
    root = head + 'def "m" (\n    references = @`"${W}"`@</m>\n)\n{\n}\n'
    stage = stage_of(root.encode(), tmp_path)
    assert stage.GetPrimAtPath("/m").GetTypeName() == "Mesh"
    with pytest.raises(FileError, match="computed from variables"):
        formats.read(root.encode(), "root.usda")


@pytest.mark.parametrize("asset", ["/etc/hosts.usda", "../../outside.usda"])
def test_a_package_names_nothing_outside_it(asset: str) -> None:
    out = BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        archive.writestr("shed.usda", SHED.replace("#usda 1.0\n(", f"#usda 1.0\n(\n    subLayers = [@{asset}@]", 1))
    with pytest.raises(FileError, match="outside its own folder"):
        formats.read(out.getvalue(), "shed.usdz")


def test_a_package_whose_file_has_no_name_is_told() -> None:
    """A name that begins with a zero byte is none: zipfile cuts it there."""
    out = BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        archive.writestr("shed.usda", SHED)
        archive.writestr("paint.png", b"")
    with pytest.raises(FileError, match="a file of the package has no name"):
        formats.read(out.getvalue().replace(b"paint.png", b"\0aint.png"), "shed.usdz")


def package(tmp_path: Path, change: Callable[[str], str] = lambda text: text) -> bytes:
    (tmp_path / "in/textures").mkdir(parents=True)
    (tmp_path / "in/shed.usda").write_text(change(SHED))
    (tmp_path / "in/textures/paint.png").write_bytes(b"\x89PNG picture")
    UsdUtils.CreateNewUsdzPackage(str(tmp_path / "in/shed.usda"), str(tmp_path / "shed.usdz"))
    return (tmp_path / "shed.usdz").read_bytes()


def test_a_package_in_and_out(tmp_path: Path) -> None:
    data = package(tmp_path)
    scene = formats.read(data, "shed.usdz")
    assert pictures.pictures(scene, {})[0] == {"base colour": b"\x89PNG picture"}
    body = formats.write(scene, {0: scene.meshes[0].channels[0].uvs * 0.5})[""]
    with zipfile.ZipFile(BytesIO(body)) as archive:
        assert all(e.compress_type == zipfile.ZIP_STORED for e in archive.infolist()), "usdz: nothing is compressed"
        for entry in archive.infolist():
            start = entry.header_offset + 30 + len(entry.filename) + len(archive.open(entry).read() and _extra(body, entry.header_offset))
            assert start % 64 == 0, "usdz: the data of every file begins at a multiple of 64 bytes"
    stage = stage_of(body, tmp_path, "again.usdz")
    assert flattened(stage, "/Shed/Wall", "st").max() == pytest.approx(0.45)


def _extra(body: bytes, at: int) -> bytes:
    length = int.from_bytes(body[at + 28 : at + 30], "little")
    return b"x" * length


def test_binary_layers_stay_binary(tmp_path: Path) -> None:
    text = stage_of(SHED.encode(), tmp_path, "a.usda")
    text.GetRootLayer().Export(str(tmp_path / "a.usdc"))
    scene = formats.read((tmp_path / "a.usdc").read_bytes(), "a.usdc")
    body = formats.write(scene, {0: scene.meshes[0].channels[0].uvs * 0.5})[""]
    stage = stage_of(body, tmp_path, "b.usdc")
    assert body.startswith(b"PXR-USDC") and flattened(stage, "/Shed/Wall", "st").max() == pytest.approx(0.45)


@pytest.mark.parametrize(
    ("body", "words"),
    [
        (b"", "cannot be read as USD"),
        (b"#usda 1.0\ndef Mesh {", "line 2"),
        (b"PXR-USDC" + b"\0" * 80, "cannot be read as USD"),
        (b"PK\x03\x04 nothing", "the package is damaged"),
        (SHED.replace("[4, 3]", "[4, 4]").encode(), "Shed/Wall: its faces want 8 corners and there are 7"),
        (SHED.replace("3, 2, 4]", "3, 2, 9]").encode(), "a face names point 9 of 5"),
        (SHED.replace("(100, 0, 200)]", "(nan, 0, 200)]").encode(), "a position is not a number"),
        (b"#usda 1.0\ndef Xform \"A\" {\n}\n", "no mesh with faces"),
    ],
)  # fmt: skip
def test_bad_files_say_what_and_where(body: bytes, words: str) -> None:
    with pytest.raises(FileError, match=words):
        formats.read(body, "bad.usda" if not body.startswith(b"PK") else "bad.usdz")


@settings(max_examples=100, deadline=None, derandomize=True)  # a wider search was run by hand
@given(st.data())
def test_damaged_files_end_in_an_error_of_ours_or_in_a_scene(data: st.DataObject) -> None:
    body = bytearray(SHED.encode())
    for _ in range(data.draw(st.integers(1, 4))):
        at = data.draw(st.integers(0, len(body) - 1))
        if data.draw(st.booleans()):
            del body[at : at + data.draw(st.integers(1, 40))]
        else:
            body[at] = data.draw(st.integers(0, 255))
    try:
        formats.read(bytes(body), "damaged.usda")
    except FileError as e:
        assert "damaged.usda" in str(e)


def test_uvs_that_do_not_fit_are_left_out_and_told() -> None:
    scene = formats.read(SHED.replace("(0.7, 0.9)]", "(0.7, 0.9), (1, 1)]").encode(), "shed.usda")
    assert 0 not in scene.meshes[0].channels and any("'st' (faceVarying, 8 values)" in w for w in scene.warnings)
