"""USD: prims by path, meshes with their polygons, channels as `st`, `st1` and so on, UsdPreviewSurface materials."""

from __future__ import annotations

import tempfile
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from pxr import Gf, Sdf, Tf, Usd, UsdGeom, Vt

from ...model.material import Material
from ..model import Corners, Model, distinct
from .files import packed
from .looks import author, define_material
from .rewire import bind


def export(model: Model, name: str, ending: str) -> dict[str, bytes]:
    """See `formats.export`. A package has its pictures inside."""
    kind = "usdc" if ending == "usdz" else ending
    with tempfile.TemporaryDirectory(prefix="quilt-usd-") as folder:
        path = Path(folder) / f"{Tf.MakeValidIdentifier(name)}.{kind}"
        stage = Usd.Stage.CreateNew(str(path))
        UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
        UsdGeom.SetStageMetersPerUnit(stage, 1.0)
        _fill(stage, model, name)
        stage.GetRootLayer().Save()
        body = path.read_bytes()
    if ending == "usdz":
        return {f"{name}.usdz": packed({f"{name}.usdc": body, **model.shown})}
    return {f"{name}.{ending}": body, **model.shown}


def _fill(stage: Any, model: Model, name: str) -> None:
    top = UsdGeom.Xform.Define(stage, f"/{Tf.MakeValidIdentifier(name)}")
    stage.SetDefaultPrim(top.GetPrim())
    names = model.channel_names
    taken: set[str] = set()
    materials = [_material(stage, top.GetPath(), look, names, taken) for look in model.looks]
    meshes = {item.node: item.mesh for item in model.items}
    sides = [look.double_sided for look in model.looks]
    parents = {node.parent for node in model.nodes}
    paths: list[Any] = []
    for n, (node, local) in enumerate(zip(model.nodes, model.locals, strict=True)):
        path = _free(top.GetPath() if node.parent < 0 else paths[node.parent], node.name, taken)
        paths.append(path)
        if n in meshes and n in parents:
            # A mesh may have no mesh below it (UsdGeomGprim), so it stands beside what hangs on its node.
            _place(UsdGeom.Xform.Define(stage, path), local)
            _mesh(stage, _free(path, node.name, taken), np.eye(4), *model.meshes[meshes[n]][1:], names, materials, sides)
        elif n in meshes:
            _mesh(stage, path, local, *model.meshes[meshes[n]][1:], names, materials, sides)
        else:
            _place(UsdGeom.Xform.Define(stage, path), local)


def _place(prim: Any, local: np.ndarray) -> None:
    if not np.allclose(local, np.eye(4), atol=0):
        prim.AddTransformOp().Set(Gf.Matrix4d(local.T.tolist()))


def _free(parent: Any, name: str, taken: set[str]) -> Any:
    """A path below another that is not taken."""
    valid, number = Tf.MakeValidIdentifier(name), 2
    path = parent.AppendChild(valid)
    while str(path) in taken:
        path, number = parent.AppendChild(f"{valid}_{number}"), number + 1
    taken.add(str(path))
    return path


def _material(stage: Any, top: Any, look: Material, names: dict[int, str], taken: set[str]) -> Any:
    scope = UsdGeom.Scope.Define(stage, top.AppendChild("Looks")).GetPath()
    taken.add(str(scope))
    material = define_material(stage, _free(scope, look.name, taken))
    textures = {kind: replace(t, path=f"./{t.path}") for kind, t in look.textures.items()}
    author(material, replace(look, textures=textures), lambda channel: names.get(channel, "st"))
    return material


def _mesh(
    stage: Any,
    path: Any,
    local: np.ndarray,
    positions: np.ndarray,
    corners: Corners,
    names: dict[int, str],
    materials: list[Any],
    sides: list[bool],
) -> None:
    mesh = UsdGeom.Mesh.Define(stage, path)
    _place(mesh, local)
    mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(positions, np.float32)))
    low, high = positions.min(axis=0), positions.max(axis=0)
    mesh.CreateExtentAttr(Vt.Vec3fArray([Gf.Vec3f(*low.tolist()), Gf.Vec3f(*high.tolist())]))
    mesh.CreateFaceVertexCountsAttr(_ints(np.diff(corners.faces)))
    mesh.CreateFaceVertexIndicesAttr(_ints(corners.position))
    if corners.normal is not None:
        mesh.CreateNormalsAttr(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(corners.normal, np.float32)))
        mesh.SetNormalsInterpolation(UsdGeom.Tokens.faceVarying)
    for channel, uv in sorted(corners.uvs.items()):
        at, row = distinct(uv)
        kind = Sdf.ValueTypeNames.TexCoord2fArray
        primvar = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar(names[channel], kind, UsdGeom.Tokens.faceVarying)
        primvar.Set(Vt.Vec2fArray.FromNumpy(np.ascontiguousarray(np.nan_to_num(uv[at]), np.float32)))
        primvar.SetIndices(_ints(row))
    if corners.colour is not None:
        api = UsdGeom.PrimvarsAPI(mesh)
        shade = api.CreatePrimvar("displayColor", Sdf.ValueTypeNames.Color3fArray, UsdGeom.Tokens.faceVarying)
        shade.Set(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(corners.colour[:, :3], np.float32)))
        if (corners.colour[:, 3] < 1).any():
            seen = api.CreatePrimvar("displayOpacity", Sdf.ValueTypeNames.FloatArray, UsdGeom.Tokens.faceVarying)
            seen.Set(Vt.FloatArray.FromNumpy(np.ascontiguousarray(corners.colour[:, 3], np.float32)))
    # USD has two sides by mesh: all of it where any of its materials has.
    if any(sides[int(k)] for k in np.unique(corners.look) if k >= 0):
        mesh.CreateDoubleSidedAttr(True)
    used = {int(k): materials[k] for k in np.unique(corners.look) if k >= 0}
    if used:
        bind(mesh.GetPrim(), corners.look, used)


def _ints(values: np.ndarray) -> Any:
    return Vt.IntArray.FromNumpy(np.ascontiguousarray(values, np.int32))
