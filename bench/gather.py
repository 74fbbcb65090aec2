"""Seconds to read, inspect and pack real files, and the memory of the process. `python -m bench.gather [SECONDS]`."""

from __future__ import annotations

import itertools
import resource
import sys
import time

from quilt_cli import files
from quilt_core.arrange.sheet import pack_sheet
from quilt_core.delivery.report import analyse_all, pieces_of
from quilt_core.faults.fault import Limits
from quilt_core.faults.findings import find
from quilt_core.faults.listing import listing
from quilt_core.measure.proof import prove
from quilt_core.model.tiles import Grid
from quilt_core.pack import Recipe
from tests.real_files import path

FILES = (
    ("webxr", "hp-mixed-reality/left.glb"), ("webxr", "htc-vive-cosmos/left.glb"), ("webxr", "magicleap-two/none.glb"),
    ("threebox", "Soldier.glb"), ("gradio", "Duck.glb"), ("pybullet", "a1/meshes/trunk.obj"), ("pybullet", "samurai_monastry.obj"),
)  # fmt: skip


def main() -> None:
    """Print a table."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 5.0
    print("file                        triangles  islands    read  analyse  faults (kinds)  first layout      after", flush=True)
    for package, name in FILES:
        marks = [time.perf_counter()]
        scene = files.read(path(package, name), 1.0)
        marks.append(time.perf_counter())
        pieces = pieces_of(analyse_all([scene], 0))
        marks.append(time.perf_counter())
        found = listing(find(pieces), Limits(Grid(2048), 8.0, 4.0))
        marks.append(time.perf_counter())
        packed = pack_sheet(pieces, Recipe(2048, 8.0, 4.0, seconds=seconds))
        proof = prove(pieces, packed.transforms, 2048)
        assert proof.overlap_pairs == 0 and proof.gap_px is not None and proof.gap_px >= 8 - 1e-3
        first, last = packed.result.history[0], packed.result.history[-1]
        read, analysed, faults = (b - a for a, b in itertools.pairwise(marks))
        triangles = sum(len(m.triangles) for m in scene.meshes)
        print(
            f"{name:26} {triangles:10,} {proof.islands:8,} {read:6.2f}s {analysed:7.2f}s {faults:7.2f}s ({len(found):2}) "
            f"{first[1]:.3f} {first[0]:6.2f}s {last[1]:.3f} {last[0]:6.1f}s",
            flush=True,
        )
    print(f"greatest memory {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB")


if __name__ == "__main__":
    main()
