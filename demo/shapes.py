"""Simple solids with one UV island for each side or strip, the way a hurried modeller leaves them."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

Point = tuple[float, float, float]
Pair = tuple[float, float]


@dataclass
class Part:
    """An object of the demo: faces of (corner, uv) pairs; a face without UVs has None for each."""

    name: str
    faces: list[list[tuple[Point, Pair | None]]] = field(default_factory=list)
    _cursor: float = 0.0

    def moved(self, dx: float = 0.0, dy: float = 0.0, dz: float = 0.0) -> Part:
        """The part somewhere else."""
        return self._with(lambda p: (p[0] + dx, p[1] + dy, p[2] + dz), lambda t: t)

    def mirrored(self, name: str) -> Part:
        """The part mirrored in x, its faces still outward: its islands end up inside out."""
        out = self._with(lambda p: (-p[0], p[1], p[2]), lambda t: t)
        out.name, out.faces = name, [f[::-1] for f in out.faces]
        return out

    def uv(self, scale: float = 1.0, du: float = 0.0, dv: float = 0.0) -> Part:
        """The part with its UVs scaled and shifted."""
        return self._with(lambda p: p, lambda t: (t[0] * scale + du, t[1] * scale + dv))

    def without_uvs(self) -> Part:
        """The part before anybody unwrapped it."""
        return Part(self.name, [[(p, None) for p, _ in f] for f in self.faces])

    def _with(self, place, lay) -> Part:  # type: ignore[no-untyped-def]
        return Part(self.name, [[(place(p), None if t is None else lay(t)) for p, t in f] for f in self.faces])

    def side(self, corners: list[Point], flat: list[Pair]) -> None:
        """A face with an island of its own, set beside the last one."""
        width = max(u for u, _ in flat) - min(u for u, _ in flat)
        low = min(u for u, _ in flat)
        self.faces.append([(p, (self._cursor + u - low, v)) for p, (u, v) in zip(corners, flat, strict=True)])
        self._cursor += width + 0.05 * width


def box(part: Part, at: Point, size: Point) -> Part:
    """Six sides, six islands."""
    (x, y, z), (w, h, d) = at, size
    a, b = (x, y, z), (x + w, y + h, z + d)
    for axis, high in ((0, 0), (0, 1), (1, 0), (1, 1), (2, 0), (2, 1)):
        u, v = [(1, 2), (2, 0), (0, 1)][axis]
        corners = []
        for s, t in ((0, 0), (1, 0), (1, 1), (0, 1)) if high else ((0, 0), (0, 1), (1, 1), (1, 0)):
            p = [0.0, 0.0, 0.0]
            p[axis], p[u], p[v] = (b if high else a)[axis], (b if s else a)[u], (b if t else a)[v]
            corners.append((p[0], p[1], p[2]))
        part.side(corners, [(c[u], c[v]) if high else (c[v], c[u]) for c in corners])
    return part


def tube(part: Part, at: Point, radius: float, height: float, sides: int = 16, top: float | None = None, caps: bool = True) -> Part:
    """A cylinder or cone standing on y: a strip around, and its caps."""
    top = radius if top is None else top
    strip = part._cursor
    around = 2 * math.pi * max(radius, top)

    def ring(r: float, y: float, k: int) -> Point:
        a = 2 * math.pi * k / sides
        return (at[0] + r * math.cos(a), at[1] + y, at[2] - r * math.sin(a))

    for k in range(sides):
        u0, u1 = strip + around * k / sides, strip + around * (k + 1) / sides
        corners = [ring(radius, 0, k), ring(radius, 0, k + 1), ring(top, height, k + 1), ring(top, height, k)]
        part.faces.append([(p, t) for p, t in zip(corners, [(u0, 0.0), (u1, 0.0), (u1, height), (u0, height)], strict=True)])
    part._cursor += around * 1.05
    if caps:
        for r, y, sign in ((top, height, 1), (radius, 0.0, -1)):
            corners = [ring(r, y, sign * k) for k in range(sides)]
            part.side(corners, [(c[0], -sign * c[2]) for c in corners])
    return part


def hoop(part: Part, at: Point, outer: float, inner: float, depth: float, sides: int = 24, arcs: int = 1) -> Part:
    """A flat ring facing z with a hole: two faces with holes in them, a strip outside and one inside, each cut into so many."""

    def p(r: float, z: float, k: int) -> Point:
        a = 2 * math.pi * k / sides
        return (at[0] + r * math.cos(a), at[1] + r * math.sin(a), at[2] + z)

    for z, sign in ((depth, 1), (0.0, -1)):
        base = part._cursor + outer
        for k in range(sides):
            corners = [p(inner, z, sign * k), p(outer, z, sign * k), p(outer, z, sign * (k + 1)), p(inner, z, sign * (k + 1))]
            part.faces.append([(c, (base + sign * (c[0] - at[0]), outer + c[1] - at[1])) for c in corners])
        part._cursor += 2.1 * outer
    for r, sign in ((outer, 1), (inner, -1)):
        start, length = part._cursor, 2 * math.pi * r
        for k in range(sides):
            if k and k % (sides // arcs) == 0:
                start += 0.03 * length / arcs
            corners = [p(r, 0, sign * k), p(r, 0, sign * (k + 1)), p(r, depth, sign * (k + 1)), p(r, depth, sign * k)]
            u0, u1 = start + length * k / sides, start + length * (k + 1) / sides
            part.faces.append([(c, t) for c, t in zip(corners, [(u0, 0.0), (u1, 0.0), (u1, depth), (u0, depth)], strict=True)])
        part._cursor = start + length * (1 + 0.03 / arcs)
    return part


def obj(parts: list[Part], title: str, library: str = "") -> bytes:
    """Parts as an OBJ file; `library` names its MTL."""
    lines = [f"# {title}", "# Made by the demo generator of Untold Quilt"]
    if library:
        lines.append(f"mtllib {library}")
    v = t = 0
    for part in parts:
        lines.append(f"o {part.name}")
        lines.append(f"usemtl {part.name.split('-')[0]}")
        faces = []
        for face in part.faces:
            corners = []
            for p, uv in face:
                lines.append("v {:.6f} {:.6f} {:.6f}".format(*p))
                v += 1
                if uv is not None:
                    lines.append("vt {:.6f} {:.6f}".format(*uv))
                    t += 1
                corners.append(f"{v}/{t}" if uv is not None else f"{v}")
            faces.append("f " + " ".join(corners))
        lines += faces
    return ("\n".join(lines) + "\n").encode()
