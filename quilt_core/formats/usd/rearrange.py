"""Primvars of UVs arranged anew: the values that were read are written under their new names, old names that are gone are blocked."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from pxr import Sdf, Usd, UsdShade

from ...model.scene import Floats, Scene
from ..channels import LAYOUT, Arrangement
from .files import Layers, opened, saved
from .write import author


def names_of(old: list[str], how: Arrangement) -> list[str]:
    """The primvar of each new channel of a mesh: what was asked for, its old name where it stays, else `st` and the number."""
    out: list[str] = []
    for new, source in enumerate(how.sources):
        usual = old[new] if source in (new, LAYOUT) and new < len(old) else "st" if new == 0 else f"st{new}"
        name, number = how.name(new) or usual, 2
        while name in out:
            name, number = f"{how.name(new) or usual}_{number}", number + 1
        out.append(name)
    return out


def rearrange(scene: Scene, uvs: Mapping[int, Floats], how: Arrangement) -> dict[str, bytes]:
    """See `formats.rearrange`."""
    layers: Layers = scene.key
    changed: set[str] = set()
    renamed: dict[str, str] = {}
    with opened(layers) as (stage, folder):
        for number, mesh in enumerate(scene.meshes):
            spot = mesh.key
            names = names_of(spot.names, how)
            with Sdf.ChangeBlock():
                for name in set(spot.names) - set(names):
                    _block(folder, spot.layer, spot.path, name)
                for name, source in zip(names, how.sources, strict=True):
                    kept = mesh.channels.get(how.old if source == LAYOUT else source)
                    values = uvs[number] if source == LAYOUT and number in uvs else None if kept is None else kept.uvs
                    if values is not None:
                        author(folder, spot, name, values)
            for k, name in enumerate(spot.names):
                new = how.new_of(k)
                if new is not None:
                    renamed.setdefault(name, names[new])
            changed.add(spot.layer)
        if _readers(stage, renamed):
            changed.add(layers.root)
        return saved(folder, layers, changed)


def _block(folder: Path, layer: str, path: str, name: str) -> None:
    """Leave a primvar without a value, whatever a weaker layer says."""
    prim = Sdf.CreatePrimInLayer(Sdf.Layer.Find(str(folder / layer)), path)
    for full in (f"primvars:{name}", f"primvars:{name}:indices"):
        attribute = prim.attributes.get(full)
        if attribute is None:
            kind = Sdf.ValueTypeNames.IntArray if full.endswith(":indices") else Sdf.ValueTypeNames.TexCoord2fArray
            attribute = Sdf.AttributeSpec(prim, full, kind)
        for time in prim.layer.ListTimeSamplesForPath(attribute.path):
            prim.layer.EraseTimeSample(attribute.path, time)
        attribute.default = Sdf.ValueBlock()


def _readers(stage: Any, renamed: Mapping[str, str]) -> bool:
    """Let the shaders that read a primvar read it by its new name; whether any did. What lies inside instances is left."""
    found = False
    for prim in stage.Traverse():
        shader = UsdShade.Shader(prim)
        if not shader or shader.GetIdAttr().Get() != "UsdPrimvarReader_float2":
            continue
        entry = shader.GetInput("varname")
        producers = UsdShade.Utils.GetValueProducingAttributes(entry) if entry else []
        old = str(producers[0].Get(Usd.TimeCode.Default())) if producers else ""
        if old in renamed and renamed[old] != old:
            producers[0].Set(renamed[old])
            found = True
    return found
