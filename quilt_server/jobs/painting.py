"""The files of a project as coats of old paint, for `quilt_core.deliver.paint`."""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from quilt_core.model.scene import Floats
from quilt_core.textures.paint import Coat, Laid, Old, Paint, Sheet, paint
from quilt_core.uv.analysis import transform_rows

from ..projects import files
from ..projects.models import Job
from ..projects.reading import Chosen
from ..projects.sheets import grid, of_sheet, sheets
from ..projects.sources import as_it_first_came, kept_scene
from .progress import say


def _load(sha: str) -> bytes:
    return files.get(sha)


def coat_of(c: Chosen, similarities: Floats, on: dict[int, NDArray[np.int64]]) -> Coat:
    """A file with its old pictures, laid out by its similarities (n, 5); `on` is the sheet of every island of each mesh."""
    starts = c.starts()
    meshes = {}
    for m, piece in enumerate(c.pieces):
        if piece is None:
            continue
        of = piece.islands.of_triangle
        new = transform_rows(piece.uvs, piece.islands.of_row, similarities[starts[m] : starts[m] + piece.islands.count])
        triangles = piece.mesh.channels[piece.channel].triangles
        meshes[m] = Laid(new[triangles], np.where(of >= 0, on[m][np.maximum(of, 0)], -1))
    found = c.file.materials
    maps = [{kind: Old(sha, partial(_load, sha)) for kind, sha in m.get("images", {}).items()} for m in found]
    first = as_it_first_came(c.file)
    return Coat(c.scene, meshes, maps, None if first == c.file else kept_scene(first))


def paint_sheets(job: Job, coats: list[Coat], settings: dict[str, Any], per_sheet: bool) -> Paint:
    """Carry all old paint over to the sheets of a project."""
    all_sheets = [Sheet(s["id"], s["name"], grid(of_sheet(settings, s["id"]))) for s in sheets(settings)]

    def tell(text: str, part: float) -> None:
        job.span = (0.4 * part, 0.4)
        say(job, text)

    return paint(coats, all_sheets, per_sheet, tell)
