"""The files of a delivery: each with its new UVs as it came, or in another format, and materials that show the new pictures."""

from __future__ import annotations

import hashlib
import io
import posixpath
import zipfile
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core import formats
from quilt_core.errors import QuiltError
from quilt_core.formats.channels import Arrangement, lost, rearranged
from quilt_core.formats.clean import KINDS as CLEANED
from quilt_core.formats.clean import Room
from quilt_core.formats.export import add, checked
from quilt_core.formats.losses import unasked
from quilt_core.formats.model import Model
from quilt_core.formats.tidy import clean_meshes
from quilt_core.formats.wiring import Wiring, as_json
from quilt_core.model.scene import Floats, Scene, UvChannel
from quilt_core.textures.paint import Coat, Paint, wiring
from quilt_core.textures.seen import Eye, Side, compare, of_coat, of_model, of_scene
from quilt_core.uv.analysis import MeshIslands, analyse, transform_rows

from ..projects.reading import Chosen, parts_of, sheet_numbers
from ..projects.sheets import of_sheet, sheets
from .uploads import free_name

_OWN = ("manifest.json", "report.json", "report.html")  # what every delivery holds beside what came


@dataclass
class Delivery:
    """What goes into the zip, by path, with what each file is; of mesh files, what they came as. Two paths that differ in case alone count as one, as
    many disks have it."""

    files: dict[str, bytes] = field(default_factory=dict)
    kinds: dict[str, str] = field(default_factory=dict)
    came_as: dict[str, list[str]] = field(default_factory=dict)
    _taken: dict[str, str] = field(default_factory=dict)

    def put(self, path: str, body: bytes, kind: str, came_as: list[str] | None = None) -> str:
        """Add a file; returns where it stands: under a name of its own where something else has that path."""
        if self.holds_other(path, body):
            path = free_name(path, self._taken)
        self._taken[path.casefold()] = path
        self.files[path], self.kinds[path] = body, kind
        if came_as:
            self.came_as[path] = came_as
        return path

    def holds_other(self, path: str, body: bytes) -> bool:
        """Whether something else has a path already."""
        there = self._taken.get(path.casefold())
        return there is not None and (there != path or self.files[there] != body)

    def takes(self, path: str) -> bool:
        """Whether a path is taken."""
        return path.casefold() in self._taken

    def root_for(self, files: Mapping[str, bytes], mesh: str) -> str:
        """The folder that files which see each other go into as a whole: none, or one of their own where something else has one of their paths."""
        if not self.takes(mesh) and not any(p in _OWN or self.holds_other(p, b) for p, b in files.items()):
            return ""
        stem = posixpath.basename(mesh).rpartition(".")[0]
        number = 2
        while any(p.startswith(f"{stem}_{number}/".casefold()) for p in self._taken):
            number += 1
        return f"{stem}_{number}/"

    def zipped(self) -> bytes:
        """The zip, with its manifest."""
        manifest = [
            {"path": p, "kind": self.kinds[p], "bytes": len(b), "sha256": hashlib.sha256(b).hexdigest()}
            | ({"came_as": self.came_as[p]} if p in self.came_as else {})
            for p, b in sorted(self.files.items())
        ]
        self.put("manifest.json", as_json({"files": manifest}), "manifest")
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            for path, body in self.files.items():
                # No date of now: the same delivery is the same file.
                entry = zipfile.ZipInfo(path)
                entry.compress_type, entry.external_attr = zipfile.ZIP_DEFLATED, 0o644 << 16
                archive.writestr(entry, body)
        return out.getvalue()


