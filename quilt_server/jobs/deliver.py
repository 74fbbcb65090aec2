"""The zip: every file with its new UVs, templates, tile images, old paint carried over, the report, and a manifest of it all."""

from __future__ import annotations

import hashlib
import io
import json
import zipfile
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from django.db import transaction
from numpy.typing import NDArray

from quilt_core import formats
from quilt_core.deliver import template
from quilt_core.deliver.images import ImageRecipe, encoded, tile_image
from quilt_core.deliver.page import page, verdict
from quilt_core.errors import QuiltError
from quilt_core.formats import rewire
from quilt_core.formats.pictures import KINDS
from quilt_core.prove.texels import owners as texel_owners
from quilt_core.scene import Floats
from quilt_core.sheet import IDENTITY, analyse, transform_rows
from quilt_core.tiles import place

from ..projects.geometry import from_npz
from ..projects.models import Job, Original, Project
from ..projects.reading import (
    Chosen,
    Parts,
    choose,
    figures_of,
    kinds_of_islands,
    parts_of,
    picture,
    regions_of,
    sheet_numbers,
    twin_groups,
)
from ..projects.sheets import grid, of_sheet, sheets
from ..projects.state import settings_of
from .painting import Paint, paint, wiring_of
from .progress import report_progress
from .proving import bleed_of

MOST_TILES = 100  # templates in one zip


@dataclass
class Order:
    """What was asked for; see `checks.delivery`."""

    params: dict[str, Any]

    def __getattr__(self, name: str) -> Any:
        return self.params[name]


@dataclass
class Delivery:
    """What goes into the zip, by path, with what each file is."""

    files: dict[str, bytes]
    kinds: dict[str, str]

    def put(self, path: str, body: bytes, kind: str) -> None:
        """Add a file, unless there is one of that name."""
        if path not in self.files:
            self.files[path], self.kinds[path] = body, kind

    def zipped(self) -> bytes:
        """The zip, with its manifest."""
        manifest = [
            {"path": p, "kind": self.kinds[p], "bytes": len(b), "sha256": hashlib.sha256(b).hexdigest()}
            for p, b in sorted(self.files.items())
        ]
        self.put("manifest.json", rewire.as_json({"files": manifest}), "manifest")
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            for path, body in self.files.items():
                archive.writestr(path, body)
        return out.getvalue()


def run_deliver(job: Job) -> None:
    """Write the zip and prove what was written."""
    project = Project.objects.get(pk=job.project_id)
    head = project.head
    if head is None or head.layout is None:
        raise QuiltError("There is nothing to deliver yet. Bring in a mesh first.")
    settings, order = settings_of(head), Order(job.params["order"])
    chosen = choose(head)
    parts = parts_of(chosen)
    on = sheet_numbers(chosen, parts, settings)
    if order.sheet is not None:
        chosen, parts, on = _only(chosen, settings, int(order.sheet))
    rows = parts.whole(from_npz(head.layout.tables))
    painted = paint(job, chosen, parts, rows, settings, order.per_sheet) if order.paint else None
    placed = _aside(rows, on, twin_groups(parts, settings), settings) if order.twins_aside else rows
    delivery = Delivery({}, {})
    again: list[Chosen] = []
    names = {s["id"]: s["name"] for s in sheets(settings)}
    tables = parts.merged(from_npz(head.layout.tables), parts.pieced(placed))
    for n, c in enumerate(chosen):
        report_progress(job, {"text": f"Writing {c.file.name}", "part": n / len(chosen)})
        again.append(
            _write(delivery, c, tables[str(c.file.pk)], _channels(c, settings), painted, _sheets_of(c, settings), names, order.per_sheet)
        )
    report_progress(job, {"text": "Proving what was written", "part": 0.9})
    figures = _figures(project, settings, chosen, again, order, painted)
    _pictures(job, delivery, again, settings, figures, order)
    if painted:
        for path, body in painted.pictures.items():
            delivery.put(path, body, "difference" if "/differences/" in path else "texture")
    delivery.put("report.json", json.dumps(figures, indent=2).encode(), "report")
    delivery.put("report.html", _page(project, again, settings, figures), "report")
    with transaction.atomic():
        job.output = delivery.zipped()
        job.result = {"bytes": len(job.output), "figures": figures}


def _only(chosen: list[Chosen], settings: dict[str, Any], sheet: int) -> tuple[list[Chosen], Parts, NDArray[np.int64]]:
    """The files and meshes that lie on one sheet."""
    out = []
    for c in chosen:
        parts = parts_of([c])
        numbers = parts.pieced(sheet_numbers([c], parts, settings))
        on = {m for (m, _), n in zip([(m, p) for m, p in enumerate(c.pieces) if p is not None], numbers, strict=True) if (n == sheet).any()}
        if on:
            out.append(replace(c, pieces=[p if m in on else None for m, p in enumerate(c.pieces)]))
    if not out:
        raise QuiltError("Nothing lies on this sheet. Choose another one.")
    parts = parts_of(out)
    return out, parts, sheet_numbers(out, parts, settings)


