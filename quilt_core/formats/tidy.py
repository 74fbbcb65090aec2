"""A file with meshes that are cleaned, in its own format: what it is worked on with from then on."""

from __future__ import annotations

import posixpath
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, replace

import numpy as np

from ..model.scene import Scene
from .clean import Cleaned, Room, cleaned
from .export import add, checked
from .model import Model
from .registry import EXPORTS, ending, named


@dataclass(frozen=True)
class Tidied:
    """name : of the main file; files by path beside it; counts : by mesh how many of each of `clean.KINDS` were put right; open : holes that stayed;
    notes : what its format has no place for"""

    name: str
    files: dict[str, bytes]
    counts: dict[int, dict[str, int]]
    open: int
    notes: list[str]


def clean_meshes(model: Model, meshes: Iterable[int], what: Collection[str], room: Room = lambda _: True) -> dict[int, Cleaned]:
    """Clean some meshes of a model in place; what was put right of each, see `cleaned`."""
    out = {}
    for m in sorted(meshes):
        name, positions, corners = model.meshes[m]
        out[m] = cleaned(positions, corners, what, room)
        model.meshes[m] = (name, positions, out[m].corners)
    return out


def tidied(
    scene: Scene, resources: Mapping[str, bytes], meshes: Collection[int], what: Collection[str], unit_m: float = 1.0
) -> Tidied | None:
    """The file with some of its meshes cleaned, written anew; None where there is nothing to clean.

    Parameters
    ----------
    scene : in metres; resources : what came along with it; meshes : numbers; what : of `clean.KINDS`
    unit_m : metres in a unit of formats that do not say theirs: the new file is in the same

    Raises
    ------
    QuiltError : the file does not hold its UVs again
    """
    model = Model()
    add(model, scene, resources)
    done = clean_meshes(model, meshes, what)
    counts = {m: d.counts for m, d in done.items() if d.counts}
    if not counts:
        return None
    kind = named(scene.format)
    own = ending(scene.file).lstrip(".")
    own = own if own in kind.exports else next(e for e in EXPORTS if e in kind.exports)
    if not kind.says_unit:
        back = np.diag([1 / unit_m, 1 / unit_m, 1 / unit_m, 1.0])
        model.items = [replace(i, world=back @ i.world) for i in model.items]
        model.nodes = [replace(n, world=back @ n.world) for n in model.nodes]
    main, files, notes = checked(model, own, posixpath.splitext(posixpath.basename(scene.file))[0])
    return Tidied(main, {path: body for path, (body, _) in files.items()}, counts, sum(d.open for d in done.values()), notes)
