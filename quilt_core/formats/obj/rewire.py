"""OBJ: `usemtl` before the faces that change, and an MTL library of its own."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

import numpy as np

from ...model.material import Material
from ...model.scene import Scene
from ..recast import split
from ..wiring import NewMaterial, Rewired, Wiring, face_labels, safe_name
from .mtl import MTL, kept_options, lines_of, seen_from_mesh
from .read import libraries_of, read
from .write import with_materials


def rewire(scene: Scene, written: Mapping[str, bytes], beside: Mapping[str, bytes], wiring: Wiring) -> Rewired:
    """See `formats.rewire`."""
    stem = re.split(r"[\\/]", scene.file)[-1].rsplit(".", 1)[0]
    name = safe_name(stem) + ".mtl"
    again = read(written[""], scene.file)
    text, scanned = again.key
    # Other libraries of the folder belong to other files: a material of the same name is another one there.
    old = [seen_from_mesh(beside[path], path, beside) for path in libraries_of(scanned, beside)]
    body = with_materials(text.body, scanned, _faces(scene, wiring, len(scanned.faces) - 1))
    lines = [x for x in body.split(b"\n") if not x.strip().startswith(b"mtllib")]
    main = text.encode(b"\n".join([b"mtllib " + name.encode(), *lines]))
    pictures, materials = split(wiring)
    extra = {path: body for path, body in pictures.items() if path not in wiring.pictures}
    return Rewired({**written, **extra, "": main, name: library(old, scene.materials, materials)})


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


def library(old: Sequence[bytes], records: Sequence[Material], materials: list[NewMaterial]) -> bytes:
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
        out += [f"newmtl {name}", *(_with(lines, own[name], records) if name in own else lines)]
    for m in materials:
        if m.name not in blocks:
            like = blocks.get(records[m.like].name) if m.like >= 0 else None
            plain = lines_of(m.record or Material(m.name, colour=(1.0, 1.0, 1.0)))
            out += ["", f"newmtl {m.name}", *_with(plain if like is None else like, m, records)]
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


def _with(lines: list[str], new: NewMaterial, records: Sequence[Material]) -> list[str]:
    """Statements of a material with new pictures in place of the old ones of their kinds, under the statement and the options that those had, as far as they
    still hold."""
    textures = records[new.like].textures if new.like >= 0 else {}
    kept, shown = list[str](), dict[str, str]()
    for line in lines:
        word, _, rest = line.strip().partition(" ")
        found = textures.get(word)
        if found is None or found.kind not in new.maps:
            kept.append(line)
            continue
        options = kept_options(rest.strip())
        shown.setdefault(found.kind, f"{word} {options + ' ' if options else ''}{new.maps[found.kind]}")
    return [shown.get(kind) or f"{MTL[kind]} {path}" for kind, path in new.maps.items() if kind in shown or kind in MTL] + kept