def _aside(rows: Floats, on: NDArray[np.int64], twins: NDArray[np.int64], settings: dict[str, Any]) -> Floats:
    """The layout for the bake: of islands that share texels the first stays, the others move beside the sheet by whole tiles."""
    out = rows.copy()
    columns = {s["id"]: s["columns"] for s in sheets(settings)}
    for group in np.unique(twins[twins >= 0]):
        for i in np.flatnonzero(twins == group)[1:]:
            out[i, 3] += columns[int(on[i])]
    return out


def _sheets_of(c: Chosen, settings: dict[str, Any]) -> dict[int, NDArray[np.int64]]:
    """The sheet of every island of each mesh of a file."""
    parts = parts_of([c])
    numbers = parts.pieced(sheet_numbers([c], parts, settings))
    return dict(zip([m for m, p in enumerate(c.pieces) if p is not None], numbers, strict=True))


def _channels(c: Chosen, settings: dict[str, Any]) -> dict[int, int]:
    """The UV channel that each mesh of a file is written to: that of the sheet that its islands lie on.

    Raises
    ------
    QuiltError : one mesh lies on sheets that write different channels
    """
    usual = int(settings["channel_out"])
    channel = {s["id"]: usual if s["channel"] is None else int(s["channel"]) for s in sheets(settings)}
    out: dict[int, int] = {}
    for m, numbers in _sheets_of(c, settings).items():
        found = {channel[int(s)] for s in numbers}
        if len(found) > 1:
            piece = c.pieces[m]
            assert piece is not None
            raise QuiltError(
                f"{piece.objects[0].name} lies on sheets that write different UV channels. Put it on one, or give both one channel."
            )
        out[m] = found.pop() if found else usual
    return out


def _beside(c: Chosen) -> dict[str, bytes]:
    bodies = {o.sha: bytes(o.data) for o in Original.objects.filter(sha__in=set(c.file.companions.values()))}
    return {path: bodies[sha] for path, sha in c.file.companions.items()}


def _written(c: Chosen, uvs: dict[int, Floats], channel: dict[int, int]) -> dict[str, bytes]:
    """The file with its new UVs; where meshes are written to different channels, one channel after the other."""
    scene, out = c.scene, {}
    beside = _beside(c)
    for number in sorted(set(channel.values())) or [0]:
        out = formats.write(scene, {m: uv for m, uv in uvs.items() if channel[m] == number}, number)
        beside |= {k: v for k, v in out.items() if k}
        if len(set(channel.values())) > 1:
            scene = formats.read(out[""], c.file.name, c.file.unit_m, beside)
    return out


def _rewired(c: Chosen, written: dict[str, bytes], painted: Paint, wiring: rewire.Wiring, folder: str) -> rewire.Rewired:
    """The file with its materials showing the new pictures, as far as its format can say so; paths are relative to the file."""
    up = "../" * folder.count("/")
    wiring.materials = [replace(m, maps={kind: up + path for kind, path in m.maps.items()}) for m in wiring.materials]
    wiring.pictures = {up + path: body for path, body in painted.pictures.items() if "/differences/" not in path}
    return rewire.rewire(c.scene, written, _beside(c), wiring)


def _old_pictures(c: Chosen, wiring: rewire.Wiring) -> set[str]:
    """Files that came along and that the new pictures and library have taken the place of: nothing shows them any more. A glTF lists its images
    itself, used or not, so they stay with it."""
    if c.scene.format == "gltf":
        return set()
    shown = {i for m, of in wiring.of_triangle.items() for i in np.unique(c.scene.meshes[m].materials[of < 0]) if i >= 0}
    shown |= {i for m, mesh in enumerate(c.scene.meshes) if m not in wiring.of_triangle for i in np.unique(mesh.materials) if i >= 0}
    new = {kind for m in wiring.materials for kind in m.maps}
    kept = {p for i in shown for p in c.scene.materials[i].images.values()}
    gone = {p for m in c.scene.materials for slot, p in m.images.items() if KINDS.get(slot, slot) in new and p not in kept}
    found = {formats.find_resource(p, c.file.companions) for p in gone}
    if c.scene.format == "obj" and wiring.materials:
        found |= {p for p in c.file.companions if p.lower().endswith(".mtl")}
    return {p for p in found if p}


