"""A file on the command line's bench: its islands, where they lie, and UVs that were made anew, until it is written."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core import formats
from quilt_core.formats.revision import like
from quilt_core.model.scene import Floats, Scene, UvChannel
from quilt_core.unwrap.follow import followed, islands_after
from quilt_core.unwrap.scenes import Figures, beyond_saving, figures, laying_in
from quilt_core.unwrap.skin import Laying, Revised, Skin
from quilt_core.uv.analysis import IDENTITY, MeshIslands, analyse, transform_rows

from . import files


@dataclass
class Bench:
    """A file. `pieces` by mesh with their `rows` (n, 5); `made` are UVs made anew; `done` and `refused` by mesh, for the report."""

    scene: Scene
    source: Path
    unit_m: float
    channel: int
    made: dict[int, Revised] = field(default_factory=dict)
    done: dict[int, list[str]] = field(default_factory=dict)
    refused: dict[int, list[dict[str, str]]] = field(default_factory=dict)
    needless: set[int] = field(default_factory=set)  # meshes that need no UVs: low ones are baked from them

    def __post_init__(self) -> None:
        self.pieces: list[MeshIslands | None] = analyse(self.scene, self.channel)
        self.rows: list[Floats] = [_identity(p) for p in self.pieces]
        self.was = {m: self.figures(m) for m in range(len(self.pieces))}

    def figures(self, mesh: int) -> Figures:
        """Figures of a mesh as it is now."""
        return figures(self.scene, mesh, self.channel, self.pieces[mesh])

    @property
    def roots(self) -> dict[int, NDArray[np.int64]]:
        """See `laying_of`, of the meshes whose UVs were made here."""
        return {m: r.root for m, r in self.made.items()}

    def laying(self, mesh: int) -> tuple[Skin, Laying]:
        """The surface of a mesh that has UVs, and how it lies."""
        piece = self.pieces[mesh]
        assert piece is not None
        return laying_in(self.scene, mesh, self.channel, piece, self.roots.get(mesh))

    def take(self, mesh: int, made: Revised, anew: NDArray[np.integer]) -> None:
        """New UVs for a mesh: what was cut stays where it lay; `anew` (k,) islands lie nowhere yet."""
        self.made[mesh] = made
        old = self.scene.meshes[mesh]
        self.scene.meshes[mesh] = replace(old, channels={**old.channels, self.channel: made.channel})
        was, rows = self.pieces[mesh], self.rows[mesh]
        now = islands_after(self.scene, mesh, self.channel, made)
        heir = followed(was, now, made.frame).heir
        heir[anew] = -1
        self.pieces[mesh] = now
        self.rows[mesh] = (
            np.where((heir >= 0)[:, None], rows[np.maximum(heir, 0)], IDENTITY) if len(rows) else np.tile(IDENTITY, (len(heir), 1))
        )

    def tell(self, mesh: int, what: str, why: str | None = None) -> None:
        """For the report: what was done to a mesh, or why it was not."""
        if why is not None:
            self.refused.setdefault(mesh, []).append({"what": what, "why": why})
        elif what not in self.done.setdefault(mesh, []):
            self.done[mesh].append(what)

    def write(self, folder: Path, channel: int) -> Scene:
        """Write the file with its UVs; returns it as it is read back."""
        uvs = {m: transform_rows(p.uvs, p.islands.of_row, self.rows[m]) for m, p in enumerate(self.pieces) if p is not None}
        scene = self.scene
        if self.made:
            beside = files.Beside(self.source.parent)
            laid = {m: UvChannel(uvs[m], r.channel.triangles) for m, r in self.made.items() if m in uvs}
            scene, other = formats.with_rows(self.original(), laid, self.channel, formats.unit_for(self.source.name, self.unit_m), beside)
            for m, uv in uvs.items():
                old = laid[m] if m in laid else UvChannel(uv, self.scene.meshes[m].channels[self.channel].triangles)
                uvs[m] = like(scene.meshes[m].channels[self.channel], old).uvs
            files.write(scene, folder, self.source, other | formats.write(scene, uvs, channel))
        else:
            files.write(scene, folder, self.source, formats.write(scene, uvs, channel))
        return files.read(folder / scene.file, self.unit_m)

    def original(self) -> Scene:
        """The file as it came."""
        return files.read(self.source, self.unit_m)

    def report(self, again: Scene, channel: int) -> list[dict[str, Any]]:
        """What was done to every object, with its figures before, and as the written file has them."""
        plain = analyse(again, channel)
        now = {m: figures(again, m, channel, piece) for m, piece in enumerate(plain)}
        return [
            _row(self.scene, o.name, self.was[o.mesh], now[o.mesh], self.done.get(o.mesh, []), self.refused.get(o.mesh, []))
            | ({"left": []} if o.mesh in self.needless else {})
            for o in self.scene.objects
        ]


def _identity(piece: MeshIslands | None) -> Floats:
    return np.tile(IDENTITY, (0 if piece is None else piece.islands.count, 1))


def _row(scene: Scene, name: str, was: Figures, now: Figures, done: list[str], refused: list[dict[str, str]]) -> dict[str, Any]:
    return {
        "file": scene.file, "name": name, "was": was.as_dict(), "now": now.as_dict(), "done": done, "refused": refused, "left": beyond_saving(now),
    }  # fmt: skip


def lines_of(objects: list[dict[str, Any]]) -> list[str]:
    """The report in lines."""
    lines = []
    for o in objects:
        s = o["now"]["stretch"]
        what = ", ".join(o["done"]) or "as it was"
        share = f"{s['share_under_1_1']:.1%} under 1.1, {s['share_under_1_5']:.1%} under 1.5" if o["now"]["islands"] else "no UVs"
        lines.append(f"  {o['name'][:32]:32} {what}: {o['now']['islands']} islands, {o['now']['seam_m']:.3g} m of seam, {share}")
        lines += [f"    {r['what']} not done: {r['why']}" for r in o["refused"]]
    return lines
