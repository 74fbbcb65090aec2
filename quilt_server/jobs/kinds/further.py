"""A further UV channel beside the one that is worked on: a light map's, or a copy of the layout, a projection or new UVs for some objects or faces."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Any, ClassVar

import numpy as np
from pydantic import Field, StrictStr

from quilt_core.arrange.lightmap import light_map
from quilt_core.errors import QuiltError
from quilt_core.formats.registry import named
from quilt_core.model.scene import Floats, UvChannel
from quilt_core.unwrap.meshes import Options, unwrap_faces
from quilt_core.unwrap.points import laid_out
from quilt_core.unwrap.project import projected
from quilt_core.unwrap.skin import Laying, Revised, Skin, bare_laying, revised
from quilt_core.unwrap.topology import Mask
from quilt_core.words import counted

from ...projects.models import Job
from ...projects.opened import arrays_of
from ...projects.revisions import revisions_of
from ...projects.state import settings_of
from ..kind import Asked, FileNumber, Kind, Number, Real
from ..landing import head_of
from ..picked import by_mesh, marked
from ..progress import StopFlag, steps
from ..revising import finish
from ..revision import Revision, opened

WHAT = {"light": "Light map", "copy": "Copy of the layout", "unwrap": "New UVs", "project": "Projection", "drop": "Take off"}
_MARGIN = 0.02  # of the square around what is made


class Further(Asked):
    """Into which channel, what, and of which objects (None for all) or faces [object, triangle as shown].

    px, texels : of a light map: the side of its picture, and the least distance between islands
    """

    words: ClassVar = {
        "into": "UV channels are 0 to 7.",
        "faces": "Faces are picked as object and triangle.",
        "px": "A light map is 16 to 4096 px wide.",
    }
    into: Annotated[int, Field(strict=True, ge=0, le=7)] = 1
    what: StrictStr = "light"
    objects: list[StrictStr] | None = None
    faces: dict[FileNumber, list[list[Number]]] | None = None
    px: Annotated[int, Field(strict=True, ge=16, le=4096)] = 256
    texels: Real = 2.0

    def params(self, settings: dict[str, Any]) -> dict[str, Any]:
        """See `Asked.params`."""
        if self.what not in WHAT:
            raise QuiltError(f"'{self.what}' is nothing that a channel can hold: {', '.join(WHAT)}.")
        if self.into == int(settings["channel_in"]):
            raise QuiltError(f"Channel {self.into} is the one that is worked on. Choose another one.")
        if any(len(r) != 2 for rows in (self.faces or {}).values() for r in rows):
            raise QuiltError(self.words["faces"])
        return self.model_dump()


def _chosen(job: Job, w: Revision) -> dict[int, list[list[int]]]:
    """The meshes that it is for, with the triangles of each that were picked; no triangles mean all."""
    p = job.params
    if p["faces"]:
        return by_mesh(w.scene, p["faces"].get(str(w.old.pk)))
    keys = None if p["objects"] is None else set(p["objects"])
    return {o.mesh: [] for n, o in enumerate(w.scene.objects) if keys is None or f"{w.old.pk}/{n}" in keys}


def _copied(skin: Skin, laying: Laying, places: Floats, keep: Mask) -> Revised:
    """The layout as it lies on the sheet, for some faces; the others have none."""
    keep = keep & ~laying.bare
    if not keep.any():
        raise QuiltError(f"{skin.mesh.name} has no UVs there that could be copied.")
    uv = np.where(keep[:, None, None], laid_out(laying, places).uv, np.nan)
    border = np.flatnonzero(skin.surface.twin >= 0)
    seam = laying.seam.copy()
    seam[border] |= keep[border // 3] != keep[skin.surface.twin[border] // 3]
    # Nothing counts as touched: the copy's islands are those of its source, also where they hang together by a corner or a face without area.
    return revised(skin, Laying(uv, seam, np.where(keep, laying.island, -1)), np.zeros(len(keep), bool))


def _anew(skin: Skin, keep: Mask, what: str, stop: StopFlag) -> Revised:
    """New UVs for some faces, which fill the square; the others have none."""
    bare = bare_laying(skin)
    if what == "unwrap":
        made = unwrap_faces(skin, bare, keep, Options(), stop=stop).revised
    else:
        made = revised(skin, projected(skin, bare, keep, "plane")[0], keep)
    uv = made.channel.uvs
    low = uv.min(axis=0)
    size = max(float(np.ptp(uv, axis=0).max()), 1e-300)
    return replace(made, channel=UvChannel(_MARGIN + (uv - low) * (1 - 2 * _MARGIN) / size, made.channel.triangles))


def run_further(job: Job) -> None:
    """Make the channel: one undo step; the layout stays as it is."""
    project, head, before = head_of(job)
    settings, p, stop = settings_of(head), job.params, StopFlag(job)
    transforms = arrays_of(before, "transforms")
    work, refused, count = list[Revision](), list[str](), 0
    for w in steps(job, list(opened(head))):
        if p["what"] == "drop":
            if p["into"] in revisions_of(w.old):
                w.without.add(p["into"])
                work.append(w)
                count += 1
            continue
        chosen = _chosen(job, w)
        if not chosen:
            continue
        kind = named(w.scene.format)
        if kind.one_channel and p["into"] != 0:
            refused.append(f"{w.old.name}: {kind.title} has one UV channel. Deliver it as glTF or USD first, and bring that in.")
            continue
        for m, picked in steps(job, chosen.items(), lambda c, w=w: f"{WHAT[p['what']]} of {w.scene.meshes[c[0]].name}"):  # type: ignore[misc]
            try:
                w.also.setdefault(p["into"], {})[m] = _made(job, w, m, picked, transforms[str(w.old.pk)], stop)
                count += 1
            except QuiltError as e:
                if type(e) is not QuiltError:
                    raise
                refused.append(str(e))
        if any(w.also.values()):
            work.append(w)
    if not work:
        if p["what"] == "drop":
            raise QuiltError(f"Nothing was made here in channel {p['into']}. Deliver leaves out what came with the files.")
        raise QuiltError(refused[0] if refused else "Select the objects that the channel is for.")
    label = f"{WHAT[p['what']]} in channel {p['into']}" if p["what"] != "drop" else f"Take channel {p['into']} off"
    finish(job, project, head, before, work, settings, label, {"name": "further", "into": p["into"], "what": p["what"]})
    made = f"{counted(count, 'mesh has', 'meshes have')} it in channel {p['into']} now."
    job.result = {
        "changed": count,
        "note": made if p["what"] != "drop" else f"What was made in channel {p['into']} is gone.",
        "refused": refused,
    }


def _made(job: Job, w: Revision, mesh: int, picked: list[list[int]], rows: Floats, stop: StopFlag) -> Revised:
    p = job.params
    skin, laying = w.laying_or_bare(mesh)
    if p["what"] == "light":
        return light_map(skin, laying, p["px"], p["texels"], stop=stop).revised
    keep = marked(skin, picked) if picked else np.ones(len(skin.kept), bool)
    if p["what"] in ("unwrap", "project"):
        return _anew(skin, keep, p["what"], stop)
    return _copied(skin, laying, w.rows(mesh, rows), keep)


KINDS = (Kind("further", run_further, Further),)
