"""Materials of a COLLADA document: which symbol of a geometry means which, their colours and pictures.

A picture is found through its sampler and surface, as the specification has it; or the texture names an image itself (common practice, no source).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from urllib.parse import unquote

from ...model.colours import linear_of
from ...model.material import BLEND, OPAQUE, Colour, Material, Texture
from ..kinds import kind_of
from .document import Document, Element

SHADINGS = ("constant", "lambert", "phong", "blinn")
WRAPS = {"WRAP": "repeat", "CLAMP": "clamp", "MIRROR": "mirror", "BORDER": "none", "NONE": "none"}
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
                v.get("semantic"): int(v.get("input_set") or 0)
                for v in e.all("bind_vertex_input")
                if (v.get("input_set") or "0").isdecimal()
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
        textures = {}
        geometry, named = bindings.inputs.get(n, ("", {}))
        order = list(sets.get(geometry, ()))
        for slot, texture in textures_of(effect).items():
            path = picture_of(document, effect, texture.get("texture"))
            if path:
                set_ = named.get(texture.get("texcoord"), order[0] if order else 0)
                # What stands among the extras is a normal map unless it says that it holds heights (common practice, no source).
                heights = slot == "bump" and _bump_type(effect) == "HEIGHTFIELD"
                kind = kind_of(slot) if slot != "bump" or heights else "normal"
                wrap = _wrap(document, effect, texture.get("texture"))
                part = "a" if slot == "transparent" and _opaque(effect) in ("A_ONE", "A_ZERO") else ""
                textures[slot] = Texture(kind, path, order.index(set_) if set_ in order else 0, wrap=wrap, part=part)
        out.append(_record(document, effect, e.get("name") or e.get("id") or f"material {n}", textures))
    return out


def _record(document: Document, effect: Element | None, name: str, textures: dict[str, Texture]) -> Material:
    opacity = _opacity(document, effect)
    base, through = textures.get("diffuse"), textures.get("transparent")
    if base is not None and through is not None and through.part == "a" and through.path == base.path:
        del textures["transparent"]  # the fourth channel of the base colour says it
    shading = shading_of(effect)
    gloss = document.numbers(shading.one("shininess", "float") if shading is not None else None, float)
    return Material(
        name,
        textures,
        (1.0, 1.0, 1.0) if base is not None else _colour(document, effect, "diffuse"),
        opacity,
        emission=(1.0, 1.0, 1.0) if "emission" in textures else _colour(document, effect, "emission"),
        specular=(1.0, 1.0, 1.0) if "specular" in textures else _colour(document, effect, "specular"),
        gloss=float(gloss[0]) if len(gloss) else None,
        alpha=BLEND if through is not None or (opacity is not None and opacity < 1) else OPAQUE,
        double_sided=effect is not None and any(x.tag == "double_sided" and document.text(x) in ("1", "true") for x in effect.walk()),
    )


def _bump_type(effect: Element | None) -> str:
    found = [e for e in (effect.walk() if effect is not None else ()) if e.tag == "bump"]
    return found[0].get("bumptype") if found else ""


def _opaque(effect: Element | None) -> str:
    shading = shading_of(effect)
    found = shading.one("transparent") if shading is not None else None
    return found.get("opaque", "A_ONE") if found is not None else "A_ONE"


def _opacity(document: Document, effect: Element | None) -> float | None:
    """How much of it is seen (specification 1.4.1, "Determining Transparency"); None where it does not say."""
    shading = shading_of(effect)
    found = shading.one("transparent") if shading is not None else None
    amount = shading.one("transparency", "float") if shading is not None else None
    if found is None and amount is None:
        return None
    values = document.numbers(amount, float)
    much = float(values[0]) if len(values) else 1.0
    colour = document.numbers(found.one("color") if found is not None else None, float)
    if found is not None and found.one("texture") is not None:
        return much
    red, alpha = (float(colour[0]), float(colour[3])) if len(colour) >= 4 else (1.0, 1.0)
    how = _opaque(effect)
    seen = {"A_ONE": alpha * much, "A_ZERO": 1 - alpha * much, "RGB_ZERO": 1 - red * much, "RGB_ONE": red * much}.get(how, 1.0)
    # What nothing would be seen of is a program's slip (common practice, no source).
    return min(max(seen, 0.0), 1.0) or None


def _wrap(document: Document, effect: Element | None, name: str) -> tuple[str, str]:
    param = _params(effect).get(name) if effect is not None else None
    sampler = param.one("sampler2D") if param is not None else None
    if sampler is None:
        return "repeat", "repeat"
    u, v = (WRAPS.get(document.text(sampler.one(tag)), "repeat") for tag in ("wrap_s", "wrap_t"))
    return u, v


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


def _colour(document: Document, effect: Element | None, slot: str) -> Colour | None:
    """A plain colour, which is stored in sRGB as the field's readers take it (three.js' ColladaLoader among them; COLLADA 1.4.1 and 1.5 do not say). A picture
    takes the place of a colour, so that counts as white."""
    shading = shading_of(effect)
    values = document.numbers(shading.one(slot, "color") if shading is not None else None, float)
    if len(values) < 3:
        return None
    return linear_of(values[:3])
