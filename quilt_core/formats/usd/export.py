"""USD: prims by path, meshes with their polygons, channels as `st`, `st1` and so on, UsdPreviewSurface materials."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from pxr import Gf, Sdf, Tf, Usd, UsdGeom, UsdShade, Vt

from ..model import Corners, Look, Model, distinct
from .files import packed
from .rewire import bind, define_material, show


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
    paths: dict[str, Any] = {}
    for item in model.items:
        path = top.GetPath()
        parts = item.path.split("/")
        for k, part in enumerate(parts[:-1]):
            key = "/".join(parts[: k + 1])
            if key not in paths:
                paths[key] = UsdGeom.Xform.Define(stage, _free(path, part, taken)).GetPath()
            path = paths[key]
        _mesh(stage, _free(path, item.name, taken), item.world, *model.meshes[item.mesh][1:], names, materials)


def _free(parent: Any, name: str, taken: set[str]) -> Any:
    """A path below another that is not taken."""
    valid, number = Tf.MakeValidIdentifier(name), 2
    path = parent.AppendChild(valid)
    while str(path) in taken:
        path, number = parent.AppendChild(f"{valid}_{number}"), number + 1
    taken.add(str(path))
    return path


def _material(stage: Any, top: Any, look: Look, names: dict[int, str], taken: set[str]) -> Any:
    scope = UsdGeom.Scope.Define(stage, top.AppendChild("Looks")).GetPath()
    taken.add(str(scope))
    material = define_material(stage, _free(scope, look.name, taken))
    if look.colour is not None and "base colour" not in look.maps:
        surface = UsdShade.Shader(stage.GetPrimAtPath(material.GetPath().AppendChild("Surface")))
        surface.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f).Set(Gf.Vec3f(*look.colour))
    for kind, path in look.maps.items():
        show(material, kind, f"./{path}", names.get(look.reads.get(kind, 0), "st"))
    return material


def _mesh(
    stage: Any, path: Any, world: np.ndarray, positions: np.ndarray, corners: Corners, names: dict[int, str], materials: list[Any]
) -> None:
    mesh = UsdGeom.Mesh.Define(stage, path)
    mesh.AddTransformOp().Set(Gf.Matrix4d(world.T.tolist()))
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
    used = {int(k): materials[k] for k in np.unique(corners.look) if k >= 0}
    if used:
        bind(mesh.GetPrim(), corners.look, used)


def _ints(values: np.ndarray) -> Any:
    return Vt.IntArray.FromNumpy(np.ascontiguousarray(values, np.int32))
