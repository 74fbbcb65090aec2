"""The zip: every file with its new UVs, templates, tile images, old paint carried over, the report, and a manifest of it all."""

from __future__ import annotations

import json
import re
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Literal

import numpy as np
import shapely
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, StrictBool, StrictStr

from quilt_core.delivery.page import page
from quilt_core.delivery.verdict import OfSheet, Verdict, of_sheets
from quilt_core.errors import QuiltError
from quilt_core.formats import EXPORTS
from quilt_core.formats.channels import LAYOUT, Arrangement
from quilt_core.formats.clean import KINDS as CLEANED
from quilt_core.formats.clean import Room
from quilt_core.formats.wiring import safe_name
from quilt_core.model.scene import Floats
from quilt_core.model.tiles import listed
from quilt_core.textures.judged import by_material, reasons, summed
from quilt_core.textures.paint import Paint
from quilt_core.textures.tile_images import ImageRecipe, named
from quilt_core.uv.analysis import IDENTITY
from quilt_core.words import counted
from quilt_core.words import named as named_list

from ...projects.copies import figures_of_copy, settings_of_copy
from ...projects.figures import asked_of, verdict_of
from ...projects.measuring import figures_of, measured_anew, picture
from ...projects.models import Job, Project, Snapshot
from ...projects.opened import arrays_of
from ...projects.reading import Chosen, Parts, choose, parts_of, regions_of, sheet_numbers, twin_groups
from ...projects.sheets import of_sheet, sheet_by, sheets
from ...projects.state import settings_of, source_files
from ..drawing import draw_tiles
from ..kind import Asked, Kind, Real, Whole
from ..painting import coat_of, paint_sheets
from ..progress import say, steps
from ..proving import bleed_of, keep_bleed
from ..writing import Delivery, Writer, sheets_of


class Images(BaseModel):
    """Tile images to begin with; see `ImageRecipe`. `tiles` as in "1001-1004", empty for those in use."""

    model_config = ConfigDict(extra="forbid")
    fill: StrictStr = "blank"
    format: StrictStr = "png"
    depth: Whole = 8
    alpha: StrictBool = False
    colour: list[Real] = [0.5, 0.5, 0.5]
    tiles: StrictStr = ""


class ChannelOut(BaseModel):
    """What goes into a UV channel: the layout or an old channel, and its name or an empty one."""

    model_config = ConfigDict(extra="ignore", populate_by_name=True)
    source: Whole | Literal["layout"] = Field(alias="from")
    name: StrictStr | None = ""


