"""What is done to chosen islands or edges of one mesh by name, for the server and the command line: cut, sew, flatten, part, square, project."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np

from ..errors import QuiltError
from ..model.scene import Floats
from .across import cut_across
from .flatten import frames
from .ledger import sew_free, singular
from .parting import parted
from .pieces import WAYS, piece_of, placed, staying, unsound
from .project import projected
from .seams import around, cut_along, sew
from .skin import Laying, Skin, sign_of
from .strips import straightened
from .topology import Mask, Numbers
from .trial import ALL, NEARLY_ALL, Tell

_NONE = np.zeros(0, np.int64)
OPERATIONS = ("cut", "across", "sew", "sew_free", "relax", "part", "square", "project")


@dataclass(frozen=True)
class Asked:
    """What an operation is done to and how. edges : half-edges; islands : numbers; faces (F,) or None

    relax : lay flat what was cut or sewn; way : of `pieces.WAYS`, or of `project.WAYS`; held : the outline stays; view (3,) : see `projected`
    points : corners (k,) of faces, 3 f + k, that stay where they are laid flat
    parts : into how many an island is cut across
    """

    operation: str
    edges: Numbers = field(default_factory=lambda: np.zeros(0, np.int64))
    islands: Numbers = field(default_factory=lambda: np.zeros(0, np.int64))
    faces: Mask | None = None
    relax: bool = True
    way: str = "both"
    held: bool = False
    view: Floats | None = None
    parts: int = 2
    points: Numbers = field(default_factory=lambda: np.zeros(0, np.int64))


@dataclass(frozen=True)
class Done:
    """laying : how the mesh lies now; touched (F,) faces of islands that are other; anew (F,) faces that lie nowhere yet; count : of what was done;
    refused : what could not be done, and why, in words."""

    laying: Laying
    touched: Mask
    anew: Mask
    count: int
    refused: list[str]


def do(skin: Skin, laying: Laying, asked: Asked, stop: Callable[[], bool] = lambda: False, tell: Tell = lambda _: None) -> Done:
    """Do one operation.

    Raises
    ------
    QuiltError : it cannot be done to anything here; Cancelled : it was stopped
    """
    none = np.zeros(len(skin.kept), bool)
    if asked.operation == "cut":
        edges = asked.edges if asked.faces is None else np.concatenate([asked.edges, around(skin, asked.faces)])
        out, touched = cut_along(skin, laying, edges)
        if asked.relax:
            out = _flat_again(skin, out, touched, stop)
        return Done(out, touched, none, len(np.unique(laying.island[touched])), [])
    if asked.operation == "sew":
        out, touched = sew(skin, laying, asked.edges, asked.relax)
        return Done(out, touched, none, 1, [])
    if asked.operation == "sew_free":
        out, touched, count = sew_free(skin, laying, asked.islands if len(asked.islands) else None, stop, tell)
        return Done(out, touched, none, count, [])
    if asked.operation == "part":
        out, touched, left = parted(skin, laying, asked.islands)
        why = [f"{left} pairs of triangles still lie double: they belong to polygons that overlap themselves."] if left else []
        return Done(out, touched, none, len(np.unique(laying.island[touched])), why)
    if asked.operation == "project":
        faces = asked.faces if asked.faces is not None else np.isin(laying.island, asked.islands)
        if not faces.any():
            raise QuiltError("Select faces, islands or objects to project.")
        out, edge_on = projected(skin, laying, faces, asked.way, asked.view)
        why = (
            [f"{edge_on} triangles are seen edge on and have no area now: unwrap them, or project them from another side."]
            if edge_on
            else []
        )
        return Done(out, faces | np.isin(laying.island, laying.island[faces & (laying.island >= 0)]), faces, 1, why)
    if asked.operation in ("relax", "square", "across"):
        return _each(skin, laying, asked, stop)
    raise QuiltError(f"'{asked.operation}' is no operation: {', '.join(OPERATIONS)}.")


def _each(skin: Skin, laying: Laying, asked: Asked, stop: Callable[[], bool]) -> Done:
    """Something done to island after island; those that it cannot be done to stay."""
    touched, refused, count = np.zeros(len(skin.kept), bool), [], 0
    for island in asked.islands.tolist():
        try:
            if asked.operation == "across":
                laying, mine = cut_across(skin, laying, island, asked.parts)
            elif asked.operation == "square":
                laying, mine = straightened(skin, laying, island)
            else:
                laying, mine = relaxed(skin, laying, island, asked.way, asked.held, stop, asked.points)
        except QuiltError as e:
            if type(e) is not QuiltError:
                raise
            refused.append(str(e))
            continue
        touched |= mine
        count += 1
    if asked.operation == "across" and asked.relax and touched.any():
        laying = _flat_again(skin, laying, touched, stop)
    return Done(laying, touched, np.zeros(len(skin.kept), bool), count, refused)


def relaxed(
    skin: Skin, laying: Laying, island: int, way: str = "both", held: bool = False, stop: Callable[[], bool] = lambda: False,
    points: Numbers = _NONE,
) -> tuple[Laying, Mask]:  # fmt: skip
    """An island laid flat again where it lies, at its density, and its faces (F,).

    Parameters
    ----------
    way : "angles", "sizes" or "both": what it keeps; held : whether its outline stays; points : corners (k,) of faces, 3 f + k, that stay

    Raises
    ------
    QuiltError : a way that is none; the island cannot lie flat, or would overlap itself
    """
    if way not in WAYS:
        raise QuiltError(f"An island is laid flat so that it keeps {', '.join(WAYS)}: '{way}' is none of them.")
    mine = laying.island == island
    faces = np.flatnonzero(mine)
    if not len(faces):
        raise QuiltError("This island is not there any more. Select it anew.")
    piece = piece_of(skin.surface, faces, laying.seam)
    p = laying.uv[faces]
    sign = np.array([sign_of(laying, island), 1.0])
    start = piece.mean(p * sign)
    folded = piece.folds(start)
    stay = staying(piece, faces, held, points)
    holds = bool(stay.any())
    if holds and folded:
        raise QuiltError("Nothing of it can be held: triangles of this island are folded over. Lay it flat without holding anything first.")
    uv = piece.flat(None if folded else start, way, stay if holds else None, stop)
    if unsound(piece, uv) and not holds:
        uv = piece.flat(None, way, None, stop)
    why = unsound(piece, uv)
    if why:
        raise QuiltError(f"This island cannot lie flat as it is: {why}. Cut it first.")
    if not holds:
        uv = placed(piece, uv, p * sign, np.ones(len(faces), bool))
    out = laying.uv.copy()
    out[faces] = uv[piece.cut.rows] * sign
    return replace(laying, uv=out), mine


def _flat_again(skin: Skin, laying: Laying, touched: Mask, stop: Callable[[], bool]) -> Laying:
    """What was cut, laid flat piece by piece; a piece that cannot lie flat yet stays as it is."""
    for island in np.unique(laying.island[touched]).tolist():
        try:
            laying, _ = relaxed(skin, laying, island, stop=stop)
        except QuiltError as e:
            if type(e) is not QuiltError:
                raise
    return laying


def keeps_to(skin: Skin, laying: Laying, mine: Mask, stretch: float) -> bool:
    """Whether nearly all of some faces (F,) keep to a stretch at the scale that suits them, as charts that are made anew have to."""
    s = skin.surface
    faces = np.flatnonzero(mine)
    big, small = singular(frames(s, faces), laying.uv[faces])
    w = s.area[faces]
    scale = float(np.sqrt(max((w * big * small).sum() / w.sum(), 1e-300)))
    worst = np.maximum(big / scale, scale / np.maximum(small, 1e-300))
    return bool(w[worst <= stretch].sum() >= NEARLY_ALL * w.sum() and w[worst <= 2 * stretch].sum() >= ALL * w.sum())
