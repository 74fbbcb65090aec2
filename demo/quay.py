"""The tide-mill quay: a made-up place by the water, built of simple solids, with the UV troubles of real work."""

from __future__ import annotations

from .glb import two_channels
from .shapes import Part, box, hoop, obj, tube
from .textures import CLOTHS, library, png


def wheel(name: str = "wheel", arcs: int = 1) -> Part:
    """A mill wheel: rims with holes, their strips cut into so many, spokes, paddles."""
    part = Part(name)
    hoop(part, (0, 0, 0), 1.8, 1.55, 0.12, arcs=arcs)
    hoop(part, (0, 0, 0.9), 1.8, 1.55, 0.12, arcs=arcs)
    for k in range(8):
        box(part, (-0.9 + 0.25 * k, 1.5, 0.1), (0.06, 0.3, 0.8))
    return tube(part, (0, -0.1, 0.5), 0.15, 1.0, 12)


def gate(name: str = "sluice-gate") -> Part:
    """A sluice gate: long boards in a frame, and a grating."""
    part = Part(name)
    for k in range(6):
        box(part, (0, 0.32 * k, 0), (2.4, 0.3, 0.06))
    box(part, (-0.15, 0, -0.05), (0.15, 2.6, 0.16))
    box(part, (2.4, 0, -0.05), (0.15, 2.6, 0.16))
    for k in range(3):
        hoop(part, (0.5 + 0.7 * k, 2.3, 0), 0.25, 0.18, 0.04, 12)
    return part


def winch(name: str = "winch") -> Part:
    """A drum between two cheeks, with a crank."""
    part = Part(name)
    tube(part, (0, 0, 0), 0.22, 0.7, 18)
    box(part, (-0.35, -0.08, -0.35), (0.7, 0.08, 0.7))
    box(part, (-0.35, 0.7, -0.35), (0.7, 0.08, 0.7))
    tube(part, (0, 0.78, 0), 0.04, 0.3, 8)
    return box(part, (0, 1.05, -0.03), (0.4, 0.05, 0.06))


def punt(name: str = "punt") -> Part:
    """A flat-bottomed boat."""
    part = Part(name)
    box(part, (0, 0, 0), (3.2, 0.06, 0.9))
    box(part, (0, 0.06, 0), (3.2, 0.35, 0.05))
    box(part, (0, 0.06, 0.85), (3.2, 0.35, 0.05))
    for k in range(3):
        box(part, (0.5 + k, 0.3, 0), (0.25, 0.04, 0.9))
    return part


def oar(name: str) -> Part:
    """A long thin shaft with a blade."""
    part = tube(Part(name), (0, 0, 0), 0.03, 2.2, 8)
    return box(part, (-0.09, 2.2, -0.015), (0.18, 0.5, 0.03))


def lamp(name: str = "crane-lamp") -> Part:
    """A lamp on a bracket."""
    part = tube(Part(name), (0, 0, 0), 0.16, 0.3, 10, 0.1)
    hoop(part, (0, 0.42, -0.02), 0.1, 0.07, 0.04, 16)
    return box(part, (0.1, 0.3, -0.03), (0.8, 0.06, 0.06))


def sack(name: str) -> Part:
    """A sack of grain."""
    part = tube(Part(name), (0, 0, 0), 0.3, 0.45, 12, 0.24)
    return tube(part, (0, 0.45, 0), 0.24, 0.2, 12, 0.1)


def post(name: str) -> Part:
    """A mooring post."""
    return tube(Part(name), (0, 0, 0), 0.14, 1.1, 12)


def plank(name: str, length: float) -> Part:
    """A quay plank."""
    return box(Part(name), (0, 0, 0), (length, 0.06, 0.24))


def vane(name: str = "weather-vane") -> Part:
    """A weather vane."""
    part = tube(Part(name), (0, 0, 0), 0.02, 0.9, 8)
    box(part, (-0.4, 0.7, -0.01), (0.8, 0.05, 0.02))
    return hoop(part, (0, 1.0, -0.01), 0.14, 0.11, 0.02, 16)


def hoist(name: str = "grain-hoist") -> Part:
    """A hoist: beam, posts, pulley."""
    part = box(Part(name), (0, 0, 0), (0.18, 2.6, 0.18))
    box(part, (0, 2.6, 0), (1.6, 0.18, 0.18))
    hoop(part, (1.4, 2.3, 0.05), 0.2, 0.06, 0.08, 18)
    return tube(part, (1.4, 0.4, 0.09), 0.02, 1.8, 6)


