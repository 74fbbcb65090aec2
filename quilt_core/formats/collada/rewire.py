"""COLLADA: new images and effects for the new pictures, and primitives parted where their faces have several materials now.

An effect may serve several materials, so a material that shows new pictures gets a copy of its effect, changed where it names pictures.
"""

from __future__ import annotations

from collections.abc import Mapping
from xml.sax.saxutils import escape, quoteattr

import numpy as np

from ...model.colours import stored_of
from ...model.material import OPAQUE, Material
from ...model.scene import Scene
from ..wiring import NewMaterial, Numbers, Rewired, Wiring, face_labels
from .document import Document, Element
from .materials import Bindings, effect_of, shading_of
from .primitives import Primitive, primitives_of, written
from .read import Key
from .write import Patches

SLOTS = {"base colour": "diffuse", "emission": "emission", "specular": "specular", "opacity": "transparent"}
_FIRST = ("emission", "ambient", "diffuse", "specular", "shininess", "reflective", "reflectivity", "transparent", "transparency")


def rewire(scene: Scene, written_files: Mapping[str, bytes], beside: Mapping[str, bytes], wiring: Wiring) -> Rewired:
    """See `formats.rewire`."""
    document = Document(written_files[""], scene.file)
    work = _Work(document, scene, wiring)
    order = {m: work.part(m, of) for m, of in wiring.of_triangle.items()}
    work.libraries()
    work.bind()
    return Rewired({**written_files, "": document.patched(work.patches), **wiring.pictures}, order)


def _values(record: Material) -> list[tuple[str, str, str]]:
    """Element, kind of value and value for what a record says in colours and numbers."""
    out = []
    for tag, colour in (("diffuse", record.colour), ("emission", record.emission), ("specular", record.specular)):
        if colour is not None:
            out.append((tag, "color", " ".join(f"{x:.6g}" for x in (*stored_of(colour), 1.0))))
    if record.alpha != OPAQUE:
        much = 1.0 if record.opacity is None else record.opacity
        out += [("transparent", "color", "1 1 1 1"), ("transparency", "float", f"{much:.6g}")]
    return out


