"""USD (usda, usdc, usd, usdz) by usd-core: read into a scene, and write new UVs into the root layer.

UVs are primvars of two floats. A file names them freely; here they are the channels of a mesh by number: `st` first, then as they come. Every
mesh has one set of UV rows for all of its channels, a row for each distinct pair of point and UVs.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Usd, UsdGeom

from ...errors import FileError
from ...model.scene import Floats, Mesh, MeshObject, Node, Polygons, Scene, UvChannel
from ..polygons import triangulate
from .files import Layers, gather, opened
from .materials import Materials

# Names of plain float pairs that hold UVs all the same (common practice, no source).
_UV_NAMES = ("st", "uv", "map", "texcoord")
_TYPES = {"texCoord2f[]", "texCoord2d[]", "texCoord2h[]"}
_PLAIN = {"float2[]", "double2[]", "half2[]"}
MOST_OBJECTS = 20_000
_CORNERS, _POINTS = ("faceVarying",), ("vertex", "varying")


@dataclass(frozen=True)
class Stand:
    """Where a mesh stands: the layer and path that its UVs are written to, the primvar of each channel, the UV row of every corner in the
    file's order, whether rows are points, the corner in the file of every corner here; and its normals (T, 3, 3), if any."""

    layer: str
    path: str
    names: list[str]
    rows: NDArray[np.int64]
    per_point: bool
    turn: NDArray[np.int64]
    normals: Floats | None = None


def read(data: bytes, file: str, unit_m: float = 1.0, resources: Mapping[str, bytes] | None = None) -> Scene:
    """Read a USD file with what it is composed of; its unit is said in it.

    Raises
    ------
    FileError : what is wrong, where, and what helps
    """
    layers = gather(data, file, resources or {})
    with opened(layers) as (stage, folder):
        try:
            return _scene(stage, folder, layers, data)
        except FileError:
            raise
        except Exception as e:  # an attribute of a foreign type comes out as anything, and raises whatever that does not know
            raise layers.fail(f"it cannot be read as USD ({type(e).__name__})", "", "Export it again.") from e


def _scene(stage: Any, folder: Any, layers: Layers, data: bytes) -> Scene:
    scene = Scene(layers.file, "usd", [], [], [], data, inside=layers.bodies if layers.packed else {})
    scene.warnings += [f"'{name}', which it is composed of, did not come along" for name in layers.missing]
    prims = []
    for prim in Usd.PrimRange(stage.GetPseudoRoot(), Usd.TraverseInstanceProxies()):
        if _is_shown(prim):
            prims.append(prim)
            # Instances within instances: a few lines may stand for millions.
            if len(prims) > MOST_OBJECTS:
                raise layers.fail(f"it places more than {MOST_OBJECTS:,} meshes", "", "Bring it in several parts.")
    scene.key = layers
    materials = Materials(folder, layers)
    to_metres, cache = _to_metres(stage), UsdGeom.XformCache(Usd.TimeCode.EarliestTime())
    number: dict[tuple[str, str], int] = {}
    scene.nodes, places = _nodes(stage, prims, to_metres, cache)
    scene.further = _further(stage)
    for prim in prims:
        source = prim.GetPrimInPrototype() if prim.IsInstanceProxy() else prim
        place = _spec(stage, source, folder, layers)
        if place not in number:
            mesh = _mesh(prim, place, scene, materials)
            if mesh is None:
                continue
            number[place] = len(scene.meshes)
            scene.meshes.append(mesh)
        world = to_metres @ np.array(cache.GetLocalToWorldTransform(prim)).T
        if not np.isfinite(world).all():
            raise layers.fail("its transform is not finite", str(prim.GetPath()))
        scene.objects.append(MeshObject(prim.GetName(), str(prim.GetPath())[1:], number[place], world, places.get(str(prim.GetPath()), -1)))
    if not scene.objects:
        raise layers.fail("there is no mesh with faces in it", "", "Only meshes are taken: no curves, points or solids.")
    scene.materials = materials.done()
    scene.warnings += materials.warnings
    if not layers.packed:
        scene.references = [n for n in layers.bodies if n != layers.root] + [p for m in scene.materials for p in m.images.values()]
    return scene


def _is_shown(prim: Any) -> bool:
    """Whether a prim is a mesh that is drawn, not a stand-in or a guide."""
    return bool(prim.IsA(UsdGeom.Mesh)) and UsdGeom.Imageable(prim).ComputePurpose() in ("default", "render")


