"""UV channels of what is written: copied, moved, named and left out, with the layout in the one that is wanted.

An arrangement lists for every channel of the new file where its UVs come from: the number of an old channel, or `LAYOUT`.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from ..errors import FileError
from ..scene import Floats, Material, Scene, UvChannel
from . import gltf, obj, ply
from .gltf_container import Document, parse, serialise

LAYOUT = -1


@dataclass(frozen=True)
class Arrangement:
    """`sources`: for each new channel an old one's number, or LAYOUT; `names` for formats that name channels, empty for the usual ones; `old`:
    the channel whose UVs a mesh without a new layout keeps in place of it."""

    sources: tuple[int, ...]
    names: tuple[str, ...] = ()
    old: int = 0

    @property
    def layout(self) -> int:
        """The new channel that the layout is in."""
        return self.sources.index(LAYOUT)

    def new_of(self, channel: int) -> int | None:
        """The first new channel that an old one goes into."""
        return self.sources.index(channel) if channel in self.sources else None

    def name(self, channel: int) -> str:
        """The name that was asked for, or empty."""
        return self.names[channel] if channel < len(self.names) else ""


def rearranged(scene: Scene, uvs: Mapping[int, Floats], source: Mapping[int, int], how: Arrangement) -> Scene:
    """The scene with its channels as they are arranged, to be written in another format.

    Parameters
    ----------
    uvs : for each mesh its new layout, in the rows of its channel `source`
    """
    meshes = []
    for n, mesh in enumerate(scene.meshes):
        found = {}
        for new, old in enumerate(how.sources):
            if old == LAYOUT and n in uvs:
                found[new] = UvChannel(uvs[n], mesh.channels[source[n]].triangles)
            elif (kept := mesh.channels.get(how.old if old == LAYOUT else old)) is not None:
                found[new] = kept
        meshes.append(replace(mesh, channels=found))
    return replace(scene, meshes=meshes, materials=[_read_anew(m, how) for m in scene.materials])


def _read_anew(material: Material, how: Arrangement) -> Material:
    reads = {slot: how.new_of(material.channels.get(slot, 0)) for slot in material.images}
    return replace(material, channels={slot: new or 0 for slot, new in reads.items()})


def lost(scene: Scene, how: Arrangement) -> list[str]:
    """What is told of materials whose pictures are read by a channel that is left out."""
    names = [m.name for m in scene.materials if any(how.new_of(m.channels.get(slot, 0)) is None for slot in m.images)]
    return [f"{scene.file}: the pictures of '{name}' were read by a UV channel that is left out." for name in names]


def write(scene: Scene, uvs: Mapping[int, Floats], how: Arrangement) -> dict[str, bytes]:
    """The file of a scene with its channels as they are arranged: `{"": main file, path: another file that had to change}`.

    Raises
    ------
    FileError : the format does not have so many channels
    """
    if scene.format in ("obj", "ply"):
        if how.sources != (LAYOUT,):
            raise FileError(scene.file, f"{scene.format.upper()} has one UV channel", "", "Put the layout alone into channel 0.")
        return {"": (obj if scene.format == "obj" else ply).write(scene, dict(uvs))}
    if scene.format == "usd":
        from . import usd_channels

        return usd_channels.write(scene, uvs, how)
    return _gltf(scene, uvs, how)


def _gltf(scene: Scene, uvs: Mapping[int, Floats], how: Arrangement) -> dict[str, bytes]:
    """The layout goes behind all channels first, then the names of the attributes are dealt out anew."""
    source: Document = scene.key
    count = 1 + max((c for m in scene.meshes for c in m.channels), default=-1)
    written = gltf.write(scene, dict(uvs), count)
    document = parse(written[""], scene.file, {**{k: bytes(v) for k, v in zip(source.uris, source.buffers, strict=True)}, **written})
    laid = {scene.meshes[m].key[0] for m in uvs}
    for index, mesh in enumerate(document.list("meshes")):
        for primitive in mesh.get("primitives", []):
            _deal(primitive.get("attributes", {}), how, count if index in laid else how.old)
    for material in document.list("materials"):
        for info in gltf.texture_infos(material):
            _renumber(info, how)
    return serialise(document)


def _deal(attributes: dict[str, int], how: Arrangement, layout: int) -> None:
    """TEXCOORD attributes by new number. The specification wants them without gaps: what a primitive has not is its layout again."""
    old = {int(k[9:]): attributes.pop(k) for k in list(attributes) if k.startswith("TEXCOORD_") and k[9:].isdigit()}
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
