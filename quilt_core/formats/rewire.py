"""Materials of a written file pointed at new pictures: one for each kind of map, in place of the old ones.

Only what names a picture is changed. Whatever else a material says stays: names, factors, other maps.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any

from ..errors import FileError
from .gltf_container import parse, serialise
from .pictures import KINDS

# The MTL statement for each kind of map that the trade's readers know (common practice, no source).
MTL = {
    "base colour": "map_Kd", "normal": "norm", "emission": "map_Ke", "specular": "map_Ks", "gloss": "map_Ns", "opacity": "map_d",
    "roughness": "map_Pr", "metal": "map_Pm", "height": "disp",
}  # fmt: skip
_PBR = ("baseColorTexture", "metallicRoughnessTexture")
_GLTF = {
    "base colour": "baseColorTexture", "normal": "normalTexture", "occlusion": "occlusionTexture", "emission": "emissiveTexture",
    "metal and roughness": "metallicRoughnessTexture",
}  # fmt: skip

New = Mapping[str, Mapping[str, str]]


def mtl(data: bytes, new: New) -> bytes:
    """An MTL file whose materials name new pictures.

    Parameters
    ----------
    new : material name to {kind of map: path of the picture}
    """
    out: list[str] = []
    current: Mapping[str, str] | None = None
    for line in data.decode("utf-8", "replace").splitlines():
        word, _, rest = line.strip().partition(" ")
        if word == "newmtl":
            current = new.get(rest.strip())
            out.append(line)
            if current:
                out += [f"{MTL[kind]} {path}" for kind, path in current.items() if kind in MTL]
        elif not (current and KINDS.get(word) in current):
            out.append(line)
    return ("\n".join(out) + "\n").encode()


def obj_library(data: bytes, name: str) -> bytes:
    """An OBJ that names an MTL library, in place of those that it named."""
    lines = data.split(b"\n")
    kept = [x for x in lines if not x.strip().startswith(b"mtllib")]
    return b"\n".join([b"mtllib " + name.encode(), *kept])


def gltf(
    data: bytes,
    file: str,
    resources: Mapping[str, bytes],
    new: Mapping[int, Mapping[str, str]],
    pictures: Mapping[str, bytes],
    channel: int,
) -> dict[str, bytes]:
    """A glTF or GLB whose materials show new pictures: `{"": main file, path: a buffer or picture beside it}`.

    Parameters
    ----------
    new : number of a material to {kind of map: path of the picture}; pictures : their bytes by path; a GLB takes them in
    channel : the UV channel that the new pictures use

    Raises
    ------
    FileError : the file is not what was written
    """
    document = parse(data, file, resources)
    root = document.json
    number: dict[str, int] = {}
    beside: dict[str, bytes] = {}

    def texture(path: str) -> int:
        if path not in number:
            images, textures = root.setdefault("images", []), root.setdefault("textures", [])
            images.append(_image(root, document, path, pictures[path]))
            if not document.glb:
                beside[path] = pictures[path]
            textures.append({"source": len(images) - 1})
            number[path] = len(textures) - 1
        return number[path]

    for i, material in enumerate(root.get("materials", [])):
        for kind, path in new.get(i, {}).items():
            slot = _GLTF.get(kind)
            if slot is None:
                continue
            place = material.setdefault("pbrMetallicRoughness", {}) if slot in _PBR else material
            info = place.setdefault(slot, {})
            info["index"] = texture(path)
            info.pop("texCoord", None)
            if channel:
                info["texCoord"] = channel
            extensions = info.get("extensions", {})
            extensions.pop("KHR_texture_transform", None)
            if not extensions:
                info.pop("extensions", None)
    return {**serialise(document), **beside}


def _image(root: dict[str, Any], document: Any, path: str, body: bytes) -> dict[str, Any]:
    name = path.rsplit("/", 1)[-1].rsplit(".", 1)[0]
    if not document.glb:
        return {"name": name, "uri": path}
    if not document.buffers:
        raise FileError(document.file, "it has no binary chunk to take a picture in")
    own = document.uris.index("") if "" in document.uris else -1
    if own < 0:
        raise FileError(document.file, "it has no binary chunk to take a picture in", "", "Deliver it as .gltf instead.")
    start = len(document.buffers[own]) + (-len(document.buffers[own]) % 4)
    document.buffers[own] = document.buffers[own] + b"\0" * (start - len(document.buffers[own])) + body
    root["buffers"][own]["byteLength"] = len(document.buffers[own])
    views = root.setdefault("bufferViews", [])
    views.append({"buffer": own, "byteOffset": start, "byteLength": len(body)})
    return {"name": name, "mimeType": "image/png", "bufferView": len(views) - 1}


def safe_name(text: str) -> str:
    """A name as a part of a path that every format takes: no blanks, no signs that mean something."""
    return re.sub(r"[^\w\-]+", "_", text).strip("_") or "sheet"


def as_json(document: dict[str, Any]) -> bytes:
    """A JSON file for people."""
    return (json.dumps(document, indent=2, ensure_ascii=False) + "\n").encode()
