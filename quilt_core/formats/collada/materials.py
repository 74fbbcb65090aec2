"""Materials of a COLLADA document: which symbol of a geometry means which, their colours and pictures.

A picture is found through its sampler and surface, as the specification has it; or the texture names an image itself (common practice, no source).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from urllib.parse import unquote

from ...model.scene import Material
from .document import Document, Element

SHADINGS = ("constant", "lambert", "phong", "blinn")
SLOTS = ("diffuse", "emission", "specular", "transparent", "ambient", "reflective", "bump", "shininess")


class Bindings:
    """Materials by the symbols of geometries; the first instance of a geometry decides."""

    def __init__(self, document: Document) -> None:
        self.document = document
        self.elements = [m for library in document.root.all("library_materials") for m in library.all("material")]
        self._number = {m.get("id"): n for n, m in enumerate(self.elements)}
        self.symbols: dict[str, dict[str, int]] = {}
        self.inputs: dict[int, tuple[str, dict[str, int]]] = {}
        self.warnings: list[str] = []

    def add(self, geometry: str, instance: Element | None) -> None:
        """Take over what an instance binds."""
        bound: dict[str, int] = {}
        techniques = [] if instance is None else [t for b in instance.all("bind_material") for t in b.all("technique_common")]
        for e in (x for t in techniques for x in t.all("instance_material")):
            number = self._number.get(e.get("target").lstrip("#"))
            if number is None:
                continue
            bound[e.get("symbol")] = number
            sets = {
                v.get("semantic"): int(v.get("input_set") or 0) for v in e.all("bind_vertex_input") if (v.get("input_set") or "0").isdigit()
            }
            self.inputs.setdefault(number, (geometry, sets))
        if geometry not in self.symbols:
            self.symbols[geometry] = bound
        elif self.symbols[geometry] != bound:
            told = f"'{geometry}' is placed with other materials too; it has those of its first place here"
            if told not in self.warnings:
                self.warnings.append(told)

    def number(self, geometry: str, symbol: str) -> int:
        """The material of a symbol, -1 for none. A symbol that nothing binds means the material of that id."""
        return self.symbols.get(geometry, {}).get(symbol, self._number.get(symbol, -1))


def materials_of(document: Document, bindings: Bindings, sets: Mapping[str, Sequence[int]]) -> list[Material]:
    """All materials of the document; `sets` are those of each geometry's channels."""
    out = []
    for n, e in enumerate(bindings.elements):
        effect = effect_of(document, e)
        images, channels = {}, {}
        geometry, named = bindings.inputs.get(n, ("", {}))
        order = list(sets.get(geometry, ()))
        for slot, texture in textures_of(effect).items():
            path = picture_of(document, effect, texture.get("texture"))
            if path:
                images[slot] = path
                set_ = named.get(texture.get("texcoord"), order[0] if order else 0)
                channels[slot] = order.index(set_) if set_ in order else 0
        out.append(
            Material(e.get("name") or e.get("id") or f"material {n}", images, channels, _colour(document, effect, "diffuse" in images))
        )
    return out


def effect_of(document: Document, material: Element) -> Element | None:
    """The effect of a material."""
    instance = material.one("instance_effect")
    return document.target(instance.get("url")) if instance is not None else None


def shading_of(effect: Element | None) -> Element | None:
    """The element that holds an effect's colours."""
    technique = effect.one("profile_COMMON", "technique") if effect is not None else None
    return next(iter(technique.all(*SHADINGS)), None) if technique is not None else None


def textures_of(effect: Element | None) -> dict[str, Element]:
    """<texture> elements of an effect by slot. A bump map stands among the extras, where programs put it (common practice, no source)."""
    shading = shading_of(effect)
    out = {s.tag: t for s in (shading.children if shading is not None else ()) for t in s.all("texture") if s.tag in SLOTS}
    for e in effect.walk() if effect is not None else ():
        if e.tag == "bump" and e.one("texture") is not None:
            out.setdefault("bump", e.one("texture"))  # type: ignore[arg-type]
    return out


def _params(effect: Element) -> dict[str, Element]:
    return {p.get("sid"): p for p in effect.walk() if p.tag == "newparam"}


def picture_of(document: Document, effect: Element | None, name: str) -> str:
    """The path of the picture that a texture names, as it is written; empty where it leads nowhere."""
    params = _params(effect) if effect is not None else {}
    image: Element | None = None
    for _ in range(4):  # sampler, surface, image
        param = params.get(name)
        if param is None:
            image = document.ids.get(name)
            break
        sampler = param.one("sampler2D")
        if sampler is not None and sampler.one("instance_image") is not None:
            image = document.target((sampler.one("instance_image") or sampler).get("url"))
            break
        name = document.text(sampler.one("source") if sampler is not None else param.one("surface", "init_from"))
    if image is None or image.tag != "image":
        return ""
    source = image.one("init_from")
    inner = source.one("ref") if source is not None else None
    path = unquote(document.text(inner if inner is not None else source)).strip()
    if path.startswith("file:"):
        path = path.removeprefix("file:").lstrip("/")
    return path.replace("\\", "/")


def _colour(document: Document, effect: Element | None, painted: bool) -> tuple[float, float, float] | None:
    """The diffuse colour, taken as linear (common practice, no source); white under a picture, which programs show alone."""
    if painted:
        return 1.0, 1.0, 1.0
    shading = shading_of(effect)
    colour = shading.one("diffuse", "color") if shading is not None else None
    values = document.numbers(colour, float)
    if len(values) < 3:
        return None
    r, g, b = (min(max(float(x), 0.0), 1.0) for x in values[:3])
    return r, g, b