class _Work:
    """The changes to one document."""

    def __init__(self, document: Document, scene: Scene, wiring: Wiring) -> None:
        self.document, self.scene, self.wiring = document, scene, wiring
        self.patches: Patches = []
        self.old = Bindings(document).elements
        self.ids = [self._id(m) for m in wiring.materials]
        self.used: dict[str, set[int]] = {}

    def _id(self, m: NewMaterial) -> str:
        """The id of a new material: that of the old one where it stays the same material."""
        if self._stays(m):
            return self.old[m.like].get("id")
        return self._free("".join(c if c.isalnum() or c in "-_" else "_" for c in f"quilt-{m.name}"))

    def _stays(self, m: NewMaterial) -> bool:
        return m.like >= 0 and m.name == self.scene.materials[m.like].name

    def _free(self, name: str) -> str:
        out, number = name, 2
        while out in self.document.ids:
            out, number = f"{name}-{number}", number + 1
        self.document.ids[out] = self.document.root
        return out

    def part(self, mesh: int, labels: Numbers) -> Numbers:
        """Part the primitives of a mesh by their new materials; the old number (T,) of every triangle as they stand then."""
        key: Key = self.scene.meshes[mesh].key
        polygons = self.scene.meshes[mesh].polygons
        element = self.document.ids[key.geometry].one("mesh")
        assert polygons is not None and element is not None
        faces = face_labels(polygons.face_of, labels, len(polygons.faces) - 1)
        order, first = [], 0
        for p in primitives_of(self.document, element):
            count = len(p.faces) - 1
            mine = faces[first : first + count]
            groups = [np.flatnonzero(mine == k) for k in dict.fromkeys(mine.tolist())]
            self._write(key.geometry, p, [(int(mine[g[0]]), g) for g in groups])
            order.append(np.concatenate(groups) + first)
            first += count
        used = self.used.setdefault(key.geometry, set())
        used |= set(np.unique(faces[faces >= 0]).tolist())
        # Triangles of a face stay together, in their order.
        rank = np.empty(first, np.int64)
        rank[np.concatenate(order)] = np.arange(first)
        out: Numbers = np.argsort(rank[polygons.face_of], kind="stable")
        return out

    def _write(self, geometry: str, p: Primitive, groups: list[tuple[int, Numbers]]) -> None:
        if groups == [] or (len(groups) == 1 and groups[0][0] < 0):
            return
        texts = []
        for label, which in groups:
            symbol = p.symbol if label < 0 else f"quilt-{label}"
            texts.append(written(self.document, p, [], which, symbol))
        self.patches.append((p.element.begin, p.element.end, "\n".join(texts)))

    def libraries(self) -> None:
        """Images, effects and materials."""
        q, images, effects, materials = self.document.prefix, [], [], []
        for m, key in zip(self.wiring.materials, self.ids, strict=True):
            own = {}
            for kind, path in m.maps.items():
                own[kind] = self._free(f"{key}-image")
                images.append(f'<{q}image id="{own[kind]}"><{q}init_from>{escape(path)}</{q}init_from></{q}image>')
            effect = self._free(f"{key}-effect")
            effects.append(self._effect(m, effect, own))
            if self._stays(m):
                instance = self.old[m.like].one("instance_effect")
                assert instance is not None
                self.patches.append((instance.begin, instance.end, f'<{q}instance_effect url="#{effect}"/>'))
            else:
                materials.append(f'<{q}material id="{key}" name={quoteattr(m.name)}><{q}instance_effect url="#{effect}"/></{q}material>')
        for name, texts in (("library_images", images), ("library_effects", effects), ("library_materials", materials)):
            self._append(name, texts)

    def _append(self, library: str, texts: list[str]) -> None:
        if not texts:
            return
        q, found = self.document.prefix, self.document.root.one(library)
        text = "\n".join(texts) + "\n"
        if found is not None and found.close < found.end:
            self.patches.append((found.close, found.close, text))
            return
        at = next(e for e in self.document.root.children if e.tag.startswith("library_"))
        whole = f"<{q}{library}>\n{text}</{q}{library}>\n"
        self.patches.append((found.begin, found.end, whole) if found is not None else (at.begin, at.begin, whole))

    def _effect(self, m: NewMaterial, key: str, images: Mapping[str, str]) -> str:
        """An effect that shows images: the old one's other colours, or plain lambert."""
        q, d = self.document.prefix, self.document
        shading = shading_of(effect_of(d, self.old[m.like])) if m.like >= 0 else None
        tag = shading.tag if shading is not None else "lambert"
        kept = {
            e.tag: d.body[e.begin : e.end].decode("utf-8", "replace")
            for e in (shading.children if shading is not None else ())
            if not e.all("texture")
        }
        if m.record is not None:
            kept = {tag: f"<{q}{tag}><{q}{kind}>{text}</{q}{kind}></{q}{tag}>" for tag, kind, text in _values(m.record)}
        params = ""
        for kind, image in images.items():
            params += (
                f'<{q}newparam sid="{image}-surface"><{q}surface type="2D"><{q}init_from>{image}</{q}init_from></{q}surface></{q}newparam>'
                f'<{q}newparam sid="{image}-sampler"><{q}sampler2D><{q}source>{image}-surface</{q}source></{q}sampler2D></{q}newparam>'
            )
            if kind in SLOTS:
                kept[SLOTS[kind]] = f'<{q}{SLOTS[kind]}><{q}texture texture="{image}-sampler" texcoord="QUILT_UV"/></{q}{SLOTS[kind]}>'
        if m.record is not None and m.record.alpha != OPAQUE and "base colour" in images:
            kept["transparent"] = (
                f'<{q}transparent><{q}texture texture="{images["base colour"]}-sampler" texcoord="QUILT_UV"/></{q}transparent>'
            )
        rest = [k for k in kept if k not in _FIRST]
        colours = "".join(kept[k] for k in (*_FIRST, *rest) if k in kept)
        bump = ""
        if "normal" in images:
            texture = f'<{q}texture texture="{images["normal"]}-sampler" texcoord="QUILT_UV"/>'
            bump = f'<{q}extra><{q}technique profile="COMMON"><{q}bump>{texture}</{q}bump></{q}technique></{q}extra>'
        return (
            f'<{q}effect id="{key}"><{q}profile_COMMON>{params}<{q}technique sid="common"><{q}{tag}>{colours}</{q}{tag}>{bump}'
            f"</{q}technique></{q}profile_COMMON></{q}effect>"
        )

    def bind(self) -> None:
        """Bind the new symbols wherever a geometry is placed."""
        for e in [x for x in self.document.root.walk() if x.tag in ("instance_geometry", "instance_controller")]:
            geometry = self._geometry(e)
            used = sorted(self.used.get(geometry, ()))
            if used:
                self._bind(e, used, self._set(geometry))

    def _geometry(self, instance: Element) -> str:
        at = self.document.target(instance.get("url"))
        while at is not None and at.tag == "controller":
            held = at.one("skin") or at.one("morph")
            at = self.document.target(held.get("source")) if held is not None else None
        return at.get("id") if at is not None else ""

    def _set(self, geometry: str) -> int:
        """The set that the new pictures are read by."""
        key = next(m.key for m in self.scene.meshes if m.key.geometry == geometry)
        element = self.document.ids[geometry].one("mesh")
        assert element is not None
        sets = sorted({s for p in primitives_of(self.document, element) for s in p.sets}) or list(key.sets)
        return sets[min(self.wiring.channel, len(sets) - 1)] if sets else 0

    def _bind(self, instance: Element, used: list[int], set_: int) -> None:
        q = self.document.prefix
        lines = "".join(
            f'<{q}instance_material symbol="quilt-{n}" target="#{self.ids[n]}">'
            f'<{q}bind_vertex_input semantic="QUILT_UV" input_semantic="TEXCOORD" input_set="{set_}"/></{q}instance_material>'
            for n in used
        )
        place = instance.one("bind_material", "technique_common")
        if place is not None and place.close < place.end:
            self.patches.append((place.close, place.close, lines))
            return
        whole = f"<{q}bind_material><{q}technique_common>{lines}</{q}technique_common></{q}bind_material>"
        if place is not None:
            self.patches.append((place.begin, place.end, f"<{q}technique_common>{lines}</{q}technique_common>"))
        elif instance.close < instance.end:
            self.patches.append((instance.close, instance.close, whole))
        else:
            attributes = "".join(f" {k}={quoteattr(v)}" for k, v in instance.attributes.items())
            self.patches.append((instance.begin, instance.end, f"<{q}{instance.tag}{attributes}>{whole}</{q}{instance.tag}>"))
