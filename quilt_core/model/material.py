"""What a material is, in the words that glTF 2.0's core and UsdPreviewSurface share: its factors, and the pictures that it reads.

A value that is None is one that the file does not say. Factors multiply what a picture holds, as both standards have it.
"""

from __future__ import annotations

import math
from dataclasses import asdict, dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Colour = tuple[float, float, float]
Affine = tuple[float, float, float, float, float, float]
Values = tuple[float, float, float, float]
WRAPS = ("repeat", "clamp", "mirror", "none")
OPAQUE, BLEND, MASK = "opaque", "blend", "mask"
VECTORS = ("normal", "clearcoat normal", "anisotropy")  # kinds whose values are directions in the plane of the UVs


@dataclass(frozen=True)
class Texture:
    """A picture, and how it is read.

    kind : what it holds ("base colour", "normal"), in Quilt's words
    path : as the file writes it
    channel : the UV channel that it is read by
    placed : (a, b, c, d, e, f): read at (a u + b v + c, d u + e v + f), v upward; None where at (u, v)
    frame : the same from the UVs of the scene to those that the vectors of a normal map and stored tangents belong to, where these are others
    wrap : beyond the picture, along u and v: one of `WRAPS`; "none" has zeros there
    part : the channel that counts, "r", "g", "b" or "a"; empty for red, green and blue
    scale, bias : what is read is multiplied by the one, and the other added; None where it is as it is
    options : what else the file says of it, as it is written (MTL)
    """

    kind: str
    path: str
    channel: int = 0
    placed: Affine | None = None
    frame: Affine | None = None
    wrap: tuple[str, str] = ("repeat", "repeat")
    part: str = ""
    scale: Values | None = None
    bias: Values | None = None
    options: str = ""

    @property
    def plain(self) -> Texture:
        """The same picture read as a new map is: as it lies, repeated, nothing multiplied."""
        return replace(self, placed=None, frame=None, wrap=("repeat", "repeat"), scale=None, bias=None)


@dataclass(frozen=True)
class Material:
    """A material.

    textures : by the slot that the file has them in
    colour, opacity : of the base colour (linear red, green, blue) and of what is seen through; metal, roughness : 0 to 1
    emission : linear, above 1 where it shines more; specular, gloss : of the older models (MTL `Ks`, `Ns`)
    normal_scale, occlusion_strength : as glTF has them
    alpha : "opaque", "blend", or "mask" with its cutoff; then the fourth channel of the base colour counts, where there is no opacity picture
    extras : what a program keeps there for itself (glTF)
    further : names of what the file says of it beyond this record
    """

    name: str
    textures: dict[str, Texture] = field(default_factory=dict)
    colour: Colour | None = None
    opacity: float | None = None
    metal: float | None = None
    roughness: float | None = None
    emission: Colour | None = None
    specular: Colour | None = None
    gloss: float | None = None
    normal_scale: float = 1.0
    occlusion_strength: float = 1.0
    alpha: str = OPAQUE
    cutoff: float = 0.5
    double_sided: bool = False
    unlit: bool = False
    extras: Any = None
    further: tuple[str, ...] = ()

    @property
    def maps(self) -> dict[str, Texture]:
        """Its pictures by kind; the first of a kind counts."""
        out: dict[str, Texture] = {}
        for texture in self.textures.values():
            out.setdefault(texture.kind, texture)
        return out

    @property
    def images(self) -> dict[str, str]:
        """The paths of its pictures by slot."""
        return {slot: t.path for slot, t in self.textures.items()}

    @property
    def channels(self) -> dict[str, int]:
        """The UV channels that its pictures are read by, by slot."""
        return {slot: t.channel for slot, t in self.textures.items()}

    @property
    def see_through(self) -> bool:
        """Whether the fourth channel of its base colour counts."""
        return self.alpha != OPAQUE and "opacity" not in self.maps


def placed_uvs(uv: Floats, at: Affine | None) -> Floats:
    """UVs (..., 2) where a picture is read.

    Parameters
    ----------
    uv : (..., 2), v upward; at : `Texture.placed`

    Returns
    -------
    (..., 2)
    """
    if at is None:
        return uv
    a, b, c, d, e, f = at
    return np.stack([a * uv[..., 0] + b * uv[..., 1] + c, d * uv[..., 0] + e * uv[..., 1] + f], axis=-1)


def affine_of(matrix: Floats) -> Affine | None:
    """A (2, 3) matrix on UVs as `Texture.placed`, None for one that does nothing (to 1e-9)."""
    if np.allclose(matrix, [[1, 0, 0], [0, 1, 0]], rtol=0, atol=1e-9):
        return None
    a, b, c, d, e, f = (float(x) for x in np.asarray(matrix).reshape(-1))
    return a, b, c, d, e, f


def flipped(matrix: Floats) -> Floats:
    """A (2, 3) matrix on UVs whose v counts downward as one on those whose v counts upward, and the other way round."""
    (a, b, c), (d, e, f) = np.asarray(matrix, float).tolist()
    return np.array([[a, -b, c + b], [-d, e, 1 - e - f]])


def parted(matrix: Floats) -> tuple[float, tuple[float, float], tuple[float, float]] | None:
    """A (2, 3) matrix on UVs as a turn (radians, from u to v), what both axes are scaled by before it, and a shift after it; None for a skewed one, or one that
    leaves no u."""
    (a, b, c), (d, e, f) = np.asarray(matrix, float).tolist()
    size = math.hypot(a, d)
    if size < 1e-12 or abs(a * b + d * e) > 1e-6 * size * max(math.hypot(b, e), 1e-12):
        return None
    angle = math.atan2(d, a)
    return angle, (size, e * math.cos(angle) - b * math.sin(angle)), (c, f)


def as_dict(material: Material) -> dict[str, Any]:
    """A material as what JSON can say."""
    return asdict(material)


def from_dict(data: dict[str, Any]) -> Material:
    """A material from what `as_dict` made, also when it went through JSON."""
    tuples: dict[str, Any] = {k: None if data[k] is None else tuple(data[k]) for k in ("colour", "emission", "specular", "further")}
    fields: dict[str, dict[str, Any]] = {
        slot: {k: tuple(v) if isinstance(v, list) else v for k, v in t.items()} for slot, t in data["textures"].items()
    }
    textures = {slot: Texture(**values) for slot, values in fields.items()}
    return Material(**{**data, **tuples, "textures": textures})
