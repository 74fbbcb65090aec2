"""OBJ: `usemtl` before the faces that change, and an MTL library of its own."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

import numpy as np

from ...model.scene import Scene
from ..pictures import KINDS
from ..wiring import NewMaterial, Rewired, Wiring, face_labels, safe_name
from .read import libraries_of, read
from .write import with_materials

# The MTL statement for each kind of map that the trade's readers know (common practice, no source).
MTL = {
    "base colour": "map_Kd", "normal": "norm", "emission": "map_Ke", "specular": "map_Ks", "gloss": "map_Ns", "opacity": "map_d",
    "roughness": "map_Pr", "metal": "map_Pm", "height": "disp",
}  # fmt: skip
_WHITE = ["Kd 1 1 1"]


def rewire(scene: Scene, written: Mapping[str, bytes], beside: Mapping[str, bytes], wiring: Wiring) -> Rewired:
    """See `formats.rewire`."""
    stem = re.split(r"[\\/]", scene.file)[-1].rsplit(".", 1)[0]
    name = safe_name(stem) + ".mtl"
    again = read(written[""], scene.file)
    text, scanned = again.key
    # Other libraries of the folder belong to other files: a material of the same name is another one there.
    old = [beside[path] for path in libraries_of(scanned, beside)]
    body = with_materials(text.body, scanned, _faces(scene, wiring, len(scanned.faces) - 1))
    lines = [x for x in body.split(b"\n") if not x.strip().startswith(b"mtllib")]
    main = text.encode(b"\n".join([b"mtllib " + name.encode(), *lines]))
    return Rewired({**written, "": main, name: library(old, [m.name for m in scene.materials], wiring.materials)})


def _faces(scene: Scene, wiring: Wiring, count: int) -> list[str | None]:
    """The name of the new material of every face of the file, None where it stays."""
    out: list[str | None] = [None] * count
    names = np.array([m.name for m in wiring.materials], object)
    for number, of in wiring.of_triangle.items():
        mesh = scene.meshes[number]
        assert mesh.polygons is not None
        new = face_labels(mesh.polygons.face_of, of, len(mesh.key.faces))
        for face, label in zip(mesh.key.faces, new, strict=True):
            if label >= 0:
                out[int(face)] = names[label]
    return out


def library(old: Sequence[bytes], old_names: list[str], materials: list[NewMaterial]) -> bytes:
    """An MTL library: the old ones in one, with new pictures in the materials that have them, and the new materials after it. Of a material that several
    have the last counts, as it is read."""
    blocks, head = dict[str, list[str]](), list[str]()
    for data in old:
        more, first = _blocks(data)
        blocks |= more
        head += first
    own = {m.name: m for m in materials}
    out = list(head)
    for name, lines in blocks.items():
        out += [f"newmtl {name}", *(_with(lines, own[name].maps) if name in own else lines)]
    for m in materials:
        if m.name not in blocks:
            like = blocks.get(old_names[m.like]) if m.like >= 0 else None
            out += ["", f"newmtl {m.name}", *_with(_WHITE if like is None else like, m.maps)]
    return ("\n".join(out) + "\n").encode()


def _blocks(data: bytes) -> tuple[dict[str, list[str]], list[str]]:
    blocks: dict[str, list[str]] = {}
    head: list[str] = []
    current = head
    for line in data.decode("utf-8", "replace").splitlines():
        word, _, rest = line.strip().partition(" ")
        if word == "newmtl":
            current = blocks.setdefault(rest.strip(), [])
        else:
            current.append(line)
    return blocks, head


def _with(lines: list[str], maps: Mapping[str, str]) -> list[str]:
    """Statements of a material with new pictures in place of the old ones of their kinds."""
    kept = [x for x in lines if KINDS.get(x.strip().partition(" ")[0]) not in maps]
    return [f"{MTL[kind]} {path}" for kind, path in maps.items() if kind in MTL] + kept