def _write(delivery: Delivery, c: Chosen, table: Floats, channel: dict[int, int], painted: Paint | None, on: dict[int, NDArray[np.int64]],
           names: dict[int, str], per_sheet: bool) -> Chosen:  # fmt: skip
    """Put a file with its new UVs and companions into the zip; returns it as read back from what was written."""
    file, starts = c.file, c.starts()
    folder = file.name.rsplit("/", 1)[0] + "/" if "/" in file.name else ""
    pieces = {m: p for m, p in enumerate(c.pieces) if p is not None}
    uvs = {m: transform_rows(p.uvs, p.islands.of_row, table[starts[m] : starts[m] + p.islands.count]) for m, p in pieces.items()}
    written, order, old = _written(c, uvs, channel), {}, set[str]()
    if painted is not None:
        sheets_of = {m: np.where(p.islands.of_triangle >= 0, on[m][np.maximum(p.islands.of_triangle, 0)], -1) for m, p in pieces.items()}
        corners = {m: uvs[m][p.mesh.channels[p.channel].triangles] for m, p in pieces.items()}
        wiring = wiring_of(painted, c, sheets_of, corners, names, per_sheet)
        wiring.channel = next(iter(channel.values()), 0)
        rewired = _rewired(c, written, painted, wiring, folder)
        written, order, old = rewired.files, rewired.order, _old_pictures(c, wiring)
    files = {folder + (k or file.name.rsplit("/", 1)[-1]): v for k, v in written.items() if not k.startswith("../")}
    for path, body in _beside(c).items():
        if path not in old:
            files.setdefault(folder + path, body)
    for name, body in files.items():
        delivery.put(name, body, "mesh" if name == file.name else "texture" if name.startswith("textures/") and painted else "companion")
    scene = formats.read(files[file.name], file.name, file.unit_m, {k[len(folder) :]: v for k, v in files.items()})
    # The islands are those that were packed; twins that share an edge would else be one island in what was written.
    given = [None if p is None else p.islands.of_triangle[order.get(m, slice(None))] for m, p in enumerate(c.pieces)]
    read = {number: analyse(scene, number, False, given) for number in set(channel.values())}
    again = [read[channel[m]][m] if m in channel else None for m in range(len(c.pieces))]
    return replace(c, scene=scene, pieces=again)


def _figures(
    project: Project, settings: dict[str, Any], chosen: list[Chosen], again: list[Chosen], order: Order, painted: Paint | None
) -> dict[str, Any]:
    """The report, measured on what was written."""
    parts = parts_of(again)
    rows = np.tile(IDENTITY, (parts.count, 1))
    on, twins = sheet_numbers(again, parts, settings), twin_groups(parts, settings)
    by_sheet = {}
    for s in sheets(settings):
        mine = on == s["id"]
        if not mine.any():
            continue
        flat = of_sheet(settings, s["id"])
        f, _ = figures_of(parts, rows, mine & ~_moved_aside(again, parts, twins, order), flat, twins)
        f["bleed"] = bleed_of(parts, rows, mine, flat, twins)
        f["ok"], f["verdict"], f["reasons"] = verdict(f, f["bleed"])
        by_sheet[s["name"]] = f
    used = [f for f in by_sheet.values() if f["islands"]]
    one = used[0] if len(used) == 1 else {}
    return {
        "project": project.name, **{k: v for k, v in one.items() if k not in ("tiles", "bleed")},
        "islands": sum(f["islands"] for f in used), "ok": all(f["ok"] for f in used),
        "overlap_pairs": sum(f["overlap"]["pairs"] for f in used), "density_px_per_m": one.get("density"), "sheets": by_sheet,
        "settings": settings, "left_as_it_was": [f"{c.file.name}: {o.name}" for c in chosen for o in c.scene.objects if c.pieces[o.mesh] is None],
        "twins_aside": bool(order.twins_aside), "carried": [] if painted is None else painted.figures,
        "notes": [] if painted is None else painted.notes,
    }  # fmt: skip


def _moved_aside(again: list[Chosen], parts: Parts, twins: NDArray[np.int64], order: Order) -> NDArray[np.bool_]:
    """(n,) twins that were moved beside the sheet on purpose: they are no fault there."""
    out = np.zeros(parts.count, bool)
    if order.twins_aside:
        for group in np.unique(twins[twins >= 0]):
            out[np.flatnonzero(twins == group)[1:]] = True
    return out