class Deliver(Asked):
    """What a delivery holds.

    sheet : None for all. templates : png, svg, both or none, filled by object, material, island or none; `template_px` 0 for the tile's own
    images : None, or tile images, named by pattern with {sheet}, {kind}, {tile}, {name} and {channel}
    paint : carry old textures over, per_sheet with one material for each tile; twins_aside : for the bake
    format : empty for files as they came; joined : all in one; channels : for each UV channel of the files, empty for channels as they are
    clean : what of the meshes is put right, of `clean.KINDS`, where their geometry is written anew
    """

    model_config = ConfigDict(extra="forbid")
    words: ClassVar = {
        "pattern": "The names of tile images are a text with {sheet}, {kind} and {tile}.",
        "channels": "A UV channel gets the layout or one of the old channels 0 to 7.",
        "images": "These tile images cannot be made: a value of them is not what it should be.",
    }
    unknown: ClassVar = "A delivery knows no '{}'."
    sheet: Whole | None = None
    templates: StrictStr = "png"
    template_fill: StrictStr = "object"
    template_zone: StrictBool = False
    template_labels: StrictBool = False
    template_wire: StrictBool = False
    template_paper: StrictBool = False
    template_names: StrictBool = False
    template_px: Whole = 0
    images: Images | None = None
    pattern: StrictStr = "{sheet}.{tile}"
    paint: StrictBool = False
    per_sheet: StrictBool = False
    twins_aside: StrictBool = False
    format: StrictStr = ""
    joined: StrictBool = False
    channels: list[ChannelOut] = []
    clean: list[StrictStr] = []

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        if self.sheet is not None:
            sheet_by(settings, self.sheet)
        if self.format not in ("", *EXPORTS):
            raise QuiltError(f"Files leave as they came, or as {', '.join(EXPORTS)}.")
        if self.joined and not self.format:
            raise QuiltError("Choose the format of the one file that all go into.")
        if not set(self.clean) <= set(CLEANED):
            raise QuiltError(f"A mesh is cleaned of {', '.join(CLEANED.values())}.")
        if self.clean and not self.format:
            raise QuiltError("Files that leave as they came keep their geometry. Choose a format to have them written anew and cleaned.")
        if self.templates not in ("png", "svg", "both", "none") or self.template_fill not in ("object", "material", "island", "none"):
            raise QuiltError("Templates are png, svg, both or none, filled by object, material, island or none.")
        if not (self.template_px == 0 or 16 <= self.template_px <= 16384):
            raise QuiltError("A template has 16 to 16384 px.")
        self._check_names()
        if self.images is not None:
            i = self.images
            try:
                listed(i.tiles)
                ImageRecipe(i.fill, tuple(i.colour), i.format, i.depth, i.alpha)  # type: ignore[arg-type]
            except (ValueError, TypeError, AttributeError) as e:
                raise QuiltError(f"These tile images cannot be made: {e}.") from e
        return {"order": self.model_dump() | {"channels": self._channels()}}

    def _check_names(self) -> None:
        name = named(self.pattern, "a", 1001, "b")
        if "{" in name or "}" in name:
            raise QuiltError("The names of tile images may hold {sheet}, {kind}, {tile} and {name}, and no other braces.")
        if "1001" not in name or any(c in name for c in '\\/:*?"<>|') or len(name) > 200:
            raise QuiltError("The names of tile images need {tile} or {name}, and no signs that file names do not take.")

    def _channels(self) -> list[dict[str, Any]]:
        out = [{"from": c.source, "name": c.name or ""} for c in self.channels]
        for c in out:
            if isinstance(c["from"], int) and not 0 <= c["from"] <= 7:
                raise QuiltError(self.words["channels"])
            if c["name"] and not re.fullmatch(r"[A-Za-z_][A-Za-z0-9_]{0,60}", str(c["name"])):
                raise QuiltError("The name of a UV channel is of letters, digits and underscores.")
        if out and [c["from"] for c in out].count("layout") != 1:
            raise QuiltError("The layout goes into one UV channel.")
        if len(out) > 8:
            raise QuiltError("There are at most 8 UV channels.")
        return out


@dataclass
class Order:
    """What was asked for; see `Deliver`."""

    params: dict[str, Any]

    def __getattr__(self, name: str) -> Any:
        return self.params[name]


def run_deliver(job: Job) -> None:
    """Write the zip and prove what was written."""
    project = Project.objects.get(pk=job.project_id)
    head = project.head
    if head is None or head.layout is None:
        raise QuiltError("There is nothing to deliver yet. Bring in a mesh first.")
    settings, order = settings_of(head), Order(job.params["order"])
    say(job, "Reading the files")
    chosen = [c.original() for c in choose(head)]
    parts = parts_of(chosen)
    on = sheet_numbers(chosen, parts, settings)
    if order.sheet is not None:
        chosen, parts, on = _only(chosen, settings, int(order.sheet))
    own = arrays_of(head.layout, "transforms")
    rows = parts.whole(own)
    coats = [coat_of(c, own[str(c.file.pk)], sheets_of(c, settings)) for c in chosen] if order.paint else []
    painted = paint_sheets(job, coats, settings, order.per_sheet) if order.paint else None
    placed = _aside(rows, on, twin_groups(parts, settings), settings) if order.twins_aside else rows
    delivery = Delivery()
    for path, body in painted.pictures.items() if painted else ():
        delivery.put(path, body, "difference" if "/differences/" in path else "texture")
    again: list[Chosen] = []
    transforms = parts.merged(own, parts.pieced(placed))
    writer = Writer(
        delivery,
        settings,
        painted,
        order.per_sheet,
        order.format,
        safe_name(project.name) if order.joined else "",
        _arrangement(order, settings),
        frozenset(order.clean),
        lambda c: _room(parts, rows, on, {int(n) for k in sheets_of(c, settings).values() for n in k}),
    )
    for n, c in enumerate(steps(job, chosen, lambda c: f"Writing {c.file.name}", (0.4, 0.7))):
        again.append(writer.write(c, transforms[str(c.file.pk)], coats[n] if coats else None))
    writer.finish()
    job.span = (0.7, 1.0)
    say(job, "Proving what was written")
    figures = _figures(project, head, chosen, again, order, painted)
    if parts_of(again).count == parts.count and order.sheet is None and not order.twins_aside:
        keep_bleed(
            head.layout, {str(s["id"]): figures["sheets"][s["name"]]["bleed"] for s in sheets(settings) if s["name"] in figures["sheets"]}
        )
    figures["notes"] += writer.notes
    figures["seen"] = summed(writer.seen)
    figures["seen_by_material"] = by_material(writer.seen)
    figures["looks_other"] = reasons(figures["seen"])
    draw_tiles(job, delivery, again, settings, figures, order.params)
    delivery.put("report.json", json.dumps(_told(figures, {k: f.name for k, f in source_files(head).items()}), indent=2).encode(), "report")
    delivery.put("report.html", _page(project, again, settings, figures), "report")
    zipped = delivery.zipped()
    job.put_out(zipped)
    job.result = {"bytes": len(zipped), "figures": figures, "per_sheet": bool(order.per_sheet)}


