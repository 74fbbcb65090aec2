"""Old pictures that no material reads any more, taken out of a document: their textures, images, and bytes."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any
from urllib.parse import unquote

from .container import Document
from .materials import texture_infos


def textures_read(document: Document) -> set[int]:
    """The textures that materials read."""
    return {i for m in document.list("materials") for info in texture_infos(m) if isinstance(i := info.get("index"), int)}


def materials_used(document: Document) -> set[int]:
    """The materials that primitives have."""
    return {p["material"] for m in document.list("meshes") for p in m.get("primitives", []) if isinstance(p.get("material"), int)}


def prune_materials(document: Document, used_before: set[int]) -> None:
    """Take out materials that primitives had before and none has now. Where something else may mean them by number they stay."""
    others = ("KHR_materials_variants", "KHR_animation_pointer")
    gone = used_before - materials_used(document)
    if not gone or any(x in document.json.get("extensionsUsed", []) for x in others):
        return
    number = _renumbered(len(document.list("materials")), gone)
    for mesh in document.list("meshes"):
        for primitive in mesh.get("primitives", []):
            if isinstance(primitive.get("material"), int):
                primitive["material"] = number.get(primitive["material"], primitive["material"])
    _take(document.json, "materials", gone)


def prune(document: Document, candidates: set[int]) -> set[str]:
    """Take out textures that were read before and are not now, images that only these showed, and what these were made of.

    Parameters
    ----------
    candidates : the textures that old materials read

    Returns
    -------
    files beside the document that it does not name any more
    """
    gone = candidates - {i for i in _every_texture(document.json)}
    if not gone:
        return set()
    textures, images = document.list("textures"), document.list("images")
    shown = {s for n, t in enumerate(textures) if n not in gone for s in _sources(t)}
    lost = {s for n in gone if n < len(textures) for s in _sources(textures[n]) if 0 <= s < len(images)} - shown
    dropped = {unquote(uri) for n in lost if isinstance(uri := images[n].get("uri"), str) and not uri.startswith("data:")}
    views = {v for n in lost if isinstance(v := images[n].get("bufferView"), int)}
    number = _renumbered(len(textures), gone)
    for info in _infos(document.json):
        info["index"] = number.get(info["index"], info["index"])
    _take(document.json, "textures", gone)
    number = _renumbered(len(images), lost)
    for texture in document.list("textures"):
        for place in _places(texture):
            place["source"] = number.get(place["source"], place["source"])
    _take(document.json, "images", lost)
    _empty(document, views - {v for v in _every_view(document.json)})
    return dropped - {unquote(str(i.get("uri"))) for i in document.list("images")}


def _places(texture: dict[str, Any]) -> list[dict[str, Any]]:
    """Where a texture names images: itself, and extensions for other kinds of file."""
    extensions = texture.get("extensions") or {}
    return [p for p in [texture, *extensions.values()] if isinstance(p, dict) and isinstance(p.get("source"), int)]


def _sources(texture: dict[str, Any]) -> list[int]:
    return [p["source"] for p in _places(texture)]


def _infos(value: Any) -> Iterator[dict[str, Any]]:
    """Every texture info of a document, wherever an extension has put it."""
    if isinstance(value, dict):
        for key, inner in value.items():
            if key.endswith("Texture") and isinstance(inner, dict) and isinstance(inner.get("index"), int):
                yield inner
            yield from _infos(inner)
    elif isinstance(value, list):
        for inner in value:
            yield from _infos(inner)


def _every_texture(value: Any) -> Iterator[int]:
    return (info["index"] for info in _infos(value))


def _every_view(value: Any) -> Iterator[int]:
    """Every buffer view that anything names."""
    if isinstance(value, dict):
        if isinstance(value.get("bufferView"), int):
            yield value["bufferView"]
        for inner in value.values():
            yield from _every_view(inner)
    elif isinstance(value, list):
        for inner in value:
            yield from _every_view(inner)


def _renumbered(count: int, gone: set[int]) -> dict[int, int]:
    out: dict[int, int] = {}
    for n in range(count):
        if n not in gone:
            out[n] = len(out)
    return out


def _take(root: dict[str, Any], key: str, gone: set[int]) -> None:
    root[key] = [x for n, x in enumerate(root[key]) if n not in gone]
    if not root[key]:
        del root[key]  # the specification has no empty lists


def _empty(document: Document, views: set[int]) -> None:
    """Cut the bytes of buffer views that nothing names out of the file's own buffer; four of each stay, so that the numbers of others do."""
    entries = document.list("bufferViews")
    spans = [(e.get("buffer", 0), e.get("byteOffset", 0), e.get("byteLength", 0)) for e in entries]
    for v in sorted(views, key=lambda n: -spans[n][1]):
        buffer, start, length = spans[v]
        if not document.glb or document.uris[buffer] != "":
            continue
        start = -(-start // 4) * 4 + 4
        cut = (spans[v][1] + length - start) // 4 * 4
        others = [s for n, s in enumerate(spans) if n != v and s[0] == buffer]
        if cut <= 0 or any(a < start + cut and a + n > start for _, a, n in others):
            continue
        body = document.edit(buffer)
        del body[start : start + cut]
        document.json["buffers"][buffer]["byteLength"] -= cut
        entries[v]["byteLength"] = length - cut
        for n, entry in enumerate(entries):
            if n != v and entry.get("buffer", 0) == buffer and entry.get("byteOffset", 0) >= start + cut:
                entry["byteOffset"] -= cut
        spans = [(e.get("buffer", 0), e.get("byteOffset", 0), e.get("byteLength", 0)) for e in entries]
