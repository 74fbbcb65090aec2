"""The kit's files with one property each, and how the program hands them over: painted in a new layout, or in another format."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np

from quilt_core import formats
from quilt_core.formats import rewire
from quilt_core.formats.export import add, checked
from quilt_core.formats.model import Model
from quilt_core.formats.pictures import pictures
from quilt_core.formats.wiring import Wiring
from quilt_core.model.scene import Floats, Scene
from quilt_core.model.tiles import Grid
from quilt_core.textures.paint import Coat, Laid, Old, Sheet, paint, wiring
from quilt_core.textures.paint import Paint as Painted
from tests.kit import files as kit
from tests.kit.files import Map, Paint, Plate, dents, plate, waves

MAP = 400


def all_maps(**more: object) -> dict[str, Map]:
    """A picture of every kind that glTF has."""
    made = {"base colour": waves(1), "metal and roughness": waves(2), "normal": dents(3), "occlusion": waves(4), "emission": waves(5)}
    return {kind: Map(values, **more) for kind, values in made.items()}  # type: ignore[arg-type]


def full(**more: object) -> Paint:
    """A material with a picture of every kind, and factors that change nothing."""
    return Paint("full", all_maps(), metal=1.0, roughness=1.0, emission=(1.0, 1.0, 1.0), **more)  # type: ignore[arg-type]


RGBA = Map(waves(7, 4))


# One property each: the material that has it, beside one with every map and one with plain factors.
PROPERTIES: dict[str, Paint] = {
    "plain": Paint("one", colour=(0.8, 0.2, 0.1), metal=0.5, roughness=0.895, emission=(0.1, 0.2, 0.3)),
    "base colour factor": Paint("one", {"base colour": Map(waves(11))}, colour=(0.9, 0.5, 0.3)),
    "metal and roughness factors": Paint("one", {"metal and roughness": Map(waves(12))}, metal=0.6, roughness=0.7),
    "emission factor": Paint("one", {"emission": Map(waves(13))}, emission=(0.5, 0.25, 1.0)),
    "emission above one": Paint("one", {"emission": Map(waves(13))}, emission=(0.5, 0.25, 1.0), shine=4.0),
    "normal scale": Paint("one", {"normal": Map(dents(14))}, normal_scale=0.4),
    "occlusion strength": Paint("one", {"occlusion": Map(waves(15))}, strength=0.3),
    "blend": Paint("one", {"base colour": RGBA}, mode="BLEND"),
    "blend with a factor": Paint("one", {"base colour": RGBA}, mode="BLEND", opacity=0.5),
    "blend without a picture": Paint("one", colour=(0.2, 0.4, 0.9), mode="BLEND", opacity=0.35),
    "mask": Paint("one", {"base colour": RGBA}, mode="MASK", cutoff=0.4),
    "opaque with a fourth channel": Paint("one", {"base colour": RGBA}),
    "clamp": Paint("one", {"base colour": Map(waves(16), wrap=("clamp", "clamp"))}),
    "mirror": Paint("one", {"base colour": Map(waves(17), wrap=("mirror", "mirror"))}),
    "one transform": Paint("one", {k: Map(m.values, moved=((0.3, 0.1), 0.4, (0.8, 1.3))) for k, m in all_maps().items()}, metal=1.0, emission=(1, 1, 1)),
    "transforms that differ": Paint("one", {"base colour": Map(waves(18), moved=((0.2, 0.0), 0.0, (2.0, 2.0))), "normal": Map(dents(19), moved=((0.0, 0.3), 0.7, (1.5, 1.5))),
                                            "occlusion": Map(waves(20))}),
    "opacity map": Paint("one", {"base colour": Map(waves(23)), "opacity": Map(waves(24))}, mode="BLEND"),
    "unlit": Paint("one", {"base colour": Map(waves(21))}, unlit=True),
    "two sides": Paint("one", {"base colour": Map(waves(22))}, double_sided=True),
}  # fmt: skip


HELD = {
    "glb": set(PROPERTIES) - {"opacity map"},
    "usda": set(PROPERTIES) - {"emission above one", "unlit"},
    "obj": {
        "plain",
        "base colour factor",
        "emission factor",
        "clamp",
        "blend without a picture",
        "opaque with a fourth channel",
        "opacity map",
    },
}


CASES = [(e, p) for e in ("glb", "usda", "obj") for p in PROPERTIES if p in HELD.get(e, set(PROPERTIES))]


def plates(tangents: bool = False, colours: bool = False) -> list[Plate]:
    return [
        plate("left", 0.0, 0, -0.3, 1.3, tangents, colours),
        plate("middle", 1.5, 1, 0.0, 1.0, tangents),
        plate("right", 3.0, 2, 0.0, 1.0, tangents),
    ]


def for_format(material: Paint, ending: str) -> Paint:
    """A material as a format can have it: MTL knows no occlusion, and roughness and metal in pictures of their own."""
    if ending != "obj":
        return material
    known = {k: m for k, m in material.maps.items() if k in ("base colour", "emission", "normal", "opacity")}
    if "metal and roughness" in material.maps:
        m = material.maps["metal and roughness"]
        known |= {
            "roughness": Map(m.values[:, :, 1], m.channel, m.wrap, m.moved),
            "metal": Map(m.values[:, :, 2], m.channel, m.wrap, m.moved),
        }
    return Paint(**{**material.__dict__, "maps": known})


def three(material: Paint, ending: str, **more: bool) -> tuple[dict[str, bytes], str, list[Plate]]:
    """The files of three plates: one with the material, one with every map, one with plain factors."""
    found = plates(**more)
    paints = [
        for_format(p, ending)
        for p in (material, full(), Paint("plain", colour=(0.3, 0.6, 0.2), metal=0.25, roughness=0.5, emission=(0.0, 0.1, 0.0)))
    ]
    return kit.WRITERS[ending](found, paints), f"kit.{ending}", found


def laid_out(scene: Scene) -> dict[int, Floats]:
    """New UVs for the rows of every mesh: each half turned, some mirrored, all in cells of their own."""
    out, cell = {}, 0
    for m, mesh in enumerate(scene.meshes):
        source = mesh.channels[0]
        middle = (mesh.positions[:, 0].min() + mesh.positions[:, 0].max()) / 2
        right = np.zeros(len(source.uvs), bool)
        centre = mesh.positions[mesh.triangles][:, :, 0].mean(axis=1) > middle
        right[source.triangles[centre].reshape(-1)] = True
        new = source.uvs.copy()
        for half in (False, True):
            angle = 0.5 + 0.7 * cell
            turn = np.array([[math.cos(angle), -math.sin(angle)], [math.sin(angle), math.cos(angle)]]) @ np.diag(
                [-1.0 if cell % 3 == 1 else 1.0, 1.0]
            )
            rows = source.uvs[right == half] @ turn.T
            rows = (rows - rows.min(axis=0)) / np.ptp(rows, axis=0).max()
            new[right == half] = (rows * 0.92 + 0.04 + [cell % 3, cell // 3]) / 3
            cell += 1
        out[m] = new
    return out


def painted(scene: Scene, beside: Mapping[str, bytes], uvs: Mapping[int, Floats], per_sheet: bool, px: int = MAP) -> tuple[Painted, Wiring]:
    meshes = {
        m: Laid(uv[scene.meshes[m].channels[0].triangles], np.zeros(len(scene.meshes[m].triangles), np.int64)) for m, uv in uvs.items()
    }
    maps = [
        {kind: Old(kind + str(n), lambda body=body: body) for kind, body in found.items()}
        for n, found in enumerate(pictures(scene, beside))
    ]  # type: ignore[misc]
    coat = Coat(scene, meshes, maps)
    found = paint([coat], [Sheet(0, "S", Grid(px))], per_sheet)
    return found, wiring(found, coat, {0: "S"}, per_sheet, 0)


def delivered(made: dict[str, bytes], main: str, per_sheet: bool) -> tuple[dict[str, bytes], Painted]:
    """The files as they leave."""
    scene = formats.read(made[main], main, 1.0, made)
    uvs = laid_out(scene)
    found, wired = painted(scene, made, uvs, per_sheet)
    written = formats.write(scene, uvs, 0)
    out = rewire(scene, written, made, wired).files
    return {**made, **wired.pictures, **{k or main: v for k, v in out.items()}}, found


def converted(made: dict[str, bytes], main: str, ending: str) -> tuple[dict[str, bytes], list[str]]:
    """The file in another format, with the UVs and the pictures that it has."""
    model = Model()
    add(model, formats.read(made[main], main, 1.0, made), made)
    name, files, notes = checked(model, ending, "other")
    assert name == f"other.{ending}"
    return {path: body for path, (body, _) in files.items()}, notes