def _told(figures: dict[str, Any], names: dict[int, str]) -> dict[str, Any]:
    """The report as it leaves: files by their names, since their numbers mean nothing elsewhere, so that the same job on another machine tells the same."""
    settings = json.loads(json.dumps(settings_of_copy(figures["settings"], names), sort_keys=True))
    return {**figures_of_copy(figures, names), "settings": settings}


def _room(parts: Parts, rows: Floats, on: NDArray[np.int64], numbers: set[int]) -> Room:
    """Whether nothing of some sheets lies in a polygon."""
    tree = shapely.STRtree(regions_of(parts, rows, np.flatnonzero(np.isin(on, list(numbers)))))

    def free(ring: Floats) -> bool:
        inner = shapely.Polygon(ring)
        near = tree.geometries.take(tree.query(inner, "intersects"))
        return bool(inner.is_valid) and not (shapely.area(shapely.intersection(inner, near)) > 1e-9 * inner.area).any()

    return free


def _arrangement(order: Order, settings: dict[str, Any]) -> Arrangement | None:
    """The UV channels that were asked for."""
    if not order.channels:
        return None
    sources = tuple(LAYOUT if c["from"] == "layout" else int(c["from"]) for c in order.channels)
    return Arrangement(sources, tuple(c["name"] for c in order.channels), int(settings["channel_in"]))


def _as_they_came(chosen: list[Chosen], left_out: list[str]) -> tuple[list[str], list[str], list[str]]:
    """Names of the objects that are left out and leave as they came, of those that are left out and change all the same since others use their mesh, and of
    those without UVs."""
    left, shared, bare = list[str](), list[str](), list[str]()
    for c in chosen:
        for n, o in enumerate(c.scene.objects):
            name = f"{c.file.name}: {o.name}"
            if f"{c.file.pk}/{n}" in left_out:
                (left if o.mesh in c.left else shared).append(name)
            elif c.islands.starts[o.mesh] == c.islands.starts[o.mesh + 1]:
                bare.append(name)
    return left, shared, bare


def _only(chosen: list[Chosen], settings: dict[str, Any], sheet: int) -> tuple[list[Chosen], Parts, NDArray[np.int64]]:
    """The files and meshes that lie on one sheet."""
    out = []
    for c in chosen:
        parts = parts_of([c])
        numbers = parts.pieced(sheet_numbers([c], parts, settings))
        on = {m for (m, _), n in zip([(m, p) for m, p in enumerate(c.pieces) if p is not None], numbers, strict=True) if (n == sheet).any()}
        if on:
            out.append(replace(c, given_pieces=[p if m in on else None for m, p in enumerate(c.pieces)]))
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