def small_set() -> dict[str, bytes]:
    """Six objects for the first look: very different densities, a flipped pair, an object far outside."""
    parts = [
        wheel(arcs=4).uv(0.03, 0.02, 0.05),
        gate().moved(3).uv(0.012, 0.1, 0.4),
        winch("winch-left").moved(6).uv(0.15, 0.0, 0.2),
        winch("winch-left").mirrored("winch-right").moved(9).uv(0.15, 0.0, 0.2),
        punt().moved(0, 0, 4).uv(0.02, 7.2, -3.4),
        lamp().moved(5, 0, 4).uv(0.4, 0.1, 0.1),
    ]
    return {"tide-mill.obj": obj(parts, "The tide mill: six objects", "tide-mill.mtl"), **_cloths("tide-mill.mtl", [parts])}


def bollard(name: str) -> Part:
    """An iron bollard with a ring around it."""
    part = tube(Part(name), (0, 0, 0), 0.18, 0.7, 16, 0.14)
    hoop(part, (0, 0.85, -0.04), 0.2, 0.15, 0.08, 18)
    return box(part, (-0.25, -0.06, -0.25), (0.5, 0.06, 0.5))


def _cloths(mtl: str, files: list[list[Part]]) -> dict[str, bytes]:
    """The MTL of some files, and the old textures that it names."""
    names = sorted({p.name.split("-")[0] for parts in files for p in parts})
    return {mtl: library(names), **{f"textures/{n}.png": png(n) for n in names if n in CLOTHS}}


def all_parts() -> dict[str, list[Part]]:
    """The parts of the whole quay by the file that they stand in."""
    mill = [
        wheel().uv(0.03),
        gate().moved(3).uv(0.012),
        gate("sluice-gate-far").moved(3, 0, 3).uv(0.05),
        winch("winch-left").moved(6).uv(0.15),
        winch("winch-left").mirrored("winch-right").moved(9).uv(0.15),
        hoist().moved(11).uv(0.02),
        vane().moved(0, 4).uv(0.3),
        lamp().moved(5, 0, 4).uv(0.4),
    ]
    boats = [
        punt().uv(0.02, 7.2, -3.4),
        oar("oar-1").moved(0, 1).uv(0.1),
        oar("oar-2").moved(1, 1).uv(0.1),
        post("post-bow").moved(4).without_uvs(),
    ]
    boats += [sack(f"sack-{k + 1}").moved(0.7 * k, 0, 2).uv(0.05 + 0.03 * (k % 3)) for k in range(8)]
    quay = [plank(f"plank-{k + 1:02}", 1.2 + 0.3 * (k % 5)).moved(0, 0, 0.26 * k).uv(0.04 + 0.01 * (k % 4)) for k in range(26)]
    quay += [post(f"post-{k + 1}").moved(-0.5, 0, 1.2 * k).uv(0.2) for k in range(6)]
    quay += [gate("grating").moved(4).uv(0.02), wheel("wheel-spare").moved(4, 0, 3).uv(0.05), hoist("hoist-low").moved(7).uv(0.06)]
    quay += [winch(f"capstan-{k}").moved(9, 0, 1.5 * k).uv(0.08) for k in range(3)]
    iron = [bollard(f"bollard-{k + 1}").moved(-1.5, 0, 1.6 * k).uv(0.12, 0.05, 0.3) for k in range(2)]
    return {"mill": mill, "boats": boats, "quay": quay, "bollards": iron}


def large_set() -> dict[str, bytes]:
    """The whole quay: over 40 objects and 600 islands in four files, one of them with two UV channels."""
    mill, boats, quay, iron = all_parts().values()
    return {
        "mill.obj": obj(mill, "The mill", "quay.mtl"),
        "boats.obj": obj(boats, "Boats and sacks", "quay.mtl"),
        "quay.obj": obj(quay, "The planked quay", "quay.mtl"),
        "bollards.glb": two_channels(iron, 2.0, png("crane")),
        **_cloths("quay.mtl", [mill, boats, quay]),
    }


def asset_library() -> dict[str, bytes]:
    """Every part of the quay as a file of its own, in folders that share their materials, and a job for all of them."""
    parts = all_parts()
    of_each = {f"{folder}/{p.name}.obj": obj([p], p.name, "../quay.mtl") for folder, found in parts.items() for p in found}
    return of_each | _cloths("quay.mtl", list(parts.values())) | {"quay.toml": JOB}


JOB = b"""# One job for every part of the quay.
job = 1
name = "Quay parts"

[recipe]
map_px = 512
padding_px = 4.0
rotate = "90"
passes = 4

[[steps]]
do = "unwrap"
[[steps]]
do = "mend"
action = "flip"

[check]
density_least = 100.0
density_greatest = 1000.0

[delivery]
templates = "none"
"""