@dataclass
class Writer:
    """Puts files into a delivery.

    `painted` has the new pictures, if any, which stand in the delivery already; `per_sheet` one material for each tile. `format` is empty for files as they came; with `joined`, the name
    of the one file that all go into. `how` arranges the UV channels; None leaves all but the layout's as they are. `clean` is what is put right of meshes that are written anew;
    `room` tells of a file whether nothing of the layout lies where a hole in it would be closed.
    """

    delivery: Delivery
    settings: dict[str, Any]
    painted: Paint | None = None
    per_sheet: bool = False
    format: str = ""
    joined: str = ""
    how: Arrangement | None = None
    clean: frozenset[str] = frozenset()
    room: Callable[[Chosen], Room] = field(default=lambda _: lambda _: True)
    notes: list[str] = field(default_factory=list)
    seen: list[dict[str, Any]] = field(default_factory=list)  # how every material looks after, see `textures.seen`
    eye: Eye = field(default_factory=Eye)
    model: Model = field(default_factory=Model)
    taken: dict[str, bytes] = field(default_factory=dict)  # pictures of all files that were written
    came: list[str] = field(default_factory=list)  # the files that go into one

    def write(self, c: Chosen, similarities: Floats, coat: Coat | None) -> Chosen:
        """Put a file with its new UVs and companions into the zip; returns it as read back from what was written (in another format: as it was
        handed to the writer, whose file is read again and compared)."""
        starts, channel = c.starts(), channels_of(c, self.settings)
        if self.how is not None:
            channel = dict.fromkeys(channel, self.how.layout)
            # New pictures are read by the layout's channel.
            self.notes += lost(c.scene, self.how) if self.painted is None else []
        pieces = {m: p for m, p in enumerate(c.pieces) if p is not None}
        uvs = {m: transform_rows(p.uvs, p.islands.of_row, similarities[starts[m] : starts[m] + p.islands.count]) for m, p in pieces.items()}
        wired = None
        if self.painted is not None and coat is not None:
            names = {s["id"]: s["name"] for s in sheets(self.settings)}
            wired = wiring(self.painted, coat, names, self.per_sheet, next(iter(channel.values()), 0))
            wired.plain = self.how is not None
        return self._converted(c, uvs, channel, wired, coat) if self.format else self._as_it_came(c, uvs, channel, wired, coat)

    def _look(self, coat: Coat | None, wired: Wiring | None, after: Callable[[], Side], channel: dict[int, int]) -> None:
        """Compare the old paint with what was written."""
        if coat is not None and wired is not None:
            px = max(of_sheet(self.settings, s["id"])["map_px"] for s in sheets(self.settings))
            self.seen += compare(of_coat(coat), after(), channel, px, eye=self.eye)

    def _as_it_came(self, c: Chosen, uvs: dict[int, Floats], channel: dict[int, int], wired: Wiring | None, coat: Coat | None) -> Chosen:
        written = _written(c, uvs, channel) if self.how is None else formats.rearrange(c.scene, uvs, self.how)
        files, order = self._together(c, c.file.name, written, wired)
        pictures = {} if wired is None else dict(wired.pictures)
        root = self.delivery.root_for(files, c.file.name)
        name = root + c.file.name
        if root:
            files, order = self._together(c, name, written, wired)
            self.notes.append(f"{c.file.name}: something else has that place, so it lies in {root} with what belongs to it.")
        for path, body in files.items():
            kind = "mesh" if path == name else "texture" if path in pictures else "companion"
            self.delivery.put(path, body, kind, [c.file.name] if path == name else None)
        beside = formats.seen_from(posixpath.dirname(name), {k: v for k, v in files.items() if k != name} | pictures)
        scene = formats.read(files[name], name, c.file.unit_m, beside)
        self._look(coat, wired, lambda: of_scene(scene, beside, order), channel)
        self.notes += unasked(c.scene, scene, max(channel.values(), default=None) if self.how is None else None)
        return _again(c, scene, channel, order)

    @staticmethod
    def _together(
        c: Chosen, name: str, written: Mapping[str, bytes], wired: Wiring | None
    ) -> tuple[dict[str, bytes], dict[int, NDArray[np.int64]]]:
        """A written file that stands at `name` in the zip, with what goes beside it, by path in the zip; and the order of its triangles where it is another."""
        folder = posixpath.dirname(name) + "/" if "/" in name else ""
        order, old = dict[int, NDArray[np.int64]](), set[str]()
        shown: set[str] = set()
        if wired is not None:
            seen = wired.seen_from("../" * folder.count("/"))
            rewired = formats.rewire(c.scene, written, c.beside, seen)
            written, order, shown = rewired.files, rewired.order, set(seen.pictures)
            old = _old_pictures(c, wired) | {p for d in rewired.dropped if (p := formats.find_resource(d, c.file.companions))}
        files = {_in_zip(folder, k or posixpath.basename(name)): v for k, v in written.items() if not (k.startswith("../") and k in shown)}
        for path, body in c.beside.items():
            if path not in old:
                files.setdefault(_in_zip(folder, path), body)
        return files, order

    def _converted(self, c: Chosen, uvs: dict[int, Floats], channel: dict[int, int], wired: Wiring | None, coat: Coat | None) -> Chosen:
        stem = c.file.name.rsplit("/", 1)[-1].rsplit(".", 1)[0]
        source = {m: p.channel for m, p in enumerate(c.pieces) if p is not None}
        if self.how is not None:
            laid = rearranged(c.scene, uvs, source, self.how)
        else:
            laid = replace(c.scene, meshes=[replace(m, channels=dict(m.channels)) for m in c.scene.meshes])
            for m, uv in uvs.items():
                laid.meshes[m].channels[channel[m]] = UvChannel(uv, c.scene.meshes[m].channels[source[m]].triangles)
        model = self.model if self.joined else Model(pictures=self.taken)
        named = self.settings["channel_names"]
        model.names = self.how.names if self.how is not None else tuple(named.get(str(n), "") for n in range(8)) if named else ()
        first = len(model.meshes)
        self.came.append(c.file.name)
        add(model, laid, c.beside, wired, f"{stem}/" if self.joined else "", channel)
        self._look(coat, wired, lambda: of_model(model, first, laid), channel)
        self._clean(model, first, c)
        if not self.joined:
            folder = posixpath.dirname(c.file.name)
            self._put(model, _free(stem, self.format, self.delivery, folder), [c.file.name], folder)
            self.taken |= model.shown
        return _again(c, laid, channel, {})

    def _clean(self, model: Model, first: int, c: Chosen) -> None:
        """Put right what was asked for of the meshes from a number on, and say how much of it there was."""
        room = self.room(c) if "holes" in self.clean else lambda _: True
        every = range(first, len(model.meshes)) if self.clean else ()
        for n, done in clean_meshes(model, every, self.clean, room).items():
            name = model.meshes[n][0]
            if done.counts:
                words = ", ".join(f"{CLEANED[kind]} ({number:,})" for kind, number in done.counts.items())
                self.notes.append(f"{c.file.name}, {name}: cleaned of {words}.")
            if done.open:
                why = "the UVs around do not close, or something lies in the room that what closes it would need"
                self.notes.append(
                    f"{c.file.name}, {name}: {done.open:,} small {'hole stays' if done.open == 1 else 'holes stay'} open: {why}."
                )

    def finish(self) -> None:
        """Write the one file that all went into, where that was asked for."""
        if self.format and self.joined:
            self._put(self.model, self.joined, self.came)

    def _put(self, model: Model, name: str, came_as: list[str], folder: str = "") -> None:
        _, files, notes = checked(model, self.format, name)
        placed = {posixpath.join(folder, path): body for path, (body, _) in files.items()}
        root = self.delivery.root_for(placed, posixpath.join(folder, f"{name}.{self.format}"))
        for path, (body, kind) in files.items():
            self.delivery.put(root + posixpath.join(folder, path), body, kind, came_as if kind == "mesh" else None)
        self.notes += [f"{name}.{self.format}: {note}" for note in notes]