def _nodes(stage: Any, meshes: list[Any], to_metres: Floats, cache: Any) -> tuple[list[Node], dict[str, int]]:
    """All places of the hierarchy: meshes, what stands above them, and transforms without a mesh (not those of stand-ins and guides); and their numbers by path."""
    wanted = {str(m.GetPath()) for m in meshes}
    wanted |= {str(p) for m in meshes for p in m.GetPath().GetPrefixes()}
    nodes: list[Node] = []
    number: dict[str, int] = {}
    for prim in Usd.PrimRange(stage.GetPseudoRoot(), Usd.TraverseInstanceProxies()):
        path = str(prim.GetPath())
        pivot = str(prim.GetTypeName()) == "Xform" and UsdGeom.Imageable(prim).ComputePurpose() in ("default", "render")
        if path == "/" or not (path in wanted or pivot):
            continue
        world = to_metres @ np.array(cache.GetLocalToWorldTransform(prim)).T
        above = str(prim.GetPath().GetParentPath())
        number[path] = len(nodes)
        nodes.append(Node(prim.GetName(), number.get(above, -1), world if np.isfinite(world).all() else to_metres))
    return nodes, number


def _further(stage: Any) -> list[str]:
    """What else is on a stage, in words."""
    kinds: Counter[str] = Counter()
    for prim in stage.Traverse():
        kind = str(prim.GetTypeName())
        kinds[kind] += kind in ("Skeleton", "SkelAnimation", "BlendShape", "Camera", "Points", "BasisCurves") or kind.endswith("Light")
    return [f"{n} {kind}" for kind, n in sorted(kinds.items()) if n]


def _to_metres(stage: Any) -> Floats:
    """From the units of the stage, with its own up axis, to metres with y up."""
    unit = UsdGeom.GetStageMetersPerUnit(stage)
    out = np.diag([unit, unit, unit, 1.0])
    if UsdGeom.GetStageUpAxis(stage) == "Z":
        out = out @ np.array([[1, 0, 0, 0], [0, 0, 1, 0], [0, -1, 0, 0], [0, 0, 0, 1]], float)
    return out


def _is_uv(primvar: Any) -> bool:
    kind = str(primvar.GetTypeName())
    name = primvar.GetPrimvarName().lower()
    return kind in _TYPES or (kind in _PLAIN and name.startswith(_UV_NAMES))


def _channel_names(prim: Any) -> list[str]:
    names = [p.GetPrimvarName() for p in UsdGeom.PrimvarsAPI(prim).GetPrimvarsWithValues() if _is_uv(p)]
    return sorted(names, key=lambda n: n != "st")


def _value(attribute: Any, kind: Any, width: int) -> NDArray[Any]:
    """The value of an array attribute at its earliest time, (n,) or (n, width)."""
    value = attribute.Get(Usd.TimeCode.EarliestTime())
    out = np.zeros(0, kind) if value is None else np.array(value, kind)
    return out.reshape(-1, width) if width > 1 else out.reshape(-1)


def _mesh(prim: Any, place: tuple[str, str], scene: Scene, materials: Materials) -> Mesh | None:
    mesh, where, layers = UsdGeom.Mesh(prim), str(prim.GetPath()), scene.key
    points = _value(mesh.GetPointsAttr(), np.float64, 3)
    counts = _value(mesh.GetFaceVertexCountsAttr(), np.int64, 1)
    corners = _value(mesh.GetFaceVertexIndicesAttr(), np.int64, 1)
    _check(layers, where, points, counts, corners)
    faces = np.concatenate([[0], np.cumsum(counts)])
    # The other hand: a face is walked the other way round, so that its front is its front.
    turn = np.arange(len(corners))
    if mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded:
        turn = np.repeat(faces[:-1] + faces[1:] - 1, counts) - turn
    corners = corners[turn]
    triangles, face_of = triangulate(points[corners], faces)
    if not len(triangles):
        return None
    names = _channel_names(prim)
    values, per_point = _uvs(prim, names, scene, points, corners, turn)
    rows, channels = _channels(values, per_point, corners, triangles, len(points))
    in_file = np.empty_like(rows)
    in_file[turn] = rows
    return Mesh(
        prim.GetName(), points, corners[triangles].astype(np.int32), materials.of_faces(prim, len(counts), names)[face_of], channels,
        Stand(*place, names, in_file, per_point, turn, _normals(mesh, corners, turn, triangles, len(points))), Polygons(faces, corners.astype(np.int32), triangles.astype(np.int32), face_of.astype(np.int32)),
        tuple(names), colours=_colours(prim, len(points), corners, turn, triangles),
    )  # fmt: skip


def _check(layers: Layers, where: str, points: Floats, counts: NDArray[np.int64], corners: NDArray[np.int64]) -> None:
    if (counts < 0).any() or int(counts.sum()) != len(corners):
        raise layers.fail(f"its faces want {int(counts.sum())} corners and there are {len(corners)}", where, "Export it again.")
    if len(corners) and not 0 <= corners.min() <= corners.max() < len(points):
        raise layers.fail(f"a face names point {corners.max()} of {len(points)}", where, "Export it again.")
    if not np.isfinite(points).all():
        raise layers.fail("a position is not a number", where, "Export it again.")


