"""UV channels of a glTF arranged anew: its attributes are dealt out under other numbers, and its materials read by them."""

from __future__ import annotations

from collections.abc import Mapping

from ...model.scene import Floats, Scene
from ..channels import LAYOUT, Arrangement
from .container import Document, parse, serialise
from .materials import texture_infos
from .write import write


def rearrange(scene: Scene, uvs: Mapping[int, Floats], how: Arrangement) -> dict[str, bytes]:
    """See `formats.rearrange`. The layout goes behind all channels first, then the names of the attributes are dealt out anew."""
    source: Document = scene.key
    count = 1 + max((c for m in scene.meshes for c in m.channels), default=-1)
    written = write(scene, uvs, count)
    document = parse(written[""], scene.file, {**{k: bytes(v) for k, v in zip(source.uris, source.buffers, strict=True)}, **written})
    laid = {scene.meshes[m].key[0] for m in uvs}
    for index, mesh in enumerate(document.list("meshes")):
        for primitive in mesh.get("primitives", []):
            _deal(primitive.get("attributes", {}), how, count if index in laid else how.old)
    for material in document.list("materials"):
        for info in texture_infos(material):
            _renumber(info, how)
    return serialise(document)


def _deal(attributes: dict[str, int], how: Arrangement, layout: int) -> None:
    """TEXCOORD attributes by new number. The specification wants them without gaps: what a primitive has not is its layout again."""
    old = {int(k[9:]): attributes.pop(k) for k in list(attributes) if k.startswith("TEXCOORD_") and k[9:].isdecimal()}
    usual = old.get(layout, next(iter(old.values()), None))
    if usual is None:
        return
    for new, number in enumerate(how.sources):
        attributes[f"TEXCOORD_{new}"] = old.get(layout if number == LAYOUT else number, usual)


def _renumber(info: dict[str, object], how: Arrangement) -> None:
    moved = (info.get("extensions") or {}).get("KHR_texture_transform")  # type: ignore[attr-defined]
    for place in [info, *([moved] if isinstance(moved, dict) and "texCoord" in moved else [])]:
        number = place.get("texCoord", 0)
        new = how.new_of(number) if isinstance(number, int) else None
        place.pop("texCoord", None)
        if new or place is moved:
            place["texCoord"] = new or 0