def _in_zip(folder: str, path: str) -> str:
    """Where a file stands in the zip that a mesh in `folder` sees at `path`."""
    return posixpath.normpath(posixpath.join(folder, path))


def _free(stem: str, format: str, delivery: Delivery, folder: str) -> str:
    """A name that no file of the delivery has in a folder."""
    name, number = stem, 2
    while delivery.takes(posixpath.join(folder, f"{name}.{format}")):
        name, number = f"{stem}_{number}", number + 1
    return name


def _again(c: Chosen, scene: Scene, channel: dict[int, int], order: dict[int, NDArray[np.int64]]) -> Chosen:
    """A file with its new scene. The islands are those that were packed; twins that share an edge would else be one island in it."""
    given = [None if p is None else p.islands.of_triangle[order.get(m, slice(None))] for m, p in enumerate(c.pieces)]
    read = {number: analyse(scene, number, given) for number in set(channel.values())}
    again: list[MeshIslands | None] = [read[channel[m]][m] if m in channel else None for m in range(len(c.pieces))]
    return replace(c, given_scene=scene, given_pieces=again)


def sheets_of(c: Chosen, settings: dict[str, Any]) -> dict[int, NDArray[np.int64]]:
    """The sheet of every island of each mesh of a file."""
    parts = parts_of([c])
    numbers = parts.pieced(sheet_numbers([c], parts, settings))
    return dict(zip([m for m, p in enumerate(c.pieces) if p is not None], numbers, strict=True))