def _normals(mesh: Any, corners: NDArray[np.int64], turn: NDArray[np.int64], triangles: NDArray[np.int64], points: int) -> Floats | None:
    """Normals at the corners of the triangles, where the mesh says them; `primvars:normals` comes before `normals` (UsdGeomMesh)."""
    primvar = UsdGeom.PrimvarsAPI(mesh).GetPrimvar("normals")
    if primvar and primvar.HasValue():
        values, kind = (
            np.array(primvar.ComputeFlattened(Usd.TimeCode.EarliestTime()), np.float64).reshape(-1, 3),
            primvar.GetInterpolation(),
        )
    else:
        values, kind = _value(mesh.GetNormalsAttr(), np.float64, 3), mesh.GetNormalsInterpolation()
    if kind in _CORNERS and len(values) == len(corners):
        return values[turn][triangles]
    if kind in _POINTS and len(values) == points and points:
        return values[corners][triangles]
    return None


def _colours(prim: Any, points: int, corners: NDArray[np.int64], turn: NDArray[np.int64], triangles: NDArray[np.int64]) -> Floats | None:
    """`displayColor` and `displayOpacity` at the corners of the triangles (T, 3, 4), where they differ over the mesh."""
    out = np.ones((len(corners), 4))
    found = False
    for name, at in (("displayColor", slice(0, 3)), ("displayOpacity", slice(3, 4))):
        primvar = UsdGeom.PrimvarsAPI(prim).GetPrimvar(name)
        if not primvar or not primvar.HasValue():
            continue
        values = np.array(primvar.ComputeFlattened(Usd.TimeCode.EarliestTime()), np.float64).reshape(-1, at.stop - at.start)
        kind = primvar.GetInterpolation()
        if kind in _CORNERS and len(values) == len(corners):
            out[:, at], found = values[turn], True
        elif kind in _POINTS and len(values) == points:
            out[:, at], found = values[corners], True
    return np.asarray(out[triangles]) if found and np.isfinite(out).all() else None


def _uvs(
    prim: Any, names: list[str], scene: Scene, points: Floats, corners: NDArray[np.int64], turn: NDArray[np.int64]
) -> tuple[dict[int, Floats], bool]:
    """UVs (C, 2) at every corner by channel, and whether all of them stand at points."""
    values: dict[int, Floats] = {}
    per_point = True
    for primvar in UsdGeom.PrimvarsAPI(prim).GetPrimvarsWithValues():
        if not _is_uv(primvar):
            continue
        name, kind = primvar.GetPrimvarName(), primvar.GetInterpolation()
        uv = np.array(primvar.ComputeFlattened(Usd.TimeCode.EarliestTime()), np.float64).reshape(-1, 2)
        wanted = {**dict.fromkeys(_CORNERS, len(corners)), **dict.fromkeys(_POINTS, len(points))}.get(kind)
        if wanted is None or len(uv) != wanted or not np.isfinite(uv).all():
            scene.warnings.append(f"{prim.GetPath()}: the UVs '{name}' ({kind}, {len(uv)} values) do not fit its faces and are left out")
            continue
        values[names.index(name)] = uv[turn] if kind in _CORNERS else uv[corners]
        per_point &= kind in _POINTS
    return values, per_point


def _channels(
    values: dict[int, Floats], per_point: bool, corners: NDArray[np.int64], triangles: NDArray[np.int64], points: int
) -> tuple[NDArray[np.int64], dict[int, UvChannel]]:
    """The row of every corner, and the channels in these rows."""
    rows, count = corners, points
    if not per_point:
        keys = np.column_stack([corners, *values.values()])
        _, rows = np.unique(keys, axis=0, return_inverse=True)
        rows = rows.reshape(-1)
        count = int(rows.max()) + 1
    channels = {}
    for number, uv in values.items():
        uvs = np.zeros((count, 2))
        uvs[rows] = uv
        channels[number] = UvChannel(uvs, rows[triangles].astype(np.int32))
    return rows, channels


def _spec(stage: Any, source: Any, folder: Any, layers: Layers) -> tuple[str, str]:
    """The layer (by its path) and the prim path there that an opinion about a mesh is written to; meshes with one place are one mesh.

    The root layer can speak about every prim but those inside an instance. What such a prim is made from is found in its specs: where one of
    them stands in the scene itself, not in another file, the root layer can speak about that.
    """
    if not source.IsInPrototype():
        return layers.root, str(source.GetPath())
    specs = source.GetPrimStack()
    own = {layer.realPath for layer in stage.GetLayerStack(False)}
    for spec in specs:
        if spec.layer.realPath in own:
            return layers.root, str(spec.path)
    return str(specs[0].layer.realPath)[len(str(folder)) + 1 :], str(specs[0].path)
