"""Sound files to damage: each format as it is written here, small, with materials, pictures and what else it can hold."""

from __future__ import annotations

import io
import zipfile
from dataclasses import dataclass, field
from functools import cache

import numpy as np
from PIL import Image

from demo.quay import small_set
from quilt_core import formats
from quilt_core.formats.export import add, checked
from quilt_core.formats.model import Model
from tests.core.test_draco import compressed, sheet
from tests.kit.files import png, waves
from tests.kit.handed import full, three
from tests.shapes import PLANE, gltf_plane, grid_obj

MTL = b"""newmtl wood
Ka 0 0 0
Kd 0.5 0.25 0.125
Ks 0.1 0.1 0.1
Ns 30
d 0.9
Pr 0.4
Pm 0.1
map_Kd -o 0.1 0.2 0 -s 2 2 1 -clamp on wood.png
map_Bump -bm 0.5 wood.png
"""


@dataclass(frozen=True)
class Seed:
    """A sound file: its name and bytes, and what lies beside it."""

    name: str
    data: bytes
    beside: dict[str, bytes] = field(default_factory=dict)


@cache
def corpus() -> tuple[Seed, ...]:
    """All seeds."""
    picture = png(waves(1, size=8))
    seeds = [
        Seed("plane.obj", PLANE),
        Seed("squares.obj", grid_obj(6)),
        Seed(
            "wood.obj",
            b"mtllib wood.mtl\n" + PLANE.replace(b"\nf ", b"\nvn 0 0 1\ng side\ns 1\nusemtl wood\nf ", 1),
            {"wood.mtl": MTL, "wood.png": picture},
        ),
        Seed("plane.gltf", gltf_plane([{"mesh": 0, "translation": [1, 2, 3]}, {"mesh": 0, "scale": [2, 2, 2]}])),
        Seed("bytes.gltf", gltf_plane([{"mesh": 0}], "ubyte")),
        Seed("tight.glb", compressed(*sheet())),
    ]
    for kind in ("glb", "usda", "obj"):
        made, main, _ = three(full(), kind)
        beside = {k: v for k, v in made.items() if k != main}
        seeds.append(Seed(main, made[main], beside))
    name, data = next(iter(small_set().items()))
    scene = formats.read(data, name)
    for kind in ("ply", "dae", "usdc", "usdz", "glb"):
        model = Model()
        add(model, scene, {}, None, "", {m: 0 for m in range(len(scene.meshes))})
        main, files, _ = checked(model, kind, "part")
        seeds.append(Seed(main, files[main][0], {k: v[0] for k, v in files.items() if k != main}))
    return tuple(seeds)


@cache
def pictures() -> tuple[tuple[str, bytes], ...]:
    """Small pictures of all kinds that are read."""
    image = Image.fromarray(waves(3, 4, 16), "RGBA")
    out = []
    for kind in ("PNG", "JPEG", "TIFF", "WEBP", "BMP", "TGA"):
        body = io.BytesIO()
        (image.convert("RGB") if kind == "JPEG" else image).save(body, kind)
        out.append((f"a.{kind.lower()}", body.getvalue()))
    deep = io.BytesIO()
    Image.fromarray(np.arange(256, dtype=np.uint16).reshape(16, 16) * 257).save(deep, "PNG")
    return (*out, ("deep.png", deep.getvalue()))


@cache
def archives() -> tuple[bytes, ...]:
    """Small zips, packed in each of the ways that are read."""
    out = []
    for how in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED, zipfile.ZIP_LZMA, zipfile.ZIP_BZIP2):
        body = io.BytesIO()
        with zipfile.ZipFile(body, "w", how) as z:
            for path, data in (("kit/plane.obj", PLANE), ("kit/wood.mtl", MTL)):
                info = zipfile.ZipInfo(path)  # with no time of day in it, so that a case is the same tomorrow
                info.compress_type = how
                z.writestr(info, data)
        out.append(body.getvalue())
    return tuple(out)