def channels_of(c: Chosen, settings: dict[str, Any]) -> dict[int, int]:
    """The UV channel that each mesh of a file is written to: that of the sheet that its islands lie on.

    Raises
    ------
    QuiltError : one mesh lies on sheets that write different channels
    """
    usual = int(settings["channel_out"])
    channel = {s["id"]: usual if s["channel"] is None else int(s["channel"]) for s in sheets(settings)}
    out: dict[int, int] = {}
    for m, numbers in sheets_of(c, settings).items():
        found = {channel[int(s)] for s in numbers}
        if len(found) > 1:
            piece = c.pieces[m]
            assert piece is not None
            raise QuiltError(
                f"{piece.objects[0].name} lies on sheets that write different UV channels. Put it on one, or give both one channel."
            )
        out[m] = found.pop() if found else usual
    return out


def _written(c: Chosen, uvs: dict[int, Floats], channel: dict[int, int]) -> dict[str, bytes]:
    """The file with its new UVs; where meshes are written to different channels, one channel after the other."""
    scene, out = c.scene, {}
    beside = dict(c.beside)
    for number in sorted(set(channel.values())) or [0]:
        out = formats.write(scene, {m: uv for m, uv in uvs.items() if channel[m] == number}, number)
        beside |= {k: v for k, v in out.items() if k}
        if len(set(channel.values())) > 1:
            scene = formats.read(out[""], c.file.name, c.file.unit_m, beside)
    return out


def _old_pictures(c: Chosen, wiring: Wiring) -> set[str]:
    """Files that came along and that the new pictures and library have taken the place of: nothing shows them any more. Formats that
    list their pictures, used or not, keep them."""
    kind = formats.named(c.scene.format)
    if kind.lists_pictures:
        return set()
    shown = {i for m, of in wiring.of_triangle.items() for i in np.unique(c.scene.meshes[m].materials[of < 0]) if i >= 0}
    shown |= {i for m, mesh in enumerate(c.scene.meshes) if m not in wiring.of_triangle for i in np.unique(mesh.materials) if i >= 0}
    new = {kind for m in wiring.materials for kind in m.maps}
    kept = {p for i in shown for p in c.scene.materials[i].images.values()}
    gone = {t.path for m in c.scene.materials for t in m.textures.values() if t.kind in new and t.path not in kept}
    found = {formats.find_resource(p, c.file.companions) for p in gone}
    if kind.libraries and wiring.materials:
        found |= {p for p in c.file.companions if p.lower().endswith(kind.libraries)}
    return {p for p in found if p}