def _figures(
    project: Project, head: Snapshot, chosen: list[Chosen], again: list[Chosen], order: Order, painted: Paint | None
) -> dict[str, Any]:
    """The report, measured on what was written."""
    settings = settings_of(head)
    left, shared, bare = _as_they_came(chosen, head.left_out)
    parts = parts_of(again)
    rows = np.tile(IDENTITY, (parts.count, 1))
    on, twins = sheet_numbers(again, parts, settings), twin_groups(parts, settings)
    found = measured_anew(parts, rows, np.where(_moved_aside(again, parts, twins, order), -1, on), twins)
    by_sheet = {}
    for s in sheets(settings):
        mine = on == s["id"]
        if not mine.any():
            continue
        flat = of_sheet(settings, s["id"])
        f = figures_of(found, parts, flat)
        f["bleed"] = bleed_of(parts, rows, mine, flat, twins)
        by_sheet[s["name"]] = f
        if (said := verdict_of(f, f["bleed"], asked_of(head, settings, s["id"]))) is not None:
            f |= {"ok": said.ok, "grade": said.grade, "verdict": said.line, "reasons": said.reasons}
    used = [f for f in by_sheet.values() if f["islands"]]
    told = of_sheets([OfSheet(n, _said(f), f["bleed"]["clean"]) for n, f in by_sheet.items() if f["islands"]])
    one = used[0] if len(used) == 1 else {}
    return {
        "project": project.name, **{k: v for k, v in one.items() if k not in ("tiles", "bleed")},
        "islands": sum(f["islands"] for f in used), "ok": told is None or told.ok, **({"verdict": told.line, "reasons": told.reasons} if told else {}),
        "overlap_pairs": sum(f["overlap"]["pairs"] for f in used), "density_px_per_m": one.get("density"), "sheets": by_sheet,
        "settings": settings, "left_as_it_was": [*left, *bare],
        "twins_aside": bool(order.twins_aside), "carried": [] if painted is None else painted.figures,
        "notes": [*_left_out_notes(left, shared), *([] if painted is None else painted.notes)],
    }  # fmt: skip


def _left_out_notes(left: list[str], shared: list[str]) -> list[str]:
    out = []
    if left:
        out.append(f"{counted(len(left), 'object is', 'objects are')} left out and left with the UVs that came: {named_list(left)}.")
    if shared:
        words = ("left-out object has its mesh in common with another one, so its UVs changed with it", "left-out objects have their mesh in common with others, so their UVs changed with them")  # fmt: skip
        out.append(f"{counted(len(shared), *words)}: {named_list(shared)}. To keep them, give them a mesh of their own.")
    return out


def _said(figures: dict[str, Any]) -> Verdict:
    """The verdict that a sheet's figures hold."""
    return Verdict(figures["grade"], figures["verdict"], figures["reasons"])


def _moved_aside(again: list[Chosen], parts: Parts, twins: NDArray[np.int64], order: Order) -> NDArray[np.bool_]:
    """(n,) twins that were moved beside the sheet on purpose: they are no fault there."""
    out = np.zeros(parts.count, bool)
    if order.twins_aside:
        for group in np.unique(twins[twins >= 0]):
            out[np.flatnonzero(twins == group)[1:]] = True
    return out


def _page(project: Project, again: list[Chosen], settings: dict[str, Any], figures: dict[str, Any]) -> bytes:
    parts = parts_of(again)
    rows = np.tile(IDENTITY, (parts.count, 1))
    on = sheet_numbers(again, parts, settings)
    out = []
    for s in sheets(settings):
        f = figures["sheets"].get(s["name"])
        if f is None or not f["islands"]:
            continue
        flat = of_sheet(settings, s["id"])
        tiles = [t["tile"] for t in f["tiles"] if t["islands"]][:12]
        shown = {f"Tile {t}": picture(parts, rows, on == s["id"], 400, tile=t) for t in tiles}
        out.append(
            {"name": s["name"], "figures": f, "bleed": f["bleed"], "verdict": _said(f), "padding_px": flat["padding_px"], "margin_px": flat["margin_px"],
             "pictures": shown}
        )  # fmt: skip
    return page(f"{project.name}: layout report", out, figures["carried"], figures["seen"])


KINDS = (Kind("deliver", run_deliver, Deliver),)
