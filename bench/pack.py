"""Packing real files: seconds to the first layout, coverage after some seconds, memory. `python -m bench.pack [SECONDS]`."""

from __future__ import annotations

import resource
import sys
import time

from quilt_cli import files
from quilt_core import report
from quilt_core.faults.layout import prove
from quilt_core.pack import Recipe
from quilt_core.sheet import pack_sheet
from tests.real_files import path

SETS = (
    ("webxr", "hp-mixed-reality/left.glb", 512, 1.0),
    ("webxr", "htc-vive-cosmos/left.glb", 512, 1.0),
    ("webxr", "magicleap-two/none.glb", 512, 1.0),
    ("pybullet", "a1/meshes/trunk.obj", 2048, 8.0),
    ("threebox", "Soldier.glb", 2048, 8.0),
)


def main() -> None:
    """Print a table."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 10.0
    print("set                        islands  import  first (coverage)   after   coverage     gap")
    for package, file, map_px, padding in SETS:
        begin = time.perf_counter()
        pieces = report.pieces_of(report.analyse_all([files.read(path(package, file), 1.0)], 0))
        imported = time.perf_counter() - begin
        packed = pack_sheet(pieces, Recipe(map_px, padding, 0.0, seconds=seconds))
        proof = prove(pieces, packed.tables, map_px)
        first = packed.result.history[0]
        print(
            f"{file:26} {proof.islands:7} {imported:6.2f}s {first[0]:6.2f}s ({first[1]:.3f}) {seconds:6.1f}s "
            f"{packed.result.best.coverage:9.4f} {proof.gap_px:8.3f} px, {proof.overlap_pairs} overlaps"
        )
    print(f"greatest memory {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB")


if __name__ == "__main__":
    main()