def _pictures(job: Job, delivery: Delivery, again: list[Chosen], settings: dict[str, Any], figures: dict[str, Any], order: Order) -> None:
    """Templates and tile images of every tile in use, each at its own resolution."""
    parts = parts_of(again)
    rows = np.tile(IDENTITY, (parts.count, 1))
    on = sheet_numbers(again, parts, settings)
    regions = regions_of(parts, rows) if parts.pieces else np.zeros(0, object)
    owner, labels = kinds_of_islands(again, parts, order.template_fill)
    several = len(figures["sheets"]) > 1
    count = 0
    for s in sheets(settings):
        found = figures["sheets"].get(s["name"])
        if found is None:
            continue
        flat = of_sheet(settings, s["id"])
        tiles = grid(flat)
        for tile in [t["tile"] for t in found["tiles"] if t["islands"]]:
            count += 1
            if count > MOST_TILES:
                return
            px = tiles.tile_px.get(tile, tiles.px)
            mine = on == s["id"]
            report_progress(job, {"text": f"Drawing tile {tile} of {s['name']}"})
            prefix = f"{rewire.safe_name(s['name'])}." if several else ""
            size = int(order.template_px) or px
            extras = template.Extras(
                float(flat["padding_px"]) / px / 2 if order.template_zone else 0.0, _wires(again, mine, parts) if order.template_wire else None,
                tuple(labels) if order.template_labels else (),
            )  # fmt: skip
            args = (
                regions[mine],
                owner[mine],
                size,
                tile,
                "#fbf7ee" if order.template_paper else None,
                order.template_fill != "none",
                extras,
            )
            if order.templates in ("png", "both"):
                delivery.put(f"{prefix}template.{tile}.png", template.draw(*args), "template")
            if order.templates in ("svg", "both"):
                delivery.put(f"{prefix}template.{tile}.svg", template.draw_svg(*args), "template")
            if order.images:
                name = order.pattern.format(sheet=rewire.safe_name(s["name"]), tile=tile, kind=order.images["fill"])
                delivery.put(f"{name}.{order.images['format']}", _tile_image(again, parts, mine, order.images, px, tile), "image")


def _wires(again: list[Chosen], mine: NDArray[np.bool_], parts: Parts) -> Floats:
    """Edges (k, 2, 2) of the triangles of some islands."""
    out = [np.zeros((0, 2, 2))]
    for piece, marks in zip(parts.pieces, parts.pieced(mine), strict=True):
        of = piece.islands.of_triangle
        tri = piece.mesh.channels[piece.channel].triangles[(of >= 0) & marks[np.maximum(of, 0)]]
        ends = np.unique(np.sort(np.concatenate([tri[:, [0, 1]], tri[:, [1, 2]], tri[:, [2, 0]]]), axis=1), axis=0)
        out.append(piece.uvs[ends])
    return np.concatenate(out)


def _tile_image(again: list[Chosen], parts: Parts, mine: NDArray[np.bool_], asked: dict[str, Any], px: int, tile: int) -> bytes:
    recipe = ImageRecipe(asked["fill"], tuple(asked["colour"]), asked["format"], int(asked["depth"]), bool(asked["alpha"]))
    owner = None
    if recipe.fill in ("object", "material", "island"):
        number, _ = kinds_of_islands(again, parts, recipe.fill)
        uvs, triangles, numbers, row = [np.zeros((0, 2))], [np.zeros((0, 3), np.int64)], [np.zeros(0, np.int64)], 0
        for piece, of_piece, marks in zip(parts.pieces, parts.pieced(number), parts.pieced(mine), strict=True):
            of = piece.islands.of_triangle
            use = (of >= 0) & marks[np.maximum(of, 0)]
            uvs.append(piece.uvs)
            triangles.append(piece.mesh.channels[piece.channel].triangles[use].astype(np.int64) + row)
            numbers.append(of_piece[of[use]])
            row += len(piece.uvs)
        owner, _ = texel_owners(np.concatenate(uvs), np.concatenate(triangles), np.concatenate(numbers), px, place(tile))
    return encoded(tile_image(recipe, px, owner), recipe.format, recipe.depth)


def _page(project: Project, again: list[Chosen], settings: dict[str, Any], figures: dict[str, Any]) -> bytes:
    parts = parts_of(again)
    rows = np.tile(IDENTITY, (parts.count, 1))
    on = sheet_numbers(again, parts, settings)
    out = []
    for s in sheets(settings):
        f = figures["sheets"].get(s["name"])
        if f is None:
            continue
        flat = of_sheet(settings, s["id"])
        tiles = [t["tile"] for t in f["tiles"] if t["islands"]][:12]
        shown = {f"Tile {t}": picture(parts, rows, on == s["id"], 400, tile=t) for t in tiles}
        out.append(
            {"name": s["name"], "figures": f, "bleed": f["bleed"], "padding_px": flat["padding_px"], "margin_px": flat["margin_px"],
             "pictures": shown}
        )  # fmt: skip
    return page(f"{project.name}: layout report", out, figures["carried"])
