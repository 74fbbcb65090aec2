"""What a format has no place for, in words: of the materials, by property and name, and of all else that a file holds."""

from __future__ import annotations

from collections.abc import Callable

from ..model.material import MASK, OPAQUE, Material
from ..model.scene import Scene
from ..words import named
from .format import Format
from .model import Model


def _placing(m: Material) -> bool:
    return any(t.placed is not None for t in m.textures.values())


def _turned(m: Material) -> bool:
    return any(t.placed is not None and (abs(t.placed[1]) > 1e-9 or abs(t.placed[3]) > 1e-9) for t in m.textures.values())


# Property, the word that `Format.holds` has for it, and whether a material has it.
_PROPERTIES: tuple[tuple[str, str, Callable[[Material], bool]], ...] = (
    ("metal", "metal", lambda m: bool(m.metal) and "metal" not in m.maps),
    ("roughness", "roughness", lambda m: m.roughness is not None and m.roughness < 1 and "roughness" not in m.maps),
    ("emission", "emission", lambda m: bool(m.emission) and max(m.emission or (0,)) > 0),
    ("specular colour", "specular", lambda m: bool(m.specular) and max(m.specular or (0,)) > 0 and "specular" not in m.maps),
    ("gloss", "gloss", lambda m: bool(m.gloss)),
    ("opacity", "opacity", lambda m: m.alpha != OPAQUE and m.opacity is not None and m.opacity < 1),
    ("cutoff of what is seen", "cutoff", lambda m: m.alpha == MASK),
    ("two sides", "two sides", lambda m: m.double_sided),
    ("being unlit", "unlit", lambda m: m.unlit),
    ("scale of normals", "normal scale", lambda m: m.normal_scale != 1 and "normal" in m.maps),
    ("strength of occlusion", "occlusion strength", lambda m: m.occlusion_strength != 1 and "occlusion" in m.maps),
    ("colour under a picture", "tint", lambda m: "base colour" in m.maps and m.colour is not None and min(m.colour) < 1),
    ("pictures moved on their UVs", "placed", _placing),
    ("pictures turned on their UVs", "turned", _turned),
    ("pictures that end at their border", "clamp", lambda m: any("clamp" in t.wrap for t in m.textures.values())),
    ("pictures mirrored beyond their border", "mirror", lambda m: any("mirror" in t.wrap for t in m.textures.values())),
    ("pictures with nothing beyond their border", "none", lambda m: any("none" in t.wrap for t in m.textures.values())),
    ("what a program keeps there", "extras", lambda m: m.extras is not None),
)  # fmt: skip


def unasked(before: Scene, after: Scene, channel: int | None = None) -> list[str]:
    """What a file that was written again in its own format lost or got without being asked for.

    Parameters
    ----------
    before : as it came; after : as it is read again; channel : that the layout was written to, None where all channels were chosen

    Returns
    -------
    a sentence for each, with the names of the meshes
    """
    pairs = list(zip(before.meshes, after.meshes, strict=False))
    bare = [a.name for a, b in pairs if a.tangents and not b.tangents]
    out = (
        [
            f"{before.file}: the tangents of {named(bare)} are left out, since the new UVs are not the old ones turned. Programs make them anew."
        ]
        if bare
        else []
    )
    if channel is not None:
        for n in range(channel):
            filled = [a.name for a, b in pairs if n in b.channels and n not in a.channels]
            if filled:
                out.append(
                    f"{before.file}: {named(filled)} got UV channel {n} too, a copy of channel {channel}, since the format wants channels without gaps."
                )
    return out


def told(model: Model, of: Format) -> list[str]:
    """What of a model does not go into a format.

    Parameters
    ----------
    model : as it is written; of : the format

    Returns
    -------
    a sentence for each property, with the names that it is of
    """
    out = []
    for words, key, has in _PROPERTIES:
        names = [m.name for m in model.looks if has(m)]
        if names and key not in of.holds:
            out.append(f"{of.title} holds no {words}: {named(names)}.")
    for kind in sorted({k for m in model.looks for k in m.maps} - of.kinds):
        out.append(f"{of.title} holds no {kind} map: {named([m.name for m in model.looks if kind in m.maps])}.")
    for word in sorted({w for m in model.looks for w in m.further}):
        out.append(f"{word} is left out: {named([m.name for m in model.looks if word in m.further])}.")
    if "nodes" not in of.holds:
        empty = [n.name for k, n in enumerate(model.nodes) if k not in {i.node for i in model.items}]
        if empty:
            out.append(f"{of.title} holds no places without a mesh: {named(empty)}.")
    coloured = [model.meshes[i.mesh][0] for i in model.items if model.meshes[i.mesh][2].colour is not None]
    if coloured and "vertex colours" not in of.holds:
        out.append(f"{of.title} holds no colours of vertices: {named(coloured)}.")
    if "extras" not in of.holds:
        kept = [n.name for n in model.nodes if n.extras is not None] + [model.meshes[k][0] for k in model.extras]
        if kept:
            out.append(f"{of.title} holds nothing that a program keeps for itself: {named(kept)}.")
    out += [f"Of {file} are left out: {', '.join(what)}." for file, what in sorted(model.further.items())]
    return out
