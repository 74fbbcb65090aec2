"""One case from end to end, in a child with limits: read, measured, packed, written, read again. Whatever is not an error in words is a finding."""

from __future__ import annotations

import io
import random
import resource
import time
import traceback
from dataclasses import dataclass

import numpy as np

from quilt_cli.child import Bounds, Limit, Opened, bounded
from quilt_core import formats
from quilt_core.arrange.sheet import pack_sheet
from quilt_core.delivery import report
from quilt_core.errors import QuiltError
from quilt_core.formats.pictures import open_picture, pictures
from quilt_core.measure.proof import prove
from quilt_core.pack.recipe import Recipe
from quilt_core.uv.analysis import transform_rows
from quilt_server.archives import Most, unzipped

from .corpus import archives, corpus
from .corpus import pictures as seed_pictures
from .mutate import damaged

SLOW = 10.0  # seconds that a case may take
GOOD = ("done", "told")


@dataclass
class Outcome:
    """How a case ended: "done", "told" (an error in words), or what is a finding: "foreign", "crash", "slow", "memory", "changed"."""

    case: int
    seed: str
    how: str
    words: str = ""
    seconds: float = 0.0


def run(case: int) -> Outcome:
    """A case by its number."""
    chance = random.Random(case * 7919)
    kind = chance.random()
    begin = time.monotonic()
    if kind < 0.06:
        name, data = chance.choice(seed_pictures())
        body = damaged(case, name, data)
        found = _apart(lambda limit: _picture(body), name, len(body))
    elif kind < 0.1:
        body, name = damaged(case, "a.zip", chance.choice(archives())), "a.zip"
        found = _apart(lambda limit: _archive(body), name, len(body))
    else:
        seed = chance.choice(corpus())
        name, beside, body = seed.name, dict(seed.beside), seed.data
        if beside and chance.random() < 0.35:
            path = chance.choice(sorted(beside))
            beside[path] = damaged(case, path, beside[path])
        else:
            body = damaged(case, name, body)
        found = _apart(lambda limit: _mesh(name, body, Opened(beside, limit, len(body)), limit), name, len(body))
    return Outcome(case, name, *found, time.monotonic() - begin)


def _apart(work: object, name: str, size: int) -> tuple[str, str]:
    """Do it in a child; what it says, or what its end says."""
    bounds = Bounds(seconds=SLOW, per_mb=0.0)

    def caught(limit: Limit) -> tuple[str, str]:
        try:
            return work(limit)  # type: ignore[operator,no-any-return]
        except QuiltError as e:
            return ("told", str(e)) if str(e).strip() else ("foreign", "an empty message")
        except MemoryError:
            return "memory", f"more than {limit.memory >> 20} MB"
        except Exception:
            return "foreign", traceback.format_exc(limit=-6)

    try:
        return bounded(caught, name, size, bounds)
    except QuiltError as e:
        return ("slow" if "more time" in str(e) else "crash"), str(e)


def _picture(body: bytes) -> tuple[str, str]:
    image = open_picture(body, "a picture")
    return "done", f"{image.width} x {image.height}"


def _archive(body: bytes) -> tuple[str, str]:
    files = unzipped("a.zip", io.BytesIO(body), Most(1 << 28, 1 << 28, 1000), b"".join)
    return "done", f"{len(files)} files"


def _mesh(name: str, body: bytes, beside: Opened, limit: Limit) -> tuple[str, str]:
    scene = formats.read(body, name, 1.0, beside)
    pictures(scene, beside)
    # What comes now goes by what was read.
    resource.setrlimit(resource.RLIMIT_DATA, (limit.base + (1 << 30), resource.getrlimit(resource.RLIMIT_DATA)[1]))
    analysed = report.analyse_all([scene], 0)
    report.inspect_report([scene], 0, 512)
    pieces = report.pieces_of(analysed)
    if not pieces:
        return "done", "nothing to pack"
    packed = pack_sheet(pieces, Recipe(256, 1.0, 1.0, seconds=0.5, passes=1))
    uvs = {}
    number = 0
    for m, piece in enumerate(analysed[0][1]):
        if piece is not None:
            uvs[m] = transform_rows(piece.uvs, piece.islands.of_row, packed.transforms[number])
            number += 1
    written = formats.write(scene, uvs, 0)
    again = formats.read(written[""], name, 1.0, formats.Both({k: v for k, v in written.items() if k}, beside))
    if len(again.meshes) != len(scene.meshes) or sum(len(m.triangles) for m in again.meshes) != sum(len(m.triangles) for m in scene.meshes):
        return "changed", "the file that was written has other triangles"
    prove(report.pieces_of(report.analyse_all([again], 0)), None, 256, (1, 1))
    for m, uv in uvs.items():
        if not np.isfinite(uv).all():
            return "changed", f"UVs of mesh {m} are no numbers"
    return "done", f"{len(scene.objects)} objects"
